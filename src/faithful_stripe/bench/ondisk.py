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
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from ..core.formats import ddf, ddf_records
from ..core.formats.ddf_records import guid_of, reference
from ..core.formats.declared import FormatError
from .controller import RESERVED_BYTES, Controller
from .drive import Medium
from .rows import memory_rows
from .state import Drive, Spare, Volume

EPOCH = datetime(1980, 1, 1, tzinfo=UTC).timestamp()

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
    return guid_of("ctrl", controller.facts["serial"])


def metadata(controller: Controller, drive: Drive) -> ddf.Metadata:
    """What DDF is to say on one drive."""
    memory = controller.memory
    known = [d for d in controller.here() if memory.in_use(d.serial) or d.serial in memory.spares]
    known += [d for d in _lost_drives(controller) if d not in known]
    serial = controller.facts["serial"]
    stamp = {"sequence": int(memory.setup.get("sequence", 1)), "timestamp": max(0, int(controller.now - EPOCH))}
    places = {"guid": guid_of("set", serial), **ddf_records.places(drive.size)}
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
    return guid_of("vd", f"{controller.facts['serial']} {number} {created}").decode()


def drive_guid(drive: Drive) -> bytes:
    """A drive's GUID: see `ddf_records`."""
    return ddf_records.drive_guid(drive.vendor, drive.serial)


def _write(controller: Controller, drive: Drive) -> None:
    made = metadata(controller, drive)
    medium: Medium = controller.medium(drive)
    for at, data in ddf_records.pieces(made, drive.size):
        medium.write(at, data)
        medium.flush()  # one copy is sound at every moment
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
    """The records of a volume of the controller."""
    made = volume.geometry
    stated = ddf_records.Stated(
        level=volume.level, members=len(volume.members), strip=volume.strip, start=volume.start,
        extent=made.rows * volume.strip, size=made.volume_bytes, rotation=volume.rotation, data=volume.data,
        q_place=volume.q_place, q_exponent=volume.q_exponent, spans=volume.spans, copies=volume.copies,
    )  # fmt: skip
    drives = [controller.drive_of(m) for m in volume.members]
    references = [reference(d.vendor, d.serial) if d else ddf.UNUSED_REFERENCE for d in drives]
    told = {
        "guid": volume.guid.encode(),
        "timestamp": timestamp,
        "sequence": volume.generation,
        "cache": CACHED_READS[volume.read_cache] | CACHED_WRITES[volume.write_cache],
    }
    away, incomplete = ([p for p, m in enumerate(volume.members) if m.state == kind] for kind in ("lost", "rebuilding"))
    return ddf_records.configs(stated, references, told, away, incomplete, volume.branch)


def _spare(spare: Spare, stamp: dict[str, int]) -> dict[str, Any]:
    return {"timestamp": stamp["timestamp"], "type": (1 if spare.volumes else 0) | (2 if spare.revertible else 0)}
