"""What is watched, what is known of it, and what was found."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from wirbel.core.deviation.disturbance import Of
from wirbel.core.deviation.model import Deviation, Peak
from wirbel.core.topology.graph import EntityId


class WatchedSeries(models.Model):
    """A measure of an entity. Those that nobody made are watched from the start."""

    environment = models.TextField()
    entity_kind = models.TextField()
    entity = models.TextField()
    service = models.TextField(null=True)
    metric = models.TextField()
    labels = models.JSONField(default=dict)
    labels_text = models.TextField(default="")  # the same as text, to be told apart by
    unit = models.TextField()
    kind = models.CharField(max_length=12)  # core.series.series.Kind
    only_high = models.BooleanField(default=False)  # that it falls is no trouble
    budget = models.FloatField(default=1.0)  # false deviations a week
    has_own_budget = models.BooleanField(default=False)  # none of the one that all share
    is_paused = models.BooleanField(default=False)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    began = models.BigIntegerField()  # time of the first value, ns
    known_from = models.BigIntegerField(null=True)  # time of the first summary from before that, ns
    until = models.BigIntegerField(default=0)  # to which ``tracker`` has read; 0: there is none
    judge_from = models.BigIntegerField(null=True)  # time from which on much came late, so that it is to be judged anew
    state = models.CharField(max_length=12, default="learning")  # or core.expected.profile.State
    tracker = models.BinaryField(null=True)  # core.deviation.state
    error = models.TextField(default="")  # why it is not followed at present

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "entity_kind", "entity", "metric", "labels_text"], name="one_watched_series")]


class DayOfValues(models.Model):
    """The values of a series in the minutes of a day (UTC), the records behind each, and what was expected: see watch.kept."""

    series = models.ForeignKey(WatchedSeries, on_delete=models.CASCADE)
    day = models.BigIntegerField()  # ns
    data = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["series", "day"], name="one_day_of_values")]


class LateMinute(models.Model):
    """The same of all series in one minute since the last full hour: see watch.kept."""

    minute = models.BigIntegerField(primary_key=True)  # ns
    data = models.BinaryField()


class Position(models.Model):
    """To which minute everything has been read. One row."""

    until = models.BigIntegerField()
    looked = models.BigIntegerField()  # when that was, by the clock, ns


class UsersCalendar(models.Model):
    """Whose days and weeks the watched series have: core.expected.calendar. One row; without it days are those of UTC, and no holidays are known."""

    zone = models.CharField(max_length=60)
    holidays = models.CharField(max_length=20, blank=True)


class Unwatched(models.Model):
    """A stretch in which nobody looked: Wirbel itself did not run."""

    start = models.BigIntegerField()
    end = models.BigIntegerField(db_index=True)


class DisturbanceRecord(models.Model):
    """A disturbance, as others refer to it: see watch.disturbed for what its id is, and when it is merged, split or withdrawn."""

    identity = models.CharField(max_length=16, primary_key=True)
    environment = models.TextField()
    began = models.BigIntegerField(db_index=True)  # ns
    clear = models.BigIntegerField()  # when what hurts people began
    ended = models.BigIntegerField(null=True)
    hurts = models.BooleanField()
    is_better = models.BooleanField()
    merged_into = models.CharField(max_length=16, default="")  # the id of the other
    withdrawn = models.BooleanField(default=False)


class DisturbanceEvent(models.Model):
    """What happened to a disturbance, in order of ``id``: opened, grew (``other``: the deviation), ended, goes on, merged (``other``: into which) or withdrawn."""

    disturbance = models.CharField(max_length=16, db_index=True)
    at = models.BigIntegerField(db_index=True)  # when it was found, ns
    what = models.CharField(max_length=10)
    other = models.CharField(max_length=16, default="")


class DeviationRecord(models.Model):
    """A stretch of a series outside of what was expected: core.deviation.model."""

    series = models.ForeignKey(WatchedSeries, on_delete=models.CASCADE)
    identity = models.CharField(max_length=16)
    direction = models.CharField(max_length=6)
    onset = models.BigIntegerField()
    onset_low = models.BigIntegerField()
    onset_high = models.BigIntegerField()
    opened = models.BigIntegerField()
    ended = models.BigIntegerField(null=True, db_index=True)
    peak_at = models.BigIntegerField()
    peak_actual = models.FloatField(null=True)
    peak_expected = models.FloatField()
    peak_low = models.FloatField()
    peak_high = models.FloatField()
    bits = models.FloatField()
    threshold_at = models.BigIntegerField(null=True)
    provisional = models.BooleanField()
    mark = models.CharField(max_length=10, default="")  # core.deviation.model.Mark
    mark_is_new = models.BooleanField(default=False)  # the watch has not heeded it yet
    marked_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    marked_at = models.DateTimeField(null=True)
    disturbance = models.CharField(max_length=16, default="", db_index=True)  # that it is part of

    class Meta:
        constraints = [models.UniqueConstraint(fields=["series", "direction", "onset"], name="one_deviation")]
        indexes = [
            models.Index(fields=["onset"], name="deviation_onset"),
            models.Index(fields=["identity"], name="deviation_identity"),
            models.Index(fields=["mark_is_new"], condition=models.Q(mark_is_new=True), name="deviation_marked"),
        ]

    def of(self) -> Of:
        """As the computation has it; the series must have been read with it."""
        peak = Peak(self.peak_at, self.peak_actual, self.peak_expected, self.peak_low, self.peak_high)
        found = Deviation(
            direction=self.direction,  # type: ignore[arg-type]
            onset=self.onset,
            onset_low=self.onset_low,
            onset_high=self.onset_high,
            opened=self.opened,
            ended=self.ended,
            peak=peak,
            bits=self.bits,
            threshold_at=self.threshold_at,
            provisional=self.provisional,
        )
        return of(self.series, found)


def of(series: WatchedSeries, found: Deviation) -> Of:
    entity = EntityId(series.entity_kind, series.entity)
    return Of(series.metric, series.service, series.labels, series.unit, found, entity, series.environment)
