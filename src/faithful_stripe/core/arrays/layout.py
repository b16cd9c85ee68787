"""Where strips stand in one period of rows: the definitions of every level, as cells and check equations.

The terms (rotation parity-0 and parity-N; data restart and continuation) are the RAID-level qualifiers of
the SNIA Common RAID Disk Data Format. A pattern repeats down the members; everything else about an array
(maps both ways, reads, writes, rebuilds, checks, margins) is derived from it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
import numpy.typing as npt

from .codes import Checks
from .gf256 import power
from .levels import MOST_MEMBERS, MOST_SPANS, GeometryError, Level, Qualifiers, level_named

P_CELL, Q_CELL, UNUSED = -1, -2, -3
"""What `Pattern.index` holds where no data strip stands (UNUSED only leaves the map `to_volume`)."""

Cell = tuple[int, int]
"""(row in the period, member)."""


@dataclass(frozen=True)
class Group:
    """Cells that belong together, and the equations between them.

    cells   data cells first, in logical order, then copies or P, Q
    data    how many of them are data
    checks  one row of coefficients per equation, one column per cell
    """

    cells: tuple[Cell, ...]
    data: int
    checks: Checks

    @property
    def members(self) -> frozenset[int]:
        return frozenset(member for _row, member in self.cells)


@dataclass(frozen=True, eq=False)
class Pattern:
    """One period of an array: `rows` rows of `members` cells.

    index   int64 (rows, members): the data strip's number in the period, or P_CELL, Q_CELL, UNUSED (spare space)
    groups  every redundancy group; group g holds the data strips g*k .. g*k + k - 1 of the period, unless the outer
            stripe's unit is one strip
    """

    rows: int
    members: int
    index: npt.NDArray[np.int64]
    groups: tuple[Group, ...]

    @cached_property
    def strips(self) -> int:
        """Data strips in one period."""
        return int(self.index.max()) + 1

    @cached_property
    def places(self) -> npt.NDArray[np.int64]:
        """(copies, strips, 2): row and member of each copy of each data strip."""
        found: list[list[Cell]] = [[] for _ in range(self.strips)]
        for row in range(self.rows):
            for member in range(self.members):
                if self.index[row, member] >= 0:
                    found[self.index[row, member]].append((row, member))
        return np.array(found, np.int64).transpose(1, 0, 2)

    @cached_property
    def group_strips(self) -> int:
        """Data strips in each group."""
        return self.groups[0].data

    @cached_property
    def cells(self) -> npt.NDArray[np.int64]:
        """int64 (strips, 2): of each data strip of the period, its group and which cell of it holds its first copy."""
        found = np.zeros((self.strips, 2), np.int64)
        for number, group in enumerate(self.groups):
            for cell, (row, member) in reversed(list(enumerate(group.cells[: group.data]))):
                found[self.index[row, member]] = number, cell
        return found

    @cached_property
    def unit_rows(self) -> int:
        """Rows that must be handled together: 1 where every group lies in one row, else the period."""
        return 1 if all(len({row for row, _ in g.cells}) == 1 for g in self.groups) else self.rows

    @cached_property
    def sets(self) -> tuple[tuple[frozenset[int], int], ...]:
        """Distinct (members, failures they survive) of the groups: what the margin is counted over."""
        return tuple({(g.members, len(g.checks)) for g in self.groups})

    def strips_within(self, rows: int) -> int:
        """Data strips, counted from the start, of which every copy lies in the first `rows` rows."""
        whole, rest = divmod(rows, self.rows)
        ends = self.places[:, :, 0].max(axis=0) < rest
        return whole * self.strips + (len(ends) if ends.all() else int(np.argmin(ends)))


@dataclass(frozen=True)
class Rule:
    """Where P and Q stand in row r of n members, and where data run from there.

    start, turn  P is at (n - start + turn * r) mod n; turn 0 keeps it there
    data_after   restart: None, data fill the free places in ascending order;
                 continuation: data strip d is at (P + data_after + d) mod n
    q            Q is at (P + q) mod n; 0 where there is no Q
    """

    start: int
    turn: int
    data_after: int | None
    q: int = 0


PARITY_RULES: dict[Qualifiers, Rule] = {
    ("fixed-0", None, None): Rule(0, 0, None),
    ("fixed-N", None, None): Rule(1, 0, None),
    ("parity-0", "restart", None): Rule(0, +1, None),
    ("parity-0", "continuation", None): Rule(0, +1, 1),
    ("parity-N", "restart", None): Rule(1, -1, None),
    ("parity-N", "continuation", None): Rule(1, -1, 1),
    ("parity-0", "restart", "after-p"): Rule(0, +1, None, +1),
    ("parity-N", "restart", "after-p"): Rule(2, -1, None, +1),
    ("parity-N", "continuation", "before-p"): Rule(1, -1, 1, -1),
    ("parity-N", "continuation", "after-p"): Rule(1, -1, 2, +1),
}

EXPONENTS = ("data-index", "member-position")
RARE_EXPONENTS = ("data-index-reversed", "member-position-reversed")
"""Counted from the last one down: found on drives, and read."""

OTHER = "other"
"""Q's place is known, and not how it is counted: found on drives, and read by P alone."""


