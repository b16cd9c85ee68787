"""Images that were deleted, cut short or exchanged behind a bench's back: such a drive does not answer.

A drive's file is known by its device, inode and time of change. Another file under that name, or one that somebody
wrote to, may be a copy of the bench or another drive's image; of a drive that carries the controller's set-up, its own
record in there says whose it is.
"""

from __future__ import annotations

import os
from pathlib import Path

from ..core.formats import ddf
from ..core.formats.declared import FormatError
from ..core.source import Unreadable
from ..media.image import MediaError
from ..media.parts import open_image
from . import members, ondisk
from .session import Session
from .state import Drive


def files_of(folder: Path, serial: str) -> list[Path]:
    """The files of one drive: its image, the further parts of a large one, its cache."""
    drives = folder / "drives"
    return sorted(p for p in drives.iterdir() if p.name.startswith((f"{serial}.img", f"{serial}.cache")))


def look(session: Session) -> None:
    """Drives whose images are not theirs any more fail; those whose images are back answer again."""
    now = session.clock.now()
    for drive in session.state.drives.values():
        if drive.bay is None or drive.fault not in ("", "image"):
            continue
        wrong = trouble(session.folder, drive)
        if bool(wrong) is bool(drive.fault):
            continue
        controller = session.controller_at(drive.bay)
        before, controller.now = controller.now, max(controller.now, now)  # it is noticed now
        if wrong:
            answered, drive.fault = drive.works, "image"
            if session.active and answered:
                members.drive_gone(controller, drive, drive.bay, "drive failed")
            controller.event("image wrong", drive=drive, what=wrong)
        else:
            drive.fault = ""
            if session.active:
                members.drive_seated(controller, drive, "link back")
        controller.now = before


def trouble(folder: Path, drive: Drive) -> str:
    """What is wrong with a drive's image, "" where nothing is; notes which file it is."""
    path = folder / "drives" / f"{drive.serial}.img"
    try:
        told = os.stat(path)
    except OSError:
        return "is missing"
    identity = f"{told.st_dev}:{told.st_ino}:{told.st_mtime_ns}"
    if identity == drive.image and told.st_size == drive.size:
        return ""
    try:
        with open_image(path) as image:
            if image.size != drive.size:
                return f"holds {image.size} bytes, not {drive.size}"
            if drive.configured and drive.image:
                try:
                    found = ddf.decode(image)
                except (FormatError, Unreadable):
                    found = None
                if found is None or found.drive["guid"] != ondisk.drive_guid(drive):
                    return "was exchanged for another one"
    except MediaError as reason:
        return f"cannot be used ({reason.what})"
    drive.image = identity
    return ""
