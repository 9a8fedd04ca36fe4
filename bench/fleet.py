"""Thousands of services at once: how long their health takes, how large it is, and how much memory it needs.

Run: ./wirbel bench fleet. It takes a quarter of an hour, half of which the watch needs to come to know a thousand services at the end.
"""

from __future__ import annotations

import json
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pyarrow as pa
from django.db import transaction

from bench import load, people
from wirbel.core import cells, sketch
from wirbel.core.cells import MINUTE_NS
from wirbel.core.signals import spans
from wirbel.store import blocks, partitions
from wirbel.store.models import Block, Relation, Service, Stream
from wirbel.watch.watching import Watching

HOUR_NS = 60 * MINUTE_NS
HOURS = 9  # the six that are shown, and what teaches the bands of the first
SIZES = (100, 1_000, 5_000)
WATCHED = 1_000
NOW = 1_772_000_000 * 10**9
A_MINUTE = 4.0  # requests of the middle service


def called_by(service: np.ndarray, which: np.ndarray, services: int) -> np.ndarray:
    """One of the two that a service calls; the first tenth of all is called by nobody: people come in there."""
    first = services // 10
    return first + (service * 7 + which) % (services - first)


def relations(services: int, start: int, end: int) -> list[Relation]:
    caller = np.repeat(np.arange(services), 2)
    pairs = zip(caller, called_by(caller, np.tile([0, 1], services), services), strict=True)
    named = {(f"service-{a:04d}", f"service-{b:04d}") for a, b in pairs}
    kinds = {"environment": "production", "subject_kind": "service", "verb": "calls", "object_kind": "service", "first_seen": start, "last_seen": end}
    return [Relation(subject=a, object=b, **kinds) for a, b in sorted(named)]


def cells_of_an_hour(start: int, rates: np.ndarray, rng: np.random.Generator) -> pa.Table:
    """Each request is served by one of two operations and makes one call to another service."""
    count = rng.poisson(rates * 60)
    service = np.repeat(np.arange(len(rates)), count)
    asked = called_by(service, rng.integers(0, 2, len(service)), len(rates))
    minute = start + rng.integers(0, 60, len(service)) * MINUTE_NS
    seconds = rng.lognormal(-3 + 0.3 * (service % 10), 0.5)
    names = pa.array([f"service-{number:04d}" for number in range(len(rates))])
    failed = rng.random(len(service)) < 0.01

    def rows(kind: int, took: np.ndarray) -> pa.Table:
        serves = kind == spans.SERVER
        n = len(service)
        named = pa.DictionaryArray.from_arrays(pa.array(service, pa.int32()), names).cast(pa.string())
        operations = pa.array(["GET /one", "GET /two"] if serves else ["GET"])
        operation = pa.DictionaryArray.from_arrays(pa.array(asked % 2 if serves else np.zeros(n, np.int64), pa.int32()), operations).cast(pa.string())
        peer = pa.nulls(n, pa.string()) if serves else pa.DictionaryArray.from_arrays(pa.array(asked, pa.int32()), names).cast(pa.string())
        bad = failed if serves else np.zeros(n, np.bool_)
        return pa.table(
            {
                "minute": minute,
                "environment": pa.repeat("production", n),
                "service": named,
                "version": pa.repeat("1.0", n),
                "instance": named,
                "host": pa.repeat("islet-1", n),
                "operation": operation,
                "kind": pa.array(np.full(n, kind), pa.int8()),
                "entry": np.full(n, serves),
                "outcome": pa.array(np.where(bad, spans.ERROR, 0), pa.int8()),
                "status_code": pa.array(np.where(bad, 500, 200), pa.int16()),
                "peer": peer,
                "peer_kind": pa.nulls(n, pa.string()) if serves else pa.repeat("service", n),
                "bucket": pa.array(sketch.bucket_of(took), pa.int16()),
                "rows": np.ones(n, np.int64),
                "count": np.ones(n),
                "total": took,
                "lowest": took,
                "highest": took,
            }
        )

    return cells.added_up(pa.concat_tables([rows(spans.SERVER, seconds), rows(spans.CLIENT, seconds * 0.4)]))


