"""Extracting: a recovered volume, a part or a partition of it, written to a new sparse file that can be gone on with.

Every row is tested as it is read. Where a member is at fault, its bytes are computed from the others; where rows do not
add up and nothing tells who is at fault, what stands there is written and said; what cannot be read is left as zeros
and listed. Until all is written, the file has another name, and a note beside it says how far it is sound; the same
command goes on from there.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..core.arrays.geometry import Concatenation
from ..core.lineup.document.lineup_document import Lineup
from ..core.lineup.document.row_map import RowMap, joined
from ..core.lineup.full_pass.patches import patches
from ..core.lineup.full_pass.soundness import judged_by, tested
from ..core.lineup.full_pass.stretch import Sink, Stretch
from ..core.lineup.reading.samples import Tell, silent
from ..core.ranges import Range, clip, subtract, total, union, widen
from ..core.source import BlockSource
from ..media.rescuemap import map_text, ours
from ..media.whole import refuse_existing, write_text
from .checked import Watched
from .errors import WorkError
from .outfile import OutFile

LEAST_PART = 1 << 20
"""Bytes of the volume that are read together where only a part of it is."""

PLAIN_BYTES = 64 << 20
"""Files no larger than this get their SHA-256 as well: of a large one, it alone would take longer than all the rest."""


@dataclass(frozen=True)
class Extract:
    """A finished extraction: sizes in bytes.

    start       of its first byte on the volume; pieces: the ranges of the volume, (start, length), that follow one
                another in the file, where that is more than one
    blake3      of the whole file, read back, holes as the zeros they read as
    sha256      likewise, "" where it was not computed
    resumed     how far an earlier attempt had come
    in_use      bytes of it that the file system uses, where only they were written; the rest is left as holes
    computed      (volume offset, length) of what was computed because a member is at fault there
    open        likewise of what does not match, and nothing tells whether it is right
    unreadable  likewise of what could not be read and is zeros in the file
    map         the text file that lists all these, and which member is at fault where
    rescue_map  what could not be read as a rescue copier's map, where there is any
    """

    file: str
    start: int
    size: int
    data: int
    blake3: str
    sha256: str
    resumed: int = 0
    computed: tuple[tuple[int, int], ...] = ()
    open: tuple[tuple[int, int], ...] = ()
    unreadable: tuple[tuple[int, int], ...] = ()
    map: str = ""
    pieces: tuple[tuple[int, int], ...] = ()
    in_use: int | None = None
    rescue_map: str = ""


class Interrupted(WorkError):
    """Stopped by hand: what was written is kept, and the same command continues from there."""


def extract(
    found: Lineup, members: list[BlockSource | None], identity: str, file: Path, start: int, length: int,
    tell: Tell = silent, plain: bool = False,
) -> tuple[Extract, Lineup]:  # fmt: skip
    """`extract_pieces` of the volume's bytes [start, start + length)."""
    return extract_pieces(found, members, identity, file, [(start, start + length)], tell, plain)


def extract_pieces(
    found: Lineup, members: list[BlockSource | None], identity: str, file: Path, pieces: Sequence[Range],
    tell: Tell = silent, plain: bool = False, used: Sequence[Range] | None = None,
) -> tuple[Extract, Lineup]:  # fmt: skip
    """Write ranges of the volume, one after the other, to a new file, or go on with one that was left unfinished; and
    the lineup with the map of the rows that were read.

    members   by position as in `found.seated`
    identity  says which volume this is: an unfinished file of another one is not gone on with
    tell      is told what is being done, and how much of it, of how much
    plain     whether the SHA-256 of the whole file is computed however large it is
    used      ranges of the volume that are in use: nothing else is read, and holes stand for it; None for all

    Raises MediaError, Interrupted.
    """
    watched = Watched(found, members)
    rescue = file.with_name(f"{file.name}.map")
    if not ours(rescue):
        refuse_existing(rescue)
    length = total(pieces)
    words = "".join(f"\n{a}\n{b - a}" for a, b in pieces)
    words += f"\n{used}" if used is not None else ""
    what = hashlib.sha256(f"{identity}{words}".encode("utf-8", "surrogateescape")).hexdigest()
    with OutFile(file, what, length, plain or length <= PLAIN_BYTES) as out:
        try:
            made, listed = _written(found, members, out, pieces, tell, used)
        except KeyboardInterrupt:
            out.keep()
            done = f"stopped after {out.done} of {length} bytes"
            raise Interrupted(what=done, to_do="the same command continues from there") from None
        watched.check()
        described = file.with_name(f"{file.name}.map.txt") if listed else None
        if described:
            described.unlink(missing_ok=True)
            write_text(described, _map_text(made, listed, pieces))
        rescue.unlink(missing_ok=True)  # one of ours, of a file of that name that is no more
        if listed.get("unreadable"):
            unread, other = (
                [(a + s, b + s) for s, piece in _laid(pieces) for a, b in clip(some, *piece)]
                for some in (listed["unreadable"], subtract(union(pieces), used) if used is not None else ())
            )
            write_text(rescue, map_text(length, unread, other))
        fast, sha256 = out.finish(tell)
        data, resumed = total(out.image.data_ranges()), out.resumed
    said = {word: tuple((a, b - a) for a, b in ranges) for word, ranges in listed.items()}
    return Extract(
        str(file), pieces[0][0], length, data, fast, sha256, resumed, said.get("computed", ()), said.get("open", ()),
        said.get("unreadable", ()), str(described) if described else "",
        tuple((a, b - a) for a, b in pieces) if len(pieces) > 1 else (), None if used is None else total(used),
        str(rescue) if listed.get("unreadable") else "",
    ), made  # fmt: skip


