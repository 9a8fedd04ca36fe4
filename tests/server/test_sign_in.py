"""Wrong passwords slow down who sends them, and nobody else."""

from __future__ import annotations

import json

import pytest
from django.test import Client

from wirbel.accounts.models import Person

pytestmark = pytest.mark.django_db


def sign_in(address: str, password: str) -> int:
    body = json.dumps({"name": "s.berg", "password": password})
    return int(Client().post("/api/session", body, content_type="application/json", REMOTE_ADDR=address).status_code)


def test_a_stranger_who_guesses_a_name_locks_nobody_else_out() -> None:
    Person.objects.create_user("s.berg", password="harbour lights 7")  # noqa: S106  of a test
    assert [sign_in("203.0.113.9", "guess") for _ in range(11)] == [401] * 9 + [429] * 2
    assert sign_in("203.0.113.9", "harbour lights 7") == 429
    assert sign_in("198.51.100.4", "harbour lights 7") == 200
