"""The bench's state as rows of JSON values, and back: every value of its type, everything that is named there."""

from __future__ import annotations

import dataclasses
import types
import typing
from collections.abc import Mapping
from functools import cache
from typing import Any

from ..core.errors import StripeError
from ..core.shape import fits
from .controller import SETTINGS
from .firmware import registry
from .state import Drive, Event, Job, Member, Memory, Spare, State, Update, Volume

META: dict[str, Any] = {
    "server": {"name": str, "maker": str, "model": str, "serial": str, "firmware": str, "panel": [[str]],
               "hot_swap": bool, "links": {"*": float}, "uuid": str},
    "bays": {"labels": [str]},
    "machine": {"power": bool, "lid": bool, "next": int},
    "firmware": {"current": {"*": object}, "pending": {"*": object}, "order": [str], "until": float,
                 "found": [{"controller": str, "name": str, "size": int, "guid": str}]},
    "clock": {"bench": float, "wall": float},
    "moves": {"leaving": {"*": {"bench": str, "building": str, "uuid": str}}, "arrived": {"*": str}},
    "override": {"*": str},
}  # fmt: skip
FACTS = {
    "id": str, "maker": str, "model": str, "serial": str, "firmware": str, "bays": [str], "slot": int, "lanes": int,
    "generation": int, "pci": str,
}  # fmt: skip
LINK = {"every": float, "down": float, "next": float, "up": bool, "drops": [float]}


class Damaged(ValueError):
    """A row that the state cannot be: which one, and what is wrong."""


def to_rows(state: State) -> dict[tuple[str, str], dict[str, Any]]:
    """The state as rows (kind, key) -> JSON value, for the store; a controller's own under ID/KEY.

    The rows are the state's own dictionaries: to be written at once, with `vars` for what is nested.
    """
    rows: dict[tuple[str, str], dict[str, Any]] = {
        ("meta", "server"): state.server,
        ("meta", "bays"): {"labels": state.bays},
        ("meta", "machine"): {"power": state.power, "lid": state.lid, "next": state.next_number},
        ("meta", "firmware"): {
            "current": state.firmware,
            "pending": state.pending,
            "order": state.boot_order,
            "until": state.boot_until,
            "found": state.found,
        },
        ("meta", "clock"): {"bench": state.clock[0], "wall": state.clock[1]},
    }
    if state.leaving or state.arrived:
        rows["meta", "moves"] = {"leaving": state.leaving, "arrived": state.arrived}
    if state.boot_override:
        rows["meta", "override"] = state.boot_override
    rows |= {("drive", serial): vars(drive) for serial, drive in state.drives.items()}
    rows |= {("update", str(number)): vars(update) for number, update in state.updates.items()}
    for name, memory in state.controllers.items():
        rows["controller", name] = {"facts": memory.facts, "settings": memory.settings, "setup": memory.setup}
        rows |= memory_rows(memory, f"{name}/")
    return rows


def memory_rows(memory: Memory, prefix: str = "") -> dict[tuple[str, str], dict[str, Any]]:
    """A controller's volumes, work and spares as rows."""
    rows = {("volume", f"{prefix}{number}"): vars(volume) for number, volume in memory.volumes.items()}
    rows |= {("job", f"{prefix}{number}"): vars(job) for number, job in memory.jobs.items()}
    return rows | {("spare", f"{prefix}{serial}"): vars(spare) for serial, spare in memory.spares.items()}


