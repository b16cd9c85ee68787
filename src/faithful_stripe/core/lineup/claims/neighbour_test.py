"""Trying a claim: a lineup that somebody states, tested against the data, and held against those next to it.

A claim comes from a controller's configuration, from a label, from memory. It is tested as it stands: do the rows add
up, does the file system read as it should. Then everything that differs from it in one thing is tried the same way:
two members exchanged, another rotation, a strip twice or half as large, a row earlier or later. A neighbour that holds
where the claim does not names what is wrong in it; one that holds as well says that nothing is proven.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import combinations

from ...arrays.engine import Array, Member
from ...arrays.geometry import STRIP_LEAST, STRIP_MOST, Geometry, geometry
from ...arrays.layout import EXPONENTS, RARE_EXPONENTS
from ...arrays.levels import LEVELS, GeometryError
from ...errors import StripeError
from ...source import BlockSource
from ..document.lineup_document import Lineup
from ..evidence.row_tests import test_rows
from ..reading.samples import Pile, Tell, silent
from ..structures.partition_starts import COMMON_STARTS, partition_starts
from ..structures.standing import standing, structures_on
from ..structures.volume_walk import Proof, prove_ext4

MOST_ROWS = 192
"""Rows whose parity or copies are tested, spread over the data."""

CLOSE = 0.97
"""A lineup in which fewer structures stand right than so much of the most is refused."""

QUICK_INODES, QUICK_FILES = 3000, 24
"""How much of a file system is read for each neighbour of a claim."""


@dataclass(frozen=True)
class Attempt:
    """One lineup that was tried.

    what      "as claimed", or in what it differs from the claim
    rows, broken  rows that were tested, and of these the ones that do not match; 0 where nothing can be tested
    passes, failures  checksums of the file system that hold, and that do not
    standing  structures that state their own address and stand where it puts them
    members   positions of the claim, in this attempt's order
    """

    what: str
    geometry: Geometry
    members: tuple[int, ...]
    rows: int = 0
    broken: int = 0
    passes: int = 0
    failures: int = 0
    standing: int = 0

    @property
    def holds(self) -> bool:
        """Whether everything that could be tested holds, and enough could."""
        return self.broken == 0 and self.failures == 0 and self.passes + self.standing >= 8

    @property
    def refused(self) -> bool:
        return self.broken > 0 or self.failures > 0


@dataclass(frozen=True)
class Trial:
    """What became of a claim.

    verdict  "certain" (it holds, and all that is next to it fails), "probable" (it holds, but so does another),
             "wrong" (it fails, and another one holds), "undecided" (nothing tells)
    """

    verdict: str
    claim: Attempt
    others: tuple[Attempt, ...]
    says: str
    wrong: tuple[str, ...] = ()
    """What is wrong in the claim, where that is more than one thing."""

    @property
    def sure(self) -> bool:
        """Whether what holds instead of a wrong claim is proven by checksums: one alone, and many."""
        fitting = [o for o in self.others if o.holds]
        return len(fitting) == 1 and fitting[0].passes >= 8


def try_claim(
    claim: Lineup, sources: Sequence[Member], tell: Tell = silent,
    spare: Sequence[tuple[str, BlockSource]] = (),
) -> Trial:  # fmt: skip
    """Test a claim over its images (None for a missing one), in the claim's order.

    spare  other images, by name: each is tried in every member's place
    """
    start = Attempt("as claimed", claim.geometry, tuple(range(len(sources))))
    images = [*sources, *(image for _name, image in spare)]
    numbers = [i for i, image in enumerate(images) if image is not None]
    tell("structures that state their own address")
    known = structures_on(Pile([str(i) for i in numbers], [image for image in images if image is not None]), tell)
    tell(start.what)

    def tried(attempt: Attempt) -> Attempt:
        order = [numbers.index(i) if images[i] is not None else None for i in attempt.members]
        return replace(_tried(attempt, images), standing=standing(attempt.geometry, order, known))

    mine = tried(start)
    others = []
    near = [*neighbours(start, sources), *_replaced(start, images, [name for name, _image in spare])]
    for number, other in enumerate(near):
        tell(other.what, number, len(near))
        others.append(tried(other))
    # structures in journals stand elsewhere under any lineup: what counts is whether another one has more of them right
    here = [sum(images[i] is not None for i in one.members) for one in (mine, *others)]
    most = {n: max(o.standing for o, m in zip((mine, *others), here, strict=True) if m == n) for n in here}
    mine, *others = [
        replace(one, failures=one.failures + most[n] - one.standing)
        if most[n] >= 8 and one.standing < CLOSE * most[n] else one
        for one, n in zip((mine, *others), here, strict=True)
    ]  # fmt: skip
    if mine.passes or any(o.passes for o in others):  # a file system is there: where none is read, it should have been
        mine, *others = [o if o.passes or o.failures else replace(o, failures=1) for o in (mine, *others)]
    better = [o for o in others if o.holds and here[others.index(o) + 1] == here[0]]
    found = [o.what for o in others if o.holds and o.rows and o not in better] if mine.holds else []
    also = "".join(f"; and {what}, fits" for what in found)
    if mine.holds and not better:
        return Trial(
            "certain",
            mine,
            tuple(others),
            f"it holds, and all {len(others) - len(found)} lineups next to it fail{also}",
        )
    if mine.holds:
        words = "; ".join(o.what for o in better)
        return Trial("probable", mine, tuple(others), f"it holds, but so does another: {words}{also}")
    if better:
        best = max(better, key=lambda o: o.passes)
        return Trial("wrong", mine, tuple(others), f"it does not hold; this does: {best.what}")
    if mine.refused:
        what = "rows do not match" if mine.broken else "checksums fail"
        return Trial("undecided", mine, tuple(others), f"{what}, and nothing that differs in one thing is right")
    return Trial("undecided", mine, tuple(others), "nothing on it can be tested: no checksums that span its strips")


def _replaced(claim: Attempt, images: Sequence[Member], names: Sequence[str]) -> Iterator[Attempt]:
    """The claim with each other image in each member's place."""
    first = len(images) - len(names)
    for number, name in enumerate(names, first):
        image = images[number]
        for position, member in enumerate(claim.members):
            made = claim.geometry
            end = made.start_bytes[position] + made.member_bytes[position]
            if image is not None and image.size >= end:
                order = (*claim.members[:position], number, *claim.members[position + 1 :])
                what = f"{name} as member {position}" + (", which is missing" if images[member] is None else "")
                yield replace(claim, what=what, members=order)


