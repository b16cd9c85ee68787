"""Candidates: which images, as what level, might be one array; who stands in it, and how many are missing.

A column is what stands at one position: an image, or the images of one mirror set. Nothing here looks at bytes; it
turns what the algebra found, and which images share a file system, into the arrays that are worth trying.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from ...arrays.layout import EXPONENTS, LEAST_SPARED, MOST_TURN_ROWS, Layout, layout
from ...arrays.levels import LEVELS, MOST_MEMBERS, MOST_SPANS, GeometryError
from ..evidence.membership import PARITY_KINDS, PLAIN_SHARE, Membership

Column = tuple[int, ...]


@dataclass(frozen=True)
class Candidate:
    """An array that might be.

    level    its level
    layouts  what is tried: over columns, so that a RAID 10 is tried as RAID 0 over its mirrors
    columns  what may stand at a position
    groups   columns of each span that the algebra found, by index; the others are free
    copies   members of one mirror set
    strip    where the algebra tells it, in bytes; else 0
    phase    where a strip begins on the images, where the algebra tells it; else -1
    gap      a multiple of the strip, where the algebra tells that much; else 0
    start    where data start on the images, where that is given, in bytes; else -1
    seats    where an order is given, by position: the column that stands there, -1 where that is open, -2 for none
    missing  positions that stay empty; there may also be more columns than positions: some do not belong then
    """

    level: str
    layouts: tuple[Layout, ...]
    columns: tuple[Column, ...]
    groups: tuple[tuple[int, ...], ...] = ()
    copies: int = 1
    strip: int = 0
    phase: int = -1
    gap: int = 0
    start: int = -1
    seats: tuple[int, ...] = ()

    @property
    def positions(self) -> int:
        return self.layouts[0].members

    @property
    def missing(self) -> int:
        return max(0, self.positions - len(self.columns))

    @property
    def images(self) -> tuple[int, ...]:
        return tuple(sorted(i for column in self.columns for i in column))


def layouts_of(level: str, positions: int, spans: int = 1) -> tuple[Layout, ...]:
    """Every layout of a level over so many positions; none where there is none."""
    if level == "RAID10" or (level == "RAID0" and positions >= 1):
        return (layout("RAID0", positions),)
    found = []
    for rotation, data, q in LEVELS[level].layouts:
        for exponent in EXPONENTS if q else (None,):
            try:
                found.append(
                    layout(
                        level, positions, rotation, data, spans=spans if spans > 1 else None,
                        q_place=q, q_exponent=exponent,
                    )
                )  # fmt: skip
            except GeometryError:
                continue
    return tuple(found)


TURNS = tuple(1 << power for power in range(1, MOST_TURN_ROWS.bit_length()))
"""Rows after which delayed parity moves on: powers of two, up to the most that a layout may have."""


def rare_layouts(usual: Sequence[Layout]) -> tuple[Layout, ...]:
    """Beside some usual layouts of one level: with parity that moves on after several rows only, with spare space in
    every row, with an outer stripe whose unit is one strip, and with Q that counts from the last one down."""
    found: list[Layout] = []
    for one in usual:
        if one.rotation not in ("parity-0", "parity-N"):
            continue
        found += [replace(one, turn_rows=turn) for turn in TURNS]
        if one.level == "RAID5" and one.members >= LEAST_SPARED:
            found += [replace(one, spare=spare) for spare in ("after-p", "before-p")]
        if one.spans > 1:
            found.append(replace(one, outer="strip"))
        if one.q_exponent in EXPONENTS:
            found.append(replace(one, q_exponent=f"{one.q_exponent}-reversed"))
    return tuple(found)


def later_turns(plain: Layout) -> tuple[Layout, ...]:
    """The layouts of delayed parity that have the strips of a RAID 4 in their first rows where they are, and later ones
    elsewhere. Of a RAID 0 such may be behind it, too, that lacks just the member with the first rows' parity: that is
    so much rarer that nothing is doubted for it."""
    rotation = {"fixed-N": "parity-N", "fixed-0": "parity-0"}.get(plain.rotation or "")
    if plain.level != "RAID4" or rotation is None:
        return ()
    return tuple(
        layout("RAID5", plain.members, rotation, data, turn_rows=turn)
        for data in ("restart", "continuation") for turn in TURNS
    )  # fmt: skip


def candidates(images: Iterable[int], groups: Sequence[Membership]) -> list[Candidate]:
    """The arrays that images which share something might be, given the groups that they are in."""
    inside = [g for g in groups if set(g.images) & set(images)]
    loose = tuple((i,) for i in sorted(set(images) - {i for g in groups for i in g.images}))
    kinds = {g.kind for g in inside}
    if not inside:
        return _loose(loose)
    if kinds == {"chain"}:
        return _chain(inside, loose)
    if kinds & {"ring", "open ring"}:
        return _ring(inside[0], loose)
    if kinds == {"copies"}:
        return _mirrors(inside, loose)
    if kinds & {"copies", "chain"}:
        return []
    return _parity(inside, loose)


def _made(
    level: str,
    columns: Sequence[Column],
    positions: int,
    spans: int = 1,
    groups: tuple[tuple[int, ...], ...] = (),
    copies: int = 1,
) -> list[Candidate]:
    if not len(columns) <= positions or positions // spans > MOST_MEMBERS or spans > MOST_SPANS:
        return []
    made = layouts_of(level, positions, spans)
    return [Candidate(level, made, tuple(columns), groups, copies)] if made else []


def with_unseen(groups: Sequence[Membership]) -> list[Candidate]:
    """The arrays of one parity group with one or two members more than it shows: they are missing, or blank, and hold
    nothing in the rows that hold anything. Only where structures stand tells of such."""
    if len(groups) != 1 or groups[0].kind not in PARITY_KINDS:
        return []
    group = groups[0]
    shown = len(group.images) + (group.kind == "two less one")
    columns = [(i,) for i in group.images]
    known = (tuple(range(len(columns))),)
    levels = ("RAID5", "RAID4") if group.kind == "sum" else ("RAID6",)
    return [c for more in (1, 2) for level in levels for c in _made(level, columns, shown + more, 1, known)]


def _loose(loose: Sequence[Column]) -> list[Candidate]:
    """Images that close no relation: no redundancy, or all of it is gone."""
    n = len(loose)
    found = _made("RAID0", loose, n) if n > 1 else []
    for level, gone in (("RAID5", 1), ("RAID4", 1), ("RAID6", 2)):
        if n + gone >= LEVELS[level].least:
            found += _made(level, loose, n + gone)
    if n == 2:  # three members or more of a RAID 1E show by what they share
        found += _made("RAID1E", loose, 3)
    for spans in (2, 3, 4):
        for level, gone in (("RAID50", 1), ("RAID60", 2)):
            if (n + gone * spans) % spans == 0 and (n + gone * spans) // spans >= LEVELS[level].least:
                found += _made(level, loose, n + gone * spans, spans)
    return found


def _chain(groups: Sequence[Membership], loose: Sequence[Column]) -> list[Candidate]:
    """The pairs of a RAID 1E; several chains are the pieces that missing members leave."""
    columns = sorted([(i,) for g in groups for i in g.images] + list(loose))
    found = []
    for gone in (0, 1):
        for candidate in _made("RAID1E", columns, len(columns) + gone):
            found.append(
                replace(candidate, layouts=tuple(chosen for chosen in candidate.layouts if chosen.data == "adjacent"))
            )
    return found


def _ring(group: Membership, loose: Sequence[Column]) -> list[Candidate]:
    columns: list[Column] = [*((i,) for i in group.order), *loose]
    found = []
    for gone in (0,) if group.kind == "ring" or loose else (1,):
        for candidate in _made("RAID1E", columns, len(columns) + gone):
            offset = tuple(chosen for chosen in candidate.layouts if chosen.data == "offset")
            found.append(replace(candidate, layouts=offset, strip=group.strip))
    return found


def _mirrors(groups: Sequence[Membership], loose: Sequence[Column]) -> list[Candidate]:
    sets = [g.images for g in groups]
    copies = max(len(s) for s in sets)
    columns = [*sets, *loose]
    # a pair that is equal in a part of the rows only may be two neighbours of a chain that is not seen whole
    partly = copies == 2 and any(g.closing < PLAIN_SHARE * g.blocks for g in groups)
    chain = _chain(groups, loose) if partly else []
    if len(columns) == 1:
        return [Candidate("RAID1", (layout("RAID1", len(sets[0])),), tuple((i,) for i in sets[0]), (), 1), *chain]
    # of what lies about, some may take no part
    least, most = min(2, len(columns)), min(len(columns), MOST_MEMBERS // copies)
    striped = range(most, least - 1, -1)
    return [*(Candidate("RAID10", layouts_of("RAID10", n), tuple(columns), (), copies) for n in striped), *chain]


def _parity(groups: Sequence[Membership], loose: Sequence[Column]) -> list[Candidate]:
    """One or several spans with parity; free images are those of spans that lost as many members as they can."""
    two = any(g.kind != "sum" for g in groups)
    sizes = {len(g.images) + (g.kind == "two less one") for g in groups}
    columns: list[Column] = [(i,) for g in groups for i in g.images]
    index, spans_known = 0, []
    for g in groups:
        spans_known.append(tuple(range(index, index + len(g.images))))
        index += len(g.images)
    if len(sizes) > 1:
        return []
    k = sizes.pop()
    gone = 2 if two else 1
    lost_spans, rest = divmod(len(loose), k - gone) if k > gone else (0, len(loose))
    spans = len(groups) + lost_spans
    found: list[Candidate] = []
    if rest == 0:
        if spans == 1:
            for level in ("RAID6",) if two else ("RAID5", "RAID4"):
                found += _made(level, columns, k, 1, tuple(spans_known))
        else:
            found += _made("RAID60" if two else "RAID50", [*columns, *loose], spans * k, spans, tuple(spans_known))
    if rest:  # what does not add up to a span may be a member that is hurt: it is seated where it fits (`unseated`)
        named = ("RAID60" if two else "RAID50",) if len(groups) > 1 else ("RAID6",) if two else ("RAID5", "RAID4")
        for level in named:
            found += _made(level, columns, len(groups) * k, len(groups), tuple(spans_known))
    if not two and len(groups) == 1 and k >= 3:
        # with P and Q, and the member with Q missing, plain sums hold in a part of the rows only
        partly = groups[0].closing < 0.8 * groups[0].blocks
        found += _made("RAID6", columns, k + 1, 1, tuple(spans_known)) if partly else []
    return found
