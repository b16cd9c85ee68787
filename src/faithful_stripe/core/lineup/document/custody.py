"""Custody: what an image was when it was judged, so that nothing else is handed over in its place.

A fingerprint is taken while the image is open for the judgement: its size, its first and last MiB, and 64 places among
its data. A full pass adds a seal for every range of it. Whoever opens the lineup later looks for both again: the
fingerprint before anything is read, the seals while everything is.
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
from blake3 import blake3

from ...arrays.geometry import Concatenation, Geometry
from ...errors import StripeError
from ...source import BlockSource, BlockSourceError, read

EDGE_BYTES = 1 << 20
"""Of the first and of the last bytes of an image, that are hashed."""

PLACES, PLACE_BYTES = 64, 4096
SEAL_BYTES, MOST_SEALS = 64 << 20, 4096
"""How much of a member one seal covers, and how many seals a member gets: of larger ones, each covers more."""
SPAN_BYTES = 64 << 10


class NotAsJudged(StripeError):
    template = "{image}: not the image that was judged: {where}"
    remedy = "name the images of that time, or solve these anew"


class Part(StrEnum):
    """Where an image differs from what it was."""

    SIZE = "size"
    HEAD = "head"
    TAIL = "tail"
    PLACES = "places"


@dataclass(frozen=True)
class Fingerprint:
    """What an image was.

    image    its name
    size     in bytes
    head, tail  BLAKE3 of the first and last EDGE_BYTES, "" where they could not be read
    seed     by which the places were chosen among its data
    places   where they begin, in bytes; those that could not be read are left out
    inside   BLAKE3 of the bytes of all places, one after the other
    file     device and inode, "8:1:1234"; serial: of the drive, where the image is a device that tells it
    """

    image: str
    size: int
    head: str
    tail: str
    seed: int
    places: tuple[int, ...]
    inside: str
    file: str = ""
    serial: str = ""

    def as_document(self) -> dict[str, Any]:
        return {
            "image": self.image, "bytes": self.size, "head": self.head, "tail": self.tail, "seed": self.seed,
            "places": list(self.places), "inside": self.inside,
            **({"file": self.file} if self.file else {}), **({"serial": self.serial} if self.serial else {}),
        }  # fmt: skip

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> Fingerprint:
        """Raises KeyError, TypeError, ValueError where it is not one."""
        places = tuple(int(at) for at in document["places"])
        if len(places) > PLACES or min(places, default=0) < 0:
            raise ValueError("places")
        words = [str(document[key]) for key in ("image", "head", "tail", "inside")]
        return cls(
            words[0], int(document["bytes"]), words[1], words[2], int(document["seed"]), places, words[3],
            str(document.get("file", "")), str(document.get("serial", "")),
        )  # fmt: skip


def fingerprint(image: BlockSource, name: str, seed: int, file: str = "", serial: str = "") -> Fingerprint:
    """What an image is now."""
    rng = random.Random(seed)
    ranges = [r for r in image.data_ranges() if r[1] - r[0] >= PLACE_BYTES]
    chosen = [_place(rng, ranges) for _ in range(PLACES)] if ranges else []
    places, digest = [], blake3()
    for at in sorted(set(chosen)):
        try:
            digest.update(read(image, at, PLACE_BYTES))
        except BlockSourceError:
            continue
        places.append(at)
    head, tail = (_edge(image, part) for part in (Part.HEAD, Part.TAIL))
    return Fingerprint(name, image.size, head, tail, seed, tuple(places), digest.hexdigest(), file, serial)


def _place(rng: random.Random, ranges: Sequence[tuple[int, int]]) -> int:
    """A place in one of the ranges, each as likely as it is long."""
    low, high = rng.choices(ranges, [b - a for a, b in ranges])[0]
    return int(low + rng.randrange((high - low) // PLACE_BYTES) * PLACE_BYTES)


def changed(image: BlockSource, was: Fingerprint) -> Part | None:
    """Where an image is not what it was; None where it is. What could not be read then is not looked at."""
    if image.size != was.size:
        return Part.SIZE
    for part, told in ((Part.HEAD, was.head), (Part.TAIL, was.tail)):
        if told and _edge(image, part) != told:
            return part
    digest = blake3()
    try:
        for at in was.places:
            digest.update(read(image, at, PLACE_BYTES))
    except BlockSourceError:
        return Part.PLACES
    return Part.PLACES if digest.hexdigest() != was.inside else None


def _edge(image: BlockSource, part: Part) -> str:
    size = min(EDGE_BYTES, image.size)
    try:
        return str(blake3(read(image, 0 if part is Part.HEAD else image.size - size, size)).hexdigest())
    except BlockSourceError:
        return ""


@dataclass(frozen=True)
class Seal:
    """The hash of all that an image holds in a range.

    image        its name
    strip, start how it was read: the array's strip and where its data begin on the image, in bytes
    rows         (first, one past the last) of the array
    blake3       of the number and bytes of each row in which the image holds something
    """

    image: str
    strip: int
    start: int
    rows: tuple[int, int]
    blake3: str

    @property
    def bytes(self) -> tuple[int, int]:
        """(first, one past the last) byte of the range on the image."""
        return self.start + self.rows[0] * self.strip, self.start + self.rows[1] * self.strip

    def as_document(self) -> list[Any]:
        return [self.image, self.strip, self.start, *self.rows, self.blake3]

    @classmethod
    def from_document(cls, document: Sequence[Any]) -> Seal:
        """Raises TypeError, ValueError where it is not one."""
        image, strip, start, first, last, told = document
        if not 0 <= int(first) < int(last):
            raise ValueError("rows")
        return cls(str(image), int(strip), int(start), (int(first), int(last)), str(told))


@dataclass
class Sealing:
    """Seals the members of an array while their rows are read, in order.

    images  their names by position; None for a missing one
    """

    made: Geometry
    images: Sequence[str | None]
    _open: dict[tuple[int, int], Any] = field(default_factory=dict)

    @property
    def strip(self) -> int:
        """Bytes of one row on a member; members that stand one after the other have none, and are cut by this."""
        return SPAN_BYTES if isinstance(self.made, Concatenation) else self.made.strip_bytes

    def rows_of(self, member: int) -> int:
        """How many rows a member has."""
        made = self.made
        return -(-made.member_bytes[member] // self.strip) if isinstance(made, Concatenation) else made.rows

    @cached_property
    def rows(self) -> int:
        """How many one seal covers."""
        most = max(map(self.rows_of, range(len(self.images))))
        return max(1, SEAL_BYTES // self.strip, -(-most // MOST_SEALS))

    def take(self, member: int, first: int, block: npt.NDArray[np.uint8], filled: npt.NDArray[np.bool_]) -> None:
        """Rows from `first` on as they stand on a member, uint8 (rows, bytes), and which of them hold something."""
        covered = self.rows
        for index in np.flatnonzero(filled).tolist():
            row = first + index
            key = (member, row // covered)
            digest = self._open.get(key, False)
            if digest is False:
                digest = self._open[key] = blake3()
            if digest is not None:
                digest.update(row.to_bytes(8, "little"))
                digest.update(block[index])

    def unread(self, member: int, first: int, last: int) -> None:
        """Rows of which something could not be read: nobody can seal them."""
        for number in range(first // self.rows, -(-last // self.rows)):
            self._open[member, number] = None

    def seals(self) -> tuple[Seal, ...]:
        """Those of all that was taken."""
        made, covered, found = self.made, self.rows, []
        for (member, number), digest in sorted(self._open.items(), key=lambda item: item[0]):
            name = self.images[member]
            if digest is not None and name is not None:
                rows = (number * covered, min(self.rows_of(member), (number + 1) * covered))
                found.append(Seal(name, self.strip, made.start_bytes[member], rows, digest.hexdigest()))
        return tuple(found)

    def broken(self, was: Sequence[Seal], part: tuple[int, int]) -> Seal | None:
        """The first of the seals of an earlier pass that does not hold, of those whose rows were all read again, and
        as they were read then.

        part  rows that were read: (first, one past the last)
        """
        made, covered = self.made, self.rows
        then = {(s.image, s.strip, s.start, s.rows): s for s in was}
        now = {(s.image, s.strip, s.start, s.rows): s for s in self.seals()}
        sealed = {(s.image, s.strip, s.start) for s in was}
        unread = {(self.images[member], number) for (member, number), d in self._open.items() if d is None}
        here = {
            (name, self.strip, start) for name, start in zip(self.images, made.start_bytes, strict=True) if name
        } & sealed
        for key in sorted(then.keys() | now.keys()):
            image, strip, start, (first, last) = key
            if (image, strip, start) in here and part[0] <= first and last <= part[1]:
                a, b = now.get(key), then.get(key)
                same = a is not None and b is not None and a.blake3 == b.blake3
                if not same and (image, first // covered) not in unread:
                    return a or b
        return None
