"""What is kept: segments just accepted, blocks for good, and the catalogue of what was seen."""

from __future__ import annotations

from django.contrib.postgres.fields import ArrayField
from django.db import models


class Stream(models.TextChoices):
    SPANS = "spans"
    LOGS = "logs"
    POINTS = "points"
    CELLS = "cells"


class Receipt(models.Model):
    """Marks a body as taken, so that the same body sent again changes nothing."""

    digest = models.BinaryField(primary_key=True, max_length=32)
    received = models.DateTimeField(auto_now_add=True, db_index=True)


class Segment(models.Model):
    """The checked rows of requests accepted together (Arrow IPC, zstd), until the packer takes them."""

    stream = models.CharField(max_length=10, choices=Stream)
    received = models.DateTimeField(auto_now_add=True)
    time_from = models.BigIntegerField()
    time_to = models.BigIntegerField()
    rows = models.IntegerField()
    size = models.IntegerField()
    error = models.TextField(default="")  # why it cannot be packed; it is kept, and left alone
    data = models.BinaryField()


class Block(models.Model):
    """Immutable Parquet bytes of many rows, with what is needed to skip it unopened. Inserted by store.partitions only."""

    stream = models.CharField(max_length=10, choices=Stream)
    environment = models.TextField(default="")  # "": from before blocks had one, may hold several
    level = models.SmallIntegerField(default=0)  # how often its rows were merged
    step = models.IntegerField(default=0)  # s of a summary's stretches; 0: the records themselves
    thinned = models.BooleanField(default=False)  # ordinary records are a weighted sample
    hour = models.BigIntegerField()  # start of the hour (of a summary: of the longer period) that its rows belong to, ns
    time_from = models.BigIntegerField()
    time_to = models.BigIntegerField()
    rows = models.IntegerField()
    size = models.IntegerField()
    services = ArrayField(models.TextField())
    trace_filter = models.BinaryField(null=True)
    word_filter = models.BinaryField(null=True)  # of logs
    brief = models.BinaryField(null=True)  # what most questions want of it: see store.blocks
    brief_rest = models.BinaryField(null=True)  # and what some of them want besides, of the same rows
    data = models.BinaryField()

    class Meta:
        indexes = [
            models.Index(fields=["stream", "step", "time_to", "time_from"], name="block_time"),
            models.Index(fields=["stream", "environment", "step", "hour", "level"], name="block_merge"),
        ]


class Failure(models.Model):
    """Background work that failed when it was last tried; without a row, it succeeded. See store.failures."""

    work = models.CharField(max_length=40, primary_key=True)  # as people call it: "packing", "the watch"
    since = models.BigIntegerField()  # ns
    reason = models.TextField()


class Retention(models.Model):
    """How long an environment's records of a stream are kept; without a row, store.retention's defaults hold."""

    environment = models.TextField()
    stream = models.CharField(max_length=10, choices=Stream)
    full_hours = models.IntegerField()
    thinned_hours = models.IntegerField()  # 0: not thinned, but dropped when no longer kept in full
    summary_days = models.IntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "stream"], name="one_retention")]


class Service(models.Model):
    """A service that has sent something."""

    environment = models.TextField()
    name = models.TextField()
    streams = ArrayField(models.TextField(), default=list)  # of what it has sent; empty: from before that was noted
    first_seen = models.BigIntegerField()  # ns, by the times of its own records
    last_seen = models.BigIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "name"], name="one_service")]


class Arrival(models.Model):
    """How many records of a service came in a stretch of ten minutes, by the clock of the store."""

    environment = models.TextField()
    service = models.TextField()
    stream = models.CharField(max_length=10, choices=Stream)
    at = models.DateTimeField(db_index=True)
    rows = models.BigIntegerField()
    newest = models.BigIntegerField()  # time of the newest record, ns

    class Meta:
        constraints = [models.UniqueConstraint(fields=["at", "environment", "service", "stream"], name="one_arrival")]


class LateHour(models.Model):
    """An hour, by the times of the records, to which some came long after they were made."""

    hour = models.BigIntegerField(primary_key=True)  # ns
    first = models.DateTimeField()  # when such records came, by the clock of the store
    last = models.DateTimeField()


class Entity(models.Model):
    """Something that services run on or talk to: see core.signals.entities."""

    environment = models.TextField()
    kind = models.CharField(max_length=20)
    name = models.TextField()
    runs_on_kind = models.CharField(max_length=20, default="")
    runs_on = models.TextField(default="")
    services = ArrayField(models.TextField(), default=list)
    first_seen = models.BigIntegerField()
    last_seen = models.BigIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "kind", "name"], name="one_entity")]


class Metric(models.Model):
    """A metric that a service sends."""

    environment = models.TextField()
    service = models.TextField()
    name = models.TextField()
    unit = models.TextField(default="")
    kind = models.SmallIntegerField()
    temporality = models.SmallIntegerField()
    monotonic = models.BooleanField()
    first_seen = models.BigIntegerField()
    last_seen = models.BigIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "service", "name", "kind"], name="one_metric")]


class AttributeName(models.Model):
    """An attribute of the records of a stream, and how many of them carry it. The name "" counts all records."""

    environment = models.TextField()
    stream = models.CharField(max_length=10, choices=Stream)
    level = models.CharField(max_length=10)
    name = models.TextField()
    rows = models.BigIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "stream", "level", "name"], name="one_attribute")]


class Relation(models.Model):
    """Who calls, runs on, is part of or uses whom, and from when to when it was seen; see core.topology.graph."""

    environment = models.TextField()
    subject_kind = models.TextField()
    subject = models.TextField()
    verb = models.TextField()
    object_kind = models.TextField()
    object = models.TextField()
    first_seen = models.BigIntegerField()  # ns
    last_seen = models.BigIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "subject_kind", "subject", "verb", "object_kind", "object"], name="one_relation")]


class PeerAddress(models.Model):
    """An address that one service was seen to answer at, and when that was last (ns, by the spans' own times): addresses are given anew."""

    environment = models.TextField()
    address = models.TextField()
    service = models.TextField()
    last_seen = models.BigIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "address"], name="one_peer_address")]


class ChangeRecord(models.Model):
    """A deploy, configuration, restart …; see core.signals.changes."""

    identity = models.TextField(unique=True)
    kind = models.CharField(max_length=20)
    at = models.BigIntegerField(db_index=True)  # ns since 1970
    until = models.BigIntegerField(null=True)
    service = models.TextField(null=True)
    version = models.TextField(null=True)
    environment = models.TextField(null=True)
    entity = models.JSONField(default=dict)
    actor = models.TextField(null=True)
    summary = models.TextField(default="")
    before = models.JSONField(null=True)
    after = models.JSONField(null=True)
    link = models.TextField(null=True)
    received = models.DateTimeField(auto_now_add=True)
