"""Who may send, what came from whom, and what is not wanted."""

from __future__ import annotations

import hashlib
import secrets

from django.db import models
from django.utils import timezone


class Token(models.Model):
    """Allows a sender to send. Only a hash is kept: the token itself is shown once.

    A plain SHA-256 is enough for it, because tokens are random and long, unlike passwords.
    """

    name = models.CharField(max_length=200)
    digest = models.CharField(max_length=64, unique=True)
    created = models.DateTimeField(auto_now_add=True)
    revoked = models.DateTimeField(null=True)
    quota = models.BigIntegerField(null=True)  # records a minute; null: as many as come

    @staticmethod
    def digest_of(secret: str) -> str:
        return hashlib.sha256(secret.encode()).hexdigest()

    @classmethod
    def make(cls, name: str, quota: int | None = None) -> str:
        """Creates a token and returns its secret, which cannot be read again."""
        secret = f"wb_{secrets.token_urlsafe(32)}"
        cls.objects.create(name=name, digest=cls.digest_of(secret), quota=quota)
        return secret

    @classmethod
    def of(cls, secret: str) -> Token | None:
        return cls.objects.filter(digest=cls.digest_of(secret), revoked=None).first()


class Taken(models.Model):
    """What one commit took or refused; added up by the minute in Minute.

    Rows are only ever added here, so that senders do not wait for each other.
    """

    at = models.DateTimeField(auto_now_add=True, db_index=True)
    token = models.ForeignKey(Token, null=True, on_delete=models.CASCADE)  # null: nobody we know
    signal = models.CharField(max_length=10)
    requests = models.IntegerField(default=0)
    rows = models.BigIntegerField(default=0)  # stored
    size = models.BigIntegerField(default=0)  # bytes as sent
    dropped = models.BigIntegerField(default=0)  # by a rule
    refused = models.JSONField(default=dict)  # reason → records, or requests where nothing could be read


class Minute(models.Model):
    """Taken, added up by minute, token and signal."""

    at = models.DateTimeField()
    token = models.ForeignKey(Token, null=True, on_delete=models.CASCADE)
    signal = models.CharField(max_length=10)
    requests = models.IntegerField(default=0)
    rows = models.BigIntegerField(default=0)
    size = models.BigIntegerField(default=0)
    dropped = models.BigIntegerField(default=0)
    refused = models.JSONField(default=dict)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["at", "token", "signal"], name="one_minute", nulls_distinct=False)]


class DropRule(models.Model):
    """Records that are not stored: those whose attribute has the value. ``*`` stands for any characters."""

    signal = models.CharField(max_length=10)
    attribute = models.CharField(max_length=200)
    value = models.CharField(max_length=500)
    created = models.DateTimeField(auto_now_add=True)
    created_by = models.CharField(max_length=150, default="")
    enabled = models.BooleanField(default=True)
    dropped = models.BigIntegerField(default=0)
    last_dropped = models.DateTimeField(null=True)
    example = models.JSONField(null=True)  # the last record that it dropped


class Forward(models.Model):
    """A request that waits to be sent on to another endpoint."""

    signal = models.CharField(max_length=10)
    body = models.BinaryField()  # protobuf, gzip
    made = models.DateTimeField(auto_now_add=True)
    due = models.DateTimeField(default=timezone.now, db_index=True)
    tries = models.IntegerField(default=0)
    error = models.TextField(default="")


class Forwarded(models.Model):
    """What became of requests that were sent on: one row, made with the first of them."""

    sent = models.BigIntegerField(default=0)
    refused = models.BigIntegerField(default=0)  # by the other side, for good
    refusal = models.TextField(default="")  # the last
    refused_at = models.DateTimeField(null=True)
    given_up = models.BigIntegerField(default=0)  # as they were too old, or too many
    last_sent = models.DateTimeField(null=True)
    failing_since = models.DateTimeField(null=True)
    error = models.TextField(default="")  # of the last try, while it fails
