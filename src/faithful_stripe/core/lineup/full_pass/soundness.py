"""Currency and soundness: what a full pass over an array proves of its members and of its bytes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ...arrays.geometry import Concatenation, Geometry
from ...ranges import Range, clip, total
from ...source import BlockSource
from ..document.age import Unit
from ..document.custody import NotAsJudged, Sealing
from ..document.former import Zone
from ..document.four_verdicts import Reason, Sure, Verdict
from ..document.lineup_document import DISPLACED, Lineup
from ..document.row_map import RowMap, State, Why, joined
from ..reading.samples import BEYOND_SHARE, LEAST_BEYOND, Tell, silent
from .row_pass import full_pass, rows_with
from .stretch import Sink, Stretch

FULL_BYTES = 1 << 30
"""Members that hold no more than this together are read whole without being asked to."""

MOST_OPEN = 0.4
"""Of the rows that hold data, those that may not match under P and Q in an order that is certain."""

BEHIND = (Why.OUT_OF_DATE, Why.LOCATED)
"""What a member holds there was right once, or never; blank and unreadable areas say nothing of its age."""


def tested(
    found: Lineup, members: Sequence[BlockSource | None], tell: Tell = silent, sink: Sink | None = None,
    part: Range | None = None, seal: bool = False,
) -> tuple[Lineup, int]:  # fmt: skip
    """A lineup with the map of its rows, and its verdicts of currency and soundness by it; and the bytes read.

    members  by position as in `seated`
    part     only rows with some of these bytes of the volume
    seal     whether what is read is sealed; where it was already, it is held against that: raises NotAsJudged
    """
    made = found.geometry
    seal = seal and found.former is None  # rows between the two layouts are read in neither
    names = [n if m is not None else None for n, m in zip(found.seated, members, strict=True)]
    sealing = Sealing(made, names) if seal or found.seals else None
    rowmap = tested_rows(found, members, sink, tell, part, sealing)
    if sealing and found.seals and (wrong := sealing.broken(found.seals, _rows_read(made, part))):
        raise NotAsJudged(image=wrong.image, where="bytes {} to {} hold something else".format(*wrong.bytes))
    judged = judged_by(found, members, rowmap, part is None or part[0] == 0)
    return replace(judged, seals=found.seals or (sealing.seals() if sealing else ())), rowmap.read


def tested_rows(
    found: Lineup, members: Sequence[BlockSource | None], sink: Sink | None = None, tell: Tell = silent,
    part: Range | None = None, sealing: Sealing | None = None,
) -> RowMap:  # fmt: skip
    """What a full pass finds in each row of an array with some of the bytes of a part of its volume, each zone of the
    volume in its own layout."""
    if found.former is None:
        return full_pass(found.geometry, members, found.suspects, sink, tell, part, sealing)
    maps = []
    for zone in found.zones:
        for low, high in clip([zone.volume], *(part or (0, found.volume_bytes))):
            suspects = {i: found.suspects[p] for i, p in enumerate(zone.positions) if p in found.suspects}
            taken = _within(zone, sink) if sink else None
            seen = full_pass(zone.geometry, zone.chosen(members), suspects, taken, tell, (low, high))
            maps.append(zone.outward(seen))
    return joined(maps)


def _within(zone: Zone, sink: Sink) -> Sink:
    """Takes what belongs to a zone of the rows that a pass hands on: its first row may have begun before."""

    def take(stretch: Stretch) -> None:
        mine = stretch.within(*zone.volume)
        if mine.pieces:
            sink(mine)

    return take


def judged_by(found: Lineup, members: Sequence[BlockSource | None], rowmap: RowMap, front: bool) -> Lineup:
    """A lineup with a map of its rows, and its verdicts of currency and soundness by it.

    front  whether the volume's first row is among those that were asked for
    """
    currency, soundness = _currency(found, rowmap), _soundness(found, rowmap, front)
    if soundness.sure is Sure.CERTAIN and found.verdicts.placing != "certain":
        soundness = replace(soundness, sure=Sure.PROBABLE, reason=Reason.PLACING)  # of the volume in another order
    if currency.sure is Sure.CERTAIN and found.verdicts.order.sure is not Sure.CERTAIN:
        # whoever made the array anew in another order wrote parity that holds in that, over what was out of date
        currency = replace(currency, sure=Sure.PROBABLE, reason=Reason.PLACING)
    verdicts = replace(found.verdicts, currency=currency, soundness=soundness)
    if verdicts.soundness.sure is Sure.CERTAIN and (more := _beyond(found, members)):
        verdicts = replace(verdicts, soundness=Verdict(Sure.PROBABLE, Reason.BEYOND, count=more))
    if verdicts.order.sure is Sure.CERTAIN and _mostly_open(found.geometry, rowmap):
        verdicts = replace(verdicts, order=Verdict(Sure.PROBABLE, Reason.OPEN_ROWS))
    behind = {f.member for f in rowmap.faults if f.why in BEHIND}
    innocent = {name: p for name, p in found.seats if p not in behind}  # the samples took it for out of date
    chosen = tuple(next((n for n, p in innocent.items() if p == at), name) for at, name in enumerate(found.members))
    return replace(
        found, rowmap=rowmap, verdicts=verdicts, members=chosen,
        stale=tuple(n for n in found.stale if n not in innocent),
        seats=tuple(s for s in found.seats if s[0] not in innocent),
    )  # fmt: skip


def _mostly_open(made: Geometry, rowmap: RowMap) -> bool:
    """Whether so many rows do not match under P and Q that these, which tell the order, may be another order's: parity
    was written anew in it, perhaps over data."""
    two = any(len(group.checks) > 1 for group in made.pattern.groups if group.data > 1)
    return two and rowmap.rows.get(State.OPEN, 0) > MOST_OPEN * sum(rowmap.rows.values())


def _rows_read(made: Geometry, part: Range | None) -> Range:
    """The rows, of all members, that a pass over a part read whole; of a span, all or none are counted."""
    if isinstance(made, Concatenation):
        return (0, made.volume_bytes) if part in (None, (0, made.volume_bytes)) else (0, 0)
    return rows_with(made, part)


def _beyond(found: Lineup, members: Sequence[BlockSource | None]) -> int:
    """Bytes of data that members hold behind the end of the array, and that are no other array's; 0 where that is no
    more than what controllers write there: perhaps the array goes on, and the image that ends it was cut short."""
    made, more, inside = found.geometry, 0, 0
    for source, start, size in zip(members, made.start_bytes, made.member_bytes, strict=True):
        if source is not None:
            end = source.size if found.until is None else min(found.until, source.size)
            more += total(source.data_ranges(min(start + size, end), end))
            inside += total(source.data_ranges(start, min(start + size, source.size)))
    return more if more >= max(LEAST_BEYOND, BEYOND_SHARE * inside) else 0


def _named(found: Lineup, members: Sequence[int]) -> tuple[str, ...]:
    return tuple(name for position in sorted(set(members)) if (name := found.seated[position]) is not None)


def _currency(found: Lineup, rowmap: RowMap) -> Verdict:
    if found.verdicts.order.reason is Reason.Q_RULE:  # it would call each member out of date where it holds Q
        return Verdict(Sure.UNDECIDED, Reason.Q_RULE)
    behind = [f for f in rowmap.faults if f.why in BEHIND]
    if behind:
        names = _named(found, [f.member for f in behind])
        return Verdict(Sure.CONTRADICTED, Reason.OUT_OF_DATE, names, sum(f.end - f.start for f in behind))
    if rowmap.open:
        return Verdict(Sure.UNDECIDED, Reason.OPEN_ROWS, count=rowmap.open_bytes)
    if rowmap.rows.get(State.UNPROTECTED, 0) or not found.geometry.redundant:
        return _by_age(found, rowmap)
    unproven = [f for f in rowmap.faults if not f.proven]
    if unproven:
        names = _named(found, [f.member for f in unproven])
        return Verdict(Sure.PROBABLE, Reason.COMPUTED, names, sum(f.end - f.start for f in unproven))
    blank = [f for f in rowmap.faults if f.why is Why.BLANK]
    if blank:  # not read when the image was made, or written by the others while it was away: nothing tells which
        names = _named(found, [f.member for f in blank])
        return Verdict(Sure.PROBABLE, Reason.BLANK, names, sum(f.end - f.start for f in blank))
    return Verdict(Sure.CERTAIN, Reason.ALL_READ, count=sum(rowmap.rows.values()))


def _by_age(found: Lineup, rowmap: RowMap) -> Verdict:
    """What the file system's own times tell where no redundancy does."""
    older = [a for a in found.ages if a.older]
    if older:
        behind = max(a.behind for a in older) if older[0].unit is Unit.SECONDS else 0
        return Verdict(Sure.UNDECIDED, Reason.OLDER, _named(found, [a.member for a in older]), behind)
    return Verdict(Sure.UNTESTABLE, Reason.NO_REDUNDANCY, count=rowmap.rows.get(State.UNPROTECTED, 0))


