"""The files on a lineup's volume: listed, tested, copied out, and a sample of them opened."""

from __future__ import annotations

import gzip
import io
import os
import random
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path, PurePosixPath

from blake3 import blake3

from ..core.arrays.geometry import Concatenation
from ..core.lineup.document.held import Held
from ..core.lineup.document.lineup_document import Lineup
from ..core.lineup.document.row_map import Why
from ..core.lineup.reading.samples import Tell, silent
from ..core.ranges import Range, clip, subtract, total, union
from ..core.source import BlockSource, BlockSourceError, Pieces
from ..media.file_readers import opened as opened_files
from ..media.filesystems import Entry, FilesError, FileSystem, Kind
from ..media.image import MediaError, media_error
from ..media.whole import give_name, refuse_existing
from .checked import CheckedVolume
from .lineup import open_array
from .places import chosen, parts_of


@dataclass(frozen=True)
class Listed:
    """A file or folder, and what is known of its bytes.

    wrong   of its content: bytes that may be wrong, for their rows do not match
    lost    bytes that cannot be read
    tested  whether all of it was read, and so the two are known; else they are what an earlier pass found, if any
    protected  whether redundancy is left that tells wrong bytes: without it nothing is known to be sound
    """

    entry: Entry
    wrong: int = 0
    lost: int = 0
    tested: bool = False
    protected: bool = False


@dataclass(frozen=True)
class Copied:
    """A file that was copied out, or why it was not: `trouble` is then one line."""

    listed: Listed
    to: str = ""
    blake3: str = ""
    trouble: str = ""


class Proof(StrEnum):
    """What a file that proves itself said."""

    WHOLE = "whole"
    BROKEN = "broken"


@dataclass(frozen=True)
class Sampled:
    """A file that carries sums of its own content, opened."""

    entry: Entry
    proof: Proof


@dataclass
class Opened:
    """A file system of a lineup's volume, open.

    known   ranges of the volume that do not match, by an earlier pass; met: by what was read now, grows
    mapped  whether an earlier pass has told them all
    protected  whether redundancy is left in every row
    inside  of a logical volume in several pieces: these, one after the other; the places of files are counted there
    """

    part: Held
    system: FileSystem
    mapped: bool
    protected: bool
    known: tuple[Range, ...] = ()
    met: list[Range] = field(default_factory=list)
    inside: Pieces | None = None

    @property
    def reach(self) -> Range:
        """(start, end) of the file system, in the bytes that the places of its files are counted in."""
        start, length = self.part.start, self.part.length
        return (start, start + length) if self.inside is None else (0, self.inside.size)

    @property
    def doubted(self) -> list[Range]:
        """Ranges that do not match, counted as the places of its files are."""
        ranges = union([*self.known, *self.met])
        return ranges if self.inside is None else self.inside.inward(ranges)

    def state(self, entry: Entry, tested: bool) -> Listed:
        """What is known of an entry's bytes."""
        lost = sum(total(clip(self.system.unread, a, b)) for a, b in entry.places)
        open_ = self.doubted
        wrong = sum(total(clip(open_, a, b)) for a, b in entry.places)
        seen = (tested or self.mapped) and entry.known
        return Listed(entry, min(wrong, entry.size), min(lost, entry.size), seen, self.protected)


def own_structures_hurt(opened: Opened, seen: Sequence[Listed]) -> int:
    """Bytes that were asked for, are in none of the files seen, and cannot be read or may be wrong: those are the file
    system's own structures, and what they would have named is not seen."""
    inside = union(r for one in seen for r in one.entry.places)
    met = opened.met if opened.inside is None else opened.inside.inward(opened.met)
    asked = union([*opened.system.unread, *clip(met, *opened.reach)])
    return total(subtract(asked, inside))


@contextmanager
def files_of(
    path: Path, number: int = 1, partition: int | None = None, name: str | None = None
) -> Iterator[Opened]:  # fmt: skip
    """The file system on the numbered array of a lineup file. Raises FilesError, MediaError, LineupError, WorkError.

    partition  from 1; None takes the only one there is
    name       of a logical volume of LVM
    """
    with open_array(path, number) as (found, members):
        met: list[Range] = []
        volume = CheckedVolume(found, members, met.extend, path.stem)
        opened = opened_on(volume, chosen(parts_of(volume), partition, name))
        rowmap = found.rowmap
        # what a pass could not read may be lost, and its map does not say of which bytes of the volume
        mapped = rowmap is not None and not any(f.why in (Why.UNREADABLE, Why.ABSENT) for f in rowmap.faults)
        known = rowmap.open if rowmap else ()
        yield replace(opened, mapped=mapped, protected=protected(found), known=known, met=met)


def opened_on(volume: BlockSource, part: Held) -> Opened:
    """The file system on one part of a volume, of which nothing is tested. Raises FilesError, BlockSourceError."""
    where = part.name or ("the volume" if not part.number else f"partition {part.number}")
    words = f"{where} holds {part.what or 'only zeros'}: that"
    if not part.pieces:
        return Opened(part, opened_files(volume, part.start, part.length, words), False, False)
    inside = Pieces(volume, part.pieces, str(volume))
    return Opened(part, opened_files(inside, 0, inside.size, words), False, False, inside=inside)


def protected(found: Lineup) -> bool:
    """Whether the members that are there have redundancy left in every row."""
    made = found.geometry
    if isinstance(made, Concatenation) or not made.redundant:
        return False
    gone = {position for position, name in enumerate(found.seated) if name is None}
    return all(len(group.checks) > len(group.members & gone) for group in made.pattern.groups)


