"""The forms in which a drive's image arrives: raw, split, with a rescue copier's map, and the containers of others.

Which form a file has is told by its first bytes (and by the end, where the standard puts it there), never by its name
alone; what is known and cannot be read here is refused, so that no container is ever taken for a drive's bytes.
Containers are read by well-kept libraries, an optional extra: `pip install 'faithful-stripe[images]'`.
"""

from __future__ import annotations

import importlib
import re
import threading
from collections.abc import Callable, Iterator, Sequence
from enum import StrEnum
from pathlib import Path
from typing import Any

from ..core.ranges import Range
from ..core.source import Buffer, Unreadable, check_bounds
from .drive_image import DriveImage
from .image import ImageFile, MediaError
from .parts import Parts, open_image
from .qcow2 import Qcow2
from .remote import address_of, open_remote
from .rescuemap import Merged, Rescued, is_map, map_beside, read_map


class Form(StrEnum):
    """What a file is."""

    RAW = "raw"
    QCOW2 = "qcow2"
    VMDK = "VMDK"
    VHD = "VHD"
    VHDX = "VHDX"
    EWF = "EWF"
    GZIP = "gzip"
    ZSTD = "zstd"
    VDI = "VDI"
    AFF = "AFF"
    EWF2 = "EWF, second version"
    XZ = "xz"
    SEVEN = "7z"
    ZIP = "ZIP"


HEADS = (
    (0, b"QFI\xfb", Form.QCOW2), (0, b"KDMV", Form.VMDK), (0, b"COWD", Form.VMDK),
    (0, b"# Disk DescriptorFile", Form.VMDK), (0, b"vhdxfile", Form.VHDX), (0, b"conectix", Form.VHD),
    (0, b"EVF\x09\x0d\x0a\xff\x00", Form.EWF), (0, b"EVF2\x0d\x0a\x81\x00", Form.EWF2),
    (64, b"\x7f\x10\xda\xbe", Form.VDI), (0, b"AFF10\x0d\x0a\0", Form.AFF),
)  # fmt: skip
"""What stands where in the first 512 bytes; sources: the published descriptions of these formats."""

STREAMS = (
    (b"\x1f\x8b\x08", Form.GZIP), (b"\x28\xb5\x2f\xfd", Form.ZSTD), (b"\xfd7zXZ\0", Form.XZ),
    (b"7z\xbc\xaf\x27\x1c", Form.SEVEN), (b"PK\x03\x04", Form.ZIP),
)  # fmt: skip
"""How compressed files begin. A drive may begin so, too, where it holds one: see `form_of`."""

ENDINGS = {
    Form.GZIP: (".gz", ".gzip"), Form.ZSTD: (".zst", ".zstd"), Form.XZ: (".xz",), Form.SEVEN: (".7z",),
    Form.ZIP: (".zip",),
}  # fmt: skip
SECTOR = 512

NOT_READ = {Form.VDI, Form.AFF, Form.EWF2, Form.XZ, Form.SEVEN, Form.ZIP}
EXTRA = "pip install 'faithful-stripe[images]'"


def form_of(path: Path) -> Form:
    """What the file at `path` is. Raises MediaError where it cannot be read.

    A compressed file is one only if it is called so, or is no whole number of sectors long, as every drive is.
    """
    with ImageFile(path) as image:
        head = bytearray(min(SECTOR, image.size))
        tail = bytearray(min(SECTOR, image.size))
        try:
            image.read_into(0, head)
            image.read_into(image.size - len(tail), tail)
        except Unreadable:
            pass
        size = image.size
    for at, word, form in HEADS:
        if head[at : at + len(word)] == word:
            return form
    if tail.startswith(b"conectix"):  # a fixed one: the bytes of the drive, and this behind them
        return Form.VHD
    for word, form in STREAMS:
        if head.startswith(word) and (path.suffix.lower() in ENDINGS[form] or size % SECTOR):
            return form
    return Form.RAW