def _written(
    found: Lineup, members: list[BlockSource | None], out: OutFile, pieces: Sequence[Range], tell: Tell,
    used: Sequence[Range] | None,
) -> tuple[Lineup, dict[str, list[Range]]]:  # fmt: skip
    """Write all pieces, each tested as it is read; the lineup with the map of all that was, and what is to be said."""
    maps, computed, unreadable = list[RowMap](), list[Range](), list[Range]()
    wanted = union(pieces) if used is None else used
    for shift, (low, high) in _parts(found, pieces, used):
        made, _read = tested(found, members, tell, _sink(out, shift, clip(wanted, low, high)), (low, high))
        assert made.rowmap is not None
        maps.append(made.rowmap)
    rowmap = joined(maps)
    made = judged_by(found, members, rowmap, any(low == 0 for low, _high in pieces))
    for shift, (low, high) in _parts(found, pieces, used):
        some, bad = mend(made, members, _over(out, shift, clip(wanted, low, high)), low, high - low)
        computed, unreadable = [*computed, *some], [*unreadable, *bad]
    ranges = {"computed": computed, "open": subtract(rowmap.open, union(unreadable)), "unreadable": unreadable}
    cut = {word: union(r for a, b in wanted for r in clip(union(some), a, b)) for word, some in ranges.items()}
    listed = {word: some for word, some in cut.items() if some} | ({"": []} if rowmap.faults else {})
    return made, listed


def _parts(
    found: Lineup, pieces: Sequence[Range], used: Sequence[Range] | None
) -> Iterator[tuple[int, Range]]:  # fmt: skip
    """What is read of each piece: all, or whole rows with something in use, with what is added to a place on the volume
    to have the one in the file."""
    made = found.geometry
    row = LEAST_PART if isinstance(made, Concatenation) else made.pattern.strips * made.strip_bytes // made.pattern.rows
    rows = None if used is None else widen(used, -(-LEAST_PART // row) * row)
    for shift, (low, high) in _laid(pieces):
        for part in [(low, high)] if rows is None else clip(rows, low, high):
            yield shift, part


def _laid(pieces: Sequence[Range]) -> Iterator[tuple[int, Range]]:
    """Each piece, with what is added to a place on the volume to have the one in the file."""
    at = 0
    for low, high in pieces:
        yield at - low, (low, high)
        at += high - low


def _sink(out: OutFile, shift: int, wanted: Sequence[Range]) -> Sink:
    """Takes what is wanted of the rows that a pass hands on."""

    def take(stretch: Stretch) -> None:
        for low, high in clip(wanted, stretch.at, stretch.end):
            out.take(stretch.within(low, high).moved(shift))

    return take


def _over(out: OutFile, shift: int, wanted: Sequence[Range]) -> Callable[[int, bytearray], None]:
    def put(place: int, data: bytearray) -> None:
        for low, high in clip(wanted, place, place + len(data)):
            out.overwrite(low + shift, data[low - place : high - place])

    return put


def mend(
    made: Lineup, members: list[BlockSource | None], put: Callable[[int, bytearray], None], start: int, length: int
) -> tuple[list[Range], list[Range]]:  # fmt: skip
    """Have what must be computed `put` over what stood on a member at fault; what was, and what could not be read."""
    assert made.rowmap is not None
    computed: list[Range] = []
    unreadable: list[Range] = []
    for patch in patches(made, members, made.rowmap, (start, start + length)):
        put(patch.at, patch.data)
        computed.append((patch.at, patch.end))
        unreadable += patch.unreadable
    return subtract(union(computed), union(unreadable)), union(unreadable)


def _map_text(made: Lineup, listed: dict[str, list[Range]], pieces: Sequence[Range]) -> str:
    """The map beside the file, for people and programs: what, where on the volume, where in the file, how much."""
    assert made.rowmap is not None
    lines = [
        "# What in this file is not simply what stood on the members. In bytes: state, on the volume, in the file, how",
        "# many. computed: computed from the other members; open: the row does not match, and nothing tells which",
        "# member is at fault, so this may be wrong; unreadable: zeros. Then where which image is not used, and why.",
    ]
    for word, ranges in listed.items():
        for shift, (low, high) in _laid(pieces):
            lines += [f"{word}\t{a}\t{a + shift}\t{b - a}" for a, b in clip(ranges, low, high)]
    for fault in made.rowmap.faults:
        image = made.seated[fault.member]
        lines.append(f"image\t{image}\t{fault.start}\t{fault.end - fault.start}\t{fault.why.value}")
    return "\n".join(lines) + "\n"
