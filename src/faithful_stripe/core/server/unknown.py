"""What a server does not say: a value of its own, which no comparison takes for good."""

from __future__ import annotations

from enum import Enum
from typing import Final, Literal, NoReturn, TypeVar, Union

T = TypeVar("T")
U = TypeVar("U")


class Unknown(Enum):
    """The type of `UNKNOWN`. It equals nothing, not even itself (as a NaN does), has no order and no truth.

    Two drives whose serial numbers are not told are not the same drive, and a health that is not told is neither good
    nor bad. To ask for it: `value is UNKNOWN`.
    """

    UNKNOWN = "unknown"

    def __bool__(self) -> NoReturn:
        raise TypeError("what is unknown is neither true nor false: ask `is UNKNOWN`")

    def __eq__(self, other: object) -> bool:
        return False

    def __hash__(self) -> int:
        return hash("faithful-stripe unknown")

    def __str__(self) -> str:
        return "not known"

    def __repr__(self) -> str:
        return "UNKNOWN"


UNKNOWN: Final = Unknown.UNKNOWN

Absent = Literal[Unknown.UNKNOWN]
Maybe = Union[T, Absent]  # noqa: UP007  (a generic alias: `Maybe[int]`)
"""A fact that a server may leave out."""


def known(value: Maybe[T], otherwise: U) -> T | U:
    """The fact, or `otherwise` where it is not told.

    >>> known(3, 0), known(UNKNOWN, 0)
    (3, 0)
    """
    return otherwise if value is UNKNOWN else value
