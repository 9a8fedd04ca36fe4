"""Making, changing and sharing named scopes."""

from __future__ import annotations

from typing import Annotated, Any

from django.db import IntegrityError, transaction
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import AfterValidator, Field

from wirbel.core.errors import InvalidQuestion, NotFound
from wirbel.core.topology.selection import Selection
from wirbel.scopes.members import known
from wirbel.scopes.models import Scope

MOST_SCOPES = 200
MOST_NAMES = 100  # of services that are listed
router = Router()


def _trimmed(patterns: list[str]) -> list[str]:
    return list(dict.fromkeys(text for pattern in patterns if (text := pattern.strip())))


Patterns = Annotated[list[Annotated[str, Field(max_length=200)]], Field(max_length=50), AfterValidator(_trimmed)]


class ScopePatterns(Schema):
    """* stands for any text, ? for one character."""

    services: Patterns = []
    not_services: Patterns = []
    hosts: Patterns = []
    not_hosts: Patterns = []

    def selection(self) -> Selection:
        return Selection(*(tuple(patterns) for patterns in (self.services, self.not_services, self.hosts, self.not_hosts)))


class NewScope(ScopePatterns):
    name: str = Field(max_length=80)


class ScopeRow(NewScope):
    id: int
    made_by: str | None
    found: int = Field(description="Services that it means now.")
    of: int = Field(description="Services in all.")
    means: bool | None = Field(description="Whether it means the service that was asked about.")


class Meant(Schema):
    services: list[str] = Field(description="The first of them.")
    found: int
    of: int


@router.get("/scopes", response=list[ScopeRow])
def list_scopes(request: HttpRequest, environment: str | None = None, service: str | None = None) -> Any:
    """All scopes by name, with how many services each means, and whether ``service`` is one of them."""
    scopes = list(Scope.objects.select_related("made_by").order_by("name")[:MOST_SCOPES])
    hosts = known(environment, [scope.selection for scope in scopes]) if scopes else {}
    return [_row(scope, hosts, service) for scope in scopes]


@router.post("/scopes/meant", response=Meant)
def get_meant(request: HttpRequest, given: ScopePatterns, environment: str | None = None) -> Any:
    """What patterns would mean, before they are kept."""
    selection = given.selection()
    hosts = known(environment, [selection])
    found = selection.of(hosts)
    return Meant(services=found[:MOST_NAMES], found=len(found), of=len(hosts))


@router.post("/scopes", response={201: ScopeRow})
def make_scope(request: HttpRequest, given: NewScope) -> Any:
    user = _may_change(request)
    if Scope.objects.count() >= MOST_SCOPES:
        raise InvalidQuestion(f"there are {MOST_SCOPES} scopes already; delete one first")
    return 201, _kept(Scope(made_by=user), given)


@router.put("/scopes/{scope}", response=ScopeRow)
def change_scope(request: HttpRequest, scope: int, given: NewScope) -> Any:
    _may_change(request)
    found = Scope.objects.filter(pk=scope).first()
    if found is None:
        raise NotFound("No such scope; somebody may have deleted it.")
    return _kept(found, given)


@router.delete("/scopes/{scope}", response={204: None})
def delete_scope(request: HttpRequest, scope: int) -> Any:
    _may_change(request)
    if not Scope.objects.filter(pk=scope).delete()[0]:
        raise NotFound("No such scope; somebody may have deleted it.")
    return 204, None


def _may_change(request: HttpRequest) -> Any:
    user: Any = request.user
    if not user.may_respond:
        raise HttpError(403, "Your role may look, but not make scopes; ask an administrator.")
    return user


def _kept(scope: Scope, given: NewScope) -> ScopeRow:
    name = " ".join(given.name.split())
    if not name:
        raise InvalidQuestion("a scope needs a name")
    patterns = given.dict(exclude={"name"})
    if not any(patterns.values()):
        raise InvalidQuestion("a scope without any pattern would mean everything; name services or hosts")
    for field, value in {"name": name, **patterns}.items():
        setattr(scope, field, value)
    try:
        with transaction.atomic():
            scope.save()
    except IntegrityError as error:
        raise InvalidQuestion(f"there is a scope {name!r} already; choose another name, or change that one") from error
    return _row(scope, known(None, [scope.selection]))


def _row(scope: Scope, hosts: dict[str, set[str]], service: str | None = None) -> ScopeRow:
    meant = scope.selection.of(hosts)
    return ScopeRow(
        id=scope.pk,
        name=scope.name,
        services=scope.services,
        not_services=scope.not_services,
        hosts=scope.hosts,
        not_hosts=scope.not_hosts,
        made_by=scope.made_by.get_username() if scope.made_by else None,
        found=len(meant),
        of=len(hosts),
        means=None if service is None else service in meant,
    )
