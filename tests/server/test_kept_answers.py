"""Answers that were kept under earlier names can still be read."""

from __future__ import annotations

from importlib import import_module

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


def test_an_answer_of_before_becomes_one_of_now() -> None:
    migration = import_module("wirbel.inquiry.migrations.0002_candidates")
    found = InquiryView.model_validate(migration.with_candidates(BEFORE))
    assert found.candidates[0].entity.name == "berth-planner"
    assert found.changes[0].entity is not None
    assert found.changes[0].entity.name == "berth-planner"
    assert found.contributions[0].part.operation == "POST /places/reserve"
    assert found.moved[0].onset.at == "2026-03-04T09:00:01Z"
    assert (found.title, found.nothing) == ("Why is quay-web slow?", None)
    assert migration.with_candidates({"candidates": []}) == {"candidates": []}
