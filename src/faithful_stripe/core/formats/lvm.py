"""LVM2's physical volumes: the label, the metadata area, and the logical volumes that its text describes.

The label stands in one of the first four sectors; it names the metadata areas, whose header names the text that is in
force, in a ring. The text is a tree of sections and assignments. What a logical volume consists of is told as places
of this physical volume; one that needs another physical volume, or a mapping other than a plain or a striped one, is
named with the reason why it is not read.
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from ..ranges import Range, total
from ..source import BlockSource, BlockSourceError, read
from .declared import FormatError

SECTOR = 512
FIRST_SUM = 0xF597A6CF
"""What the checksum (CRC-32) of a label and of a metadata header begins with."""

MAGIC = b" LVM2 x[5A%r0N*>"
MOST_TEXT = 16 << 20
_TOKEN = re.compile(r'\s*(?:#[^\n]*\n\s*)*("(?:[^"\\]|\\.)*"|[\[\]{},=]|[^\s\[\]{},=#"]+)')

TO_DO = "it is damaged; the copy on another physical volume of its group may be sound"

Section = dict[str, Any]


class NotRead(StrEnum):
    """Why a logical volume is not read: it needs another physical volume, its mapping is of a kind that is not read
    here, or its description does not add up."""

    ELSEWHERE = "elsewhere"
    KIND = "kind"
    BROKEN = "broken"


@dataclass(frozen=True)
class LogicalVolume:
    """A logical volume. places: ranges of the physical volume, in bytes, in the order of the logical volume's own;
    empty where it is `not_read`."""

    group: str
    name: str
    size: int
    places: tuple[Range, ...] = ()
    not_read: NotRead | None = None

    @property
    def path(self) -> str:
        return f"{self.group}/{self.name}"


@dataclass(frozen=True)
class PhysicalVolume:
    """A physical volume: its UUID as its label has it, its group, and the logical volumes of the whole group."""

    uuid: str
    group: str
    sequence: int
    volumes: tuple[LogicalVolume, ...]


def device_size(source: BlockSource) -> int | None:
    """Bytes of the device that a physical volume's label states; None where there is no label."""
    found = _label(source)
    return found[2] if found else None


def physical_volume(source: BlockSource) -> PhysicalVolume | None:
    """What a physical volume at byte 0 of a source tells; None where there is none. Raises FormatError where none of
    its metadata can be read, BlockSourceError."""
    found = _label(source)
    if found is None:
        return None
    uuid, areas, _size = found
    texts: list[str] = []
    for start, size in areas:
        try:
            texts += _texts(source, start, size)
        except (BlockSourceError, FormatError):
            continue
    groups = [g for text in texts if (g := _group(text)) is not None]
    if not groups:
        raise FormatError(what="LVM physical volume: none of its metadata can be read", to_do=TO_DO)
    name, body = max(groups, key=lambda g: int(g[1].get("seqno", 0)))
    volumes = tuple(_volumes(name, body, uuid))
    return PhysicalVolume(uuid, name, int(body.get("seqno", 0)), volumes)


def _sum(data: bytes) -> int:
    return zlib.crc32(data, FIRST_SUM ^ 0xFFFFFFFF) ^ 0xFFFFFFFF


def _label(source: BlockSource) -> tuple[str, list[Range], int] | None:
    """(UUID, metadata areas as (start, length), the device's size in bytes) of the label."""
    if source.size < 4 * SECTOR:
        return None
    head = read(source, 0, 4 * SECTOR)
    for number in range(4):
        sector = head[number * SECTOR : (number + 1) * SECTOR]
        offset = int.from_bytes(sector[20:24], "little")
        right = sector[:8] == b"LABELONE" and sector[24:32] == b"LVM2 001" and 32 <= offset < 256
        if not right or int.from_bytes(sector[16:20], "little") != _sum(sector[20:]):
            continue
        uuid = sector[offset : offset + 32].decode("ascii", "replace")
        at, lists = offset + 40, list[list[Range]]()
        for _list in range(2):  # where the data are, then where the metadata are; each ends with zeros
            rows: list[Range] = []
            while at + 16 <= SECTOR:
                start, length = (int.from_bytes(sector[at + i : at + i + 8], "little") for i in (0, 8))
                at += 16
                if not start:
                    break
                rows.append((start, length))
            lists.append(rows)
        return uuid, lists[1], int.from_bytes(sector[offset + 32 : offset + 40], "little")
    return None


