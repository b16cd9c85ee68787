"""A guided replacement carried on from stage to stage: remove, seat, check, rebuild, finish.

Each stage looks at the server until it is settled, and tells what it sees and what to do as values; it never asks.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any

from ..core.ranges import total
from ..core.server.acts import Refused, TakeOut, may
from ..core.server.assess import Assessment, assess
from ..core.server.condition import State
from ..core.server.findings import Code
from ..core.server.fitness import Why, candidate, judge
from ..core.server.model import Server
from ..core.server.redundancy import Answers, answers, members_at, standing
from ..core.server.things import Drive, SeatState, Volume, WorkKind
from ..core.server.unknown import UNKNOWN, Maybe, known
from ..redfish.client import Client
from ..redfish.exchange import RedfishError
from ..redfish.writers import make_spare
from . import build
from .advisories import Advisory
from .errors import WorkError
from .judging import past_of, remains
from .seeing import PASSING, Tell, Told, looks
from .stock import Item
from .survey import survey
from .swap import Swap, light, place_of
from .visits import note, remember_state
from .watch import Pace

PATIENCE = 6
"""Looks for which a rebuild that should begin by itself is waited for."""


@dataclass(frozen=True)
class Options:
    """detach: let go once the rebuild runs; overwrite: take a drive that holds something; known: serial numbers known
    to have failed; stock: what the stock says of its drives, best: the one it offers; put_away: notes where
    the old drive lies, before the swap is forgotten: what fails there is done again when the swap is picked up."""

    detach: bool = False
    overwrite: bool = False
    known: dict[str, str] = field(default_factory=dict)
    stock: tuple[Item, ...] = ()
    best: Item | None = None
    advisories: tuple[Advisory, ...] = ()
    pause: float = 2.0
    put_away: Callable[[Swap], None] = lambda _swap: None


Seeing = Iterator[Server | Told]


def run(client: Client, swap: Swap, options: Options, sleep: Callable[[float], None] = time.sleep) -> Iterator[Told]:
    """Carry a swap on from its stage to its end, or until it is let go."""
    swap.keep()
    cold = lambda: swap.hot is False and swap.stage in ("remove", "seat")  # noqa: E731
    seeing = _noted(client, looks(client, options.pause, sleep, cold, (swap.path,)), swap)
    stages = {"remove": _remove, "seat": _seat, "check": _check, "rebuild": _rebuild, "finish": _finish}
    remember_state(client.where, assess(survey(client)))
    while swap.stage != "away":
        stage = swap.stage
        yield from stages[stage](client, swap, options, seeing)
        if swap.stage == stage:  # let go
            return
        swap.keep()
    options.put_away(swap)
    swap.forget()


def _noted(client: Client, seeing: Seeing, swap: Swap) -> Seeing:
    """The looks, each change of a margin noted for the service record."""
    last: object = None
    for found in seeing:
        if isinstance(found, Server):
            now = assess(found)
            margins = [(key, j.margin, j.state) for key, j in now.volumes.items()]
            if margins != last:
                last = margins
                remember_state(swap.where, now)
        yield found


def _look(client: Client, seeing: Seeing) -> Generator[Told, None, Server]:
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


def _remove(client: Client, swap: Swap, options: Options, seeing: Seeing) -> Iterator[Told]:
    dark = light(client, swap.path, True)
    seen = yield from _look(client, seeing)
    others = tuple(d.bay for d in seen.drives if d.located is True and d.path != swap.path)
    if others:
        yield Told("check", Tell.LED_ELSEWHERE, {"bays": others})
    if swap.hot is False and not seen.off:
        yield Told("wait", Tell.POWER_OFF)
    elif swap.hot is None:
        yield Told("check", Tell.HOT_SWAP_NOT_KNOWN)
    facts = {"swap": replace(swap), "led": dark, "panel": seen.panel}
    if swap.hot is not False or seen.off:
        yield Told("wait", Tell.TAKE_OUT, facts)
    wrong: set[str] = set()
    told_off = seen.off
    for found in seeing:
        if isinstance(found, Told):
            yield found
            continue
        seen = found
        if swap.hot is False and seen.off and not told_off:
            told_off = True
            yield Told("wait", Tell.TAKE_OUT, facts)
        now = {place_of(d): known(d.serial, "?") for d in seen.drives if d.seated}
        mine = f"{swap.enclosure}/{swap.bay}"
        gone = {place for place, serial in swap.before.items() if now.get(place) != serial}
        strays = gone - {mine}
        for place in sorted(strays - wrong):
            yield Told("alarm", Tell.WRONG_BAY, _worth(client, seen, swap, place))
        for place in sorted(wrong - strays):
            yield Told("step", Tell.BACK, {"bay": place.rpartition("/")[2], "serial": swap.before[place]})
            yield from _way_back(client, seen, place)
        wrong = strays
        if mine in gone and not strays:
            yield Told("step", Tell.HAS_LEFT, {"serial": swap.serial, "bay": swap.bay})
            swap.stage = "seat"
            return
        if mine in now and not strays and mine not in gone and not seen.off:
            refusal = may(TakeOut(swap.here(seen), True), seen)
            if isinstance(refusal, Refused):
                yield Told("alarm", Tell.LEAVE_SEATED, {"refusal": refusal, "server": seen, "bay": swap.bay})
                yield from _until_safe(seeing, swap)
                yield Told("wait", Tell.NOW_SAFE, {"bay": swap.bay, "serial": swap.serial})


def _until_safe(seeing: Seeing, swap: Swap) -> Iterator[Told]:
    for seen in seeing:
        if isinstance(seen, Told):
            yield seen
        elif not isinstance(may(TakeOut(swap.here(seen), True), seen), Refused):
            return


def _worth(client: Client, seen: Server, swap: Swap, place: str) -> dict[str, Any]:
    """What a drive that was taken out by mistake costs."""
    found, bay = assess(seen), place.rpartition("/")[2]
    hurt = [j for j in found.volumes.values() if any(s.bay == bay for s in j.gone)]
    return {"bay": bay, "serial": swap.before[place], "right": swap.bay,
            "margins": tuple((j.volume.name, j.margin) for j in hurt)}  # fmt: skip


def _way_back(client: Client, seen: Server, place: str) -> Iterator[Told]:
    """A drive that is back while a hot spare stands in its place: how its data get back onto it."""
    for f in assess(seen).findings:
        if f.code is Code.STOOD_IN_FOR and f.facts["drive"].place == tuple(place.rpartition("/")[::2]):
            yield Told("check", Tell.COPY_BACK, {"finding": f, "server": seen})


def _seat(client: Client, swap: Swap, options: Options, seeing: Seeing) -> Iterator[Told]:
    yield Told("wait", Tell.SEAT_NEW, {"bay": swap.bay, "best": options.best})
    strays: set[str] = set()
    before = set(swap.before.values())
    asked = False
    for seen in seeing:
        if isinstance(seen, Told):
            yield seen
            continue
        for d in seen.drives:
            serial = known(d.serial, "")
            if d.seated and serial and serial not in before | strays and d.place != (swap.enclosure, swap.bay):
                strays.add(serial)
                yield Told("alarm", Tell.STRAY, {"serial": serial, "found": d.bay, "bay": swap.bay})
        drive = swap.here(seen)
        serial = known(drive.serial, "?") if drive.seated else ""
        if serial == swap.serial and swap.serial and swap.serial != swap.incoming:
            swap.incoming = swap.serial
            yield Told("alarm", Tell.OLD_AGAIN, {"serial": serial})
        elif serial and seen.off:
            if not asked:
                asked = True
                yield Told("wait", Tell.POWER_ON)
        elif serial and serial not in (swap.serial, swap.incoming):
            swap.incoming = serial
            yield Told("step", Tell.HOLDS_NOW, {"bay": swap.bay, "drive": drive})
            swap.stage = "check"
            return
        elif not serial:
            swap.incoming = ""  # it came out again: the same one may come back


def _check(client: Client, swap: Swap, options: Options, seeing: Seeing) -> Iterator[Told]:
    seen = yield from _look(client, seeing)
    drive = swap.here(seen)
    listed = next((i for i in options.stock if i.serial == drive.serial), None)
    mine = tuple(u for u in drive.uses if u.volume_path not in swap.volumes)
    wanted = candidate(replace(drive, uses=mine), seen)
    if listed and listed.condition != "retired":
        wanted = replace(wanted, condition=listed.condition, note=listed.note)
    if options.overwrite or drive.uses != mine:
        wanted = replace(wanted, content="")
    fit = judge(swap.needs, wanted, options.known)
    for reason in fit.cannot:
        yield Told("alarm", Tell.WILL_NOT_DO, {"drive": drive, "reason": reason, "bay": swap.bay})
    if fit.cannot:
        swap.stage = "seat"
        return
    notes = tuple(r for r in fit.notes if r.why not in (Why.SAME_PART, Why.SAME_SIZE))
    past = past_of(client, drive)
    yield Told("check", Tell.FITS, {"drive": drive, "hours": past.hours, "errors": past.errors, "notes": notes})
    swap.stage = "rebuild"


def _rebuild(client: Client, swap: Swap, options: Options, seeing: Seeing) -> Iterator[Told]:
    pace, idle, last, asked = Pace(), 0, "", False
    first = yield from _look(client, seeing)
    alarmed = {d.path for d in first.drives if _sick(d)}
    if swap.incoming == swap.serial and swap.serial:
        yield Told("step", Tell.GOES_ON, {"swap": replace(swap), "seats": _seats(first, swap)})
        idle = PATIENCE  # nothing was changed: it does not begin by itself
    for seen in seeing:
        if isinstance(seen, Told):
            yield seen
            continue
        drive = swap.here(seen)
        if known(drive.serial, "?") != swap.incoming or not drive.seated:
            yield Told("alarm", Tell.GONE_AGAIN, {"serial": swap.incoming, "bay": swap.bay})
            swap.stage = "seat"
            return
        found = assess(seen)
        mine = [found.of(v) for v in seen.volumes if v.path in swap.volumes]
        for d in seen.drives:
            if d.seated and d.path not in alarmed and _sick(d):
                alarmed.add(d.path)
                margins = tuple((j.volume.name, j.margin) for j in mine)
                yield Told("alarm", Tell.ANOTHER_FAILS, {"drive": d, "margins": margins})
        broken = next((j for j in mine if j.state is State.OFFLINE), None)
        if broken:
            yield Told("alarm", Tell.OFFLINE, {"volume": broken.volume.name})
            return
        if all(_settled(seen, found, j.volume, swap) for j in mine):
            for j in mine:
                yield Told("step", Tell.WHOLE_AGAIN, {"volume": j.volume.name, "bay": swap.bay, "margin": j.margin})
                if j.lost:
                    swap.holds_only_copy = True
                    yield Told("alarm", Tell.BYTES_LOST, {"volume": j.volume.name, "bytes": total(j.lost),
                                                          "ranges": j.lost, "serial": swap.serial})  # fmt: skip
            swap.stage = "finish"
            return
        works = [w for j in mine for w in j.volume.work if w.kind in (WorkKind.REBUILD, WorkKind.COPY)
                 and (w.target == swap.bay or w.target is UNKNOWN)]  # fmt: skip
        if works:
            idle = 0
            if options.detach:
                yield Told("done", Tell.RUNS, {"work": works[0]})
                return
            measured = pace.of(seen, works[0], next(j.margin for j in mine if works[0] in j.volume.work))
            done = known(works[0].percent, 0.0)
            step = f"{works[0].key} {int(done // 5)}"
            if step != last:
                last = step
                note(swap.where, "progress", kind_of_work=works[0].kind.value, target=known(works[0].target, ""),
                     source=known(works[0].source, ""), volume=works[0].volume, percent=done,
                     server_time=seen.time)  # fmt: skip
                yield Told("progress", Tell.PROGRESS, {"progress": measured})
            continue
        idle += 1
        if idle >= PATIENCE and not asked:
            asked = True
            yield from _ask_for(client, seen, swap)
        elif idle >= 3 * PATIENCE:
            yield Told("alarm", Tell.NOTHING_BEGINS, {"bay": swap.bay})
            return


def _sick(d: Drive) -> bool:
    return d.seated and (answers(d) is not Answers.YES or d.predicted is True)


def _seats(seen: Server, swap: Swap) -> tuple[tuple[str, Maybe[int]], ...]:
    """(volume, bytes done) of the members that are not whole at the bay."""
    drive = swap.here(seen)
    return tuple((v.name, s.done) for v in seen.volumes for s in v.at(drive) if s.state is SeatState.REBUILDING)


def _ask_for(client: Client, seen: Server, swap: Swap) -> Iterator[Told]:
    """Ask the controller for the rebuild that did not begin by itself."""
    drive = swap.here(seen)
    for v in seen.volumes:
        lacking = v.homes(drive) or [s for s in v.at(drive) if s.state is not SeatState.ACTIVE]
        if v.path in swap.volumes and lacking:
            try:
                build.start_rebuild(client, v, drive)
            except WorkError as reason:
                yield Told("alarm", Tell.NOT_OFFERED, {"volume": v.name, "reason": reason.what, "to_do": reason.to_do})
                return
            yield Told("step", Tell.ASKED_FOR, {"volume": v.name})


def _settled(seen: Server, found: Assessment, volume: Volume, swap: Swap) -> bool:
    """Whether nobody is missing at a bay, nothing is being computed onto it, and no spare is used in its place."""
    drive = swap.here(seen)
    busy = any(w.target == swap.bay or (w.target is UNKNOWN and w.kind is WorkKind.REBUILD) for w in volume.work)
    if busy or any(s.stands_in == swap.bay for s in volume.seats):
        return False
    if not volume.ordered:
        return found.of(volume).state is State.OK
    mine = members_at(volume, drive)
    return not (mine & standing(seen, volume).gone) and not volume.homes(drive)


def _finish(client: Client, swap: Swap, options: Options, seeing: Seeing) -> Iterator[Told]:
    light(client, swap.path, False)
    seen = yield from _look(client, seeing)
    drive = swap.here(seen)
    if swap.was_spare and drive.free:
        serves = [v for v in seen.volumes if v.path in swap.spare_for]
        make_spare(client, drive, serves, True)
        yield Told("step", Tell.SPARE_AGAIN, {"bay": swap.bay})
        seen = yield from _look(client, seeing)
    note(swap.where, "swap", server=swap.server, bay=swap.bay, out=swap.serial, into=swap.incoming, why=swap.why,
         failed=swap.failed, began=swap.began, part=swap.part, model=swap.model, into_part=known(drive.part, ""),
         into_model=f"{known(drive.vendor, '')} {known(drive.model, '')}".strip(),
         into_hours=past_of(client, drive).hours)  # fmt: skip
    found = assess(seen)
    remember_state(client.where, found)
    lasted = (datetime.now(UTC) - datetime.fromisoformat(swap.began)).total_seconds()
    yield Told("done", Tell.DONE, {"swap": replace(swap), "seconds": lasted})
    for one in remains(found, options.advisories):
        yield Told("check", Tell.REMAINS, {"remaining": one, "server": seen})
    swap.stage = "away"
    swap.keep()
