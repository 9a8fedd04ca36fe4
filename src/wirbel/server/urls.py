"""What answers where; the doors of intake stand before Django (intake/asgi.py)."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from wirbel.server.api import api
from wirbel.server.live import live


@ensure_csrf_cookie
def page(request: HttpRequest) -> HttpResponse:
    """The front end, for every address that is a view of it."""
    index = settings.WHITENOISE_ROOT / "index.html"
    if not index.exists():
        return HttpResponse("The front end is not built; start with ./wirbel serve or ./wirbel demo.\n", status=503, content_type="text/plain")
    return HttpResponse(index.read_bytes(), content_type="text/html; charset=utf-8", headers={"Cache-Control": "no-cache"})


handler500 = "wirbel.server.away.failed"
urlpatterns = [
    path("api/live", live),
    path("api/", api.urls),
    re_path(r"^(?!api/|v1/|assets/)[\s\S]*$", page),
]
