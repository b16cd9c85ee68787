"""SNIA Common RAID Disk Data Format (DDF) 2.0: the controller's set-up as it stands on every drive.

All numbers are big-endian; every structure starts with a signature and the CRC-32 (IEEE 802.3) of itself with the
CRC field as 0xFFFFFFFF. The anchor header is the drive's last sector; it points to the primary copy of the sections
and to a secondary one. Sizes and places inside the sections are in sectors of 512 bytes.
"""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from ..source import BlockSource, BlockSourceError, read
from .declared import Field, FormatError, Layout

SECTOR = 512
REVISION = b"02.00.00"
UNUSED_REFERENCE = 0xFFFFFFFF

_CRC = Field(4, "crc", "I", "", "CRC-32 of the structure with this field as 0xFFFFFFFF")

HEADER = Layout("DDF header", 512, ">", (
    Field(0x000, "signature", "I", "", "0xDE11DE11"),
    _CRC,
    Field(0x008, "guid", "24s", "", "of this set-up"),
    Field(0x020, "revision", "8s", "", "02.00.00"),
    Field(0x028, "sequence", "I", "", "counted up with every change"),
    Field(0x02C, "timestamp", "I", "seconds", "since 1980-01-01"),
    Field(0x030, "open", "B", "", "0 closed, 1 to 15 being changed"),
    Field(0x031, "foreign", "B", "", "1: of another controller"),
    Field(0x032, "grouping", "B", "", "0xFF: no disk grouping"),
    Field(0x060, "primary_lba", "Q", "sectors", "where the primary header is"),
    Field(0x068, "secondary_lba", "Q", "sectors", "where the secondary header is; all ones: none"),
    Field(0x070, "type", "B", "", "0 anchor, 1 primary, 2 secondary"),
    Field(0x074, "workspace_length", "I", "sectors", ""),
    Field(0x078, "workspace_lba", "Q", "sectors", ""),
    Field(0x080, "most_drives", "H", "", "physical disk entries there is room for"),
    Field(0x082, "most_volumes", "H", "", "virtual disk entries there is room for"),
    Field(0x084, "most_partitions", "H", "", "configuration records a drive may hold"),
    Field(0x086, "record_sectors", "H", "sectors", "length of a configuration record"),
    Field(0x088, "most_elements", "H", "", "members of one array"),
    Field(0x0C0, "controller_at", "I", "sectors", "each section counted from its header"),
    Field(0x0C4, "controller_length", "I", "sectors", ""),
    Field(0x0C8, "drives_at", "I", "sectors", "physical disk records"),
    Field(0x0CC, "drives_length", "I", "sectors", ""),
    Field(0x0D0, "volumes_at", "I", "sectors", "virtual disk records"),
    Field(0x0D4, "volumes_length", "I", "sectors", ""),
    Field(0x0D8, "configs_at", "I", "sectors", "configuration and spare-assignment records"),
    Field(0x0DC, "configs_length", "I", "sectors", ""),
    Field(0x0E0, "drive_at", "I", "sectors", "physical disk data: this drive"),
    Field(0x0E4, "drive_length", "I", "sectors", ""),
    Field(0x0E8, "bad_blocks_at", "I", "sectors", "all ones: none"),
    Field(0x0F0, "diagnostics_at", "I", "sectors", "all ones: none"),
    Field(0x0F8, "vendor_at", "I", "sectors", "all ones: none"),
))  # fmt: skip

CONTROLLER = Layout("DDF controller data", 512, ">", (
    Field(0x00, "signature", "I", "", "0xAD111111"),
    _CRC,
    Field(0x08, "guid", "24s", "", ""),
    Field(0x28, "product", "16s", "", ""),
))  # fmt: skip

DRIVES = Layout("DDF physical disk records", 64, ">", (
    Field(0x00, "signature", "I", "", "0x22222222"),
    _CRC,
    Field(0x08, "populated", "H", "", "entries in use"),
    Field(0x0A, "most", "H", "", "entries there is room for"),
))  # fmt: skip

