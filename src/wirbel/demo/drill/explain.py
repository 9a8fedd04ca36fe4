"""A page for a kind of fault that a person can read: what happened, how it was felt, and where the evidence lies."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, text
from wirbel.core.signals import logs, points, spans
from wirbel.demo import faults
from wirbel.demo.drill import scene
from wirbel.demo.making import Telemetry
from wirbel.demo.world.skerry import SKERRY
from wirbel.demo.world.topology import Topology

Floats = npt.NDArray[np.float64]
MINUTE_NS = 60 * 10**9
BEFORE_NS = 30 * MINUTE_NS
BARS = "▁▂▃▄▅▆▇█"
MOST = 12  # rows of a table
KEPT = 1 / 30
SELDOM = 0.1  # times a second: less is no work worth a line
FEW, MANY = 50, 60  # requests that carry a value; values that a name has, of which more would be ids
SMALL = 0.02  # of a mean: less is no move, however steady the series


def write(kind: str, seed: int, folder: Path) -> Path:
    """The page of one drill, as Markdown."""
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / f"{kind}.md"
    file.write_text("\n".join(page(kind, seed)) + "\n")
    return file


def page(kind: str, seed: int, kept: float = KEPT) -> Iterator[str]:
    made = scene.make(SKERRY, kind, seed, history_ns=2 * BEFORE_NS, kept=kept)
    truth = made.fault.truth
    before = made.world.telemetry(truth.onset - BEFORE_NS, truth.onset)
    after = made.world.telemetry(truth.onset, made.asked)
    yield f"# {kind}"
    yield ""
    yield faults.FAULTS[kind].about
    yield ""
    if truth.entities:
        yield f"At fault: {', '.join(f'{k} `{n}`' for k, n in truth.entities)}; mechanism {' or '.join(truth.mechanisms)}."
    yield f"Drill {seed}: begins at {text.time(truth.onset)}; somebody asks at {text.time(made.asked)}. One bar is a minute; the fault begins at │."
    yield ""
    yield "## Changes announced"
    yield ""
    for change in sorted(made.world.happenings.changes, key=lambda change: str(change["at"])):
        held = " **← held responsible**" if change["id"] == truth.change else ""
        yield f"- {str(change['at'])[11:19]} {change['kind']} {change['service'] or ''}: {change['summary']}{held}"
    yield ""
    yield "## How it is felt"
    yield ""
    yield from _felt(SKERRY, before.spans, after.spans, truth.onset, made.asked)
    yield ""
    yield "## Where it can be seen: what moved most"
    yield ""
    yield from _calls(before.spans, after.spans, (BEFORE_NS / 1e9, (made.asked - truth.onset) / 1e9))
    yield ""
    yield from _values(before.spans, after.spans, (BEFORE_NS / 1e9, (made.asked - truth.onset) / 1e9))
    yield ""
    yield from _metrics(before, after)
    yield ""
    yield from _lines(before, after)


def bars(values: Floats, at: int) -> str:
    """Values as a row of bars, with a mark where the fault begins."""
    high = np.nanmax(values) if np.isfinite(values).any() else 0.0
    drawn = ["·" if not np.isfinite(v) else BARS[int(np.clip(v / high * 7, 0, 7))] if high > 0 else BARS[0] for v in values]
    return "".join(drawn[:at]) + "│" + "".join(drawn[at:])


def _felt(topology: Topology, before: pa.Table, after: pa.Table, onset: int, asked: int) -> Iterator[str]:
    yield "| operation | p95 before | after | failing before | after | p95 by minute |"
    yield "|---|---|---|---|---|---|"
    whole = spans.concat([before, after])
    for service in (*topology.fronts, *sorted({o.service for o in topology.operations.values() if o.source})):
        own = whole.filter(pc.and_(pc.equal(whole["service"], service), pc.is_in(whole["kind"], value_set=pa.array([spans.SERVER, spans.CONSUMER], pa.int8()))))
        for operation in sorted(own["operation"].unique().to_pylist()):
            part = own.filter(pc.equal(own["operation"], operation))
            start, took = arrow.numbers(part["start"]), arrow.numbers(part["duration"]) / 1e9
            failed = arrow.numbers(part["outcome"]) == spans.ERROR
            was = start < onset
            minute = (start - (onset - BEFORE_NS)) // MINUTE_NS
            by_minute = np.array(
                [np.quantile(took[minute == m], 0.95) if (minute == m).any() else np.nan for m in range(int((asked - onset + BEFORE_NS) // MINUTE_NS))]
            )
            yield f"| {service} {operation} | {_p95(took[was])} | {_p95(took[~was])} | {_share(failed[was])} | {_share(failed[~was])} | {bars(by_minute, BEFORE_NS // MINUTE_NS)} |"


def _p95(values: Floats) -> str:
    return text.seconds(float(np.quantile(values, 0.95))) if len(values) else "none"


def _share(failed: npt.NDArray[np.bool_]) -> str:
    return text.share(float(failed.mean())) if len(failed) else "none"


def _calls(before: pa.Table, after: pa.Table, seconds: tuple[float, float]) -> Iterator[str]:
    """Calls and own operations by how much their mean time, their number or their failures changed."""
    yield "| who | does | a second, before | after | mean before | after | failing before | after |"
    yield "|---|---|---|---|---|---|---|---|"
    tables = [_by_work(table, length) for table, length in zip((before, after), seconds, strict=True)]
    rows = []
    for key in tables[0]:
        (n0, t0, f0), (n1, t1, f1) = tables[0][key], tables[1].get(key, (0.0, np.nan, np.nan))
        score = abs(np.log(t1 / t0)) + abs(np.log(n1 / n0)) + 5 * abs(f1 - f0) if n1 else np.inf
        if max(n0, n1) > SELDOM:
            rows.append((score, key, n0, n1, t0, t1, f0, f1))
    for _, (service, does), n0, n1, t0, t1, f0, f1 in sorted(rows, reverse=True)[:MOST]:
        yield f"| {service} | {does} | {n0:.1f} | {n1:.1f} | {text.seconds(t0)} | {text.seconds(t1) if n1 else 'none'} | {text.share(f0)} | {text.share(f1) if n1 else 'none'} |"


def _values(before: pa.Table, after: pa.Table, seconds: tuple[float, float]) -> Iterator[str]:
    """Values that requests of a service carry, by how much more their number or their mean time changed than the service's own."""
    yield "| requests served by | with | a second, before | after | mean before | after |"
    yield "|---|---|---|---|---|---|"
    rows = []
    for service in sorted(set(before["service"].to_pylist())):
        parts = [table.filter(pc.and_(pc.equal(table["service"], service), pc.equal(table["kind"], spans.SERVER))) for table in (before, after)]
        if min(part.num_rows for part in parts) < 100:
            continue
        rate0, rate1, mean0, mean1 = _pace([], parts, seconds)
        for name in [
            "instance",
            *(n for n in parts[1].column_names if n.startswith("span.s:") and not n.startswith("span.s:code.") and service in SKERRY.clients),
        ]:
            found = pc.value_counts(parts[1][name].drop_null()).to_pylist()
            for value in [one["values"] for one in found if one["counts"] >= FEW][: MOST if len(found) <= MANY else 0]:
                n0, n1, t0, t1 = _pace([(name, value)], parts, seconds)
                moved = abs(np.log(n1 / max(n0, 0.01) / (rate1 / rate0))) + (abs(np.log(t1 / t0 / (mean1 / mean0))) if n0 else 0.0)
                rows.append((moved, service, f"{name.removeprefix('span.s:')} {value}", n0, n1, t0, t1))
    for _, service, value, n0, n1, t0, t1 in sorted(rows, reverse=True)[:MOST]:
        yield f"| {service} | {value} | {n0:.1f} | {n1:.1f} | {text.seconds(t0) if n0 else 'none'} | {text.seconds(t1)} |"


