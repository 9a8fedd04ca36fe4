"""Changes to the system: deploys, configuration, restarts …; read from plain JSON or CDEvents.

Source: CloudEvents 1.0 (structured and binary mode over HTTP) and CDEvents, "Continuous
deployment events". A CDEvents type carries its version at the end, such as
``dev.cdevents.service.deployed.0.1.1``.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import unquote

from wirbel.core import arrow
from wirbel.core.errors import InvalidChange

KINDS = ("deploy", "rollback", "config", "flag", "scale", "restart", "migration", "maintenance", "job", "failover", "manual")
MAX_TEXT = 2_000  # characters of a text field
MAX_CONFIGURATION = 200_000  # characters of before or after, as JSON
MAX_CHANGES = 1_000  # in one request
_CDEVENTS = {
    "service.deployed": "deploy",
    "service.upgraded": "deploy",
    "service.published": "deploy",
    "service.rolledback": "rollback",
    "service.removed": "scale",
    "environment.modified": "config",
}
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True, kw_only=True)
class Change:
    """One change; times are ns since 1970. With ``until`` it is an interval."""

    id: str
    kind: str
    at: int
    until: int | None = None
    service: str | None = None
    version: str | None = None
    environment: str | None = None
    entity: Mapping[str, str] = field(default_factory=dict)
    actor: str | None = None
    summary: str = ""
    before: Any = None
    after: Any = None
    link: str | None = None


def parse_time(text: Any, name: str) -> int:
    """An RFC 3339 time with a zone as ns since 1970. Raises InvalidChange naming ``name``."""
    if not isinstance(text, str):
        raise InvalidChange(name, "must be an RFC 3339 time such as 2026-03-04T09:15:00Z")
    try:
        parsed = datetime.fromisoformat(text)
    except ValueError as error:
        raise InvalidChange(name, f"{text[:60]!r} is not an RFC 3339 time") from error
    if parsed.tzinfo is None:
        raise InvalidChange(name, f"{text[:60]!r} has no zone; add Z or an offset")
    at = (parsed - _EPOCH) // timedelta(microseconds=1) * 1000
    if not -(2**63) <= at < 2**63:
        raise InvalidChange(name, f"{text[:60]!r} is not between the years 1678 and 2261")
    return at


def _text(record: Mapping[str, Any], name: str, default: str | None = None) -> str | None:
    value = record.get(name)
    if value is None:
        return default
    if not isinstance(value, str):
        raise InvalidChange(name, "must be text")
    if len(value) > MAX_TEXT:
        raise InvalidChange(name, f"is longer than {MAX_TEXT} characters")
    return value


def _configuration(record: Mapping[str, Any], name: str) -> Any:
    value = record.get(name)
    if value is not None and len(json.dumps(value)) > MAX_CONFIGURATION:
        raise InvalidChange(name, f"is longer than {MAX_CONFIGURATION} characters as JSON")
    return value


def _content_id(record: Mapping[str, Any]) -> str:
    """The same change sent twice without an id gets the same one."""
    return hashlib.sha256(json.dumps(record, sort_keys=True, default=str).encode()).hexdigest()[:32]


def _check_storable(record: Any) -> None:
    """Python's reader of JSON takes what neither JSON's standard nor the database does."""
    try:
        text = json.dumps(record, ensure_ascii=False, allow_nan=False).encode()
    except (ValueError, TypeError, RecursionError) as error:
        raise InvalidChange("body", "holds a number that is not finite, or text that is not Unicode") from error
    if b"\\u0000" in text:
        raise InvalidChange("body", "holds a NUL character")


def from_plain(record: Any) -> Change:
    """A change in Wirbel's own JSON. Raises InvalidChange naming the field."""
    _check_storable(record)
    if not isinstance(record, dict):
        raise InvalidChange("change", "must be a JSON object")
    kind = record.get("kind")
    if kind not in KINDS:
        raise InvalidChange("kind", f"must be one of {', '.join(KINDS)}")
    if "at" not in record:
        raise InvalidChange("at", "is missing")
    at = parse_time(record["at"], "at")
    until = parse_time(record["until"], "until") if record.get("until") is not None else None
    if until is not None and until < at:
        raise InvalidChange("until", "is before at")
    entity = record.get("entity") or {}
    if not isinstance(entity, dict) or not all(isinstance(v, str) for v in entity.values()):
        raise InvalidChange("entity", "must be an object of attribute names and texts")
    link = _text(record, "link")
    if link and not link.startswith(("http://", "https://")):
        raise InvalidChange("link", "must start with http:// or https://")
    return Change(
        id=_text(record, "id") or _content_id(record),
        kind=kind,
        at=at,
        until=until,
        service=_name(_text(record, "service") or entity.get("service.name")),
        version=_text(record, "version"),
        environment=_name(_text(record, "environment") or entity.get("deployment.environment.name")),
        entity=entity,
        actor=_text(record, "actor"),
        summary=_text(record, "summary") or "",
        before=_configuration(record, "before"),
        after=_configuration(record, "after"),
        link=link,
    )


