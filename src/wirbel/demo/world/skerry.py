"""Skerry Line, the world that people see: a ferry line between islands and its services. All of it is made up.

Numbers are sized so that at :data:`RATE` requests a second the stations are a third to a half busy.
"""

from __future__ import annotations

from wirbel.demo.world.load import load_at
from wirbel.demo.world.topology import Backend, Call, Client, Instance, Line, Operation, Service, Topology

SERVICES = {
    s.name: s
    for s in (
        Service("identity", "7.4.4", 4, workers=3, managed=False, memory_mb=110, pool=3),
        Service("fare-engine", "1.30.0", 3, workers=3, pool=3),
        Service("tide-feed", "0.9.8", 2, workers=24, retries=2, timeout_s=2.0, memory_mb=140),
        Service("manifest", "3.9.1", 3, workers=3, retries=1),
        Service("berth-planner", "4.7.3", 3, workers=8, retries=1, memory_mb=520, pool=8),
        Service("sailing-api", "6.1.3", 3, workers=12, retries=1, timeout_s=2.5),
        Service("pass-issuer", "5.0.2", 3, workers=4, managed=False, memory_mb=90),
        Service("quay-web", "9.14.0", 4, workers=16, retries=1, timeout_s=5.0, memory_mb=410),
        Service("gate-api", "2.2.0", 3, workers=4, retries=2, timeout_s=2.0, managed=False, memory_mb=120),
        Service("vessel-track", "2.0.1", 2, workers=2),
        Service("notice-fanout", "1.8.0", 2, workers=4, retries=2, timeout_s=4.0, breaker=True),
        Service("timetable-import", "3.3.0", 1, workers=4, memory_mb=700, pool=6),
    )
}


BACKENDS = {
    b.name: b
    for b in (
        Backend("berth-db", "postgresql", "berths", 6.0, 0.45, 8, host="islet-2"),
        Backend("manifest-db", "postgresql", "manifest", 4.0, 0.40, 2, host="islet-5"),
        Backend("identity-db", "postgresql", "identity", 2.0, 0.35, 2, host="islet-7"),
        Backend("timetable-cache", "redis", "timetable", 0.5, 0.30, 2, kind="cache", host="islet-4"),
        Backend("events", "events", "", 1.2, 0.30, 6, kind="broker", host="islet-6"),
        Backend("tides.example", "http", "", 40.0, 0.5, 16, kind="external", failing=0.004),
        Backend("sms.example", "http", "", 90.0, 0.5, 16, kind="external", failing=0.004),
    )
}

