"""That something new can be seen is told when it is taken, though nothing has been packed yet."""

from __future__ import annotations

from collections.abc import Iterator

import psycopg
import pytest

from tests.store.test_streams import accept, some_logs
from wirbel.server.live import parameters
from wirbel.store import live, packer

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def listener() -> Iterator[psycopg.Connection]:
    with psycopg.connect(**parameters(), autocommit=True) as connection:
        connection.execute(f"LISTEN {live.CHANNEL}")
        yield connection


def heard(listener: psycopg.Connection) -> list[str]:
    return [told.payload for told in listener.notifies(timeout=0.2)]


def test_what_was_taken_is_told_before_it_is_packed_but_not_each_time(listener: psycopg.Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(live, "OFTEN_S", 3_600.0)
    monkeypatch.setattr(live, "_told_at", -1e9)
    accept("logs", some_logs(), "first")
    accept("logs", some_logs(), "soon after")
    assert heard(listener) == ["logs"]
    packer.pack_all()
    assert heard(listener) == ["logs"]
