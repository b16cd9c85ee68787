"""Around unreadable sectors: sector by sector from whatever can be read, and what is lost is named."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..core.arrays.engine import Array, DataLost, lost_ranges
from ..core.arrays.rebuild import check_rows, repair_row
from ..core.ranges import Range, clip, subtract, union
from ..core.source import Unreadable
from .controller import Controller
from .drive import Medium
from .state import Drive, Job, Volume


def fill(
    controller: Controller, volume: Volume, array: Array, position: int, target: Medium, span: Range,
    source: Medium | None = None,
) -> None:  # fmt: skip
    """Put a member's bytes (offsets on the member) onto `target`, each sector for itself.

    source  where a sector is read from if it can be; else, and without it, it is computed from the other members

    A sector that does not follow from what can be read is marked unreadable on the target, and named in the log.
    """
    strip, sector = volume.geometry.strip_bytes, target.drive.sector
    lost = []
    for at in range(span[0], span[1], sector):
        out = np.empty(min(sector, span[1] - at), np.uint8)
        row, inner = divmod(at - volume.start, strip)
        try:
            if source is None:
                raise Unreadable(source=target, offset=at, length=sector)
            source.read_into(at, out)
        except Unreadable:
            try:
                array.compute(position, row, inner, out)
            except DataLost:
                lost.append((at, at + out.size))
                continue
        if out.any():
            target.write(at, out)
        else:
            target.discard(at, out.size)
    for a, b in union(lost):
        target.spoil(a, b - a)
        _name_lost(controller, volume, array, position, target.drive, (a, b))


def _name_lost(controller: Controller, volume: Volume, array: Array, position: int, drive: Drive, span: Range) -> None:
    found = lost_ranges(array, [(position, span[0], span[1] - span[0])])
    listed = ", ".join(f"{start} to {end}" for start, end in found)
    where = f"bytes {listed}" if found else "parity only, no data"
    controller.event("strip lost", drive=drive, volume=volume.name, where=where)


BLIND = {
    False: "which member is wrong cannot be told",
    True: "which member is wrong cannot be told: parity was written anew from the data as they stand, right or not",
}
"""Of a mismatch that no equation puts down to one member, by whether it is being repaired."""


def check_span(controller: Controller, job: Job, volume: Volume, array: Array, first: int, last: int) -> int:
    """Check rows [first, last), telling what does not match; the row that was reached.

    It stops before the first unit of rows in which something cannot be read; `check_unreadable` is for that one.
    """
    made = volume.geometry
    begun, found_here = first, list[Range]()
    while first < last:
        reached = first
        try:
            for row, found in check_rows(array, first, last):
                for bad in {mismatch.row: mismatch for mismatch in found}.values():
                    job.found += 1
                    liar = bad.liar
                    drive = controller.drive_of(volume.members[liar]) if liar is not None else None
                    who = f"member {liar} holds wrong bytes" if drive else BLIND[job.repair]
                    controller.event("mismatch", drive=drive, volume=volume.name, row=bad.row, who=who)
                    found_here.append((bad.row, bad.row + 1))
                    if job.repair:
                        repair_row(array, bad)
                        array.flush()
                        found_here.pop()
                reached = row
            note_rows(volume, begun, last, found_here)
            return last
        except Unreadable as reason:
            unit = made.pattern.unit_rows
            bad_row = (int(reason.facts["offset"]) - volume.start) // made.strip_bytes // unit * unit
            if bad_row <= reached:
                note_rows(volume, begun, reached, found_here)
                return reached
            first, last = reached, bad_row
    note_rows(volume, begun, first, found_here)
    return first


def note_rows(volume: Volume, first: int, last: int, wrong: Sequence[Range]) -> None:
    """Keep which rows do not agree: of those that were looked at now, `wrong`; of the others, what was known."""
    if last <= first:
        return
    unit = volume.geometry.pattern.unit_rows
    kept = subtract(union((a, b) for a, b in volume.mismatches), [(first, last)])
    now = union([*kept, *((a // unit * unit, -(-b // unit) * unit) for a, b in wrong)])
    volume.mismatches = [list(r) for r in now]
    volume.accepted = [list(r) for a, b in volume.accepted for r in clip(now, a, b)]


def check_unreadable(controller: Controller, job: Job, volume: Volume, array: Array, row: int) -> None:
    """One unit of rows in which sectors cannot be read: tell them, and with `repair` write them anew."""
    made = volume.geometry
    start = volume.start + row * made.strip_bytes
    end = start + made.pattern.unit_rows * made.strip_bytes
    job.found += 1
    hurt = []
    for position, member in enumerate(volume.members):
        drive = controller.state.drives[member.serial]
        bad = clip([(a, a + n) for a, n in drive.unreadable], start, end)
        if bad:
            hurt.append((position, drive, bad))
            where = ", ".join(f"bytes {a} to {b}" for a, b in bad)
            controller.event("row unreadable", drive=drive, volume=volume.name, row=row, where=where)
    if not job.repair:
        return
    for position, drive, bad in hurt:
        for span in bad:
            fill(controller, volume, array, position, controller.medium(drive), span)
    array.flush()
    if not any(clip([(a, a + n) for a, n in drive.unreadable], start, end) for _p, drive, _bad in hurt):
        check_span(controller, job, volume, array, row, row + made.pattern.unit_rows)
