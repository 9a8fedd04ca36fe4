"""What services run on and talk to, read from resource attributes and from calls."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals.attributes import plain_dict

AT = " at "
"""Between the namespace and the address in the name of a database, cache or broker: ``berths at berth-db.internal``."""

USUAL_PORTS = ("80", "443")
"""Of HTTP: an address is called without them."""

MOST_COMBINATIONS = 20_000  # of resource attributes in one table that are looked at
_BASE = ("environment", "service", "instance", "host")
_RESOURCE = ("container.id", "k8s.pod.name", "k8s.node.name", "cloud.availability_zone", "process.pid")


def place_of(name: str) -> dict[str, str]:
    """The attributes in the name of something that is called at an address."""
    namespace, at, called = name.rpartition(AT)
    address, colon, port = called.rpartition(":")
    if not colon or not port.isdigit() or ":" in address:  # nothing but an address, or one of IPv6
        address, port = called, ""
    return ({"db.namespace": namespace} if at else {}) | {"server.address": address} | ({"server.port": port} if port else {})


def address_of(name: str) -> str:
    """The host in the name of something that is called at an address."""
    return place_of(name)["server.address"]


def first_part(address: str) -> str:
    """The host's own name in a full one, as agents that run there tell it; addresses of numbers have no parts."""
    name = address.partition(".")[0]
    return address if name.isdigit() or ":" in address else name


@dataclass(frozen=True)
class Entity:
    """Something with a name; ``runs_on`` is the (kind, name) of what is directly beneath it, if known.

    Kinds: instance, process, container, pod, host, zone, database, cache, broker, external.
    """

    environment: str
    kind: str
    name: str
    runs_on: tuple[str, str] | None = None
    service: str | None = None


def naming_columns(table: pa.Table) -> list[str]:
    """The columns of a table of spans, logs or points that name entities: rows alike in them name the same."""
    attributes = [arrow.attribute_column("resource", letter, key) for key in _RESOURCE for letter in "si"]
    return [name for name in (*_BASE, "resource", *attributes, "peer_kind", "peer") if name in table.column_names]


def entities_of(table: pa.Table) -> set[Entity]:
    """The entities named by the records of a table of spans, logs or points; of records alike in :func:`naming_columns` one will do."""
    found = {entity for row in _combinations(table) for entity in _layers(row)}
    if "peer" in table.column_names:
        called = table.filter(pc.is_in(table["peer_kind"], value_set=pa.array(["database", "cache", "broker", "external"])))
        for row in called.group_by(["environment", "peer_kind", "peer"]).aggregate([]).slice(0, MOST_COMBINATIONS).to_pylist():
            if row["peer"]:
                found.add(Entity(row["environment"], row["peer_kind"], row["peer"]))
    return found


def _combinations(table: pa.Table) -> list[dict[str, Any]]:
    """Each distinct set of the attributes that name entities."""
    if "resource" in table.column_names:  # samples: resource attributes are JSON
        rows = table.group_by([*_BASE, "resource"]).aggregate([]).slice(0, MOST_COMBINATIONS).to_pylist()
        return [row | plain_dict(row["resource"]) for row in rows]
    columns = {arrow.attribute_column("resource", letter, key): key for key in _RESOURCE for letter in "si"}
    present = [name for name in columns if name in table.column_names]
    rows = table.group_by([*_BASE, *present]).aggregate([]).slice(0, MOST_COMBINATIONS).to_pylist()
    return [{columns.get(name, name): value for name, value in row.items() if value is not None} for row in rows]


def _layers(row: dict[str, Any]) -> list[Entity]:
    """From the innermost to the outermost: process or instance, container, pod, host, zone."""
    environment, service = row["environment"], row["service"]
    host = row.get("host") or row.get("k8s.node.name")
    beneath: list[tuple[str, str]] = []  # outermost first
    made = []

    def add(kind: str, name: Any) -> None:
        if name:
            made.append(Entity(environment, kind, str(name), beneath[-1] if beneath else None, service))
            beneath.append((kind, str(name)))

    add("zone", row.get("cloud.availability_zone"))
    add("host", host)
    add("pod", row.get("k8s.pod.name"))
    add("container", row.get("container.id"))
    outer = list(beneath)
    add("instance", row.get("instance"))
    beneath[:] = outer
    if row.get("process.pid"):
        add("process", f"{row['process.pid']} on {host or row.get('instance') or service}")
    return made
