"""What a volume still has by way of redundancy, judged by the standard alone and sharpened by what is told besides.

A member that is not known to count does not count; a volume that says it is not well, and does not say which member
is the cause, counts on none of its redundancy. Ranges of a volume may have less than the rest of it: rows with
unreadable sectors, rows whose parity a check found wrong or that is not computed yet.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache
from itertools import pairwise

from ..arrays.geometry import Geometry, geometry
from ..arrays.layout import UNUSED, Layout, layout
from ..arrays.levels import LEVELS, GeometryError
from ..arrays.margin import margin
from ..ranges import Range, clip, subtract, union
from .model import Drive, Health, SeatState, Server, Volume, WorkKind
from .unknown import UNKNOWN, Maybe, known

SURVIVES = {
    "RAID0": 0, "None": 0, "SPAN": 0, "RAID00": 0, "RAID1": 1, "RAID1Triple": 2, "RAID3": 1, "RAID4": 1, "RAID5": 1,
    "RAID6": 2, "RAID6TP": 3, "RAID10": 1, "RAID01": 1, "RAID10E": 1, "RAID1E": 1, "RAID10Triple": 2, "RAID50": 1,
    "RAID60": 2,
}  # fmt: skip
"""Failures that every volume of a level survives, whichever they are: by Redfish `RAIDType`, for any number of members.

A RAID 1 of three survives two, but some servers call a stripe over mirrors so: without the layout it is one."""

PARITY_MEMBERS = {"RAID3": 1, "RAID4": 1, "RAID5": 1, "RAID6": 2, "RAID6TP": 3}
"""Members' worth of a single span that hold no data: what tells from a volume's size how many it must have."""

OLD_TYPES = {
    "RawDevice": "None", "NonRedundant": "None", "Mirrored": "RAID1", "StripedWithParity": "RAID5",
    "SpannedMirrors": "RAID10", "SpannedStripesWithParity": "RAID50",
}  # fmt: skip
"""The levels that the older `VolumeType` stands for: the weakest that it can mean."""

LEAST_MEMBERS = {"RAID1": 2, "RAID1Triple": 3, "RAID5": 3, "RAID6": 4, "RAID10": 4, "RAID01": 4, "RAID50": 6,
                 "RAID60": 8, "RAID1E": 3, "RAID4": 3, "RAID3": 3, "RAID10Triple": 6, "RAID6TP": 5}  # fmt: skip

FILLED = 0.9
"""Share of its members' room that a volume fills at least where its size may tell how many they are."""

MOST_UNITS = 4096
"""Units of rows in a run of bad sectors that are looked at strip by strip; longer runs are told by their rows."""

GONE_STATES = ("Absent", "UnavailableOffline", "Disabled")
WELL_STATES = ("Enabled", "Updating", "StandbyOffline")
DOUBTFUL_STATES = ("Starting", "InTest", "Quiesced", "Deferring", "Degraded", "Qualified")
OFFLINE_STATES = ("UnavailableOffline", "Disabled", "Absent")


class Answers(Enum):
    """Whether a drive answers: what a server's word on it comes to."""

    YES = "yes"
    NO = "no"
    DOUBTFUL = "doubtful"


def answers(drive: Drive) -> Answers:
    """Whether a drive's content can be counted on, by its own state alone."""
    if drive.present is False or known(drive.state, "") in GONE_STATES:
        return Answers.NO
    bad = drive.health is Health.CRITICAL or known(drive.indicator, "") in ("Fail", "Failed")
    if bad or known(drive.state, "") in DOUBTFUL_STATES:
        return Answers.DOUBTFUL
    if drive.health is UNKNOWN and drive.rollup is UNKNOWN and drive.state is UNKNOWN:
        return Answers.DOUBTFUL
    return Answers.YES


def health_of(thing: Volume | Drive) -> Maybe[Health]:
    """Its own health, else that of it and all it depends on."""
    return thing.rollup if thing.health is UNKNOWN else thing.health


def survives(volume: Volume) -> Maybe[int]:
    """Failures that the whole volume certainly survives by its level; UNKNOWN where its level is not known."""
    chosen = layout_of(volume)
    if chosen is not None:
        return margin(chosen.pattern(), ())
    return SURVIVES.get(volume.level, UNKNOWN) if volume.level is not UNKNOWN else UNKNOWN


def layout_of(volume: Volume) -> Layout | None:
    """The volume's layout; None where the server tells too little of it."""
    if volume.level is UNKNOWN or volume.level not in LEVELS or not volume.ordered or not volume.seats:
        return None
    try:
        return layout(
            volume.level, len(volume.seats), spans=volume.spans if volume.spans > 1 else None,
            rotation=volume.rotation, data=volume.data, copies=volume.copies if volume.level == "RAID10" else None,
            q_place=volume.q_place, q_exponent=volume.q_exponent,
        )  # fmt: skip
    except GeometryError:
        return None