DRIVE = Layout("DDF physical disk entry", 64, ">", (
    Field(0x00, "guid", "24s", "", ""),
    Field(0x18, "reference", "I", "", "what configuration records call this drive"),
    Field(0x1C, "type", "H", "", "bit 1 member, 2 global spare, 3 dedicated spare"),
    Field(0x1E, "state", "H", "", "bit 0 online, 1 failed, 2 rebuilding, 4 predicts failure, 6 missing"),
    Field(0x20, "size", "Q", "sectors", "that may be used"),
    Field(0x28, "path", "18s", "", "where it was seen"),
    Field(0x3A, "block", "H", "bytes", "of a sector"),
))  # fmt: skip

VOLUMES = Layout("DDF virtual disk records", 64, ">", (
    Field(0x00, "signature", "I", "", "0xDDDDDDDD"),
    _CRC,
    Field(0x08, "populated", "H", "", "entries in use"),
    Field(0x0A, "most", "H", "", "entries there is room for"),
))  # fmt: skip

VOLUME = Layout("DDF virtual disk entry", 64, ">", (
    Field(0x00, "guid", "24s", "", ""),
    Field(0x18, "number", "H", "", ""),
    Field(0x1C, "type", "I", "", ""),
    Field(0x20, "state", "B", "", "0 optimal, 1 degraded, 4 failed, 5 partially optimal"),
    Field(0x21, "initialized", "B", "", "0 not, 1 under way, 2 fully"),
    Field(0x22, "margin", "B", "", "failures left, where partially optimal"),
    Field(0x30, "name", "16s", "", ""),
))  # fmt: skip

CONFIG = Layout("DDF configuration record", 512, ">", (
    Field(0x00, "signature", "I", "", "0xEEEEEEEE"),
    _CRC,
    Field(0x08, "guid", "24s", "", "of the volume"),
    Field(0x20, "timestamp", "I", "seconds", "since 1980-01-01"),
    Field(0x24, "sequence", "I", "", "counted up with every change of this volume"),
    Field(0x40, "elements", "H", "", "members of this array (one span)"),
    Field(0x42, "strip", "B", "", "sectors of a strip, as a power of two"),
    Field(0x43, "level", "B", "", "primary RAID level"),
    Field(0x44, "qualifier", "B", "", "RAID-level qualifier: rotation and data order"),
    Field(0x45, "spans", "B", "", "secondary elements"),
    Field(0x46, "span", "B", "", "which of them this record describes"),
    Field(0x47, "outer", "B", "", "secondary RAID level: 0 striped"),
    Field(0x48, "extent", "Q", "sectors", "of each member"),
    Field(0x50, "size", "Q", "sectors", "of the volume"),
    Field(0x58, "block", "H", "bytes", "of a sector"),
    Field(0x80, "cache", "B", "", "bit 0 write back, 2 read ahead, 3 adaptive, 5 may cache writes, 6 reads"),
    Field(0x1E0, "scratch", "32s", "", "the vendor's own"),
))  # fmt: skip
"""Followed by a table of drive references (4 bytes each) and one of starting sectors (8 bytes each)."""

SPARE = Layout("DDF spare assignment record", 32, ">", (
    Field(0x00, "signature", "I", "", "0x55555555"),
    _CRC,
    Field(0x08, "timestamp", "I", "seconds", "since 1980-01-01"),
    Field(0x13, "type", "B", "", "bit 0 dedicated, 1 revertible, 2 active"),
    Field(0x14, "populated", "H", "", "entries in use"),
    Field(0x16, "most", "H", "", "entries there is room for"),
))  # fmt: skip

SPARE_ENTRY = Layout("DDF spare assignment entry", 32, ">", (
    Field(0x00, "guid", "24s", "", "of a volume it is for"),
    Field(0x18, "span", "H", "", ""),
))  # fmt: skip

