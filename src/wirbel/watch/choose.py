"""What people choose to watch, and how."""

from __future__ import annotations

from django.db import IntegrityError, transaction
from django.db.models import Model

from wirbel.core import text
from wirbel.core.deviation.symptoms import SYMPTOMS, UNITS
from wirbel.core.errors import InvalidQuestion, NotEnoughData, NotFound
from wirbel.core.series.percentiles import SHARES
from wirbel.core.topology.graph import EntityId
from wirbel.scopes.members import services_of
from wirbel.store import reading
from wirbel.store.models import Metric, Service
from wirbel.store.streams import DAY_NS
from wirbel.watch import found, replay, together
from wirbel.watch.models import DeviationRecord, WatchedSeries
from wirbel.watch.values import CHOSEN_METRIC, Key
from wirbel.watch.watching import BACK_NS, MOST_SERIES, as_row

BUDGETS = (0.01, 50.0)  # false deviations a week that may be asked for


def watch(environment: str, metric: str, budget: float, person: Model, service: str | None = None, scope: str | None = None) -> WatchedSeries:
    """A percentile of a service's requests, or a metric that it sends; or a measure of the requests of a scope together, without either of all.

    Raises NotFound, InvalidQuestion and NotEnoughData.
    """
    _check(budget)
    if service and scope:
        raise InvalidQuestion("either a service or a scope is watched, not both at once")
    if WatchedSeries.objects.count() >= MOST_SERIES:
        raise InvalidQuestion(f"{MOST_SERIES} series are watched already; delete one first")
    key = _of_service(environment, service, metric) if service else _of_many(environment, scope, metric)
    row = as_row(key, 0)
    row.budget, row.has_own_budget, row.made_by = budget, True, person  # type: ignore[assignment]
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError as error:
        raise InvalidQuestion(f"watched already is {metric} of {key.entity.name}; change that one") from error
    first = replay.backfill(row, key, found.until() or 0, BACK_NS // DAY_NS)
    if first is None:
        row.delete()
        raise NotEnoughData(_why_unknown(key.entity.name, metric))
    row.began = first
    row.save(update_fields=["began"])
    return row


def _why_unknown(name: str, metric: str) -> str:
    """Nothing was sent, or what was is yet to be read."""
    position, stored = found.until(), reading.time_range()
    if stored is not None and (position is None or position < stored[1] - found.BEHIND_NS):
        read = "has not begun to read what is stored" if position is None else f"has read what is stored up to {text.time(position)} only"
        return f"the watch {read}, and knows no {metric} of {name} yet; choose it again in a minute"
    return f"no {metric} of {name} has come in the last {BACK_NS // DAY_NS} days"


def _of_many(environment: str, scope: str | None, metric: str) -> Key:
    services_of(scope, environment)
    if metric not in together.MEASURES:
        raise InvalidQuestion(f"of many services together {', '.join(together.MEASURES)} can be watched; {metric!r} is of one service")
    kind, unit = SYMPTOMS.get(metric, "quantile"), UNITS.get(metric, "s")
    return Key(environment, together.entity(environment, scope), None, metric, (), unit, kind)


def _of_service(environment: str, service: str, metric: str) -> Key:
    if not Service.objects.filter(environment=environment, name=service).exists():
        raise NotFound(f"No service {service!r} has sent anything in {environment!r}.")
    entity = EntityId("service", service)
    if metric in SHARES:
        return Key(environment, entity, service, metric, (), "s", "quantile")
    sent = Metric.objects.filter(environment=environment, service=service, name=metric).first()
    if sent is None:
        raise NotFound(f"no metric {metric!r} comes from {service}; {', '.join(SHARES)} of its requests can be watched as well")
    return Key(environment, entity, service, metric, (), sent.unit, CHOSEN_METRIC)


def change(row: WatchedSeries, budget: float | None, is_paused: bool | None) -> None:
    """With another budget its history is read anew: what was found is found again as far as the budget lets it."""
    if budget is not None:
        _check(budget)
        row.budget, row.has_own_budget, row.until, row.tracker = budget, True, 0, None
        DeviationRecord.objects.filter(series=row, mark="").delete()
    if is_paused is not None:
        row.is_paused = is_paused
        if is_paused:
            DeviationRecord.objects.filter(series=row, ended=None).update(ended=found.until())
    row.save()


def _check(budget: float) -> None:
    low, high = BUDGETS
    if not low <= budget <= high:
        raise InvalidQuestion(f"a budget is from {low:g} to {high:g} false deviations a week")
