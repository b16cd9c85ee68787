"""The service record of a visit or a period: before and after, what was done, what happened, what is left."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from ..core.server.assess import Assessment, assess
from ..core.server.model import Server
from ..core.server.unknown import known as known_or
from ..redfish.client import Client
from . import log
from .advisories import Advisory
from .judging import Remaining, remains
from .survey import survey
from .visits import notes, remember_state, state_of


@dataclass(frozen=True)
class Then:
    """A volume's state and margin at a moment."""

    state: str
    margin: int | None


@dataclass(frozen=True)
class VolumeThen:
    """A volume at the beginning and now; None where it was not there. Sizes in bytes, None where not known."""

    name: str
    level: str
    size: int | None
    before: Then | None
    now: Then | None


@dataclass(frozen=True)
class BayThen:
    """A bay whose drive is another one than at the beginning."""

    bay: str
    before: str
    now: str


@dataclass(frozen=True)
class Done:
    """A command that changed something: when (this machine's clock), its words, how it ended."""

    time: str
    command: str
    status: int


@dataclass(frozen=True)
class Swapped:
    """A drive that was replaced, by a guided swap.

    out_model, out_part, into_model, into_part  "" where they were not told; into_hours: that the new one had run before
    """

    time: str
    bay: str
    out: str
    into: str
    why: str
    out_model: str = ""
    out_part: str = ""
    into_model: str = ""
    into_part: str = ""
    into_hours: int | None = None


@dataclass(frozen=True)
class Point:
    """How far a piece of work was at a moment of the server's clock: of which volume, what kind, onto which bay."""

    time: str
    volume: str
    kind: str
    target: str
    percent: float


@dataclass(frozen=True)
class MarginAt:
    """A volume's margin from a moment on (this machine's clock)."""

    time: str
    volume: str
    margin: int | None


@dataclass(frozen=True)
class Report:
    """Everything that the record says; times by this machine's clock unless they say otherwise."""

    server: str
    maker: str
    model: str
    serial: str
    firmware: str
    controllers: tuple[str, ...]
    since: str
    until: str
    clock_off: float
    volumes: tuple[VolumeThen, ...]
    bays: tuple[BayThen, ...]
    done: tuple[Done, ...]
    swaps: tuple[Swapped, ...]
    events: tuple[log.Entry, ...]
    points: tuple[Point, ...]
    margins: tuple[MarginAt, ...]
    left: tuple[Remaining, ...]
    judged: Assessment


def _swapped(n: dict[str, Any]) -> Swapped:
    """A swap as it was noted."""
    told = {key: str(n.get(noted) or "") for key, noted in (
        ("out_model", "model"), ("out_part", "part"), ("into_model", "into_model"), ("into_part", "into_part")
    )}  # fmt: skip
    return Swapped(
        n["time"], str(n["bay"]), str(n["out"]), str(n["into"]), str(n["why"]), into_hours=_whole(n.get("into_hours")),
        **told,
    )  # fmt: skip


def _whole(value: object) -> int | None:
    return value if isinstance(value, int) and not isinstance(value, bool) else None


@dataclass(frozen=True)
class Lasted:
    """A piece of work that was followed: how many seconds by the server's clock, and from which per cent to which."""

    volume: str
    kind: str
    target: str
    seconds: float
    first: float
    last: float


def lasted(points: Sequence[Point]) -> tuple[Lasted, ...]:
    """How long each piece of work was followed."""
    found = []
    for volume, kind, target in dict.fromkeys((p.volume, p.kind, p.target) for p in points):
        mine = [p for p in points if (p.volume, p.kind, p.target) == (volume, kind, target)]
        times = [datetime.fromisoformat(p.time) for p in mine]
        seconds = (times[-1] - times[0]).total_seconds()
        found.append(Lasted(volume, kind, target, seconds, mine[0].percent, mine[-1].percent))
    return tuple(found)


