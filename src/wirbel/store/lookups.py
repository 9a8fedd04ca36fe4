"""Lookups of texts that Django has none for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django.db.models import Lookup


class AnyOf(Lookup):  # type: ignore[type-arg]
    """One of a list of texts, which goes to the database as one parameter: ``in`` makes one of each, which with thousands takes longer than the search."""

    lookup_name = "any_of"
    prepare_rhs = False

    def __init__(self, lhs: Any, rhs: Sequence[str]) -> None:
        super().__init__(lhs, list(rhs))

    def as_sql(self, compiler: Any, connection: Any) -> tuple[str, list[Any]]:
        lhs, told = self.process_lhs(compiler, connection)
        rhs, names = self.process_rhs(compiler, connection)
        return f"{lhs} = ANY({rhs})", [*told, *names]
