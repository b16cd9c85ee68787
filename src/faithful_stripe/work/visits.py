"""The record of what was done to a server: one line per command and per event of a swap, for the service report.

Kept in the user's own state folder, one file per server as it is named; nothing secret is ever in it.
"""

from __future__ import annotations

import json
import os
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ..core.server.assess import Assessment
from ..core.server.unknown import known
from ..core.shape import fits
from .remembered import state_file

SHAPES: dict[str, Any] = {
    "command": {"command": str, "status": int},
    "swap": {"server": str, "bay": str, "out": str, "into": str, "why": str, "failed?": bool},
    "progress": {"server_time": str, "volume": str, "percent": float, "kind_of_work?": str, "target?": str},
    "clock": {"offset": float, "server_time": str},
    "state": {
        "server_time": str,
        "state": {
            "volumes": [{
                "name": str, "controller": str, "level": str, "size": (int, None), "margin": (int, None), "state": str,
            }],
            "bays": {"*": str},
        },
    },
}  # fmt: skip
"""What a line holds besides its time, by kind."""


def note(where: str, kind: str, **facts: Any) -> None:
    """Add a line; a folder that cannot be written is no reason to stop the job.

    kind  one of SHAPES
    """
    line = {"time": datetime.now(UTC).isoformat(timespec="seconds"), "kind": kind, **facts}
    path = _path(where)
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        flags = os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC
        fd = os.open(path, flags, 0o600)
        try:
            size = os.fstat(fd).st_size
            torn = size and os.pread(fd, 1, size - 1) != b"\n"  # whoever wrote the last line was cut off
            os.write(fd, b"\n" * bool(torn) + json.dumps(line).encode() + b"\n")
        finally:
            os.close(fd)
    except OSError:
        return


def notes(where: str) -> list[dict[str, Any]]:
    """Every line, oldest first; what is no line of ours, or a torn one, is left out."""
    return _lines(_path(where))


def _lines(path: Path) -> list[dict[str, Any]]:
    found = []
    try:
        data = path.read_bytes()
    except OSError:
        return []
    for line in data.splitlines():
        try:
            entry = json.loads(line.decode("utf-8"))
        except (ValueError, RecursionError):
            continue
        if fits(entry, {"time": str, "kind": str}) and _is_time(entry["time"]):
            shape = SHAPES.get(entry["kind"])
            if shape is not None and fits(entry, shape):
                found.append(entry)
    return found


def _is_time(text: str) -> bool:
    try:
        return datetime.fromisoformat(text).tzinfo is not None
    except ValueError:
        return False


def failed_drives(where: str) -> dict[str, str]:
    """Serial numbers of drives that were taken out because they failed, with when and where; from every server."""
    known: dict[str, str] = {}
    folder = _path(where).parent
    for path in sorted(folder.glob("visit-*.jsonl")) if folder.is_dir() else ():
        for entry in _lines(path):
            if entry["kind"] == "swap" and entry.get("failed") and entry["out"]:
                known[entry["out"]] = f"{entry['why']}, {entry['time'][:10]}, {entry['server']}"
    return known


def _path(where: str) -> Path:
    name = where if "://" in where else str(Path(where).resolve())
    return state_file(f"visit-{name}", ".jsonl")


def state_of(judged: Assessment) -> dict[str, Any]:
    """How a server is, as a line of kind "state" holds it."""
    seen = judged.server
    return {
        "volumes": [
            {"name": v.name, "controller": v.controller, "level": known(v.level, ""), "size": known(v.size, None),
             "margin": judged.of(v).margin, "state": judged.of(v).state.value}
            for v in seen.volumes
        ],
        "bays": {d.bay: known(d.serial, "") if d.seated else "" for d in seen.drives},
    }  # fmt: skip


def remember_state(where: str, judged: Assessment) -> None:
    """Note how the server is now, for the before and after of a later report; nothing where it is as noted last."""
    state = state_of(judged)
    kept = [n for n in notes(where) if n["kind"] == "state"]
    if not kept or kept[-1]["state"] != state:
        note(where, "state", state=state, server_time=judged.server.time)
