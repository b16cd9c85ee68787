"""The record of what was done to a server: one line per command and per event of a swap, for the service report.

Kept in the user's own state folder, one file per server as it is named; nothing secret is ever in it.
"""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ..core.server.assess import Assessment
from ..core.server.unknown import known
from .remembered import state_file


def note(where: str, kind: str, **facts: Any) -> None:
    """Add a line; a folder that cannot be written is no reason to stop the job.

    kind  "command", "swap", "progress"
    """
    line = {"time": datetime.now(UTC).isoformat(timespec="seconds"), "kind": kind, **facts}
    path = _path(where)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("a", encoding="utf-8") as file:
            file.write(json.dumps(line) + "\n")
    except OSError:
        return


def notes(where: str) -> list[dict[str, Any]]:
    """Every line, oldest first; a torn last one is left out."""
    found = []
    try:
        for line in _path(where).read_text("utf-8").splitlines():
            try:
                found.append(json.loads(line))
            except ValueError:
                continue
    except OSError:
        return []
    return found


def failed_drives(where: str) -> dict[str, str]:
    """Serial numbers of drives that were taken out because they failed, with when and where; from every server."""
    known: dict[str, str] = {}
    folder = _path(where).parent
    for path in sorted(folder.glob("visit-*.jsonl")) if folder.is_dir() else ():
        for line in path.read_text("utf-8", "replace").splitlines():
            try:
                entry = json.loads(line)
            except ValueError:
                continue
            if entry.get("kind") == "swap" and entry.get("failed") and entry.get("out"):
                known[str(entry["out"])] = f"{entry.get('why')}, {entry['time'][:10]}, {entry.get('server')}"
    return known


def _path(where: str) -> Path:
    name = where if "://" in where else str(Path(where).resolve())
    return state_file(f"visit-{name}", ".jsonl")


def remember_state(where: str, judged: Assessment) -> None:
    """Note how the server is now, for the before and after of a later report; nothing where it is as noted last."""
    seen = judged.server
    state = {
        "volumes": [
            {"name": v.name, "controller": v.controller, "level": known(v.level, ""), "size": known(v.size, None),
             "margin": judged.of(v).margin, "state": judged.of(v).state.value}
            for v in seen.volumes
        ],
        "bays": {d.bay: known(d.serial, "") if d.seated else "" for d in seen.drives},
    }  # fmt: skip
    kept = [n for n in notes(where) if n.get("kind") == "state"]
    if not kept or kept[-1].get("state") != state:
        note(where, "state", state=state, server_time=seen.time)
