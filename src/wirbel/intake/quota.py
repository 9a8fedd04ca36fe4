"""How much a token may send in a minute."""

from __future__ import annotations

import threading
import time
from datetime import timedelta

from django.db.models import Sum
from django.utils import timezone

from wirbel.intake.models import Taken, Token

WINDOW_S = 60
MEASURED_AGE_S = 1.0  # several servers share a quota; each looks this often at what all have taken
_measured: dict[int, tuple[float, int]] = {}
_lock = threading.Lock()


def exceeded(token: Token) -> bool:
    """Whether the token has used up its records of the last minute."""
    if token.quota is None:
        return False
    with _lock:
        at, rows = _measured.get(token.pk, (0.0, 0))
    if time.monotonic() - at > MEASURED_AGE_S:
        since = timezone.now() - timedelta(seconds=WINDOW_S)
        rows = Taken.objects.filter(token=token, at__gte=since).aggregate(total=Sum("rows"))["total"] or 0
        with _lock:
            _measured[token.pk] = (time.monotonic(), rows)
    return rows >= token.quota


def note(token: Token, rows: int) -> None:
    """What was taken here counts at once."""
    with _lock:
        at, held = _measured.get(token.pk, (0.0, 0))
        _measured[token.pk] = (at, held + rows)