def _soundness(found: Lineup, rowmap: RowMap, front: bool) -> Verdict:
    first = found.geometry.pattern.unit_rows
    empty = front and not any(a < first for a, _b, _state in rowmap.stretches)
    wrong, moved = (sum(e.count for e in found.evidence if e.kind == kind) for kind in ("failing", DISPLACED))
    if rowmap.open:
        return Verdict(Sure.UNDECIDED, Reason.OPEN_ROWS, count=rowmap.open_bytes)
    if rowmap.rows.get(State.UNPROTECTED, 0) or not found.geometry.redundant:
        if wrong:
            return Verdict(Sure.CONTRADICTED, Reason.CHECKSUMS, count=wrong)
        return Verdict(Sure.UNTESTABLE, Reason.NO_REDUNDANCY, count=rowmap.rows.get(State.UNPROTECTED, 0))
    if empty:  # whoever wiped it, the redundancy of zeros adds up
        return Verdict(Sure.UNDECIDED, Reason.EMPTY_FRONT)
    if rowmap.faults:
        names = _named(found, [f.member for f in rowmap.faults])
        count = total([(f.start, f.end) for f in rowmap.faults])
        sure = Sure.CERTAIN if all(f.proven for f in rowmap.faults) and not moved else Sure.PROBABLE
        return Verdict(sure, Reason.COMPUTED, names, count)
    if moved:  # the redundancy of what was written before, or by a smaller array, adds up, too
        return Verdict(Sure.PROBABLE, Reason.DISPLACED, count=moved)
    return Verdict(Sure.CERTAIN, Reason.ALL_READ, count=sum(rowmap.rows.values()))
