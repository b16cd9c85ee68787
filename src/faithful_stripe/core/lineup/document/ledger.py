"""The ledger of an answer: what each kind of evidence weighs for it and against it, entry by entry, in nats."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any


class Kind(StrEnum):
    """Kinds of evidence."""

    ADDRESSES = "addresses"
    """Structures that state their own address, each where the answer puts it; those of one cell are one fact."""
    ROLES = "roles"
    """What the relations of P and Q spell of each member's role."""
    EMPTY = "empty-parity"
    """Parity strips that would be empty beside one strip of data."""
    MISSING = "missing"
    """Members that are not there: such an answer has fewer places to be wrong in."""
    SEAMS = "seams-and-start"
    """How blocks go on from one another, and where the data begin: all else that the search weighed."""
    WALKED = "walked"
    """Structures of the file system with a checksum, read in the volume."""
    KEPT_OUT = "kept-out"
    """Facts that were kept out of the search, read in the volume."""
    FILES = "files"
    """Files with a checksum of their own that lie over several strips."""
    DIRECTORIES = "directories"
    """Directories that stand where their inodes say."""
    ROWS = "rows"
    """Rows of copies that differ."""
    SIZE = "size"
    """A file system that is larger than the volume."""
    COMPUTED = "computed"
    """Whether what is computed for missing members looks like what the others hold, and what nobody could test."""


@dataclass(frozen=True)
class Entry:
    """What one kind of evidence weighs.

    nats      for the answer, negative against it
    agree     facts that agree with it; contrary: that contradict it. What is silent is not counted
    """

    kind: Kind
    nats: float
    agree: int = 0
    contrary: int = 0

    def as_document(self) -> dict[str, Any]:
        return {"kind": str(self.kind), "nats": round(self.nats, 2), "agree": self.agree, "contrary": self.contrary}

    @classmethod
    def from_document(cls, told: dict[str, Any]) -> Entry:
        """Raises KeyError, TypeError, ValueError where it is not one."""
        return cls(Kind(told["kind"]), float(told["nats"]), int(told["agree"]), int(told["contrary"]))


Ledger = tuple[Entry, ...]
"""All entries of one answer: together they are its score."""


def total(ledger: Ledger) -> float:
    """What all of it weighs, in nats."""
    return sum(entry.nats for entry in ledger)
