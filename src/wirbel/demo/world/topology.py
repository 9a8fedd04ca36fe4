"""The demo world's shape: services, what they call, and where they run. All of it is made up.

Numbers are sized so that at :data:`RATE` requests a second the stations are a third to a half busy.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Call:
    """One step inside a request: own work before it, then a call (or several)."""

    to: str  # a service's "name operation", or a backend
    work_ms: float = 1.0  # median of own work before the call
    times: int = 1
    beside: bool = False  # runs beside the call before it
    share: float = 1.0  # of requests that make this call
    statement: str = ""  # of a database or cache
    cost: float = 1.0  # of the statement, in the backend's usual times
    on_miss: str = ""  # made only when this cache does not have what is wanted
    optional: bool = False  # the caller goes on without it when it fails
    inner: bool = False  # a step of the same service, with a span of its own and no network between
    publishes: bool = False  # hands a message to a broker


@dataclass(frozen=True)
class Operation:
    service: str
    method: str
    route: str
    calls: tuple[Call, ...] = ()
    work_ms: float = 2.0  # own work after the last call, median
    spread: float = 0.35  # sigma of the log of own work
    failing: float = 0.0005
    refused: float = 0.0

    @property
    def key(self) -> str:
        return f"{self.service} {self.method} {self.route}"

    @property
    def is_http(self) -> bool:
        return self.method not in ("CONSUME", "RUN", "STEP")


@dataclass(frozen=True)
class Service:
    """How a service runs. Its instances take requests into a pool of workers."""

    name: str
    version: str
    instances: int
    workers: int = 4  # requests that one instance handles at a time
    timeout_s: float = 3.0  # of its calls to other services
    retries: int = 0
    breaker: bool = False  # stops calling for a while what mostly fails
    managed: bool = True  # runs in a runtime that pauses to collect garbage
    memory_mb: float = 320.0
    pool: int = 4  # connections of an instance to each database


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


@dataclass(frozen=True)
class Backend:
    """Something that sends no spans of its own: it is seen by its callers only."""

    name: str
    system: str
    namespace: str
    median_ms: float
    spread: float
    servers: int  # queries that it works on at a time
    kind: str = "database"
    host: str = ""  # where it runs, if here
    failing: float = 0.00005


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

HIT_RATE = {"timetable-cache": 0.92}
"""Share of look-ups that a cache answers."""

SELECT_PLACES = "SELECT place, length_m FROM deck_place WHERE sailing = $1 AND taken_by IS NULL"
ONE_PLACE = "SELECT place, length_m FROM deck_place WHERE sailing = $1 AND place = $2"

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
        Operation("manifest", "GET", "/manifest/{sailing}", (Call("manifest-db", statement="SELECT passenger, vehicle FROM booking WHERE sailing = $1"),), 2.0),
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
                Call("berth-db", work_ms=6.0, statement=SELECT_PLACES),
                Call("berth-db", work_ms=2.0, statement="UPDATE deck_place SET taken_by = $1 WHERE place = $2"),
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
        Operation("vessel-track", "CONSUME", "positions", (Call("berth-planner GET /places/{sailing}", work_ms=2.0),), 3.0),
        Operation("notice-fanout", "CONSUME", "notices", (Call("sms.example", work_ms=2.0),), 2.0, failing=0.004),
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

FRONTS = ("quay-web", "gate-api")
"""Where users are: what is slow here hurts them."""

APP_VERSIONS = ("7.3", "7.4", "web")

HOSTS = {f"islet-{n}": ("north", "mid", "south")[n % 3] for n in range(1, 8)}
CORES = 4  # of each host
DISK_GB = 80.0
MEMORY_GB = 32.0


@dataclass(frozen=True)
class Instance:
    name: str
    host: str
    zone: str


def _instances() -> dict[str, list[Instance]]:
    found: dict[str, list[Instance]] = {}
    for place, service in enumerate(SERVICES.values()):
        hosts = [f"islet-{1 + (place * 2 + n * 3) % 7}" for n in range(service.instances)]
        found[service.name] = [Instance(f"{service.name}-{'abcdef'[n]}{(place * 7 + n * 3) % 10}", host, HOSTS[host]) for n, host in enumerate(hosts)]
    return found


INSTANCES = _instances()
