"""What a person knows of an array, as values; held against what the data say."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass, replace
from typing import TYPE_CHECKING, Any

from .four_verdicts import Reason, Sure, Verdict

if TYPE_CHECKING:
    from .lineup_document import Lineup

OPEN, MISSING = "?", "-"
"""In an order: any image may stand there; none does."""


@dataclass(frozen=True)
class Given:
    """What is given. None, or an empty order: nothing is said of that.

    members  how many, the missing ones counted
    order    the images' names by position, OPEN or MISSING
    """

    level: str | None = None
    strip_bytes: int | None = None
    start_bytes: int | None = None
    members: int | None = None
    order: tuple[str, ...] = ()

    @property
    def anything(self) -> bool:
        return self != Given()

    @property
    def count(self) -> int | None:
        return len(self.order) or self.members

    def as_document(self) -> dict[str, Any]:
        return {key: list(v) if key == "order" else v for key, v in asdict(self).items() if v not in (None, ())}

    def differences(self, found: Lineup) -> tuple[Difference, ...]:
        """Where an array is not as given."""
        made, told = found.geometry, []
        for what, given, there in (
            ("level", self.level, made.layout.level),
            ("strip", self.strip_bytes, made.strip_bytes if made.layout.level != "RAID1" else self.strip_bytes),
            ("start", self.start_bytes, made.start_bytes[0] if len(set(made.start_bytes)) == 1 else None),
            ("members", self.count, made.members),
        ):
            if given is not None and given != there:
                told.append(Difference(what, str(given), str(there)))
        if len(self.order) == made.members:
            for position, (name, there) in enumerate(zip(self.order, found.seated, strict=True)):
                if name != OPEN and name != (there or MISSING):
                    told.append(Difference(f"position {position}", name, there or MISSING))
        return tuple(told)

    @property
    def start(self) -> int:
        """In bytes; -1 where it is not given."""
        return -1 if self.start_bytes is None else self.start_bytes


@dataclass(frozen=True)
class Difference:
    """What was given, and what the data say: of "level", "strip" and "start" (bytes), "members", "position N"."""

    what: str
    given: str
    found: str


def only_as_given(found: Lineup, given: Given) -> Lineup:
    """An array that was found with what was given fixed: no surer than that is."""
    found = with_start(found, given)
    verdicts = found.verdicts
    order, start = (
        Verdict(Sure.PROBABLE, Reason.GIVEN) if v.sure is Sure.CERTAIN else v for v in (verdicts.order, verdicts.start)
    )
    sound = verdicts.soundness
    if sound.sure is Sure.CERTAIN:
        sound = Verdict(Sure.PROBABLE, Reason.PLACING)
    return replace(found, verdicts=replace(verdicts, order=order, start=start, soundness=sound))


def with_start(found: Lineup, given: Given) -> Lineup:
    """An array that begins where it is given to, and nothing else states: that is what settles it."""
    open_start = found.verdicts.start == Verdict(Sure.UNDECIDED, Reason.NOTHING_SAYS)
    if given.start_bytes is None or not open_start or found.verdicts.order.sure is Sure.UNDECIDED:
        return found
    return replace(found, verdicts=replace(found.verdicts, start=Verdict(Sure.PROBABLE, Reason.GIVEN)))


def concerned(given: Given, arrays: Iterable[Lineup]) -> Lineup | None:
    """The array that what is given concerns: with most of the images named, then the largest."""
    named = set(given.order)
    return max(arrays, key=lambda a: (len(named & {m for m in a.members if m}), len(a.members)), default=None)
