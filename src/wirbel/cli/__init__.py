"""The command line. Exit status: 0 done, 1 the work failed, 2 the call was wrong."""

from __future__ import annotations

import argparse
import os
import signal
import sys

from wirbel.core.errors import InvalidChange, InvalidQuestion, WirbelError
from wirbel.core.signals.changes import parse_time
from wirbel.runtime.processes import SERVER_PROCESSES


def rfc3339(text: str) -> int:
    """An argument that is a time with a zone, as ns since 1970."""
    try:
        return parse_time(text, "time")
    except InvalidChange as error:
        raise argparse.ArgumentTypeError(str(error)) from error


def port(text: str) -> int:
    """Of loopback."""
    if not text.isascii() or not text.isdigit() or not 1 <= int(text) <= 65_535:
        raise argparse.ArgumentTypeError(f"a port is a number from 1 to 65535, not {text[:40]}")
    return int(text)


def days(text: str) -> float:
    """Of the demo's history: from a quarter to a month."""
    try:
        found = float(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"not a number of days: {text}") from error
    if not 0.25 <= found <= 31:
        raise argparse.ArgumentTypeError("the demo has from 0.25 to 31 days")
    return found


def budget(text: str) -> float:
    """``N/week`` or ``N/day``, as false deviations a week."""
    number, _, unit = text.partition("/")
    try:
        found = float(number) * {"week": 1, "day": 7, "": 1}[unit]
    except (ValueError, KeyError) as error:
        raise argparse.ArgumentTypeError(f"write N/week or N/day, not {text}") from error
    if not 1e-3 <= found <= 1e3:
        raise argparse.ArgumentTypeError("a budget is from 0.001 to 1000 a week")
    return found


