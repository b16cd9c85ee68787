"""What a person knows of an array: fixed points of the search, and held against what the data say."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from ..arrays.levels import LEVELS
from .cast import Cast, Column, layouts_of
from .document import Lineup
from .membership import Membership
from .verdicts import Reason, Sure, Verdict

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

    def casts(
        self, options: Sequence[Cast], images: set[int], groups: Sequence[Membership], names: Sequence[str]
    ) -> list[Cast]:
        """The casts that agree with what is given, with it fixed in them; made for it where there are none."""
        if not self.anything:
            return list(options)
        fitting = [o for o in options if self._fits(o)] or self._made(images, groups)
        named = {n: i for i, n in enumerate(names)}
        return [
            replace(o, strip=self.strip_bytes or o.strip, start=self.start, phase=self._phase(o), seats=seats)
            for o in fitting if (seats := self._seats(o, named)) is not None
        ]  # fmt: skip

    @property
    def start(self) -> int:
        """In bytes; -1 where it is not given."""
        return -1 if self.start_bytes is None else self.start_bytes

    def _phase(self, cast: Cast) -> int:
        both = self.start_bytes is not None and self.strip_bytes is not None
        return (self.start_bytes or 0) % (self.strip_bytes or 1) if both else cast.phase

    def _fits(self, cast: Cast) -> bool:
        count = cast.positions * cast.copies
        return self.level in (None, cast.level) and self.count in (None, count)

    def _made(self, images: set[int], groups: Sequence[Membership]) -> list[Cast]:
        """Casts of the images that belong together, as many positions as are given."""
        count = self.count or len(images)
        levels = [self.level] if self.level else [n for n in LEVELS if n not in ("RAID1", "RAID1E", "SPAN", "RAID10")]
        inside = tuple(tuple(sorted(g.images)) for g in groups if set(g.images) <= images and g.kind != "copies")
        columns: tuple[Column, ...] = tuple((i,) for i in sorted(images))
        index = {c[0]: n for n, c in enumerate(columns)}
        found: list[Cast] = []
        for level in levels:
            nested = level in ("RAID50", "RAID60")
            for spans in [s for s in range(2, count // 2 + 1) if count % s == 0] if nested else [1]:
                made = layouts_of(level, count // 2 if level == "RAID10" else count, spans) if level in LEVELS else ()
                kept = [tuple(index[i] for i in g) for g in inside if len(g) <= count // spans]
                if made and len(columns) <= made[0].members:
                    found.append(Cast(level, made, columns, tuple(kept), 2 if level == "RAID10" else 1))
        return found

    def _seats(self, cast: Cast, named: dict[str, int]) -> tuple[int, ...] | None:
        """By position of the cast: the column that stands there, -1 where that is open, -2 where none does; None where
        an image that is given takes no part in it."""
        if not self.order:
            return ()
        column = {image: c for c, images in enumerate(cast.columns) for image in images}
        seats = [-1] * cast.positions
        for position, name in enumerate(self.order):
            at = position // cast.copies
            if name == MISSING and cast.copies == 1:
                seats[at] = -2
            elif name not in (OPEN, MISSING):
                if named[name] not in column:
                    return None
                seats[at] = column[named[name]]
        return tuple(seats)


@dataclass(frozen=True)
class Difference:
    """What was given, and what the data say: of "level", "strip" and "start" (bytes), "members", "position N"."""

    what: str
    given: str
    found: str


def only_as_given(found: Lineup) -> Lineup:
    """An array that was found with what was given fixed: no surer than that is."""
    verdicts = found.verdicts
    order, start = (
        Verdict(Sure.PROBABLE, Reason.GIVEN) if v.sure is Sure.CERTAIN else v for v in (verdicts.order, verdicts.start)
    )
    sound = verdicts.soundness
    if sound.sure is Sure.CERTAIN:
        sound = Verdict(Sure.PROBABLE, Reason.PLACING)
    return replace(found, verdicts=replace(verdicts, order=order, start=start, soundness=sound))


def concerned(given: Given, arrays: Iterable[Lineup]) -> Lineup | None:
    """The array that what is given concerns: with most of the images named, then the largest."""
    named = set(given.order)
    return max(arrays, key=lambda a: (len(named & {m for m in a.members if m}), len(a.members)), default=None)
