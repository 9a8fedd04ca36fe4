"""Public functions of the heart say what they take and give: shapes of arrays, and the errors they raise."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

CORE = Path(__file__).resolve().parents[2] / "src/wirbel/core"
ARRAYS = re.compile(r"Floats|Ints|Bools|NDArray|ArrayLike|Keys")
SHAPES = re.compile(
    r"\([a-z_ ]+,|\bshape|\bone a |\bone each|elementwise|of each|each (row|span|request|value|time|word|sketch|group|key)|rows? |Rows|as :func:", re.IGNORECASE
)


def functions() -> Iterator[tuple[str, ast.FunctionDef]]:
    """Module-level functions without a leading underscore, by file and name."""
    for file in sorted(CORE.rglob("*.py")):
        for node in ast.parse(file.read_text()).body:
            if isinstance(node, ast.FunctionDef) and not node.name.startswith("_"):
                yield f"{file.relative_to(CORE)}:{node.name}", node


def annotations(node: ast.FunctionDef) -> str:
    given = [argument.annotation for argument in [*node.args.args, *node.args.kwonlyargs]]
    return " ".join(ast.unparse(one) for one in [*given, node.returns] if one is not None)


def raised(node: ast.FunctionDef) -> set[str]:
    found = {ast.unparse(one.exc).partition("(")[0] for one in ast.walk(node) if isinstance(one, ast.Raise) and one.exc is not None}
    return {name for name in found if name[:1].isupper()}


@pytest.mark.parametrize(("name", "node"), list(functions()), ids=[name for name, _ in functions()])
def test_a_public_function_says_what_it_takes_gives_and_raises(name: str, node: ast.FunctionDef) -> None:
    text = ast.get_docstring(node) or ""
    assert text, "has no docstring"
    if ARRAYS.search(annotations(node)):
        assert SHAPES.search(text), f"takes or gives arrays and says no shape: {text!r}"
    for error in raised(node):
        assert f"Raises {error}" in text or re.search(rf"Raises[^.]*\b{error}\b", text), f"raises {error} and does not say so: {text!r}"
