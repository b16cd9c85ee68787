"""Kinds of groups: what sort of relations hold at a place, and what sort of group those of all places make."""

from __future__ import annotations

from collections import Counter

from .field_algebra import Relation


def kind_of(relation: Relation) -> str:
    if relation.plain:
        return "copies" if len(relation.images) == 2 else "sum"
    if len(relation.basis) == len(relation.images) - 1 and _equal(relation):
        return "copies"
    return {1: "two less one", 2: "two"}.get(len(relation.basis), "more")


def _equal(relation: Relation) -> bool:
    """Whether the relations say that all are the same: every one adds up to zero over two images."""
    return all((row != 0).sum() == 2 and len(set(row[row != 0].tolist())) == 1 for row in relation.basis)


def group_kind(count: int, kinds: Counter[str]) -> str:
    """The kind that the full places agree on; where Q is the missing member, a P+Q group shows plain sums too."""
    if not kinds:
        return ""
    if kinds["two less one"] and kinds["two"] < kinds["two less one"]:
        return "two less one" if count > 2 else ""
    told = Counter({kind: number for kind, number in kinds.items() if kind != "more"})
    if told.total() < max(LEAST_TOLD, TOLD_SHARE * kinds.total()) and kinds["more"] >= told.total():
        return ""
    return max(told, key=lambda k: (told[k], k))


LEAST_TOLD, TOLD_SHARE = 4, 0.1
"""Full places that agree on a kind, fewest and of all, where the rest hold more equations than any group has: a pattern
over many rows, under which whatever shares a row adds up. The union of two groups has more of them everywhere."""


def sparse_kind(partly: Counter[str]) -> str:
    """The kind where never all hold something at once: a member that is missing shows only where it held something."""
    return next((kind for kind in ("two less one", "two", "sum") if partly[kind] >= 2), "")
