"""What a volume still has by way of redundancy, judged by the standard alone and sharpened by what is told besides.

A member that is not known to count does not count; a volume that says it is not well, and does not say which member
is the cause, counts on none of its redundancy. Ranges of a volume may have less than the rest of it: rows with
unreadable sectors, rows whose parity a check found wrong or that is not computed yet.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache

from ..arrays.geometry import Geometry, geometry
from ..arrays.layout import Layout, layout
from ..arrays.levels import LEVELS, GeometryError
from ..arrays.margin import margin
from .model import Server
from .things import Drive, Health, SeatState, Volume, WorkKind
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
    if drive.health is UNKNOWN and drive.rollup is UNKNOWN and known(drive.state, "StandbyOffline") == "StandbyOffline":
        return Answers.DOUBTFUL
    return Answers.YES


def health_of(thing: Volume | Drive) -> Maybe[Health]:
    """Its own health, else that of it and all it depends on."""
    return thing.rollup if thing.health is UNKNOWN else thing.health


def failed(drive: Drive) -> bool:
    """Whether a drive has failed: it does not answer, or is reported to be in a critical state."""
    return answers(drive) is Answers.NO or health_of(drive) is Health.CRITICAL


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
    gone, doubtful = set[int](), set[int]()
    rebuilding = any(w.kind is WorkKind.REBUILD for w in volume.work)
    well = health_of(volume) is Health.OK and known(volume.state, "Enabled") in WELL_STATES
    for i, seat in enumerate(volume.seats):
        drive = server.seated_at(seat)
        if seat.state in (SeatState.MISSING, SeatState.REBUILDING):
            gone.add(i)
        elif drive is None:
            (doubtful if seat.state is UNKNOWN else set()).add(i)  # what it is could not be read
        else:
            told = answers(drive)
            working = "Updating" in (drive.state, "") or known(drive.indicator, "") == "Rebuild"
            if told is Answers.NO:
                gone.add(i)
            elif seat.state is SeatState.ACTIVE and volume.ordered:
                continue  # its controller says that it counts
            elif told is Answers.DOUBTFUL or (not well and rebuilding and working):
                doubtful.add(i)
            elif not well and (health_of(drive) is not Health.OK or drive.predicted is True):
                doubtful.add(i)  # it may be why the volume is not well, and then it does not count
    hidden = 0 if volume.ordered else max(0, _least(server, volume) - len(volume.seats))
    explained = bool(gone or doubtful or hidden)
    exact = volume.ordered or _accounted(server, volume)
    return Standing(
        frozenset(gone), frozenset(doubtful - gone), hidden, well or volume.ordered or (explained and exact)
    )


def members_untold(server: Server, volume: Volume) -> bool:
    """Whether a volume has members that no link tells of although nothing is wrong with it: any drive may be one."""
    if volume.ordered:
        return False
    return not volume.seats or (health_of(volume) is Health.OK and _least(server, volume) > len(volume.seats))


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
        return _left(server, volume, ()) < 0
    if known(volume.state, "") in OFFLINE_STATES:
        return True
    return _left(server, volume, ()) < 0 and not _says_readable(volume)


def _says_readable(volume: Volume) -> bool:
    """Whether the server says that the volume works, so that doubtful members of it must still work."""
    told = known(volume.state, "") in ("Enabled", "Updating", "Degraded", "Starting")
    return not volume.ordered and told and health_of(volume) in (Health.OK, Health.WARNING)


def _left(server: Server, volume: Volume, also: Collection[int]) -> int:
    """Failures left with some more seats gone; not below -1."""
    stands = standing(server, volume)
    away = stands.gone | stands.doubtful | set(also)
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
    if (
        left >= 0
        and any(w.kind is WorkKind.INITIALIZE for w in volume.work)
        and covered_by_initialization(volume) is None
    ):
        left = min(left, 0 - len(set(also) - stands.gone))
    return max(-1, left)


def covered_by_initialization(volume: Volume) -> int | None:
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
    return max(0, _left(server, volume, ()))


def margin_without(server: Server, volume: Volume, seats: Collection[int]) -> int:
    """The margin of the volume as a whole once the drives at these seats are gone, too; -1: it cannot be read then."""
    stands = standing(server, volume)
    if not set(seats) - stands.gone:
        return margin_now(server, volume)
    if offline(server, volume):
        return -1
    return _left(server, volume, seats)


def members_at(volume: Volume, drive: Drive) -> frozenset[int]:
    """The seats, as indexes, at which a drive stands."""
    mine = volume.at(drive)
    return frozenset(i for i, s in enumerate(volume.seats) if s in mine)
