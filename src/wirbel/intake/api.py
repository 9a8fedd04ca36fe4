"""The API of the Intake view: what arrives, tokens, and rules that leave records out."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any, Literal

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from wirbel.core.errors import InvalidQuestion, NotFound
from wirbel.core.text import rfc3339
from wirbel.intake import rules
from wirbel.intake.models import DropRule, Token
from wirbel.intake.status import IntakeState, state
from wirbel.intake.views import known_tokens
from wirbel.store import retention
from wirbel.store.models import Retention, Service, Stream
from wirbel.store.streams import LAYOUTS

MOST_ENVIRONMENTS = 50
router = Router()


def _administrator(request: HttpRequest) -> Any:
    user: Any = request.user
    if not user.may_administer:
        raise HttpError(403, "Your role may look, but not change set-up; ask an administrator.")
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
    _administrator(request)
    if not given.name.strip():
        raise InvalidQuestion("A token needs a name: who will send with it.")
    return 201, Secret(secret=Token.make(given.name.strip(), given.quota))


@router.delete("/tokens/{token}", response={204: None})
def revoke_token(request: HttpRequest, token: int) -> Any:
    """From now on the token is refused. What it sent stays."""
    _administrator(request)
    if not Token.objects.filter(pk=token, revoked=None).update(revoked=timezone.now()):
        raise NotFound("No such token, or it was revoked before.")
    known_tokens.forget()
    return 204, None


class NewRule(Schema):
    signal: Literal["traces", "metrics", "logs"]
    attribute: str = Field(min_length=1, max_length=200)
    value: str = Field(min_length=1, max_length=500, description="* stands for any characters.")


@router.post("/drop-rules", response={201: None})
def make_rule(request: HttpRequest, given: NewRule) -> Any:
    user = _administrator(request)
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
    _administrator(request)
    if not DropRule.objects.filter(pk=rule).update(enabled=given.enabled):
        raise NotFound("No such rule.")
    rules.forget()
    return 204, None


@router.delete("/drop-rules/{rule}", response={204: None})
def delete_rule(request: HttpRequest, rule: int) -> Any:
    _administrator(request)
    if not DropRule.objects.filter(pk=rule).delete()[0]:
        raise NotFound("No such rule.")
    rules.forget()
    return 204, None


class KeptFor(Schema):
    """How long an environment's records of a stream are kept."""

    environment: str = Field(min_length=1, max_length=200)
    stream: Literal["spans", "logs", "points", "cells"]
    full_hours: int = Field(ge=1, le=24 * 400, description="in full")
    thinned_hours: int = Field(ge=0, le=24 * 400, description="after that as a weighted sample; spans and logs only")
    summary_days: int = Field(ge=0, le=10 * 366, description="summaries; points and cells only")


class KeptRow(KeptFor):
    own: bool  # set for this environment; else the default
    full_since: str | None  # the first record that is there in full
    sample_since: str | None
    summaries_since: str | None


@router.get("/retention", response=list[KeptRow])
def get_retention(request: HttpRequest) -> Any:
    """Of every environment that has sent anything, and every stream."""
    environments = Service.objects.order_by("environment").values_list("environment", flat=True).distinct()[:MOST_ENVIRONMENTS]
    own = set(Retention.objects.values_list("environment", "stream"))
    held = retention.held()

    def row(environment: str, stream: str) -> KeptRow:
        there = held.get((environment, stream), retention.Held())
        since: dict[str, Any] = {f"{name}_since": None if at is None else rfc3339(at) for name, at in asdict(there).items()}
        terms: dict[str, Any] = {"environment": environment, "stream": stream, **asdict(retention.kept(stream, environment))}
        return KeptRow(**terms, own=(environment, stream) in own, **since)

    return [row(environment, stream) for environment in environments for stream in Stream.values]


@router.put("/retention", response={204: None})
def set_retention(request: HttpRequest, given: KeptFor) -> Any:
    """From now on; what is over the new bound is thinned or dropped within minutes and does not come back."""
    _administrator(request)
    if given.thinned_hours and LAYOUTS[given.stream].thin is None:
        raise InvalidQuestion(f"{given.stream} are not thinned, but summarised; set their thinned hours to 0")
    if given.summary_days and LAYOUTS[given.stream].summarise is None:
        raise InvalidQuestion(f"{given.stream} have no summaries; set their summary days to 0")
    terms = {"full_hours": given.full_hours, "thinned_hours": given.thinned_hours, "summary_days": given.summary_days}
    Retention.objects.update_or_create(environment=given.environment, stream=given.stream, defaults=terms)
    return 204, None


@router.delete("/retention", response={204: None})
def reset_retention(request: HttpRequest, environment: str, stream: str) -> Any:
    """Back to the default."""
    _administrator(request)
    if not Retention.objects.filter(environment=environment, stream=stream).delete()[0]:
        raise NotFound("This environment has no rule of its own for the stream.")
    return 204, None
