"""Sources of evidence on hosts, zones and who runs there: what each must see, and what it must not."""

from __future__ import annotations

import numpy as np
import pytest

from tests.core.made_cases import HOSTS, case, fleet, samples, seen
from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.inquire import answer
from wirbel.core.diagnosis.ranking import rank
from wirbel.core.diagnosis.sentences import sentence


def test_the_tenants_of_a_slow_host_suffer_together_and_others_do_not() -> None:
    found = seen(case(fleet(slow_host="h3")), "shared infrastructure")
    slow = found[("host", "h3"), "tenants slower"]
    assert slow.value == pytest.approx(np.log2(2.5), abs=0.15)
    assert slow.facts["services"] == ["back", "front"]
    assert found[("host", "h3"), "services slower there"].value == 2
    assert not [
        entity for (entity, feature), one in found.items() if feature == "tenants slower" and entity[0] == "host" and entity[1] != "h3" and one.value > 0.2
    ]
    alone = found[("zone", "south"), "one part alone"]
    assert alone.value > 0.5  # the finest that explains: not its zone
    assert found[("host", "h3"), "alone in its zone"].value == alone.value
    assert found[("host", "h3"), "alone in its zone"].attributes == {"cloud.availability_zone": "south"}
    assert [entity for entity, feature in found if feature == "alone in its zone"] == [("host", "h3")]
    assert (("zone", "south"), "all of it slower") not in found


def test_a_zone_is_named_after_the_only_host_of_it_that_is_slow() -> None:
    assert rank(case(fleet(slow_host="h3"))).candidates[0].entity == ("host", "h3")
    assert "zone" in [candidate.kind for candidate in rank(case(fleet(slow_zone="south"))).candidates[:3]]


def tenants(takes: float, elsewhere: float = 0.05) -> Case:
    """Services on a slow host, and what an instance of a job there, and one elsewhere, takes of the processors."""
    use = {(service, f"{service}-{host}", host, "process.cpu.utilization", "{}"): (0.1, 0.1) for service in ("front", "back") for host in HOSTS}
    use["reports", "reports-1", "h3", "process.cpu.utilization", "{}"] = (0.05, takes)
    use["reports", "reports-2", "h1", "process.cpu.utilization", "{}"] = (0.05, elsewhere)  # where nobody suffers
    return case(fleet(slow_host="h3"), points=samples(use))


def test_a_tenant_that_fills_its_host_is_told_from_what_else_may_fill_it() -> None:
    found = seen(tenants(0.9), "filling a host")
    assert found[("instance", "reports-1"), "fills its host"].value == pytest.approx(0.85, abs=0.03)
    assert found[("instance", "reports-1"), "fills its host"].facts["services"] == ["back", "front"]
    assert found[("host", "h3"), "filled by a tenant"].value == pytest.approx(0.85, abs=0.03)
    assert len(found) == 2
    assert not seen(tenants(0.05), "filling a host")


@pytest.mark.parametrize(
    ("takes", "elsewhere", "first", "told"),
    [
        (0.9, 0.05, ("instance", "reports-1"), "reports-1 takes more of the processors of h3, 4.99 % → 90 %, where others are slower: back, front."),
        (
            *(0.9, 0.9, ("service", "reports")),
            "reports takes more of the processors of h3 (as its other instances do elsewhere), 4.99 % → 90 %, where others are slower: back, front.",
        ),
        (0.05, 0.05, ("host", "h3"), None),
    ],
    ids=["a tenant fills it", "a service does", "something else does"],
)
def test_the_tenant_that_fills_a_host_is_named_before_it(takes: float, elsewhere: float, first: tuple[str, str], told: str | None) -> None:
    named = answer(tenants(takes, elsewhere)).candidates[0]
    assert named.entity == first
    assert [sentence(evidence) for evidence in named.evidence if evidence.kind == "fills-host"] == ([told] if told else [])


def test_the_way_across_a_zone_that_loses_packets_is_seen_between_zones_only() -> None:
    found = seen(case(fleet(slow_zone="south")), "shared infrastructure")
    assert found[("zone", "south"), "crossings slower"].value > 2
    assert found[("zone", "south"), "crossings add"].value > 0.5
    assert not [key for key in found if key[0][0] == "host" and key[1] == "tenants slower" and found[key].value > 0.2]


def test_a_slow_database_is_slow_for_all_callers_and_no_place_is_blamed() -> None:
    given = case(fleet(slow_database=True))
    places = seen(given, "shared infrastructure")
    assert all(one.value < 0.2 for (entity, _), one in places.items() if entity[0] in ("host", "zone"))
    split = seen(given, "time split")
    assert split[("database", "ns at db"), "explains"].value > 0.9
    assert (("database", "ns at db"), "largest") in split
