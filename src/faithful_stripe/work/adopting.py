"""Back into service: the array of a lineup written anew, as drives that a controller of the open format can adopt.

The sources are only read. The volume is written through the array engine to new images of the same level, order, strip
and layout: every member is there then, every row is consistent, and of what a member held wrong nothing is taken over.
Each new drive carries the set-up as SNIA DDF. Before the folder gets its name the set is opened by nothing but that
set-up, and read against the lineup's own volume.
"""

from __future__ import annotations

import os
import re
import shutil
import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from ..core.arrays.engine import Array
from ..core.arrays.geometry import Concatenation, Geometry, geometry
from ..core.formats import ddf
from ..core.formats.ddf_records import (
    SETUP_BYTES,
    Stated,
    configs,
    drive_guid,
    guid_of,
    pieces,
    places,
    reference,
)
from ..core.formats.ddf_volumes import described
from ..core.formats.ends import declared_end
from ..core.lineup.document.four_verdicts import Sure
from ..core.lineup.document.lineup_document import Lineup
from ..core.lineup.full_pass.soundness import tested
from ..core.lineup.full_pass.stretch import Stretch
from ..core.lineup.reading.samples import Tell, silent
from ..core.ranges import Range
from ..core.source import BlockSource
from ..media.parts import create_image, open_image
from ..media.whole import refuse_existing, sync_folder, write_text
from .checked import Watched
from .copying import HASH_BYTES
from .errors import WorkError
from .extracting import mend
from .mapper import table
from .outfile import Digest
from .same_volume import compare_seen

MAKER = "FSTRIPE"
"""Whom the set-up names as the maker of the drives: the real one is not known."""

EXTRACT_IT = "use `lineup extract`, and a new volume"

NAME = r"[A-Za-z0-9][A-Za-z0-9_-]{0,14}"
EPOCH = datetime(1980, 1, 1, tzinfo=UTC).timestamp()
ALIGNED = 1 << 20


@dataclass(frozen=True)
class NewDrive:
    """One drive of the new set: which image it stands for ("" for a missing member), sizes in bytes."""

    position: int
    serial: str
    file: str
    image: str
    size: int


@dataclass(frozen=True)
class NewSet:
    """A set that was written and read back.

    start, extent  the data area on every drive; volume: the size of the volume; in bytes
    blake3         of the volume, read through the drives' own set-up; "" where it is too large: each byte of data was
                   compared with the lineup's in any case
    computed, open, unreadable  ranges of the volume (bytes): computed from other members; of which nothing tells
                                whether they are right; zeros, for nothing there can be read
    moved          whether data start elsewhere than on the lineup's own members
    shorter        bytes of the lineup's volume, at its end, that these drives have no room for and nothing claims
    """

    folder: str
    name: str
    drives: tuple[NewDrive, ...]
    start: int
    extent: int
    volume: int
    blake3: str
    computed: tuple[Range, ...] = ()
    open: tuple[Range, ...] = ()
    unreadable: tuple[Range, ...] = ()
    moved: bool = False
    shorter: int = 0


def doubts(found: Lineup) -> list[str]:
    """The verdicts, by name, that stand against making drives of a lineup.

    Who is behind does not matter where all that it should hold is computed, and proven; nor what nothing can tell.
    """
    verdicts = found.verdicts
    against = [name for name in ("order", "start") if getattr(verdicts, name).sure is not Sure.CERTAIN]
    let_pass = {Sure.CERTAIN, Sure.UNTESTABLE} | ({Sure.UNTESTED} if found.rowmap is None else set())
    if verdicts.currency.sure not in let_pass and verdicts.soundness.sure is not Sure.CERTAIN:
        against.append("currency")
    return against


class Doubtful(WorkError):
    """A lineup that is not certain enough; `against` names the verdicts."""

    def __init__(self, found: Lineup, against: Sequence[str]) -> None:
        self.found, self.against = found, against
        super().__init__(what=", ".join(against), to_do="")


