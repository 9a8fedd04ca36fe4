"""Where failures begin, by host and zone: services that fail more there than their own instances elsewhere do."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.evidence.tenants import ZONE

Floats = npt.NDArray[np.float64]
FEATURES = {
    "failures located there": Feature("share of the change that begins there", +1, 0.5),
    "services failing there": Feature("services that fail there and not elsewhere", +1, 2.0),
}
PLACES = (("host", "host"), ("zone", ZONE))
MIN_SERVED = 20  # of a service, at a place and elsewhere, in the focus
LEAST = 0.02  # of what is served: that it fails there more than elsewhere
LEAST_SHARE = 0.05  # of the change


def _observe(case: Case) -> Iterator[Observation]:
    here, began = case.here, case.began(case.here)
    if began is None or case.effect.delta <= 0:
        return
    weight = here.adjusted_count[here.request]
    served = np.flatnonzero((here.request >= 0) & case.traces.is_entry)
    for kind, column in PLACES:
        if column not in case.traces.table.column_names:
            continue
        place, names = case.traces.codes(column)
        if len(names) < 2:
            continue
        added = _a_request(case, began, weight, place, len(names))
        apart = _apart(case, began, served, place, len(names))
        for n, name in enumerate(names):
            share = float(added[n] / case.effect.delta)
            if share > LEAST_SHARE:
                yield Observation((kind, name), "failures located there", min(share, 1.0), "errors")
            if apart[n]:
                facts = {"kind": kind, "value": name, "services": apart[n]}
                yield Observation((kind, name), "services failing there", float(len(apart[n])), "errors", "failing-there", facts)


def _a_request(case: Case, began: npt.NDArray[np.int64], weight: Floats, place: npt.NDArray[np.int64], count: int) -> Floats:
    """How much more failures a request of the symptom begin at each place, focus less reference: shape (places,)."""
    here, rows = case.here, began[place[began] >= 0]
    focus = here.in_focus[here.request[rows]]
    sides = [
        np.bincount(place[rows[focus == side]], weight[rows[focus == side]], count) / max(here.adjusted_count[here.in_focus == side].sum(), 1e-9)
        for side in (True, False)
    ]
    return np.asarray(sides[0] - sides[1])


def _apart(case: Case, began: npt.NDArray[np.int64], served: npt.NDArray[np.int64], place: npt.NDArray[np.int64], count: int) -> list[list[str]]:
    """Of each place, services of which requests fail by themselves there and do not elsewhere."""
    here, traces = case.here, case.traces
    service, names = traces.codes("service")
    rows = served[here.in_focus[here.request[served]] & (place[served] >= 0)]
    bad = began[here.in_focus[here.request[began]] & (place[began] >= 0)]
    shape = len(names) * count
    all_served = np.bincount(service[rows] * count + place[rows], minlength=shape).reshape(len(names), count)
    all_bad = np.bincount(service[bad] * count + place[bad], minlength=shape).reshape(len(names), count)
    found: list[list[str]] = []
    for at in range(count):
        there, elsewhere = all_served[:, at], all_served.sum(axis=1) - all_served[:, at]
        enough = (there >= MIN_SERVED) & (elsewhere >= MIN_SERVED)
        share = all_bad[:, at] / np.maximum(there, 1)
        others = (all_bad.sum(axis=1) - all_bad[:, at]) / np.maximum(elsewhere, 1)
        scatter = np.sqrt(np.maximum(share * (1 - share), 1e-9) / np.maximum(there, 1) + np.maximum(others * (1 - others), 1e-9) / np.maximum(elsewhere, 1))
        found.append(sorted(names[n] for n in np.flatnonzero(enough & (share - others > LEAST) & (share - others > 4 * scatter))))
    return found


SOURCE = Source("failing places", FEATURES, _observe, ("errors",))