def neighbours(claim: Attempt, sources: Sequence[Member]) -> Iterator[Attempt]:
    """Everything that differs from a claim in one thing, and could be read from the same images."""
    made, order = claim.geometry, claim.members
    chosen = made.layout
    alike = made.layout.level in ("RAID1", "RAID10")
    for a, b in combinations(range(len(order)), 2):
        mates = alike and any({a, b} <= members for members, _survives in made.pattern.sets)
        if mates or (sources[a] is None and sources[b] is None):
            continue  # mirror mates hold the same bytes: their order means nothing
        swapped = list(order)
        swapped[a], swapped[b] = order[b], order[a]
        yield replace(claim, what=f"members {a} and {b} exchanged", members=tuple(swapped))
    for rotation, data, q in LEVELS[chosen.level].layouts:
        if (rotation, data, q) != (chosen.rotation, chosen.data, chosen.q_place):
            words = ", ".join(w for w in (rotation, data, f"Q {q}" if q else None) if w)
            yield from _other(claim, f"{words} instead", rotation=rotation, data=data, q_place=q)
    if chosen.q_exponent:
        for rule in (*EXPONENTS, *RARE_EXPONENTS):
            if rule != chosen.q_exponent:
                yield from _other(claim, f"Q counted by {rule} instead", q_exponent=rule)
    for turn in sorted({1, chosen.turn_rows // 2, 2 * chosen.turn_rows} - {0, chosen.turn_rows}):
        yield from _other(claim, f"parity that moves every {turn} rows", turn_rows=turn)
    if chosen.spare:
        beside = {"after-p": "before-p", "before-p": "after-p"}[chosen.spare]
        yield from _other(claim, f"spare strip {beside}", spare=beside)
    if chosen.spans > 1:
        unit = {"row": "strip", "strip": "row"}[chosen.outer]
        yield from _other(claim, f"outer unit one {unit}", outer=unit)
    if chosen.level not in ("RAID1", "SPAN"):
        for strip in (made.strip_bytes // 2, made.strip_bytes * 2):
            if STRIP_LEAST <= strip <= STRIP_MOST:
                yield from _other(claim, f"strips of {strip >> 10} KiB", strip_bytes=strip)
    for step in (-made.strip_bytes, made.strip_bytes):
        if min(made.start_bytes) + step >= 0:
            words = "later" if step > 0 else "earlier"
            starts = tuple(s + step for s in made.start_bytes)
            yield from _other(claim, f"data start {made.strip_bytes >> 10} KiB {words}", start_bytes=starts)


def _other(claim: Attempt, what: str, **changed: object) -> Iterator[Attempt]:
    """The claim's geometry with something changed; nothing where there is no such geometry."""
    made, chosen = claim.geometry, claim.geometry.layout
    facts: dict[str, object] = {
        "strip_bytes": made.strip_bytes, "start_bytes": made.start_bytes, "member_bytes": made.member_bytes,
        "rotation": chosen.rotation, "data": chosen.data, "q_place": chosen.q_place,
        "q_exponent": chosen.q_exponent if chosen.q_place else None,
        "spans": chosen.spans if chosen.spans > 1 else None,
        "copies": chosen.copies if chosen.level == "RAID10" else None,
        "turn_rows": chosen.turn_rows, "spare": chosen.spare, "outer": chosen.outer,
    } | changed  # fmt: skip
    if "start_bytes" in changed:
        step = max(0, max(a - b for a, b in zip(facts["start_bytes"], made.start_bytes, strict=True)))  # type: ignore[call-overload]
        facts["member_bytes"] = tuple(size - step for size in made.member_bytes)
    try:
        yield replace(claim, what=what, geometry=geometry(chosen.level, made.members, **facts))  # type: ignore[arg-type]
    except GeometryError:
        return


def _tried(attempt: Attempt, sources: Sequence[Member]) -> Attempt:
    array = Array(attempt.geometry, [sources[i] for i in attempt.members], name="claimed volume")
    rows, broken = test_rows(array, MOST_ROWS)
    proof = Proof() if broken > rows // 2 and rows else _best_proof(array)
    return replace(attempt, rows=rows, broken=broken, passes=proof.passes, failures=proof.failures)


def _best_proof(array: Array) -> Proof:
    """The file system that reads best, at any of the places where one may begin."""
    try:
        starts = partition_starts(Pile(["volume"], [array]))
    except StripeError:
        starts = set()
    found = []
    for base in sorted({*COMMON_STARTS, *starts}):
        try:
            proof = prove_ext4(array, base, QUICK_INODES, QUICK_FILES)
        except StripeError:
            continue
        if "superblock" in proof.held:
            found.append(proof)
    return max(found, key=lambda p: (p.holds, p.passes), default=Proof())