def _pace(only: list[tuple[str, str]], parts: list[pa.Table], seconds: tuple[float, float]) -> tuple[float, float, float, float]:
    """Requests a second and mean seconds, before and after, of those with all these values."""
    for name, value in only:
        parts = [part.filter(pc.equal(part[name], value)) if name in part.column_names else part.slice(0, 0) for part in parts]
    rates = [float(pc.sum(part["weight"]).as_py() or 0.0) / length for part, length in zip(parts, seconds, strict=True)]
    means = [float(pc.mean(part["duration"]).as_py() or 0.0) / 1e9 for part in parts]
    return rates[0], rates[1], means[0], means[1]


def _by_work(table: pa.Table, seconds: float) -> dict[tuple[str, str], tuple[float, float, float]]:
    does = pc.if_else(
        pc.is_valid(table["peer"]), pc.binary_join_element_wise(pa.scalar("asks "), table["peer"], pa.scalar(": "), table["operation"], ""), table["operation"]
    )
    columns = {
        "service": table["service"],
        "does": does,
        "weight": table["weight"],
        "took": table["duration"],
        "failed": pc.equal(table["outcome"], spans.ERROR),
    }
    found = pa.table(columns).group_by(["service", "does"]).aggregate([("weight", "sum"), ("took", "mean"), ("failed", "mean"), ("took", "count")])
    return {
        (row["service"], row["does"]): (row["weight_sum"] / seconds, row["took_mean"] / 1e9, row["failed_mean"])
        for row in found.to_pylist()
        if row["took_count"] >= 20
    }