def report(client: Client, since: str | None = None, advisories: Sequence[Advisory] = ()) -> Report:
    """The record from a moment on (ISO 8601 or how long ago), or from the first thing that was noted.

    Raises SizeError for a moment that is neither.
    """
    seen = survey(client)
    now_judged = assess(seen)
    remember_state(client.where, now_judged)
    known = notes(client.where)
    now = time.time()
    begin = log.since(since, now) if since else (known[0]["time"] if known else _iso(now))
    mine = [n for n in known if _at(n["time"]) >= _at(begin)]
    states = [n for n in mine if n["kind"] == "state"] or [n for n in known if n["kind"] == "state"][-1:]
    if not states:  # what was noted could not be kept: there is no before
        states = [{"time": begin, "server_time": str(seen.time), "state": state_of(now_judged)}]
    clocks = log.clocks(client)
    offset = clocks.offset
    events = log.explained(log.entries(client), seen, clocks)
    # a log's times are whole seconds: an event in the second in which the record begins belongs to it
    first = math.floor(_server_time(_at(begin), states[0], now, now + offset))
    mine_from = next(
        (i for i, e in enumerate(events) if _at(e.time) >= first or _at(e.here) >= math.floor(_at(begin))), len(events)
    )
    return Report(
        server=seen.server,
        maker=known_or(seen.maker, ""),
        model=known_or(seen.model, ""),
        serial=known_or(seen.serial, ""),
        firmware=known_or(seen.firmware, ""),
        controllers=tuple(f"{c.id}: {c.name}, serial {c.serial}, firmware {c.firmware}" for c in seen.controllers),
        since=begin,
        until=_iso(now),
        clock_off=offset,
        volumes=tuple(_volumes(states[0]["state"]["volumes"], now_judged)),
        bays=tuple(_bays(states[0]["state"]["bays"], seen)),
        done=tuple(
            Done(n["time"], str(n.get("command")), int(n.get("status", 0))) for n in mine if n["kind"] == "command"
        ),
        swaps=tuple(_swapped(n) for n in mine if n["kind"] == "swap"),
        events=tuple(events[mine_from:]),  # in the log's own order: a clock that was set back hides nothing
        points=tuple(
            Point(
                str(n["server_time"]),
                str(n["volume"]),
                str(n.get("kind_of_work", "rebuild")),
                str(n.get("target", "")),
                float(n["percent"]),
            )
            for n in mine
            if n["kind"] == "progress"
        ),
        margins=tuple(_margins(states)),
        left=tuple(remains(now_judged, advisories)),
        judged=now_judged,
    )


def _server_time(moment: float, noted: dict[str, Any], now: float, server_now: float) -> float:
    """What the server's clock showed at a moment of this machine's: seconds since 1970, as all times here.

    A bench's clock may run at another speed than this machine's, so a moment between the last state noted and now is
    placed between the two in proportion; before and after them the clocks are taken to go alike.
    """
    then, server_then = _at(noted["time"]), _at(noted.get("server_time", ""))
    if moment <= then:
        return server_then - (then - moment)
    if moment >= now:
        return server_now + (moment - now)
    return server_then + (server_now - server_then) * (moment - then) / (now - then)


def _volumes(before: Sequence[dict[str, Any]], judged: Assessment) -> list[VolumeThen]:
    then = {(str(v["controller"]), str(v["name"])): v for v in before}
    now = {(v.controller, v.name): judged.of(v) for v in judged.server.volumes}
    made = []
    for key in {**then, **now}:
        old, new = then.get(key), now.get(key)
        level = known_or(new.volume.level, "") if new else str(old["level"]) if old else ""
        size = known_or(new.volume.size, None) if new else old["size"] if old else None
        made.append(
            VolumeThen(
                key[1], level, size, Then(str(old["state"]), old.get("margin")) if old else None,
                Then(new.state.value, new.margin) if new else None,
            )
        )  # fmt: skip
    return made


def _bays(before: dict[str, str], seen: Server) -> list[BayThen]:
    now = {d.bay: known_or(d.serial, "?") if d.seated else "" for d in seen.drives}
    return [
        BayThen(bay, before.get(bay) or "empty", now.get(bay) or "empty")
        for bay in {**before, **now}
        if (before.get(bay) or "") != (now.get(bay) or "")
    ]


def _margins(states: Sequence[dict[str, Any]]) -> list[MarginAt]:
    """Each volume's margin when it changed."""
    last: dict[str, int | None] = {}
    made = []
    for n in states:
        for v in n["state"]["volumes"]:
            if v["name"] not in last or last[v["name"]] != v["margin"]:
                last[v["name"]] = v["margin"]
                made.append(MarginAt(n["time"], v["name"], v["margin"]))
    return made


def _at(text: str) -> float:
    try:
        return datetime.fromisoformat(text).timestamp()
    except ValueError:
        return 0.0


def _iso(moment: float) -> str:
    return datetime.fromtimestamp(moment, UTC).isoformat(timespec="seconds")
