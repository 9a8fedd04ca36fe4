"""The diagnosis: from the records of two windows to an answer with evidence."""

from __future__ import annotations

import numpy as np

from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.missing import would_tell
from wirbel.core.diagnosis.model import Answer, Question
from wirbel.core.diagnosis.ranking import rank
from wirbel.core.diagnosis.requests import Requests


def diagnose(question: Question, records: Records) -> Answer:
    """Answers ``question`` from what is known of both windows and the time between them.

    Raises NotEnoughData when a window has fewer than 20 requests of the symptom; of a question about traffic none is needed.
    """
    return answer(Case(question, records))


def answer(case: Case) -> Answer:
    """The answer to a case: see :func:`diagnose`."""
    question = case.question
    about_traffic = question.signal == "throughput"
    if not about_traffic:
        case.check_enough()
    found = rank(case)
    return Answer(
        question=question,
        effect=case.effect,
        percentiles={} if about_traffic else _percentiles(case.here),
        onset=case.onset,
        contributions=case.contributions,
        standouts=[] if about_traffic else case.standouts,
        changes=case.judged,
        moved=[] if about_traffic else case.order,
        candidates=found.candidates,
        unexplained=found.unexplained,
        none=found.none,
        would_tell=would_tell(case),
        doubt=case.doubt,
        examples={} if about_traffic else case.examples(),
        series=case.services.sampled(question.signal),
        notes=case.notes,
    )


def _percentiles(here: Requests) -> dict[str, tuple[float | None, float | None]]:
    found: dict[str, tuple[float | None, float | None]] = {}
    for share in (50, 75, 90, 95, 99):
        before, after = (
            float(np.quantile(here.seconds[rows], share / 100, method="inverted_cdf", weights=here.adjusted_count[rows]))
            for rows in (~here.in_focus, here.in_focus)
        )
        found[f"p{share}"] = (before, after)
    return found
