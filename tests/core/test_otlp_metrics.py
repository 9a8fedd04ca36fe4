from __future__ import annotations

import json
import math
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import Metric

from tests.builders import NOW, any_value
from wirbel.core.errors import MalformedTelemetry
from wirbel.core.signals import otlp, points
from wirbel.core.signals.attributes import plain_dict, plain_value

MINUTE = 60 * 10**9


def metric(kind: str, name: str = "queue.length", unit: str = "{item}", temporality: int | None = None, **point: Any) -> Metric:
    """One metric with one data point, its fields as given."""
    made = Metric(name=name, unit=unit)
    holder = getattr(made, kind)
    if temporality is not None:
        holder.aggregation_temporality = temporality
    attributes = point.pop("attributes", {})
    sides = {side: point.pop(side) for side in ("positive", "negative") if side in point}
    one = holder.data_points.add(**{"time_unix_nano": NOW, **point})
    for side, (offset, counts) in sides.items():
        getattr(one, side).offset = offset
        getattr(one, side).bucket_counts.extend(counts)
    for key, value in attributes.items():
        one.attributes.add(key=key, value=any_value(value))
    return made


def request(*metrics: Metric, resource: dict[str, Any] | None = None) -> bytes:
    made = ExportMetricsServiceRequest()
    holder = made.resource_metrics.add()
    for key, value in (resource or {"service.name": "shop", "host.name": "islet", "process.pid": 7}).items():
        holder.resource.attributes.add(key=key, value=any_value(value))
    holder.scope_metrics.add(metrics=metrics).scope.name = "meter"
    return made.SerializeToString()


def decode(*metrics: Metric, **more: Any) -> otlp.Decoded:
    return otlp.metrics.decode([request(*metrics, **more)], NOW)


