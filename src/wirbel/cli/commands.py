"""What each command does."""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

from psycopg import conninfo

from wirbel.core.errors import NotFound
from wirbel.core.text import number, span_of_time, time
from wirbel.runtime import environment, in_use
from wirbel.runtime.database import DEFAULT_PORT, CannotStart, EmbeddedDatabase, find_binaries, is_free, say
from wirbel.runtime.processes import run_until_stopped, server_commands, worker_command

if TYPE_CHECKING:
    from wirbel.core.deviation.disturbance import Of

MOST_TEST_WORKERS = 4


def demo(arguments: argparse.Namespace) -> int:
    from wirbel.demo.faults import FAULTS

    if arguments.fault not in FAULTS:
        say(f"there is no fault {arguments.fault!r}; there are {', '.join(FAULTS)}")
        return 2
    # The demo keeps to its own database: real data is never mixed with invented data.
    home = Path(os.environ.get("WIRBEL_HOME") or environment.home().parent / "demo")
    os.environ["WIRBEL_HOME"] = str(home)
    os.environ.pop("WIRBEL_DATABASE_URL", None)
    with in_use.serving(home):
        if arguments.reset:
            EmbeddedDatabase(home).erase()
        return _demo(arguments)


def _demo(arguments: argparse.Namespace) -> int:
    with environment.database(arguments.db_port or DEFAULT_PORT) as embedded:
        from wirbel.demo.start import start_demo

        return start_demo(embedded, port=arguments.port, seed=arguments.seed, kind=arguments.fault, days=arguments.days, feed=not arguments.quiet)


def serve(arguments: argparse.Namespace) -> int:
    port = arguments.port
    if not is_free(port):
        raise CannotStart(f"another program listens on port {port}; choose one with --port")
    with in_use.serving(environment.home()), environment.database(arguments.db_port or DEFAULT_PORT) as embedded:
        say(f"http://127.0.0.1:{port}  (make a sign-in with ./wirbel person NAME, a token with ./wirbel token NAME)")
        servers = server_commands(port, arguments.processes, environment.home())
        return run_until_stopped(servers + [worker_command()] * arguments.workers, embedded)


def worker(arguments: argparse.Namespace) -> int:
    with environment.database():
        from procrastinate.contrib.django import app

        from wirbel.server.work import work

        connector: Any = app.connector  # Django's own, which has one for workers
        with app.replace_connector(connector.get_worker_connector()) as running:
            asyncio.run(work(running))
    return 0


def token(arguments: argparse.Namespace) -> int:
    with environment.database():
        from wirbel.intake.models import Token

        print(Token.make(arguments.name))
    return 0


def person(arguments: argparse.Namespace) -> int:
    with environment.database():
        from django.contrib.auth.password_validation import validate_password
        from django.core.exceptions import ValidationError

        from wirbel.accounts.models import Person

        say("password, then Enter:")
        password = sys.stdin.readline().rstrip("\n")
        found = Person.objects.filter(username=arguments.name).first() or Person(username=arguments.name)
        try:
            validate_password(password, found)
        except ValidationError as error:
            say(" ".join(error.messages))
            return 1
        found.role = arguments.role
        found.set_password(password)
        found.save()
    return 0


def load(arguments: argparse.Namespace) -> int:
    with environment.database():
        from wirbel.intake.files import load_file

        status = 0
        for name in arguments.files:
            try:
                result = load_file(Path(name), progress=lambda done, total: _progress(done, total))
            except NotFound as error:  # the others are loaded all the same
                say(str(error))
                status = 1
                continue
            print(result.summary(name))
            status = max(status, 0 if result.ok else 1)
    return status


def export(arguments: argparse.Namespace) -> int:
    with environment.database():
        from wirbel.explore.export import Wanted, write

        wanted = Wanted(arguments.stream, arguments.start, arguments.end, arguments.format, arguments.environment, arguments.service, arguments.containing)
        pieces = write(wanted)
        with sys.stdout.buffer if arguments.file == "-" else Path(arguments.file).open("wb") as file:
            for piece in pieces:
                file.write(piece)
    return 0


def backup(arguments: argparse.Namespace) -> int:
    """Everything that is stored, as one file of PostgreSQL's own format."""
    with environment.database():
        # For its owner only, whatever was there before: it holds everything.
        os.close(os.open(arguments.file, os.O_WRONLY | os.O_CREAT, 0o600))
        os.chmod(arguments.file, 0o600)
        return _of_postgresql("pg_dump", "-Fc", "-f", arguments.file)


