"""The HTTP API that the front end and scripts use: each app's router, put together. Its OpenAPI schema makes the front end's types."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.db import DataError
from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import ValidationError
from ninja.security import django_auth

from wirbel.accounts.api import router as accounts
from wirbel.core.errors import NotEnoughData, NotFound, WirbelError
from wirbel.disturbances.api import router as disturbances
from wirbel.disturbances.moment import router as moment
from wirbel.disturbances.watched import router as watched
from wirbel.explore.api import router as explore
from wirbel.inquiry.api import router as inquiry
from wirbel.intake.api import router as intake
from wirbel.scopes.api import router as scopes
from wirbel.server.practice import router as practice


def _for_the_signed_in(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    @wraps(view)
    def guarded(request: HttpRequest, *more: Any, **named: Any) -> HttpResponse:
        return view(request, *more, **named) if request.user.is_authenticated else HttpResponse(status=401)

    return guarded


api = NinjaAPI(title="Wirbel", version="1", auth=django_auth, docs_url=None, docs_decorator=_for_the_signed_in)
for router in (accounts, disturbances, explore, inquiry, intake, moment, practice, scopes, watched):
    api.add_router("", router)

STATUS: dict[type[WirbelError], int] = {NotFound: 404, NotEnoughData: 422}
"""Of errors; all others are 400: the question is wrong as it is asked."""
MOST_TOLD = 5  # things that do not fit


@api.exception_handler(WirbelError)
def _say_what_to_do(request: HttpRequest, error: WirbelError) -> Any:
    status = next((status for kind, status in STATUS.items() if isinstance(error, kind)), 400)
    return api.create_response(request, {"detail": str(error)}, status=status)


@api.exception_handler(ValidationError)
def _say_what_does_not_fit(request: HttpRequest, error: ValidationError) -> Any:
    """A sentence for people: which part of what was given, and what is wrong with it."""
    told = [f"{_named(one['loc'])}: {one['msg'][0].lower()}{one['msg'][1:]}" for one in error.errors[:MOST_TOLD]]
    more = len(error.errors) - len(told)
    return api.create_response(request, {"detail": "; ".join([*told, *([f"and {more} more"] if more else [])])}, status=422)


def _named(place: tuple[str | int, ...]) -> str:
    """``place`` begins with where it was given and, of a body, with the name of the parameter that holds it."""
    return ".".join(str(part) for part in place[2 if place[0] == "body" and len(place) > 2 else 1 :]).replace("_", " ") or "what was given"


@api.exception_handler(DataError)
@api.exception_handler(OverflowError)
@api.exception_handler(UnicodeEncodeError)
def _say_it_cannot_be(request: HttpRequest, error: Exception) -> Any:
    """A value was refused as such, by the database or before it: a NUL in a name, half a character, a number beyond its range."""
    return api.create_response(request, {"detail": "The question holds a character or number that nothing stored can have."}, status=400)