def adopt(
    found: Lineup, members: list[BlockSource | None], identity: str, folder: Path, name: str, size: int | None = None,
    doubtful: bool = False, tell: Tell = silent,
) -> tuple[NewSet, Lineup]:  # fmt: skip
    """Write the array of a lineup to a new folder as drives with a set-up; and the lineup with the map of its rows.

    members   by position as in `found.seated`
    identity  says which volume this is
    name      what the set-up calls the volume
    size      of each new drive, in bytes; the smallest that holds all where there is none
    doubtful  whether it is done where order, start or currency is not certain, too

    Raises Doubtful; WorkError: the format cannot state this array, or the drives are too small; MediaError.
    """
    if not re.fullmatch(NAME, name):
        to_do = "letters, digits, - and _, at most 15, the first a letter or digit (--name)"
        raise WorkError(what=f"a volume cannot be called {name!r}", to_do=to_do)
    if found.former is not None:
        raise WorkError(what="DDF cannot state an array in two layouts, half grown", to_do=EXTRACT_IT)
    made = _anew(found.geometry, found.opened(members), size)
    stated = _stated(made)
    if why := stated.why_not:
        raise WorkError(what=f"DDF cannot state this array: {why}", to_do=EXTRACT_IT)
    size = _rounded(stated.start + stated.extent + SETUP_BYTES) if size is None else size
    if not doubtful and (against := doubts(found)):
        raise Doubtful(found, against)
    watched = Watched(found, members)
    drives = [
        NewDrive(p, f"{name.upper().replace('_', '-')}-{p}", f"{name}-{p}.img", image or "", size)
        for p, image in enumerate(found.seated)
    ]
    with _building(folder) as place:
        for drive in drives:
            create_image(place / drive.file, size)
        with _opened(place, drives, writable=True) as images:
            array = Array(made, list(images), name="new array")
            after, computed, unreadable = _write(found, members, array, tell)
            for drive, image, told in zip(drives, images, _metadata(stated, drives, name, identity), strict=True):
                for at, data in pieces(told, drive.size):
                    image.write(at, data)
                image.flush()
        if not doubtful and (against := doubts(after)):
            raise Doubtful(after, against)
        blake3 = _proven(after, members, place, drives, tell)
        watched.check()
        done = NewSet(
            str(folder), name, tuple(drives), stated.start, stated.extent, made.volume_bytes, blake3,
            tuple(computed), after.rowmap.open if after.rowmap else (), tuple(unreadable),
            set(found.geometry.start_bytes) != {stated.start}, found.geometry.volume_bytes - made.volume_bytes,
        )  # fmt: skip
        mapped = table(made, [f"/dev/DRIVE-{d.position}" for d in drives], name)
        if mapped:
            write_text(place / "array.table", mapped)
        write_text(place / "array.txt", _description(done, after, bool(mapped)))
    return done, after