def geometry_of(volume: Volume) -> Geometry | None:
    """Where the volume's bytes stand on its members; None where the server tells too little of it."""
    chosen = layout_of(volume)
    if chosen is None or volume.strip is UNKNOWN or volume.start is UNKNOWN or volume.extent is UNKNOWN:
        return None
    return _geometry(chosen, volume.strip, volume.start, volume.extent)


@lru_cache(64)
def _geometry(chosen: Layout, strip: int, start: int, extent: int) -> Geometry | None:
    try:
        return geometry(
            chosen.level, chosen.members, strip, member_bytes=extent, start_bytes=start, rotation=chosen.rotation,
            data=chosen.data, spans=chosen.spans if LEVELS[chosen.level].inner else None,
            copies=chosen.copies if chosen.level == "RAID10" else None, q_place=chosen.q_place,
            q_exponent=chosen.q_exponent,
        )  # fmt: skip
    except GeometryError:
        return None


@dataclass(frozen=True)
class Standing:
    """Which seats of a volume count; indexes into `Volume.seats`.

    gone      those that hold nothing that counts
    doubtful  those of which the server's word leaves it open
    hidden    further members that are missing, and that the server does not list
    told      whether what is wrong with the volume is accounted for by the seats (or nothing is wrong)
    """

    gone: frozenset[int]
    doubtful: frozenset[int]
    hidden: int
    told: bool


def standing(server: Server, volume: Volume) -> Standing:
    """Which members of a volume count, by all that the server says of them."""
    gone, doubtful, unwell = set[int](), set[int](), set[int]()
    rebuilding = any(w.kind is WorkKind.REBUILD for w in volume.work)
    well = health_of(volume) is Health.OK and known(volume.state, "Enabled") in (
        "Enabled",
        "Updating",
        "StandbyOffline",
    )
    for i, seat in enumerate(volume.seats):
        drive = server.seated_at(seat)
        if seat.state in (SeatState.MISSING, SeatState.REBUILDING):
            gone.add(i)
        elif drive is None:
            (doubtful if seat.state is UNKNOWN else set()).add(i)  # what it is could not be read
        elif server.off:
            continue
        else:
            told = answers(drive)
            working = "Updating" in (drive.state, "") or known(drive.indicator, "") == "Rebuild"
            if told is Answers.NO:
                gone.add(i)
            elif seat.state is SeatState.ACTIVE and volume.ordered:
                continue  # its controller says that it counts
            elif told is Answers.DOUBTFUL or (not well and rebuilding and working):
                doubtful.add(i)
            elif not well and health_of(drive) is not Health.OK:
                unwell.add(i)
                if health_of(drive) is UNKNOWN:
                    doubtful.add(i)
    hidden = 0 if volume.ordered else max(0, _least(server, volume) - len(volume.seats))
    explained = bool(gone or doubtful or hidden or unwell)
    exact = volume.ordered or _accounted(server, volume)
    return Standing(
        frozenset(gone), frozenset(doubtful - gone), hidden, well or volume.ordered or (explained and exact)
    )


