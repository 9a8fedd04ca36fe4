"""Named selections of services and hosts, shared by all who sign in."""

from __future__ import annotations

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models.functions import Lower

from wirbel.core.topology.selection import Selection


class Scope(models.Model):
    """Patterns as in core.topology.selection."""

    name = models.TextField()
    services = ArrayField(models.TextField(), default=list)
    not_services = ArrayField(models.TextField(), default=list)
    hosts = ArrayField(models.TextField(), default=list)
    not_hosts = ArrayField(models.TextField(), default=list)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(Lower("name"), name="one_scope_of_a_name")]

    @property
    def selection(self) -> Selection:
        return Selection(tuple(self.services), tuple(self.not_services), tuple(self.hosts), tuple(self.not_hosts))