FIRST_PIECE = re.compile(r"\.(0*[01])$")
"""How the first piece of a split image is called: `.001`, `.000`, `.01`, `.1`."""
LATER_PIECE = re.compile(r"\.(\d{2,})$")
EWF_PIECE = re.compile(r"\.([EeLl])(\d\d|[A-Za-z]{2})$")


def pieces_of(path: Path) -> list[Path]:
    """The pieces of a split image by its first one: itself alone where it is none."""
    named = FIRST_PIECE.search(path.name)
    if not named:
        return [path]
    width, number = len(named[1]), int(named[1])
    pieces = [path]
    while True:
        number += 1
        beside = path.with_name(f"{path.name[: named.start()]}.{number:0{width}d}")
        if not beside.is_file():
            return pieces
        pieces.append(beside)


def whole_images(paths: Sequence[Path]) -> tuple[list[Path], list[Path]]:
    """Of files that a person names for a pile, the images, and what belongs to one of them: later pieces, and maps.

    A later piece without its first, or one of which a piece between is gone, is no image: MediaError.
    """
    named = list(paths)
    covered: set[Path] = set()
    for path in named:
        covered |= set(pieces_of(path)[1:])
        found = EWF_PIECE.search(path.name)
        if found and found[2] != "01" and path.with_name(path.name[: found.start(2)] + "01") in named:
            covered.add(path)
        beside = map_beside(path)
        if beside is not None:
            covered.add(beside)
    images = [path for path in named if path not in covered]
    for path in images:
        later = LATER_PIECE.search(path.name)
        if later and int(later[1]) > 1:
            before = path.with_name(f"{path.name[: later.start(1)]}{int(later[1]) - 1:0{len(later[1])}d}")
            firsts = [before.with_name(f"{path.name[: later.start(1)]}{n:0{len(later[1])}d}") for n in (0, 1)]
            if any(first in named for first in firsts):
                raise MediaError(
                    path=before, what=f"this piece of a split image is missing: {path.name} is here",
                    to_do="bring the piece, or name only images that are whole",
                )  # fmt: skip
        if path.is_file() and is_map(path):
            raise MediaError(
                path=path, what="a rescue copier's map without its image", to_do="name the image beside it"
            )
    return images, [path for path in named if path in covered]


def open_drive(path: Path) -> DriveImage:
    """The image at `path`, of whatever form, read-only.

    An address (nbd://, https://) is a raw image elsewhere. `A+B`, where no such file exists, is one drive from two
    passes, each with its map: the first that read a range gives it. Raises MediaError.
    """
    if address_of(path) is not None:
        return open_remote(path)
    names = str(path).split("+")
    if len(names) > 1 and not path.exists():
        return _merged([Path(name) for name in names])
    image = _whole(path)
    beside = map_beside(path)
    if beside is None:
        return image
    try:
        return Rescued(image, read_map(beside, image.size))
    except MediaError:
        image.close()
        raise


def _whole(path: Path) -> DriveImage:
    """The image in a file, or in its pieces, without what a map says of it."""
    pieces = pieces_of(path)
    form = form_of(path)
    if form is Form.RAW:
        return Parts([ImageFile(piece) for piece in pieces]) if len(pieces) > 1 else open_image(path)
    if form in NOT_READ:
        raise MediaError(path=path, what=f"a {form} file, which is not read here", to_do="convert it to a raw image")
    if form in (Form.GZIP, Form.ZSTD):
        return Container(path, form, _stream(path, form))
    if form is Form.QCOW2:
        return Qcow2(path)
    return Container(path, form, _opened(path, form))


def _merged(paths: list[Path]) -> DriveImage:
    """One drive from several passes over it: by their maps, and where those are silent by what the others hold."""
    passes: list[Rescued | ImageFile] = []
    for path in paths:
        one = open_drive(path)
        if not isinstance(one, Rescued | ImageFile):
            one.close()
            raise MediaError(path=path, what="only raw images are combined", to_do="convert it to a raw image")
        passes.append(one)
    return Merged(passes)


