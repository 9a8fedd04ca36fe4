"""Sends accepted requests on to another OTLP endpoint. Off unless WIRBEL_FORWARD names one.

Requests wait in the database until the other side has taken them, so that neither a restart nor an hour
without the other side loses any; over its bound the oldest are given up, and counted.
"""

from __future__ import annotations

import gzip
import ipaddress
import logging
import os
import socket
from dataclasses import dataclass
from datetime import timedelta
from urllib.parse import urlsplit

import httpx
from django.db import transaction
from django.utils import timezone

from wirbel.core.errors import InvalidQuestion
from wirbel.core.signals import otlp
from wirbel.intake.models import Forward, Forwarded

log = logging.getLogger(__name__)
MOST_WAITING = 20_000  # requests
TIMEOUT_S = 10
FIRST_RETRY = timedelta(seconds=5)
LONGEST_RETRY = timedelta(minutes=10)
KEPT_TRYING = timedelta(days=1)
AT_ONCE = 50
MOST_ERROR = 500  # characters
TRANSLATED = [ipaddress.IPv6Network(network) for network in ("::ffff:0:0/96", "64:ff9b::/96", "64:ff9b:1::/48", "2002::/16", "2001::/32")]
"""Addresses of the sixth version that stand for one of the fourth: RFC 4291, 6052, 8215, 3056 and 4380."""
_RETRYABLE = {408, 429, 502, 503, 504}  # OTLP/HTTP, "Retryable response codes", and a proxy's time-out


@dataclass(frozen=True)
class Target:
    """Where to: an address such as https://collector.example:4318, its headers, and whether it may be a private one."""

    url: str
    headers: dict[str, str]
    private_allowed: bool

    @classmethod
    def from_environment(cls) -> Target | None:
        url = os.environ.get("WIRBEL_FORWARD", "")
        if not url:
            return None
        headers = dict(pair.split("=", 1) for pair in os.environ.get("WIRBEL_FORWARD_HEADERS", "").split(",") if "=" in pair)
        return cls(url.rstrip("/"), headers, os.environ.get("WIRBEL_FORWARD_PRIVATE") == "1")

    @property
    def host(self) -> str:
        """As people are told: without what may be secret in an address."""
        return urlsplit(self.url).hostname or self.url


