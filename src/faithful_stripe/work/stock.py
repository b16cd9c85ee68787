"""The cupboard: replacement drives as a CSV file, read, added to, and held against what a bay needs.

Columns: serial, parts (part numbers, separated by blanks), model, size, media, protocol, rpm, sector, condition, from,
note. A drive that is bad, suspect or retired, or that is known to have failed somewhere, is never offered.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from ..core.server.model import Drive, Server
from ..core.units import SizeError, decimal_size, parse_size
from ..media.whole import write_text
from .errors import WorkError

COLUMNS = ("serial", "parts", "model", "size", "media", "protocol", "rpm", "sector", "condition", "from", "note")
CONDITIONS = ("new", "used", "suspect", "bad", "retired")
OFFERED = ("new", "used")
SLACK = 0.005
"""Sizes that differ by less are the same size: makers count a few sectors more or less."""


@dataclass(frozen=True)
class Item:
    """One drive in the cupboard; size and sector in bytes, rpm None for solid state."""

    serial: str
    parts: tuple[str, ...]
    model: str
    size: int
    media: str
    protocol: str
    rpm: int | None
    sector: int
    condition: str = "new"
    origin: str = ""
    note: str = ""


@dataclass(frozen=True)
class Match:
    """How a drive would do: `grade` "exact", "equal", "better", "worse" or "cannot", and what follows from it."""

    item: Item
    grade: str
    says: tuple[str, ...]


@dataclass(frozen=True)
class Need:
    """What a bay needs: the drive that is or was there, and the smallest size that will do, in bytes."""

    drive: Drive
    least: int


GRADES = ("exact", "equal", "better", "worse", "cannot")


def read_stock(path: Path) -> list[Item]:
    """Read a cupboard's file. Raises WorkError naming file, line and column."""
    try:
        text = path.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as reason:
        to_do = "make one: `stock add --stock FILE`, or name it with --stock"
        raise WorkError(what=f"{path}: the stock cannot be read ({reason})", to_do=to_do) from reason
    rows = csv.DictReader(io.StringIO(text))
    missing = [c for c in COLUMNS if c not in (rows.fieldnames or [])]
    if missing:
        what = f"{path}, line 1: no column {', '.join(missing)}"
        raise WorkError(what=what, to_do=f"columns: {', '.join(COLUMNS)}")
    items: list[Item] = []
    for row in rows:
        item = _item(row, f"{path}, line {rows.line_num}")
        if item.serial in [i.serial for i in items]:
            raise WorkError(what=f"{path}, line {rows.line_num}: {item.serial} is there twice", to_do="keep one")
        items.append(item)
    return items


def _item(row: dict[str, str | None], where: str) -> Item:
    values = {key: (row.get(key) or "").strip() for key in COLUMNS}

    def wrong(column: str, expected: str) -> WorkError:
        what = f"{where}, {column}: expected {expected}, found {values[column]!r}"
        return WorkError(what=what, to_do="correct the stock")

    if not values["serial"]:
        raise wrong("serial", "a serial number")
    try:
        size = parse_size(values["size"])
    except SizeError as reason:
        raise wrong("size", "a size such as 4TB") from reason
    if values["media"] not in ("HDD", "SSD"):
        raise wrong("media", "HDD or SSD")
    if values["rpm"] and not values["rpm"].isdecimal():
        raise wrong("rpm", "turns a minute, or nothing")
    if values["sector"] not in ("512", "4096"):
        raise wrong("sector", "512 or 4096")
    if values["condition"] not in CONDITIONS:
        raise wrong("condition", f"one of {', '.join(CONDITIONS)}")
    return Item(
        serial=values["serial"],
        parts=tuple(values["parts"].split()),
        model=values["model"],
        size=size,
        media=values["media"],
        protocol=values["protocol"],
        rpm=int(values["rpm"]) if values["rpm"] and values["rpm"] != "0" else None,
        sector=int(values["sector"]),
        condition=values["condition"],
        origin=values["from"],
        note=values["note"],
    )


