from __future__ import annotations

import pytest

from wirbel.intake import quota, rules, views


@pytest.fixture(autouse=True)
def _nothing_held_over(monkeypatch: pytest.MonkeyPatch) -> None:
    """What a server keeps between requests is about another database in each test."""
    monkeypatch.setattr(views, "_refusals", views._Refusals())
    monkeypatch.setattr(quota, "_measured", {})
    views.known_tokens.forget()
    rules.forget()
