"""What in a survey needs attention: how bad, what exactly, how much more it can take, what to do next."""

from __future__ import annotations

from collections.abc import Iterator

from ..core.server.model import Drive, Finding, ForeignVolume, Server, Volume
from ..core.units import decimal_size

MOST_RANGES = 3
"""Lost ranges of a volume that are named one by one."""


def findings(seen: Server) -> list[Finding]:
    """What needs attention, the worst first."""
    found: list[Finding] = []
    if seen.power.lower() == "off":
        what = "the server is off; what follows is what was known last"
        found.append(Finding("Warning", seen.server, what, "restore the power, then look again"))
    for c in seen.controllers:
        if c.direct:
            what = "offers no volumes: its drives are presented one by one"
            to_do = "set the storage mode: `firmware show`, `firmware set`, `firmware restart`"
            found.append(Finding("Warning", f"controller {c.id}", what, to_do))
    if seen.lid_open:
        what = "the chassis is open"
        found.append(Finding("Warning", seen.server, what, "close it: the drives are cooled badly while it is open"))
    for volume in seen.volumes:
        found += _volume(volume, _named(seen, volume.controller, f"volume {volume.name}"))
    for drive in seen.drives:
        found += _drive(seen, drive)
    for one in seen.foreign:
        found.append(_foreign(one, _named(seen, one.controller, f"bays {bays_of(one)}")))
    return sorted(found, key=lambda f: f.severity != "Critical")


def _named(seen: Server, controller: str, what: str) -> str:
    """A thing with its controller, where there are several."""
    return f"{what} ({controller})" if len(seen.controllers) > 1 else what


def _volume(volume: Volume, where: str) -> Iterator[Finding]:
    lost = ", ".join(f"{m.position} (bay {m.bay or '-'}, {m.serial})" for m in volume.members if m.state == "lost")
    coming = ", ".join(f"{w.name}: {w.percent:.0f} %" for w in volume.work)
    degraded = any(m.state != "active" for m in volume.members)
    if volume.lost:
        total = sum(end - start for start, end in volume.lost)
        listed = ", ".join(f"{start} to {end}" for start, end in volume.lost[:MOST_RANGES])
        more = f" and {len(volume.lost) - MOST_RANGES} more ranges" if len(volume.lost) > MOST_RANGES else ""
        what = f"{total} bytes can be neither read nor computed: bytes {listed}{more}"
        yield Finding("Critical", where, what, "restore them from a backup: writing them anew mends the volume")
    if volume.margin is not None and volume.margin < 0:
        what = f"failed: members {lost or 'unknown'} are lost, data cannot be read"
        yield Finding("Critical", where, what, "bring a lost member back as it was; build nothing new")
    elif any("initialization" in w.name for w in volume.work) and not degraded:
        foreground = any("foreground" in w.name for w in volume.work)
        what = "cannot be used until it is initialized" if foreground else "parity does not cover it all yet, margin 0"
        yield Finding("Warning", where, f"{what}; {coming}", "let it finish: `watch`; measure nothing until then")
    elif degraded or (volume.health not in ("OK", "") and not volume.lost):
        left = "unknown" if volume.margin is None else f"{volume.margin}"
        takes = "no further failure" if volume.margin == 0 else f"{left} more"
        what = f"degraded, margin {left} (it survives {takes})"
        if lost:
            what += f"; lost: member {lost}"
        if coming:
            yield Finding("Warning", where, f"{what}; {coming}", "let it finish: `watch`; pull nothing")
        else:
            yield Finding("Critical", where, what, "replace the lost member's drive")


def _drive(seen: Server, drive: Drive) -> Iterator[Finding]:
    where = f"bay {drive.bay}"
    if drive.predicted and drive.health != "Critical":
        moving = any(f"copy from bay {drive.bay} " in w.name for v in seen.volumes for w in v.work)
        what = f"drive {drive.serial} predicts its failure, {drive.use}"
        if moving:
            to_do = "leave it seated: its data are being copied off it (`watch`)"
        elif "member" in drive.use:
            to_do = "leave it seated; add a hot spare and its data are copied off it while it still works"
        else:
            to_do = "take it out: nothing is on it"
        yield Finding("Warning", where, what, to_do)
    elif drive.unreadable:
        what = f"drive {drive.serial} has {drive.unreadable} unreadable bytes"
        to_do = "`volume check --repair` mends what redundancy covers; replace the drive if more follow"
        yield Finding("Warning", where, what, to_do)
    elif drive.health not in ("OK", ""):
        what = f"drive {drive.serial}: {drive.why or f'{drive.health.lower()} ({drive.state})'}"
        what += f", {drive.use}" if drive.use != "unassigned" else ""
        yield Finding(drive.health, where, what, drive.advice or "replace it")


def _foreign(one: ForeignVolume, where: str) -> Finding:
    size = "unknown size" if one.size is None else decimal_size(one.size)
    here = sum(m.state == "current" for m in one.members)
    what = f"a set-up this controller does not know: volume {one.name}, {one.level}, {size}, by {one.writer}; "
    what += f"{here} of {len(one.members)} members usable"
    if one.trouble:
        return Finding(
            "Warning", where, f"{what}; {one.trouble}", f"{one.advice}, or clear it: volume clear {one.name}"
        )
    to_do = f"look at it: volume foreign; take it over: volume import {one.name}; clear it: volume clear {one.name}"
    return Finding("Warning", where, what, to_do)


def bays_of(one: ForeignVolume) -> str:
    """The bays that its members are in."""
    return ", ".join(m.bay for m in one.members if m.bay)
