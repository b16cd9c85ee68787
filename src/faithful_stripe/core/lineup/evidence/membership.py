"""Membership: a group of images that belong together, of which kind, and how well its relation holds."""

from __future__ import annotations

from dataclasses import dataclass, field

LEAST_CLOSING, LEAST_SHARE = 6, 0.42
"""A group must close on this many places, and on this share of those in which it holds data."""

FULL_CLOSING, FULL_SHARE = 24, 0.2
"""Places at which what looks like noise on every image of a group adds up: so many are no chance, and where nothing is
empty nobody can be missing, so a smaller share is enough."""

PLAIN_SHARE = 0.85
"""Of the places in which they hold something, copies of one another are equal at more than this share."""

PARITY_KINDS = ("sum", "two", "two less one")

CHECKS = {"sum": 1, "two": 2, "two less one": 1}
"""The equations that hold in every row of a group."""


@dataclass(frozen=True)
class Membership:
    """Images that belong together.

    images    indices into the pile, ascending
    kind      "sum" (they add up to zero: one parity), "two" (P and Q), "two less one" (P and Q, one member missing),
              "copies" (of one another), "chain" (each pair equal in a part of the rows: RAID 1E),
              "ring" (each found again on the next one, a strip further: RAID 1E offset), "open ring" (one is missing)
    closing   places at which they close, of `blocks` at which one of them holds data
    open      offsets at which they do not, between the first and the last at which they do: before and after,
              members may carry what is not the array's
    order     of a chain or ring, as far as it is known; strip: of a ring, in bytes
    until     where it ends to close on the images, in bytes, where it does so for good: one of them was imaged, or
              rebuilt, or written, as far as that only; 0 where it closes to the end
    """

    images: tuple[int, ...]
    kind: str
    closing: int
    blocks: int
    open: tuple[int, ...] = ()
    order: tuple[int, ...] = field(default=())
    strip: int = 0
    until: int = 0
