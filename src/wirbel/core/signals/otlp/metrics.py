"""OTLP metric requests ⇄ Arrow tables of samples, all five kinds.

Source: OpenTelemetry metrics data model (temporality, exponential histograms, exemplars, the flag
"no recorded value").
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import Metric

from wirbel.core import arrow
from wirbel.core.signals import points
from wirbel.core.signals.attributes import any_value, as_json, plain_dict
from wirbel.core.signals.otlp import wire
from wirbel.core.signals.renames import renamed

NO_RECORDED_VALUE = 1  # flag of a data point
MAX_EXEMPLARS = 16  # of one data point
_KINDS = {
    points.GAUGE: "gauge",
    points.SUM: "sum",
    points.HISTOGRAM: "histogram",
    points.EXPONENTIAL: "exponential_histogram",
    points.SUMMARY: "summary",
}
Columns = dict[str, pa.Array]
Bools = npt.NDArray[np.bool_]


def decode(bodies: list[bytes], now_ns: int) -> wire.Decoded:
    """Decodes and checks protobuf metric requests; bad data points are left out and counted by reason.

    Raises MalformedTelemetry when a body cannot be read at all, and TooMuchTelemetry.
    """
    flat = wire.flatten(wire.METRICS, bodies)
    if not len(flat):
        return wire.nothing(points.POINT_SCHEMA, len(bodies))
    shared = _metric_columns(flat)
    parts = [_decode_kind(kind, flat, shared, len(bodies), now_ns) for kind in _KINDS]
    whole = wire.nothing(points.POINT_SCHEMA, len(bodies))
    for part in parts:
        for all_reasons, reasons in zip(whole.refused, part.refused, strict=True):
            all_reasons.update(reasons)
    filled = [part for part in parts if part.table.num_rows]
    if filled:
        whole.body = np.concatenate([part.body for part in filled])
        whole.table = renamed(pa.concat_tables([part.table for part in filled]), whole.body)
    return whole


def _metric_columns(flat: wire.Flat) -> Columns:
    """What is the same for all data points of a metric; one row a metric."""
    resource = wire.resource_columns(flat)
    # All but the promoted attributes, as they were sent for the resource.
    rest = as_json(flat.resources.field("resource").field("attributes"), without=frozenset(arrow.PROMOTED_RESOURCE))
    return {
        **resource.promoted,
        "resource": rest.take(flat.resource),
        "metric": flat.rows.field("name"),
        "unit": wire.text_or_null(flat.rows.field("unit")),
        "scope": flat.scope_names(),
    }


def _decode_kind(kind: int, flat: wire.Flat, shared: Columns, bodies: int, now_ns: int) -> wire.Decoded:
    holder = flat.rows.field(_KINDS[kind])
    listed = holder.field("data_points")
    rows = listed.flatten()
    if not len(rows):
        return wire.nothing(points.POINT_SCHEMA, bodies)
    metric = pc.list_parent_indices(listed)
    body = flat.body[metric.to_numpy(zero_copy_only=False)]
    wire.check_records(body)
    time, start = wire.times(rows.field("time_unix_nano")), wire.times(rows.field("start_time_unix_nano"))
    columns = {name: values.take(metric) for name, values in shared.items()}
    columns |= {
        "kind": pa.array(np.full(len(rows), kind, np.int8)),
        "labels": as_json(rows.field("attributes")),
        "time": pa.array(time),
        "start": pa.array(start, mask=start == 0),
    }
    temporality = np.zeros(len(rows), np.int8)
    if kind in (points.SUM, points.HISTOGRAM, points.EXPONENTIAL):
        temporality = arrow.numbers(holder.field("aggregation_temporality").fill_null(0).take(metric)).astype(np.int8)
    columns["temporality"] = pa.array(temporality)
    columns["monotonic"] = holder.field("is_monotonic").fill_null(False).take(metric) if kind == points.SUM else pa.array(np.zeros(len(rows), np.bool_))
    absent = (arrow.numbers(rows.field("flags")) & NO_RECORDED_VALUE) > 0
    rules: list[wire.Rule] = [
        (np.asarray(pc.equal(pc.binary_length(columns["metric"]), 0)), "a metric has no name"),
        (time < wire.EARLIEST_NS, "time_unix_nano must be nanoseconds since 1970"),
        (time > now_ns + wire.FUTURE_TOLERANCE_NS, "the data point is more than 10 minutes in the future; check the sender's clock"),
        ((start > time), "the data point starts after its own time"),
    ]
    if kind in (points.SUM, points.HISTOGRAM, points.EXPONENTIAL):
        rules.append(((temporality != points.DELTA) & (temporality != points.CUMULATIVE), "aggregation_temporality must be delta or cumulative"))
    read, more = {
        points.GAUGE: _number,
        points.SUM: _number,
        points.HISTOGRAM: _histogram,
        points.EXPONENTIAL: _exponential,
        points.SUMMARY: _summary,
    }[kind](rows, absent)
    if kind != points.SUMMARY:
        columns["exemplars"] = _exemplars(rows.field("exemplars"))
    return wire.keep_good(columns | read, points.POINT_SCHEMA, body, bodies, rules + more)


def _number(rows: pa.StructArray, absent: Bools) -> tuple[Columns, list[wire.Rule]]:
    value = pc.coalesce(rows.field("as_double"), rows.field("as_int").cast(pa.float64(), safe=False))
    given = value.fill_null(0.0).to_numpy(zero_copy_only=False)
    missing = value.is_null().to_numpy(zero_copy_only=False)
    rules = [(missing & ~absent, "a data point has no value"), (~np.isfinite(given) & ~absent, "a value is not a finite number")]
    return {"value": pa.array(given, mask=absent | missing)}, rules


def _counted(rows: pa.StructArray, absent: Bools) -> tuple[Columns, list[wire.Rule]]:
    """What histograms and summaries share."""
    count = np.minimum(arrow.numbers(rows.field("count")), np.uint64(2**63 - 1)).astype(np.int64)
    total = rows.field("sum")
    total = pc.if_else(pc.is_finite(total), total, None)
    return {"count": pa.array(count, mask=absent), "total": total}, []


def _finite(values: pa.Array) -> pa.Array:
    return pc.if_else(pc.is_finite(values), values, None)


def _histogram(rows: pa.StructArray, absent: Bools) -> tuple[Columns, list[wire.Rule]]:
    columns, rules = _counted(rows, absent)
    bounds, buckets = rows.field("explicit_bounds"), _counts(rows.field("bucket_counts"))
    bound_count, bucket_count = (pc.list_value_length(x).to_numpy(zero_copy_only=False) for x in (bounds, buckets))
    columns |= {"low": _finite(rows.field("min")), "high": _finite(rows.field("max")), "bounds": bounds, "buckets": buckets}
    summed = _sums(buckets)
    count = columns["count"].fill_null(0).to_numpy(zero_copy_only=False)
    return columns, [
        *rules,
        ((bucket_count != bound_count + 1) & ((bucket_count > 0) | (bound_count > 0)), "bucket_counts must have one entry more than explicit_bounds"),
        ((bucket_count > 0) & (summed != count) & ~absent, "bucket_counts do not add up to count"),
        (_falls(bounds), "explicit_bounds must rise"),
    ]


def _exponential(rows: pa.StructArray, absent: Bools) -> tuple[Columns, list[wire.Rule]]:
    columns, rules = _counted(rows, absent)
    scale = arrow.numbers(rows.field("scale")).astype(np.int64)
    positive, negative = rows.field("positive"), rows.field("negative")
    zeros = arrow.numbers(rows.field("zero_count")).astype(np.int64)
    above, below = (_counts(side.field("bucket_counts")) for side in (positive, negative))
    columns |= {
        "low": _finite(rows.field("min")),
        "high": _finite(rows.field("max")),
        "scale": pa.array(np.clip(scale, -128, 127).astype(np.int8)),
        "zeros": pa.array(zeros),
        "offset": positive.field("offset").fill_null(0).cast(pa.int32()),
        "buckets": above,
        "negative_offset": negative.field("offset").fill_null(0).cast(pa.int32()),
        "negative_buckets": below,
    }
    summed = _sums(above) + _sums(below) + zeros
    count = columns["count"].fill_null(0).to_numpy(zero_copy_only=False)
    return columns, [
        *rules,
        ((scale < -10) | (scale > 20), "scale must lie between -10 and 20"),
        ((summed != count) & ~absent, "zero_count and bucket_counts do not add up to count"),
    ]


def _summary(rows: pa.StructArray, absent: Bools) -> tuple[Columns, list[wire.Rule]]:
    columns, rules = _counted(rows, absent)
    given = rows.field("quantile_values")
    pairs = given.flatten()
    made = pa.StructArray.from_arrays([pairs.field("quantile"), _finite(pairs.field("value"))], fields=list(points.QUANTILE))
    columns["quantiles"] = pa.ListArray.from_arrays(given.offsets, made) if given.null_count == 0 else pa.nulls(len(rows), pa.list_(points.QUANTILE))
    return columns, rules


def _counts(listed: pa.ListArray) -> pa.Array:
    return listed.cast(pa.list_(pa.int64()), safe=False)


def _sums(listed: pa.Array) -> npt.NDArray[np.int64]:
    owner = pc.list_parent_indices(listed).to_numpy(zero_copy_only=False)
    return np.bincount(owner, weights=arrow.numbers(listed.flatten()).astype(float), minlength=len(listed)).astype(np.int64)


def _falls(bounds: pa.Array) -> Bools:
    """Rows whose bounds do not rise strictly, or are not numbers."""
    owner = pc.list_parent_indices(bounds).to_numpy(zero_copy_only=False)
    value = arrow.numbers(bounds.flatten())
    wrong = np.zeros(len(bounds), np.bool_)
    wrong[owner[~np.isfinite(value)]] = True
    step = np.flatnonzero((owner[1:] == owner[:-1]) & ~(value[1:] > value[:-1]))
    wrong[owner[step]] = True
    return wrong


def _exemplars(column: pa.ListArray) -> pa.Array:
    """Few data points have any, so only those are visited."""
    out: list[list[dict[str, Any]] | None] = [None] * len(column)
    for row in np.flatnonzero(column.value_lengths().fill_null(0).to_numpy(zero_copy_only=False)):
        found = []
        for one in column[int(row)].as_py()[:MAX_EXEMPLARS]:
            value = one["as_double"] if one["as_double"] is not None else one["as_int"]
            found.append(
                {
                    "at": min(one["time_unix_nano"], wire.LATEST_NS),
                    "value": value,
                    "trace_id": one["trace_id"] if len(one["trace_id"]) == 16 else None,
                    "span_id": one["span_id"] if len(one["span_id"]) == 8 else None,
                }
            )
        out[row] = found
    return pa.array(out, pa.list_(points.EXEMPLAR))


def encode(table: pa.Table) -> bytes:
    """Samples as one protobuf ExportMetricsServiceRequest; the reverse of :func:`decode`."""
    request = ExportMetricsServiceRequest()
    scopes: dict[str, Any] = {}
    metrics: dict[tuple[Any, ...], Metric] = {}
    for record in table.to_pylist():
        promoted = {key: record[column] for key, column in arrow.PROMOTED_RESOURCE.items() if record[column] is not None}
        if promoted.get("deployment.environment.name") == arrow.DEFAULT_ENVIRONMENT:
            del promoted["deployment.environment.name"]
        shared = promoted | plain_dict(record["resource"])
        scope = wire.scope_for(scopes, request.resource_metrics, "scope_metrics", shared, record["scope"])
        told = (id(scope), record["metric"], record["unit"], record["kind"], record["temporality"], record["monotonic"])
        if told not in metrics:
            metrics[told] = scope.metrics.add(name=record["metric"], unit=record["unit"] or "")
            holder = getattr(metrics[told], _KINDS[record["kind"]])
            holder.SetInParent()
            if record["kind"] in (points.SUM, points.HISTOGRAM, points.EXPONENTIAL):
                holder.aggregation_temporality = record["temporality"]
            if record["kind"] == points.SUM:
                holder.is_monotonic = record["monotonic"]
        _encode_point(getattr(metrics[told], _KINDS[record["kind"]]).data_points.add(), record)
    return request.SerializeToString()


def _encode_point(made: Any, record: dict[str, Any]) -> None:
    made.time_unix_nano, made.start_time_unix_nano = record["time"], record["start"] or 0
    for key, value in plain_dict(record["labels"]).items():
        made.attributes.add(key=key, value=any_value(value))
    kind = record["kind"]
    if record["value"] is None and record["count"] is None:
        made.flags = NO_RECORDED_VALUE
    elif kind in (points.GAUGE, points.SUM):
        made.as_double = record["value"]
    else:
        made.count = record["count"]
    if kind in (points.HISTOGRAM, points.EXPONENTIAL, points.SUMMARY) and record["total"] is not None:
        made.sum = record["total"]
    if kind in (points.HISTOGRAM, points.EXPONENTIAL):
        for name, column in (("min", "low"), ("max", "high")):
            if record[column] is not None:
                setattr(made, name, record[column])
    if kind == points.HISTOGRAM:
        made.explicit_bounds.extend(record["bounds"] or [])
        made.bucket_counts.extend(record["buckets"] or [])
    elif kind == points.EXPONENTIAL:
        made.scale, made.zero_count = record["scale"], record["zeros"]
        made.positive.offset, made.negative.offset = record["offset"], record["negative_offset"]
        made.positive.bucket_counts.extend(record["buckets"] or [])
        made.negative.bucket_counts.extend(record["negative_buckets"] or [])
    elif kind == points.SUMMARY:
        for pair in record["quantiles"] or []:
            made.quantile_values.add(quantile=pair["share"], value=pair["value"])
    for one in record["exemplars"] or []:
        made.exemplars.add(time_unix_nano=one["at"], as_double=one["value"], trace_id=one["trace_id"] or b"", span_id=one["span_id"] or b"")
