"""The controller's set-up written to its drives as SNIA DDF, whenever it changes.

Every member and every hot spare that is seated carries the whole set-up twice in the space the controller keeps at
the end of each drive, with the anchor in the last sector. A drive that is used no more is cleared there. What a
pulled drive carries stays as it was: its sequence numbers tell how old it is. Reading it back is `assemble.py`'s.

A configuration record's sequence number is the volume's generation, so that a member which was away while the
volume was written is known by its own record. What DDF has no field for stands in the record's vendor scratch.
"""

from __future__ import annotations

import hashlib
import json
import struct
import zlib
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from ..core.formats import ddf
from ..core.formats.declared import FormatError
from .controller import RESERVED_BYTES, Controller
from .drive import Medium
from .rows import memory_rows
from .state import Drive, Spare, Volume

PRIMARY_BYTES, SECONDARY_BYTES = 32 << 20, 16 << 20
"""How far before the end of the drive the two copies start."""

EPOCH = datetime(1980, 1, 1, tzinfo=UTC).timestamp()

SCRATCH = struct.Struct(">4s6BIII")
"""Signature, version, rotation, data order, Q place, Q exponent, mirror copies; then as bits of the span's members:
away, incomplete; then a mark of the moment at which the generation last counted up."""

SCRATCH_SIGNATURE = b"FSTR"
WORDS: tuple[tuple[str | None, ...], ...] = (
    (None, "parity-0", "parity-N", "fixed-0", "fixed-N"),
    (None, "restart", "continuation", "adjacent", "offset"),
    (None, "after-p", "before-p"),
    (None, "data-index", "member-position"),
)
"""Rotation, data order, Q place and Q exponent by the numbers that the scratch has for them."""

CACHED_READS = {"off": 0, "ahead": 0x44, "adaptive": 0x4C}
CACHED_WRITES = {"through": 0, "protected-back": 0x21}
"""Cache policies as the bits of DDF's cache byte; without the bit for write caching on a low battery."""


def update(controller: Controller, keep: Callable[[], None]) -> None:
    """Write the set-up to the drives if it differs from what was written last.

    keep  stores the state. It is called before the first byte is written, with the set-up marked as not written:
          a process killed in between leaves the newer truth in the state, which is written at the next occasion
    """
    memory = controller.memory
    mark = _fingerprint(controller)
    if memory.setup.get("mark") == mark:
        return
    drives = [d for d in controller.here() if d.works]
    used = [d for d in drives if memory.memberships(d.serial) or d.serial in memory.spares]
    for drive in used:
        controller.medium(drive)  # a damaged image is found before anything changes
    before = int(memory.setup.get("sequence", 0))
    memory.setup = {"mark": "", "sequence": before + 1}
    keep()
    for drive in used:
        _write(controller, drive)
    for drive in drives:
        if drive.configured and drive not in used and _was_current(controller, drive, before):
            clear(controller, drive)
    memory.setup["mark"] = mark


def clear(controller: Controller, drive: Drive) -> None:
    """Remove the set-up from a drive; its other bytes stay."""
    medium = controller.medium(drive)
    medium.discard(drive.size - RESERVED_BYTES, RESERVED_BYTES)
    medium.flush()
    drive.configured = False


def _was_current(controller: Controller, drive: Drive, sequence: int) -> bool:
    """Whether a drive that is used no more was up to date: what came back from elsewhere is not ours to clear."""
    try:
        found = ddf.decode(controller.medium(drive))
    except FormatError:
        return False
    mine = found is not None and found.controller["guid"] == controller_guid(controller)
    return mine and found is not None and found.header["sequence"] >= sequence


def controller_guid(controller: Controller) -> bytes:
    return _guid("ctrl", controller.facts["serial"])


