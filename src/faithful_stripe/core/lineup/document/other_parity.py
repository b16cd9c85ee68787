"""A second parity that is not counted as RAID 6 is here: what it is, as a value."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any


class Second(StrEnum):
    """How a second parity is computed."""

    Q = "q"
    """Powers of x over a polynomial, as in RAID 6 here, but over another one."""
    DIAGONAL = "diagonal"
    """Along the diagonals of the strips' pieces."""
    UNKNOWN = "unknown"


@dataclass(frozen=True)
class SecondParity:
    """An array of which P matches, and a second parity stands in every row.

    images      the members in their order round the circle, by name: the next one's place holds the second parity in
                the next row
    matching    places at which P matches, of `places` that could tell
    strip       in bytes: that much further the second parity stands on the next one; 0 where that is not told
    kind        how it is computed; polynomial: of Q, as an integer with the bit of x^8
    """

    images: tuple[str, ...]
    matching: int
    places: int
    strip: int
    kind: Second = Second.UNKNOWN
    polynomial: int = 0

    def as_document(self) -> dict[str, Any]:
        return {
            "images": list(self.images), "matching": self.matching, "places": self.places, "strip_bytes": self.strip,
            "kind": self.kind.value, **({"polynomial": self.polynomial} if self.polynomial else {}),
        }  # fmt: skip
