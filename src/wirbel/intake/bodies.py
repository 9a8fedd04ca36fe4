"""Request bodies within bounds, and answers in the type of the request."""

from __future__ import annotations

import zlib
from dataclasses import dataclass

from django.http import HttpResponse
from django.http.request import HttpHeaders
from google.protobuf import json_format
from google.protobuf.message import Message
from google.rpc.code_pb2 import (
    FAILED_PRECONDITION,
    INVALID_ARGUMENT,
    RESOURCE_EXHAUSTED,
    UNAUTHENTICATED,
    UNAVAILABLE,
)
from google.rpc.status_pb2 import Status

MAX_BODY = 16 * 2**20  # bytes as sent
MAX_UNPACKED = 64 * 2**20  # bytes after decompression
PROTOBUF, JSON = "application/x-protobuf", "application/json"
_CODES = {400: INVALID_ARGUMENT, 401: UNAUTHENTICATED, 413: RESOURCE_EXHAUSTED, 415: INVALID_ARGUMENT, 429: RESOURCE_EXHAUSTED, 503: UNAVAILABLE}
LATER = (429, 503)  # the same may be taken another time
RETRY_S = 1  # whatever it is: stock exporters try for ten seconds or so, and drop what they were asked to bring later


@dataclass
class Refusal(Exception):
    """A request that cannot be taken; becomes an answer with the HTTP status and a reason."""

    status: int
    reason: str


@dataclass(frozen=True)
class Knock:
    """What a door needs to know of a request; the names are those of Django's."""

    method: str
    headers: HttpHeaders
    body: bytes

    @property
    def content_type(self) -> str:
        return self.headers.get("Content-Type", "").partition(";")[0].strip().lower()


def read_body(request: Knock) -> bytes:
    """The body, decompressed within its bound. Raises Refusal 413, 415 or 400."""
    encoding = request.headers.get("Content-Encoding", "identity").strip().lower()
    if encoding not in ("identity", "gzip", ""):
        raise Refusal(415, f"Content-Encoding {encoding[:40]!r} is not taken; send gzip or none")
    if int(request.headers.get("Content-Length") or 0) > MAX_BODY:
        raise Refusal(413, f"the body is larger than {MAX_BODY} bytes; send smaller batches")
    body = request.body
    if len(body) > MAX_BODY:
        raise Refusal(413, f"the body is larger than {MAX_BODY} bytes; send smaller batches")
    return _gunzip(body) if encoding == "gzip" else body


def _gunzip(body: bytes) -> bytes:
    """Stops as soon as the output exceeds its bound, however small the input."""
    engine = zlib.decompressobj(wbits=31)
    try:
        unpacked = engine.decompress(body, MAX_UNPACKED + 1)
    except zlib.error as error:
        raise Refusal(400, f"the body is not gzip: {error}") from error
    if len(unpacked) > MAX_UNPACKED:
        raise Refusal(413, f"the body unpacks to more than {MAX_UNPACKED} bytes; send smaller batches")
    if not engine.eof:
        raise Refusal(400, "the gzip body is cut short")
    return unpacked


def answer(content_type: str, message: Message, status: int = 200) -> HttpResponse:
    """A protobuf message in the type of the request; JSON for all but protobuf."""
    if content_type == PROTOBUF:
        return HttpResponse(message.SerializeToString(), content_type=PROTOBUF, status=status)
    return HttpResponse(json_format.MessageToJson(message, indent=None), content_type=JSON, status=status)


def sendable(reason: str) -> str:
    """What is quoted of a body may hold half of a surrogate pair, which no answer can."""
    return reason.encode(errors="replace").decode()


def refuse(content_type: str, refusal: Refusal) -> HttpResponse:
    code = _CODES.get(refusal.status, FAILED_PRECONDITION)
    response = answer(content_type, Status(code=code, message=sendable(refusal.reason)), refusal.status)
    if refusal.status in LATER:
        response["Retry-After"] = str(RETRY_S)
    if refusal.status == 401:
        response["WWW-Authenticate"] = 'Bearer realm="wirbel"'
    return response
