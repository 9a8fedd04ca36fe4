"""Wrong passwords slow down who sends them, and nobody else."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import pytest
from django.test import Client

from wirbel.accounts.models import Person

pytestmark = pytest.mark.django_db


def sign_in(address: str, password: str) -> int:
    body = json.dumps({"name": "s.berg", "password": password})
    return int(Client().post("/api/session", body, content_type="application/json", REMOTE_ADDR=address).status_code)


def test_a_stranger_who_guesses_a_name_locks_nobody_else_out() -> None:
    Person.objects.create_user("s.berg", password="harbour lights 7")  # noqa: S106  of a test
    assert [sign_in("203.0.113.9", "guess") for _ in range(11)] == [401] * 10 + [429]
    assert sign_in("203.0.113.9", "harbour lights 7") == 429
    assert sign_in("198.51.100.4", "harbour lights 7") == 200


OLD, NEW = "harbour lights 7", "seven lights of the east harbour"


def signed_in() -> Client:
    client = Client()
    answer = client.post("/api/session", json.dumps({"name": "s.berg", "password": OLD}), content_type="application/json")
    assert answer.status_code == 200
    return client


def change(client: Client, current: str, new: str) -> tuple[int, str]:
    answer = client.post("/api/session/password", json.dumps({"current": current, "new": new}), content_type="application/json")
    return answer.status_code, answer.json()["detail"] if answer.content else ""


def test_who_is_signed_in_changes_their_password_and_ends_their_other_sessions() -> None:
    Person.objects.create_user("s.berg", password=OLD)
    here, elsewhere = signed_in(), signed_in()
    assert change(here, "guess", NEW) == (403, "The current password is wrong.")
    for refused, why in (("short", "at least 12"), ("password1234", "too common")):
        status, told = change(here, OLD, refused)
        assert status == 400
        assert why in told
    assert change(here, OLD, "x" * 1_001)[0] == 422
    assert change(Client(), OLD, NEW)[0] == 401
    assert change(here, OLD, NEW) == (204, "")
    assert here.get("/api/session").status_code == 200
    assert elsewhere.get("/api/session").status_code == 401
    assert sign_in("203.0.113.9", OLD) == 401
    assert sign_in("203.0.113.9", NEW) == 200


def test_guessing_the_current_password_is_slowed_like_any_other() -> None:
    Person.objects.create_user("s.berg", password=OLD)
    here = signed_in()
    assert [change(here, "guess", NEW)[0] for _ in range(11)] == [403] * 10 + [429]


def test_who_changed_what_is_a_line_of_the_log_without_what_was_sent(caplog: pytest.LogCaptureFixture) -> None:
    Person.objects.create_user("s.berg", password=OLD, role="administrator")
    caplog.set_level("INFO", "wirbel.accounts.audit")
    assert sign_in("203.0.113.9", "a wrong password") == 401
    here = signed_in()
    here.post("/api/tokens", json.dumps({"name": "kept to ourselves"}), content_type="application/json")
    here.post("/api/scopes/meant", "{}", content_type="application/json")
    here.get("/api/session")
    here.delete("/api/drop-rules/7%0A2026-01-01 INFO skipper")
    assert [record.getMessage() for record in caplog.records] == [
        "nobody POST /api/session 401 from 203.0.113.9",
        "s.berg POST /api/session 200 from 127.0.0.1",
        "s.berg POST /api/tokens 201 from 127.0.0.1",
        "s.berg DELETE /api/drop-rules/7%0A2026-01-01%20INFO%20skipper 422 from 127.0.0.1",
    ]


def test_under_tls_cookies_are_of_this_host_only() -> None:
    told = "from wirbel.server import settings as s; print(s.SESSION_COOKIE_NAME, s.CSRF_COOKIE_NAME, s.SESSION_COOKIE_SECURE, s.SECURE_HSTS_SECONDS, s.SESSION_COOKIE_AGE)"
    environment = {**os.environ, "WIRBEL_TLS": "1", "WIRBEL_SESSION_HOURS": "12"}
    done = subprocess.run([sys.executable, "-c", told], env=environment, capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["__Host-sessionid", "__Host-csrftoken", "True", "31536000", "43200"]
