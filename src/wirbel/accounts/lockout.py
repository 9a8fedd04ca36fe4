"""Wrong passwords that come too often: counted in the database, so that several server processes count together.

Strangers are counted by name and address, by name, and by address. A browser from which somebody has signed in under a name is
counted by itself for that name: who tries a name from elsewhere locks nobody out (OWASP, "Slow Down Online Guessing Attacks with
Device Cookies").
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from datetime import timedelta

from django.core import signing
from django.db import connection
from django.db.models import Count
from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from wirbel.accounts.models import WrongPassword

WINDOW = timedelta(minutes=1)
KEPT = timedelta(hours=1)
OF_NAME_AND_ADDRESS, OF_NAME, OF_ADDRESS = 10, 60, 60  # wrong ones in a window, after which nobody's password is looked at
COOKIE, COOKIE_DAYS = "wirbel_known", 180
TOO_OFTEN = "Too many wrong passwords for this name from here; wait a minute."
_signer = signing.Signer(salt="known browser")


def limits(request: HttpRequest, name: str) -> dict[str, int]:
    """What a wrong password would count against, and how many of it are allowed."""
    address = request.META.get("REMOTE_ADDR", "")
    if _is_known(request, name):
        return {_key("known", name): OF_NAME_AND_ADDRESS}
    return {_key("both", name, address): OF_NAME_AND_ADDRESS, _key("name", name): OF_NAME, _key("address", address): OF_ADDRESS}


def take_turns(keys: Iterable[str]) -> None:
    """Until the end of the transaction nobody else tries under any of these: who comes at the same time is counted as who comes later."""
    with connection.cursor() as cursor:
        for key in sorted(keys):
            cursor.execute("SELECT pg_advisory_xact_lock(hashtextextended(%s, 0))", [key])


def is_too_often(limits: dict[str, int]) -> bool:
    since = timezone.now() - WINDOW
    counts = dict(WrongPassword.objects.filter(key__in=limits, at__gte=since).values_list("key").annotate(Count("pk")))
    return any(counts.get(key, 0) >= most for key, most in limits.items())


def note(limits: dict[str, int]) -> None:
    """One more wrong password."""
    WrongPassword.objects.filter(at__lt=timezone.now() - KEPT).delete()
    WrongPassword.objects.bulk_create([WrongPassword(key=key) for key in limits])


def remember(response: HttpResponse, name: str, is_secure: bool) -> None:
    """From this browser somebody has signed in under the name."""
    age = round(timedelta(days=COOKIE_DAYS).total_seconds())
    response.set_cookie(COOKIE, _signer.sign(_digest(name)), max_age=age, httponly=True, samesite="Lax", secure=is_secure, path="/api/session")


def _is_known(request: HttpRequest, name: str) -> bool:
    try:
        return _signer.unsign(request.COOKIES.get(COOKIE, "")) == _digest(name)
    except signing.BadSignature:
        return False


def _key(*parts: str) -> str:
    """Of something that may be anything: people type passwords where their name belongs."""
    return _digest("\0".join(parts))


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode(errors="surrogatepass")).hexdigest()
