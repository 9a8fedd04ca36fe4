"""Values that no clock, number or name has, in every parameter of every question that only reads: refused in words, never by a failure."""

from __future__ import annotations

import json
import urllib.parse
from typing import Any

import pytest
from django.test import Client

from tests.conftest import ROOT
from tests.server.test_watch import BEGAN, MINUTE, write
from wirbel.accounts.models import Person, Role
from wirbel.core.text import rfc3339

pytestmark = pytest.mark.django_db(transaction=True)
SCHEMA = json.loads((ROOT / "docs/openapi.json").read_text())
HOSTILE = [
    "0001-01-01T00:00:00Z",
    "9999-12-31T23:59:59Z",
    "1969-12-31T23:59:59-14:00",
    "2026-02-30T00:00:00Z",
    "nan",
    "inf",
    "-inf",
    "1e308",
    "-1",
    "99999999999999999999999",
    "\ud800",
    "\x00",
    "../" * 40,
    "x" * 5_000,
    "٣",
    "",
]
TIMES = [rfc3339(BEGAN + minutes * MINUTE) for minutes in (0, 10, 20, 30)]
KNOWN = dict(
    zip(("start", "reference_from", "reference_to", "focus_from", "focus_to", "end"), (TIMES[0], *TIMES[:2], TIMES[2], TIMES[3], TIMES[3]), strict=True)
)


def questions() -> list[tuple[str, list[dict[str, Any]]]]:
    return [(path, ways["get"].get("parameters", [])) for path, ways in SCHEMA["paths"].items() if "get" in ways]


def fitting(parameters: list[dict[str, Any]]) -> dict[str, str]:
    """Something sensible for each parameter that must be given."""
    return {one["name"]: KNOWN.get(one["name"], "1") for one in parameters if one["in"] == "query" and (one.get("required") or one["name"] in KNOWN)}


def encoded(value: str) -> str:
    return urllib.parse.quote(value, safe="", errors="surrogatepass")


@pytest.fixture
def client() -> Client:
    write(BEGAN, BEGAN + 30 * MINUTE)
    made = Client(raise_request_exception=False)
    made.force_login(Person.objects.create_user("keeper", role=Role.ADMINISTRATOR))
    return made


@pytest.mark.parametrize(("path", "parameters"), questions(), ids=[path for path, _ in questions()])
def test_no_value_breaks_the_server(path: str, parameters: list[dict[str, Any]], client: Client) -> None:
    given = fitting(parameters)
    for one in parameters:
        for value in HOSTILE:
            words = {name: encoded(text) for name, text in given.items()}
            where = path
            for name in (part["name"] for part in parameters if part["in"] == "path"):
                where = where.replace(f"{{{name}}}", encoded(value) if name == one["name"] else "1")
            if one["in"] == "query":
                words[one["name"]] = encoded(value)
            answer = client.get(where + "?" + "&".join(f"{name}={text}" for name, text in words.items()))
            assert answer.status_code < 500, (where, one["name"], value, answer.content[:500])