def restore(arguments: argparse.Namespace) -> int:
    """In one transaction, into a database that holds nothing yet."""
    with environment.database(set_up=False):
        return _of_postgresql("pg_restore", "--no-owner", "--single-transaction", arguments.file)


def _of_postgresql(program: str, *words: str) -> int:
    """The password goes by the environment: all users of a machine see the words of a command."""
    given = conninfo.conninfo_to_dict(os.environ["WIRBEL_DATABASE_URL"])
    password = str(given.pop("password", "") or "")
    command = [str(find_binaries() / program), "-d", conninfo.make_conninfo(**{name: str(value) for name, value in given.items()}), *words]
    done = subprocess.run(command, env={**os.environ, "PGPASSWORD": password}, capture_output=True, text=True)
    if done.returncode:
        say(f"{program} failed: {done.stderr.strip()[-1000:]}")
    return 1 if done.returncode else 0


def _progress(done: int, total: int) -> None:
    if sys.stderr.isatty():
        print(f"\r{100 * done // max(total, 1):3d} %", end="\n" if done >= total else "", file=sys.stderr)


def diagnose(arguments: argparse.Namespace) -> int:
    with environment.database():
        from wirbel.inquiry.ask import Asked, ask

        given = arguments.reference_from is not None and arguments.reference_to is not None
        if (arguments.reference_from is None) != (arguments.reference_to is None):
            say("give both --reference-from and --reference-to, or neither")
            return 2
        asked = Asked(
            service=arguments.service,
            operation=arguments.operation,
            signal=arguments.signal,
            environment=arguments.environment,
            focus=(arguments.start, arguments.end),
            reference=(arguments.reference_from, arguments.reference_to) if given else None,
        )
        result = ask(asked).contract()
        if arguments.json:
            print(json.dumps(result, ensure_ascii=False))
        else:
            _print_answer(result)
    return 0


def _print_answer(result: dict) -> None:  # type: ignore[type-arg]
    effect = result["effect"]
    print(f"{effect['reference']:.4g} → {effect['focus']:.4g} {effect['unit']} (difference {effect['low']:.4g} to {effect['high']:.4g})")
    if not result["candidates"]:
        print("Nothing stands out.")
    for candidate in result["candidates"]:
        print(
            f"{candidate['rank']}. {candidate['entity']['name']}: {candidate['mechanism']}, explains {candidate['explains']:.0%}, score {candidate['confidence']:.0%}"
        )
        for evidence in candidate["evidence"]:
            print(f"   {'for    ' if evidence['for'] else 'against'} {evidence['text']}")


def detect(arguments: argparse.Namespace) -> int:
    """What departs from normal, in a file or in what the watch has read."""
    from wirbel.core.deviation import contract, grouping

    stored, of_file = (arguments.start, arguments.end), (arguments.file, arguments.time, arguments.value)
    if None not in stored and arguments.file is None:
        with environment.database():
            from wirbel.watch import found as found_by_watch

            found = [record.of() for record in found_by_watch.records(*stored, arguments.environment)[: found_by_watch.MOST]]
            linked = found_by_watch.linked(*stored, arguments.environment)
            until = found_by_watch.until()
            judged = until is not None and until > arguments.start
            if until is None or until < arguments.end:
                say("the watch has judged nothing yet" if until is None else f"the watch has judged all up to {time(until)}, and not what came after")
    elif None not in of_file and stored == (None, None):
        found, judged = _in_file(arguments)
        linked = grouping.all_linked
    else:
        say("give --file, --time and --value, or --from and --to for what the watch has found")
        return 2
    if arguments.json:
        print(json.dumps(contract.contract(found, linked), ensure_ascii=False))
    else:
        _print_deviations(found, judged)
    return 0


