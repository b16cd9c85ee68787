"""The record of a recovery, to be handed over: what was judged, from what, what came of it, what was not done."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path, PurePosixPath

from blake3 import blake3

from .. import __version__
from ..core.lineup.document.custody import Fingerprint
from ..core.lineup.document.lineup_document import Lineup, LineupError
from ..core.lineup.reading.samples import Tell, silent
from ..core.source import BlockSource, BlockSourceError
from ..media.filesystems import FilesError, Kind
from ..media.image import ImageFile
from .files import Listed, Proof, Sampled, damaged, files_of, listing, sample
from .lineup import load, locate, open_drive_of

CHUNK = 8 << 20


class Role(StrEnum):
    """What an image is for."""

    MEMBER = "member"
    OLD = "out of date"
    UNUSED = "belongs to no array found"


@dataclass(frozen=True)
class Image:
    """A source: its size in bytes, and the BLAKE3 of all of it, "" where that was not computed or could not be."""

    name: str
    role: Role
    position: int | None
    size: int
    blake3: str


@dataclass(frozen=True)
class Result:
    """The volume as it was written out: size in bytes; and whether it is as long as the lineup's volume."""

    file: str
    size: int
    blake3: str
    whole: bool


class Omitted(StrEnum):
    """What was not done, as a code."""

    FULL_PASS = "full-pass"
    HASHES = "hashes"
    RESULT = "result"
    FILES = "files"
    SAMPLE = "sample"


@dataclass(frozen=True)
class Files:
    """The files of the volume: how many, how many bytes; those that are damaged; those that were opened."""

    holds: str
    count: int
    size: int
    damaged: tuple[Listed, ...]
    sampled: tuple[Sampled, ...]
    tested: bool

    @property
    def whole(self) -> int:
        return sum(one.proof is Proof.WHOLE for one in self.sampled)


@dataclass(frozen=True)
class Recovery:
    """All of it. no_files: why there are none to show; when: of the record, UTC."""

    lineup_file: str
    number: int
    lineup: Lineup
    images: tuple[Image, ...]
    result: Result | None
    files: Files | None
    no_files: str
    omitted: tuple[Omitted, ...]
    when: str
    version: str


def recovery(
    path: Path, number: int = 1, hashes: bool = False, result: Path | None = None, count: int = 20,
    partition: int | None = None, tell: Tell = silent,
) -> Recovery:  # fmt: skip
    """Gather the record of the numbered array (from 1) of a lineup file. Raises LineupError, MediaError.

    hashes  whether the images are read whole for their BLAKE3
    result  the file that `lineup extract` wrote; count: of files that are opened, 0 for none
    """
    solution = load(path)
    if number > len(solution.arrays):
        raise LineupError(what=f"{path}: there is no array {number}", to_do=f"it has {len(solution.arrays)}")
    found = solution.arrays[number - 1]
    images = _images(path, found, solution.unused, solution.images, hashes, tell)
    made = _result(result, found, tell) if result is not None else None
    files, why = _files(path, number, partition, count, tell)
    omitted = [
        *([Omitted.FULL_PASS] if found.rowmap is None else []), *([] if hashes else [Omitted.HASHES]),
        *([] if made else [Omitted.RESULT]), *([] if files else [Omitted.FILES]),
        *([Omitted.SAMPLE] if files and not files.sampled else []),
    ]  # fmt: skip
    now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return Recovery(str(path), number, found, images, made, files, why, tuple(omitted), now, __version__)


def _images(
    path: Path, found: Lineup, unused: tuple[str, ...], prints: tuple[Fingerprint, ...], hashes: bool, tell: Tell
) -> tuple[Image, ...]:  # fmt: skip
    seats = {name: position for position, name in enumerate(found.seated) if name is not None}
    roles = [(n, Role.OLD if n in found.stale else Role.MEMBER) for n in seats]
    roles += [(n, Role.OLD) for n in found.stale if n not in seats] + [(n, Role.UNUSED) for n in unused]
    sizes = {p.image: p.size for p in prints}
    told = []
    for name, role in roles:
        with ExitStack() as stack:
            image = open_drive_of(stack, locate(name, path))
            digest = _blake3(image, f"hashing {Path(name).name}", tell) if hashes else ""
            told.append(Image(name, role, seats.get(name), sizes.get(name, image.size), digest))
    return tuple(told)


def _blake3(source: BlockSource, what: str, tell: Tell) -> str:
    """Of all its bytes; "" where some cannot be read."""
    digest, buffer = blake3(), bytearray(CHUNK)
    for at in range(0, source.size, CHUNK):
        view = memoryview(buffer)[: min(CHUNK, source.size - at)]
        try:
            source.read_into(at, view)
        except BlockSourceError:
            return ""
        digest.update(view)
        tell(what, at >> 20, source.size >> 20)
    return digest.hexdigest()


def _result(path: Path, found: Lineup, tell: Tell) -> Result:
    with ImageFile(path) as image:
        return Result(str(path), image.size, _blake3(image, f"hashing {path.name}", tell),
                      image.size == found.volume_bytes)  # fmt: skip


def _files(path: Path, number: int, partition: int | None, count: int, tell: Tell) -> tuple[Files | None, str]:
    try:
        with files_of(path, number, partition) as opened:
            listed = [
                one for one in listing(opened, PurePosixPath("."), True, False, tell) if one.entry.kind is Kind.FILE
            ]
            sampled = sample(opened, count, tell=tell) if count else []
            hurt = tuple(one for one in listed if damaged(one))
            size = sum(one.entry.size for one in listed)
            return Files(opened.part.what, len(listed), size, hurt, tuple(sampled), opened.mapped), ""
    except FilesError as reason:
        return None, str(reason.what)