def from_rows(rows: Mapping[tuple[str, str], Any]) -> State:
    """The inverse of `to_rows`. Raises Damaged where a row is missing, unknown, or not what it can be."""
    meta: dict[str, Any] = {key: rows.get(("meta", key)) for key in META}
    meta["moves"] = meta["moves"] or {"leaving": {}, "arrived": {}}
    meta["override"] = meta["override"] or {}
    for key, shape in META.items():
        _must(fits(meta[key], shape), f"meta {key}")
    machine, firmware, clock, moves = meta["machine"], meta["firmware"], meta["clock"], meta["moves"]
    state = State(
        server=meta["server"],
        bays=meta["bays"]["labels"],
        clock=(clock["bench"], clock["wall"]),
        power=machine["power"],
        lid=machine["lid"],
        next_number=machine["next"],
        firmware=firmware["current"],
        pending=firmware["pending"],
        boot_order=firmware["order"],
        boot_until=firmware["until"],
        boot_override=meta["override"],
        found=firmware["found"],
        leaving=moves["leaving"],
        arrived=moves["arrived"],
        controllers={
            key: _made(Memory, row, f"controller {key}") for (kind, key), row in rows.items() if kind == "controller"
        },
    )
    for (kind, key), value in sorted(rows.items(), key=_by_number):
        owner, _slash, name = key.rpartition("/")
        where = f"{kind} {key}"
        if kind == "drive":
            state.drives[key] = _made(Drive, value, where)
        elif kind == "update":
            state.updates[_number(key, where)] = _made(Update, value, where)
        elif kind in ("volume", "job", "spare"):
            _must(owner in state.controllers, where)
            memory = state.controllers[owner]
            if kind == "volume":
                memory.volumes[_number(name, where)] = _made(Volume, value, where)
            elif kind == "job":
                memory.jobs[_number(name, where)] = _made(Job, value, where)
            else:
                memory.spares[name] = _made(Spare, value, where)
    _whole(state)
    return state


def _must(right: bool, where: str) -> None:
    if not right:
        raise Damaged(f"the row of {where} is not what it can be")


def event_of(row: Any, number: int) -> Event:
    """An event from its row. Raises Damaged."""
    made: Event = _made(Event, row, f"event {number}")
    made.number = number
    return made


def _number(text: str, where: str) -> int:
    _must(text.isdecimal() and len(text) < 16, where)
    return int(text)


def _made(kind: type, row: Any, where: str) -> Any:
    """A value of a class of `state` from its row."""
    _must(isinstance(row, dict), where)
    shapes = _shapes(kind)
    for name, value in row.items():
        _must(name in shapes and fits(value, shapes[name]), f"{where}, {name}")
    needed = [f.name for f in dataclasses.fields(kind) if f.default is f.default_factory is dataclasses.MISSING]
    for name in needed:
        _must(name in row, f"{where}, {name}")
    if kind is Volume:
        row = row | {"members": [_made(Member, member, where) for member in row["members"]]}
    return kind(**row)


@cache
def _shapes(kind: type) -> dict[str, Any]:
    """By field: the shape that its value has in a row."""
    return {name: _shape(hint) for name, hint in typing.get_type_hints(kind).items()}


def _shape(hint: Any) -> Any:
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        return tuple(None if one is type(None) else _shape(one) for one in inner)
    if origin is list:
        return [_shape(inner[0])]
    if origin is dict or dataclasses.is_dataclass(hint):
        return {"*": object}
    return object if hint is Any else hint


# what is named is there -------------------------------------------------------------------------

_KINDS = ("rebuild", "copy", "check", "background", "foreground")
_STATES = ("active", "lost", "rebuilding")
_READ, _WRITE = ("off", "ahead", "adaptive"), ("through", "protected-back")


