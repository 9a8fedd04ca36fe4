"""What a process of the server does without until somebody asks for it."""

from __future__ import annotations

import os
import subprocess
import sys

DEAR = ("statsmodels", "scipy.stats", "scipy.optimize", "scipy.signal", "sklearn", "matplotlib")


def test_a_server_that_was_asked_nothing_yet_has_loaded_nothing_dear() -> None:
    """Each takes 10 to 45 MB of each of its processes, and of the time that it takes to start."""
    told = subprocess.run(
        [sys.executable, "-c", f"import django; django.setup(); import sys, wirbel.server.urls; print([name for name in {DEAR} if name in sys.modules])"],
        env=os.environ | {"DJANGO_SETTINGS_MODULE": "wirbel.server.settings", "WIRBEL_DATABASE_URL": "postgresql://nobody@127.0.0.1:9/nothing"},
        capture_output=True,
        text=True,
        check=True,
        timeout=120,
    )
    assert told.stdout.strip().splitlines()[-1] == "[]"
