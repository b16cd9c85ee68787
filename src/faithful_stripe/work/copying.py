"""Copying a volume, or a part of it, out into a new sparse file."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from ..core.source import BlockSource
from ..core.units import SizeError, parse_size
from ..media.image import ImageFile
from ..media.whole import copy_data, new_image, sha256

HASH_BYTES = 64 << 30
"""Files larger than this are not hashed: the zeros of their holes alone would take minutes."""


@dataclass(frozen=True)
class Copy:
    """A finished copy: sizes in bytes; `sha256` of the whole file, "" where it was not computed."""

    file: str
    start: int
    size: int
    data: int
    sha256: str


def parse_range(text: str | None, size: int) -> tuple[int, int]:
    """(start, length) of START:LENGTH, the whole when there is none. Raises SizeError outside `size`."""
    if text is None:
        return 0, size
    start_text, _, length_text = text.partition(":")
    start = parse_size(start_text)
    length = parse_size(length_text) if length_text else size - start
    if start + length > size or length <= 0:
        raise SizeError(text=text, kind=f"part of a volume of {size} bytes", example="0:256MiB")
    return start, length


def copy_out(source: BlockSource, file: Path, wanted: str | None, tell: Callable[[int, int], None]) -> Copy:
    """Write a part of `source` to a new file, whole or not at all. Raises MediaError, DataLost, SizeError.

    wanted  START:LENGTH, None for all
    tell    called with (bytes of data copied, bytes of data in all)
    """
    start, length = parse_range(wanted, source.size)
    with new_image(file, length) as target:
        done = copy_data(source, start, length, target, tell)
    if length > HASH_BYTES:
        return Copy(str(file), start, length, done, "")
    with ImageFile(file) as written:
        return Copy(str(file), start, length, done, sha256(written))
