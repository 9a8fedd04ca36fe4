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
