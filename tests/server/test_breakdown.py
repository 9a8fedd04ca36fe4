"""Requests split by an attribute, and metrics, on a live instance: recounted from what the same instance exports and from what was sent."""

from __future__ import annotations

import io
import time
import urllib.parse
from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl
import pytest
from opentelemetry.exporter.otlp.proto.http.metric_exporter import OTLPMetricExporter
from opentelemetry.sdk.metrics import MeterProvider
from opentelemetry.sdk.metrics.export import PeriodicExportingMetricReader
from opentelemetry.sdk.resources import Resource
from opentelemetry.sdk.trace import TracerProvider

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import api, ask, windows  # noqa: F401  fixtures
from wirbel.core import sketch


def exported(api: Api, start: str, end: str, stream: str = "spans") -> pl.DataFrame:  # noqa: F811
    """The records of a window as somebody else would read them."""
    query = urllib.parse.urlencode({"start": start, "end": end, "form": "parquet"})
    with api.opener.open(f"{api.instance.url}/api/export/{stream}?{query}", timeout=60) as answer:
        return pl.read_parquet(io.BytesIO(answer.read()))


@pytest.mark.parametrize(("by", "column"), [("operation", "operation"), ("service.version", "version"), ("http.route", "span.s:http.route")])
def test_a_split_is_what_a_recount_of_the_export_gives(api: Api, windows: dict[str, str], by: str, column: str) -> None:  # noqa: F811
    found = {row["value"]: row for row in ask(api, "/api/breakdown", by=by, service="berth-planner", **windows)["rows"]}
    usual = 0.0
    for window in ("reference", "focus"):
        spans = exported(api, windows[f"{window}_from"], windows[f"{window}_to"])
        served = spans.filter((pl.col("service") == "berth-planner") & (pl.col("kind").is_in([2, 5]) | pl.col("parent_id").is_null()))
        served = served.with_columns((pl.col("duration") / 1e9).alias("seconds"))
        counted = dict(served.group_by(column).agg(pl.len()).iter_rows())
        assert {value: row[window]["requests"] for value, row in found.items() if row[window]["requests"]} == counted
        if window == "reference":
            usual = served["seconds"].mean()
            means = dict(served.group_by(column).agg(pl.col("seconds").mean()).iter_rows())
        for value, row in found.items():
            mine = served.filter(pl.col(column) == value)["seconds"].to_numpy()
            if len(mine):
                true = np.quantile(mine, 0.95, method="inverted_cdf")
                assert row[window]["p95"] == pytest.approx(true, rel=1.01 * sketch.RELATIVE_ERROR)
            if len(mine) and window == "focus":
                stand_for = len(mine) * served["weight"].max()  # the demo records one request of so many
                assert row["more_seconds"] == pytest.approx((mine.mean() - means.get(value, usual)) * stand_for, rel=1e-6, abs=1e-9)