def _anew(made: Geometry, volume: BlockSource, size: int | None) -> Geometry:
    """The same layout over members that all begin at the same place and end with the last row, or, on drives of `size`
    bytes that do not hold all, with the last that they have room for, where nothing belongs behind it."""
    if isinstance(made, Concatenation):
        what, to_do = "members one after the other have no set-up that all their sizes fit in", "use `lineup extract`"
        raise WorkError(what=what, to_do=to_do)
    start = -(-max(made.start_bytes) // ddf.SECTOR) * ddf.SECTOR
    whole = _over(made, start, made.rows)
    least = _rounded(start + made.rows * made.strip_bytes + SETUP_BYTES)
    if size is None or (size >= start + made.rows * made.strip_bytes + SETUP_BYTES and not size % ddf.SECTOR):
        return whole
    end = declared_end(volume)
    rows = (size - SETUP_BYTES - start) // made.strip_bytes // made.pattern.unit_rows * made.pattern.unit_rows
    to_do = f"whole sectors; {least} bytes hold all"
    if size % ddf.SECTOR or rows <= 0:
        raise WorkError(what=f"drives of {size} bytes do not do", to_do=to_do)
    shorter = _over(made, start, rows)
    if end is None or end > shorter.volume_bytes:
        why = "nothing at its start says how large it is" if end is None else f"what is on it takes {end}"
        what = f"on drives of {size} bytes the volume has {shorter.volume_bytes} bytes: {why}"
        raise WorkError(what=what, to_do=to_do)
    return shorter


def _over(made: Geometry, start: int, rows: int) -> Geometry:
    count = made.members
    return Geometry(made.layout, made.strip_bytes, (start,) * count, (rows * made.strip_bytes,) * count)


def _rounded(size: int) -> int:
    return -(-size // ALIGNED) * ALIGNED


def _stated(made: Geometry) -> Stated:
    chosen = made.layout
    return Stated(
        level=chosen.level, members=made.members, strip=made.strip_bytes, start=made.start_bytes[0],
        extent=made.rows * made.strip_bytes, size=made.volume_bytes, rotation=chosen.rotation, data=chosen.data,
        q_place=chosen.q_place, q_exponent=chosen.q_exponent, spans=chosen.spans, copies=chosen.copies,
        usual=chosen.usual,
    )  # fmt: skip


@contextmanager
def _building(folder: Path) -> Iterator[Path]:
    """A folder beside its place, which gets its name when all went well, and is gone when not."""
    refuse_existing(folder)
    place = folder.with_name(f".{folder.name}.part-{os.getpid()}")
    for left in folder.parent.glob(f".{folder.name}.part-*"):
        number = left.name.rpartition("-")[2]
        if number.isdecimal() and (int(number) == os.getpid() or not Path(f"/proc/{number}").exists()):
            shutil.rmtree(left, ignore_errors=True)  # a killed process's
    try:
        try:
            place.mkdir()
        except OSError as reason:
            what, to_do = (
                f"{folder}: cannot be created ({reason.strerror})",
                "name a folder in one that you may write to",
            )
            raise WorkError(what=what, to_do=to_do) from reason
        yield place
        sync_folder(place)
        refuse_existing(folder)
        os.rename(place, folder)
        sync_folder(folder.parent)
    finally:
        shutil.rmtree(place, ignore_errors=True)


@contextmanager
def _opened(place: Path, drives: Sequence[NewDrive], writable: bool = False) -> Iterator[list[Any]]:
    with ExitStack() as stack:
        yield [stack.enter_context(open_image(place / drive.file, writable=writable)) for drive in drives]


def _write(
    found: Lineup, members: list[BlockSource | None], array: Array, tell: Tell
) -> tuple[Lineup, list[Range], list[Range]]:
    """Write the volume, tested as it is read; the lineup with its map, what was computed, and what cannot be read."""
    span = array.geometry.strip_bytes * array.geometry.pattern.group_strips

    def put(stretch: Stretch) -> None:
        """Whole groups where there are any; those of zeros stay holes."""
        at, data = stretch.at, np.concatenate(stretch.pieces)[: max(0, array.size - stretch.at)]
        edges = [*range(at, at + data.size, span)] if at % span == 0 else [at]
        for begin, end in zip(edges, [*edges[1:], at + data.size], strict=True):
            piece = data[begin - at : end - at]
            if piece.any():
                array.write(begin, piece)

    part = None if array.size == found.geometry.volume_bytes else (0, array.size)
    after, _read = tested(found, members, tell, put, part)
    assert after.rowmap is not None
    computed, unreadable = mend(after, members, array.write, 0, array.size)
    return after, computed, unreadable


def _metadata(stated: Stated, drives: Sequence[NewDrive], name: str, identity: str) -> list[ddf.Metadata]:
    """What DDF says on each drive of the set: all of it on every one."""
    now = max(0, int(time.time() - EPOCH))
    references = [reference(MAKER, drive.serial) for drive in drives]
    guid = guid_of("vd", f"{identity} {now}")
    told = {"guid": guid, "timestamp": now, "sequence": 1, "cache": 0}
    rows = tuple(
        {
            "guid": drive_guid(MAKER, drive.serial), "reference": ref, "type": ddf.MEMBER, "state": ddf.ONLINE,
            "size": (drive.size - SETUP_BYTES) // ddf.SECTOR, "path": b"", "block": ddf.SECTOR,
        }
        for drive, ref in zip(drives, references, strict=True)
    )  # fmt: skip
    volume = {"guid": guid, "number": 1, "state": 0, "initialized": 2, "margin": 0, "name": name.encode().ljust(16)}
    records = tuple(configs(stated, references, told))
    header = {"guid": guid_of("set", f"{identity} {now}"), "sequence": 1, "timestamp": now}
    controller = {"guid": guid_of("ctrl", identity), "product": b"lineup adopt".ljust(16)}
    return [
        ddf.Metadata(
            header | places(drive.size), controller, rows, (volume,), records,
            drive={"guid": drive_guid(MAKER, drive.serial), "reference": ref},
        )
        for drive, ref in zip(drives, references, strict=True)
    ]  # fmt: skip


@contextmanager
def by_its_setup(place: Path, drives: Sequence[NewDrive]) -> Iterator[Array]:
    """The volume of a set of drives, opened by nothing but what they carry. Raises WorkError where that is not one."""
    with _opened(place, drives) as images:
        told = [ddf.decode(image) for image in images]
        one = described(told)[0]
        chosen = one.layout
        made = geometry(
            chosen["level"], len(one.positions), one.strip, member_bytes=one.extent, start_bytes=one.starts,
            rotation=chosen["rotation"], data=chosen["data"], spans=chosen["spans"] if chosen["spans"] > 1 else None,
            copies=chosen["copies"] if chosen["level"] == "RAID10" else None,
            q_place=chosen["q_place"], q_exponent=chosen["q_exponent"],
        )  # fmt: skip
        yield Array(made, [None if n is None else images[n] for n in one.positions], name=one.name)


def _proven(
    found: Lineup, members: list[BlockSource | None], place: Path, drives: Sequence[NewDrive], tell: Tell
) -> str:
    """The BLAKE3 of the new set's volume ("" of a very large one), once all its data were found to be the lineup's.

    Raises WorkError where they are not.
    """
    with by_its_setup(place, drives) as array:
        seen = compare_seen(found, members, array, tell)
        if seen.differ:
            what = f"the new drives do not read as the lineup's volume: {len(seen.differ)} ranges differ"
            raise WorkError(what=what, to_do="nothing was kept; use `lineup extract`")
        return Digest(array, plain=False).upto(array.size, tell) if array.size <= HASH_BYTES else ""


MAPPED = (
    "Linux reads the volume, read-only, by array.table: put the drives in place of /dev/DRIVE-0 and so on, then",
    '  while read name line; do dmsetup create "$name" --readonly --table "$line"; done < array.table',
)


def _description(done: NewSet, found: Lineup, mapped: bool) -> str:
    """The set for people who bring it into service elsewhere: what stands where, in words and numbers."""
    chosen = found.geometry.layout
    words = [w for w in (chosen.rotation, chosen.data) if w]
    words += [f"Q {chosen.q_place}, exponents by {chosen.q_exponent}"] if chosen.q_place else []
    lines = [
        f"volume {done.name}: {chosen.level} of {chosen.members} members, {', '.join([*words, 'in this order:'])}",
        *(f"  position {d.position}: {d.file}, serial number {d.serial}" for d in done.drives),
        f"strip bytes: {found.geometry.strip_bytes}",
        f"spans: {chosen.spans}" if chosen.spans > 1 else f"copies: {chosen.copies}",
        f"data on every drive: from byte {done.start}, {done.extent} bytes",
        f"volume bytes: {done.volume}",
        *([f"BLAKE3 of the volume: {done.blake3}"] if done.blake3 else []),
        "The set-up stands at the end of every drive as SNIA DDF, its anchor in the last sector.",
        *(MAPPED if mapped else ["Linux's device mapper has no target for this layout."]),
    ]
    return "\n".join(lines) + "\n"
