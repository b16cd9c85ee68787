"""What this machine remembers of a server between two commands: the firmware settings that were asked of it, and where
its drives were.

Servers keep only what is so, never what was wanted: a setting that fell back by itself can be told from one that was
meant only by somebody who remembers. Where a drive was is a way to ask sooner, never an answer: the drive itself is
read, and must be the one that is meant. One small JSON file per server and kind, in the user's own state folder.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from platformdirs import user_state_path

from ..core.server.model import Server
from ..core.server.unknown import UNKNOWN
from ..core.shape import fits
from ..media.image import MediaError
from ..media.whole import write_text


@dataclass(frozen=True)
class Asked:
    """A setting that was asked for: its value, and when (ISO 8601, this machine's clock)."""

    value: Any
    at: str


def state_file(name: str, ending: str) -> Path:
    """A file of this program in the user's own state folder; one for every name."""
    plain = re.sub(r"[^A-Za-z0-9.-]", "_", name)
    if plain != name or len(plain) > 80:
        plain = f"{plain[:60]}-{hashlib.sha256(name.encode()).hexdigest()[:12]}"
    return user_state_path("fstripe") / f"{plain or 'unknown'}{ending}"


def asked(server: str) -> dict[str, Asked]:
    """What was asked of a server, by attribute; nothing where nothing can be read.

    server  what tells it from every other one: its UUID, or serial number
    """
    try:
        found = json.loads(state_file(server, ".json").read_text("utf-8"))["asked"]
        if not fits(found, {"*": {"value": object, "at": str}}):
            return {}
        return {name: Asked(entry["value"], entry["at"]) for name, entry in found.items()}
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return {}


def remember(server: str, wanted: Mapping[str, Any]) -> None:
    """Note what is asked now; a folder that cannot be written is no reason to stop the job."""
    now = datetime.now(UTC).isoformat(timespec="seconds")
    kept = {**asked(server), **{name: Asked(value, now) for name, value in wanted.items()}}
    _keep(state_file(server, ".json"), {"asked": {name: asdict(one) for name, one in kept.items()}})


@dataclass(frozen=True)
class DrivePlace:
    """Where a drive was: the path of its resource, its bay's label and its serial number."""

    path: str
    bay: str
    serial: str


Panel = tuple[tuple[str, ...], ...]
_PLACES = {"panel": [[str]], "drives": [{"path": str, "bay": str, "serial": str}]}


def remember_drives(at: str, seen: Server) -> None:
    """Note where the drives of a server at an address are; those whose label or serial number is not theirs alone are
    left out."""
    if "://" not in at:
        return  # a simulated server in this machine answers at once
    here = [DrivePlace(d.path, d.bay, d.serial) for d in seen.drives if d.seated and d.serial is not UNKNOWN]
    labels, serials = Counter(d.bay for d in seen.drives), Counter(p.serial for p in here)
    kept = [asdict(p) for p in here if labels[p.bay] == serials[p.serial] == 1 and p.bay not in serials]
    _keep(state_file(at, ".drives.json"), {"panel": [list(row) for row in seen.panel], "drives": kept})


def drive_place(at: str, wanted: str) -> tuple[DrivePlace, Panel] | None:
    """Where the drive with this bay or serial number was, and the panel; None where that is not remembered."""
    try:
        found = json.loads(state_file(at, ".drives.json").read_text("utf-8")) if "://" in at else None
    except (OSError, ValueError, RecursionError):
        return None
    if found is None or not fits(found, _PLACES):
        return None
    for row in found["drives"]:
        if wanted.casefold() in (row["bay"].casefold(), row["serial"].casefold()):
            return DrivePlace(row["path"], row["bay"], row["serial"]), tuple(map(tuple, found["panel"]))
    return None


@dataclass(frozen=True)
class Names:
    """What things on a server are called, as they were seen last: for completing what a person types."""

    volumes: tuple[str, ...] = ()
    bays: tuple[str, ...] = ()
    serials: tuple[str, ...] = ()
    attributes: tuple[str, ...] = ()


_NAMES = {"volumes": [str], "bays": [str], "serials": [str], "attributes": [str]}


def names_at(at: str) -> Names:
    """The names on the server at an address, or on a bench; none where it was not looked at yet."""
    try:
        found = json.loads(_names_file(at).read_text("utf-8"))
    except (OSError, ValueError, RecursionError):
        return Names()
    if not fits(found, _NAMES):
        return Names()
    return Names(**{key: tuple(found[key]) for key in _NAMES})


def remember_names(at: str, seen: Server | None = None, attributes: Sequence[str] = ()) -> None:
    """Note the names on a server that was looked at, or its firmware's attributes; written where they changed."""
    before = now = names_at(at)
    if seen is not None:
        here = [d for d in seen.drives if d.seated]
        told = ([str(x) for x in row if x is not UNKNOWN] for row in (
            (v.name for v in seen.volumes), (d.bay for d in here), (d.serial for d in here)
        ))  # fmt: skip
        now = replace(now, **{key: tuple(row) for key, row in zip(_NAMES, told, strict=False)})
    if attributes:
        now = replace(now, attributes=tuple(attributes))
    if now != before:
        _keep(_names_file(at), asdict(now))


def _names_file(at: str) -> Path:
    return state_file(at if "://" in at else str(Path(at).resolve()), ".names.json")


def _keep(path: Path, document: Mapping[str, Any]) -> None:
    """Write a file of our own; a folder that cannot be written is no reason to stop the job."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        write_text(path, json.dumps(document, indent=1), replace=True, mode=0o600)
    except (OSError, MediaError):
        return
