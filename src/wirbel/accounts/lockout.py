"""What is answered to wrong passwords that come too often."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest, JsonResponse

TOO_OFTEN = "Too many wrong passwords for this name from here; wait a minute."


def answer(request: HttpRequest, *more: Any) -> JsonResponse:
    """In place of what the view answered; django-axes calls it."""
    return JsonResponse({"detail": TOO_OFTEN}, status=429)
