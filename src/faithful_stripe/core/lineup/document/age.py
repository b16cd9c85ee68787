"""How old what a member holds is beside the rest, as a value."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

OLDER_NATS = 14.0
"""From which a member is called older than the others."""


class Unit(StrEnum):
    """What tells the age of a structure."""

    SECONDS = "seconds"
    """A time, in seconds since 1970."""
    GENERATION = "generation"
    """The number of the transaction that wrote it."""
    LOG_NUMBER = "log-number"
    """The place in the journal of the change that wrote it."""


@dataclass(frozen=True)
class Age:
    """How old what a member holds is beside the rest.

    member  its position
    unit    what newest and behind are counted in
    newest  the newest on it; behind: how much newer the newest anywhere is
    strips  of the member that were looked at; newer: strips elsewhere that are newer than anything on it
    nats    how much speaks against its being up to date
    """

    member: int
    unit: Unit
    newest: int
    behind: int
    strips: int
    newer: int
    nats: float

    @property
    def older(self) -> bool:
        return self.nats >= OLDER_NATS

    def as_document(self) -> dict[str, Any]:
        return {
            "member": self.member, "unit": self.unit.value, "newest": self.newest, "behind": self.behind,
            "strips": self.strips, "newer": self.newer, "nats": round(self.nats, 1),
        }  # fmt: skip

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> Age:
        """Raises KeyError, TypeError, ValueError where it is not one."""
        numbers = [int(document[key]) for key in ("newest", "behind", "strips", "newer")]
        newest, behind, strips, newer = numbers
        return cls(
            int(document["member"]), Unit(document["unit"]), newest, behind, strips, newer,
            float(document["nats"]),
        )  # fmt: skip
