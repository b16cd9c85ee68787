"""The controller's set-up written to its drives as SNIA DDF, whenever it changes.

Every member and every hot spare that is seated carries the whole set-up twice in the space the controller keeps at
the end of each drive, with the anchor in the last sector. A drive that is used no more is cleared there. What a
pulled drive carries stays as it was: its sequence number tells how old it is.
"""

from __future__ import annotations

import hashlib
import json
import zlib
from datetime import UTC, datetime
from typing import Any

from ..core.formats import ddf
from ..core.formats.declared import FormatError
from ..core.source import BlockSource
from .controller import RESERVED_BYTES, Controller
from .drive import Medium
from .state import Drive, Spare, Volume, to_rows

PRIMARY_BYTES, SECONDARY_BYTES = 32 << 20, 16 << 20
"""How far before the end of the drive the two copies start."""

_EPOCH = datetime(1980, 1, 1, tzinfo=UTC).timestamp()


def update(controller: Controller) -> None:
    """Write the set-up to the drives if it differs from what was written last."""
    state = controller.state
    mark = _fingerprint(controller)
    if state.setup.get("mark") == mark:
        return
    state.setup = {"mark": mark, "sequence": int(state.setup.get("sequence", 0)) + 1}
    for drive in state.drives.values():
        if not drive.works:
            continue
        if state.memberships(drive.serial) or drive.serial in state.spares:
            _write(controller, drive)
        elif drive.configured:
            medium = controller.medium(drive)
            medium.discard(drive.size - RESERVED_BYTES, RESERVED_BYTES)
            medium.flush()
            drive.configured = False


def foreign(source: BlockSource, controller: Controller) -> str:
    """What another controller left on a drive, in words; "" for none or our own."""
    try:
        found = ddf.decode(source)
    except FormatError:
        return "damaged DDF set-up"
    if found is None or found.controller["guid"] == _guid("ctrl", controller.facts["serial"]):
        return ""
    product = found.controller["product"].rstrip(b" \0").decode("ascii", "replace")
    return f"DDF set-up of another controller ({product})"


def metadata(controller: Controller, drive: Drive) -> ddf.Metadata:
    """What DDF is to say on one drive."""
    state = controller.state
    known = [d for d in state.drives.values() if d.bay and (state.in_use(d.serial) or d.serial in state.spares)]
    serial = controller.facts["serial"]
    stamp = {"sequence": int(state.setup.get("sequence", 1)), "timestamp": max(0, int(controller.now - _EPOCH))}
    last = drive.size // ddf.SECTOR - 1
    places = {
        "guid": _guid("set", serial),
        "primary_lba": (drive.size - PRIMARY_BYTES) // ddf.SECTOR,
        "secondary_lba": (drive.size - SECONDARY_BYTES) // ddf.SECTOR,
        "workspace_lba": (drive.size - PRIMARY_BYTES) // ddf.SECTOR,
        "workspace_length": last - (drive.size - PRIMARY_BYTES) // ddf.SECTOR,
    }
    mine = [v for v, _position in state.memberships(drive.serial)]
    spare = state.spares.get(drive.serial)
    return ddf.Metadata(
        header=places | stamp,
        controller={"guid": _guid("ctrl", serial), "product": controller.facts["model"].encode()[:16].ljust(16)},
        drives=tuple(_drive(controller, d) for d in known),
        volumes=tuple(_volume(controller, v) for v in state.volumes.values()),
        configs=tuple(config for volume in mine for config in _configs(controller, volume, stamp)),
        spares=((_spare(spare, stamp), tuple(_volume_guid(controller, n) for n in spare.volumes)),) if spare else (),
        drive={"guid": _guid("pd", drive.serial), "reference": reference(drive)},
    )


def reference(drive: Drive) -> int:
    """A drive's reference in configuration records: the CRC of its GUID, never the value for unused."""
    return zlib.crc32(_guid("pd", drive.serial)) & 0xFFFFFFFE


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
    for (kind, key), row in to_rows(controller.state).items():
        if kind == "volume":
            members = [{k: v for k, v in m.items() if k != "done"} for m in row["members"]]
            rows[f"volume {key}"] = row | {"members": members}
        elif kind == "spare":
            rows[f"spare {key}"] = row
        elif kind == "drive":
            rows[f"drive {key}"] = [row["bay"], row["fault"], row["predicted"]]
        elif kind == "job":
            rows[f"job {key}"] = [row["kind"], row["volume"], row["target"]]
    return hashlib.sha256(json.dumps(rows, sort_keys=True).encode()).hexdigest()


def _guid(kind: str, text: str) -> bytes:
    """A GUID: the maker's T10-style name, what it is, and a number from the text, 24 bytes of ASCII."""
    return (b"FSTRIPE " + kind.encode().ljust(4) + f"{zlib.crc32(text.encode()):08x}".encode()).ljust(24)


def _volume_guid(controller: Controller, number: int) -> bytes:
    return _guid("vd", f"{controller.facts['serial']} {number}")


def _drive(controller: Controller, drive: Drive) -> dict[str, Any]:
    state = controller.state
    spare = state.spares.get(drive.serial)
    kind = 2 if state.memberships(drive.serial) else 0
    if spare:
        kind |= 8 if spare.volumes else 4
    rebuilding = any(v.members[p].state == "rebuilding" for v, p in state.memberships(drive.serial))
    condition = (0 if drive.fault else 1) | (2 if drive.fault else 0) | 4 * rebuilding | 16 * drive.predicted
    return {
        "guid": _guid("pd", drive.serial),
        "reference": reference(drive),
        "type": kind,
        "state": condition,
        "size": (drive.size - RESERVED_BYTES) // ddf.SECTOR,
        "path": f"bay {drive.bay}".encode()[:18],
        "block": ddf.SECTOR,
    }


def _volume(controller: Controller, volume: Volume) -> dict[str, Any]:
    left = controller.margin(volume)
    condition = 4 if left < 0 else 0 if not volume.lost else 5 if left > 0 else 1
    return {
        "guid": _volume_guid(controller, volume.number),
        "number": volume.number,
        "state": condition,
        "initialized": 1 if controller.initializing(volume) else 2,
        "margin": left if condition == 5 else 0,
        "name": volume.name.encode().ljust(16),
    }


def _configs(controller: Controller, volume: Volume, stamp: dict[str, int]) -> list[ddf.Config]:
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
        drives = [controller.state.drives[m.serial] for m in members]
        fields = {
            "guid": _volume_guid(controller, volume.number),
            **stamp,
            "elements": width,
            "strip": (volume.strip // ddf.SECTOR).bit_length() - 1,
            "level": ddf.LEVELS[level],
            "qualifier": qualifier,
            "spans": spans,
            "span": span,
            "extent": made.rows * volume.strip // ddf.SECTOR,
            "size": made.volume_bytes // ddf.SECTOR,
            "block": ddf.SECTOR,
        }
        there = [m.state != "lost" for m in members]
        references = [reference(d) if here else ddf.UNUSED_REFERENCE for d, here in zip(drives, there, strict=True)]
        records.append(ddf.Config(fields, tuple(references), (volume.start // ddf.SECTOR,) * width))
    return records


def _spare(spare: Spare, stamp: dict[str, int]) -> dict[str, Any]:
    return {"timestamp": stamp["timestamp"], "type": (1 if spare.volumes else 0) | (2 if spare.revertible else 0)}
