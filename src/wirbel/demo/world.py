"""The demo world's shape: services, what they call, and where they run. All of it is made up."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Call:
    """One step inside a request: own work before it, then a call (or several)."""

    to: str  # a service's "name operation", or a backend
    work_ms: float = 1.0  # median of own work before the call
    times: int = 1
    beside: bool = False  # runs beside the call before it
    share: float = 1.0  # of requests that make this call
    statement: str = ""  # of a database or cache


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


@dataclass(frozen=True)
class Backend:
    """Something that sends no spans of its own: it is seen by its callers only."""

    name: str
    system: str
    namespace: str
    median_ms: float
    spread: float
    servers: int  # workers of the M/M/c queue in it
    kind: str = "database"


BACKENDS = {
    b.name: b
    for b in (
        Backend("berth-db", "postgresql", "berths", 9.0, 0.45, 12),
        Backend("manifest-db", "postgresql", "manifest", 3.0, 0.40, 10),
        Backend("identity-db", "postgresql", "identity", 1.6, 0.35, 8),
        Backend("timetable-cache", "redis", "timetable", 0.5, 0.30, 4),
        Backend("tides.example", "http", "", 120.0, 0.5, 40, "external"),
        Backend("sms.example", "http", "", 90.0, 0.5, 40, "external"),
    )
}

_SELECT_PLACES = "SELECT place, length_m FROM deck_place WHERE sailing = $1 AND taken_by IS NULL"
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
            (Call("timetable-cache", statement="GET fare:{id}"), Call("berth-db", share=0.3, statement="SELECT rate FROM fare_table WHERE route = $1")),
            5.0,
        ),
        Operation("tide-feed", "GET", "/tides/{harbour}", (Call("tides.example", share=0.03, work_ms=0.5),), 0.9, failing=0.002),
        Operation("manifest", "GET", "/manifest/{sailing}", (Call("manifest-db", statement="SELECT passenger, vehicle FROM booking WHERE sailing = $1"),), 2.0),
        Operation(
            "manifest", "POST", "/manifest/{sailing}/boarded", (Call("manifest-db", statement="UPDATE booking SET boarded = now() WHERE pass = $1"),), 2.0
        ),
        Operation(
            "berth-planner",
            "POST",
            "/places/reserve",
            (
                Call("manifest GET /manifest/{sailing}", work_ms=4.0),
                Call("berth-db", work_ms=6.0, statement=_SELECT_PLACES),
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
                Call("tide-feed GET /tides/{harbour}", beside=True, share=0.6),
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
            "RUN",
            "nightly import",
            (
                Call("berth-db", times=6, statement="SELECT route, departs FROM sailing WHERE day = $1"),
                Call("timetable-cache", times=6, statement="SET timetable:{id}"),
            ),
            40.0,
        ),
    )
}

RATE = 4.0
"""Requests a second from outside, at mean load."""

ENTRIES = {
    "quay-web GET /sailings": 0.38,
    "quay-web POST /reservations": 0.18,
    "quay-web GET /passes/{id}": 0.10,
    "quay-web POST /session": 0.08,
    "gate-api POST /scans": 0.14,
    "vessel-track CONSUME positions": 0.07,
    "notice-fanout CONSUME notices": 0.04,
    "timetable-import RUN nightly import": 0.01,
}
"""What comes in from outside, and its share of all requests."""

HOSTS = {f"islet-{n}": ("north", "mid", "south")[n % 3] for n in range(1, 8)}


@dataclass(frozen=True)
class Instance:
    name: str
    host: str
    zone: str


def _instances() -> dict[str, list[Instance]]:
    found: dict[str, list[Instance]] = {}
    services = list(dict.fromkeys(o.service for o in OPERATIONS.values()))
    for place, service in enumerate(services):
        count = 4 if service in ("quay-web", "identity") else 1 if service == "timetable-import" else 2 + place % 2
        hosts = [f"islet-{1 + (place * 2 + n * 3) % 7}" for n in range(count)]
        found[service] = [Instance(f"{service}-{'abcdef'[n]}{(place * 7 + n * 3) % 10}", host, HOSTS[host]) for n, host in enumerate(hosts)]
    return found


INSTANCES = _instances()

VERSIONS = {
    "quay-web": "9.14.0",
    "gate-api": "2.2.0",
    "sailing-api": "6.1.3",
    "berth-planner": "4.7.3",
    "manifest": "3.9.1",
    "fare-engine": "1.30.0",
    "pass-issuer": "5.0.2",
    "identity": "7.4.4",
    "tide-feed": "0.9.8",
    "vessel-track": "2.0.1",
    "notice-fanout": "1.8.0",
    "timetable-import": "3.3.0",
}


@dataclass(frozen=True)
class Rollout:
    """A version that replaces another, instance after instance."""

    service: str
    version: str
    begins: int  # ns
    step_s: float = 20.0  # between instances


@dataclass(frozen=True)
class Fault:
    """What goes wrong: from a version on, one statement becomes many."""

    service: str
    version: str
    statement: str
    instead: str
    times: tuple[int, int]  # least and most calls in its place


@dataclass(frozen=True)
class History:
    """What happened in the world: rollouts, the fault, and changes to announce."""

    rollouts: tuple[Rollout, ...] = ()
    fault: Fault | None = None
    changes: tuple[dict[str, object], ...] = field(default=())


THE_FAULT = Fault("berth-planner", "4.8.0", _SELECT_PLACES, ONE_PLACE, (24, 42))
