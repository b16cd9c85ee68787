"""Extracting: a recovered volume, a part or a partition of it, written to a new sparse file that can be gone on with.

Every row is tested as it is read. Where a member is at fault, its bytes are computed from the others; where rows do not
add up and nothing tells who is at fault, what stands there is written and said; what cannot be read is left as zeros
and listed. Until all is written, the file has another name, and a note beside it says how far it is sound; the same
command goes on from there.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from ..core.lineup.document import Lineup
from ..core.lineup.patches import patches
from ..core.lineup.rowmap import RowMap
from ..core.lineup.samples import Tell, silent
from ..core.lineup.soundness import tested
from ..core.ranges import Range, clip, subtract, total, union
from ..core.source import BlockSource
from ..media.whole import write_text
from .checked import Watched
from .errors import WorkError
from .outfile import OutFile

PLAIN_BYTES = 64 << 20
"""Files no larger than this get their SHA-256 as well: of a large one, it alone would take longer than all the rest."""


@dataclass(frozen=True)
class Extract:
    """A finished extraction: sizes in bytes.

    blake3      of the whole file, read back, holes as the zeros they read as
    sha256      likewise, "" where it was not computed
    resumed     how far an earlier attempt had come
    computed      (volume offset, length) of what was computed because a member is at fault there
    open        likewise of what does not match, and nothing tells whether it is right
    unreadable  likewise of what could not be read and is zeros in the file
    map         the text file that lists all these, and which member is at fault where
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


class Interrupted(WorkError):
    """Stopped by hand: what was written is kept, and the same command continues from there."""


def extract(
    found: Lineup, members: list[BlockSource | None], identity: str, file: Path, start: int, length: int,
    tell: Tell = silent, plain: bool = False,
) -> tuple[Extract, Lineup]:  # fmt: skip
    """Write the volume's bytes [start, start + length) to a new file, or go on with one that was left unfinished; and
    the lineup with the map of the rows that were read.

    members   by position as in `found.seated`
    identity  says which volume this is: an unfinished file of another one is not gone on with
    tell      is told what is being done, and how much of it, of how much
    plain     whether the SHA-256 of the whole file is computed however large it is

    Raises MediaError, Interrupted.
    """
    watched = Watched(found, members)
    what = hashlib.sha256(f"{identity}\n{start}\n{length}".encode("utf-8", "surrogateescape")).hexdigest()
    with OutFile(file, what, length, plain or length <= PLAIN_BYTES) as out:
        try:
            made, _read = tested(
                found, members, tell, lambda at, pieces: out.take(at - start, pieces), (start, start + length)
            )
            computed, unreadable = mend(made, members, lambda at, data: out.overwrite(at - start, data), start, length)
        except KeyboardInterrupt:
            out.keep()
            done = f"stopped after {out.done} of {length} bytes"
            raise Interrupted(what=done, to_do="the same command continues from there") from None
        watched.check()
        assert made.rowmap is not None
        listed = _listed(made.rowmap, computed, unreadable, start, length)
        described = file.with_name(f"{file.name}.map.txt") if listed else None
        if described:
            described.unlink(missing_ok=True)
            write_text(described, _map_text(made, listed, start))
        fast, sha256 = out.finish(tell)
        data, resumed = total(out.image.data_ranges()), out.resumed
    said = {word: tuple((a, b - a) for a, b in ranges) for word, ranges in listed.items()}
    return Extract(
        str(file), start, length, data, fast, sha256, resumed, said.get("computed", ()), said.get("open", ()),
        said.get("unreadable", ()), str(described) if described else "",
    ), made  # fmt: skip


def mend(
    made: Lineup, members: list[BlockSource | None], put: Callable[[int, bytearray], None], start: int, length: int
) -> tuple[list[Range], list[Range]]:  # fmt: skip
    """Have what must be computed `put` over what stood on a member at fault; what was, and what could not be read."""
    assert made.rowmap is not None
    computed: list[Range] = []
    unreadable: list[Range] = []
    for patch in patches(made.geometry, members, made.rowmap, (start, start + length)):
        put(patch.at, patch.data)
        computed.append((patch.at, patch.end))
        unreadable += patch.unreadable
    return subtract(union(computed), union(unreadable)), union(unreadable)


def _listed(
    rowmap: RowMap, computed: list[Range], unreadable: list[Range], start: int, length: int
) -> dict[str, list[Range]]:  # fmt: skip
    """Ranges of the volume by what is to be said of them; none where all is as it stands on the members."""
    open_at = subtract(clip(rowmap.open, start, start + length), unreadable)
    found = {"computed": computed, "open": open_at, "unreadable": unreadable}
    return {word: ranges for word, ranges in found.items() if ranges} | ({"": []} if rowmap.faults else {})


def _map_text(made: Lineup, listed: dict[str, list[Range]], start: int) -> str:
    """The map beside the file, for people and programs: what, where on the volume, where in the file, how much."""
    assert made.rowmap is not None
    lines = [
        "# What in this file is not simply what stood on the members. In bytes: state, on the volume, in the file, how",
        "# many. computed: computed from the other members; open: the row does not match, and nothing tells which",
        "# member is at fault, so this may be wrong; unreadable: zeros. Then where which image is not used, and why.",
    ]
    for word, ranges in listed.items():
        lines += [f"{word}\t{a}\t{a - start}\t{b - a}" for a, b in ranges]
    for fault in made.rowmap.faults:
        image = made.seated[fault.member]
        lines.append(f"image\t{image}\t{fault.start}\t{fault.end - fault.start}\t{fault.why.value}")
    return "\n".join(lines) + "\n"
