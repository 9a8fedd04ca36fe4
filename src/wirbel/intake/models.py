"""Who may send."""

from __future__ import annotations

import hashlib
import secrets

from django.db import models


class Token(models.Model):
    """Allows a sender to send. Only a hash is kept: the token itself is shown once.

    A plain SHA-256 is enough for it, because tokens are random and long, unlike passwords.
    """

    name = models.CharField(max_length=200)
    digest = models.CharField(max_length=64, unique=True)
    created = models.DateTimeField(auto_now_add=True)
    revoked = models.DateTimeField(null=True)

    @staticmethod
    def digest_of(secret: str) -> str:
        return hashlib.sha256(secret.encode()).hexdigest()

    @classmethod
    def make(cls, name: str) -> str:
        """Creates a token and returns its secret, which cannot be read again."""
        secret = f"wb_{secrets.token_urlsafe(32)}"
        cls.objects.create(name=name, digest=cls.digest_of(secret))
        return secret

    @classmethod
    def is_valid(cls, secret: str) -> bool:
        return cls.objects.filter(digest=cls.digest_of(secret), revoked=None).exists()
