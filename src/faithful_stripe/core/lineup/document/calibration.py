"""Calibration: of answers that stand as one does, how many were right, as measured over random piles.

What an answer stands on is put into a few figures (`Signs`), and those into a probability by a logistic model. Its
weights come with the package (`calibration.toml`) and are not chosen: `benchmarks/calibrate.py` fits them to answers
whose truth is known, and holds them against piles that they were not fitted to. It is the probability that order and
start are as said; what makes an answer certain is a proof (`finishing`), not this.
"""

from __future__ import annotations

import math
import tomllib
from dataclasses import astuple, dataclass
from functools import cache
from pathlib import Path

FILE = Path(__file__).with_name("calibration.toml")

FULL_LEAD = 20.0
"""A lead, in nats, above which answers were not more often right: of caps from 12 to 30, the one that told most."""

MOST_APART = 0.5
"""The share of what states an address that may stand elsewhere than an answer has it. Of 20 answers over random piles
with more (seeds 785, 786 and 811 to 814) none was right; nor was one of 19 with three to five in ten."""


@dataclass(frozen=True)
class Signs:
    """What an answer stands on.

    lead        over the next different answer, nats; total: evidence in all, nats
    members     of the array; missing: of these, images that are not there
    beside      images of the members' size that take no part
    rows        of those sampled, the ones in which more than one strip of data is filled
    eliminated  members whose place is told by nothing but that it was left
    failing     checksums that fail, structures kept out of the search that stand elsewhere, rows that do not match
    closing     the share of places at which the members' relations hold; 0 where there are none
    counted     whether something tells how many members there are
    pinned      whether something tells where the volume begins
    parity      whether the level has parity
    likely      whether no other answer is nearly as good, and nothing in the volume speaks against it
    stated      rows in which something states its address and stands right
    elsewhere   the share of what states an address that stands elsewhere, 0 to 1
    """

    lead: float
    total: float
    members: int
    missing: int
    beside: int
    rows: int
    eliminated: int
    failing: int
    closing: float
    counted: bool
    pinned: bool
    parity: bool
    likely: bool
    stated: int = 0
    elsewhere: float = 0.0

    @property
    def terms(self) -> tuple[float, ...]:
        """The figures as the model takes them: of what may be large, the logarithm; of a lead, as much as still tells
        anything. Where relations hold, they tell who belongs together, whoever lies beside, and that a member is in its
        group, wherever it stands. With fewer rows than members no turn of a rotation is seen whole."""
        untied = 1 - self.closing
        return (
            1.0, min(self.lead, FULL_LEAD) / FULL_LEAD, _log(self.total / self.members), self.missing / self.members,
            _log(self.beside) * untied, min(1.0, self.rows / self.members), self.eliminated / self.members * untied,
            _log(self.failing), float(self.failing > 0), self.closing, float(self.counted), float(self.pinned),
            float(self.parity), float(self.likely),
        )  # fmt: skip

    @classmethod
    def from_list(cls, values: list[float]) -> Signs:
        """From what `as_list` gives."""
        return cls(*values)  # type: ignore[arg-type]

    def as_list(self) -> list[float]:
        """The figures, rounded, for a file."""
        return [round(float(value), 2) for value in astuple(self)]


def _log(value: float) -> float:
    return math.log1p(max(0.0, value))


@dataclass(frozen=True)
class Measured:
    """What was measured: the weights of the model's terms, and the least share of right answers, 0 to 1, from which on
    an answer is called probable: then, of all that were, at least 95 of 100 were right."""

    weights: tuple[float, ...]
    least: float


@cache
def measured() -> Measured:
    """What comes with the package."""
    told = tomllib.loads(FILE.read_text())
    return Measured(tuple(told["weights"]), told["least"])


def chance(signs: Signs) -> float:
    """The share of answers on such signs that were right, 0 to 1: 1 / (1 + exp(-sum of weight * term))."""
    told = sum(w * t for w, t in zip(measured().weights, signs.terms, strict=True))
    return 1 / (1 + math.exp(-max(-40.0, min(40.0, told))))
