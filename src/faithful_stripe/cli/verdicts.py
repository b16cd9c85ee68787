"""What was judged of a server, in words: findings, what to do about them, refusals, and what an allowed act costs."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from ..core.server.acts import Because, Cost, Costs, Refused
from ..core.server.condition import Judged
from ..core.server.findings import Code, Finding, Step, StepCode
from ..core.server.model import Server
from ..core.server.things import Condition, Drive, Operation, Seat, SeatState, Volume, WorkKind
from ..core.server.unknown import UNKNOWN
from ..core.units import chance, decimal_size
from .words import (
    bay_words,
    drive_words,
    fit_words,
    holds_words,
    margin_line,
    one_or,
    percent,
    ranges_words,
    said,
    seat_words,
    size,
    use_words,
    work_words,
    works_words,
)


def conditions_words(conditions: Iterable[Condition]) -> str:
    """What a server says of a trouble, in its own words."""
    return "; ".join(c.message.rstrip(".") for c in conditions if c.message)


def finding_words(seen: Server, f: Finding) -> str:
    """What is so."""
    return FINDINGS[f.code](seen, f)


def _offline(seen: Server, f: Finding) -> str:
    j: Judged = f.facts["judged"]
    away = ", ".join(seat_words(s) for s in j.gone)
    if j.volume.ordered and not away:
        return "offline: it cannot be read"
    return f"offline: it cannot be read, members {away or 'not known'} are missing"


def _degraded(seen: Server, f: Finding) -> str:
    j: Judged = f.facts["judged"]
    what = f"degraded, {margin_line(j)}"
    away = [s for s in j.gone if s.state is not SeatState.REBUILDING]
    if away:
        what += f"; missing: member {', '.join(seat_words(s) for s in away)}"
    if j.hidden:
        what += f"; {one_or(j.hidden, 'member')} more that the server does not list"
    if j.exposure:
        what += f"; chance of losing data until it is whole {chance(j.exposure.chance)}"
    return what


def _rebuilding(seen: Server, f: Finding) -> str:
    j: Judged = f.facts["judged"]
    works = [w for w in j.volume.work if w.kind in (WorkKind.REBUILD, WorkKind.COPY)]
    listed = ", ".join(f"{work_words(w)}: {percent(w)}" for w in works)
    if not j.gone:
        return f"{listed}; {margin_line(j)}"
    return f"{_degraded(seen, f)}; {listed}"


def _not_known(seen: Server, f: Finding) -> str:
    j: Judged = f.facts["judged"]
    if j.doubtful:
        listed = ", ".join(seat_words(s) for s in j.doubtful)
        return f"too little is known of member {listed} to count on it; {margin_line(j)}"
    return f"the server does not tell its health; {margin_line(j)}"


def _unfinished(seen: Server, f: Finding) -> str:
    seat: Seat = f.facts["seat"]
    done = "" if seat.done is UNKNOWN else f" at {size(seat.done)}"
    return f"{_degraded(seen, f)}; the rebuild of bay {seat.bay} ({said(seat.serial)}) was interrupted{done}"


def _initializing(seen: Server, f: Finding) -> str:
    work: Operation = f.facts["work"]
    foreground = work.method == "foreground"
    j: Judged = f.facts["judged"]
    what = "cannot be used until it is initialized" if foreground else "parity does not cover it all yet, margin 0"
    if not foreground and j.stretches and j.whole > 0:
        what += f" there and {j.whole} in what is covered"
    return f"{what}; {work_words(work)}: {percent(work)}"


def _drive_state(d: Drive) -> str:
    said_ = conditions_words(d.conditions)
    told = said_ or f"{said(d.health, 'health not told').lower()} ({said(d.state, 'state not told')})"
    led = f", its LED says {d.indicator}" if d.indicator == "Fail" and not said_ else ""
    use = use_words(d)
    return f"{drive_words(d)}: {told}{led}" + (f", {use}" if use != "free" else "")


def _part(seen: Server, f: Finding) -> str:
    told, state = conditions_words(f.facts["conditions"]), f.facts["state"]
    why = f": {told}" if told else "; it does not tell why" if state in ("", "Enabled") else f": its state is {state}"
    return f"{f.severity}, says the server{why}"


def _spare(seen: Server, f: Finding) -> str:
    d: Drive = f.facts["drive"]
    listed = "; ".join(f"{v.name}: {', '.join(fit_words(fit))}" for v, fit in f.facts["unfit"])
    none = f.code is Code.SPARE_UNFIT
    return f"hot spare {said(d.serial)} {'would serve no volume' if none else 'serves this one badly'} ({listed})"


def _found(seen: Server, f: Finding) -> str:
    one = f.facts["found"]
    here = sum(m.state == "current" for m in one.members)
    what = f"a set-up this controller does not know: volume {one.name}, {one.level}, "
    what += f"{'unknown size' if one.size is None else decimal_size(one.size)}, by {one.writer}; "
    what += f"{here} of {len(one.members)} members usable"
    return f"{what}; {one.trouble}" if one.trouble else what


def _lid(seen: Server, f: Finding) -> str:
    warm = ", ".join(bay_words(d) for d in f.facts["warm"])
    return "the chassis is open" + (f", and drives are warming up: {warm}" if warm else "")


FINDINGS: dict[Code, Callable[[Server, Finding], str]] = {
    Code.VOLUME_OFFLINE: _offline,
    Code.VOLUME_LOST: lambda s, f: (
        f"{f.facts['bytes']} bytes can be neither read nor computed: bytes {ranges_words(f.facts['ranges'])}"
    ),
    Code.VOLUME_DEGRADED: _degraded,
    Code.VOLUME_UNFINISHED: _unfinished,
    Code.VOLUME_WEAK: lambda s, f: (
        f"{f.facts['bytes']} bytes have margin {f.facts['judged'].margin} only, since sectors of a member cannot be "
        f"read: bytes {ranges_words(f.facts['ranges'])}"
    ),
    Code.VOLUME_INCONSISTENT: lambda s, f: (
        f"a check found copies or parity that do not agree in {f.facts['bytes']} bytes: bytes "
        f"{ranges_words(f.facts['ranges'])}"
    ),
    Code.VOLUME_UNWELL: lambda s, f: (
        f"{said(f.facts['judged'].volume.health, 'not well')}, says the server, and not why; "
        f"{margin_line(f.facts['judged'])}"
    ),
    Code.VOLUME_NOT_KNOWN: _not_known,
    Code.VOLUME_REBUILDING: _rebuilding,
    Code.VOLUME_INITIALIZING: _initializing,
    Code.DRIVE_FAILED: lambda s, f: _drive_state(f.facts["drive"]),
    Code.DRIVE_OFFLINE: lambda s, f: _drive_state(f.facts["drive"]),
    Code.DRIVE_UNWELL: lambda s, f: _drive_state(f.facts["drive"]),
    Code.DRIVE_PREDICTED: lambda s, f: (
        f"{drive_words(f.facts['drive'])} predicts its failure, {use_words(f.facts['drive'])}"
    ),
    Code.DRIVE_WORN: lambda s, f: (
        f"{drive_words(f.facts['drive'])}: its media life is used up ({f.facts['drive'].media_life:.0f} % left), "
        f"{use_words(f.facts['drive'])}"
    ),
    Code.DRIVE_UNREADABLE: lambda s, f: f"{drive_words(f.facts['drive'])} has {f.facts['bytes']} unreadable bytes",
    Code.DRIVE_FLAPPING: lambda s, f: (
        f"the link of {drive_words(f.facts['drive'])} was lost {one_or(f.facts['count'], 'time')} within a day"
    ),
    Code.DRIVE_SLOW: lambda s, f: (
        f"{drive_words(f.facts['drive'])} works at a {_nth(f.facts['factor'])} of its pace and holds the others back, "
        f"{use_words(f.facts['drive'])}"
    ),
    Code.CACHE_UNPROTECTED: lambda s, f: (
        (f"its writes are acknowledged from a cache, and the {f.facts['battery'].kind} that keeps it is not well"
         if f.facts["battery"] else "its writes are acknowledged from a cache that nothing keeps")
        + ": a loss of power loses them"
    ),
    Code.PART_UNWELL: _part,
    Code.ROLLUP_UNEXPLAINED: lambda s, f: (
        f"its roll-up says {f.severity}, and no part of it that was read says why"
    ),
    Code.NO_STORAGE: lambda s, f: "it tells of no storage: nothing of what it holds is known",
    Code.SERVER_OFF: lambda s, f: "the server is off; what follows is what was known last",
    Code.LID_OPEN: _lid,
    Code.CONTROLLER_DIRECT: lambda s, f: "offers no volumes: its drives are presented one by one",
    Code.SPARE_UNFIT: _spare,
    Code.SPARE_POOR: _spare,
    Code.STOOD_IN_FOR: lambda s, f: (
        f"{drive_words(f.facts['drive'])} works, but the hot spare in bay {f.facts['use'].bay} is used in its place in "
        f"{f.facts['use'].volume}"
    ),
    Code.FOUND: _found,
    Code.GAP: lambda s, f: f"it could not be read: {f.facts['reason']}",
}  # fmt: skip


def _nth(factor: float) -> str:
    return {2: "half", 3: "third", 4: "quarter", 5: "fifth", 10: "tenth"}.get(round(factor), f"1/{factor:.0f}")


# what to do -------------------------------------------------------------------------------------


def step_words(seen: Server, step: Step | None) -> str:
    """What to do next."""
    return STEPS[step.code](seen, step) if step else "look at the server's own console"


def _bring_back(seen: Server, step: Step) -> str:
    seats: tuple[Seat, ...] = step.facts["seats"]
    if not seats:
        return "bring its missing members back as they were; create nothing new"
    listed = ", ".join(f"bay {s.bay} ({said(s.serial, 'serial not known')})" for s in seats)
    seated = [s for s in seats if seen.seated_at(s)]
    verb = "reseat" if seated else "seat again"
    many = ""
    if 0 < step.facts["enough"] < len(seats):
        many = f" ({'one' if step.facts['enough'] == 1 else step.facts['enough']} of them is enough)"
    return f"{verb} the drive of {listed}, as it was{many}; do not replace it, create nothing new"


def _replace(seen: Server, step: Step) -> str:
    drive: Drive | None = step.facts.get("drive")
    seat: Seat | None = step.facts.get("seat")
    if drive is None and seat is not None:
        return f"replace the missing member's drive: fstripe swap {seat.bay or said(seat.serial)}"
    if drive is None:
        return "replace the missing member's drive"
    return f"replace {bay_words(drive)}: fstripe swap {drive.bay}"


def _copy_first(seen: Server, step: Step) -> str:
    drive: Drive = step.facts["drive"]
    onto: Drive | None = step.facts.get("onto")
    volume: Volume | None = step.facts.get("volume")
    if step.facts.get("backup"):
        return f"copy what {volume.name if volume else 'it'} holds to somewhere else; it has no redundancy"
    if onto and volume:
        return (f"fstripe spare add {onto.bay} --for {volume.name}, watch the copy, then swap {drive.bay}; "
                f"or --now to do without")  # fmt: skip
    return "leave it seated; add a hot spare and its data are copied off it while it still works"


def _wait(seen: Server, step: Step) -> str:
    return f"wait until this is done: {works_words(step.facts['work'])} (fstripe watch); pull nothing"


def _adopt(seen: Server, step: Step) -> str:
    one = step.facts["found"]
    if one.trouble:
        return f"{one.advice}, or forget it: volume forget {one.name}"
    return f"look at it: volume found; adopt it: volume adopt {one.name}; forget it: volume forget {one.name}"


STEPS: dict[StepCode, Callable[[Server, Step], str]] = {
    StepCode.BRING_BACK: _bring_back,
    StepCode.LEAVE_SEATED: lambda s, t: "leave it seated: a volume needs it",
    StepCode.WAIT_FOR_WORK: _wait,
    StepCode.REPLACE: _replace,
    StepCode.AFTER_WORK: lambda s, t: (
        f"not before {works_words(t.facts['work'])} is done; then {step_words(s, t.facts['then'])}"
    ),
    StepCode.RESUME_REBUILD: lambda s, t: (
        f"fstripe volume rebuild {t.subject.name} --onto {t.facts['seat'].bay}: it continues onto the same drive"
    ),
    StepCode.REPAIR: lambda s, t: (
        f"fstripe volume check {t.subject.name} --repair: writes anew what redundancy covers; replace the drive if "
        "more follow"
    ),
    StepCode.COPY_FIRST: _copy_first,
    StepCode.RESTORE: lambda s, t: "restore them from a backup: writing them anew repairs the volume",
    StepCode.TAKE_OUT: lambda s, t: f"take {bay_words(t.facts['drive'])} out: nothing is on it",
    StepCode.RESEAT: lambda s, t: f"reseat {bay_words(t.facts['drive'])}; then look at cable and backplane",
    StepCode.COPY_BACK: lambda s, t: (
        f"copy back onto it: fstripe volume rebuild {t.facts['volume'].name if t.facts['volume'] else '?'} --onto "
        f"{t.facts['drive'].bay}"
    ),
    StepCode.FOLLOW_SERVER: lambda s, t: (
        "; ".join(c.resolution.rstrip(".") for c in t.facts.get("conditions", ()) if c.resolution)
        or "look at the server's own console and log"
    ),
    StepCode.LOOK: lambda s, t: "look at the server's own console; count on nothing until it is known",
    StepCode.RESTORE_POWER: lambda s, t: "restore the power, then look again",
    StepCode.CLOSE_LID: lambda s, t: "close it: the drives are cooled badly while it is open",
    StepCode.WRITE_THROUGH: lambda s, t: (
        f"until it is well: `volume set {t.subject.name} --write-cache through`"
    ),
    StepCode.SET_STORAGE_MODE: lambda s, t: (
        "set the storage mode: `firmware show`, `firmware set`, `firmware restart`"
    ),
    StepCode.CHOOSE_SPARE: lambda s, t: f"choose another one: fstripe spare remove {t.facts['drive'].bay}",
    StepCode.ADOPT_OR_FORGET: _adopt,
}  # fmt: skip


# refusals ---------------------------------------------------------------------------------------


def refusal_words(seen: Server, no: Refused) -> tuple[str, str]:
    """What would happen, and what comes first."""
    return REFUSALS[no.because](no.facts), step_words(seen, no.first)


def _loses(facts: dict[str, Any]) -> str:
    d: Drive = facts["drive"]
    return f"taking {bay_words(d)} out now loses volume {facts['volume'].name}: its margin is {facts['margin']}"


def _seats(seats: tuple[Seat, ...]) -> str:
    return ", ".join(f"bay {s.bay} ({said(s.serial, 'serial not known')})" for s in seats)


REFUSALS: dict[Because, Callable[[dict[str, Any]], str]] = {
    Because.LOSES_VOLUME: _loses,
    Because.LOSES_RANGES: lambda x: (
        f"taking {bay_words(x['drive'])} out now loses {x['bytes']} bytes of volume {x['volume'].name}: bytes "
        f"{ranges_words(x['ranges'])} have no other copy"
    ),
    Because.NEEDED_TO_RETURN: lambda x: (
        f"volume {x['volume'].name} is offline and returns only with its members: {bay_words(x['drive'])} is not "
        "replaced now"
    ),
    Because.REDUNDANCY_NOT_KNOWN: lambda x: (
        f"the server does not tell that volume {x['volume'].name} survives without {bay_words(x['drive'])}: what is "
        "not known to be redundant is not"
    ),
    Because.NOT_OFFLINE: lambda x: f"volume {x['volume'].name} can be read: there is nothing to force",
    Because.MEMBERS_AWAY: lambda x: f"members that are up to date are not there: {_seats(x['seats'])}",
    Because.OUT_OF_DATE: lambda x: (
        f"the volume was written while these members were away: {_seats(x['seats'])}; using them mixes old bytes with "
        "new ones"
    ),
    Because.CURRENCY_NOT_KNOWN: lambda x: (
        f"the server does not tell whether these members are up to date: {_seats(x['seats'])}"
    ),
    Because.USE_NOT_KNOWN: lambda x: (
        f"what {bay_words(x['drive'])} is used for is not known: volumes or their members could not be read"
    ),
    Because.BEING_COPIED: lambda x: (
        f"the data of bay {x['drive'].bay} are being copied off it ({x['volume'].name}: {percent(x['work'])})"
    ),
    Because.COPY_FIRST: lambda x: (
        f"{bay_words(x['drive'])} still works: its data can be copied off it, and "
        f"{', '.join(v.name for v in x['volumes'])} keeps its margin"
    ),
}  # fmt: skip


def cost_words(cost: Cost) -> str:
    """What an allowed act costs all the same."""
    x = cost.facts
    if cost.code is Costs.MARGIN_FALLS:
        left = "no further failure is survived" if x["after"] == 0 else f"{x['after']} more"
        return f"the margin of {x['volume'].name} falls from {x['before']} to {x['after']}: {left}"
    if cost.code is Costs.HEALTHY_DRIVE:
        return f"{bay_words(x['drive'])} is healthy: nothing says that it must be replaced"
    if cost.code is Costs.HOLDS_DATA:
        content = x["drive"].content
        return f"{bay_words(x['drive'])} is in no volume; what it holds: {holds_words(content, 'nothing')}"
    if cost.code is Costs.WORK_STOPS:
        return f"{x['volume'].name}: {work_words(x['work'])} ({percent(x['work'])}) stops"
    if cost.code is Costs.SPARE_LESS:
        return f"{bay_words(x['drive'])} is a hot spare no more"
    if cost.code is Costs.POWER_OFF_FIRST:
        return "drives of this chassis must not be changed while the server is on"
    if cost.code is Costs.MEMBER_DROPS:
        return f"{x['volume'].name}: the drive in bay {x['drive'].bay} is away for a moment, margin {x['after']} then"
    return cost.code.value
