"""Which missing members of an offline volume may return: each choice of them tried on images of the drives.

Nothing is written, to the images no more than to the drives. The images are asked for their own lineup, by the same
judgement as any pile, and every row that holds data is tested; what each choice would read wrong follows from that.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import combinations
from pathlib import Path, PurePosixPath

from ..core.arrays.margin import margin
from ..core.lineup.document.lineup_document import Lineup
from ..core.lineup.document.row_map import RowMap, State, Why
from ..core.lineup.full_pass.row_pass import full_pass
from ..core.lineup.full_pass.taken_back import harmed
from ..core.lineup.reading.samples import Tell, silent
from ..core.ranges import Range, clip, total, union
from ..core.server.acts import MOST_TRIED
from ..core.server.model import Server
from ..core.server.redundancy import standing
from ..core.server.things import Seat, SeatState, Volume
from ..core.server.unknown import UNKNOWN, known
from ..core.source import BlockSourceError
from ..media.filesystems import FilesError, Kind
from .errors import WorkError
from .files import opened_on
from .lineup import open_drive_of, solve_images
from .places import parts_of


class Doubt(StrEnum):
    """Why nothing that the images say proves a member to be up to date."""

    NOT_MEMBERS = "not-members"
    """Some image is none of the array that the others are."""
    ORDER = "order"
    """Which image stands where, or where the volume begins, cannot be told from the images."""
    APART = "apart"
    """The images stand in another order, or in another level, than the controller says."""
    UNTESTED = "untested"
    """Rows are left in which no redundancy speaks: an image of one more member would do."""
    OPEN = "open"
    """Rows do not match, and nothing tells which member is at fault."""
    LIKELY = "likely"
    """Which member is at fault is likely, not proven: neither by redundancy, nor by what the bytes are like and the
    controller's own word together."""


@dataclass(frozen=True)
class Choice:
    """Missing members that together with those at work would make the volume readable.

    seats   those that return
    harmed  ranges of the volume, in bytes, that would not be what they were; None where no redundancy is left that
            could tell
    files   paths of files with such bytes, by file system; None where their names cannot be read
    """

    seats: tuple[Seat, ...]
    harmed: tuple[Range, ...] | None
    files: tuple[str, ...] | None


@dataclass(frozen=True)
class OnImages:
    """What images of a volume's drives say of its missing members.

    found    the lineup that they hold, with the map of its rows
    choices  every set of missing members that is enough, the least harm first
    open     bytes of the volume that may be wrong whichever members return
    proven   indices of seats whose members are up to date in every byte
    doubt    why none is proven; None where the images say enough
    """

    found: Lineup
    choices: tuple[Choice, ...]
    open: int
    proven: frozenset[int]
    doubt: Doubt | None


def on_images(server: Server, volume: Volume, images: Mapping[str, Path], tell: Tell = silent) -> OnImages:
    """Try each choice of a volume's missing members on images of its drives, by bay.

    Raises WorkError, MediaError, LineupError.
    """
    seats = _seats(volume, images)
    paths = list(images.values())
    arrays = solve_images(paths, tell).arrays
    found = max(arrays, key=lambda a: sum(n is not None for n in a.seated), default=None)
    if found is None:
        what = f"volume {volume.name}: its images hold no array that can be told"
        raise WorkError(what=what, to_do="name an image of each of its drives; `lineup solve` says more")
    with ExitStack() as stack:
        members = [None if n is None else open_drive_of(stack, Path(n)) for n in found.seated]
        places = {i: found.seated.index(str(path)) for i, path in seats.items() if str(path) in found.seated}
        behind = frozenset(place for i, place in places.items() if volume.seats[i].current is False)
        if found.former is not None:
            what = f"volume {volume.name}: members were being added, and its images hold two layouts"
            raise WorkError(what=what, to_do="`lineup extract` reads it from the images")
        size = min(found.volume_bytes, known(volume.size, found.volume_bytes))  # the controller's own notes lie behind
        rowmap = full_pass(found.geometry, members, found.suspects, tell=tell, part=(0, size), behind=behind)
        found = replace(found, rowmap=rowmap)
        speaks = not rowmap.rows.get(State.UNPROTECTED, 0)
        gone = standing(server, volume).gone
        missing = [i for i in places if i in gone and volume.seats[i].state is not SeatState.REBUILDING]
        working = frozenset(places[i] for i in places if i not in gone)
        chosen = []
        for back in _enough(found, places, working, missing):
            used = working | {places[i] for i in back}
            wrong = tuple(harmed(found.geometry, rowmap.faults, used, size))
            chosen.append((tuple(volume.seats[i] for i in back), wrong if speaks else None))
        every = union(r for _seats, wrong in chosen for r in wrong or ())
        names = _files_in(found, members, every, tell) if every else []
    choices = [
        Choice(some, wrong, None if names is None or wrong is None else tuple(n for n, at in names if _meet(at, wrong)))
        for some, wrong in chosen
    ]
    choices.sort(key=lambda c: (c.harmed is None, total(c.harmed or ()), len(c.seats)))
    doubt = _doubt(volume, found, rowmap, places, len(seats))
    faulty = {fault.member for fault in rowmap.faults}
    proven = frozenset() if doubt else frozenset(i for i in places if places[i] not in faulty)
    return OnImages(found, tuple(choices), total(rowmap.open), proven, doubt)


