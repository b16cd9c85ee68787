"""Which drives may be taken for something new: unassigned, sound, nobody else's, of one kind, at one controller."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.server.model import Drive, Server
from .errors import WorkError


def pick(seen: Server, name: str, together: Sequence[str] = (), foreign: bool = False, failing: bool = False) -> Drive:
    """The drive in a bay, or with a serial number, if it can be used. Raises WorkError.

    together  the drives (bays or serials) that it is taken with: volumes on exactly these may share them
    foreign, failing  take it although another set-up is on it, or although it predicts its failure
    """
    drive = seen.drive(name)
    bay = drive.bay
    if drive.state == "Absent":
        raise WorkError(what=f"bay {bay} is empty", to_do="seat a drive there, or name another bay")
    if drive.health == "Critical":
        raise WorkError(what=f"bay {bay}: drive {drive.serial} has failed", to_do="replace it, or choose another")
    bays = {seen.drive(d).bay for d in together}
    mine = [v for v in seen.volumes if any(m.serial == drive.serial and m.state != "lost" for m in v.members)]
    shared = bool(mine) and all({m.bay for m in v.members} == bays for v in mine)
    if drive.use != "unassigned" and not shared:
        raise WorkError(what=f"bay {bay}: drive {drive.serial} is {drive.use}", to_do=f"unassigned bays: {_free(seen)}")
    if drive.predicted and not failing:
        what = f"bay {bay}: drive {drive.serial} predicts its failure"
        raise WorkError(what=what, to_do=f"choose another (unassigned bays: {_free(seen)}), or take it with --failing")
    strange = next((f.name for f in seen.foreign if bay in [m.bay for m in f.members]), None)
    if strange and not foreign:
        what = f"bay {bay}: drive {drive.serial} belongs to the foreign volume {strange}"
        to_do = f"look at it: `volume foreign`; clear it: `volume clear {strange}`; or take the drive with --foreign"
        raise WorkError(what=what, to_do=to_do)
    return drive


def _free(seen: Server) -> str:
    strange = {m.bay for f in seen.foreign for m in f.members}
    free = [d.bay for d in seen.drives if d.use == "unassigned" and d.health == "OK" and d.bay not in strange]
    return ", ".join(free) or "none"


def controller_of(seen: Server, drives: tuple[Drive, ...], wanted: str | None) -> str:
    """The one controller that all bays belong to: a volume cannot span two."""
    found = sorted({d.controller for d in drives})
    if wanted is not None:
        seen.controller(wanted)
    if len(found) > 1 or (wanted is not None and found != [wanted]):
        listed = ", ".join(f"bay {d.bay} at {d.controller}" for d in drives)
        what = f"these bays belong to {' and '.join(found)}" if len(found) > 1 else f"these bays are not {wanted}'s"
        raise WorkError(what=f"{what}: {listed}", to_do="choose bays of one controller; `survey` lists them")
    return found[0]


def check_alike(drives: tuple[Drive, ...], mixed: bool) -> None:
    for what, values in (("media", [d.media for d in drives]), ("sector size", [str(d.sector) for d in drives])):
        if len(set(values)) > 1 and not mixed:
            listed = ", ".join(f"bay {d.bay} {value}" for d, value in zip(drives, values, strict=True))
            to_do = "choose drives that are alike, or allow it with --mixed"
            raise WorkError(what=f"the drives differ in {what}: {listed}", to_do=to_do)