def listing(opened: Opened, path: PurePosixPath, every: bool, check: bool, tell: Tell = silent) -> Iterator[Listed]:
    """What is at a path: a folder's content, or all below it.

    every  all below it; check: whether every file's bytes are read and tested
    """
    system = opened.system
    top = system.lookup(path)
    if top.kind is not Kind.FOLDER:
        found: Iterator[Entry] = iter([top])
    else:
        found = (e for e in system.walk(top) if e is not top) if every else system.folder(top)
    for count, entry in enumerate(found):
        tell("files", count)
        tested = check and entry.kind is Kind.FILE and _read_all(system, entry)
        yield opened.state(entry, tested)


def _read_all(system: FileSystem, entry: Entry) -> bool:
    try:
        for _piece in system.read(entry):
            pass
    except (FilesError, BlockSourceError):
        return False
    return True


def copy_files(opened: Opened, paths: Sequence[PurePosixPath], out: Path, tell: Tell = silent) -> Iterator[Copied]:
    """Copy files and folders, with all that is in them, into a folder; nothing there is ever replaced.

    Each is written whole under its name, or not at all. Links and devices are left out, and named.
    """
    system = opened.system
    tops = [system.lookup(path) for path in paths]
    try:
        out.mkdir(exist_ok=True)
    except OSError as reason:
        raise media_error(out, reason) from reason
    for top in tops:
        base = top.path.parent
        for count, entry in enumerate(system.walk(top)):
            tell("copying", count)
            to = out.joinpath(*entry.path.relative_to(base).parts)
            if entry.kind is Kind.FOLDER:
                to.mkdir(exist_ok=True, parents=True)
                continue
            if entry.kind is not Kind.FILE:
                yield Copied(opened.state(entry, False), trouble="a link or a device, which is not copied")
                continue
            try:
                sum_ = _copy(system, entry, to)
            except (FilesError, MediaError, BlockSourceError) as reason:
                yield Copied(opened.state(entry, False), trouble=str(reason))
                continue
            yield Copied(opened.state(entry, True), str(to), sum_)


def _copy(system: FileSystem, entry: Entry, to: Path) -> str:
    """Write one file; its BLAKE3."""
    refuse_existing(to)
    beside, digest = to.with_name(f".{to.name[:200]}.part"), blake3()
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        fd = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644)
        with os.fdopen(fd, "wb") as file:
            for piece in system.read(entry):
                digest.update(piece)
                if piece.count(0) == len(piece):  # a hole, or as good as one
                    file.seek(len(piece), os.SEEK_CUR)
                else:
                    file.write(piece)
            file.truncate()
            file.flush()
            os.fsync(fd)
        if entry.modified:
            os.utime(beside, (entry.modified, entry.modified))
        give_name(beside, to)
    except OSError as reason:
        raise media_error(to, reason) from reason
    finally:
        beside.unlink(missing_ok=True)
    return digest.hexdigest()


MOST_SAMPLE_BYTES = 64 << 20
"""Larger files are not opened for a sample."""


def sample(opened: Opened, count: int, seed: int = 0, tell: Tell = silent) -> list[Sampled]:
    """Files that carry sums of their content, chosen at random, each opened: pictures, archives, documents."""
    system = opened.system
    every = [
        e for e in system.walk(system.lookup(PurePosixPath("."))) if e.kind is Kind.FILE and e.size <= MOST_SAMPLE_BYTES
        and e.path.suffix.lower() in PROVEN and e.size
    ]  # fmt: skip
    random.Random(seed).shuffle(every)
    found: list[Sampled] = []
    for entry in every:
        if len(found) >= count:
            break
        tell("files that prove themselves", len(found), count)
        try:
            data = b"".join(system.read(entry))
        except (FilesError, BlockSourceError):
            found.append(Sampled(entry, Proof.BROKEN))
            continue
        proof = PROVEN[entry.path.suffix.lower()](data)
        if proof is not None:
            found.append(Sampled(entry, proof))
    return found


def _png(data: bytes) -> Proof | None:
    if not data.startswith(b"\x89PNG\r\n\x1a\n"):
        return None
    at = 8
    while at + 12 <= len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        body = data[at + 4 : at + 8 + length]
        if at + 12 + length > len(data) or zlib.crc32(body) != int.from_bytes(
            data[at + 8 + length : at + 12 + length], "big"
        ):
            return Proof.BROKEN
        if body[:4] == b"IEND":
            return Proof.WHOLE
        at += 12 + length
    return Proof.BROKEN


def _gzip(data: bytes) -> Proof | None:
    if not data.startswith(b"\x1f\x8b"):
        return None
    try:
        with gzip.GzipFile(fileobj=io.BytesIO(data)) as file:
            while file.read(1 << 20):
                pass
    except (OSError, EOFError, zlib.error):
        return Proof.BROKEN
    return Proof.WHOLE


def _zip(data: bytes) -> Proof | None:
    if not data.startswith(b"PK"):
        return None
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as file:
            return Proof.BROKEN if file.testzip() else Proof.WHOLE
    except (zipfile.BadZipFile, OSError, EOFError, zlib.error, RuntimeError, NotImplementedError, ValueError):
        return Proof.BROKEN


PROVEN = {
    ".png": _png, ".gz": _gzip, ".tgz": _gzip,
    **dict.fromkeys((".zip", ".jar", ".docx", ".xlsx", ".pptx", ".odt", ".ods", ".whl", ".epub"), _zip),
}  # fmt: skip
"""How a file whose name ends so proves itself; None where it is not what its name says."""


def damaged(found: Listed) -> bool:
    """Whether some of its bytes may be wrong, or are lost."""
    return bool(found.wrong or found.lost)