FAILED, WRONG_CALL = 1, 2  # exit status


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="wirbel", description="Finds the cause of a slowdown from traces and changes.")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    shared = argparse.ArgumentParser(add_help=False)
    shared.add_argument("--no-input", action="store_true", help="never ask (nothing asks at present)")

    demo = commands.add_parser("demo", parents=[shared], help="start everything with the demo world")
    demo.add_argument("--port", type=port, default=8140)
    demo.add_argument("--db-port", type=port, default=None)
    demo.add_argument("--seed", type=int, default=1)
    demo.add_argument("--fault", default="bad-deploy", metavar="NAME", help="what goes on in the demo world (./wirbel drill --list names them)")
    demo.add_argument("--days", type=days, default=14.0, metavar="N", help="of history; the last six hours in full")
    demo.add_argument("--reset", action="store_true", help="delete the demo's data first")
    demo.add_argument("--quiet", action="store_true", help="no live feed")

    serve = commands.add_parser("serve", parents=[shared], help="start web server and workers, no demo data")
    serve.add_argument("--port", type=port, default=8140)
    serve.add_argument("--db-port", type=port, default=None)
    serve.add_argument("--processes", type=int, default=SERVER_PROCESSES, help="of the web server")
    serve.add_argument("--workers", type=int, default=1)

    commands.add_parser("worker", parents=[shared], help="only the background worker")
    token = commands.add_parser("token", parents=[shared], help="make an ingest token")
    token.add_argument("name")
    person = commands.add_parser("person", parents=[shared], help="make a sign-in, or give it a new password (read from standard input)")
    person.add_argument("name")
    person.add_argument("--role", choices=["reader", "responder", "administrator"], default="reader")

    load = commands.add_parser("load", parents=[shared], help="import telemetry files")
    load.add_argument("files", nargs="+", metavar="FILE")

    export = commands.add_parser("export", parents=[shared], help="write the records of a window to a file")
    export.add_argument("stream", choices=["spans", "logs", "points", "cells"])
    export.add_argument("file", metavar="FILE", help="- for standard output")
    export.add_argument("--from", dest="start", type=rfc3339, required=True, metavar="T")
    export.add_argument("--to", dest="end", type=rfc3339, required=True, metavar="T")
    export.add_argument("--format", choices=["parquet", "jsonl", "csv"], default="parquet")
    export.add_argument("--environment")
    export.add_argument("--service")
    export.add_argument("--containing", metavar="WORDS", help="only log records whose text has all these words")

    backup = commands.add_parser("backup", parents=[shared], help="write all that is stored to a file")
    backup.add_argument("file", metavar="FILE")
    restore = commands.add_parser("restore", parents=[shared], help="read a backup into a database that holds nothing yet")
    restore.add_argument("file", metavar="FILE")

    diagnose = commands.add_parser("diagnose", parents=[shared], help="find cause of a symptom")
    diagnose.add_argument("--service", required=True)
    diagnose.add_argument("--operation")
    diagnose.add_argument("--environment")
    diagnose.add_argument("--signal", required=True, choices=["latency", "errors", "throughput"])
    diagnose.add_argument("--from", dest="start", type=rfc3339, required=True, metavar="T")
    diagnose.add_argument("--to", dest="end", type=rfc3339, required=True, metavar="T")
    diagnose.add_argument("--reference-from", type=rfc3339, metavar="T")
    diagnose.add_argument("--reference-to", type=rfc3339, metavar="T")
    diagnose.add_argument("--json", action="store_true")

    detect = commands.add_parser(
        "detect", parents=[shared], help="find what departs from normal in the series of a CSV or Parquet file, or tell what the watch has found"
    )
    detect.add_argument("--from", dest="start", type=rfc3339, metavar="T", help="what the watch has found in what is stored")
    detect.add_argument("--to", dest="end", type=rfc3339, metavar="T")
    detect.add_argument("--environment", metavar="NAME")
    detect.add_argument("--file", metavar="SERIES", help="of anybody's; no database is needed")
    detect.add_argument("--time", metavar="COLUMN", help="dates, or numbers since 1970")
    detect.add_argument("--value", metavar="COLUMN")
    detect.add_argument("--by", metavar="COLUMN", help="a series for each of its values")
    detect.add_argument(
        "--kind", choices=["level", "rate", "latency", "share"], default="level", help="what the values are: latencies and rates vary by factors"
    )
    detect.add_argument("--budget", type=budget, default=1.0, metavar="N/week", help="false deviations that each series may have (1/week if not given)")
    detect.add_argument("--zone", default="UTC", metavar="NAME", help="whose days and weeks the series has, such as Europe/Berlin")
    detect.add_argument("--holidays", default="", metavar="CODE", help="whose public holidays are days off: a country or a part of it, such as DE or DE-BY")
    detect.add_argument("--json", action="store_true")

    drill = commands.add_parser("drill", parents=[shared], help="practise on faults of the demo world, and mark the answers against the truth")
    drill.add_argument("--fault", default="all", metavar="NAME", help="one kind, several with commas, or all")
    drill.add_argument("--seeds", default="1", metavar="N-M")
    drill.add_argument(
        "--world",
        choices=["skerry", "random", "other"],
        default="skerry",
        help="the demo's world, one drawn from each seed, or a second world that nothing is fitted on",
    )
    drill.add_argument("--habits", metavar="NAME", default="own", help="what the team sends of it all; --list names them")
    drill.add_argument(
        "--reference",
        type=float,
        metavar="DAYS",
        help="move the reference so many days before the focus (after it: a negative number); the answer should stay the same",
    )
    drill.add_argument("--stored", action="store_true", help="through a database, from the door to the answer, instead of straight into the heart")
    drill.add_argument("--fit", action="store_true", help="fit the diagnosis' weights on random worlds of these seeds")
    drill.add_argument("--jobs", type=int, default=0, metavar="N", help="drills at a time; as many as there are processors if not given")
    drill.add_argument("--json", action="store_true")
    drill.add_argument("--list", action="store_true", help="name the kinds of faults")
    drill.add_argument("--explain", metavar="FOLDER", help="write a page for each kind instead: what happened, and where it can be seen")
    drill.add_argument("--compare", nargs=2, metavar="FILE", help="two kept results beside each other")

    test = commands.add_parser("test", help="run the whole suite; extra words go to pytest")
    test.add_argument("words", nargs=argparse.REMAINDER)
    bench = commands.add_parser("bench", parents=[shared], help="measure, beside the plain alternatives; growth measures up to 30 million spans")
    bench.add_argument("words", nargs=argparse.REMAINDER)
    schema = commands.add_parser("schema", help="write the API's OpenAPI schema to a file")
    schema.add_argument("file")
    return parser


def main(words: list[str] | None = None) -> None:
    given = sys.argv[1:] if words is None else words
    arguments = _parser().parse_args(given if given and given[0] != "help" else ["--help"])
    from wirbel.cli import commands
    from wirbel.runtime.database import CannotStart, say

    try:
        status = getattr(commands, arguments.command)(arguments)
        sys.stdout.flush()
    except BrokenPipeError:
        # Whoever reads has read enough, as head does. What is left to be written at the end of the process goes nowhere.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        status = 128 + signal.SIGPIPE
    except (WirbelError, CannotStart) as error:
        say(str(error))
        status = WRONG_CALL if isinstance(error, InvalidQuestion) else FAILED
    except KeyboardInterrupt:
        status = 130
    sys.exit(status or 0)
