"""Sorted lists of half-open byte ranges: where data is, what is stale, what is lost."""

from __future__ import annotations

from collections.abc import Iterable

Range = tuple[int, int]


def union(ranges: Iterable[Range], gap: int = 0) -> list[Range]:
    """The ranges (start, end) in bytes, sorted, empty ones dropped, neighbours up to `gap` bytes apart joined.

    >>> union([(8, 9), (0, 4), (4, 6)])
    [(0, 6), (8, 9)]
    """
    joined: list[Range] = []
    for start, end in sorted(r for r in ranges if r[1] > r[0]):
        if joined and start <= joined[-1][1] + gap:
            joined[-1] = (joined[-1][0], max(joined[-1][1], end))
        else:
            joined.append((start, end))
    return joined


def clip(ranges: Iterable[Range], start: int, end: int) -> list[Range]:
    """The parts of the ranges inside [start, end).

    >>> clip([(0, 6), (8, 9)], 5, 20)
    [(5, 6), (8, 9)]
    """
    return [(max(a, start), min(b, end)) for a, b in ranges if max(a, start) < min(b, end)]


def widen(ranges: Iterable[Range], unit: int, origin: int = 0) -> list[Range]:
    """The ranges grown outwards to multiples of `unit` bytes counted from `origin`, joined.

    >>> widen([(5, 6), (8, 9)], 4)
    [(4, 12)]
    """
    return union(
        (origin + (a - origin) // unit * unit, origin - (origin - b) // unit * unit) for a, b in ranges if b > a
    )


def subtract(ranges: Iterable[Range], holes: Iterable[Range]) -> list[Range]:
    """What is left of the ranges outside `holes` (both sorted and disjoint).

    >>> subtract([(0, 10)], [(2, 3), (8, 12)])
    [(0, 2), (3, 8)]
    """
    left: list[Range] = []
    cuts = list(holes)
    for start, end in ranges:
        at = start
        for a, b in cuts:
            if b <= at or a >= end:
                continue
            if a > at:
                left.append((at, a))
            at = max(at, b)
        if at < end:
            left.append((at, end))
    return left


def total(ranges: Iterable[Range]) -> int:
    """Bytes covered by disjoint ranges."""
    return sum(b - a for a, b in ranges)