def test_log_rates_are_what_a_recount_of_the_export_gives(api: Api, windows: dict[str, str]) -> None:  # noqa: F811
    window = {"start": windows["focus_from"], "end": windows["focus_to"]}
    view = ask(api, "/api/services/quay-web/log-rates", **window)
    first = datetime.fromisoformat(view["start"])
    records = exported(api, first.isoformat(), window["end"], "logs").filter(pl.col("service") == "quay-web")
    assert view["step_s"] == 60
    assert len(records) > 50
    bounds = {"error": (17, 99), "warning": (13, 17), "lower": (0, 13)}
    minute = (records["time"].to_numpy() // 10**9 - int(first.timestamp())) // 60
    for level in view["levels"]:
        low, high = bounds[level["name"]]
        severity = records["severity"].fill_null(0).to_numpy()
        counted = np.bincount(minute[(severity >= low) & (severity < high)], minlength=len(level["values"]))
        assert [(value or 0) * 60 for value in level["values"][:-1]] == pytest.approx(counted[: len(level["values"]) - 1].tolist(), rel=1e-5)


def test_what_is_new_and_slow_comes_first(api: Api, windows: dict[str, str]) -> None:  # noqa: F811
    rows = ask(api, "/api/breakdown", by="service.version", service="berth-planner", **windows)["rows"]
    assert rows[0]["value"] == "4.8.0"
    assert rows[0]["reference"]["requests"] == 0
    assert rows[0]["more_seconds"] > 10


def test_requests_that_carry_a_value_are_listed_and_counted_alike(api: Api, windows: dict[str, str]) -> None:  # noqa: F811
    rows = ask(api, "/api/breakdown", by="http.route", service="quay-web", **windows)["rows"]
    for row in rows[:2]:
        pair = f"http.route={row['value']}"
        listed = ask(api, "/api/traces", start=windows["focus_from"], end=windows["focus_to"], service="quay-web", carrying=pair, most="5")
        assert listed["found"] == row["focus"]["requests"] > 0
        again = ask(api, "/api/breakdown", by="http.route", service="quay-web", carrying=pair, **windows)["rows"]
        assert [one["value"] for one in again] == [row["value"]]
    none = ask(api, "/api/traces", start=windows["focus_from"], end=windows["focus_to"], service="quay-web", carrying="http.route=/nowhere")
    assert (none["found"], none["hidden_by"]) == (0, ["http.route"])


def test_an_attribute_nobody_sends_has_one_row_without_it(api: Api, windows: dict[str, str]) -> None:  # noqa: F811
    rows = ask(api, "/api/breakdown", by="no.such.thing", service="quay-web", **windows)["rows"]
    assert [row["value"] for row in rows] == [None]


def test_an_id_splits_nothing_and_says_so(api: Api, windows: dict[str, str]) -> None:  # noqa: F811
    assert [row["value"] for row in ask(api, "/api/breakdown", by="trace_id", **windows)["rows"]] == [None]  # no text, so no attribute
    status, body = api.get("/api/breakdown?" + urllib.parse.urlencode({"by": "duration", **windows}))
    assert (status, "names single requests" in body["detail"]) == (400, True)
    status, body = api.get("/api/breakdown?" + urllib.parse.urlencode({"by": "operation", "carrying": "nonsense", **windows}))
    assert (status, "ATTRIBUTE=VALUE" in body["detail"]) == (400, True)


def test_what_was_seen_is_listed_with_the_share_that_carries_it(api: Api, instance: Instance) -> None:  # noqa: F811
    names = {row["name"]: row["share"] for row in ask(api, "/api/known/attributes", environment="production")}  # type: ignore[attr-defined, index]
    assert 0 < names["http.route"] < 1
    assert all(0 <= share <= 1 for share in names.values())
    hosts = ask(api, "/api/known/entities", kind="host", service="berth-planner")
    assert hosts
    assert all("berth-planner" in host["services"] for host in hosts)  # type: ignore[index]


def test_metrics_of_the_stock_sdk_can_be_read(api: Api, instance: Instance) -> None:  # noqa: F811
    """Counters as rates, histograms as percentiles between the bounds of their buckets, gauges as means."""
    exporter = OTLPMetricExporter(f"{instance.url}/v1/metrics", headers={"Authorization": f"Bearer {instance.token}"})
    reader = PeriodicExportingMetricReader(exporter, export_interval_millis=10**9)
    provider = MeterProvider([reader], resource=Resource({"service.name": "kiosk", "service.instance.id": "k1"}), shutdown_on_exit=False)
    meter = provider.get_meter("m")
    sold, took, waiting = meter.create_counter("tickets.sold"), meter.create_histogram("sale.duration", unit="s"), meter.create_up_down_counter("queue")
    sold.add(1000, {"gate": "a"})
    took.record(9.0)
    waiting.add(3, {"gate": "a"})
    assert provider.force_flush()
    sold.add(120, {"gate": "a"})
    sold.add(60, {"gate": "b"})
    tracer = TracerProvider(shutdown_on_exit=False).get_tracer("t")
    for seconds in (0.02, 0.03, 0.3, 0.4):
        with tracer.start_as_current_span("sale") as span_of_sale:
            took.record(seconds)
    waiting.add(2, {"gate": "b"})
    assert provider.force_flush()
    provider.shutdown()

    now = datetime.now(UTC)
    span = {"start": (now - timedelta(minutes=30)).isoformat(), "end": (now + timedelta(minutes=1)).isoformat()}
    both = {f"{name}_{end}": span[{"from": "start", "to": "end"}[end]] for name in ("focus", "reference") for end in ("from", "to")}

    def series(metric: str, **more: str) -> dict[str, list[float]]:
        view = ask(api, "/api/services/kiosk/metric", metric=metric, **span, **both, **more)
        return {line["label"]: [value for value in line["values"] if value is not None] for line in view["lines"]}

    deadline = time.monotonic() + 20
    while not ask(api, "/api/known/metrics", service="kiosk"):  # the worker learns the names as it packs
        assert time.monotonic() < deadline
        time.sleep(0.1)
    known = {row["name"]: row["kind"] for row in ask(api, "/api/known/metrics", service="kiosk")}  # type: ignore[index]
    assert {"tickets.sold": "sum", "sale.duration": "histogram", "queue": "sum"}.items() <= known.items()
    assert sum(series("tickets.sold")[""]) * 60 == pytest.approx(120, rel=0.5)  # gate b's first sample says nothing of when it was counted
    assert set(series("tickets.sold", by="gate")) == {"a", "b"}
    lines = series("sale.duration")
    assert lines[""][-1] == pytest.approx(0.1875)
    view = ask(api, "/api/services/kiosk/metric", metric="sale.duration", **span, **both)
    linked = span_of_sale.get_span_context()
    assert (view["examples"][0]["value"], view["examples"][0]["trace"]) == (0.4, format(linked.trace_id, "032x"))
    if len(view["lines"]) > 1:  # the SDK's default bounds, 0, 5, 10 …, were made for milliseconds
        pytest.fail("percentiles were told from buckets of five seconds")
    assert "too wide" in view["note"]
    assert series("queue")[""][-1] == pytest.approx(5.0)
    assert series("queue", by="gate") == {"a": [3.0], "b": [2.0]} or series("queue", by="gate")["a"][-1] == 3.0
    status, body = api.get("/api/services/kiosk/metric?" + urllib.parse.urlencode({"metric": "no.such", **span, **both}))
    assert (status, "no.such" in body["detail"]) == (404, True)
