"""What has just come: told before it is packed, and whatever other environments send."""

from __future__ import annotations

import pytest

from tests.store.test_store import WIDE, some_spans, store
from tests.store.test_streams import accept, some_logs
from wirbel.explore import known
from wirbel.store import fine_cells, packer

pytestmark = pytest.mark.django_db


def test_who_sent_for_the_first_time_a_moment_ago_is_known() -> None:
    assert not known.has_sent("shop")
    accept("logs", some_logs(), "just now")
    assert known.has_sent("shop")
    packer.pack_all()
    assert known.has_sent("shop")
    assert not known.has_sent("shipyard")


def test_a_busy_environment_takes_no_fine_steps_from_a_quiet_one(monkeypatch: pytest.MonkeyPatch) -> None:
    store(some_spans(range(20)), "busy")
    store(some_spans(range(20, 22), environment="quiet"), "quiet")
    packer.pack_all()
    monkeypatch.setattr(fine_cells, "MOST_SPANS", 10)
    assert not fine_cells.may_be_read(*WIDE, "default")
    assert fine_cells.may_be_read(*WIDE, "quiet")
    assert not fine_cells.may_be_read(*WIDE)
