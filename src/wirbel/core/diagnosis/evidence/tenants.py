"""Shared infrastructure: what runs on one host or in one zone suffers together, and the same services' other instances do not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from wirbel.core import arrow
from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.parts import DEPENDENCY, OWN, TRANSFER
from wirbel.core.diagnosis.responsibility import ENTITY_KIND
from wirbel.core.signals.entities import address_of

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
FEATURES = {
    "tenants slower": Feature("log2 of self time, beyond that of siblings elsewhere", +1, 1.0),
    "services slower there": Feature("services", +1, 2.0),
    "located there": Feature("share of the change that is self time there", +1, 0.5),
    "all of it slower": Feature("log2 of self time, of the least of its parts", +1, 0.7),
    "one part alone": Feature("log2 of self time, of its worst part beyond the next", -1, 0.7),
    "alone in its zone": Feature("log2 of self time, beyond that of the next host of its zone", +1, 0.7),
    "neighbours slower too": Feature("other services that are slower on its host", -1, 1.0),
    "crossings slower": Feature("log2 of time on the way to and from it, beyond others'", +1, 1.0),
    "crossings add": Feature("share of the change that the way to and from it adds, beyond others", +1, 0.5),
    "calls from there slower": Feature("log2 of time of calls, beyond those from elsewhere", +1, 1.0),
    "slow for some callers only": Feature("log2 of time of calls, from the worst place beyond the least", -1, 1.0),
}
ZONE_KEY = "cloud.availability_zone"
ZONE = arrow.attribute_column("resource", "s", ZONE_KEY)
MIN_SPANS = 20
CLEAR = 0.25  # log2: a service is slower there from this on
SOME = 0.05  # log2: less is noise
LEAST_SHARE = 0.05  # of the change


def _observe(case: Case) -> Iterator[Observation]:
    columns = [(kind, column) for kind, column in (("instance", "instance"), ("host", "host"), ("zone", ZONE)) if column in case.traces.table.column_names]
    own = {kind: Changes.of(case, column, OWN) for kind, column in columns}
    for kind, column in columns:
        yield from _located(case, kind, column)
    for kind, changes in own.items():
        yield from _parts_of_services(changes) if kind == "instance" else _tenants(kind, changes)
    if "host" in own and "instance" in own:
        yield from _neighbours(case, own["host"])
    if "host" in own and "zone" in own:
        yield from _parts_of_zones(case, own["host"])
    for kind, column in columns[1:]:
        place, names = case.traces.codes(column)
        if len(names) > 1:
            yield from _crossings(case, kind, place, names)
            yield from _calls_from(case, kind, column)


@dataclass(frozen=True)
class Changes:
    """log2 of the time of spans, focus over reference, by what they belong to (rows) and place (columns); NaN where too few are known."""

    rows: list[str]
    places: list[str]
    change: Floats
    spans: Ints  # in the focus

    @classmethod
    def of(cls, case: Case, column: str, kind: str) -> Changes:
        """Of parts of a kind: own work by service, or calls by who is called; over what is usual for the same part."""
        here, traces = case.here, case.traces
        place, places = traces.codes(column)
        group, names = traces.codes("service" if kind == OWN else "peer")
        rows = rows_of(case, (kind,) if kind == OWN else (DEPENDENCY, TRANSFER))
        rows = rows[(place[rows] >= 0) & (group[rows] >= 0)]
        focus, weight = here.in_focus[here.request[rows]], here.adjusted_count[here.request[rows]]
        part = here.part[rows]
        # Calls of services hold what these do; only the way there belongs to the place. Own work is what is on the path.
        amount = here.self_time[rows] / 1e9
        usual = mean_of_groups(part[~focus], amount[~focus], weight[~focus], len(here.parts))
        known = np.isfinite(usual[part]) & (usual[part] > 0)
        pair, shape = group[rows] * len(places) + place[rows], (len(names), len(places))

        def ratio(which: npt.NDArray[np.bool_]) -> tuple[Floats, Ints]:
            used = known & which
            total, expected = (np.bincount(pair[used], (weight * x)[used], shape[0] * shape[1]) for x in (amount, usual[part]))
            found = np.where(expected > 0, total / np.maximum(expected, 1e-12), np.nan)
            return found.reshape(shape), np.bincount(pair[used], minlength=shape[0] * shape[1]).reshape(shape)

        (before, n0), (after, n1) = ratio(~focus), ratio(focus)
        with np.errstate(divide="ignore", invalid="ignore"):
            change = np.log2(after / before)
        change[(n0 < MIN_SPANS) | (n1 < MIN_SPANS) | ~np.isfinite(change)] = np.nan
        return cls(names, places, change, n1)

    @cached_property
    def beside(self) -> list[tuple[Floats, Ints]]:
        """Of each place: how much more each row changed there than elsewhere, of rows that are known at both, and which rows these are."""
        return [self._beside(place) for place in range(len(self.places))]

    def _beside(self, place: int) -> tuple[Floats, Ints]:
        there, elsewhere = self.change[:, place], np.delete(self.change, place, axis=1)
        rows = np.flatnonzero(np.isfinite(there) & np.isfinite(elsewhere).any(axis=1))
        return there[rows] - np.nanmean(elsewhere[rows], axis=1) if len(rows) else np.zeros(0), rows

    def hurt(self, place: int) -> list[str]:
        """Rows that are clearly slower there than elsewhere, in order."""
        apart, rows = self.beside[place]
        return sorted(self.rows[row] for row in rows[apart > CLEAR])


def _located(case: Case, kind: str, column: str) -> Iterator[Observation]:
    """Share of the change that is self time at each place, over what is usual for the same part."""
    here, delta = case.here, case.effect.delta
    place, places = case.traces.codes(column)
    rows = rows_of(case, (OWN,))
    rows = rows[place[rows] >= 0]
    if case.effect.unit != "s" or not len(rows) or not delta:
        return
    part, request = here.part[rows], here.request[rows]
    amount, weight, focus = here.self_time[rows] / 1e9, here.adjusted_count[request], here.in_focus[request]
    usual = np.nan_to_num(mean_of_groups(part[~focus], amount[~focus], weight[~focus], len(here.parts)))
    added = np.bincount(place[rows][focus], (weight * (amount - usual[part]))[focus], len(places)) / here.adjusted_count[here.in_focus].sum()
    service, names = case.traces.codes("service")
    for n, name in enumerate(places):
        share = float(added[n] / delta)
        if share > LEAST_SHARE:
            of = names[service[np.argmax(place == n)]] if kind == "instance" else None
            yield Observation((kind, name), "located there", min(share, 1.0), service=of)


def _tenants(kind: str, changes: Changes) -> Iterator[Observation]:
    for place, name in enumerate(changes.places):
        apart, rows = changes.beside[place]
        if not len(rows):
            continue
        mean = float(np.average(apart, weights=np.sqrt(changes.spans[rows, place])))
        if mean <= SOME:
            continue
        hurt = changes.hurt(place)
        facts = {"kind": kind, "value": name, "services": hurt, "times": 2.0**mean}
        yield Observation((kind, name), "tenants slower", mean, "saturation" if kind == "host" else None, "tenants" if hurt else None, facts)
        yield Observation((kind, name), "services slower there", len(hurt) ** 2 / len(rows))
        if kind == "host" and len(rows) > 1 and apart.max() > CLEAR:
            yield Observation((kind, name), "one part alone", float(np.diff(np.sort(apart)[-2:])[0]))


def _parts_of_services(changes: Changes) -> Iterator[Observation]:
    """Whether all instances of a service are slower, or one alone."""
    for row, service in enumerate(changes.rows):
        known = np.flatnonzero(np.isfinite(changes.change[row]))
        if len(known) < 2:
            continue
        ordered = np.sort(changes.change[row, known])
        if ordered[0] > SOME:
            yield Observation(("service", service), "all of it slower", float(ordered[0]), service=service)
        alone = float(ordered[-1] - ordered[-2])
        if alone > SOME and ordered[-1] > CLEAR:
            instance = changes.places[known[np.argmax(changes.change[row, known])]]
            yield Observation(("service", service), "one part alone", alone, service=service)
            yield Observation(("instance", instance), "tenants slower", alone, "slower-work", service=service)


def alone_on_host(case: Case) -> dict[str, float]:
    """Of each instance, how much of its slowing is beyond that of the slowest other service on its host, between 0 and 1: what several tenants suffer from is not one of theirs."""
    if "host" not in case.traces.table.column_names:
        return {}
    changes = Changes.of(case, "host", OWN)
    row = {name: n for n, name in enumerate(changes.rows)}
    slower = np.zeros(changes.change.shape)
    for place, (apart, rows) in enumerate(changes.beside):
        slower[rows, place] = np.maximum(apart, 0.0)
    found = {}
    instances, services = case.traces.codes("instance")[1], case.traces.codes("service")[1]
    for at, one, of in case.traces.together("host", "instance", "service"):
        own = row.get(services[of])
        others = float(np.delete(slower[:, at], [] if own is None else [own]).max(initial=0.0))
        if own is not None and others > CLEAR:
            found[instances[one]] = float(np.clip(1 - others / max(slower[own, at], 1e-9), 0.0, 1.0))
    return found


def _neighbours(case: Case, changes: Changes) -> Iterator[Observation]:
    """Instances beside which others suffer on the same host: then it is the host's doing rather than theirs."""
    instances, services = case.traces.codes("instance")[1], case.traces.codes("service")[1]
    for at, one, of in case.traces.together("host", "instance", "service"):
        others = set(changes.hurt(at)) - {services[of]}
        if others:
            where = {"host.name": changes.places[at]}
            yield Observation(("instance", instances[one]), "neighbours slower too", float(len(others)), attributes=where, service=services[of])


