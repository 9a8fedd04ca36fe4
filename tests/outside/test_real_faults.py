"""Real faults in a real fleet under stock instrumentation, found by a live server in what the fleet sent: nothing is simulated.

The fleet was recorded once, on a machine that was left alone (see fleet/recording.py), and each run sends what it sent then. With
WIRBEL_RECORD=1 it is run and recorded anew.
"""

from __future__ import annotations

import json
import os
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from tests.api_client import Api
from tests.conftest import Instance, make_database
from tests.outside.fleet import recording
from tests.outside.fleet.happenings import HAPPENINGS, Happening, Lived
from tests.outside.fleet.recording import FILE, Recording
from tests.outside.fleet.running import ENVIRONMENT

ENDED = timedelta(minutes=3)  # so long ago the last of it happened


@pytest.fixture(scope="module")
def recorded() -> Recording:
    if os.environ.get("WIRBEL_RECORD"):
        recording.record(make_database("fleet")).save(FILE)
    found = Recording.load(FILE)
    return found.moved(datetime.now(UTC) - ENDED - datetime.fromisoformat(found.lived[-1].focus[1]))


@pytest.fixture(scope="module")
def lived(instance: Instance, recorded: Recording) -> dict[str, Lived]:
    """All that the fleet sent has arrived, and the changes that were announced."""
    for stream, body in recorded.bodies:
        status, answer, _ = instance.post(f"/v1/{stream}", body)
        assert status == 200, answer
    for one in recorded.lived:
        if one.change:
            status, answer, _ = instance.post("/v1/changes", json.dumps(one.change).encode(), Content_Type="application/json")
            assert status in (200, 201, 202), answer
    return {one.name: one for one in recorded.lived}


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


@pytest.mark.parametrize("one", HAPPENINGS, ids=[one.name for one in HAPPENINGS])
def test_what_really_happened_is_found(api: Api, recorded: Recording, lived: dict[str, Lived], one: Happening) -> None:
    when = lived[one.name]
    windows = {name: {"start": start, "end": end} for name, (start, end) in (("focus", when.focus), ("reference", when.reference))}
    status, answer = api.post("/api/inquiries", {"service": one.asked, "signal": one.signal, "environment": ENVIRONMENT, **windows})
    assert status == 201, answer
    candidates = answer["candidates"]
    told = [(c["entity"]["kind"], c["entity"]["name"], c["mechanism"], c["confidence"], c["change"]) for c in candidates]
    if not one.culprits:
        assert not candidates or candidates[0]["confidence"] < 0.3, told
        return
    assert candidates, answer["notes"]
    culprits = {(kind, recorded.at["rates"].removeprefix("http://") if name == "rates" else name) for kind, name in one.culprits}
    assert names_of(candidates[0]["entity"]) & culprits, told
    assert candidates[0]["mechanism"] in one.mechanisms, told
    if when.change:
        assert candidates[0]["change"] == when.change["id"], told


def names_of(entity: dict[str, Any]) -> set[tuple[str, str]]:
    """All that an entity may be called by: its name, its service, and its attributes' values."""
    names = {entity["name"], entity["service"], *entity["attributes"].values()}
    return {(entity["kind"], str(name)) for name in names}
