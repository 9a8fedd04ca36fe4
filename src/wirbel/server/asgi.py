"""The web application."""

from __future__ import annotations

import os
import sys
import warnings

from django.core.asgi import get_asgi_application

# Static files are read synchronously, which Django warns of; they are few, small and cached by browsers.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "wirbel.server.settings")
# Arrow and NumPy let go of the interpreter in every call. Beside a busy thread each return to it would wait out the
# interval, 5 ms by default: measured, a decode of 37 ms then took 2.7 s, with this 0.12 s.
sys.setswitchinterval(0.0002)
_django = get_asgi_application()

from wirbel.intake.asgi import Doors  # noqa: E402  needs Django to be set up
from wirbel.server.middleware import BodyLimit, Bounds  # noqa: E402

application = BodyLimit(Doors(Bounds(_django)))