@dataclass(frozen=True)
class Layout:
    """The choice of a level and its qualifiers: everything about the strips but their size.

    members     in all spans together; the rest as in the lineup document
    spans       inner arrays of a nested level, one after the other in the members; else 1
    copies      members that hold the same: of one mirror (RAID 10), neighbours (RAID 1E), all (RAID 1); else 1
    q_place     "after-p" or "before-p", q_exponent "data-index" or "member-position" (RAID 6, 60), either of them
                "-reversed" where it is counted from the last one down; "other" where no rule here says how
    turn_rows   rows after which parity moves on to the next member: 1, or more where its rotation is delayed
    spare       "after-p" or "before-p": one strip of each row stays free, there (RAID 5 with distributed spare space)
    outer       the unit of a nested level's outer stripe: "row" (all data of one inner row) or "strip"

    The last three are found on drives, and read; no array is made so here.
    """

    level: str
    members: int
    rotation: str | None = None
    data: str | None = None
    spans: int = 1
    copies: int = 1
    q_place: str | None = None
    q_exponent: str | None = None
    turn_rows: int = 1
    spare: str | None = None
    outer: str = "row"

    @property
    def usual(self) -> bool:
        """Whether it is one that arrays are made in here: parity moves on with every row, nothing is left free, and Q
        counts from the first one."""
        rare = self.turn_rows > 1 or self.spare or self.outer != "row" or self.q_exponent in (*RARE_EXPONENTS, OTHER)
        return not rare

    def exponents(self, places: Sequence[int]) -> list[int]:
        """How Q counts the data strips of a row of one span: the exponents of g, by the positions they stand at."""
        rule = self.q_exponent or EXPONENTS[0]
        counted = list(places) if rule.startswith("member-position") else list(range(len(places)))
        last = self.span_members - 1 if rule.startswith("member-position") else len(places) - 1
        return [last - e for e in counted] if rule in RARE_EXPONENTS else counted

    @property
    def counts_positions(self) -> bool:
        """Whether Q counts members by where they stand, so that they cannot be turned round."""
        return (self.q_exponent or "").startswith("member-position")

    @property
    def span_members(self) -> int:
        """Members of one span."""
        return self.members // self.spans

    def pattern(self) -> Pattern:
        """The pattern of this layout."""
        return _pattern(self)


def layout(
    level: str,
    members: int,
    rotation: str | None = None,
    data: str | None = None,
    *,
    spans: int | None = None,
    copies: int | None = None,
    q_place: str | None = None,
    q_exponent: str | None = None,
    turn_rows: int = 1,
    spare: str | None = None,
    outer: str = "row",
) -> Layout:
    """A checked layout, defaults filled in from the level's row in `LEVELS`.

    Raises GeometryError: unknown level, too few or too many members, members that do not divide into equal
    spans or mirrors, unknown qualifiers.
    """
    facts = level_named(level)
    spans = spans or (2 if facts.inner else 1)
    copies = copies or facts.copies or members
    _check_members(facts, members, spans, copies)
    for known in facts.layouts:
        wanted = (rotation, data, q_place)
        if all(w in (None, k) for w, k in zip(wanted, known, strict=True)):
            exponent = (q_exponent or EXPONENTS[0]) if facts.parity == 2 else q_exponent
            if exponent not in ((*EXPONENTS, *RARE_EXPONENTS, OTHER) if facts.parity == 2 else (None,)):
                break
            made = Layout(
                facts.name, members, known[0], known[1], spans, copies, known[2], exponent, turn_rows, spare, outer
            )
            _check_rare(made, facts)
            return made
    allowed = ", ".join(" ".join(filter(None, known)) for known in facts.layouts if any(known))
    asked = " ".join(str(w) for w in (rotation, data, q_place, q_exponent) if w)
    raise GeometryError(what=f"{facts.name} has no layout {asked}", to_do=f"known: {allowed or 'none to choose'}")


MOST_TURN_ROWS = 64
"""Rows for which parity may stay where it is, at most."""

LEAST_SPARED = 4
"""Members of an array with distributed spare space, at least."""

OUTERS, SPARES = ("row", "strip"), (None, "after-p", "before-p")


def _check_rare(made: Layout, facts: Level) -> None:
    """Raises GeometryError where what is rare does not go with the level."""
    rotates = facts.parity and made.rotation in ("parity-0", "parity-N")
    for odd, what, to_do in (
        (
            not 1 <= made.turn_rows <= MOST_TURN_ROWS or (made.turn_rows > 1 and not rotates),
            f"parity of {facts.name} that moves on every {made.turn_rows} rows",
            f"1 to {MOST_TURN_ROWS} rows, where parity rotates",
        ),
        (
            made.spare not in SPARES or (made.spare and (facts.name != "RAID5" or made.members < LEAST_SPARED)),
            f"{facts.name} of {made.members} with spare space {made.spare}",
            "spare space is after-p or before-p, in RAID5 of four drives or more",
        ),
        (
            made.outer not in OUTERS or (made.outer == "strip" and not facts.inner),
            f"{facts.name} striped outside by {made.outer}",
            "the outer unit is a row or a strip, and RAID50 and RAID60 have one",
        ),
    ):
        if odd:
            raise GeometryError(what=what, to_do=to_do)


