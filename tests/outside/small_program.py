"""A small real program under stock instrumentation: a web service that asks another and a database, and logs.

Run: small_program.py NAME PORT [ADDRESS OF THE OTHER SERVICE]; where to send comes from OTEL_* variables.
"""

from __future__ import annotations

import logging
import os
import signal
import sys

import flask
import psycopg
import requests
from opentelemetry import metrics, trace
from opentelemetry._logs import set_logger_provider
from opentelemetry.exporter.otlp.proto.http._log_exporter import OTLPLogExporter
from opentelemetry.exporter.otlp.proto.http.metric_exporter import OTLPMetricExporter
from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
from opentelemetry.instrumentation.flask import FlaskInstrumentor
from opentelemetry.instrumentation.logging.handler import LoggingHandler
from opentelemetry.instrumentation.psycopg import PsycopgInstrumentor
from opentelemetry.instrumentation.requests import RequestsInstrumentor
from opentelemetry.instrumentation.system_metrics import SystemMetricsInstrumentor
from opentelemetry.sdk._logs import LoggerProvider
from opentelemetry.sdk._logs.export import BatchLogRecordProcessor
from opentelemetry.sdk.metrics import Histogram, MeterProvider
from opentelemetry.sdk.metrics.export import PeriodicExportingMetricReader
from opentelemetry.sdk.metrics.view import ExponentialBucketHistogramAggregation, View
from opentelemetry.sdk.resources import Resource
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import BatchSpanProcessor

log = logging.getLogger("harbour.office")


def send_as(name: str, metrics_every_ms: int = 400) -> None:
    resource = Resource.create({"service.name": name, "service.instance.id": f"{name}-{os.getpid()}", "host.name": "quay", "process.pid": os.getpid()})
    tracing = TracerProvider(resource=resource)
    tracing.add_span_processor(BatchSpanProcessor(OTLPSpanExporter(), schedule_delay_millis=200))
    trace.set_tracer_provider(tracing)
    fine = View(instrument_type=Histogram, instrument_name="harbour.*", aggregation=ExponentialBucketHistogramAggregation())
    reader = PeriodicExportingMetricReader(OTLPMetricExporter(), export_interval_millis=metrics_every_ms)
    metrics.set_meter_provider(MeterProvider(resource=resource, metric_readers=[reader], views=[fine]))
    logging_to = LoggerProvider(resource=resource)
    logging_to.add_log_record_processor(BatchLogRecordProcessor(OTLPLogExporter(), schedule_delay_millis=200))
    set_logger_provider(logging_to)
    logging.getLogger().addHandler(LoggingHandler(logger_provider=logging_to))
    logging.getLogger().setLevel(logging.INFO)
    logging.getLogger("werkzeug").setLevel(logging.ERROR)


def application(other: str | None) -> flask.Flask:
    app = flask.Flask("harbour")
    FlaskInstrumentor().instrument_app(app)
    PsycopgInstrumentor().instrument()
    RequestsInstrumentor().instrument()
    SystemMetricsInstrumentor(config={"process.cpu.time": ["user", "system"], "process.memory.usage": None}).instrument()
    meter = metrics.get_meter("harbour")
    orders = meter.create_counter("harbour.orders", "{order}")
    size = meter.create_histogram("harbour.order.size", "t")

    @app.get("/ready")
    def ready() -> str:
        return "yes"

    @app.get("/orders/<int:number>")
    def order(number: int) -> str:
        if other:
            answer = requests.get(f"{other}/berths/{number}", timeout=5)
            orders.add(1, {"outcome": "done" if answer.ok else "failed"})
            size.record(1.5 * (number % 7 + 1), {"kind": "timber"})
            log.info("order %s answered with %s", number, answer.status_code)
        return "ordered"

    @app.get("/berths/<int:number>")
    def berth(number: int) -> str:
        with psycopg.connect(os.environ["SMALL_DATABASE"]) as connection:
            found = connection.execute("SELECT relname FROM pg_class ORDER BY relname LIMIT %s", (number % 5 + 1,)).fetchall()
        if number == 13:
            try:
                raise LookupError("no berth for number 13")
            except LookupError:
                log.exception("berth %s is bewitched", number)
        return str(len(found))

    return app


if __name__ == "__main__":
    signal.signal(signal.SIGTERM, lambda *_: sys.exit())  # so that what is held is sent at exit
    send_as(sys.argv[1])
    application(sys.argv[3] if len(sys.argv) > 3 else None).run(port=int(sys.argv[2]), threaded=True)
