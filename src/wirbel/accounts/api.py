"""Sign-in."""

from __future__ import annotations

from typing import Any

from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError

from wirbel.accounts.lockout import TOO_OFTEN

router = Router()


class Credentials(Schema):
    name: str
    password: str


class Me(Schema):
    name: str
    role: str
    may_respond: bool  # opens inquiries
    may_administer: bool


def _me(user: Any) -> Me:
    return Me(name=user.get_username(), role=user.role, may_respond=user.may_respond, may_administer=user.may_administer)


@router.post("/session", auth=None, response=Me)
def sign_in(request: HttpRequest, given: Credentials) -> Any:
    user = authenticate(request, username=given.name[:150], password=given.password)
    if getattr(request, "axes_locked_out", False):
        raise HttpError(429, TOO_OFTEN)
    if user is None:
        raise HttpError(401, "Name or password is wrong.")
    login(request, user)
    return _me(user)


@router.get("/session", response=Me)
def who_am_i(request: HttpRequest) -> Any:
    return _me(request.user)


@router.delete("/session", response={204: None})
def sign_out(request: HttpRequest) -> Any:
    logout(request)
    return 204, None