def _metrics(before: Telemetry, after: Telemetry) -> Iterator[str]:
    """Of each metric the series whose mean moved most, in standard deviations, and how many others moved as far as half of that."""
    yield "| metric | of | and | before | after |"
    yield "|---|---|---|---|---|"
    held = [_gauges(part.points) for part in (before, after)]
    moved: dict[str, list[tuple[float, tuple[str, str, str]]]] = {}
    for key in held[0].keys() & held[1].keys():
        was, now = held[0][key], held[1][key]
        spread = float(np.sqrt((was.var() + now.var()) / 2)) + SMALL * abs(was.mean()) + 1e-12
        moved.setdefault(key[0], []).append((abs(now.mean() - was.mean()) / spread, key))
    for rows in sorted((sorted(rows, reverse=True) for rows in moved.values()), reverse=True)[:MOST]:
        score, (metric, who, labels) = rows[0]
        others = sum(other > score / 2 for other, _ in rows) - 1
        shown = "" if labels == "{}" else labels.replace("|", " ")
        was, now = (part[rows[0][1]].mean() for part in held)
        yield f"| {metric} {shown} | {who} | {f'{others} more' if others else ''} | {text.number(was)} | {text.number(now)} |"


def _gauges(table: pa.Table) -> dict[tuple[str, str, str], Floats]:
    plain = table.filter(pc.less_equal(table["kind"], points.SUM))
    found: dict[tuple[str, str, str], list[float]] = {}
    for row in plain.select(["metric", "instance", "labels", "value"]).to_pylist():
        found.setdefault((row["metric"], row["instance"], row["labels"]), []).append(row["value"])
    return {key: np.array(values) for key, values in found.items() if len(values) >= 5}


def _lines(before: Telemetry, after: Telemetry) -> Iterator[str]:
    """Log lines without their numbers: those that are new or came far more often."""
    yield "| lines a minute before | after | service | says |"
    yield "|---|---|---|---|"
    held = [_templates(part.logs) for part in (before, after)]
    rows = [(now / max(held[0].get(key, 0.0), 0.05), key, held[0].get(key, 0.0), now) for key, now in held[1].items() if now > 2 * held[0].get(key, 0.0) + 0.1]
    for _, (service, says), was, now in sorted(rows, reverse=True)[:MOST]:
        yield f"| {was:.1f} | {now:.1f} | {service} | {says} |"


def _templates(table: pa.Table) -> dict[tuple[str, str], float]:
    time = arrow.numbers(table["time"])
    minutes = max((time.max() - time.min()) / 60e9, 1.0)
    says = pc.replace_substring_regex(table["body"], r"[0-9]+", "#")
    loud = pc.greater_equal(table["severity"], logs.SEVERITY_OF_NAME["WARN"])
    found = pa.table({"service": table["service"], "says": says}).filter(loud).group_by(["service", "says"]).aggregate([("says", "count")])
    return {(row["service"], row["says"][:110]): row["says_count"] / minutes for row in found.to_pylist()}
