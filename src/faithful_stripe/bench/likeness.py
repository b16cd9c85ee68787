"""A bench made like another server: its description, then the same volumes, spares and troubles on it, without data."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.ranges import Range
from . import firmware, members, volumes
from .bench import Bench, create
from .hands import Hands
from .state import State
from .volumes import Wish


@dataclass(frozen=True)
class Twin:
    """What is to stand on the bench: volumes as (controller, wish, size in bytes), spares as (serial, names,
    revertible), serial numbers of drives that have failed or say that they will, firmware settings, unreadable ranges
    as (serial, start, length), ranges that a check found inconsistent as (controller, volume, ranges)."""

    text: str
    volumes: Sequence[tuple[str, Wish]]
    spares: Sequence[tuple[str, tuple[str, ...], bool]]
    failed: Sequence[str]
    predicted: Sequence[str]
    firmware: dict[str, Any]
    unreadable: Sequence[tuple[str, int, int]] = ()
    inconsistent: Sequence[tuple[str, str, Sequence[Range]]] = ()


def make_like(folder: Path, twin: Twin, tell: Callable[[str], None] = lambda _text: None) -> State:
    """Make the bench. Raises BenchError, ControllerRefusal where the set-up cannot be had here."""
    with tempfile.TemporaryDirectory() as scratch:
        described = Path(scratch) / "like.toml"
        described.write_text(twin.text, "utf-8")
        create(folder, described)
    bench = Bench(folder)
    try:
        with bench.session() as session:
            for controller, wish in twin.volumes:
                mine = session.controllers[controller]
                volumes.create(mine, volumes.check(mine, wish))
                tell(f"volume {wish.name}")
            for serial, names, revertible in twin.spares:
                drive = session.drive(serial)
                mine = session.controller_at(str(drive.bay))
                members.add_spare(mine, str(drive.bay), [mine.volume(name) for name in names], revertible)
            _trouble(session, twin)
            known = firmware.registry()
            wanted = {n: v for n, v in twin.firmware.items() if n in known and known[n].fits(v)}
            session.state.firmware |= {n: v for n, v in wanted.items() if not known[n].read_only}
            return session.state
    finally:
        bench.close()


def _trouble(session: Hands, twin: Twin) -> None:
    """What has failed there fails here; what says that it will, says so; what cannot be read there cannot here."""
    for serial, start, length in twin.unreadable:
        drive = session.state.drives.get(serial)
        if drive and drive.bay:
            session.spoil(serial, start, length)
    for controller, name, ranges in twin.inconsistent:
        volume = session.controllers[controller].volume(name)
        made = volume.geometry
        unit = made.pattern.unit_rows
        size = made.pattern.strips * unit // made.pattern.rows * made.strip_bytes
        volume.mismatches = [[a // size * unit, -(-b // size) * unit] for a, b in ranges]
    for serial in twin.predicted:
        drive = session.state.drives.get(serial)
        if drive and drive.bay:
            session.predict(serial)
    for serial in twin.failed:
        drive = session.state.drives.get(serial)
        if drive and drive.bay:
            session.fail(serial)