def from_cdevent(attributes: Mapping[str, str], data: Any) -> Change:
    """A CDEvent inside a CloudEvent: its context attributes and its data. Raises InvalidChange."""
    _check_storable([dict(attributes), data])
    kind_name = attributes.get("type") or ""
    if not kind_name.startswith("dev.cdevents."):
        raise InvalidChange("type", f"{kind_name[:80]!r} is not a CDEvents type")
    parts = kind_name.removeprefix("dev.cdevents.").split(".")
    kind = _CDEVENTS.get(".".join(parts[:2]))
    if kind is None:
        raise InvalidChange("type", f"{kind_name[:80]!r} is not taken; taken are {', '.join(_CDEVENTS)}")
    if not isinstance(data, dict):
        raise InvalidChange("data", "must be a JSON object")
    context, subject = data.get("context"), data.get("subject")
    context = context if isinstance(context, dict) else {}
    if not isinstance(subject, dict) or not isinstance(subject.get("id"), str):
        raise InvalidChange("data.subject.id", "is missing")
    content = subject.get("content")
    content = content if isinstance(content, dict) else {}
    stamp = context.get("timestamp") or attributes.get("time")
    environment = content.get("environment")
    artifact = content.get("artifactId")
    is_service = parts[0] == "service"
    identity = attributes.get("id") or context.get("id")
    if not isinstance(identity, str) or not identity:
        raise InvalidChange("id", "is missing")
    name = subject["id"][:MAX_TEXT]
    return Change(
        id=f"{attributes.get('source') or context.get('source') or ''}#{identity}"[:MAX_TEXT],
        kind=kind,
        at=parse_time(stamp, "data.context.timestamp"),
        service=_name(name.rsplit("/", 1)[-1]) if is_service else None,
        version=_artifact_version(artifact) if isinstance(artifact, str) else None,
        environment=_name((environment.get("id") if isinstance(environment, dict) else None) if is_service else name),
        entity={},
        actor=context.get("source") if isinstance(context.get("source"), str) else None,
        summary=f"{parts[0]} {parts[1]}",
        link=None,
    )


def _name(given: str | None) -> str | None:
    """As names in telemetry are kept, which it is to be found by."""
    return given[: arrow.LONGEST_NAME] if isinstance(given, str) else None


def _artifact_version(purl: str) -> str | None:
    """``pkg:oci/app@4.8.0?tag=x`` → ``4.8.0`` (package URL)."""
    _, _, version = purl.partition("@")
    return unquote(version.split("?")[0])[:MAX_TEXT] or None


def parse_request(content_type: str, headers: Mapping[str, str], body: bytes) -> list[Change]:
    """All changes of one request. Raises InvalidChange naming the field; then nothing is taken."""
    try:
        record = json.loads(body)
    except (ValueError, RecursionError) as error:
        raise InvalidChange("body", f"is not JSON: {error}") from error
    ce = {name.lower().removeprefix("ce-"): value for name, value in headers.items() if name.lower().startswith("ce-")}
    if content_type == "application/cloudevents+json":
        if not isinstance(record, dict):
            raise InvalidChange("body", "must be one CloudEvent")
        return [from_cdevent({k: v for k, v in record.items() if isinstance(v, str)}, record.get("data"))]
    if "type" in ce:
        return [from_cdevent(ce, record)]
    records = record if isinstance(record, list) else [record]
    if len(records) > MAX_CHANGES:
        raise InvalidChange("body", f"holds more than {MAX_CHANGES} changes; send several requests")
    return [from_plain(item) for item in records]


LONGEST_VALUE = 120  # characters of a value that are told
SECRETS = ("password", "passwd", "secret", "token", "credential", "private")
"""Words in keys whose values are not told (common practice)."""
HIDDEN = "…"


@dataclass(frozen=True)
class Line:
    """A line of configuration that a change touched; None where there was none, or is none any more."""

    key: str
    before: str | None
    after: str | None


def lines(change: Change) -> list[Line]:
    """What of its configuration a change touched, in the order of the keys; parts of parts have dots in their keys."""
    before, after = _flat(change.before), _flat(change.after)
    touched = [key for key in sorted({*before, *after}) if before.get(key) != after.get(key)]
    return [Line(key, _told(key, before.get(key)), _told(key, after.get(key))) for key in touched]


def _flat(value: Any, key: str = "") -> dict[str, str]:
    if isinstance(value, dict):
        return {k: v for name, part in value.items() for k, v in _flat(part, f"{key}.{name}" if key else str(name)).items()}
    if value is None:
        return {}
    told = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return {key or "value": told[:LONGEST_VALUE]}


def _told(key: str, value: str | None) -> str | None:
    return HIDDEN if value is not None and any(word in key.lower() for word in SECRETS) else value
