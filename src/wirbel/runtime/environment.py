"""Prepares a command: a database that runs, Django set up, migrations applied."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from wirbel.runtime import guard, in_use
from wirbel.runtime.database import DEFAULT_PORT, CannotStart, EmbeddedDatabase

REACH_TIMEOUT_S = 5


def home() -> Path:
    root = Path(os.environ.get("WIRBEL_ROOT") or Path(__file__).resolve().parents[3])
    return Path(os.environ.get("WIRBEL_HOME") or root / ".wirbel" / "home")


@contextmanager
def database(port: int = DEFAULT_PORT, set_up: bool = True) -> Iterator[EmbeddedDatabase | None]:
    """The database that WIRBEL_DATABASE_URL names (None), else the embedded one, which runs as long as anybody uses it.

    Without ``set_up`` its tables are left alone, and Django too. Raises CannotStart.
    """
    address = os.environ.get("WIRBEL_DATABASE_URL")
    if address:
        _reach(address)
        if set_up:
            set_up_django()
        yield None
        return
    with guard.watch_over(home()), in_use.database(home(), port) as embedded:
        os.environ["WIRBEL_DATABASE_URL"] = embedded.url()
        try:
            if set_up:
                set_up_django()
            yield embedded
        finally:
            if set_up:
                from django.db import connections

                connections.close_all()


def _reach(address: str) -> None:
    import psycopg

    try:
        psycopg.connect(address, connect_timeout=REACH_TIMEOUT_S).close()
    except (psycopg.OperationalError, psycopg.ProgrammingError) as error:
        reason = " ".join(str(error).split())
        raise CannotStart(f"the database that WIRBEL_DATABASE_URL names cannot be reached: {reason}") from error


def set_up_django() -> None:
    """Sets Django up and migrates the database when it is behind."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "wirbel.server.settings")
    import django

    django.setup()
    from django.core.management import call_command
    from django.db import connection
    from django.db.migrations.executor import MigrationExecutor

    executor = MigrationExecutor(connection)
    if executor.migration_plan(executor.loader.graph.leaf_nodes()):
        call_command("migrate", interactive=False, verbosity=0)
