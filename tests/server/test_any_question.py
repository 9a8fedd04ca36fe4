"""Whatever is asked of the API, it answers: with what was asked for, or with what is wrong with the question."""

from __future__ import annotations

import pytest
import schemathesis
from hypothesis import HealthCheck, settings

from tests.api_client import Api
from tests.conftest import ROOT, Instance

schema = schemathesis.openapi.from_path(str(ROOT / "docs/openapi.json"))
schema.config.phases.coverage.enabled = False  # every wrong value of every parameter takes a minute; random ones find the same


@pytest.fixture(scope="module")
def cookies(instance: Instance) -> str:
    return "; ".join(f"{cookie.name}={cookie.value}" for cookie in Api(instance).cookies)


@schema.include(method="GET").parametrize()
@settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck))
def test_no_question_breaks_the_server(case: schemathesis.Case, instance: Instance, cookies: str) -> None:
    answer = case.call(base_url=instance.url, headers={"Cookie": cookies}, timeout=30)
    assert answer.status_code < 500, answer.text
    assert answer.status_code == 200 or answer.text  # a refusal says why