def metadata(controller: Controller, drive: Drive) -> ddf.Metadata:
    """What DDF is to say on one drive."""
    memory = controller.memory
    known = [d for d in controller.here() if memory.in_use(d.serial) or d.serial in memory.spares]
    known += [d for d in _lost_drives(controller) if d not in known]
    serial = controller.facts["serial"]
    stamp = {"sequence": int(memory.setup.get("sequence", 1)), "timestamp": max(0, int(controller.now - EPOCH))}
    last = drive.size // ddf.SECTOR - 1
    places = {
        "guid": _guid("set", serial),
        "primary_lba": (drive.size - PRIMARY_BYTES) // ddf.SECTOR,
        "secondary_lba": (drive.size - SECONDARY_BYTES) // ddf.SECTOR,
        "workspace_lba": (drive.size - PRIMARY_BYTES) // ddf.SECTOR,
        "workspace_length": last - (drive.size - PRIMARY_BYTES) // ddf.SECTOR,
    }
    mine = [v for v, _position in memory.memberships(drive.serial)]
    spare = memory.spares.get(drive.serial)
    guids = tuple(memory.volumes[n].guid.encode() for n in spare.volumes) if spare else ()
    return ddf.Metadata(
        header=places | stamp,
        controller={"guid": controller_guid(controller), "product": controller.facts["model"].encode()[:16].ljust(16)},
        drives=tuple(_drive(controller, d) for d in known),
        volumes=tuple(_volume(controller, v) for v in memory.volumes.values()),
        configs=tuple(config for volume in mine for config in _configs(controller, volume, stamp["timestamp"])),
        spares=((_spare(spare, stamp), guids),) if spare else (),
        drive={"guid": drive_guid(drive), "reference": reference(drive.vendor, drive.serial)},
    )


def _lost_drives(controller: Controller) -> list[Drive]:
    lost = [m for v in controller.memory.volumes.values() for m in v.members if m.state == "lost"]
    return [drive for m in lost if (drive := controller.drive_of(m))]


def volume_guid(controller: Controller, number: int, created: str) -> str:
    """The GUID of a new volume."""
    return _guid("vd", f"{controller.facts['serial']} {number} {created}").decode()


def drive_guid(drive: Drive) -> bytes:
    """A drive's GUID: eight characters of its maker, sixteen of its serial number (or a CRC of a longer one)."""
    serial = drive.serial if len(drive.serial) <= 16 else drive.serial[:8] + f"{zlib.crc32(drive.serial.encode()):08x}"
    return drive.vendor.encode("ascii", "replace")[:8].ljust(8) + serial.encode().ljust(16)


def reference(vendor: str, serial: str) -> int:
    """A drive's reference in configuration records, never the value for unused."""
    return zlib.crc32(f"{vendor} {serial}".encode()) & 0xFFFFFFFE


