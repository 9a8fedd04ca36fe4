"""The services of the fleet. Run: program.py ROLE PORT; where the others are comes from FLEET_* variables, where to send from OTEL_*.

``gate`` is asked by users; it asks ``berths``, which reads a database through a pool of connections, and one of ``tariffs``, which
works and asks ``rates``, a provider of which nothing is known but what its callers see.
"""

from __future__ import annotations

import http.server
import logging
import os
import random
import signal
import sys
import threading
import time
from typing import ClassVar

import flask
import psycopg_pool
import requests

from tests.outside.small_program import send_as

log = logging.getLogger("fleet")
POOL = 8
WORDS = b"the tariff of a berth depends on its length, its depth and the hour of the tide " * 40
FAULTS: set[str] = set()
"""What is wrong in this process."""


def gate(app: flask.Flask) -> None:
    berths, tariffs, session = os.environ["FLEET_BERTHS"], os.environ["FLEET_TARIFFS"].split(), requests.Session()

    @app.get("/bookings/<int:number>")
    def booking(number: int) -> tuple[str, int]:
        if "old-app" in FAULTS and flask.request.headers.get("x-app-version") == "2.3.0":
            log.error("booking %s: field 'length' is missing", number)
            return "length is missing", 500
        found = session.get(f"{berths}/berths/{number}", timeout=20)
        if not found.ok:
            return "no berth", 502
        for _ in range(5 if "five-fold" in FAULTS else 1):
            price = session.get(f"{random.choice(tariffs)}/prices/{number}", timeout=20)
        return price.text, 200 if price.ok else 502


def pool_of(size: int) -> psycopg_pool.ConnectionPool:
    return psycopg_pool.ConnectionPool(os.environ["FLEET_DATABASE"], min_size=size, max_size=size, timeout=20, open=True)


def berths(app: flask.Flask) -> None:
    pools = [pool_of(POOL)]

    @app.get("/berths/<int:number>")
    def berth(number: int) -> str:
        with pools[-1].connection() as connection:
            found = connection.execute("SELECT id, ship FROM berth WHERE ship = %s LIMIT 30", (number,)).fetchall()
            if "one-by-one" in FAULTS:
                for identity, _ in found:
                    connection.execute("SELECT ship, length, pg_sleep(0.003) FROM berth WHERE id = %s", (identity,)).fetchone()
            connection.execute("SELECT pg_sleep(0.06)")  # a database that is not next door
            connection.execute("UPDATE call SET seen = seen + 1 WHERE id = %s", (number % 500,))
        return f"{len(found)}.{work(3000 if 'heavier' in FAULTS else 0)}"

    @app.post("/control/pool/<int:size>")
    def resize(size: int) -> str:
        pools.append(pool_of(size))
        pools.pop(0).close()
        return "done"


def tariffs(app: flask.Flask) -> None:
    rates, session = os.environ["FLEET_RATES"], requests.Session()

    @app.get("/prices/<int:number>")
    def price(number: int) -> tuple[str, int]:
        if "fails-here" in FAULTS:
            raise RuntimeError("the table of tariffs is not there")
        rate = session.get(f"{rates}/rates/{number % 20}", timeout=20)
        if "slow-here" in FAULTS:
            time.sleep(0.3)
        return (f"{rate.text}.{work(1000)}", 200) if rate.ok else ("no rate", 502)


def work(rounds: int) -> int:
    """Holds the interpreter."""
    total = 0
    for _ in range(rounds):
        total = (total * 31 + sum(WORDS)) % 997
    return total


def spin() -> None:
    while "spin" in FAULTS:
        sum(WORDS)


def control(app: flask.Flask) -> None:
    @app.get("/control/ready")
    def ready() -> str:
        return "yes"

    @app.post("/control/<fault>/<state>")
    def switch(fault: str, state: str) -> str:
        (FAULTS.add if state == "on" else FAULTS.discard)(fault)
        if fault == "spin" and state == "on":
            for _ in range(2):
                threading.Thread(target=spin, daemon=True).start()
        return "done"


class Rates(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    usual: ClassVar = {"takes": 0.002, "fails": 0.0}  # s, and the share of its answers that are errors

    def do_GET(self) -> None:
        time.sleep(self.usual["takes"])
        self._say(b"7", 503 if random.random() < self.usual["fails"] else 200)

    def do_POST(self) -> None:
        _, what, value = self.path.split("/")
        self.usual[what] = float(value)
        self._say(b"done")

    def _say(self, body: bytes, status: int = 200) -> None:
        self.send_response(status)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


def main() -> None:
    role, port = sys.argv[1], int(sys.argv[2])
    if role == "rates":
        http.server.ThreadingHTTPServer(("127.0.0.1", port), Rates).serve_forever()
    signal.signal(signal.SIGTERM, lambda *_: sys.exit())  # so that what is held is sent at exit
    send_as(role, metrics_every_ms=2000)
    app = flask.Flask(role)
    from opentelemetry.instrumentation.flask import FlaskInstrumentor
    from opentelemetry.instrumentation.psycopg import PsycopgInstrumentor
    from opentelemetry.instrumentation.requests import RequestsInstrumentor
    from opentelemetry.instrumentation.system_metrics import SystemMetricsInstrumentor

    FlaskInstrumentor().instrument_app(app, excluded_urls="control")
    PsycopgInstrumentor().instrument()
    RequestsInstrumentor().instrument()
    SystemMetricsInstrumentor().instrument()
    control(app)
    {"gate": gate, "berths": berths, "tariffs": tariffs}[role](app)
    app.run(port=port, threaded=True)


if __name__ == "__main__":
    main()