def address_of(target: Target) -> tuple[str, int]:
    """The address to connect to, looked up once so that what was checked is what is used.

    Raises InvalidQuestion for a scheme other than http(s), and for loopback and private addresses unless allowed.
    """
    parts = urlsplit(target.url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise InvalidQuestion("WIRBEL_FORWARD must be an http or https address")
    port = parts.port or (443 if parts.scheme == "https" else 80)
    found = socket.getaddrinfo(parts.hostname, port, type=socket.SOCK_STREAM)
    address = str(found[0][4][0])
    if not target.private_allowed and not _is_public(ipaddress.ip_address(address.partition("%")[0])):
        raise InvalidQuestion(f"{parts.hostname} is {address}, which is not a public address; set WIRBEL_FORWARD_PRIVATE=1 to allow it")
    return address, port


def _is_public(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    """Whether it leads out by itself: not to many, and not through a translator to an address of the fourth version that is inside."""
    translated = isinstance(address, ipaddress.IPv6Address) and any(address in network for network in TRANSLATED)
    return address.is_global and not address.is_multicast and not translated


def enqueue(signal: str, bodies: list[bytes]) -> None:
    """Keeps bodies, as protobuf, until they are sent on. Call inside the transaction that stores them here."""
    if Target.from_environment() is None or not bodies:
        return
    as_protobuf = [otlp.json_to_protobuf(otlp.SIGNALS[signal], body) if isinstance(body, otlp.JsonText) else body for body in bodies]
    Forward.objects.bulk_create([Forward(signal=signal, body=gzip.compress(body, 1)) for body in as_protobuf])


def send_some() -> bool:
    """Sends requests that are due, the oldest first; False when none is left to send now."""
    target = Target.from_environment()
    if target is None:
        return False
    _give_up()
    with transaction.atomic():
        due = list(Forward.objects.select_for_update(skip_locked=True).filter(due__lte=timezone.now()).order_by("id")[:AT_ONCE])
        if not due:
            return False
        done = _Done()
        try:
            address = address_of(target)
            for waiting in due:
                done.add(_send(target, address, waiting))
                waiting.delete()
        except (InvalidQuestion, OSError, _NotNow) as error:
            _later(due[done.count :], str(error))
            done.error = str(error)
        done.note()
    return not done.error


class _NotNow(Exception):
    """The other side asks to be tried again later."""


@dataclass
class _Done:
    """What became of some requests."""

    sent: int = 0
    refused: int = 0
    refusal: str = ""
    error: str = ""

    @property
    def count(self) -> int:
        return self.sent + self.refused

    def add(self, status: int) -> None:
        """By the other side's answer. Raises _NotNow."""
        if status in _RETRYABLE:
            raise _NotNow(f"answered {status}")
        if status >= 300:  # it will never be taken: the same again would be refused again
            self.refused += 1
            self.refusal = f"answered {status}"
        else:
            self.sent += 1

    def note(self) -> None:
        if self.refused:
            log.warning("the endpoint refused %s forwarded requests for good; it last %s", self.refused, self.refusal)
        now, row = timezone.now(), _counted()
        row.sent += self.sent
        row.refused += self.refused
        if self.refused:
            row.refusal, row.refused_at = self.refusal, now
        if self.sent:
            row.last_sent = now
        row.error = self.error[:MOST_ERROR]
        row.failing_since = (row.failing_since or now) if self.error else None
        row.save()


def _counted() -> Forwarded:
    """The row to add to, locked. Call inside a transaction."""
    Forwarded.objects.get_or_create(pk=1)
    return Forwarded.objects.select_for_update().get(pk=1)


def _send(target: Target, address: tuple[str, int], waiting: Forward) -> int:
    """The status of the answer. Connected to the address that was checked, verified against the name."""
    parts = urlsplit(target.url)
    host = f"[{address[0]}]" if ":" in address[0] else address[0]
    url = f"{parts.scheme}://{host}:{address[1]}{parts.path}/v1/{waiting.signal}"
    headers = {"Host": parts.netloc.rpartition("@")[2], "Content-Type": "application/x-protobuf", "Content-Encoding": "gzip", **target.headers}
    try:
        with (
            httpx.Client(timeout=TIMEOUT_S, trust_env=False, follow_redirects=False) as client,
            client.stream("POST", url, content=bytes(waiting.body), headers=headers, extensions={"sni_hostname": parts.hostname or ""}) as answer,
        ):
            return answer.status_code
    except httpx.HTTPError as error:
        raise OSError(f"no answer that can be read: {error}") from error


def _later(waiting: list[Forward], reason: str) -> None:
    """Tries again after a time that doubles."""
    now = timezone.now()
    for one in waiting:
        one.tries += 1
        one.error = reason[:MOST_ERROR]
        one.due = now + min(FIRST_RETRY * 2 ** min(one.tries - 1, 10), LONGEST_RETRY)
    Forward.objects.bulk_update(waiting, ["tries", "error", "due"])


def _give_up() -> None:
    """Requests that are too old, or too many; they are stored here all the same."""
    old = Forward.objects.filter(made__lt=timezone.now() - KEPT_TRYING).delete()[0]
    beyond = Forward.objects.order_by("-id").values_list("id", flat=True)[MOST_WAITING : MOST_WAITING + 1]
    many = sum(Forward.objects.filter(id__lte=newest).delete()[0] for newest in beyond)
    if old or many:
        with transaction.atomic():
            row = _counted()
            row.given_up += old + many
            row.save()
        log.warning("%s forwarded requests were given up after a day, %s for their number", old, many)
