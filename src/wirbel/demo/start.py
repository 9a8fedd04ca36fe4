"""Starts the demo: history into the store, then web server, worker and the live feed."""

from __future__ import annotations

import hashlib
import json
import secrets
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path

from wirbel.accounts.models import Person, Role
from wirbel.demo import practice
from wirbel.demo.fill import fill
from wirbel.demo.history import DAYS, GOING_ON
from wirbel.inquiry.models import Inquiry
from wirbel.intake.models import Token
from wirbel.runtime.database import EmbeddedDatabase, free_port, say
from wirbel.runtime.environment import home
from wirbel.runtime.processes import SERVER_PROCESSES, run_until_stopped, server_commands, worker_command
from wirbel.store.models import Arrival, AttributeName, Block, ChangeRecord, Entity, LateHour, Metric, PeerAddress, Receipt, Relation, Segment, Service
from wirbel.store.streams import HOUR_NS
from wirbel.watch.models import Position, Unwatched, WatchedSeries

CHUNK_NS = HOUR_NS // 2
SIGN_IN = "skipper"
READY_TIMEOUT_S = 60


def start_demo(database: EmbeddedDatabase | None, port: int, seed: int, kind: str, days: float, feed: bool) -> int:
    state_file = home() / "demo.json"
    state: dict[str, object] = json.loads(state_file.read_text()) if state_file.exists() else {}
    is_current = (state.get("world"), state.get("seed"), state.get("fault"), state.get("days")) == (world_digest(), seed, kind, days)
    if not is_current or not Person.objects.filter(username=SIGN_IN).exists():
        _forget_all()
        state = _fill(seed, kind, days)
        state_file.write_text(json.dumps(state))
        state_file.chmod(0o600)
    wanted, port = port, free_port(port)
    if port != wanted:
        say(f"another program listens on port {wanted}; this is port {port}")
    url = f"http://127.0.0.1:{port}"
    commands = [*server_commands(port, SERVER_PROCESSES, home()), worker_command()]
    if not feed:
        practice.hide(home())
    else:
        commands.append([sys.executable, "-m", "wirbel.demo.feed", "--url", url, "--state", str(state_file)])
    return run_until_stopped(commands, database, ready=lambda: _announce(url, state, state_file))


def world_digest() -> str:
    """Changes with the demo's own code and with what it is stored as: a world made by other code is made anew."""
    package = Path(__file__).resolve().parents[1]
    sources = [*sorted((package / "demo").rglob("*.py")), package / "core/cells.py", package / "core/signals/spans.py", package / "store/blocks.py"]
    return hashlib.sha256(b"".join(source.read_bytes() for source in sources)).hexdigest()


def _forget_all() -> None:
    for model in (
        Block,
        Segment,
        Receipt,
        Service,
        Relation,
        PeerAddress,
        ChangeRecord,
        Arrival,
        LateHour,
        AttributeName,
        Entity,
        Metric,
        Inquiry,
        Token,
        WatchedSeries,
        Position,
        Unwatched,
    ):
        model.objects.all().delete()
    (home() / "feed.json").unlink(missing_ok=True)
    practice.clear(home())


def _fill(seed: int, kind: str = GOING_ON, days: float = DAYS) -> dict[str, object]:
    """The demo's history, its sign-in and its token; deterministic for a seed, with times relative to now."""
    began = time.monotonic()
    now = time.time_ns()
    say(f"making {days:g} days of the demo world (seed {seed}, {kind})")
    fill(seed, now, kind, days)
    password = secrets.token_urlsafe(9)
    person, _ = Person.objects.get_or_create(username=SIGN_IN, defaults={"role": Role.ADMINISTRATOR})
    person.set_password(password)
    person.save()
    token = Token.make("demo")
    say(f"done in {time.monotonic() - began:.0f} s")
    return {"seed": seed, "fault": kind, "days": days, "world": world_digest(), "made": now, "password": password, "token": token}


def _announce(url: str, state: dict[str, object], state_file: Path) -> None:
    deadline = time.monotonic() + READY_TIMEOUT_S
    while time.monotonic() < deadline:
        try:
            urllib.request.urlopen(f"{url}/api/session", timeout=2)
        except urllib.error.HTTPError:
            break  # it answers: not signed in
        except OSError:
            time.sleep(0.1)
    print(
        f"\n  Wirbel      {url}\n  sign in     {SIGN_IN} / {state['password']}\n  send to     {url}/v1/traces\n  token       {state['token']}\n\n  Ctrl-C stops everything.\n",
        flush=True,
    )
