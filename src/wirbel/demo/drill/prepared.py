"""A drill as far as it does not depend on the diagnosis: made once, and kept, so that another diagnosis is asked about the same."""

from __future__ import annotations

import os
import pickle
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa

from wirbel.core.diagnosis import inquire
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.model import Question
from wirbel.core.errors import NotEnoughData, WirbelError
from wirbel.demo.drill.answer import diagnosed, look, question
from wirbel.demo.drill.memory import Memory
from wirbel.demo.drill.watch import Seen
from wirbel.inquiry import schemas

T = TypeVar("T")
CODEC = "zstd"


@dataclass(frozen=True)
class Prepared:
    """``looked`` is what was noticed and what the plain methods say (answer.look); ``records`` are None where too little is known to ask."""

    truth: dict[str, Any]
    looked: dict[str, Any]
    question: Question | None
    records: Records | None
    lacks: str | None = None

    def answer(self) -> dict[str, Any]:
        """As answer.answer would give it."""
        return self.looked | diagnosed(self._diagnosis)

    def _diagnosis(self) -> dict[str, Any]:
        if self.question is None or self.records is None:
            raise NotEnoughData(self.lacks or "")
        return schemas.contract(inquire.answer(Case(self.question, self.records)), 0).model_dump(by_alias=True)


def prepare(known: Memory, truth: dict[str, Any], whole: bool) -> Prepared:
    """Without ``whole`` only what is asked about is looked for, and not all that was noticed: a fit needs no more."""
    looked, seen, focus = (look if whole else _asked)(known, known.start, known.end)
    try:
        case = known.case(seen.service, seen.signal, focus)
    except WirbelError as error:
        return Prepared(truth, looked, None, None, str(error))
    return Prepared(truth, looked, case.question, case.records)


def _asked(known: Memory, start: int, end: int) -> tuple[dict[str, Any], Seen, tuple[int, int]]:
    watched, seen, focus = question(known, start, end)
    return {"seen": None if watched.seen is None else asdict(watched.seen)}, seen, focus


def kept(folder: Path, name: str, make: Callable[[], T]) -> T:
    """What ``make`` gives, made once and then read from a file of ``folder``."""
    file = folder / f"{name}.pickle"
    if file.exists():
        with pa.CompressedInputStream(str(file), CODEC) as stream:
            return pickle.loads(stream.read())  # type: ignore[no-any-return]
    found = make()
    folder.mkdir(parents=True, exist_ok=True)
    unfinished = file.with_suffix(f".{os.getpid()}")
    with pa.CompressedOutputStream(str(unfinished), CODEC) as stream:
        stream.write(pickle.dumps(found, protocol=5))
    unfinished.replace(file)
    return found
