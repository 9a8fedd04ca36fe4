"""Inquiries that were made: the question, the answer, and who asked."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models


class Inquiry(models.Model):
    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    created = models.DateTimeField(auto_now_add=True, db_index=True)
    asked_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    service = models.TextField()
    signal = models.CharField(max_length=12)
    operation = models.TextField(null=True)
    candidate = models.TextField(null=True)  # title of the first
    confidence = models.FloatField(null=True)  # of the first
    form = models.IntegerField(default=0)  # of the answer: see inquiry.forms
    answer = models.JSONField()