THIS_DRIVE = Layout("DDF physical disk data", 512, ">", (
    Field(0x00, "signature", "I", "", "0x33333333"),
    _CRC,
    Field(0x08, "guid", "24s", "", ""),
    Field(0x20, "reference", "I", "", "this drive's own"),
))  # fmt: skip

SIGNATURES = {
    HEADER.name: 0xDE11DE11, CONTROLLER.name: 0xAD111111, DRIVES.name: 0x22222222, VOLUMES.name: 0xDDDDDDDD,
    CONFIG.name: 0xEEEEEEEE, SPARE.name: 0x55555555, THIS_DRIVE.name: 0x33333333,
}  # fmt: skip

LEVELS = {"RAID0": 0x00, "RAID1": 0x01, "RAID4": 0x04, "RAID5": 0x05, "RAID6": 0x06, "RAID1E": 0x11, "SPAN": 0x1F}
"""Primary RAID levels."""

QUALIFIERS: dict[tuple[str, str | None, str | None], int] = {
    ("RAID4", "fixed-0", None): 0, ("RAID4", "fixed-N", None): 1,
    ("RAID5", "parity-0", "restart"): 0, ("RAID5", "parity-N", "restart"): 2, ("RAID5", "parity-N", "continuation"): 3,
    ("RAID6", "parity-0", "restart"): 1, ("RAID6", "parity-N", "restart"): 2, ("RAID6", "parity-N", "continuation"): 3,
    ("RAID1E", None, "adjacent"): 0, ("RAID1E", None, "offset"): 1,
}  # fmt: skip
"""RAID-level qualifiers, where the level has any."""

MEMBER, GLOBAL_SPARE, DEDICATED_SPARE = 2, 4, 8
"""Bits of a physical disk entry's type."""

ONLINE, FAILED, REBUILDING, PREDICTED, MISSING = 1, 2, 4, 16, 64
"""Bits of a physical disk entry's state."""


def seal(data: bytes) -> bytes:
    """A structure with its CRC put in (bytes 4 to 8)."""
    blank = data[:4] + b"\xff\xff\xff\xff" + data[8:]
    return data[:4] + zlib.crc32(blank).to_bytes(4, "big") + data[8:]


def unseal(layout: Layout, data: bytes, where: str) -> dict[str, Any]:
    """The fields of a structure whose whole length is `data`. Raises FormatError: signature or CRC wrong."""
    values = layout.read(data, 0, where)
    if values["signature"] != SIGNATURES[layout.name]:
        raise FormatError(
            what=f"{where}: {layout.name}: expected signature {SIGNATURES[layout.name]:#010x}, "
            f"found {values['signature']:#010x}",
            to_do="there is no such structure there, or it is damaged",
        )
    right = zlib.crc32(data[:4] + b"\xff\xff\xff\xff" + data[8:])
    if values["crc"] != right:
        raise FormatError(
            what=f"{where}: {layout.name}: expected CRC {right:#010x}, found {values['crc']:#010x}",
            to_do="it is damaged; the other copy may be sound",
        )
    return values


@dataclass(frozen=True)
class Config:
    """One configuration record: the fields, and the members' references and starting sectors by position."""

    fields: dict[str, Any]
    references: tuple[int, ...]
    starts: tuple[int, ...]


@dataclass(frozen=True)
class Metadata:
    """Everything DDF says on one drive."""

    header: dict[str, Any]
    controller: dict[str, Any]
    drives: tuple[dict[str, Any], ...]
    volumes: tuple[dict[str, Any], ...]
    configs: tuple[Config, ...]
    spares: tuple[tuple[dict[str, Any], tuple[bytes, ...]], ...] = ()
    drive: dict[str, Any] = field(default_factory=dict)


def _padded(parts: bytes, sectors: int) -> bytes:
    return parts + b"\xff" * (sectors * SECTOR - len(parts))


