"""What a Dask worker runs: its machine needs this package and ``WIRBEL_DATABASE_URL``.

Dask imports this module before anything of Django is set up, so it imports the rest late.
"""

from __future__ import annotations

import os
import pickle

import django
from django.apps import apps


def read(packed: bytes) -> bytes:
    """Partial results of some blocks; pickled, because what is in them needs Django set up."""
    if not apps.ready:
        os.environ.setdefault("DJANGO_SETTINGS_MODULE", "wirbel.server.settings")
        django.setup()
    from django.db import connection

    from wirbel.store import block_work

    try:
        return pickle.dumps(block_work.read_in(*pickle.loads(packed)))
    finally:
        connection.close()
