"""What an image of a drive offers, whatever its form."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Protocol

from ..core.ranges import Range
from ..core.source import Buffer


class DriveImage(Protocol):
    """An image of a drive in any form: a block source that knows which file it is."""

    @property
    def size(self) -> int: ...
    @property
    def path(self) -> Path: ...
    @property
    def identity(self) -> str: ...
    @property
    def written(self) -> int: ...
    @property
    def serial(self) -> str: ...
    def read_into(self, offset: int, buffer: Buffer) -> None: ...
    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]: ...
    def close(self) -> None: ...
