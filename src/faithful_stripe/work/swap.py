"""The guided replacement of a drive: every step verified by reading, never assumed.

The stages are remove, seat, check, rebuild, finish, over. A swap is kept in a file of the user's own after every stage,
so that another command can pick it up. `run` tells what is seen and what to do as values; it never asks.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable, Generator, Iterator
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime

from ..core.server.model import Drive, Server, Volume
from ..core.units import decimal_size, duration
from ..redfish.client import Client, RedfishError
from . import build
from .advisories import Advisory
from .errors import WorkError
from .judging import better_first, hours_of, objections_to, remains, unsafe
from .remembered import state_file
from .seeing import PASSING, Told, looks
from .stock import Item
from .survey import find, survey
from .visits import note, remember_state
from .watch import Pace, Progress

STAGES = ("remove", "seat", "check", "rebuild", "finish", "over")
PATIENCE = 6
"""Looks for which a rebuild that should begin by itself is waited for."""


@dataclass
class Swap:
    """A replacement under way.

    bay, serial, part, model  of the drive that comes out; `why`, and whether it failed (or predicts that it will)
    volumes  (controller, name) of the volumes that it is, or was, a member of
    before   serial numbers by bay, as they were when it began
    spare_for, was_spare  where it was a hot spare: for which volumes
    incoming the serial number of the drive that came in
    """

    identity: str
    where: str
    server: str
    bay: str
    serial: str
    part: str
    model: str
    size: int
    why: str
    failed: bool
    began: str
    media: str = ""
    protocol: str = ""
    rpm: int | None = None
    sector: int | None = None
    volumes: list[tuple[str, str]] = field(default_factory=list)
    before: dict[str, str] = field(default_factory=dict)
    was_spare: bool = False
    spare_for: list[str] = field(default_factory=list)
    stage: str = "remove"
    incoming: str = ""

    def keep(self) -> None:
        """Write it down; a swap that is over is forgotten."""
        path = state_file(f"swap-{self.identity}", ".json")
        if self.stage == "over":
            path.unlink(missing_ok=True)
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        new = path.with_suffix(".new")
        new.write_text(json.dumps(asdict(self), indent=1), "utf-8")
        os.replace(new, path)


def identity(client: Client) -> str:
    """What tells this server from every other one."""
    system = find(client).system
    return str(system.get("UUID") or f"{system.get('SerialNumber') or ''}@{client.where}")


def resume(client: Client) -> Swap:
    """The swap that is under way at this server. Raises WorkError where there is none."""
    path = state_file(f"swap-{identity(client)}", ".json")
    try:
        kept = json.loads(path.read_text("utf-8"))
        return Swap(**{**kept, "volumes": [(c, n) for c, n in kept["volumes"]]})
    except (OSError, ValueError, TypeError, KeyError) as reason:
        what = f"{client.where}: no swap is under way"
        raise WorkError(what=what, to_do="begin one: fstripe swap BAY") from reason


def begin(client: Client, wanted: str, now: bool = False) -> Swap:
    """Choose the drive and see whether it may be taken out now. Raises WorkError naming what would be lost.

    now  take out a drive that still works although its data could be copied off it first
    """
    seen = survey(client)
    drive = seen.drive(wanted)
    if not drive.serial and not _lost_at(seen, drive.bay):
        raise WorkError(what=f"bay {drive.bay} is empty, and no volume lacks a member there", to_do="name another")
    refusal = unsafe(seen, drive)
    if refusal is not None:
        raise refusal
    first = None if now else better_first(seen, drive)
    if first is not None:
        raise first
    mine = [v for v in seen.volumes if any(_is(m.bay, m.stands_in, m.serial, drive) for m in v.members)]
    failed = drive.health == "Critical" or drive.predicted or bool(_lost_at(seen, drive.bay))
    why = drive.why or ("it predicts its failure" if drive.predicted else "asked for")
    made = Swap(
        identity=identity(client),
        where=client.where,
        server=seen.server,
        bay=drive.bay,
        serial=drive.serial,
        part=drive.part,
        model=f"{drive.vendor} {drive.model}".strip(),
        size=drive.size,
        media=drive.media,
        protocol=drive.protocol,
        rpm=drive.rpm,
        sector=drive.sector,
        why=why if drive.serial else "the bay is empty",
        failed=failed,
        began=datetime.now(UTC).isoformat(timespec="seconds"),
        volumes=[v.key for v in mine],
        before={d.bay: d.serial for d in seen.drives},
        was_spare=bool(drive.spare),
        spare_for=list(drive.spare_for),
        stage="remove" if drive.serial else "seat",
    )
    made.keep()
    remember_state(client.where, seen)
    return made


def _is(bay: str, stands_in: str, serial: str, drive: Drive) -> bool:
    return drive.bay in (bay, stands_in) or (serial == drive.serial and serial != "")


def _lost_at(seen: Server, bay: str) -> list[Volume]:
    """Volumes that lack a member whose place is this bay."""
    return [v for v in seen.volumes if any(m.bay == bay and m.state == "lost" for m in v.members)]


# the steps --------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Options:
    """detach: let go once the rebuild runs; overwrite: take a drive that holds something; known: serial numbers known
    to have failed; stock: what the cupboard says of its drives, best: the one it offers."""

    detach: bool = False
    overwrite: bool = False
    known: dict[str, str] = field(default_factory=dict)
    stock: tuple[Item, ...] = ()
    best: Item | None = None
    advisories: tuple[Advisory, ...] = ()
    pause: float = 2.0


def run(client: Client, swap: Swap, options: Options, sleep: Callable[[float], None] = time.sleep) -> Iterator[Told]:
    """Carry a swap on from its stage to its end, or until it is let go."""
    seeing = _noted(looks(client, options.pause, sleep), swap)
    stages = {"remove": _remove, "seat": _seat, "check": _check, "rebuild": _rebuild, "finish": _finish}
    while swap.stage != "over":
        stage = swap.stage
        yield from stages[stage](client, swap, options, seeing)
        if swap.stage == stage:  # let go
            return
        swap.keep()


def _noted(seeing: Iterator[Server | Told], swap: Swap) -> Iterator[Server | Told]:
    """The looks, each change of a margin noted for the service record."""
    last: object = None
    for found in seeing:
        if isinstance(found, Server):
            margins = [(v.key, v.margin, v.health) for v in found.volumes]
            if margins != last:
                last = margins
                remember_state(swap.where, found)
        yield found


def _look(client: Client, seeing: Iterator[Server | Told]) -> Generator[Told, None, Server]:
    """A survey at once; where it does not come, the next one, with what there is to tell until then."""
    try:
        return survey(client)
    except RedfishError as reason:
        if reason.facts["status"] not in PASSING:
            raise
    for found in seeing:
        if isinstance(found, Server):
            return found
        yield found
    raise AssertionError("looking never ends")


def _light(client: Client, bay: str, on: bool) -> str:
    """Switch the LED; what went wrong, "" where nothing did."""
    try:
        build.locate(client, bay, on)
    except (RedfishError, WorkError) as reason:
        return reason.what
    return ""


def _remove(client: Client, swap: Swap, options: Options, seeing: Iterator[Server | Told]) -> Iterator[Told]:
    dark = _light(client, swap.bay, True)
    lit = "its LED blinks" if not dark else f"its LED could not be lit ({dark}): count the bays"
    what = f"take out bay {swap.bay}: {swap.model}, {decimal_size(swap.size)}, serial {swap.serial}, part {swap.part}"
    yield Told("wait", f"{what}; {lit}", "hold its label against the serial number before you pull")
    wrong: set[str] = set()
    for seen in seeing:
        if isinstance(seen, Told):
            yield seen
            continue
        now = {d.bay: d.serial for d in seen.drives}
        gone = {bay for bay, serial in swap.before.items() if serial and now.get(bay) != serial}
        others = gone - {swap.bay}
        for bay in sorted(others - wrong):
            yield Told("alarm", f"that was bay {bay} ({swap.before[bay]}), not bay {swap.bay}", _worth(seen, swap, bay))
        for bay in sorted(wrong - others):
            yield Told("step", f"bay {bay} is back: {swap.before[bay]}")
        wrong = others
        if swap.bay in gone and not others:
            yield Told("step", f"{swap.serial} has left bay {swap.bay}: the right one")
            swap.stage = "seat"
            return
        if swap.bay in now and not others and swap.bay not in gone:
            refusal = unsafe(seen, seen.bay(swap.bay))
            if refusal is not None:
                yield Told("alarm", f"leave bay {swap.bay} seated: {refusal.what}", refusal.to_do)
                yield from _until_safe(seeing, swap)
                yield Told("wait", f"now bay {swap.bay} ({swap.serial}) may come out", "")


def _until_safe(seeing: Iterator[Server | Told], swap: Swap) -> Iterator[Told]:
    for seen in seeing:
        if isinstance(seen, Told):
            yield seen
        elif unsafe(seen, seen.bay(swap.bay)) is None:
            return


def _worth(seen: Server, swap: Swap, bay: str) -> str:
    """What a drive that was taken out by mistake costs."""
    hurt = [v for v in seen.volumes if any(m.bay == bay and m.state != "active" for m in v.members)]
    listed = ", ".join(
        f"{v.name} cannot be read until then"
        if v.margin is not None and v.margin < 0
        else f"{v.name} margin {v.margin}"
        for v in hurt
    )
    return f"put it back at once, into bay {bay}" + (f" ({listed})" if listed else "")


def _seat(client: Client, swap: Swap, options: Options, seeing: Iterator[Server | Told]) -> Iterator[Told]:
    offered = options.best
    hint = f"; the best in the cupboard: {offered.serial}, {offered.model}" if offered else ""
    yield Told("wait", f"seat the new drive in bay {swap.bay}{hint}", "push it in until it locks")
    strays: set[str] = set()
    known = set(swap.before.values())
    for seen in seeing:
        if isinstance(seen, Told):
            yield seen
            continue
        for d in seen.drives:
            if d.serial and d.serial not in known | strays and d.bay != swap.bay:
                strays.add(d.serial)
                yield Told("alarm", f"drive {d.serial} was seated in bay {d.bay}, not in bay {swap.bay}",
                           f"take it out of bay {d.bay} and seat it in bay {swap.bay}")  # fmt: skip
        drive = seen.bay(swap.bay)
        if drive.serial == swap.serial and swap.serial and swap.serial != swap.incoming:
            swap.incoming = swap.serial
            yield Told("alarm", f"that is the old drive again, {drive.serial}", "take it out, seat the new one")
        elif drive.serial and drive.serial not in (swap.serial, swap.incoming):
            swap.incoming = drive.serial
            yield Told("step", f"bay {swap.bay} holds {drive.serial} now: {drive.vendor} {drive.model}")
            swap.stage = "check"
            return
        elif not drive.serial:
            swap.incoming = ""  # it came out again: the same one may come back


def _check(client: Client, swap: Swap, options: Options, seeing: Iterator[Server | Told]) -> Iterator[Told]:
    seen = yield from _look(client, seeing)
    drive = seen.bay(swap.bay)
    objections = list(objections_to(client, seen, swap, drive, options))
    for text in objections:
        yield Told("alarm", f"{drive.serial} will not do: {text}", f"take it out of bay {swap.bay}, seat another one")
    if objections:
        swap.stage = "seat"
        return
    yield Told("check", f"{drive.serial} fits: {decimal_size(drive.size)} {drive.media}, sectors of {drive.sector}, "
               f"health {drive.health or 'not told'}{hours_of(client, drive)}")  # fmt: skip
    swap.stage = "rebuild"


def _rebuild(client: Client, swap: Swap, options: Options, seeing: Iterator[Server | Told]) -> Iterator[Told]:
    pace, idle, last, asked = Pace(), 0, "", False
    alarmed = {d.serial for d in (yield from _look(client, seeing)).drives if d.health == "Critical" or d.predicted}
    for seen in seeing:
        if isinstance(seen, Told):
            yield seen
            continue
        drive = seen.bay(swap.bay)
        if drive.serial != swap.incoming:
            yield Told("alarm", f"{swap.incoming} is gone from bay {swap.bay}", "seat it again, or another one")
            swap.stage = "seat"
            return
        for d in seen.drives:
            if d.serial and d.serial not in alarmed and (d.health == "Critical" or d.predicted):
                alarmed.add(d.serial)
                margins = ", ".join(f"{v.name} margin {v.margin}" for v in seen.volumes if v.key in swap.volumes)
                yield Told(
                    "alarm",
                    f"bay {d.bay}: {d.serial} {'predicts its failure' if d.predicted else 'has failed'}"
                    f" meanwhile ({margins})",
                    "pull nothing: let the work go on, replace that one next",
                )
        mine = [v for v in seen.volumes if v.key in swap.volumes]
        broken = next((v for v in mine if v.margin is not None and v.margin < 0), None)
        if broken:
            yield Told("alarm", f"volume {broken.name} has lost data", "stop here: bring a lost member back as it was")
            return
        if all(_settled(v, swap.bay) for v in mine):
            for v in mine:
                yield Told("step", f"volume {v.name} has its member in bay {swap.bay} again: margin {v.margin}")
            swap.stage = "finish"
            return
        works = [w for v in mine for w in v.work if f"bay {swap.bay}" in w.name]
        if works:
            idle = 0
            if options.detach:
                yield Told(
                    "done", f"{works[0].name} runs ({works[0].percent:.0f} %)", "follow it: fstripe swap --resume"
                )
                return
            measured = pace.of(seen, works[0])
            step = f"{works[0].name} {int(works[0].percent // 5)}"
            if step != last:
                last = step
                note(swap.where, "progress", work=works[0].name, volume=works[0].volume, percent=works[0].percent,
                     server_time=seen.time)  # fmt: skip
                yield Told("progress", _progress(measured))
            continue
        idle += 1
        if idle >= PATIENCE and not asked:
            asked = True
            for v in mine:
                if any(m.state == "lost" and m.bay == swap.bay for m in v.members):
                    build.start_rebuild(client, v.name, swap.bay, v.controller)
                    yield Told("step", f"the controller did not begin by itself: the rebuild of {v.name} was asked for")
        elif idle >= 3 * PATIENCE:
            yield Told("alarm", f"no rebuild onto bay {swap.bay} begins", "look at `log`; then fstripe swap --resume")
            return


def _settled(volume: Volume, bay: str) -> bool:
    """Whether nobody is lost at a bay, nothing is being computed onto it, and no spare stands in for it."""
    missing = any(m.bay == bay and m.state != "active" for m in volume.members)
    standing = any(m.stands_in == bay for m in volume.members)
    return not missing and not standing and not any(f"bay {bay}" in w.name for w in volume.work)


def _progress(now: Progress) -> str:
    parts = [f"{now.work.volume}: {now.work.name} {now.work.percent:.1f} %"]
    if now.rate:
        parts.append(f"{decimal_size(int(now.rate))}/s")
    if now.left is not None:
        parts.append(f"{duration(now.left)} left")
    return ", ".join([*parts, f"margin now {now.margin}"])


def _finish(client: Client, swap: Swap, options: Options, seeing: Iterator[Server | Told]) -> Iterator[Told]:
    _light(client, swap.bay, False)
    seen = yield from _look(client, seeing)
    if swap.was_spare and seen.bay(swap.bay).use == "unassigned":
        build.add_spare(client, swap.bay, tuple(swap.spare_for), True)
        yield Told("step", f"bay {swap.bay} is a hot spare again")
        seen = yield from _look(client, seeing)
    note(swap.where, "swap", server=swap.server, bay=swap.bay, out=swap.serial, into=swap.incoming, why=swap.why,
         failed=swap.failed, began=swap.began, part=swap.part)  # fmt: skip
    remember_state(client.where, seen)
    lasted = (datetime.now(UTC) - datetime.fromisoformat(swap.began)).total_seconds()
    yield Told("done", f"bay {swap.bay}: {swap.serial or 'nothing'} out, {swap.incoming} in, after {duration(lasted)}")
    for text in remains(seen, options.advisories):
        yield Told("check", text)
    swap.stage = "over"
    swap.keep()