def fill(services: int, end: int, hours: int = HOURS) -> int:
    """Cells of so many services; returns how many."""
    rng = np.random.default_rng(services)
    rates = A_MINUTE * rng.lognormal(0, 1, services)
    total = 0
    for start in range(end - hours * HOUR_NS, end, HOUR_NS):
        table = cells_of_an_hour(start, rates, rng)
        total += table.num_rows
        with transaction.atomic():
            partitions.insert(blocks.with_summaries(Stream.CELLS, table, 1))
    Service.objects.bulk_create(
        [
            Service(environment="production", name=f"service-{n:04d}", streams=[Stream.SPANS], first_seen=end - hours * HOUR_NS, last_seen=end)
            for n in range(services)
        ],
        ignore_conflicts=True,
    )
    Relation.objects.bulk_create(relations(services, end - hours * HOUR_NS, end), ignore_conflicts=True)
    return total


def stamp(at: int) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(at // 10**9))


def asked(end: int, minutes: int = 0) -> dict[str, str]:
    """Of the six hours to the end; of another focus, by so many minutes."""
    middle = end - HOUR_NS // 2 - minutes * MINUTE_NS
    times = {"start": end - 6 * HOUR_NS, "end": end, "focus_from": middle, "focus_to": end, "reference_from": end - 2 * HOUR_NS, "reference_to": middle}
    return {"environment": "production", **{name: stamp(at) for name, at in times.items()}}


def ask(end: int) -> None:
    """Answers of a server that has just started: the first, those after it, and of six people who ask six different questions at once."""
    with load.serving() as url:
        looker = people.Looker(url)
        looker.ask("/api/session")
        before = people.memory_mb(people.server_processes())
        first, body = looker.ask("/api/overview", **asked(end))
        one = people.memory_mb(people.server_processes())
        again = []
        for _ in range(10):
            time.sleep(2)
            again.append(looker.ask("/api/overview", **asked(end))[0])
        # Of the two processes one has answered already: the median of four other windows is of a server that is warm.
        others = [looker.ask("/api/overview", **asked(end, n))[0] for n in range(7, 11)]
        names = [row["service"] for row in json.loads(body)["services"]]
        service, *others_service = (looker.ask(f"/api/services/{name}", **asked(end))[0] for name in names[:9])
        table = looker.ask("/api/services-table", **asked(end))[0]
        lookers = [people.Looker(url) for _ in range(6)]  # signed in here: a thread's connection to the database stays taken
        with ThreadPoolExecutor(6) as six:
            together = [*six.map(lambda who, n: who.ask("/api/overview", **asked(end, n))[0], lookers, range(1, 7))]
        six_mb = people.memory_mb(people.server_processes())
        shared = people.shared_mb(people.server_processes())
    print(
        f"      first {first:.2f} s, of other windows {np.median(others):.2f} s, after {np.median(again) * 1e3:.0f} ms (at most {max(again) * 1e3:.0f}), {len(body) / 1e3:.0f} kB; service {service:.2f} s, eight others {np.median(others_service):.2f} s, all in a table {table:.2f} s; "
        f"six other ones at once {max(together):.2f} s; memory of both processes {sum(before):.0f} MB before, {max(one):.0f} of the one that answered, {sum(six_mb):.0f} with six, of which {shared:.0f} are counted more than once",
        flush=True,
    )


def measure(services: int, end: int, watched: bool = False) -> None:
    Block.objects.all().delete()
    print(f"{services:5d} services{', all watched' if watched else ''}, {fill(services, end):,} cells", flush=True)
    if watched:
        Watching().look(end + 5 * MINUTE_NS)
    ask(end)


def main() -> None:
    end = NOW // HOUR_NS * HOUR_NS
    for services in SIZES:
        measure(services, end)
    measure(WATCHED, end, watched=True)
    Block.objects.all().delete()