_BOOKING = "SELECT passenger, vehicle FROM booking WHERE sailing = $1"
_TAKE = "UPDATE deck_place SET taken_by = $1 WHERE place = $2"
_PLACES = "SELECT place, length_m FROM deck_place WHERE sailing = $1 AND taken_by IS NULL"
OPERATIONS = {
    o.key: o
    for o in (
        Operation(
            "identity",
            "POST",
            "/sessions/verify",
            (Call("identity-db", statement="SELECT person, expires FROM session WHERE id = $1"),),
            0.8,
            failing=0.0004,
            refused=0.01,
        ),
        Operation(
            "fare-engine",
            "POST",
            "/fares/quote",
            (
                Call("timetable-cache", statement="GET fare:{id}"),
                Call("berth-db", on_miss="timetable-cache", cost=6.0, statement="SELECT rate FROM fare_table WHERE route = $1"),
            ),
            5.0,
        ),
        Operation("tide-feed", "GET", "/tides/{harbour}", (Call("tides.example", share=0.2, work_ms=0.5),), 0.9, failing=0.0005),
        Operation("manifest", "GET", "/manifest/{sailing}", (Call("manifest-db", statement=_BOOKING),), 2.0),
        Operation(
            "manifest",
            "POST",
            "/manifest/{sailing}/boarded",
            (
                Call("manifest-db", statement="UPDATE booking SET boarded = now() WHERE pass = $1"),
                Call("events", work_ms=0.4, statement="notices", publishes=True, optional=True),
            ),
            2.0,
        ),
        Operation(
            "berth-planner",
            "POST",
            "/places/reserve",
            (
                Call("manifest GET /manifest/{sailing}", work_ms=4.0),
                Call("berth-db", work_ms=6.0, statement=_PLACES),
                Call("berth-db", work_ms=2.0, statement=_TAKE),
            ),
            8.0,
        ),
        Operation(
            "berth-planner", "GET", "/places/{sailing}", (Call("berth-db", work_ms=3.0, statement="SELECT count(*) FROM deck_place WHERE sailing = $1"),), 3.0
        ),
        Operation(
            "sailing-api",
            "GET",
            "/sailings",
            (
                Call("timetable-cache", work_ms=2.0, statement="GET timetable:{id}"),
                Call("fare-engine POST /fares/quote", work_ms=1.0),
                Call("tide-feed GET /tides/{harbour}", beside=True, share=0.6, optional=True),
                Call("berth-planner GET /places/{sailing}", work_ms=1.0, share=0.5),
            ),
            4.0,
        ),
        Operation("sailing-api", "POST", "/holds", (Call("berth-planner POST /places/reserve", work_ms=5.0),), 4.0),
        Operation(
            "pass-issuer",
            "POST",
            "/passes",
            (Call("identity POST /sessions/verify"), Call("manifest-db", work_ms=1.0, statement="INSERT INTO pass (booking, key) VALUES ($1, $2)")),
            14.0,
            spread=0.25,
        ),
        Operation("pass-issuer", "POST", "/passes/check", (Call("identity POST /sessions/verify"),), 6.0, spread=0.25, refused=0.02),
        Operation(
            "quay-web",
            "GET",
            "/sailings",
            (Call("identity POST /sessions/verify", share=0.6), Call("sailing-api GET /sailings", work_ms=3.0)),
            9.0,
            refused=0.004,
        ),
        Operation(
            "quay-web",
            "POST",
            "/reservations",
            (
                Call("identity POST /sessions/verify", work_ms=3.0),
                Call("sailing-api POST /holds", work_ms=4.0),
                Call("pass-issuer POST /passes", work_ms=4.0),
            ),
            12.0,
            failing=0.001,
            refused=0.015,
        ),
        Operation(
            "quay-web", "GET", "/passes/{id}", (Call("identity POST /sessions/verify"), Call("pass-issuer POST /passes", work_ms=2.0)), 6.0, refused=0.01
        ),
        Operation("quay-web", "POST", "/session", (Call("identity POST /sessions/verify", work_ms=2.0),), 4.0, refused=0.03),
        Operation(
            "gate-api",
            "POST",
            "/scans",
            (
                Call("identity POST /sessions/verify"),
                Call("pass-issuer POST /passes/check", work_ms=1.0),
                Call("manifest POST /manifest/{sailing}/boarded", work_ms=1.0),
            ),
            4.0,
            refused=0.01,
        ),
        Operation("vessel-track", "CONSUME", "positions", (Call("berth-planner GET /places/{sailing}", work_ms=2.0),), 3.0, source="events"),
        Operation("notice-fanout", "CONSUME", "notices", (Call("sms.example", work_ms=2.0),), 2.0, failing=0.004, source="events"),
        Operation(
            "timetable-import",
            "STEP",
            "fetch",
            (Call("berth-db", times=2, cost=3.0, statement="SELECT route, departs FROM sailing WHERE day = $1"),),
            60.0,
        ),
        Operation(
            "timetable-import",
            "STEP",
            "part",
            (
                Call("berth-db", times=5, work_ms=8.0, cost=2.0, statement="SELECT route, departs FROM sailing WHERE day = $1"),
                Call("timetable-cache", times=6, statement="SET timetable:{id}"),
            ),
            40.0,
            spread=0.8,  # parts are of unequal size; the largest holds up the rest
        ),
        Operation("timetable-import", "STEP", "publish", (Call("events", statement="timetables", publishes=True, optional=True),), 25.0),
        Operation(
            "timetable-import",
            "RUN",
            "timetable import",
            (
                Call("timetable-import STEP fetch", work_ms=15.0, inner=True),
                *(Call("timetable-import STEP part", beside=number > 0, inner=True) for number in range(6)),
                Call("timetable-import STEP publish", work_ms=30.0, inner=True),
            ),
            20.0,
        ),
    )
}

