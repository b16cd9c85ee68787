"""The stock: replacement drives as a CSV file, read, added to, and held against what a bay needs.

Columns: serial, parts (part numbers, separated by blanks), model, size, media, protocol, rpm, sector, condition, from,
note. A drive that is bad, suspect or retired, that holds the only copy of something ("keep"), or that is known to have
failed somewhere, is never offered.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from ..core.server.fitness import Candidate, Fit, Need, Why, judge, need_of
from ..core.server.model import Server
from ..core.server.unknown import UNKNOWN
from ..core.units import SizeError, parse_size
from ..media.given import text_given, why_not
from ..media.whole import alone, write_text
from .errors import WorkError

COLUMNS = ("serial", "parts", "model", "size", "media", "protocol", "rpm", "sector", "condition", "from", "note")
CONDITIONS = ("new", "used", "suspect", "bad", "retired", "keep")
OFFERED = ("new", "used")
SECTORS = {"512": (512, False), "512e": (512, True), "4096": (4096, False)}
"""Sector sizes as a list spells them: bytes, and whether they are emulated."""


@dataclass(frozen=True)
class Item:
    """One drive in stock; size and sector in bytes, rpm None for solid state; `emulates`: 512e."""

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
    emulates: bool = False

    @property
    def candidate(self) -> Candidate:
        """This drive as one that might be taken."""
        return Candidate(
            serial=self.serial, size=self.size, media=self.media, protocol=self.protocol or UNKNOWN,
            rpm=self.rpm if self.rpm is not None else UNKNOWN, sector=self.sector, parts=self.parts,
            emulates=self.emulates, condition=self.condition, note=self.note,
        )  # fmt: skip


@dataclass(frozen=True)
class Match:
    """How a drive would do: `grade` "exact", "equal", "better", "worse" or "cannot", and why."""

    item: Item
    grade: str
    fit: Fit


GRADES = ("exact", "equal", "better", "worse", "cannot")


def read_stock(path: Path) -> list[Item]:
    """Read a cupboard's file. Raises WorkError naming file, line and column."""
    try:
        text = text_given(path, "utf-8-sig")
    except (OSError, UnicodeDecodeError) as reason:
        to_do = "create one: `stock add --stock FILE`, or name it with --stock"
        raise WorkError(what=f"{path}: the stock cannot be read: {why_not(reason)}", to_do=to_do) from reason
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
    if values["sector"] not in SECTORS:
        raise wrong("sector", "512, 512e or 4096")
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
        sector=SECTORS[values["sector"]][0],
        emulates=SECTORS[values["sector"]][1],
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
            [i.serial, " ".join(i.parts), i.model, i.size, i.media, i.protocol, i.rpm or "",
             "512e" if i.emulates else i.sector, i.condition, i.origin, i.note]
        )  # fmt: skip
    write_text(path, out.getvalue(), replace=True)


def put(path: Path, item: Item) -> None:
    """Add a drive, or replace what was known of it; makes the file where there is none."""
    with alone(path):
        items = read_stock(path) if path.exists() else []
        write_stock(path, [*(i for i in items if i.serial != item.serial), item])


def exchanged(path: Path, serial: str, where: str, old: Item) -> None:
    """Note that one drive has left the stock, for it is in a server now, and that another one lies there instead."""
    with alone(path):
        items = [
            replace(i, condition="retired", note=f"in use: {where}") if i.serial == serial else i
            for i in read_stock(path)
        ]
        write_stock(path, [*(i for i in items if i.serial != old.serial), old])


# matching ---------------------------------------------------------------------------------------


def need(seen: Server, wanted: str) -> Need:
    """What the bay with this label, or of this drive, needs. Raises WorkError for an empty bay that never had one."""
    drive = seen.drive(wanted)
    found = need_of(seen, drive)
    if found is None and drive.seated:
        raise WorkError(what=f"bay {drive.bay}: the server does not tell the drive's size", to_do="read its label")
    if found is None:
        what = f"bay {drive.bay} is empty, and no volume lacks a member there"
        raise WorkError(what=what, to_do="name the bay of a drive that is to be replaced")
    return found


def match(needed: Need, items: Sequence[Item], failed: Mapping[str, str]) -> list[Match]:
    """The drives that fit, the best first, then those that cannot and why.

    failed  serial numbers that are known to have failed, with what is known
    """
    found = [_grade(needed, item, failed) for item in items]
    spread = needed.least if needed.size is UNKNOWN else needed.size

    def order(m: Match) -> tuple[int, bool, int, int, str]:
        used = m.item.condition != "new"
        slow = -(m.item.rpm or 0)
        return GRADES.index(m.grade), used, abs(m.item.size - spread), slow, m.item.serial

    return sorted(found, key=order)


def _grade(needed: Need, item: Item, failed: Mapping[str, str]) -> Match:
    fit = judge(needed, item.candidate, failed)
    if fit.cannot:
        return Match(item, "cannot", fit)
    if fit.has(Why.SAME_PART):
        return Match(item, "exact", fit)
    if fit.has(Why.SLOWER, Why.SLIGHTLY_SMALLER):
        return Match(item, "worse", fit)
    if fit.has(Why.SAME_SIZE) and not fit.has(Why.FASTER, Why.PROTOCOL_DIFFERS):
        return Match(item, "equal", fit)
    larger = fit.has(Why.FASTER) or needed.size is UNKNOWN or item.size >= needed.size
    return Match(item, "better" if larger else "worse", fit)
