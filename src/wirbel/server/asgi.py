"""The web application."""

from __future__ import annotations

import os
import sys
import warnings

import django
from asgiref.sync import sync_to_async
from django.core.handlers.asgi import ASGIHandler
from django.http import HttpRequest
from django.http.response import HttpResponseBase

# Static files are read synchronously, which Django warns of; they are few, small and cached by browsers.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "wirbel.server.settings")
# Arrow and NumPy let go of the interpreter in every call. Beside a busy thread each return to it would wait out the
# interval, 5 ms by default: measured, a decode of 37 ms then took 2.7 s, with this 0.12 s.
sys.setswitchinterval(0.0002)
django.setup(set_prefix=False)


class Handler(ASGIHandler):
    """All of a request in one thread. Django's own goes from the event loop to a thread and back for each middleware: measured, that took half of what a short answer takes."""

    def load_middleware(self, is_async: bool = False) -> None:
        super().load_middleware(is_async=False)

    async def get_response_async(self, request: HttpRequest) -> HttpResponseBase:
        return await sync_to_async(self.get_response, thread_sensitive=True)(request)


from wirbel.intake.asgi import Doors  # noqa: E402  needs Django to be set up
from wirbel.server.middleware import BodyLimit, Bounds, NamesAsSent, SlowBodies  # noqa: E402

application = SlowBodies(BodyLimit(Doors(NamesAsSent(Bounds(Handler())))))