def write_stock(path: Path, items: Iterable[Item]) -> None:
    """Write a cupboard's file, whole or not at all."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    for i in items:
        writer.writerow(
            [i.serial, " ".join(i.parts), i.model, i.size, i.media, i.protocol, i.rpm or "", i.sector, i.condition,
             i.origin, i.note]
        )  # fmt: skip
    write_text(path, out.getvalue(), replace=True)


def put(path: Path, item: Item) -> None:
    """Add a drive, or replace what was known of it; makes the file where there is none."""
    items = read_stock(path) if path.exists() else []
    write_stock(path, [*(i for i in items if i.serial != item.serial), item])


def taken(path: Path, serial: str, where: str) -> None:
    """Note that a drive has left the cupboard: it is in a server now."""
    items = read_stock(path)
    write_stock(
        path, [replace(i, condition="retired", note=f"in use: {where}") if i.serial == serial else i for i in items]
    )


# matching ---------------------------------------------------------------------------------------


def need(seen: Server, wanted: str) -> Need:
    """What the bay with this label, or of this drive, needs. Raises WorkError for an empty bay that never had one."""
    drive = seen.drive(wanted)
    if not drive.serial:
        lost = [(v, m) for v in seen.volumes for m in v.members if m.bay == drive.bay and m.state == "lost"]
        mates = [d for v, _m in lost for d in seen.drives if d.serial in [m.serial for m in v.members]]
        if not mates:
            what = f"bay {drive.bay} is empty, and no volume lacks a member there"
            raise WorkError(what=what, to_do="name the bay of a drive that is to be replaced")
        drive = replace(min(mates, key=lambda d: d.size), serial="", bay=drive.bay)
    mine = [v for v in seen.volumes if any(drive.bay in (m.bay, m.stands_in) for m in v.members)]
    sizes = [d.size for v in mine for d in seen.drives if d.serial in [m.serial for m in v.members]]
    return Need(drive, min([s for s in sizes if s] or [drive.size]))


def match(needed: Need, items: Sequence[Item], failed: dict[str, str]) -> list[Match]:
    """The drives that fit, the best first, then those that cannot and why.

    failed  serial numbers that are known to have failed, with what is known
    """
    found = [_grade(needed, item, failed) for item in items]
    spread = needed.drive.size

    def order(m: Match) -> tuple[int, bool, int, int, str]:
        used = m.item.condition != "new"
        slow = -(m.item.rpm or 0)
        return GRADES.index(m.grade), used, abs(m.item.size - spread), slow, m.item.serial

    return sorted(found, key=order)


def _grade(needed: Need, item: Item, failed: dict[str, str]) -> Match:
    d = needed.drive
    cannot = list(_obstacles(needed, item, failed))
    if cannot:
        return Match(item, "cannot", tuple(cannot))
    wastes = item.size - needed.least
    says = []
    if wastes > SLACK * needed.least:
        says.append(f"larger: {decimal_size(wastes)} of it stay unused")
    if item.protocol and d.protocol and item.protocol != d.protocol:
        says.append(f"{item.protocol} instead of {d.protocol}")
    slower = bool(item.rpm and d.rpm and item.rpm < d.rpm)
    faster = bool(item.rpm and d.rpm and item.rpm > d.rpm)
    if slower:
        says.append(f"slower: {item.rpm} instead of {d.rpm} rpm, it holds the whole array back")
    if faster:
        says.append(f"faster: {item.rpm} instead of {d.rpm} rpm")
    if item.condition == "used":
        says.append("used")
    if d.part and d.part in item.parts:
        return Match(item, "exact", ("the same part number", *says))
    if slower:
        return Match(item, "worse", tuple(says))
    same = abs(item.size - d.size) <= SLACK * d.size and (not item.protocol or item.protocol == d.protocol)
    if same and not faster:
        return Match(item, "equal", ("as large and as fast", *says))
    return Match(item, "better" if faster or item.size >= d.size else "worse", tuple(says))


def _obstacles(needed: Need, item: Item, failed: dict[str, str]) -> Iterator[str]:
    d = needed.drive
    if item.condition not in OFFERED:
        yield f"{item.condition}{f': {item.note}' if item.note else ''}"
    if item.serial in failed:
        yield f"known to have failed: {failed[item.serial]}"
    nominal = item.size % 10**9 == 0  # as it is printed on the label: the drive itself holds a little more
    if item.size < needed.least * (1 - SLACK if nominal else 1):
        yield f"too small: {decimal_size(needed.least - item.size)} are missing"
    if item.media != d.media:
        yield f"{item.media}, the others are {d.media}"
    if d.sector and item.sector != d.sector:
        yield f"sectors of {item.sector} bytes, the others have {d.sector}"
