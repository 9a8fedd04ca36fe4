"""What the computation of some code is: a digest that a comment, a docstring or a line break does not change."""

from __future__ import annotations

import ast
import hashlib
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path

import wirbel

ROOT = Path(wirbel.__file__).parent
OBSERVING = ("core/diagnosis", "core/patterns", "core/series", "core/stats")  # what observations follow from
TELLING = ("sentences.py", "cascade.py", "inquire.py")  # of them: how an answer is told; nothing is observed there
WEIGHING = ("ranking.py",)  # and how it is ranked
WATCHING = ("core/deviation", "core/expected", "core/topology", "core/signals")
CHOOSING = ("core/diagnosis/choose.py", "core/diagnosis/mean_requests.py", "core/diagnosis/model.py")  # what is read of what is known
MAKING = ("demo/world", "demo/faults", "demo/telemetry", "demo/making.py", "demo/drill/scene.py", "demo/drill/memory.py")


@lru_cache(maxsize=1)
def of_observations() -> str:
    """Of the code that observes: other code observes otherwise."""
    return _of(file for file in _files(*OBSERVING) if file.name not in (*TELLING, *WEIGHING))


@lru_cache(maxsize=1)
def of_worlds() -> str:
    """Of the code that makes drills, and reads what is known of them, before anything is observed."""
    return _of(_files(*MAKING, *WATCHING, *CHOOSING))


@lru_cache(maxsize=1)
def of_other_world() -> str:
    """The same of the second world."""
    return _of(_files("demo/other", *WATCHING, *CHOOSING))


def _files(*places: str) -> Iterator[Path]:
    for place in places:
        path = ROOT / place
        yield from sorted(path.rglob("*.py")) if path.is_dir() else [path] if path.exists() else []


def _of(files: Iterator[Path]) -> str:
    return hashlib.sha256("\0".join(computed(file.read_text()) for file in files).encode()).hexdigest()[:16]


def computed(source: str) -> str:
    """What Python code computes, without what it says of itself."""
    tree = ast.parse(source)
    for node in ast.walk(tree):
        body = getattr(node, "body", None)
        if isinstance(body, list):
            node.body = [one for one in body if not _is_text(one)]  # type: ignore[attr-defined]
    return ast.dump(tree)


def _is_text(node: ast.AST) -> bool:
    return isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and isinstance(node.value.value, str)