def in_order(samples: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """So that lists can be compared; a sample's labels have no order."""
    return sorted(samples, key=lambda sample: json.dumps(sample, sort_keys=True))


def plain_loop(body: bytes) -> list[dict[str, Any]]:
    """The slow, obvious way, for what the fast decoder is held against."""
    found = []
    for resource in ExportMetricsServiceRequest.FromString(body).resource_metrics:
        for scope in resource.scope_metrics:
            for one in scope.metrics:
                kind = one.WhichOneof("data")
                for point in getattr(one, kind).data_points if kind else []:
                    value = getattr(point, point.WhichOneof("value")) if kind in ("gauge", "sum") and point.WhichOneof("value") else None
                    found.append(
                        {
                            "metric": one.name,
                            "unit": one.unit or None,
                            "kind": kind,
                            "time": point.time_unix_nano,
                            "value": None if value is None else float(value),
                            "labels": {pair.key: plain_value(pair.value) for pair in point.attributes},
                        }
                    )
    return in_order(found)


LABELS = st.dictionaries(st.sampled_from(["pool", "state", "n", "ünicode"]), st.one_of(st.text(max_size=5), st.integers(-9, 9), st.booleans()), max_size=3)
NUMBERS = st.one_of(st.floats(-1e9, 1e9), st.integers(-(10**9), 10**9))


@settings(max_examples=100, deadline=None)
@given(st.lists(st.tuples(st.sampled_from(["gauge", "sum"]), st.text(min_size=1, max_size=6), NUMBERS, LABELS, st.integers(0, 10**9)), min_size=1, max_size=8))
def test_the_fast_decoder_agrees_with_a_plain_loop(rows: list[tuple[str, str, float, dict[str, Any], int]]) -> None:
    made = []
    for kind, name, value, labels, ago in rows:
        field = {"as_int": value} if isinstance(value, int) else {"as_double": value}
        made.append(metric(kind, name, temporality=2 if kind == "sum" else None, attributes=labels, time_unix_nano=NOW - ago, **field))
    body = request(*made)
    decoded = otlp.metrics.decode([body], NOW)
    assert decoded.refused == [{}]
    got = [
        {name: row[name] for name in ("metric", "unit", "time", "value")} | {"kind": points.KIND_NAMES[row["kind"]], "labels": plain_dict(row["labels"])}
        for row in decoded.table.to_pylist()
    ]
    key = ("metric", "unit", "kind", "time", "value", "labels")
    assert in_order([{k: row[k] for k in key} for row in got]) == plain_loop(body)


def test_what_is_the_resources_and_what_is_the_series() -> None:
    [row] = decode(metric("gauge", as_int=3, attributes={"pool": "a", "n": 2})).table.to_pylist()
    assert (row["service"], row["host"], row["environment"], row["unit"], row["value"]) == ("shop", "islet", "default", "{item}", 3.0)
    assert plain_dict(row["resource"]) == {"process.pid": 7}
    assert plain_dict(row["labels"]) == {"pool": "a", "n": 2}


def test_older_attribute_names_are_read_as_the_current_ones() -> None:
    one = metric("histogram", "http.server.duration", temporality=2, count=0, attributes={"http.method": "GET", "http.status_code": 200})
    [row] = decode(one).table.to_pylist()
    assert plain_dict(row["labels"]) == {"http.request.method": "GET", "http.response.status_code": 200}


def test_each_kind_keeps_what_it_says() -> None:
    table = decode(
        metric("sum", temporality=2, as_double=7.5, start_time_unix_nano=NOW - MINUTE),
        metric("histogram", temporality=1, count=6, sum=12.5, min=0.5, max=5.0, explicit_bounds=[1, 2.5], bucket_counts=[1, 2, 3]),
        metric("exponential_histogram", temporality=2, count=7, sum=9.0, scale=3, zero_count=1, positive=(-4, [1, 0, 2]), negative=(2, [3])),
        metric("summary", count=4, sum=8.0, quantile_values=[{"quantile": 0.5, "value": 1.5}, {"quantile": 1.0, "value": 4.0}]),
    ).table
    by_kind = {row["kind"]: row for row in table.to_pylist()}
    assert (by_kind[points.SUM]["value"], by_kind[points.SUM]["start"]) == (7.5, NOW - MINUTE)
    explicit = by_kind[points.HISTOGRAM]
    assert (explicit["count"], explicit["total"], explicit["low"], explicit["high"]) == (6, 12.5, 0.5, 5.0)
    assert (explicit["bounds"], explicit["buckets"], explicit["temporality"]) == ([1.0, 2.5], [1, 2, 3], points.DELTA)
    exponential = by_kind[points.EXPONENTIAL]
    assert (exponential["scale"], exponential["zeros"], exponential["offset"], exponential["buckets"]) == (3, 1, -4, [1, 0, 2])
    assert (exponential["negative_offset"], exponential["negative_buckets"]) == (2, [3])
    assert by_kind[points.SUMMARY]["quantiles"] == [{"share": 0.5, "value": 1.5}, {"share": 1.0, "value": 4.0}]


def test_a_sample_that_says_there_is_no_value_is_kept_as_missing() -> None:
    """Flag "no recorded value" of the data model: a series that ended, not a zero."""
    [row] = decode(metric("gauge", flags=1)).table.to_pylist()
    assert row["value"] is None


def test_exemplars_lead_to_traces() -> None:
    one = metric("histogram", temporality=2, count=0)
    one.histogram.data_points[0].exemplars.add(time_unix_nano=NOW - 5, as_double=0.25, trace_id=bytes(range(16)), span_id=bytes(range(8)))
    [row] = decode(one).table.to_pylist()
    assert row["exemplars"] == [{"at": NOW - 5, "value": 0.25, "trace_id": bytes(range(16)), "span_id": bytes(range(8))}]


@pytest.mark.parametrize(
    ("bad", "reason"),
    [
        (metric("gauge", as_double=math.nan), "not a finite number"),
        (metric("sum", temporality=2, as_double=math.inf), "not a finite number"),
        (metric("gauge"), "no value"),
        (metric("gauge", name="", as_int=1), "no name"),
        (metric("gauge", as_int=1, time_unix_nano=0), "nanoseconds since 1970"),
        (metric("gauge", as_int=1, time_unix_nano=NOW + 3600 * 10**9), "future"),
        (metric("sum", as_int=1), "aggregation_temporality"),
        (metric("sum", temporality=2, as_int=1, start_time_unix_nano=NOW + 1), "starts after"),
        (metric("histogram", temporality=2, count=5, explicit_bounds=[1], bucket_counts=[1, 2]), "do not add up"),
        (metric("histogram", temporality=2, count=3, explicit_bounds=[1, 2], bucket_counts=[1, 2]), "one entry more"),
        (metric("histogram", temporality=2, count=3, explicit_bounds=[2, 1], bucket_counts=[1, 1, 1]), "must rise"),
        (metric("exponential_histogram", temporality=2, count=1, scale=21, zero_count=1), "scale"),
        (metric("exponential_histogram", temporality=2, count=9, scale=1, positive=(0, [1])), "do not add up"),
    ],
)
def test_a_bad_point_is_refused_and_the_others_are_kept(bad: Metric, reason: str) -> None:
    decoded = decode(metric("gauge", as_int=1), bad, metric("gauge", "other", as_int=2))
    assert decoded.table["value"].to_pylist() == [1.0, 2.0]
    assert decoded.refused_count() == 1
    assert reason in decoded.message()


def test_several_requests_are_told_apart() -> None:
    good, bad = request(metric("gauge", as_int=1)), request(metric("gauge", as_int=2), metric("gauge"))
    decoded = otlp.metrics.decode([good, bad, good], NOW)
    assert sorted(decoded.body.tolist()) == [0, 1, 2]
    assert [decoded.refused_count(n) for n in range(3)] == [0, 1, 0]


def test_what_is_no_request_is_malformed_and_an_empty_one_is_not() -> None:
    with pytest.raises(MalformedTelemetry):
        otlp.metrics.decode([b"\xff\xff\xff"], NOW)
    assert otlp.metrics.decode([b""], NOW).table.num_rows == 0
    assert decode(Metric(name="nothing")).table.num_rows == 0


def test_encoding_and_decoding_again_keeps_everything() -> None:
    first = decode(
        metric("gauge", as_double=1.5, attributes={"pool": "a"}),
        metric("gauge", "gone", flags=1),
        metric("sum", temporality=1, as_double=2.0, start_time_unix_nano=NOW - MINUTE),
        metric("histogram", temporality=2, count=3, sum=4.0, explicit_bounds=[1, 2], bucket_counts=[1, 1, 1]),
        metric("exponential_histogram", temporality=2, count=3, scale=-2, zero_count=1, positive=(3, [2])),
        metric("summary", count=2, sum=3.0, quantile_values=[{"quantile": 0.5, "value": 1.0}]),
    ).table
    again = otlp.metrics.decode([otlp.metrics.encode(first)], NOW).table
    assert again.sort_by("metric").to_pylist() == first.sort_by("metric").to_pylist()


# The example of the OTLP specification's repository (opentelemetry-proto, examples/metrics.json), from memory.
EXAMPLE = {
    "resourceMetrics": [
        {
            "resource": {"attributes": [{"key": "service.name", "value": {"stringValue": "my.service"}}]},
            "scopeMetrics": [
                {
                    "scope": {"name": "my.library", "version": "1.0.0"},
                    "metrics": [
                        {
                            "name": "my.counter",
                            "unit": "1",
                            "sum": {
                                "aggregationTemporality": 1,
                                "isMonotonic": True,
                                "dataPoints": [{"asDouble": 5, "startTimeUnixNano": "1544712660300000000", "timeUnixNano": "1544712660300000000"}],
                            },
                        },
                        {"name": "my.gauge", "unit": "1", "gauge": {"dataPoints": [{"asDouble": 10, "timeUnixNano": "1544712660300000000"}]}},
                        {
                            "name": "my.histogram",
                            "unit": "1",
                            "histogram": {
                                "aggregationTemporality": 1,
                                "dataPoints": [
                                    {
                                        "startTimeUnixNano": "1544712660300000000",
                                        "timeUnixNano": "1544712660300000000",
                                        "count": "2",
                                        "sum": 2,
                                        "bucketCounts": ["1", "1"],
                                        "explicitBounds": [1],
                                        "min": 0,
                                        "max": 2,
                                        "exemplars": [
                                            {
                                                "timeUnixNano": "1544712660300000000",
                                                "asDouble": 2,
                                                "traceId": "5B8EFFF798038103D269B633813FC60C",
                                                "spanId": "EEE19B7EC3C1B174",
                                            }
                                        ],
                                    }
                                ],
                            },
                        },
                    ],
                }
            ],
        }
    ]
}


def test_the_example_of_the_otlp_json_mapping() -> None:
    rows = otlp.metrics.decode([otlp.json_to_protobuf(otlp.METRICS, json.dumps(EXAMPLE).encode())], NOW).table.to_pylist()
    by_name = {row["metric"]: row for row in rows}
    assert (by_name["my.counter"]["value"], by_name["my.counter"]["monotonic"], by_name["my.counter"]["temporality"]) == (5.0, True, points.DELTA)
    assert by_name["my.gauge"]["value"] == 10.0
    assert by_name["my.histogram"]["buckets"] == [1, 1]
    assert by_name["my.histogram"]["exemplars"][0]["trace_id"].hex() == "5b8efff798038103d269b633813fc60c"


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 5), st.sampled_from("abc")), min_size=1, max_size=20), st.integers(0, 20))
def test_combining_sorts_by_series_and_time_and_keeps_each_sample_once(samples: list[tuple[int, int, str]], cut: int) -> None:
    whole = decode(*[metric("gauge", as_int=value, time_unix_nano=NOW - at, attributes={"pool": pool}) for at, value, pool in samples]).table
    combined = points.combine([whole.slice(0, cut), whole.slice(cut)])
    rows = [(row["labels"], row["time"]) for row in combined.to_pylist()]
    assert rows == sorted(set(rows))
    assert set(rows) == {(f'{{"pool": "{pool}"}}', NOW - at) for at, _, pool in samples}
    assert points.combine([combined, whole]).equals(combined)