def _entries(head: Layout, entry: Layout, rows: tuple[dict[str, Any], ...], most: int, signature: int) -> bytes:
    """A table of entries behind its head, unused entries all ones, sealed over the whole section."""
    body = head.write({"signature": signature, "populated": len(rows), "most": most})
    body += b"".join(entry.write(row) for row in rows) + b"\xff" * (entry.size * (most - len(rows)))
    return seal(_padded(body, -(-len(body) // SECTOR)))


def encode(made: Metadata, kind: int, most_elements: int = 256, most: int = 64) -> bytes:
    """The header and sections of one copy: `kind` 1 for the primary, 2 for the secondary.

    The result is a whole number of sectors; the header's section places are filled in here.
    """
    record = 1 + -(-most_elements * 12 // SECTOR)
    drives = _entries(DRIVES, DRIVE, made.drives, most, SIGNATURES[DRIVES.name])
    volumes = _entries(VOLUMES, VOLUME, made.volumes, most, SIGNATURES[VOLUMES.name])
    records = b"".join(_config(config, record, most_elements) for config in made.configs)
    records += b"".join(_spare(fields, guids, record) for fields, guids in made.spares)
    records = _padded(records, max(1, len(made.configs) + len(made.spares) + 1) * record)
    sections = [
        ("controller", seal(CONTROLLER.write(made.controller | {"signature": SIGNATURES[CONTROLLER.name]}))),
        ("drives", drives),
        ("volumes", volumes),
        ("configs", records),
        ("drive", seal(THIS_DRIVE.write(made.drive | {"signature": SIGNATURES[THIS_DRIVE.name]}))),
    ]
    places: dict[str, int] = {}
    at = 1
    for name, data in sections:
        places |= {f"{name}_at": at, f"{name}_length": len(data) // SECTOR}
        at += len(data) // SECTOR
    return header(made.header | places, kind, most_elements, most, record) + b"".join(data for _name, data in sections)


def header(fields: Mapping[str, Any], kind: int, most_elements: int, most: int, record: int) -> bytes:
    """A sealed header sector: `kind` 0 anchor, 1 primary, 2 secondary."""
    none = 0xFFFFFFFF
    return seal(HEADER.write({
        **fields, "signature": SIGNATURES[HEADER.name], "revision": REVISION, "type": kind, "grouping": 0xFF,
        "most_drives": most, "most_volumes": most, "most_partitions": most, "record_sectors": record,
        "most_elements": most_elements, "bad_blocks_at": none, "diagnostics_at": none, "vendor_at": none,
    }))  # fmt: skip


def _config(config: Config, record: int, most_elements: int) -> bytes:
    body = CONFIG.write(config.fields | {"signature": SIGNATURES[CONFIG.name]})
    spare = most_elements - len(config.references)
    body += b"".join(r.to_bytes(4, "big") for r in config.references) + b"\xff" * 4 * spare
    body += b"".join(s.to_bytes(8, "big") for s in config.starts) + b"\xff" * 8 * spare
    return seal(_padded(body, record))


def _spare(fields: dict[str, Any], guids: tuple[bytes, ...], record: int) -> bytes:
    body = SPARE.write(fields | {"signature": SIGNATURES[SPARE.name], "populated": len(guids), "most": len(guids)})
    body += b"".join(SPARE_ENTRY.write({"guid": guid}) for guid in guids)
    return seal(_padded(body, record))


def anchor(source: BlockSource) -> dict[str, Any] | None:
    """The anchor header at a drive's last sector; None where no DDF is. Raises FormatError for a damaged one."""
    if source.size < 2 * SECTOR:
        return None
    at = source.size // SECTOR * SECTOR - SECTOR
    try:
        data = read(source, at, SECTOR)
    except BlockSourceError as reason:
        raise FormatError(
            what=f"{source}: the last sector cannot be read", to_do="DDF's anchor stands there"
        ) from reason
    if int.from_bytes(data[:4], "big") != SIGNATURES[HEADER.name]:
        return None
    return unseal(HEADER, data, str(source))


def decode(source: BlockSource) -> Metadata | None:
    """What DDF says on a drive: the primary copy, or where that is damaged the secondary; None without DDF.

    Raises FormatError where both copies are damaged, with what is wrong in the first.
    """
    head = anchor(source)
    if head is None:
        return None
    first: FormatError | None = None
    for lba in (head["primary_lba"], head["secondary_lba"]):
        try:
            return _copy(source, lba)
        except FormatError as reason:
            first = first or reason
    assert first is not None
    raise first


MOST_SECTORS = 1 << 15
"""No section is longer than this: a damaged length costs bounded time."""


def _copy(source: BlockSource, lba: int) -> Metadata:
    where = f"{source}, sector {lba}"
    head = unseal(HEADER, _sectors(source, lba, 1, where), where)

    def section(name: str) -> bytes:
        return _sectors(source, lba + head[f"{name}_at"], head[f"{name}_length"], f"{where}, {name}")

    configs, spares = _records(section("configs"), head, where)
    return Metadata(
        head,
        unseal(CONTROLLER, section("controller"), where),
        _rows(DRIVES, DRIVE, section("drives"), where),
        _rows(VOLUMES, VOLUME, section("volumes"), where),
        configs,
        spares,
        unseal(THIS_DRIVE, section("drive"), where),
    )


def _sectors(source: BlockSource, lba: int, count: int, where: str) -> bytes:
    if not 0 < count <= MOST_SECTORS or (lba + count) * SECTOR > source.size:
        raise FormatError(what=f"{where}: {count} sectors there are not on the drive", to_do="the header is damaged")
    try:
        return read(source, lba * SECTOR, count * SECTOR)
    except BlockSourceError as reason:
        raise FormatError(what=f"{where}: cannot be read", to_do="the other copy may be sound") from reason


def _rows(head: Layout, entry: Layout, data: bytes, where: str) -> tuple[dict[str, Any], ...]:
    values = unseal(head, data, where)
    room = (len(data) - head.size) // entry.size
    if values["populated"] > min(room, values["most"]):
        what = f"{where}: {head.name}: {values['populated']} entries in use, room for {min(room, values['most'])}"
        raise FormatError(what=what, to_do="the section is damaged")
    return tuple(entry.read(data, head.size + i * entry.size, where) for i in range(values["populated"]))


Spares = tuple[tuple[dict[str, Any], tuple[bytes, ...]], ...]


def _records(data: bytes, head: dict[str, Any], where: str) -> tuple[tuple[Config, ...], Spares]:
    size, elements = head["record_sectors"] * SECTOR, head["most_elements"]
    if size < CONFIG.size + 12 * elements:
        what = f"{where}: configuration records of {size} bytes cannot hold {elements} members"
        raise FormatError(what=what, to_do="the header is damaged")
    configs, spares = [], []
    for at in range(0, len(data) // size * size, size):
        record = data[at : at + size]
        kind = int.from_bytes(record[:4], "big")
        if kind == SIGNATURES[CONFIG.name]:
            configs.append(_config_of(unseal(CONFIG, record, where), record, elements, where))
        elif kind == SIGNATURES[SPARE.name]:
            values = unseal(SPARE, record, where)
            count = min(values["populated"], (size - SPARE.size) // SPARE_ENTRY.size)
            rows = [SPARE_ENTRY.read(record, SPARE.size + i * SPARE_ENTRY.size, where) for i in range(count)]
            spares.append((values, tuple(row["guid"] for row in rows)))
    return tuple(configs), tuple(spares)


def _config_of(values: dict[str, Any], record: bytes, elements: int, where: str) -> Config:
    count = values["elements"]
    if count > elements:
        what = f"{where}: {CONFIG.name}: {count} members, room for {elements}"
        raise FormatError(what=what, to_do="the record is damaged")
    first, second = CONFIG.size, CONFIG.size + 4 * elements
    return Config(
        values,
        tuple(int.from_bytes(record[first + 4 * i : first + 4 * i + 4], "big") for i in range(count)),
        tuple(int.from_bytes(record[second + 8 * i : second + 8 * i + 8], "big") for i in range(count)),
    )
