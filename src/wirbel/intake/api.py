"""The API of the Intake view: what arrives, tokens, and rules that leave records out."""

from __future__ import annotations

from typing import Any, Literal

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from wirbel.core.errors import InvalidQuestion, NotEnoughData
from wirbel.intake import rules
from wirbel.intake.models import DropRule, Token
from wirbel.intake.standing import IntakeState, state
from wirbel.intake.views import known_tokens

router = Router()


def _keeper(request: HttpRequest) -> Any:
    user: Any = request.user
    if not user.may_keep:
        raise HttpError(403, "Your role may look, but not change set-up; ask a keeper.")
    return user


@router.get("/intake", response=IntakeState)
def get_intake(request: HttpRequest) -> Any:
    """What arrives, from whom, how fast, and what was turned away and why."""
    return state()


class NewToken(Schema):
    name: str = Field(min_length=1, max_length=200)
    quota: int | None = Field(default=None, ge=1, description="Records a minute.")


class Secret(Schema):
    secret: str


@router.post("/tokens", response={201: Secret})
def make_token(request: HttpRequest, given: NewToken) -> Any:
    """Makes an ingest token. Its secret is in this answer only."""
    _keeper(request)
    return 201, Secret(secret=Token.make(given.name, given.quota))


@router.delete("/tokens/{token}", response={204: None})
def revoke_token(request: HttpRequest, token: int) -> Any:
    """From now on the token is refused. What it sent stays."""
    _keeper(request)
    if not Token.objects.filter(pk=token, revoked=None).update(revoked=timezone.now()):
        raise NotEnoughData("No such token, or it was revoked before.")
    known_tokens.forget()
    return 204, None


class NewRule(Schema):
    signal: Literal["traces", "metrics", "logs"]
    attribute: str = Field(min_length=1, max_length=200)
    value: str = Field(min_length=1, max_length=500, description="* stands for any characters.")


@router.post("/drop-rules", response={201: None})
def make_rule(request: HttpRequest, given: NewRule) -> Any:
    user = _keeper(request)
    if not given.value.strip("*"):
        raise InvalidQuestion("a value of * alone would leave out everything that has the attribute; name more of it")
    if DropRule.objects.count() >= rules.MOST_RULES:
        raise InvalidQuestion(f"there are {rules.MOST_RULES} rules already; delete one first")
    DropRule.objects.create(signal=given.signal, attribute=given.attribute, value=given.value, created_by=user.get_username())
    rules.forget()
    return 201, None


class RuleChange(Schema):
    enabled: bool


@router.patch("/drop-rules/{rule}", response={204: None})
def change_rule(request: HttpRequest, rule: int, given: RuleChange) -> Any:
    _keeper(request)
    if not DropRule.objects.filter(pk=rule).update(enabled=given.enabled):
        raise NotEnoughData("No such rule.")
    rules.forget()
    return 204, None


@router.delete("/drop-rules/{rule}", response={204: None})
def delete_rule(request: HttpRequest, rule: int) -> Any:
    _keeper(request)
    if not DropRule.objects.filter(pk=rule).delete()[0]:
        raise NotEnoughData("No such rule.")
    rules.forget()
    return 204, None
