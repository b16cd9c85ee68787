"""What is told while something is followed or guided, in words."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.units import decimal_size, duration
from ..work.advisories import Fault
from ..work.judging import FirmwareDiffers, NoSpare, Remaining
from ..work.seeing import Tell, Told
from ..work.watch import Progress
from .verdicts import finding_words, refusal_words, step_words
from .words import drive_name, one_or, percent, ranges_words, reason_words, said, size, where_words, work_words

Words = tuple[str, str]
"""What is so, and what to do."""


def told_words(told: Told) -> Words:
    """One thing that is told, as a sentence and what to do."""
    return TELLINGS[told.code](told.facts)


def _take_out(x: dict[str, Any]) -> Words:
    s = x["swap"]
    lit = "its LED blinks" if not x["led"] else f"its LED could not be lit ({x['led']}): count the bays"
    parts = [f"take out bay {s.bay}: {s.model}", decimal_size(s.size) if s.size else "", f"serial {s.serial}"]
    parts += [f"part {s.part}"] if s.part else []
    return f"{', '.join(p for p in parts if p)}; {lit}", "hold its label against the serial number before you pull"


def _margins(margins: tuple[tuple[str, int], ...]) -> str:
    return ", ".join(f"{name} cannot be read" if m < 0 else f"{name} margin {m}" for name, m in margins)


def _wrong_bay(x: dict[str, Any]) -> Words:
    listed = ", ".join(
        f"{name} cannot be read until then" if m < 0 else f"{name} margin {m}" for name, m in x["margins"]
    )
    to_do = f"put it back at once, into bay {x['bay']}" + (f" ({listed})" if listed else "")
    return f"that was bay {x['bay']} ({x['serial']}), not bay {x['right']}", to_do


def _leave(x: dict[str, Any]) -> Words:
    what, to_do = refusal_words(x["server"], x["refusal"])
    return f"leave bay {x['bay']} seated: {what}", to_do


def _copy_back(x: dict[str, Any]) -> Words:
    f = x["finding"]
    return f"{where_words(x['server'], f.subject)}: {finding_words(x['server'], f)}", step_words(x["server"], f.step)


def _fits(x: dict[str, Any]) -> Words:
    d, hours = x["drive"], x["hours"]
    used = "" if hours is None else f", {hours} hours of use" if hours else ", no hours of use"
    if x["errors"]:
        used += f", {one_or(x['errors'], 'error')} counted that it could not correct"
    notes = "".join(f"; {reason_words(r)}" for r in x["notes"])
    what = f"{said(d.serial)} fits: {size(d.size)} {said(d.media, '')}, sectors of {said(d.sector, '?')}, "
    return f"{what}health {said(d.health, 'not told')}{used}{notes}", ""


def _fails(x: dict[str, Any]) -> Words:
    d = x["drive"]
    what = "predicts its failure" if d.predicted is True else "has failed"
    return (
        f"bay {d.bay}: {said(d.serial)} {what} meanwhile ({_margins(x['margins'])})",
        "pull nothing: let the work end, replace that one next",
    )


def _goes_on(x: dict[str, Any]) -> Words:
    s = x["swap"]
    listed = ", ".join(f"{name} at {size(done, 'a place that is not known')}" for name, done in x["seats"])
    what = f"bay {s.bay} holds a good drive ({s.serial}) whose rebuild was interrupted ({listed}): it continues"
    return what, "pull nothing; to replace it all the same: --give-up, then swap --now"


def progress_words(now: Progress) -> str:
    """How far work is, at what pace, and what is left."""
    done = "progress not known" if not isinstance(now.work.percent, float) else f"{now.work.percent:.1f} %"
    parts = [f"{now.work.volume}: {work_words(now.work)} {done}"]
    if now.rate:
        parts.append(f"{decimal_size(int(now.rate))}/s")
    if now.left is not None:
        parts.append(f"{duration(now.left)} left")
    return ", ".join([*parts, f"margin now {now.margin}"])


def _done(x: dict[str, Any]) -> Words:
    s = x["swap"]
    lasted = duration(x["seconds"])
    if s.incoming == s.serial:
        return f"bay {s.bay}: {s.serial} is a whole member again, after {lasted}", ""
    return f"bay {s.bay}: {s.serial or 'nothing'} out, {s.incoming} in, after {lasted}", ""


def remaining_words(server: Any, one: Remaining) -> str:
    """What is still to be done."""
    if isinstance(one, NoSpare):
        return "there is no hot spare: the next failure waits for a person (fstripe spare add BAY)"
    if isinstance(one, FirmwareDiffers):
        return f"drives {one.model} run different firmware ({', '.join(one.versions)}): bring them to the newest"
    if isinstance(one, Fault):
        place = one.controller or (f"bays {', '.join(one.bays)}" if len(one.bays) > 1 else f"bay {one.bays[0]}")
        a = one.advisory
        return f"{place}: {a.model} has a known fault ({a.what}), fixed in firmware {a.fixed_in}"
    return f"{where_words(server, one.subject)}: {finding_words(server, one)}; {step_words(server, one.step)}"


TELLINGS: dict[Tell, Callable[[dict[str, Any]], Words]] = {
    Tell.NO_ANSWER: lambda x: ("the server does not answer", "waiting for it; touch nothing until it is back"),
    Tell.SERVER_OFF: lambda x: ("the server is off", "waiting until it is on again: work continues then"),
    Tell.ANSWERS_AGAIN: lambda x: ("the server answers again", ""),
    Tell.LED_ELSEWHERE: lambda x: (
        f"the identify LED of bay {', '.join(x['bays'])} blinks, too",
        "that is not the drive; switch it off: locate --off",
    ),
    Tell.GOES_ON: _goes_on,
    Tell.POWER_OFF: lambda x: (
        "switch the server off: drives of this chassis must not be changed while it is on",
        "shut its system down in order first",
    ),
    Tell.POWER_ON: lambda x: ("switch the server on again", "it is read anew then"),
    Tell.HOT_SWAP_NOT_KNOWN: lambda x: (
        "the server does not tell whether drives may be changed while it is on", "look at the chassis' label first"
    ),
    Tell.TAKE_OUT: _take_out,
    Tell.WRONG_BAY: _wrong_bay,
    Tell.BACK: lambda x: (f"bay {x['bay']} is back: {x['serial']}", ""),
    Tell.COPY_BACK: _copy_back,
    Tell.HAS_LEFT: lambda x: (f"{x['serial']} has left bay {x['bay']}: the right one", ""),
    Tell.LEAVE_SEATED: _leave,
    Tell.NOW_SAFE: lambda x: (f"now bay {x['bay']} ({x['serial']}) may come out", ""),
    Tell.SEAT_NEW: lambda x: (
        f"seat the new drive in bay {x['bay']}"
        + (f"; the best in stock: {x['best'].serial}, {x['best'].model}" if x["best"] else ""),
        "push it in until it locks",
    ),
    Tell.STRAY: lambda x: (
        f"drive {x['serial']} was seated in bay {x['found']}, not in bay {x['bay']}",
        f"take it out of bay {x['found']} and seat it in bay {x['bay']}",
    ),
    Tell.OLD_AGAIN: lambda x: (f"that is the old drive again, {x['serial']}", "take it out, seat the new one"),
    Tell.HOLDS_NOW: lambda x: (f"bay {x['bay']} holds {said(x['drive'].serial)} now: {drive_name(x['drive'])}", ""),
    Tell.WILL_NOT_DO: lambda x: (
        f"{said(x['drive'].serial)} will not do: {reason_words(x['reason'])}",
        f"take it out of bay {x['bay']}, seat another one",
    ),
    Tell.FITS: _fits,
    Tell.GONE_AGAIN: lambda x: (f"{x['serial']} is gone from bay {x['bay']}", "seat it again, or another one"),
    Tell.ANOTHER_FAILS: _fails,
    Tell.OFFLINE: lambda x: (
        f"volume {x['volume']} is offline", "stop here: bring a missing member back as it was, replace nothing"
    ),
    Tell.BYTES_LOST: lambda x: (
        f"{x['bytes']} bytes of volume {x['volume']} could not be rebuilt: bytes {ranges_words(x['ranges'])}",
        f"keep {x['serial'] or 'the old drive'}: it may hold the only copy; restore them from a backup",
    ),
    Tell.WHOLE_AGAIN: lambda x: (
        f"volume {x['volume']} has its member in bay {x['bay']} again: margin {x['margin']}", ""
    ),
    Tell.RUNS: lambda x: (f"{work_words(x['work'])} runs ({percent(x['work'])})", "follow it: fstripe swap --resume"),
    Tell.PROGRESS: lambda x: (progress_words(x["progress"]), ""),
    Tell.ASKED_FOR: lambda x: (
        f"the controller did not begin by itself: the rebuild of {x['volume']} was asked for", ""
    ),
    Tell.NOT_OFFERED: lambda x: (x["reason"], x["to_do"]),
    Tell.NOTHING_BEGINS: lambda x: (
        f"no rebuild onto bay {x['bay']} begins", "look at `log`; then fstripe swap --resume"
    ),
    Tell.SPARE_AGAIN: lambda x: (f"bay {x['bay']} is a hot spare again", ""),
    Tell.DONE: _done,
    Tell.REMAINS: lambda x: (remaining_words(x["server"], x["remaining"]), ""),
}  # fmt: skip