def _parts_of_zones(case: Case, changes: Changes) -> Iterator[Observation]:
    """Whether what runs on all hosts of a zone is slower, or on one alone."""
    hosts, zones = case.traces.codes("host")[1], case.traces.codes(ZONE)[1]
    pairs = case.traces.together("host", ZONE)
    mean = {h: float(np.average(apart, weights=np.sqrt(changes.spans[rows, h]))) for h in range(len(hosts)) for apart, rows in [changes.beside[h]] if len(rows)}
    for z, name in enumerate(zones):
        inside = sorted((mean[h], hosts[h]) for h, one in pairs if one == z and h in mean)
        slower = [value for value, _ in inside]
        if len(inside) > 1:
            if slower[0] > SOME:
                yield Observation(("zone", name), "all of it slower", slower[0])
            if slower[-1] > CLEAR:
                alone = slower[-1] - slower[-2]
                yield Observation(("zone", name), "one part alone", alone)
                yield Observation(("host", inside[-1][1]), "alone in its zone", alone, attributes={ZONE_KEY: name})
        elif inside and slower[0] > CLEAR:
            yield Observation(("zone", name), "one part alone", slower[0])


def _calls_from(case: Case, kind: str, column: str) -> Iterator[Observation]:
    """Whether calls of the same are slower from one place than from others: then it is not who is called."""
    changes = Changes.of(case, column, TRANSFER)
    for place, name in enumerate(changes.places):
        apart, rows = changes.beside[place]
        if len(rows):
            mean = float(np.average(apart, weights=np.sqrt(changes.spans[rows, place])))
            if mean > SOME:
                yield Observation((kind, name), "calls from there slower", mean, "network")
    peer_kind, kinds = case.traces.codes("peer_kind")
    peer, _ = case.traces.codes("peer")
    for row, name in enumerate(changes.rows):
        known = changes.change[row, np.isfinite(changes.change[row])]
        if len(known) > 1 and known.max() - known.min() > CLEAR:
            of = peer_kind[np.argmax(peer == row)]
            called = ENTITY_KIND.get(kinds[of] if of >= 0 else "external", "external")
            yield Observation((called, name), "slow for some callers only", float(known.max() - max(known.min(), 0.0)))


