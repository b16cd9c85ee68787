"""Images larger than the host's file system allows in one file: continued in `NAME.part2`, `NAME.part3`, ..."""

from __future__ import annotations

import errno
from collections.abc import Iterator
from pathlib import Path

from ..core.ranges import Range
from ..core.source import Buffer, check_bounds
from .image import ImageFile, MediaError, TruncatedImage, create_sparse

PART_BYTES = 8 << 40
"""Size of every part but the last; half of what ext4 allows in a file."""


def part_path(path: Path, number: int) -> Path:
    """Where part `number` (from 1) of an image is; part 1 is the image's own name."""
    return path if number == 1 else Path(f"{path}.part{number}")


def create_image(path: Path, size: int, part_bytes: int = PART_BYTES) -> None:
    """Make a new sparse image of `size` bytes: one file where the file system allows it, else several parts.

    Raises MediaError where it exists or cannot be made; nothing is left behind then.
    """
    try:
        create_sparse(path, size)
        return
    except MediaError as reason:
        cause = reason.__cause__
        if not isinstance(cause, OSError) or cause.errno != errno.EFBIG:
            raise
    made: list[Path] = []
    try:
        for number, start in enumerate(range(0, size, part_bytes), 1):
            create_sparse(part_path(path, number), min(part_bytes, size - start))
            made.append(part_path(path, number))
    except MediaError:
        for part in made:
            part.unlink()
        raise


def open_image(path: Path, *, writable: bool = False, expected_size: int | None = None) -> ImageFile | Parts:
    """An image by the name of its first file, its parts joined. Raises MediaError, TruncatedImage."""
    path = Path(path)
    if not part_path(path, 2).exists():
        return ImageFile(path, writable=writable, expected_size=expected_size)
    images = [ImageFile(path, writable=writable)]
    while part_path(path, len(images) + 1).exists():
        images.append(ImageFile(part_path(path, len(images) + 1), writable=writable))
    joined = Parts(images)
    if expected_size is not None and joined.size != expected_size:
        joined.close()
        raise TruncatedImage(path=path, found=joined.size, expected=expected_size)
    return joined


class Parts:
    """Several image files, one after the other, as one block source."""

    def __init__(self, images: list[ImageFile]) -> None:
        self.images = images
        self.path = images[0].path
        self._starts = [0]
        for image in images:
            self._starts.append(self._starts[-1] + image.size)

    def __str__(self) -> str:
        return str(self.images[0])

    def __enter__(self) -> Parts:
        return self

    def __exit__(self, *_details: object) -> None:
        self.close()

    def close(self) -> None:
        for image in self.images:
            image.close()

    @property
    def size(self) -> int:
        return self._starts[-1]

    @property
    def identity(self) -> str:
        return self.images[0].identity

    @property
    def written(self) -> int:
        return max(image.written for image in self.images)

    @property
    def serial(self) -> str:
        return ""

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        for image, inner, at, count in self._pieces(offset, len(view)):
            image.read_into(inner, view[at : at + count])

    def write(self, offset: int, data: Buffer) -> None:
        view = memoryview(data).cast("B")
        for image, inner, at, count in self._pieces(offset, len(view)):
            image.write(inner, view[at : at + count])

    def discard(self, offset: int, length: int) -> None:
        for image, inner, _at, count in self._pieces(offset, length):
            image.discard(inner, count)

    def flush(self) -> None:
        for image in self.images:
            image.flush()

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self.size if end is None else min(end, self.size)
        for image, first in zip(self.images, self._starts, strict=False):
            low, high = max(start, first), min(stop, first + image.size)
            if low < high:
                for a, b in image.data_ranges(low - first, high - first):
                    yield first + a, first + b

    def _pieces(self, offset: int, length: int) -> Iterator[tuple[ImageFile, int, int, int]]:
        check_bounds(self, self.size, offset, length)
        for image, first in zip(self.images, self._starts, strict=False):
            low, high = max(offset, first), min(offset + length, first + image.size)
            if low < high:
                yield image, low - first, low - offset, high - low