def _library(path: Path, form: Form, name: str) -> Any:
    try:
        return importlib.import_module(name)
    except ImportError as reason:
        raise MediaError(
            path=path, what=f"a {form} image: the library that reads it is not installed", to_do=EXTRA
        ) from (reason)


def _opened(path: Path, form: Form) -> Any:
    """The handle of a container. Raises MediaError."""
    try:
        if form is Form.VMDK:
            handle = _library(path, form, "pyvmdk").handle()
            handle.open(str(path))
            parent = handle.get_parent_filename()
            if not parent:
                handle.open_extent_data_files()
        elif form in (Form.VHD, Form.VHDX):
            handle = _library(path, form, "pyvhdi").file()
            handle.open(str(path))
            parent = handle.get_parent_filename()
        else:
            library = _library(path, form, "pyewf")
            handle = library.handle()
            handle.open(library.glob(str(path)))
            parent = None
    except OSError as reason:
        raise MediaError(
            path=path, what=f"its {form} structure is damaged or not known", to_do="copy it again"
        ) from reason
    if parent:
        handle.close()
        raise MediaError(
            path=path, what=f"it holds only what differs from another image ({parent})",
            to_do="convert both to one raw image",
        )  # fmt: skip
    return handle


def _stream(path: Path, form: Form) -> Any:
    """A compressed raw image, read at any place. Raises MediaError."""
    try:
        if form is Form.GZIP:
            return _counted(_library(path, form, "indexed_gzip").IndexedGzipFile(str(path)))
        return _library(path, form, "indexed_zstd").IndexedZstdFile(str(path))
    except (OSError, ValueError, RuntimeError) as reason:
        raise MediaError(path=path, what=f"its {form} structure is damaged", to_do="copy it again") from reason


def _counted(file: Any) -> Any:
    """A gzip file with its places known: its end, and so its size, is found by unpacking all of it once."""
    file.build_full_index()
    return file


class Container:
    """An image inside a container: what the container's library reads of it. Its holes are not known."""

    def __init__(self, path: Path, form: Form, handle: Any) -> None:
        self.path, self.form, self._handle = path, form, handle
        self._lock = threading.Lock()  # the libraries' handles have one position
        with ImageFile(path) as image:
            self._identity = image.identity
        self._size = self._measured()

    def __str__(self) -> str:
        return self.path.name

    @property
    def size(self) -> int:
        return self._size

    @property
    def identity(self) -> str:
        return self._identity

    @property
    def written(self) -> int:
        """When somebody last wrote to the file, in nanoseconds."""
        return self.path.stat().st_mtime_ns

    @property
    def serial(self) -> str:
        return ""

    def close(self) -> None:
        self._handle.close()

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self._size, offset, len(view))
        with self._lock:
            try:
                self._handle.seek(offset)
                at = 0
                while at < len(view):
                    piece = self._handle.read(len(view) - at)
                    if not piece:
                        raise Unreadable(source=self, offset=offset + at, length=len(view) - at)
                    view[at : at + len(piece)] = piece
                    at += len(piece)
            except (OSError, ValueError, RuntimeError, MemoryError) as reason:
                raise Unreadable(source=self, offset=offset, length=len(view)) from reason

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self._size if end is None else min(end, self._size)
        if start < stop:
            yield start, stop

    def _measured(self) -> int:
        try:
            measure: Callable[[], int] | None = getattr(self._handle, "get_media_size", None)
            if measure is not None:
                return int(measure())
            self._handle.seek(0, 2)
            return int(self._handle.tell())
        except (OSError, ValueError, RuntimeError) as reason:
            self._handle.close()
            raise MediaError(
                path=self.path, what=f"its {self.form} structure is damaged", to_do="copy it again"
            ) from reason