def rows_of(case: Case, kinds: tuple[str, ...]) -> Ints:
    """Rows of the spans of the symptom's requests that are parts of some kinds, shape (rows,)."""
    here = case.here
    wanted = np.array([part.kind in kinds for part in here.parts] + [False])
    return np.flatnonzero((here.request >= 0) & wanted[here.part])


def _crossings(case: Case, kind: str, place: Ints, names: list[str]) -> Iterator[Observation]:
    here, traces = case.here, case.traces
    calls = rows_of(case, (TRANSFER, DEPENDENCY))
    child = np.full(len(traces), -1, np.int64)
    served = np.flatnonzero(traces.parent >= 0)
    child[traces.parent[served]] = served
    peer, peers = traces.codes("peer")
    where = _places_of_peers(case, kind, peers, names)
    one = place[calls]
    other = np.where(child[calls] >= 0, place[child[calls]], where[peer[calls]])
    both = (one >= 0) & (other >= 0)
    calls, one, other = calls[both], one[both], other[both]
    if len(calls) < 2 * MIN_SPANS:
        return
    inside = np.where(child[calls] >= 0, traces.duration[child[calls]], 0)
    way = np.maximum(traces.duration[calls] - inside, 0) / 1e9
    focus = here.in_focus[here.request[calls]]
    weight = here.adjusted_count[here.request[calls]]
    total_focus = here.adjusted_count[here.in_focus].sum()
    for p, name in enumerate(names):
        crosses = (one == p) != (other == p)
        groups = [(crosses, side) for side in (False, True)] + [(~crosses, side) for side in (False, True)]
        rows = [(which & (focus == side)) for which, side in groups]
        if min(int(r.sum()) for r in rows) < MIN_SPANS:
            continue
        c0, c1, o0, o1 = (float(np.average(way[r], weights=weight[r])) for r in rows)
        apart = float(np.log2((c1 + 1e-5) / (c0 + 1e-5)) - np.log2((o1 + 1e-5) / (o0 + 1e-5)))
        adds = (
            ((c1 - c0) - (o1 - o0)) * float(weight[rows[1]].sum()) / total_focus / case.effect.delta if case.effect.unit == "s" and case.effect.delta else 0.0
        )
        if apart > 0.1:
            facts = {"kind": kind, "value": name, "across": (c0, c1), "others": (o0, o1)}
            yield Observation((kind, name), "crossings slower", apart, "network", "crossings", facts)
        if adds > 0.02:
            yield Observation((kind, name), "crossings add", min(adds, 1.0), "network")


