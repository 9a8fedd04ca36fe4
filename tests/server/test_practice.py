"""The demo's practice in the API; its feed is played by the test."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.api_client import Api
from tests.conftest import Instance
from wirbel.demo.practice import ORDERS, Practice, clear


@pytest.fixture
def practice(instance: Instance) -> Iterator[Practice]:
    made = Practice(instance.home, 1, instance.made, "bad-deploy")
    made.obey(instance.made)
    yield made
    clear(instance.home)


def test_without_a_demo_there_is_no_practice(instance: Instance) -> None:
    api = Api(instance)
    assert api.get("/api/demo") == (200, None)
    assert api.post("/api/demo", {"act": "bad-deploy", "do": "stop"})[0] == 404


def test_orders_are_checked_and_reach_the_feed(instance: Instance, practice: Practice) -> None:
    api = Api(instance)
    status, shown = api.get("/api/demo")
    acts = {act["name"]: act for act in shown["acts"]}
    assert (status, shown["waiting"]) == (200, 0)
    assert acts["bad-deploy"]["since"]
    assert acts["flag"]["since"] is None
    for wrong, answer in (
        ({"act": "nonsense", "do": "start"}, 400),
        ({"act": "bad-deploy", "do": "start"}, 409),
        ({"act": "flag", "do": "stop"}, 409),
        ({"act": "flag", "do": "dance"}, 422),
    ):
        assert api.post("/api/demo", wrong)[0] == answer
    status, shown = api.post("/api/demo", {"act": "flag", "do": "start"})
    assert (status, shown["waiting"]) == (200, 1)
    assert practice.obey(instance.made + 10**9)
    shown = api.get("/api/demo")[1]
    assert shown["waiting"] == 0
    assert next(act for act in shown["acts"] if act["name"] == "flag")["since"]
    assert len((instance.home / ORDERS).read_text().splitlines()) == 1