RATE = 220.0
"""Requests a second from outside, at mean load."""

ENTRIES = {
    "quay-web GET /sailings": 0.38,
    "quay-web POST /reservations": 0.18,
    "quay-web GET /passes/{id}": 0.10,
    "quay-web POST /session": 0.08,
    "gate-api POST /scans": 0.14,
    "vessel-track CONSUME positions": 0.07,
    "notice-fanout CONSUME notices": 0.04,
    "timetable-import RUN timetable import": 0.002,
}
"""What comes in from outside, and its share of all requests."""

HOSTS = {f"islet-{n}": ("north", "mid", "south")[n % 3] for n in range(1, 8)}


def _instances() -> dict[str, tuple[Instance, ...]]:
    found: dict[str, tuple[Instance, ...]] = {}
    for place, service in enumerate(SERVICES.values()):
        hosts = [f"islet-{1 + (place * 2 + n * 3) % 7}" for n in range(service.instances)]
        names = [f"{service.name}-{'abcdef'[n]}{(place * 7 + n * 3) % 10}" for n in range(service.instances)]
        found[service.name] = tuple(Instance(name, host, HOSTS[host]) for name, host in zip(names, hosts, strict=True))
    return found


LINES = (
    Line("quay-web", "INFO", "session {id} opened", 0.5),
    Line("quay-web", "INFO", "reservation {id} confirmed in {ms} ms", 0.4),
    Line("gate-api", "INFO", "gate {small} scanned pass {id}", 0.4),
    Line("gate-api", "WARN", "gate {small} clock is {ms} ms behind", 0.03),
    Line("sailing-api", "INFO", "{count} sailings found for route {small}", 0.3),
    Line("berth-planner", "INFO", "place {count} on deck {small} held", 0.25),
    Line("berth-planner", "WARN", "hold {id} expired without payment", 0.06),
    Line("manifest", "INFO", "manifest of sailing {id} has {count} passengers", 0.2),
    Line("fare-engine", "DEBUG", "quote {id}: {count} rules applied", 0.3),
    Line("pass-issuer", "INFO", "pass {id} signed", 0.3),
    Line("identity", "INFO", "device {id} verified", 0.5),
    Line("identity", "WARN", "device {id} sent an old token", 0.1),
    Line("tide-feed", "INFO", "harbour {small}: level read, {ms} ms", 0.15),
    Line("vessel-track", "INFO", "vessel {small} at {count}, {count}", 0.4),
    Line("notice-fanout", "INFO", "notice {id} sent", 0.15),
    Line("notice-fanout", "ERROR", "number {id} does not exist", 0.02),
    Line("timetable-import", "INFO", "part {small}: {count} departures", 0.02),
)

SKERRY = Topology(
    name="skerry",
    services=SERVICES,
    backends=BACKENDS,
    operations=OPERATIONS,
    entries=ENTRIES,
    rate=RATE,
    recorded=RATE / 90,
    load=load_at,
    hosts=HOSTS,
    instances=_instances(),
    clients={"quay-web": Client("app", ("7.3", "7.4", "web"), "skerry-app", bot="gullbot/0.3"), "gate-api": Client("device")},
    lines=LINES,
    hit_rate={"timetable-cache": 0.92},
    story={
        "bad-deploy": (_PLACES,),
        "bad-canary": ("sailing-api", "berth-planner", "pass-issuer"),
        "index-dropped": (_BOOKING,),
        "lock-contention": (_TAKE,),
        "noisy-neighbour": ("islet-1", "islet-3"),
        "disk-full": ("islet-5",),
        "memory-leak": ("berth-planner", "sailing-api"),
        "pool-too-small": ("berth-planner",),
        "leaked-connections": ("berth-planner", "pass-issuer"),
        "expired-key": ("pass-issuer",),
        "flag": ("sailing-api GET /sailings",),
        "bot-flood": ("quay-web GET /passes/{id}",),
        "nothing-wrong": ("identity", "fare-engine", "manifest"),
    },
)
