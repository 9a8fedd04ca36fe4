"""Who may do what, and what a server answers to the wrong name."""

from __future__ import annotations

import subprocess
import sys
import urllib.error
import urllib.request
from dataclasses import replace

import pytest

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import ask, whole

PASSWORD = "twelve-knots-east"  # noqa: S105  of a throw-away database


def person(instance: Instance, name: str, role: str) -> Api:
    """Makes a sign-in by the command line and signs in with it."""
    words = [sys.executable, "-m", "wirbel", "person", name, "--role", role]
    subprocess.run(words, input=PASSWORD + "\n", text=True, env=instance.environment, check=True, capture_output=True)
    return Api(replace(instance, name=name, password=PASSWORD))


def a_question(instance: Instance, api: Api) -> dict:
    ribbon = ask(api, "/api/ribbon", **whole(instance))
    return {"service": "quay-web", "signal": "latency", "focus": ribbon["focus"], "reference": ribbon["reference"]}


def test_a_reader_looks_but_opens_no_inquiry(instance: Instance) -> None:
    reader = person(instance, "reader", "reader")
    question = a_question(instance, reader)
    before = reader.get("/api/inquiries")[1]["found"]
    status, answer = reader.post("/api/inquiries", question)
    assert (status, answer["detail"]) == (403, "Your role may look, but not open inquiries; ask an administrator.")
    assert reader.get("/api/inquiries")[1]["found"] == before


def test_a_responder_opens_inquiries_that_a_reader_can_read(instance: Instance) -> None:
    responder = person(instance, "responder", "responder")
    status, answer = responder.post("/api/inquiries", a_question(instance, responder))
    assert status == 201
    reader = person(instance, "reader", "reader")
    assert reader.get(f"/api/inquiries/{answer['id']}")[1]["candidates"] == answer["candidates"]
    assert reader.get("/api/inquiries")[1]["rows"][0]["asked_by"] == "responder"


def test_a_short_password_is_refused_and_makes_no_sign_in(instance: Instance) -> None:
    words = [sys.executable, "-m", "wirbel", "person", "hasty", "--role", "administrator"]
    done = subprocess.run(words, input="short\n", text=True, env=instance.environment, capture_output=True)
    assert done.returncode == 1
    assert "at least 12" in done.stderr
    hasty = Api(replace(instance, name="hasty", password="short"), sign_in=False)  # noqa: S106
    assert hasty.post("/api/session", {"name": "hasty", "password": "short"})[0] == 401


@pytest.mark.parametrize(("host", "status"), [("wirbel.example", 400), ("127.0.0.1", 401)])
def test_a_server_answers_to_its_own_names_only(instance: Instance, host: str, status: int) -> None:
    """A page elsewhere whose name points here must not read what is stored (common practice: DNS rebinding)."""
    asked = urllib.request.Request(f"{instance.url}/api/session", headers={"Host": host})
    with pytest.raises(urllib.error.HTTPError) as refused:
        urllib.request.urlopen(asked)
    assert refused.value.code == status


def test_every_answer_forbids_foreign_scripts_and_framing(instance: Instance) -> None:
    with urllib.request.urlopen(instance.url) as answer:
        policy = answer.headers["Content-Security-Policy"]
        assert "default-src 'self'" in policy
        assert "frame-ancestors 'none'" in policy
        assert answer.headers["X-Frame-Options"] == "DENY"
        assert answer.headers["X-Content-Type-Options"] == "nosniff"
        cookie = answer.headers["Set-Cookie"]
        assert "SameSite=Lax" in cookie