def _least(server: Server, volume: Volume) -> int:
    """The fewest members that a volume of this level and size can have on drives like its own."""
    level = known(volume.level, "")
    least = LEAST_MEMBERS.get(level, 1)
    sizes = [d.size for s in volume.seats if (d := server.seated_at(s)) and d.size is not UNKNOWN]
    if sizes and volume.size is not UNKNOWN and level in PARITY_MEMBERS:
        least = max(least, -(-volume.size // max(sizes)) + PARITY_MEMBERS[level])
    return least


def _accounted(server: Server, volume: Volume) -> bool:
    """Whether the volume's size says that it has just the members that are linked: it fills all their room."""
    level = known(volume.level, "")
    sizes = [d.size for s in volume.seats if (d := server.seated_at(s)) and d.size is not UNKNOWN]
    if len(sizes) != len(volume.seats) or volume.size is UNKNOWN or not sizes:
        return False
    if level in ("RAID1", "RAID1Triple"):
        return len(sizes) == LEAST_MEMBERS[level]
    if level not in PARITY_MEMBERS:
        return False
    room = (len(sizes) - PARITY_MEMBERS[level]) * min(sizes)
    return FILLED * room <= volume.size <= room


def offline(server: Server, volume: Volume) -> bool:
    """Whether a volume cannot be read now."""
    if server.off:
        return _left(server, volume, frozenset(), frozenset()) < 0
    if known(volume.state, "") in OFFLINE_STATES:
        return True
    return _left(server, volume, frozenset(), frozenset()) < 0 and not _says_readable(volume)


def _says_readable(volume: Volume) -> bool:
    """Whether the server says that the volume works, so that doubtful members of it must still work."""
    told = known(volume.state, "") in ("Enabled", "Updating", "Degraded", "Starting")
    return not volume.ordered and told and health_of(volume) in (Health.OK, Health.WARNING)


def _left(server: Server, volume: Volume, also: Collection[int], uncounted: Collection[int]) -> int:
    """Failures left with some more seats gone; not below -1. `uncounted`: doubtful seats that are taken to work."""
    stands = standing(server, volume)
    away = stands.gone | (stands.doubtful - set(uncounted)) | set(also)
    chosen = layout_of(volume)
    if chosen is not None:
        left = margin(chosen.pattern(), away)
    else:
        most = survives(volume)
        if most is UNKNOWN:
            left = 0 - len(set(also) - stands.gone)
        else:
            left = most - len(away) - stands.hidden
            if not stands.told:
                left = min(left, 0 - len(set(also) - stands.gone))
    if left >= 0 and any(w.kind is WorkKind.INITIALIZE for w in volume.work) and _covered(volume) is None:
        left = min(left, 0 - len(set(also) - stands.gone))
    return max(-1, left)


def _covered(volume: Volume) -> int | None:
    """Bytes of the volume, from its start, whose parity an initialization has computed; None where nobody tells."""
    made = geometry_of(volume)
    work = next((w for w in volume.work if w.kind is WorkKind.INITIALIZE), None)
    if made is None or work is None or work.done is UNKNOWN:
        return None
    ranges = made.row_ranges([(0, work.done // made.strip_bytes)])
    return ranges[0][1] if ranges else 0


def margin_now(server: Server, volume: Volume) -> int:
    """The margin of the volume as a whole: failures that it certainly survives now; -1 where it cannot be read.

    A volume that its server says can be read has a margin of 0 at least, whatever is doubtful about its members.
    """
    if offline(server, volume):
        return -1
    return max(0, _left(server, volume, (), ()))


def margin_without(server: Server, volume: Volume, seats: Collection[int]) -> int:
    """The margin of the volume as a whole once the drives at these seats are gone, too; -1: it cannot be read then."""
    stands = standing(server, volume)
    if not set(seats) - stands.gone:
        return margin_now(server, volume)
    if offline(server, volume):
        return -1
    return _left(server, volume, seats, ())


# ranges -----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Stretch:
    """A range of a volume, in bytes, whose margin differs from the whole volume's; -1: it cannot be read."""

    start: int
    end: int
    margin: int


def stretches(server: Server, volume: Volume, also: Collection[int] = ()) -> list[Stretch]:
    """The ranges of a volume whose margin differs from the rest of it, in order, with some more seats gone.

    Less: unreadable sectors of its members, rows that a check found inconsistent (and nobody acknowledged), rows that
    an initialization has not covered, and what its server tells as lost. More: what a rebuild has done already. Empty
    where the server tells too little of the layout to know.
    """
    made = geometry_of(volume)
    if made is None:
        return [Stretch(a, b, -1) for a, b in volume.lost]
    gone = standing(server, volume).gone
    away, more = gone | set(also), len(set(also) - gone)
    bad: dict[int, list[Range]] = {}
    for i, seat in enumerate(volume.seats):
        drive = server.seated_at(seat)
        if i not in away and drive and drive.unreadable is not UNKNOWN and drive.unreadable:
            bad[i] = [(a - made.start_bytes[i], b - made.start_bytes[i]) for a, b in drive.unreadable]
    whole = margin(made.pattern, away)
    found = [Stretch(a, b, left) for a, b, left in margins(made, away, bad)]
    bare = subtract(union(volume.inconsistent), union(volume.acknowledged))
    covered = _covered(volume)
    if covered is not None and covered < made.volume_bytes:
        bare = union([*bare, (covered, made.volume_bytes)])
    if whole > -more and whole >= 0:
        found += [Stretch(a, b, max(-1, -more)) for a, b in bare]
    found += _rebuilt(volume, made, away, set(also), whole)
    known_bad = union((s.start, s.end) for s in found if s.margin < 0)
    found += [Stretch(a, b, -1) for a, b in subtract(volume.lost, known_bad)]
    return sorted(found, key=lambda s: (s.start, s.margin))


def _rebuilt(
    volume: Volume, made: Geometry, away: set[int] | frozenset[int], also: set[int], whole: int
) -> list[Stretch]:
    """What a rebuild has computed already: there its member counts."""
    running = {i: known(s.done, 0) for i, s in enumerate(volume.seats) if s.state is SeatState.REBUILDING}
    done = min((d for i, d in running.items() if i not in also), default=0)
    left = margin(made.pattern, set(away) - {i for i in running if i not in also})
    if not done or left <= whole:
        return []
    return [Stretch(a, b, left) for a, b in made.row_ranges([(0, done // made.strip_bytes)])]


def margins(made: Geometry, away: Collection[int], bad: Mapping[int, Sequence[Range]]) -> list[tuple[int, int, int]]:
    """Ranges of a volume (start, end, margin) that have less margin than it has with the members in `away` gone.

    bad  by member: ranges of its data area (bytes from `start_bytes`) that hold nothing that counts

    Within one unit of rows bytes at the same place of the strips belong together: two members that are bad in
    different sectors of a row make up for each other.
    """
    whole = margin(made.pattern, away)
    if whole < 0 or made.layout.level == "SPAN":
        return [] if whole < 0 else _concatenated(made, bad)
    strip, unit = made.strip_bytes, made.pattern.unit_rows
    span, end = strip * unit, made.rows * strip
    inside = {m: union(clip(ranges, 0, end)) for m, ranges in bad.items() if m not in away}
    edges = {x for ranges in inside.values() for a, b in ranges for y in (a, b) for x in (y // span, -(-y // span))}
    cuts = sorted(edges)
    found: dict[int, list[Range]] = {}
    for first, last in pairwise(cuts):
        here = {m: part for m, ranges in inside.items() if (part := clip(ranges, first * span, last * span))}
        if not here:
            continue
        full = {m for m, part in here.items() if part == [(first * span, last * span)]}
        if full == set(here) and (last - first > MOST_UNITS or margin(made.pattern, set(away) | full) >= 0):
            left = margin(made.pattern, set(away) | full)
            if left < whole:
                found.setdefault(left, []).extend(made.row_ranges([(first * unit, last * unit)]))
            continue
        for number in range(first, last):
            for a, b, left in _slices(made, set(away), here, number):
                if left < whole:
                    found.setdefault(left, []).append((a, b))
    listed = [(a, b, left) for left, ranges in found.items() for a, b in union(ranges)]
    return sorted(listed)


def _slices(
    made: Geometry, away: set[int], here: Mapping[int, list[Range]], number: int
) -> Iterator[tuple[int, int, int]]:
    """The ranges of one unit of rows, group by group, byte place by byte place."""
    strip, unit, pattern = made.strip_bytes, made.pattern.unit_rows, made.pattern
    period, phase = divmod(number * unit, pattern.rows)
    for index, group in enumerate(pattern.groups):
        cells = [(row, member) for row, member in group.cells if phase <= row < phase + unit]
        if len(cells) != len(group.cells):
            continue
        parts: list[tuple[int, int]] = []
        for row, member in cells:
            at = (period * pattern.rows + row) * strip
            if member in here:
                parts += [(a - at, b - at) for a, b in clip(here[member], at, at + strip)]
        missing = sum(member in away for _row, member in cells)
        edges = sorted({x for part in parts for x in part})
        for a, b in pairwise(edges):
            erased = sum(x <= a and b <= y for x, y in parts)
            left = max(-1, len(group.checks) - missing - erased) if erased else None
            if left is None:
                continue
            for k in range(group.data):
                at = (period * pattern.strips + index * group.data + k) * strip
                if at + b <= made.volume_bytes:
                    # a strip that can still be read itself is not lost with the parity that would cover it
                    row, member = group.cells[k]
                    own = member in away or any(
                        x <= a and b <= y
                        for x, y in _local(here.get(member, []), (period * pattern.rows + row) * strip, strip)
                    )
                    yield at + a, at + b, left if own or left >= 0 else 0


def _local(ranges: Sequence[Range], at: int, strip: int) -> list[Range]:
    return [(a - at, b - at) for a, b in clip(ranges, at, at + strip)]


def _concatenated(made: Geometry, bad: Mapping[int, Sequence[Range]]) -> list[tuple[int, int, int]]:
    found = []
    for member, ranges in bad.items():
        for a, b in clip(ranges, 0, made.member_bytes[member]):
            at = int(made.to_volume(member, made.start_bytes[member] + a))
            if at != UNUSED:
                found.append((at, at + b - a))
    return [(a, b, -1) for a, b in union(found)]


def members_at(volume: Volume, drive: Drive) -> frozenset[int]:
    """The seats, as indexes, at which a drive stands."""
    mine = volume.at(drive)
    return frozenset(i for i, s in enumerate(volume.seats) if s in mine)
