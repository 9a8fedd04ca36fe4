"""What a span did and whom it asked, read from its attributes; whole columns at a time.

Stock instrumentation names a client span only ``GET`` and a database span only ``SELECT``,
puts ids in paths, and may send no peer name at all. The patterns below run on Arrow's RE2,
which is linear in its input, so that no sent string can make one run away.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals import entities, spans
from wirbel.core.signals.conventions import CACHE_SYSTEMS

MAX_NAME = 300  # characters of an operation name that are kept
# Whole segments of a path: UUIDs, numbers, long hexadecimal words with a digit, and words like pass-1234.
# A version such as v1 is a name. Each pattern takes the slash that follows, so that it runs twice.
_ID_SEGMENTS = "|".join(
    (
        r"[0-9a-fA-F]{8}-[0-9a-fA-F-]{27}",
        r"[0-9]+",
        r"[0-9a-fA-F]*[0-9][0-9a-fA-F]{7,}",
        r"[A-Za-z]{1,8}-?[0-9]{3,}",
    )
)
_ID_PATTERN = rf"/(?:{_ID_SEGMENTS})(/|$)"
_LITERALS = ((r"'(?:[^']|'')*'", "?"), (r"\$[0-9]+", "?"), (r"\b[0-9]+(?:\.[0-9]+)?\b", "?"), (r"\((?:\s*\?\s*,?)+\)", "(?)"), (r"\s+", " "))


Change = Callable[[pa.Array], pa.Array]
MOST_REMEMBERED = 50_000  # values of each change
LONGEST_REMEMBERED = 1_000  # characters


def _remembered(change: Change) -> Change:
    """A change of text by regular expressions, applied once to each distinct value.

    Names repeat in a request and between requests, and starting an expression costs more than
    a look-up. The memory is bounded; a full one is begun anew.
    """
    known: dict[str, str | None] = {}

    @wraps(change)
    def changed(column: pa.Array) -> pa.Array:
        nonlocal known
        encoded = column.dictionary_encode()
        values = encoded.dictionary.to_pylist()
        before = known
        fresh = [value for value in values if value not in before]
        now = before
        if fresh:
            made = dict(zip(fresh, change(pa.array(fresh, pa.string())).to_pylist(), strict=True))
            now = before | made
            # A new dictionary each time: other threads may be reading the old one.
            kept = {value: text for value, text in made.items() if len(value) <= LONGEST_REMEMBERED}
            known = before | kept if len(before) < MOST_REMEMBERED else kept
        return pa.array([now[value] for value in values], pa.string()).take(encoded.indices)

    return changed


@_remembered
def without_ids(paths: pa.Array) -> pa.Array:
    """Replaces numbers, UUIDs and hexadecimal ids in paths by ``{id}``, and drops queries."""
    paths = pc.replace_substring_regex(paths, r"[?#].*$", "")
    for _ in range(2):
        paths = pc.replace_substring_regex(paths, _ID_PATTERN, r"/{id}\1")
    return pc.utf8_slice_codeunits(paths, 0, MAX_NAME)


@_remembered
def without_literals(statements: pa.Array) -> pa.Array:
    """Replaces strings, numbers and parameters in query texts by ``?``."""
    for pattern, replacement in _LITERALS:
        statements = pc.replace_substring_regex(statements, pattern, replacement)
    return pc.utf8_slice_codeunits(pc.utf8_trim_whitespace(statements), 0, MAX_NAME)


@_remembered
def statement_summary(statements: pa.Array) -> pa.Array:
    """``SELECT … FROM deck_place …`` → ``SELECT deck_place``; null where there is no verb."""
    verb = pc.struct_field(pc.extract_regex(statements, r"(?is)^\s*(?P<v>[a-z]+)"), "v")
    table = pc.struct_field(pc.extract_regex(statements, r"""(?is)\b(?:from|into|update|table)\s+["`\[]?(?P<t>[\w.]+)"""), "t")
    with_table = pc.binary_join_element_wise(pc.utf8_upper(verb), table, " ")
    return pc.coalesce(with_table, pc.utf8_upper(verb))