def _seats(volume: Volume, images: Mapping[str, Path]) -> dict[int, Path]:
    """The images by the seats whose drives they are of. Raises WorkError."""
    by_bay = {seat.bay: i for i, seat in enumerate(volume.seats) if seat.bay}
    for bay in images:
        if bay not in by_bay:
            what = f"bay {bay} is none of volume {volume.name}'s"
            raise WorkError(what=what, to_do=f"its members are in bays {', '.join(map(str, by_bay))}")
    return {by_bay[bay]: path for bay, path in images.items()}


def _enough(
    found: Lineup, places: Mapping[int, int], working: frozenset[int], missing: Sequence[int]
) -> list[tuple[int, ...]]:  # fmt: skip
    """The choices of missing members, by seat, with which the volume can be read."""
    pattern, every = found.geometry.pattern, frozenset(range(found.geometry.members))
    return [
        back
        for count in range(1, min(len(missing), MOST_TRIED) + 1)
        for back in combinations(missing, count)
        if margin(pattern, every - working - {places[i] for i in back}) >= 0
    ]


def _doubt(volume: Volume, found: Lineup, rowmap: RowMap, places: Mapping[int, int], count: int) -> Doubt | None:
    if len(places) < count:
        return Doubt.NOT_MEMBERS
    if found.verdicts.placing == "undecided":
        return Doubt.ORDER  # what is probable, and what the controller says, are enough together
    layout = found.geometry.layout
    ordered = layout.copies < 2  # mates have no order
    if (volume.level is not UNKNOWN and volume.level != layout.level) or found.geometry.members != len(volume.seats):
        return Doubt.APART
    if ordered and any(volume.seats[i].position != place for i, place in places.items()):
        return Doubt.APART
    if rowmap.open:
        return Doubt.OPEN
    left_behind = {place for i, place in places.items() if volume.seats[i].current is False}
    witnesses = (f for f in rowmap.faults if not f.proven)  # each: what the content says, and the controller
    if any(f.member not in left_behind or f.why is Why.AWAY for f in witnesses):
        return Doubt.LIKELY
    return Doubt.UNTESTED if rowmap.rows.get(State.UNPROTECTED, 0) else None


def _meet(places: Sequence[Range], ranges: Sequence[Range]) -> bool:
    return any(clip(ranges, a, b) for a, b in places)


def _files_in(
    found: Lineup, members: Sequence[object], ranges: Sequence[Range], tell: Tell
) -> list[tuple[str, list[Range]]] | None:  # fmt: skip
    """The files with bytes in some ranges of the volume, and where those are; None where no names can be read."""
    volume = found.opened(members)  # type: ignore[arg-type]
    named, read = list[tuple[str, list[Range]]](), False
    parts = parts_of(volume)
    for part in parts:
        try:
            opened = opened_on(volume, part)
            tell("which files those bytes are of")
            for entry in opened.system.walk(opened.system.lookup(PurePosixPath("."))):
                places = list(entry.places) if opened.inside is None else opened.inside.outward(entry.places)
                if entry.kind is Kind.FILE and _meet(places, ranges):
                    where = f"{part.name or part.number}:" if len(parts) > 1 else ""
                    named.append((f"{where}{entry.path}", places))
            read = True
        except (FilesError, BlockSourceError):
            continue
    return named if read else None