def _whole(state: State) -> None:
    """Raise Damaged unless the parts of a state go together."""
    panel = sorted(bay for row in state.server["panel"] for bay in row)
    _must(bool(state.bays) and panel == sorted(set(state.bays)) == sorted(state.bays), "meta bays")
    for name, value in (state.firmware | state.pending).items():
        _must(name in registry() and registry()[name].fits(value), f"meta firmware, {name}")
    claimed = [bay for memory in state.controllers.values() for bay in memory.facts.get("bays", ())]
    _must(bool(state.controllers), "controllers: there is none")
    _must(min(state.clock) >= 0 and state.next_number >= 0, "meta clock")
    taken: set[str] = set()
    for serial, drive in state.drives.items():
        where = f"drive {serial}"
        _must(drive.serial == serial and drive.bay not in taken, where)
        _must(drive.bay is None or drive.bay in state.bays, f"{where}, bay")
        _must(drive.sector in (512, 4096) and drive.size > 0 and drive.size % drive.sector == 0, f"{where}, size")
        _must(drive.rate > 0 and drive.slowed > 0 and drive.gbps >= 0, f"{where}, rate")
        _must(drive.fault in ("", "dead", "link", "image"), f"{where}, fault")
        _must(drive.link is None or fits(drive.link, LINK), f"{where}, link")
        _must(all(len(r) == 2 and r[0] >= 0 and r[1] > 0 and sum(r) <= drive.size for r in drive.unreadable), where)
        taken |= {drive.bay} if drive.bay else set()
    for name, memory in state.controllers.items():
        where = f"controller {name}"
        _must(fits(memory.facts, FACTS) and memory.facts["id"] == name, f"{where}, facts")
        _must(bool(memory.facts["bays"]) and set(memory.facts["bays"]) <= set(state.bays), f"{where}, bays")
        _must(
            f"Slot{memory.facts['slot']}Width" in registry() and 1 <= memory.facts["generation"] <= 4, f"{where}, slot"
        )
        _must(fits(memory.settings, {key: type(value) for key, value in SETTINGS.items()}), f"{where}, settings")
        _must(all(1 <= memory.settings[k] <= 100 for k in ("rebuild_rate", "check_rate")), f"{where}, settings")
        _must(fits(memory.setup, {"mark?": str, "sequence?": int}), f"{where}, setup")
        _together(state, memory)
    _must(sorted(claimed) == sorted(state.bays), "controllers: their bays are not those of the server")
    for number, update in state.updates.items():
        _must(update.number == number and update.until >= update.began >= 0, f"update {number}")
        _must(update.state in ("Running", "Waiting", "Completed", "Exception"), f"update {number}, state")


def _together(state: State, memory: Memory) -> None:
    """The volumes, work and spares of one controller. While the power is off, drives may have gone to another bench
    without its knowing: it looks when it starts."""
    unseen = not state.power
    for number, volume in memory.volumes.items():
        where = f"volume {number}"
        _must(volume.number == number and volume.name.isascii() and 0 < len(volume.name) < 64, where)
        _must(
            all(m.state in _STATES and m.done >= 0 and m.generation >= -1 for m in volume.members), f"{where}, members"
        )
        try:
            made = volume.geometry
            _must(made.volume_bytes > 0, where)
        except (StripeError, ValueError, KeyError, ZeroDivisionError, OverflowError) as reason:
            raise Damaged(f"the row of {where} is of no layout") from reason
        drives = [state.drives[m.serial] for m in volume.members if m.serial in state.drives]
        _must(all(volume.end <= d.size for d in drives), f"{where}, extent")
        there = all(m.serial in state.drives for m in volume.members if m.state != "lost")
        _must(there or unseen, f"{where}, members")
        ranges = [*volume.mismatches, *volume.accepted]
        _must(all(len(r) == 2 and 0 <= r[0] <= r[1] for r in ranges), f"{where}, mismatches")
        _must(volume.read_cache in _READ and volume.write_cache in _WRITE, f"{where}, cache")
    for number, job in memory.jobs.items():
        where = f"job {number}"
        _must(job.number == number and job.kind in _KINDS and job.volume in memory.volumes, where)
        _must(-1 <= job.position < len(memory.volumes[job.volume].members), f"{where}, position")
        _must(job.rate > 0 and job.done >= 0 and job.base >= 0, f"{where}, rate")
        _must(job.kind != "copy" or job.target in state.drives or unseen, f"{where}, target")
    for serial, spare in memory.spares.items():
        _must(spare.serial == serial and (serial in state.drives or unseen), f"spare {serial}")
        _must(all(number in memory.volumes for number in spare.volumes), f"spare {serial}, volumes")


def _by_number(row: tuple[tuple[str, str], Any]) -> tuple[int, str]:
    """Volumes and jobs in the order in which they were made."""
    number = row[1].get("number", 0) if isinstance(row[1], dict) else 0
    return number if fits(number, int) else 0, row[0][1]
