"""The web application."""

from __future__ import annotations

import os
import warnings

from django.core.asgi import get_asgi_application

# Static files are read synchronously, which Django warns of; they are few, small and cached by browsers.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "wirbel.server.settings")
_django = get_asgi_application()

from wirbel.intake.asgi import Doors  # noqa: E402  needs Django to be set up
from wirbel.server.middleware import BodyLimit  # noqa: E402

application = BodyLimit(Doors(_django))
