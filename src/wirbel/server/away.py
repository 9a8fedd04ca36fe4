"""What people and scripts are told while the database is away: 503 at once, and when to ask again."""

from __future__ import annotations

import sys
from collections.abc import Callable

from django.db import InterfaceError, OperationalError
from django.http import HttpRequest, JsonResponse
from django.http.response import HttpResponseBase
from django.views.defaults import server_error

from wirbel.intake.bodies import RETRY_S
from wirbel.store import reachable


def _away() -> JsonResponse:
    return JsonResponse(
        {"detail": "The database cannot be reached at the moment. Ask again in a few seconds."}, status=503, headers={"Retry-After": str(RETRY_S)}
    )


def told(get_response: Callable[[HttpRequest], HttpResponseBase]) -> Callable[[HttpRequest], HttpResponseBase]:
    """Middleware: nobody waits for what is not there. Pages themselves need no database."""

    def answered(request: HttpRequest) -> HttpResponseBase:
        if request.path.startswith("/api/"):
            try:
                reachable.check()
            except reachable.Unreachable:
                return _away()
        return get_response(request)

    return answered


def failed(request: HttpRequest) -> HttpResponseBase:
    """Answers what nobody caught; a connection that broke meanwhile is no defect."""
    if isinstance(sys.exc_info()[1], OperationalError | InterfaceError):
        return _away()
    return server_error(request)
