"""Sign-in."""

from __future__ import annotations

from typing import Annotated, Any

from django.conf import settings
from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.base_user import AbstractBaseUser
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from wirbel.accounts import lockout, passwords
from wirbel.core.errors import InvalidQuestion

router = Router()


Password = Annotated[str, Field(max_length=1_000)]


class Credentials(Schema):
    name: str
    password: Password


class NewPassword(Schema):
    current: Password
    new: Password


class Me(Schema):
    name: str
    role: str
    may_respond: bool  # opens inquiries
    may_administer: bool


def _me(user: Any) -> Me:
    return Me(name=user.get_username(), role=user.role, may_respond=user.may_respond, may_administer=user.may_administer)


@router.post("/session", auth=None, response=Me)
def sign_in(request: HttpRequest, response: HttpResponse, given: Credentials) -> Any:
    name = given.name[:150]
    _check_origin(request)
    try:
        with passwords.turn():
            user = _checked(request, name, given.password)
    except passwords.TooManyAtOnce as error:
        raise HttpError(429, "Too many people sign in at this moment; try again in some seconds.") from error
    if user is None:
        raise HttpError(401, "Name or password is wrong.")
    login(request, user)
    lockout.remember(response, name, settings.SESSION_COOKIE_SECURE)
    return _me(user)


def _checked(request: HttpRequest, name: str, password: str) -> AbstractBaseUser | None:
    limits = lockout.limits(request, name)
    with transaction.atomic():
        lockout.take_turns(limits)
        if lockout.is_too_often(limits):
            raise HttpError(429, lockout.TOO_OFTEN)
        user = authenticate(request, username=name, password=password)
        if user is None:
            lockout.note(limits)
    return user


def _check_origin(request: HttpRequest) -> None:
    """A page of somebody else must not sign its visitor in under a name of its choice."""
    origin = request.headers.get("Origin")
    if origin and origin not in (f"{request.scheme}://{request.get_host()}", *settings.CSRF_TRUSTED_ORIGINS):
        raise HttpError(403, "This page may not sign in here: it was not served by this server, nor by an origin that WIRBEL_ORIGINS names.")


@router.post("/session/password", response={204: None})
def change_password(request: HttpRequest, given: NewPassword) -> Any:
    """The other sessions of who changes it end."""
    try:
        with passwords.turn():
            known = _checked(request, request.user.get_username(), given.current)
    except passwords.TooManyAtOnce as error:
        raise HttpError(429, "Too many passwords are checked at this moment; try again in some seconds.") from error
    if known is None or known.pk != request.user.pk:
        raise HttpError(403, "The current password is wrong.")
    try:
        validate_password(given.new, known)
    except ValidationError as error:
        raise InvalidQuestion(" ".join(error.messages)) from error
    known.set_password(given.new)
    known.save(update_fields=["password"])
    update_session_auth_hash(request, known)
    return 204, None


@router.get("/session", response=Me)
def who_am_i(request: HttpRequest) -> Any:
    return _me(request.user)


@router.delete("/session", response={204: None})
def sign_out(request: HttpRequest) -> Any:
    logout(request)
    return 204, None
