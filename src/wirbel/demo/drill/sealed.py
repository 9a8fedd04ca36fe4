"""Keeps the truth from whoever looks for the cause: opening it ends in an error, whichever way."""

from __future__ import annotations

import os
import sys
from pathlib import Path

_sealed: list[str] = []


class Sealed(PermissionError):
    """Detection or diagnosis tried to read the truth."""


def _watch(event: str, arguments: tuple[object, ...]) -> None:
    if not _sealed or event not in (
        "open",
        "os.listdir",
        "os.scandir",
        "subprocess.Popen",
        "os.system",
        "os.posix_spawn",
        "os.rename",
        "os.link",
        "os.symlink",
    ):
        return
    for argument in arguments:
        text = os.fsdecode(argument) if isinstance(argument, str | bytes | os.PathLike) else str(argument)
        place = os.path.realpath(text) if event == "open" and not isinstance(argument, int) else text
        if any(folder in place for folder in _sealed):
            raise Sealed(f"{event} {argument}: the truth of a drill is not for those who look for it")


sys.addaudithook(_watch)


def seal(folder: Path) -> None:
    """From now on this process cannot open anything in the folder; a hook cannot be taken away again."""
    _sealed.append(str(folder.resolve()))
