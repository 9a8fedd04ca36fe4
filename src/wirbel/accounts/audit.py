"""Who changed what, and who signed in or could not: a line of the log each, without anything that was sent."""

from __future__ import annotations

import logging
from collections.abc import Callable
from urllib.parse import quote

from django.http import HttpRequest
from django.http.response import HttpResponseBase

log = logging.getLogger(__name__)
LOOKS = ("GET", "HEAD", "OPTIONS")
ONLY_LOOKS = ("/api/scopes/meant",)  # what is asked while somebody types
MOST = 300  # characters of an address


def told(get_response: Callable[[HttpRequest], HttpResponseBase]) -> Callable[[HttpRequest], HttpResponseBase]:
    """Middleware. A name that could not sign in is not told: people type passwords where it belongs."""

    def answer(request: HttpRequest) -> HttpResponseBase:
        response = get_response(request)
        if request.path.startswith("/api/") and request.method not in LOOKS and request.path not in ONLY_LOOKS:
            # Where the database is down nobody is known.
            who = (request.user.get_username() if response.status_code < 500 else "") or "nobody"
            # Quoted, an address makes no line of its own.
            log.info("%s %s %s %s from %s", quote(who), request.method, quote(request.path)[:MOST], response.status_code, request.META.get("REMOTE_ADDR"))
        return response

    return answer