def test_nothing_combined_is_an_empty_table() -> None:
    assert points.combine([]).schema == points.POINT_SCHEMA
    assert isinstance(points.combine([points.POINT_SCHEMA.empty_table()]), pa.Table)


def old_duration(**more: Any) -> Metric:
    """As stock instrumentation of the older generation sends it: ms, and no http.route."""
    point = {"count": 3, "sum": 360.0, "min": 20.0, "max": 300.0, "explicit_bounds": [50.0, 250.0], "bucket_counts": [1, 1, 1]}
    return metric("histogram", "http.server.duration", "ms", 2, **point, **more)


def test_an_older_metric_is_read_under_its_current_name_and_in_its_current_unit() -> None:
    row = decode(old_duration()).table.to_pylist()[0]
    assert (row["metric"], row["unit"]) == ("http.server.request.duration", "s")
    assert (row["total"], row["low"], row["high"]) == pytest.approx((0.36, 0.02, 0.3))
    assert row["bounds"] == pytest.approx([0.05, 0.25])
    assert row["buckets"] == [1, 1, 1]


def test_a_sender_of_both_generations_is_not_counted_twice() -> None:
    """Instrumentation in its mode "dup": both names from one process; another process of the fleet sends the older name only."""
    new = metric("histogram", "http.server.request.duration", "s", 2, count=3, sum=0.36, explicit_bounds=[0.05], bucket_counts=[1, 2])
    both = {row["metric"]: row for row in decode(old_duration(), new).table.to_pylist()}
    assert set(both) == {"http.server.duration", "http.server.request.duration"}
    assert (both["http.server.duration"]["unit"], both["http.server.duration"]["total"]) == ("ms", 360.0)
    fleet = otlp.metrics.decode([request(old_duration(), new), request(old_duration(), resource={"service.name": "older"})], NOW).table
    named = [(row["service"], row["metric"]) for row in fleet.to_pylist()]
    assert sorted(named) == [("older", "http.server.request.duration"), ("shop", "http.server.duration"), ("shop", "http.server.request.duration")]