def _places_of_peers(case: Case, kind: str, peers: list[str], names: list[str]) -> Ints:
    """Where each peer runs that sends no spans, as a number of ``names`` (−1: not known; one more for no peer): what measures of it say."""
    hosts = case.traces.codes("host")[1]
    found = np.full(len(peers) + 1, -1, np.int64)
    zone_of = {hosts[h]: z for h, z in case.traces.together("host", ZONE)} if kind == "zone" else {}
    number = {name: n for n, name in enumerate(names)}
    by_address = {address_of(name): n for n, name in enumerate(peers)}
    m = case.measures
    for row in range(len(m)):
        at = m.host[row]
        for text in (m.instance[row], *m.labels[row].values()):
            if at and text in by_address and m.service[row] not in peers:
                found[by_address[text]] = zone_of.get(at, -1) if kind == "zone" else number.get(at, -1)
    return found


def mean_of_groups(group: Ints, values: Floats, weight: Floats, size: int) -> Floats:
    """Weighted mean of the values of each group, shape (size,); NaN where it has none."""
    total, weights = np.bincount(group, weight * values, size), np.bincount(group, weight, size)
    return np.where(weights > 0, total / np.maximum(weights, 1e-12), np.nan)


SOURCE = Source("shared infrastructure", FEATURES, _observe, ("latency", "errors"))
