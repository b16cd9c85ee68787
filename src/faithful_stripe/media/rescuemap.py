"""The plain-text map that a rescue copier writes beside an image: which bytes of the drive it has read, and which not.

The format is GNU ddrescue's, documented and written by several copiers: comment lines begin with `#`; the first other
line is the copier's own position; each line after it is `POSITION SIZE STATUS`, numbers in C's notations, the status
`+` for what was read. Everything else (`?` not tried, `*` `/` not read yet, `-` bad) is not known.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from pathlib import Path

from ..core.lineup.reading.imaged_twice import BestOf
from ..core.ranges import Range, clip, subtract, union
from ..core.source import Buffer, Unreadable
from .drive_image import DriveImage
from .image import ImageFile, MediaError, media_error

MOST_BYTES = 64 << 20
"""Of a map: with more, it is something else."""
STATUSES = "?*/-+"
OURS = "# Faithful Stripe: position, size, status: + read, - cannot be read, ? not tried"
"""The first line of a map that we wrote, which may be written again."""
NAMES = (".map", ".mapfile", ".ddmap")
"""What a map's name adds to its image's, or puts in the place of the image's ending."""


def map_beside(path: Path) -> Path | None:
    """The map of the image at `path`, where one stands beside it."""
    for name in NAMES if path.is_file() else ():
        for beside in (Path(f"{path}{name}"), path.with_suffix(name)):
            if beside != path and beside.is_file() and is_map(beside):
                return beside
    return None


def is_map(path: Path) -> bool:
    """Whether a file is such a map: its first line that is no comment is one, and so is the next."""
    try:
        with path.open("rb") as file:
            head = file.read(4096)
    except OSError:
        return False
    if b"\0" in head:
        return False
    lines = [line for line in head.decode("ascii", "replace").splitlines() if line.strip() and line[0] != "#"]
    return len(lines) > 1 and _current(lines[0]) and _block(lines[1]) is not None


def read_map(path: Path, size: int) -> list[Range]:
    """The ranges of an image of `size` bytes that were read: ascending and disjoint. Raises MediaError."""
    try:
        if path.stat().st_size > MOST_BYTES:
            raise MediaError(path=path, what=f"a map of more than {MOST_BYTES} bytes", to_do="check the file")
        text = path.read_text("ascii", "replace")
    except OSError as reason:
        raise media_error(path, reason) from reason
    good: list[Range] = []
    other: list[Range] = []
    current = False
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line[0] == "#":
            continue
        if not current:
            current = _current(line)
            if current:
                continue
        found = _block(line)
        if not current or found is None:
            what = f"line {number}: expected POSITION SIZE STATUS, found {line[:40]!r}"
            raise MediaError(path=path, what=what, to_do="correct the map, or move it away to take the image as it is")
        at, length, status = found
        (good if status == "+" else other).append((at, at + length))
    return list(clip(subtract(union(good), union(other)), 0, size))  # where lines contradict, it was not read


def ours(path: Path) -> bool:
    """Whether there is no map at `path`, or one that we wrote."""
    try:
        with path.open("rb") as file:
            return file.read(len(OURS)) == OURS.encode()
    except FileNotFoundError:
        return True
    except OSError:
        return False


def map_text(size: int, unread: Sequence[Range], untried: Sequence[Range] = ()) -> str:
    """Such a map of a file of `size` bytes.

    unread   ranges that could not be read; untried: that nobody tried to read
    """
    bad, left = clip(union(unread), 0, size), clip(union(untried), 0, size)
    marks = [(a, b, "-") for a, b in bad] + [(a, b, "?") for a, b in subtract(left, bad)]
    marks += [(a, b, "+") for a, b in subtract([(0, size)], union([*bad, *left]))]
    lines = [OURS, f"0x{size:x} {'?' if left else '+'} 1"]
    return "\n".join([*lines, *(f"0x{a:x} 0x{b - a:x} {word}" for a, b, word in sorted(marks))]) + "\n"


