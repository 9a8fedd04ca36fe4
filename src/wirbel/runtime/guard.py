"""Stops the embedded database when nobody uses it any more, however they ended: ``python -m wirbel.runtime.guard HOME``.

It waits for the end of its standard input, which only the one holds open that it guards for: that comes even if that one was killed.
"""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from wirbel.runtime import in_use
from wirbel.runtime.database import CannotStart

PATIENCE_S, LOOK_S = 20.0, 0.2  # one that dies may hold its lock for a moment after it has closed our input


@contextmanager
def watch_over(home: Path) -> Iterator[None]:
    """For a process that uses the database in ``home``, and stops it where it ends in order; nothing is left for the guard then."""
    command = [sys.executable, "-m", "wirbel.runtime.guard", str(home)]
    with subprocess.Popen(command, stdin=subprocess.PIPE, start_new_session=True) as guard:
        try:
            yield
        finally:
            guard.kill()


def main() -> None:
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
    sys.stdin.buffer.read()
    deadline = time.monotonic() + PATIENCE_S
    with suppress(CannotStart):  # whoever needs the folder says so
        while not in_use.stop_if_unused(Path(sys.argv[1])) and time.monotonic() < deadline:
            time.sleep(LOOK_S)


if __name__ == "__main__":
    main()
