"""The four verdicts of a lineup, each with its own evidence: order, start, currency and soundness.

Sampling can prove an order and a start; that every member is up to date, and every byte what it was, only a pass over
everything that holds data can say, and only where redundancy is left to speak.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any


class Sure(StrEnum):
    """How sure a verdict is, the surest first."""

    CERTAIN = "certain"
    PROBABLE = "probable"
    UNTESTED = "not tested"
    """Reading everything that holds data would tell."""
    UNTESTABLE = "not testable"
    """Nothing on the members could tell."""
    UNDECIDED = "undecided"
    CONTRADICTED = "contradicted"
    """It is known not to be so."""


def least_of(*verdicts: Sure) -> Sure:
    """The least sure of some."""
    return max(verdicts, key=tuple(Sure).index)


class Reason(StrEnum):
    """Why, as a code; sentences are made where they are shown."""

    # order
    PROVEN = "proven"
    RIVAL = "rival"
    FAILING = "failing"
    ELIMINATION = "by-elimination"
    FEW = "few-facts"
    GUESSED = "guessed-only"
    EXCHANGE = "exchange-explains"
    SHIFT = "depends-on-start"
    Q_RULE = "q-rule"
    STOPPED = "stopped"
    UNTRIED = "rivals-untried"
    LEFT_OUT = "left-out"
    UNCOUNTED = "members-not-counted"
    GIVEN = "given"
    TWICE = "in-two-layouts"
    # start
    TABLE = "partition-table"
    SECOND_TABLE = "second-partition-table"
    LABEL = "label"
    HEAD = "first-bytes"
    FIRST_ROW = "first-row"
    DDF = "ddf"
    NOTHING_SAYS = "nothing-says"
    DATA_BEFORE = "data-before"
    TABLE_ELSEWHERE = "table-elsewhere"
    # currency and soundness
    ALL_READ = "all-rows-read"
    SAMPLED = "sampled"
    NO_REDUNDANCY = "no-redundancy"
    OUT_OF_DATE = "out-of-date"
    OPEN_ROWS = "open-rows"
    COMPUTED = "computed"
    BLANK = "blank"
    CHECKSUMS = "checksums"
    EMPTY_FRONT = "empty-front"
    PLACING = "order-or-start"
    BEYOND = "data-beyond"
    OLDER = "older"
    DISPLACED = "displaced"


@dataclass(frozen=True)
class Verdict:
    """How sure, why, and the figures that belong to it.

    images  whom it concerns; count: bytes, rows or facts, as the reason needs
    """

    sure: Sure
    reason: Reason
    images: tuple[str, ...] = ()
    count: int = 0

    def as_document(self) -> dict[str, Any]:
        return {
            "verdict": self.sure.value, "reason": self.reason.value,
            **({"images": list(self.images)} if self.images else {}), **({"count": self.count} if self.count else {}),
        }  # fmt: skip

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> Verdict:
        """Raises KeyError, TypeError, ValueError where it is not one."""
        images = tuple(map(str, document.get("images", ())))
        return cls(Sure(document["verdict"]), Reason(document["reason"]), images, int(document.get("count", 0)))


NAMES = ("order", "start", "currency", "soundness")


@dataclass(frozen=True)
class Verdicts:
    """All four."""

    order: Verdict
    start: Verdict
    currency: Verdict = Verdict(Sure.UNTESTED, Reason.SAMPLED)
    soundness: Verdict = Verdict(Sure.UNTESTED, Reason.SAMPLED)

    @property
    def certain(self) -> bool:
        """Whether what is handed over is proven right: nothing less than all four."""
        return all(getattr(self, name).sure is Sure.CERTAIN for name in NAMES)

    @property
    def placing(self) -> str:
        """Of order and start together: certain, probable or undecided."""
        sure = {self.order.sure, self.start.sure}
        weak = sure - {Sure.CERTAIN, Sure.PROBABLE}
        return "undecided" if weak else "certain" if sure == {Sure.CERTAIN} else "probable"

    @property
    def whole(self) -> str:
        """One word for all four."""
        return "certain" if self.certain else "probable" if self.placing == "certain" else self.placing

    @property
    def strength(self) -> str:
        """How sure the order is, for what is looked for next: a start that nothing states is not found by reading
        more."""
        order, start = self.order, self.start
        if order.sure is Sure.UNDECIDED or (start.sure is Sure.UNDECIDED and start.reason is not Reason.NOTHING_SAYS):
            return "undecided"
        unstated = start.sure is Sure.CERTAIN or start.reason is Reason.NOTHING_SAYS
        return "certain" if unstated and (order.sure is Sure.CERTAIN or order.reason is Reason.SHIFT) else "probable"

    def doubted(self, reason: Reason) -> Verdicts:
        """With the order undecided."""
        return replace(self, order=Verdict(Sure.UNDECIDED, reason))

    def as_document(self) -> dict[str, Any]:
        return {name: getattr(self, name).as_document() for name in NAMES}

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> Verdicts:
        """Raises KeyError, TypeError, ValueError where they are not."""
        return cls(*(Verdict.from_document(document[name]) for name in NAMES))


def placed(word: str, start: Verdict | None = None) -> Verdicts:
    """Verdicts where order and start are told by one thing: certain, probable or undecided."""
    sure = Sure(word)
    reason = Reason.PROVEN if sure is Sure.CERTAIN else Reason.FEW
    return Verdicts(Verdict(sure, reason), start or Verdict(sure, Reason.HEAD if sure is Sure.CERTAIN else Reason.FEW))