def _write(controller: Controller, drive: Drive) -> None:
    made = metadata(controller, drive)
    medium: Medium = controller.medium(drive)
    for kind, place in ((1, "primary_lba"), (2, "secondary_lba")):
        medium.write(made.header[place] * ddf.SECTOR, ddf.encode(made, kind))
        medium.flush()  # one copy is sound at every moment
    anchor = ddf.encode(made, 0)[: ddf.SECTOR]
    medium.write(drive.size // ddf.SECTOR * ddf.SECTOR - ddf.SECTOR, anchor)
    medium.flush()
    drive.configured = True


def _fingerprint(controller: Controller) -> str:
    """Changes exactly when what the drives should say changes; progress of work does not count."""
    rows: dict[str, Any] = {}
    for (kind, key), row in memory_rows(controller.memory).items():
        if kind == "volume":
            members = [{k: v for k, v in vars(m).items() if k != "done"} for m in row["members"]]
            rows[f"volume {key}"] = row | {"members": members}
        elif kind == "spare":
            rows[f"spare {key}"] = row
        else:
            rows[f"job {key}"] = [row["kind"], row["volume"], row["target"]]
    for drive in controller.here():
        rows[f"drive {drive.serial}"] = [drive.bay, drive.works, drive.predicted]
    return hashlib.sha256(json.dumps(rows, sort_keys=True).encode()).hexdigest()


def _guid(kind: str, text: str) -> bytes:
    """A GUID: the maker's T10-style name, what it is, and a number from the text, 24 bytes of ASCII."""
    return (b"FSTRIPE " + kind.encode().ljust(4) + f"{zlib.crc32(text.encode()):08x}".encode()).ljust(24)


def _drive(controller: Controller, drive: Drive) -> dict[str, Any]:
    memory = controller.memory
    spare = memory.spares.get(drive.serial)
    member = any(m.serial == drive.serial for v in memory.volumes.values() for m in v.members)
    kind = ddf.MEMBER if member else 0
    if spare:
        kind |= ddf.DEDICATED_SPARE if spare.volumes else ddf.GLOBAL_SPARE
    rebuilding = any(v.members[p].state == "rebuilding" for v, p in memory.memberships(drive.serial))
    state = ddf.REBUILDING * rebuilding | ddf.PREDICTED * drive.predicted
    if drive not in controller.here():
        state |= ddf.MISSING
    else:
        state |= ddf.ONLINE if drive.works else ddf.FAILED
    return {
        "guid": drive_guid(drive),
        "reference": reference(drive.vendor, drive.serial),
        "type": kind,
        "state": state,
        "size": (drive.size - RESERVED_BYTES) // ddf.SECTOR,
        "path": f"bay {drive.bay}".encode()[:18] if drive.bay else b"",
        "block": ddf.SECTOR,
    }


def _volume(controller: Controller, volume: Volume) -> dict[str, Any]:
    left = controller.margin(volume)
    condition = 4 if left < 0 else 0 if not volume.lost else 5 if left > 0 else 1
    return {
        "guid": volume.guid.encode(),
        "number": volume.number,
        "state": condition,
        "initialized": 1 if controller.initializing(volume) else 2,
        "margin": left if condition == 5 else 0,
        "name": volume.name.encode().ljust(16),
    }


def _configs(controller: Controller, volume: Volume, timestamp: int) -> list[ddf.Config]:
    """One record per span; a RAID 10 is stripes over spans that are mirrors."""
    level, width = volume.level, len(volume.members) // volume.spans
    if level == "RAID10":
        level, width = "RAID1", volume.copies
    elif level in ("RAID50", "RAID60"):
        level = {"RAID50": "RAID5", "RAID60": "RAID6"}[level]
    made = volume.geometry
    spans = len(volume.members) // width
    qualifier = ddf.QUALIFIERS.get((level, volume.rotation, volume.data), 0 if level in ("RAID0", "RAID1") else 0xFF)
    records = []
    for span in range(spans):
        members = volume.members[span * width : (span + 1) * width]
        drives = [controller.drive_of(m) for m in members]
        fields = {
            "guid": volume.guid.encode(),
            "timestamp": timestamp,
            "sequence": volume.generation,
            "elements": width,
            "strip": (volume.strip // ddf.SECTOR).bit_length() - 1,
            "level": ddf.LEVELS[level],
            "qualifier": qualifier,
            "spans": spans,
            "span": span,
            "extent": made.rows * volume.strip // ddf.SECTOR,
            "size": made.volume_bytes // ddf.SECTOR,
            "block": ddf.SECTOR,
            "cache": CACHED_READS[volume.read_cache] | CACHED_WRITES[volume.write_cache],
            "scratch": _scratch(volume, span * width, width),
        }
        references = [reference(d.vendor, d.serial) if d else ddf.UNUSED_REFERENCE for d in drives]
        records.append(ddf.Config(fields, tuple(references), (volume.start // ddf.SECTOR,) * width))
    return records


def _scratch(volume: Volume, first: int, width: int) -> bytes:
    chosen = (volume.rotation, volume.data, volume.q_place, volume.q_exponent)
    words = [known.index(word) for known, word in zip(WORDS, chosen, strict=True)]
    states = [m.state for m in volume.members[first : first + width]]
    away, incomplete = (sum(1 << i for i, s in enumerate(states) if s == kind) for kind in ("lost", "rebuilding"))
    return SCRATCH.pack(SCRATCH_SIGNATURE, 1, *words, volume.copies, away, incomplete, volume.branch)


def _spare(spare: Spare, stamp: dict[str, int]) -> dict[str, Any]:
    return {"timestamp": stamp["timestamp"], "type": (1 if spare.volumes else 0) | (2 if spare.revertible else 0)}
