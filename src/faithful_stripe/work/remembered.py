"""What this machine remembers of a server between two commands: the firmware settings that were asked of it.

Servers keep only what is so, never what was wanted: a setting that fell back by itself can be told from one that was
meant only by somebody who remembers. One small JSON file per server, in the user's own state folder.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from platformdirs import user_state_path

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
    path = state_file(server, ".json")
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        text = json.dumps({"asked": {name: asdict(one) for name, one in kept.items()}}, indent=1)
        write_text(path, text, replace=True, mode=0o600)
    except (OSError, MediaError):
        return
