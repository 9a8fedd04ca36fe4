"""Faults inside databases."""

from __future__ import annotations

from wirbel.demo.faults.model import MINUTE, Case, Fault, Truth, a_front, change
from wirbel.demo.world.conditions import Form


def index_dropped(case: Case) -> Fault:
    """A migration drops an index that a query needs."""
    site, span, rng = case.site, case.span, case.rng
    table = _table(site.statement)
    migration = change(
        "migration",
        span.onset,
        site.service,
        f"0047_{table}_cleanup",
        entity={"db.name": site.backend},
        before={"index": f"{table}_key"},
        after={"index": None},
    )
    entities, mechanisms = (("database", site.backend),), ("slower-work", "config", "saturation")
    fault = Fault(case, Truth("index-dropped", entities, mechanisms, (site.service,), migration["id"], span.onset, span.end))
    fault.effect("time", site.backend, site.statement, times=case.between(1.8, 60))
    fault.effect("misses", site.backend, plus=float(rng.uniform(0.04, 0.08)), form="ramp", rise_s=240)
    fault.happenings.changes.append(migration)
    fault.says(site.service, "WARN", f"slow query: {{ms}} ms: {site.statement.partition(' WHERE')[0]}", 0.6)
    return fault.restarted(a_front(case), span.onset + 18 * MINUTE)


def lock_contention(case: Case) -> Fault:
    """A clean-up job keeps rows locked that requests want to write."""
    site, span, rng = case.site, case.span, case.rng
    job = change("job", span.onset, None, "clean-up of old rows", until=span.end, entity={"db.name": site.backend}, actor="scheduler")
    mechanisms = ("lock", "waiting", "slower-work")
    fault = Fault(case, Truth("lock-contention", (("database", site.backend),), mechanisms, (site.service,), job["id"], span.onset, span.end))
    form: Form = "intermittent" if rng.random() < 0.4 else "step"
    fault.effect("lock", site.backend, site.statement, plus=case.between(0.004, 0.6), form=form)
    fault.happenings.changes.append(job)
    return fault.says(site.service, "WARN", f"waited {{ms}} ms for a row lock on {_table(site.statement)}", 0.8)


def database_slow(case: Case) -> Fault:
    """All that is asked of a database takes longer, and nothing was changed."""
    site, span = case.site, case.span
    mechanisms = ("slower-work", "saturation", "waiting")
    fault = Fault(case, Truth("database-slow", (("database", site.backend),), mechanisms, (site.service,), None, span.onset, span.end))
    return fault.effect("time", site.backend, times=case.between(1.5, 40), form="ramp", rise_s=90)


def _table(statement: str) -> str:
    words = statement.split()
    return next((words[n + 1] for n, word in enumerate(words[:-1]) if word in ("FROM", "INTO", "UPDATE")), "rows")
