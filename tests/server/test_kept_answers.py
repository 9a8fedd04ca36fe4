"""Answers that were kept under earlier names can still be read."""

from __future__ import annotations

import copy
from importlib import import_module
from typing import Any

import pytest

from wirbel.inquiry import forms
from wirbel.inquiry.models import Inquiry
from wirbel.inquiry.schemas import InquiryView

BEFORE = {
    "id": "1",
    "symptom": {"service": "quay-web", "operation": None, "signal": "latency"},
    "focus": {"from": "2026-03-04T09:00:00Z", "to": "2026-03-04T09:30:00Z"},
    "reference": {"from": "2026-03-04T07:00:00Z", "to": "2026-03-04T08:30:00Z", "chosen": "auto"},
    "effect": {"reference": 0.1, "focus": 0.3, "delta": 0.2, "unit": "s", "low": 0.15, "high": 0.25},
    "onset": {"at": "2026-03-04T09:00:01Z", "low": "2026-03-04T09:00:00Z", "high": "2026-03-04T09:00:09Z"},
    "suspects": [
        {
            "rank": 1,
            "entity": {"kind": "service", "service": "berth-planner", "name": "berth-planner", "attributes": {}},
            "mechanism": "more-calls",
            "confidence": 0.9,
            "explains": 0.8,
            "onset": None,
            "change": "deploy-1",
            "evidence": [{"kind": "change", "for": True, "text": "It came before.", "weight": 2.0, "link": ""}],
        }
    ],
    "unexplained": 0.1,
    "took_ms": 800,
    "statistic": "mean",
    "requests": {"reference": 500, "focus": 400},
    "percentiles": [],
    "contributions": [
        {
            "kind": "own",
            "service": "berth-planner",
            "operation": "POST /places/reserve",
            "peer": None,
            "peer_kind": None,
            **dict.fromkeys(("calls_reference", "calls_focus", "reference", "focus", "delta", "more_calls", "slower_calls", "low", "high"), 1.0),
            "example": {"trace": "ab", "span": "cd"},
            "beside": None,
        }
    ],
    "cascade": [],
    "standouts": [],
    "changes": [
        {
            "change": {"id": "deploy-1", "kind": "deploy", "at": "2026-03-04T08:59:00Z", "until": None, "service": "berth-planner", "version": "2", "environment": None, "actor": None, "summary": "", "before": None, "after": None, "link": None},
            "on_path": True,
            "lead_s": 60.0,
            "before": 0.1,
            "after": 0.3,
            "share": 0.9,
            "p": 0.0,
            "verdict": "responsible",
        }
    ],
    "moved": [{"name": "berth-planner, own part", "service": "berth-planner", "symptom": False, "at": "2026-03-04T09:00:01Z", "low": "2026-03-04T09:00:00Z", "high": "2026-03-04T09:00:09Z"}],
    "examples": {},
    "notes": [],
}  # fmt: skip


NOW = import_module("wirbel.inquiry.migrations.0002_candidates").with_candidates(copy.deepcopy(BEFORE))
"""The first that is numbered lacks what answers have had since: each has a default."""


def kept(answer: Any, form: int = 0) -> Inquiry:
    told = import_module("wirbel.inquiry.migrations.0004_told_in_lists").told(answer)
    return Inquiry(service="quay-web", signal="latency", answer=answer, form=form, **told)


def test_an_answer_is_kept_with_its_form_and_what_lists_tell() -> None:
    inquiry = Inquiry(service="quay-web", signal="latency")
    forms.keep(inquiry, {name: value for name, value in NOW.items() if name != "id"} | {"candidates": [{**NOW["candidates"][0], "title": "It calls more"}]})
    assert (inquiry.form, inquiry.candidate, inquiry.confidence, inquiry.operation) == (forms.FORM, "It calls more", 0.9, None)
    read = forms.read(inquiry)
    assert read is not None
    assert (read.id, read.candidates[0].confidence) == (str(inquiry.id), 0.9)


def test_every_form_up_to_now_has_a_step() -> None:
    assert set(forms.STEPS) == set(range(forms.FORM))


@pytest.mark.parametrize(
    ("answer", "is_readable", "candidate"),
    [
        (NOW, True, "berth-planner"),
        ({**NOW, "none": 0.1, "would_tell": ["logs"], "doubt": "of another world"}, False, "berth-planner"),
        ({**NOW, "none": 0.1, "would_tell": ["logs"]}, True, "berth-planner"),
        (BEFORE, False, None),
        ({**NOW, "candidates": []}, True, None),
        ({**NOW, "candidates": [{"title": "of another world"}]}, False, "of another world"),
        ({}, False, None),
        ([], False, None),
        (None, False, None),
    ],
)
def test_answers_of_any_form_are_read_or_told_to_be_unreadable(answer: Any, is_readable: bool, candidate: str | None) -> None:
    inquiry = kept(copy.deepcopy(answer))
    assert (forms.read(inquiry) is not None, inquiry.candidate) == (is_readable, candidate)


@pytest.mark.django_db
def test_a_list_with_an_answer_that_nobody_can_read_is_shown(client: Any, django_user_model: Any) -> None:
    person = django_user_model.objects.create_user("reader", password="x" * 12)
    client.force_login(person)
    for answer in (NOW, {}, BEFORE):
        kept(answer).save()
    found = client.get("/api/inquiries").json()
    assert (found["found"], [row["candidate"] for row in found["rows"]]) == (3, [None, None, "berth-planner"])
    answers = [client.get(f"/api/inquiries/{row['id']}") for row in found["rows"]]
    assert [answer.status_code for answer in answers] == [410, 410, 200]
    assert "older version" in answers[0].json()["detail"]


def test_an_answer_of_before_becomes_one_of_now() -> None:
    migration = import_module("wirbel.inquiry.migrations.0002_candidates")
    found = InquiryView.model_validate(migration.with_candidates(copy.deepcopy(BEFORE)))
    assert found.candidates[0].entity.name == "berth-planner"
    assert found.changes[0].entity is not None
    assert found.changes[0].entity.name == "berth-planner"
    assert found.contributions[0].part.operation == "POST /places/reserve"
    assert found.moved[0].onset.at == "2026-03-04T09:00:01Z"
    assert (found.title, found.nothing) == ("Why is quay-web slow?", None)
    assert migration.with_candidates({"candidates": []}) == {"candidates": []}