def _texts(source: BlockSource, start: int, size: int) -> Iterator[str]:
    """The texts that a metadata area's header names: the one in force, which may run over the area's end."""
    header = read(source, start, SECTOR)
    if header[4:20] != MAGIC or int.from_bytes(header[:4], "little") != _sum(header[4:]):
        raise FormatError(what="LVM metadata area: its header is damaged", to_do=TO_DO)
    for at in range(40, SECTOR - 24, 24):
        offset, length = (int.from_bytes(header[at + i : at + i + 8], "little") for i in (0, 8))
        if not offset:
            return
        if not SECTOR <= offset < size or not 0 < length <= min(size - SECTOR, MOST_TEXT):
            continue
        first = min(length, size - offset)
        text = read(source, start + offset, first)
        if first < length:
            text += read(source, start + SECTOR, length - first)
        if int.from_bytes(header[at + 16 : at + 20], "little") == _sum(text):
            yield text.rstrip(b"\0").decode("utf-8", "replace")


# the text ---------------------------------------------------------------------------------------


def parse(text: str) -> Section:
    """A tree of sections, assignments and lists. Raises FormatError."""
    tokens = _tokens(text)
    found = _section(tokens, "")
    return found


def _tokens(text: str) -> Iterator[str]:
    at = 0
    while match := _TOKEN.match(text, at):
        yield match[1]
        at = match.end()


def _section(tokens: Iterator[str], end: str, depth: int = 0) -> Section:
    made: Section = {}
    if depth > 16:
        raise FormatError(what="LVM metadata: sections stand in one another without end", to_do=TO_DO)
    for name in tokens:
        if name == end:
            return made
        what = next(tokens, "")
        if what == "{":
            made[name] = _section(tokens, "}", depth + 1)
        elif what == "=":
            made[name] = _value(tokens)
        else:
            raise FormatError(what=f"LVM metadata: after {name[:40]} stands {what[:40] or 'nothing'}", to_do=TO_DO)
    if end:
        raise FormatError(what="LVM metadata: it ends inside a section", to_do=TO_DO)
    return made


def _value(tokens: Iterator[str]) -> object:
    first = next(tokens, "")
    if first != "[":
        return _atom(first)
    made: list[object] = []
    for token in tokens:
        if token == "]":
            return made
        if token != ",":
            made.append(_atom(token))
    raise FormatError(what="LVM metadata: it ends inside a list", to_do=TO_DO)


def _atom(token: str) -> object:
    if token.startswith('"'):
        return token[1:-1].replace('\\"', '"').replace("\\\\", "\\")
    return int(token) if re.fullmatch(r"-?\d{1,18}", token) else token


# what it says -----------------------------------------------------------------------------------


def _group(text: str) -> tuple[str, Section] | None:
    """The volume group that a text describes: the section that has an extent size."""
    try:
        tree = parse(text)
    except FormatError:
        return None
    return next(((n, v) for n, v in tree.items() if isinstance(v, dict) and "extent_size" in v), None)


def _sections(body: Mapping[str, Any], name: str) -> Mapping[str, Section]:
    found = body.get(name)
    return {n: v for n, v in found.items() if isinstance(v, dict)} if isinstance(found, dict) else {}


def _volumes(group: str, body: Section, uuid: str) -> Iterator[LogicalVolume]:
    extent = _whole(body.get("extent_size")) * SECTOR
    here = {
        name: _whole(pv.get("pe_start")) * SECTOR
        for name, pv in _sections(body, "physical_volumes").items()
        if str(pv.get("id", "")).replace("-", "") == uuid
    }
    for name, lv in _sections(body, "logical_volumes").items():
        if "VISIBLE" not in (lv.get("status") or []):
            continue  # a part of another one
        segments = sorted(
            (s for n, s in lv.items() if n.startswith("segment") and isinstance(s, dict)),
            key=lambda s: _whole(s.get("start_extent")),
        )
        yield _volume(group, name, segments, extent, here)


def _volume(group: str, name: str, segments: list[Section], extent: int, here: Mapping[str, int]) -> LogicalVolume:
    size = sum(_whole(s.get("extent_count")) for s in segments) * extent
    places: list[Range] = []
    at = 0
    for segment in segments:
        count, stripes = _whole(segment.get("extent_count")), segment.get("stripes")
        if segment.get("type") != "striped" or not isinstance(stripes, list) or len(stripes) % 2:
            return LogicalVolume(group, name, size, not_read=NotRead.KIND)
        if len(stripes) != 2:
            return LogicalVolume(group, name, size, not_read=NotRead.ELSEWHERE)
        where, first = str(stripes[0]), _whole(stripes[1])
        if where not in here:
            return LogicalVolume(group, name, size, not_read=NotRead.ELSEWHERE)
        if _whole(segment.get("start_extent")) != at or not count or not extent:
            return LogicalVolume(group, name, size, not_read=NotRead.BROKEN)
        at += count
        begin = here[where] + first * extent
        if places and places[-1][1] == begin:
            places[-1] = (places[-1][0], begin + count * extent)
        else:
            places.append((begin, begin + count * extent))
    whole = total(places) == size and bool(places)
    return LogicalVolume(group, name, size, tuple(places) if whole else (), None if whole else NotRead.BROKEN)


def _whole(value: object) -> int:
    return value if isinstance(value, int) and value >= 0 else 0
