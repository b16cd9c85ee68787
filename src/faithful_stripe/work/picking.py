"""Which drives may be taken for something new: free, sound, nobody else's, of one kind, at one controller."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.server.fitness import Need, Why, candidate, judge
from ..core.server.model import Server
from ..core.server.things import Drive, SeatState
from ..core.server.unknown import UNKNOWN, known
from .errors import Unfit, WorkError

TOLERATED = (Why.HOLDS_DATA, Why.CONTENT_NOT_KNOWN)
"""What is shown and agreed to before a drive is taken, and is no reason against it."""


def pick(
    seen: Server, name: str, together: Sequence[str] = (), over_found: bool = False, failing: bool = False
) -> Drive:
    """The drive in a bay, or with a serial number, if it can be used. Raises Unfit, WorkError.

    together  the drives (bays or serials) that it is taken with: volumes on exactly these may share them
    over_found, failing  take it although another set-up is on it, or although it predicts its failure
    """
    drive = seen.drive(name)
    if not drive.seated:
        raise WorkError(what=f"bay {drive.bay} is empty", to_do="seat a drive there, or name another bay")
    paths = {seen.drive(d).path for d in together}
    mine = [v for v in seen.volumes if any(s.state is not SeatState.MISSING for s in v.at(drive))]
    shared = bool(mine) and all({s.drive for s in v.seats} == paths for v in mine)
    fit = judge(Need(0), candidate(drive, seen))
    let_be = {*TOLERATED, *([Why.FOUND] if over_found else []), *([Why.PREDICTED, Why.WORN] if failing else []),
              *([Why.IN_USE, Why.FOUND] if shared else [])}  # fmt: skip
    against = tuple(r for r in fit.cannot if r.why not in let_be)
    if against:
        raise Unfit(seen, drive, against)
    return drive


def free_bays(seen: Server) -> list[str]:
    """Bays whose drives can be taken as they are."""
    wanted = [d for d in seen.drives if d.free]
    return [d.bay for d in wanted if all(r.why in TOLERATED for r in judge(Need(0), candidate(d, seen)).cannot)]


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
    """Raise WorkError where drives differ in what a volume wants alike, unless that is allowed."""
    if mixed or not drives:
        return
    like = drives[0]
    need = Need(0, media=like.media, sector=like.sector, protocol=like.protocol)
    for what, why in (("media", Why.MEDIA), ("sector size", Why.SECTOR), ("interface", Why.INTERFACE)):
        if any(judge(need, candidate(d)).has(why) for d in drives):
            values = [known({Why.MEDIA: d.media, Why.SECTOR: d.sector}.get(why, d.protocol), "?") for d in drives]
            listed = ", ".join(f"bay {d.bay} {value}" for d, value in zip(drives, values, strict=True))
            to_do = "choose drives that are alike, or allow it with --mixed"
            raise WorkError(what=f"the drives differ in {what}: {listed}", to_do=to_do)


def size_of(drive: Drive) -> int:
    """A drive's size in bytes. Raises WorkError where the server does not tell."""
    if drive.size is UNKNOWN:
        what = f"bay {drive.bay}: the server does not tell how large its drive is"
        raise WorkError(what=what, to_do="choose another one")
    return drive.size
