"""Answers that were kept, whichever version kept them.

An answer is kept as it was given, with the number of its form. Whoever changes what a kept field means or is called adds one
to FORM, and to STEPS what makes an answer of the form before into one of it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pydantic import ValidationError

from wirbel.inquiry.models import Inquiry
from wirbel.inquiry.schemas import InquiryView

FORM = 1
STEPS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {0: dict}
"""From each form to the next. 0: kept before forms were numbered; what those lack has a default."""


def keep(inquiry: Inquiry, answer: dict[str, Any]) -> None:
    """Notes an answer, and what lists tell of it; not stored yet."""
    first = next(iter(answer["candidates"]), None)
    inquiry.form, inquiry.answer = FORM, {"id": str(inquiry.id), **answer}
    inquiry.operation = answer["symptom"]["operation"]
    inquiry.candidate, inquiry.confidence = (first["title"], first["confidence"]) if first else (None, None)


def read(inquiry: Inquiry) -> InquiryView | None:
    """An answer as it is shown now; None if it cannot be read any more."""
    try:
        answer = inquiry.answer
        for form in range(inquiry.form, FORM):
            answer = STEPS[form](answer)
        return InquiryView.model_validate(answer)
    except (ValidationError, LookupError, TypeError, ValueError):
        return None
