"""The demo's practice: what its feed can let happen, and orders to it. Without a demo there is none.

The feed is another process and keeps two files in Wirbel's home: what it shows, which is passed on
here as it is, and the orders that it reads. Nothing here knows what they mean.
"""

from __future__ import annotations

import json
import os
from typing import Any, Literal

from django.conf import settings
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError

SHOWN = "practice.json"
ORDERS = "orders.jsonl"
MOST_ORDERS_BYTES = 200_000
router = Router()


class Act(Schema):
    name: str
    about: str
    remedy: str | None
    since: str | None
    how: str | None


class Practice(Schema):
    acts: list[Act]
    waiting: int


class Order(Schema):
    act: str
    do: Literal["start", "stop", "remedy"]


def _practice() -> Practice | None:
    try:
        shown = json.loads((settings.HOME / SHOWN).read_text())
    except FileNotFoundError:
        return None
    orders = settings.HOME / ORDERS
    given = len(orders.read_text().splitlines()) if orders.exists() else 0
    return Practice(acts=shown["acts"], waiting=max(given - int(shown["obeyed"]), 0))


@router.get("/demo", response=Practice | None)
def get_practice(request: HttpRequest) -> Any:
    """What the demo can let happen, and what goes on; null where none is running, which every page asks."""
    return _practice()


@router.post("/demo", response=Practice)
def give_order(request: HttpRequest, given: Order) -> Any:
    """Starts or stops a fault of the demo world, or performs its remedy; the feed obeys within seconds."""
    user: Any = request.user
    if not user.may_respond:
        raise HttpError(403, "Your role may look, but not change the demo; ask an administrator.")
    practice = _practice()
    if practice is None:
        raise HttpError(404, "No demo is running here.")
    act = next((act for act in practice.acts if act.name == given.act), None)
    if act is None:
        raise HttpError(400, f"The demo has no fault named {given.act}.")
    if (act.since is None) != (given.do == "start"):
        raise HttpError(409, f"{given.act} {'does not go on' if act.since is None else 'goes on already'}.")
    if given.do == "remedy" and act.remedy is None:
        raise HttpError(400, f"There is no remedy for {given.act}; it ends by itself, or when it is stopped.")
    file = settings.HOME / ORDERS
    if file.exists() and file.stat().st_size > MOST_ORDERS_BYTES:
        raise HttpError(409, "The demo has had too many orders; start it again with --reset.")
    line = json.dumps({"act": given.act, "do": given.do}) + "\n"
    descriptor = os.open(file, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
    with os.fdopen(descriptor, "w") as handle:
        handle.write(line)
    return _practice()
