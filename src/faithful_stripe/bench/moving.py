"""Drives that move from one bench into another: whatever is interrupted, each is in one bench only.

The giver first notes where a drive goes, and holds its bench. The taker is built beside its place with a second name of
the drive's files, notes where they came from, and gets its name: from then on the drive is its own. Then the giver
forgets the drive and the names of its files. What is found half done when either of the two is opened next is finished,
if the taker is there, or undone. A file with one name only is nobody else's: that is what decides where paths no longer
lead, because a bench was moved meanwhile.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import AbstractContextManager, suppress
from pathlib import Path
from urllib.parse import quote

from .errors import BenchError
from .hands import Hands
from .images import files_of
from .state import State
from .store import FILE

Opening = Callable[[Path], AbstractContextManager[Hands]]


def begin(giver: Hands, serial: str, taker: Path, building: Path, uuid: str) -> None:
    """Note at the giver that a drive is about to leave; kept before this returns."""
    giver.state.leaving[serial] = {"bench": str(taker.resolve()), "building": str(building.resolve()), "uuid": uuid}
    giver.save_and_go_on()


def end(folder: Path, state: State, serial: str) -> None:
    """The taker has the drive: forget it here."""
    for path in files_of(folder, serial):
        path.unlink(missing_ok=True)
    state.drives.pop(serial, None)
    state.leaving.pop(serial, None)


def settle(folder: Path, state: State, opening: Opening) -> bool:
    """Finish or undo what was interrupted; whether anything changed. `opening` opens another bench.

    Raises BenchError where a drive may be another bench's, too, and that one cannot be asked.
    """
    changed = False
    for serial, note in list(state.leaving.items()):
        if _has(Path(note["bench"]), note["uuid"], serial):
            end(folder, state, serial)
            changed = True
            continue
        shutil.rmtree(note["building"], ignore_errors=True)  # whoever built there held this bench, and does no more
        if _alone(folder, serial):
            del state.leaving[serial]
            changed = True
    for serial, place in list(state.arrived.items()):
        if not _alone(folder, serial):
            _agree(folder, state, serial, Path(place), opening)
        del state.arrived[serial]
        changed = True
    return changed


def _agree(folder: Path, state: State, serial: str, place: Path, opening: Opening) -> None:
    """Settle with the bench that a drive came from whose it is."""
    try:
        with opening(place) as giver:
            note = giver.state.leaving.get(serial)
            if serial in giver.state.drives and (note is None or note["uuid"] != state.server["uuid"]):
                for path in files_of(folder, serial):  # it was taken back there, before this bench was ever opened
                    path.unlink()
                del state.drives[serial]
            else:
                end(place, giver.state, serial)
    except BenchError as reason:
        what = f"drive {serial} came from {place}, and may still be used there; that bench cannot be asked"
        to_do = f"bring {place} back to its place ({reason.what})"
        raise BenchError(bench=folder, what=what, to_do=to_do) from reason


def _alone(folder: Path, serial: str) -> bool:
    """Whether the files of a drive have no other name."""
    return all(path.stat().st_nlink == 1 for path in files_of(folder, serial))


def _has(folder: Path, uuid: str, serial: str) -> bool:
    """Whether a bench is there, the very one, and has the drive; read without holding it."""
    with suppress(sqlite3.Error, OSError, ValueError, AttributeError):
        db = sqlite3.connect(f"file:{quote(str(folder / FILE))}?mode=ro", uri=True)
        try:
            told = "SELECT value FROM item WHERE kind = ? AND key = ?"
            row = db.execute(told, ("meta", "server")).fetchone()
            same = row is not None and json.loads(row[0]).get("uuid") == uuid
            return same and db.execute(told, ("drive", serial)).fetchone() is not None
        finally:
            db.close()
    return False
