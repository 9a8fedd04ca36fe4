"""People and what they may do."""

from __future__ import annotations

from django.contrib.auth.models import AbstractUser
from django.db import models


class Role(models.TextChoices):
    READER = "reader", "may look at everything"
    RESPONDER = "responder", "may also open and conclude inquiries"
    ADMINISTRATOR = "administrator", "may also change set-up: tokens, rules, people"


class Person(AbstractUser):
    role = models.CharField(max_length=14, choices=Role, default=Role.READER)

    @property
    def may_respond(self) -> bool:
        return self.role in (Role.RESPONDER, Role.ADMINISTRATOR)

    @property
    def may_administer(self) -> bool:
        return self.role == Role.ADMINISTRATOR


class WrongPassword(models.Model):
    """One that was tried; under which keys it counts: see accounts.lockout."""

    key = models.CharField(max_length=64)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        indexes = [models.Index(fields=["key", "at"], name="wrong_password_key"), models.Index(fields=["at"], name="wrong_password_at")]