def _check_members(facts: Level, members: int, spans: int, copies: int) -> None:
    least = facts.least * (spans if facts.inner else 1)
    if members < least:
        raise GeometryError(
            what=f"{facts.name} needs at least {least} drives, got {members}",
            to_do=f"name {least - members} more, or choose a level that takes {members}",
        )
    if spans != 1 and not facts.inner:
        raise GeometryError(what=f"{facts.name} has one span, not {spans}", to_do="RAID50 and RAID60 have several")
    if facts.inner and not 2 <= spans <= MOST_SPANS:
        raise GeometryError(what=f"{facts.name} of {spans} spans", to_do=f"spans are 2 to {MOST_SPANS}")
    if members % spans:
        raise GeometryError(
            what=f"{members} drives do not divide into {spans} equal spans", to_do="give every span as many drives"
        )
    if members // spans > MOST_MEMBERS:
        raise GeometryError(
            what=f"{members // spans} drives in one span", to_do=f"a span has at most {MOST_MEMBERS} members"
        )
    if facts.name == "RAID10" and (copies not in (2, 3) or members % copies or members // copies < 2):
        raise GeometryError(
            what=f"{members} drives do not divide into two or more mirrors of {copies}",
            to_do="RAID10 takes 4, 6, 8, ... drives, or mirrors of three",
        )


@lru_cache(maxsize=512)
def _pattern(chosen: Layout) -> Pattern:
    facts = level_named(chosen.level)
    n = chosen.members
    if facts.parity:
        rule = PARITY_RULES[(chosen.rotation, chosen.data, chosen.q_place)]
        return _parity_pattern(chosen, rule)
    if chosen.level == "RAID1E":
        return _copies_pattern(_mirrored_over_any_number(n, chosen.data))
    return _copies_pattern([[member // chosen.copies for member in range(n)]])


def _mirrored_over_any_number(n: int, data: str | None) -> list[list[int]]:
    """RAID 1E. Adjacent: each strip twice in a row, laid over the rows; offset: a row, then it moved right by one."""
    if data == "offset":
        return [list(range(n)), [(member - 1) % n for member in range(n)]]
    return [[(row * n + member) // 2 for member in range(n)] for row in range(1 + n % 2)]


def _parity_pattern(chosen: Layout, rule: Rule) -> Pattern:
    """Rows in which P (and Q, and spare space) visit every member of a span, as often as it has rows before it moves
    on; spans side by side, whole rows or single strips in turn."""
    n, spans = chosen.span_members, chosen.spans
    rows = n * chosen.turn_rows if rule.turn else 1
    beside = {None: 0, "after-p": 1, "before-p": -1}[chosen.spare]
    index = np.empty((rows, n * spans), np.int64)
    groups = []
    for row in range(rows):
        p = (n - rule.start + rule.turn * (row // chosen.turn_rows)) % n
        parity = [p] if not rule.q else [p, (p + rule.q) % n]
        free = [(p + beside) % n] if beside else []
        if rule.data_after is None:
            places = [member for member in range(n) if member not in (*parity, *free)]
        else:
            after = rule.data_after + (beside == 1)
            places = [(p + after + d) % n for d in range(n - len(parity) - len(free))]
        checked = parity if chosen.q_exponent != OTHER else [p]  # Q by another rule is in no equation
        checks: Checks = ((*(1,) * len(places), 1, *(0,) * (len(checked) - 1)),)
        if len(checked) > 1:
            checks = (*checks, (*(power(e) for e in chosen.exponents(places)), 0, 1))
        for span in range(spans):
            base, count = span * n, len(places)
            for cell, code in zip((*parity, *free), (P_CELL, Q_CELL) if rule.q else (P_CELL, UNUSED), strict=False):
                index[row, base + cell] = code
            inner = np.arange(count)
            number = (row * spans + span) * count + inner
            if chosen.outer == "strip":
                number = (row * count + inner) * spans + span
            index[row, [base + place for place in places]] = number
            cells = tuple((row, base + member) for member in (*places, *checked))
            groups.append(Group(cells, len(places), checks))
    return Pattern(rows, n * spans, index, tuple(groups))


def _copies_pattern(rows: list[list[int]]) -> Pattern:
    """Rows that state each cell's data strip outright; cells with the same number are copies."""
    index = np.array(rows, np.int64)
    groups = []
    for strip in range(int(index.max()) + 1):
        cells = tuple((int(row), int(member)) for row, member in np.argwhere(index == strip))
        checks = tuple(tuple(int(c in (0, copy)) for c in range(len(cells))) for copy in range(1, len(cells)))
        groups.append(Group(cells, 1, checks))
    return Pattern(len(rows), len(rows[0]), index, tuple(groups))
