"""What is kept: segments just accepted, blocks for good, and the catalogue of what was seen."""

from __future__ import annotations

from django.contrib.postgres.fields import ArrayField
from django.db import models


class Stream(models.TextChoices):
    SPANS = "spans"
    CELLS = "cells"


class Receipt(models.Model):
    """Marks a body as taken, so that the same body sent again changes nothing."""

    digest = models.BinaryField(primary_key=True, max_length=32)
    received = models.DateTimeField(auto_now_add=True, db_index=True)


class Segment(models.Model):
    """The checked rows of one accepted request (Arrow IPC, zstd), until the packer takes them."""

    stream = models.CharField(max_length=10, choices=Stream)
    received = models.DateTimeField(auto_now_add=True)
    time_from = models.BigIntegerField()
    time_to = models.BigIntegerField()
    rows = models.IntegerField()
    size = models.IntegerField()
    data = models.BinaryField()


class Block(models.Model):
    """Immutable Parquet bytes of many rows, with what is needed to skip it unopened."""

    stream = models.CharField(max_length=10, choices=Stream)
    level = models.SmallIntegerField(default=0)  # how often its rows were merged
    hour = models.BigIntegerField()  # start of the hour that its traces began in, ns
    time_from = models.BigIntegerField()
    time_to = models.BigIntegerField()
    rows = models.IntegerField()
    size = models.IntegerField()
    services = ArrayField(models.TextField())
    trace_filter = models.BinaryField(null=True)
    data = models.BinaryField()

    class Meta:
        indexes = [
            models.Index(fields=["stream", "time_to", "time_from"], name="block_time"),
            models.Index(fields=["stream", "hour", "level"], name="block_merge"),
        ]


class Service(models.Model):
    """A service that has sent spans."""

    environment = models.TextField()
    name = models.TextField()
    first_seen = models.BigIntegerField()
    last_seen = models.BigIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "name"], name="one_service")]


class PeerAddress(models.Model):
    """An address that one service was seen to answer at."""

    address = models.TextField(primary_key=True)
    service = models.TextField()


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