def _in_file(arguments: argparse.Namespace) -> tuple[list[Of], bool]:
    """What departs, and whether anything was judged. Needs no database: the same detection as everywhere, on a file of anybody's."""
    from wirbel.core.deviation import disturbance, find, series_file, tracker
    from wirbel.core.deviation.accumulate import Budget
    from wirbel.core.expected.calendar import Calendar
    from wirbel.core.series.series import Kind

    kinds: dict[str, Kind] = {"level": "level", "rate": "rate", "latency": "quantile", "share": "share"}
    file = Path(arguments.file)
    if not file.is_file():
        raise NotFound(f"there is no file {file}")
    found, judged, whose = [], 0, Calendar.checked(arguments.zone, arguments.holidays)
    told = series_file.read(file, arguments.time, arguments.value, arguments.by)
    for sentence in (*told.left_out, *told.unread.values()):
        say(sentence)
    for series in told.series:
        attributes = {arguments.by: series.name} if arguments.by else {}
        result = find.find(series.times, series.values, kinds[arguments.kind], budget=Budget(arguments.budget), calendar=whose)
        if result.profile is None:
            say(f"{series.name}: too few values to tell what is normal; at least {tracker.FIRST} are needed, in {tracker.FIRST_BLOCKS} stretches")
        judged += result.profile is not None
        found += [disturbance.Of(arguments.value, None, attributes, "", deviation) for deviation in result.deviations]
    return found, judged > 0


def _print_deviations(found: Sequence[Of], judged: bool) -> None:
    for one in sorted(found, key=lambda of: of.deviation.onset):
        d = one.deviation
        until = "and goes on" if d.ended is None else f"to {time(d.ended)}"
        name = " ".join([*([one.entity.name] if one.entity.name else []), one.metric, *one.attributes.values()])
        seen = "nothing" if d.peak.actual is None else number(d.peak.actual)
        noticed = f"; noticed {span_of_time((d.opened - d.onset) / 1e9)} after it began"
        lead = "" if d.lead_s is None else f"; a plain threshold {span_of_time(abs(d.lead_s))} {'later' if d.lead_s >= 0 else 'earlier'}"
        print(f"{time(d.onset)} {until}: {name} {d.direction}, {seen} where {number(d.peak.low)} to {number(d.peak.high)} was expected{noticed}{lead}")
    if not found:
        print("Nothing departs from what is expected." if judged else "Nothing was judged.")


def drill(arguments: argparse.Namespace) -> int:
    """In memory, or on a database of its own: what is stored elsewhere is not touched."""
    from wirbel.demo.drill.command import main

    results = environment.home().parent / "drills"
    with _throw_away_database() if arguments.stored else nullcontext():
        return main(arguments, results)


def schema(arguments: argparse.Namespace) -> int:
    with environment.database():
        from wirbel.server.api import api

        Path(arguments.file).write_text(json.dumps(api.get_openapi_schema(), indent=1, sort_keys=True) + "\n")
    return 0


@contextmanager
def _throw_away_database() -> Iterator[None]:
    with tempfile.TemporaryDirectory(prefix="wirbel-") as folder:
        Path(folder).chmod(0o755)  # the user postgres must get in
        os.environ["WIRBEL_HOME"] = folder
        database = EmbeddedDatabase(Path(folder))
        database.start(0)
        os.environ["WIRBEL_DATABASE_URL"] = database.url()
        try:
            yield
        finally:
            database.stop()


def test(arguments: argparse.Namespace) -> int:
    """Runs everything on a throw-away database; static checks too when no words narrow the run."""
    root = Path(os.environ["WIRBEL_ROOT"])
    with _throw_away_database():
        if not arguments.words and (failed := _static_checks(root)):
            say(f"these checks failed: {', '.join(failed)}")
            return 1
        words = arguments.words or ["--numprocesses", str(min(os.cpu_count() or 1, MOST_TEST_WORKERS)), "--dist", "loadscope"]
        return subprocess.run([sys.executable, "-m", "pytest", *words], cwd=root).returncode


def bench(arguments: argparse.Namespace) -> int:
    with _throw_away_database():
        return subprocess.run([sys.executable, "-m", "bench", *arguments.words], cwd=os.environ["WIRBEL_ROOT"]).returncode


def _static_checks(root: Path) -> list[str]:
    web = root / "web"
    npm = ["npm", "run", "--silent"]
    bin_folder = Path(sys.executable).parent
    checks: dict[str, tuple[list[object], Path]] = {
        "ruff": ([bin_folder / "ruff", "check", "src", "tests", "bench"], root),
        "format": ([bin_folder / "ruff", "format", "--check", "src", "tests", "bench"], root),
        "mypy": ([bin_folder / "mypy"], root),
        "layers": ([bin_folder / "lint-imports"], root),
        "front end": ([*npm, "check"], web),
        "front end logic": ([*npm, "test"], web),
    }
    failed = []
    for name, (command, folder) in checks.items():
        say(f"checking {name}")
        if subprocess.run([str(part) for part in command], cwd=folder).returncode:
            failed.append(name)
    return failed
