"""Templates that differ only in words that vary are one: a tree of fixed depth, by length and first word, then by how many words agree.

He, Zhu, Zheng and Lyu, "Drain: An online log parsing approach with fixed depth tree", ICWS 2017. It is given
templates that are masked already (masks.py), of which there are few however many records there are.
"""

from __future__ import annotations

from collections.abc import Sequence

from wirbel.core.patterns.masks import MASK

SIMILAR = 0.6  # share of the words that agree
LEAST_WORDS = 3  # of a template: shorter ones are what they are
MOST_GROUPS = 60  # with one length and first word; what comes later and is like none of them joins the last


def group(templates: Sequence[str]) -> tuple[list[int], list[str]]:
    """Number of the group of each template, and the common template of each group: words that vary in it are masked.

    Groups are the same for the same templates in the same order.
    """
    leaves: dict[tuple[int, str], list[int]] = {}
    words: list[list[str]] = []
    numbers = []
    for template in templates:
        own = template.split()
        leaf = leaves.setdefault((len(own), "" if not own or MASK in own[0] else own[0]), [])
        number = _closest(own, leaf, words)
        if number is None:
            number = len(words)
            words.append(own)
            leaf.append(number)
        else:
            words[number] = [word if word == other else MASK for word, other in zip(words[number], own, strict=True)]
        numbers.append(number)
    return numbers, [" ".join(one) for one in words]


def _closest(own: list[str], leaf: list[int], words: list[list[str]]) -> int | None:
    """The group in a leaf with which most words agree, if they are enough."""
    if len(own) < LEAST_WORDS:
        return next((number for number in leaf if words[number] == own), None)
    agree = {number: sum(word == other for word, other in zip(words[number], own, strict=True)) / len(own) for number in leaf}
    best = max(agree, key=lambda number: agree[number], default=None)
    if best is not None and (agree[best] >= SIMILAR or len(leaf) >= MOST_GROUPS):
        return best
    return None
