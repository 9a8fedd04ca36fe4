"""What has just come: told before it is packed, and whatever other environments send."""

from __future__ import annotations

import pytest

from tests.store.test_store import WIDE, some_spans, store
from tests.store.test_streams import accept, some_logs
from wirbel.core.errors import QuestionTooLarge
from wirbel.explore import known
from wirbel.store import fine_cells, fresh, packer, query_limits, reading, segments
from wirbel.store.models import Segment

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


def test_of_too_much_that_waits_the_newest_is_read_and_the_rest_is_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    for name, traces in (("first", range(20)), ("second", range(20, 50)), ("third", range(50, 60))):
        assert store(some_spans(traces), name)
    sizes = [*Segment.objects.order_by("id").values_list("size", flat=True)]
    monkeypatch.setattr(segments, "_measured", (0.0, None))
    assert (fresh.read("spans").left_out, segments.room().left_out) == (0, 0)
    for read, left_out in ((2, 20 * 3), (1, 50 * 3)):
        monkeypatch.setattr(fresh, "MOST_BYTES", sum(sizes[-read:]))
        monkeypatch.setattr(segments, "_measured", (0.0, None))
        found = fresh.read("spans")
        assert found.table is not None
        assert (found.left_out, segments.room().left_out) == (left_out, left_out)
        assert found.table.num_rows + left_out == 60 * 3
        assert min(found.table["start"].to_pylist()) == some_spans(range(20 if read == 2 else 50, 60))["start"][0].as_py()
    monkeypatch.setattr(fresh, "MOST_BYTES", 1)  # something is read always
    assert fresh.read("spans").left_out == 50 * 3
    assert reading.window_spans(*WIDE).num_rows == 10 * 3
    packer.pack_all()
    assert reading.window_spans(*WIDE).num_rows == 60 * 3
    assert fresh.read("spans") == fresh.Fresh(None, 0)


def test_a_question_that_takes_too_long_is_stopped_before_anything_is_packed() -> None:
    store(some_spans(range(5)), "one")
    with query_limits.bounded(query_limits.Bounds(-1.0)), pytest.raises(QuestionTooLarge, match="0 of 15 records"):
        fresh.read("spans")
