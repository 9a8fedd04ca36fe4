"""Sources of evidence on metrics and logs: what each must see, and what it must not."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import NOW
from tests.core.made_cases import HOSTS, MINUTE_NS, case, counted, fleet, samples, seen
from tests.core.test_diagnosis import question
from wirbel.core.diagnosis.measures import measure
from wirbel.core.signals import points


def test_what_is_near_its_limit_and_moved_is_seen_where_it_is() -> None:
    cpu = {("agent", host, host, "system.cpu.utilization", "{}"): (0.35, 0.97 if host == "h2" else 0.36) for host in HOSTS}
    found = seen(case(fleet(), points=samples(cpu)), "saturation")
    near = found[("host", "h2"), "near its limit"]
    assert near.value == pytest.approx(0.47, abs=0.02)
    assert near.mechanism == "saturation"
    assert {entity for entity, feature in found if feature != "its host is fuller"} == {("host", "h2")}
    assert {entity for entity, feature in found if feature == "its host is fuller"} == {("instance", "back-h2"), ("instance", "front-h2")}


def test_what_rises_everywhere_is_load_not_harm() -> None:
    cpu = {("agent", host, host, "system.cpu.utilization", "{}"): (0.35, 0.75) for host in HOSTS}
    found = seen(case(fleet(), points=samples(cpu)), "saturation")
    assert not [key for key, one in found.items() if key[1] in ("near its limit", "share rose", "metrics moved") and one.value > 0.02]


def test_a_pool_has_its_limit_by_stem_and_labels_whatever_it_is_called() -> None:
    label = json.dumps({"which": "db"})
    used = json.dumps({"state": "used", "which": "db"})
    given = {
        ("back", "back-h1", "h1", "grint.used", used): (2.0, 7.9),
        ("back", "back-h1", "h1", "grint.max", label): (8.0, 8.0),
        ("back", "back-h1", "h1", "other.used", used): (2.0, 7.9),  # no limit of its own
    }
    m = measure(samples(given, unit="{connection}"), question())
    rows = {metric: n for n, metric in enumerate(m.metric)}
    assert m.limits == {rows["grint.used"]: rows["grint.max"]}
    assert m.level[rows["grint.used"]] == pytest.approx(0.99, abs=0.02)
    assert np.isnan(m.level[rows["other.used"]])
    found = seen(case(fleet(), points=samples(given, unit="{connection}")), "saturation")
    assert found[("service", "back"), "near its limit"].value > 0.4
    assert found[("instance", "back-h1"), "near its limit"].value > 0.4
    assert (("database", "ns at db"), "near its limit") not in found  # a pool is its owner's


def test_who_waits_for_a_database_waits_more_and_the_database_is_waited_for() -> None:
    waits = {("back", "back-h1", "h1", "zork.pending", json.dumps({"pool": "db"})): (0.5, 12.0)}
    found = seen(case(fleet(), points=samples(waits, unit="{request}")), "saturation")
    assert found[("service", "back"), "waits more"].value == found[("database", "ns at db"), "is waited for"].value > 2
    assert (("database", "ns at db"), "waits more") not in found


def test_a_measure_that_names_a_database_speaks_of_it() -> None:
    waits = {("db-agent", "db", "h4", "zork.lock.waiting", "{}"): (0.5, 12.0)}
    found = seen(case(fleet(), points=samples(waits, unit="{lock}")), "saturation")
    assert found[("database", "ns at db"), "waits more"].value > 2
    assert found[("database", "ns at db"), "waits more"].mechanism == "lock"


def test_a_sum_that_is_cumulative_is_read_by_what_it_adds_and_a_restart_is_none() -> None:
    rows = []
    for minute in range(120):
        counted = (minute * 10.0) if minute < 90 else (minute - 90) * 10.0
        start = NOW if minute < 90 else NOW + 90 * MINUTE_NS
        rows.append(
            {
                "service": "back",
                "metric": "n",
                "unit": "{x}",
                "kind": points.SUM,
                "temporality": points.CUMULATIVE,
                "monotonic": True,
                "labels": "{}",
                "time": NOW + minute * MINUTE_NS + 1,
                "start": start,
                "value": counted,
                "environment": "default",
                "resource": "{}",
            }
        )
    m = measure(points.combine([pa.Table.from_pylist(rows, points.POINT_SCHEMA)]), question())
    assert m.before == pytest.approx([10.0])
    assert m.after == pytest.approx([10.0])
    assert abs(m.outside[0]) < 0.5


def test_a_new_pattern_is_told_with_its_words_and_who_it_names() -> None:
    said = counted(
        ("back", "waited <*> ms for a connection to db", 13, 0.0, 90.0, 0.0),
        ("back", "served <*>", 9, 3600.0, 3700.0, 0.0),
        ("front", "served <*>", 9, 3600.0, 3500.0, 0.0),
    )
    found = seen(case(fleet(), patterns=said), "log patterns")
    new = found[("service", "back"), "new pattern of its own"]
    assert (new.mechanism, new.facts["count"]) == ("waiting", 90.0)
    assert found[("database", "ns at db"), "named in a new pattern"].mechanism == "waiting"
    assert not [entity for entity, _ in found if entity == ("service", "front")]


def test_whom_a_full_pool_leads_to_is_not_blamed_for_it() -> None:
    found = seen(case(fleet(), patterns=counted(("back", "pool of <*> connections to db is in use, waited <*> ms", 13, 0.0, 90.0, 0.0))), "log patterns")
    assert found[("service", "back"), "new pattern of its own"].mechanism == "waiting"
    assert not [entity for entity, feature in found if feature == "named in a new pattern"]


def test_metrics_that_stopped_are_seen_and_a_new_version_is_no_stop() -> None:
    stopped = {("back", None, None, f"m{n}", "{}"): (1.0, np.nan) for n in range(3)} | {("front", None, None, f"m{n}", "{}"): (1.0, 1.0) for n in range(3)}
    found = seen(case(fleet(), points=samples(stopped)), "silence")
    assert found[("service", "back"), "sends nothing"].value == 1.0
    assert (("service", "front"), "sends nothing") not in found
    restarted = {("back", "old", None, "m", "{}"): (1.0, np.nan), ("back", "new", None, "m", "{}"): (np.nan, 1.0)}
    assert not [key for key in seen(case(fleet(), points=samples(restarted)), "silence") if key[1] == "sends nothing"]