def _current(line: str) -> bool:
    words = line.split()
    return len(words) in (2, 3) and _number(words[0]) is not None and words[1] in ("?", "*", "/", "-", "F", "G", "+")


def _block(line: str) -> tuple[int, int, str] | None:
    words = line.split()
    if len(words) < 3 or words[2] not in STATUSES:
        return None
    at, length = _number(words[0]), _number(words[1])
    return (at, length, words[2]) if at is not None and length is not None else None


def _number(word: str) -> int | None:
    try:
        return max(0, int(word, 0))
    except ValueError:
        return int(word, 8) if word.isdigit() and set(word) <= set("01234567") else None


class Rescued:
    """An image of which only some ranges were read from the drive: the others are unreadable, whatever stands there.

    good  the ranges that were read, in bytes, ascending and disjoint
    """

    def __init__(self, image: DriveImage, good: list[Range]) -> None:
        self.image, self.good = image, good
        self.path = image.path
        self._starts = [a for a, _b in good]

    def __str__(self) -> str:
        return str(self.image)

    @property
    def size(self) -> int:
        return self.image.size

    @property
    def identity(self) -> str:
        return self.image.identity

    @property
    def written(self) -> int:
        return self.image.written

    @property
    def serial(self) -> str:
        return self.image.serial

    def close(self) -> None:
        self.image.close()

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        if len(view) and self.read_until(offset) < offset + len(view):
            raise Unreadable(source=self, offset=offset, length=len(view))
        self.image.read_into(offset, view)

    def read_until(self, at: int) -> int:
        """The end of the range that was read and holds byte `at`; `at` where it was not read."""
        number = bisect_right(self._starts, at) - 1
        return max(at, self.good[number][1]) if number >= 0 else at

    def next_read(self, at: int) -> int | None:
        """Where the next range begins that was read, behind byte `at`; None where there is none."""
        number = bisect_right(self._starts, at)
        return self._starts[number] if number < len(self._starts) else None

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        """What holds data or was not read: neither can be taken for zeros."""
        stop = self.size if end is None else min(end, self.size)
        yield from union([*self.image.data_ranges(start, stop), *subtract([(start, stop)], self.good)])


class Merged:
    """Several passes over one drive as one image: each range from the first pass whose map says that it was read; what
    none has, from those without a map, by what they hold (`BestOf`)."""

    def __init__(self, passes: list[Rescued | ImageFile]) -> None:
        self.passes = passes
        self._mapped = [one for one in passes if isinstance(one, Rescued)]
        plain = [one for one in passes if not isinstance(one, Rescued)]
        self._plain = BestOf(plain) if plain else None
        self.path = Path("+".join(str(one.path) for one in passes))
        self._size = max(one.size for one in passes)

    def __str__(self) -> str:
        return "+".join(str(one) for one in self.passes)

    @property
    def size(self) -> int:
        return self._size

    @property
    def identity(self) -> str:
        return "+".join(one.identity for one in self.passes)

    @property
    def written(self) -> int:
        return max(one.written for one in self.passes)

    @property
    def serial(self) -> str:
        return next((one.serial for one in self.passes if one.serial), "")

    def close(self) -> None:
        for one in self.passes:
            one.close()

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        at = offset
        while at < offset + len(view):
            one, end = self._best(at, offset + len(view))
            one.read_into(at, view[at - offset : end - offset])
            at = end

    def _best(self, at: int, end: int) -> tuple[Rescued | BestOf, int]:
        """The first pass that read byte `at`, and up to where it did. Raises Unreadable."""
        for one in self._mapped:
            if (until := one.read_until(at)) > at:
                return one, min(until, end)
        if self._plain is not None and self._plain.size > at:
            following = [g for one in self._mapped if (g := one.next_read(at)) is not None]
            return self._plain, min(end, self._plain.size, *following)
        raise Unreadable(source=self, offset=at, length=end - at)

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self.size if end is None else min(end, self.size)
        yield from union([r for one in self.passes for r in one.data_ranges(start, min(stop, one.size))])