@_remembered
def _without_port(addresses: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(addresses, r":[0-9]+$", "")


_URL = r"^[a-zA-Z][a-zA-Z0-9+.-]*://(?:[^/@]*@)?(?P<host>[^/:?#]+)(?::(?P<port>[0-9]{1,5}))?(?P<path>/[^?#]*)?"


@_remembered
def _url_host(urls: pa.Array) -> pa.Array:
    return pc.struct_field(pc.extract_regex(urls, _URL), "host")


@_remembered
def _url_port(urls: pa.Array) -> pa.Array:
    port = pc.struct_field(pc.extract_regex(urls, _URL), "port")
    return pc.if_else(pc.equal(port, ""), None, port)


@_remembered
def _port_of(addresses: pa.Array) -> pa.Array:
    return pc.struct_field(pc.extract_regex(addresses, r":(?P<port>[0-9]{1,5})$"), "port")


def _as_called(address: pa.Array, port: pa.Array) -> pa.Array:
    """``host:port``, or the host alone where the port goes without saying."""
    told = pc.if_else(pc.is_in(port, value_set=pa.array(entities.USUAL_PORTS)), None, port)
    return pc.coalesce(pc.binary_join_element_wise(address, told, ":"), address)


@_remembered
def _url_path(urls: pa.Array) -> pa.Array:
    return pc.struct_field(pc.extract_regex(urls, _URL), "path")


@_remembered
def _bare_method(names: pa.Array) -> pa.Array:
    """The names that are a request method only, as stock clients send them; null for others."""
    return pc.if_else(pc.match_substring_regex(names, r"^(?:HTTP )?[A-Z]+$"), names, None)


class Columns:
    """The attribute columns of one decoded request, null where absent."""

    def __init__(self, columns: dict[str, pa.Array], rows: int) -> None:
        self._columns, self._rows = columns, rows

    def text(self, key: str) -> pa.Array:
        found = self._columns.get(f"span.s:{key}")
        return pa.nulls(self._rows, pa.string()) if found is None else found

    def integer(self, key: str) -> pa.Array:
        found = self._columns.get(f"span.i:{key}")
        if found is not None:
            return found
        text = self.text(key)
        if text.null_count == self._rows:
            return pa.nulls(self._rows, pa.int64())
        digits = pc.if_else(pc.match_substring_regex(text, r"^[0-9]{1,9}$"), text, None)
        return digits.cast(pa.int64())


def derive(columns: Columns, name: pa.Array, kind: np.ndarray, status: np.ndarray) -> dict[str, pa.Array]:
    """operation, peer, peer_kind, status_code and outcome of each row.

    A 4xx is a client error, unless the span's own status says that it is an error: a server that regards it
    so, or a caller that did not get what it asked for (semantic conventions for HTTP spans). Both
    OpenTelemetry's status and the HTTP status are read.
    """
    is_server = pa.array(kind == spans.SERVER)
    is_call = pa.array(np.isin(kind, spans.CALL_KINDS))
    method, route = columns.text("http.request.method"), columns.text("http.route")
    url, path = columns.text("url.full"), columns.text("url.path")
    query, system = columns.text("db.query.text"), columns.text("db.system.name")
    topic = columns.text("messaging.destination.name")
    code = columns.integer("http.response.status_code")
    is_database = pc.is_valid(system)

    # Server: METHOD route; without a route the path with its ids taken out.
    own_path = without_ids(pc.coalesce(path, _url_path(url)))
    where = pc.coalesce(route, own_path)
    served = pc.binary_join_element_wise(method, where, " ")
    given = pc.coalesce(columns.text("server.address"), _url_host(url), columns.text("network.peer.address"))
    address = _without_port(given)
    port = pc.coalesce(_port_of(given), columns.integer("server.port").cast(pa.string()), _url_port(url))
    asked = pc.if_else(pc.is_valid(_bare_method(name)), pc.binary_join_element_wise(method, own_path, " "), None)
    collection = pc.binary_join_element_wise(columns.text("db.operation.name"), columns.text("db.collection.name"), " ")
    statement = pc.coalesce(columns.text("db.query.summary"), collection, statement_summary(query))
    operation = pc.case_when(
        pc.make_struct(
            pc.and_(is_server, pc.is_valid(served)),
            pc.and_(is_database, pc.is_valid(statement)),
            pc.and_(is_call, pc.is_valid(asked)),
        ),
        served,
        statement,
        asked,
        without_ids(name),
    )

    peer = pc.coalesce(
        columns.text("service.peer.name"),
        pc.if_else(
            is_database,
            pc.coalesce(pc.binary_join_element_wise(columns.text("db.namespace"), address, entities.AT), address, columns.text("db.namespace"), system),
            None,
        ),
        columns.text("messaging.system"),
        _as_called(address, port),
    )
    is_cache = pc.is_in(system, value_set=pa.array(sorted(CACHE_SYSTEMS)))
    is_broker = pc.or_(pc.is_valid(topic), pc.is_valid(columns.text("messaging.system")))
    peer_kind = pc.case_when(
        pc.make_struct(is_cache, is_database, is_broker, pc.is_valid(peer)),
        pa.scalar("cache"),
        pa.scalar("database"),
        pa.scalar("broker"),
        pa.scalar("external"),
        pa.scalar(None, pa.string()),
    )
    peer = pc.if_else(is_broker, pc.coalesce(address, columns.text("messaging.system"), topic), peer)

    http = code.fill_null(0).to_numpy(zero_copy_only=False)
    error = (status == spans.STATUS_ERROR) | (http >= 500)
    client_error = (http >= 400) & (http < 500)
    outcome = np.select([error, client_error], [spans.ERROR, spans.CLIENT_ERROR], spans.OK).astype(np.int8)
    return {
        "operation": pc.coalesce(pc.utf8_slice_codeunits(operation, 0, MAX_NAME), name),
        "peer": pc.if_else(is_call, pc.utf8_slice_codeunits(pc.replace_substring(peer, "\x00", "\ufffd"), 0, arrow.LONGEST_NAME), None),
        "peer_kind": pc.if_else(is_call, peer_kind, None),
        "status_code": pc.if_else(pc.and_(pc.greater(code, 0), pc.less(code, 1000)), code, None).cast(pa.int16()),
        "outcome": pa.array(outcome),
    }
