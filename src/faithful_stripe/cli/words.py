"""Codes and values in words: the one room where sentences about a server are made. Nothing reads them back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from ..core.server.condition import Judged, State
from ..core.server.findings import Subject
from ..core.server.fitness import Fit, Reason, Why
from ..core.server.model import Server
from ..core.server.things import Drive, Health, Operation, Seat, Use, UseKind, Volume, WorkKind
from ..core.server.unknown import UNKNOWN, Maybe
from ..core.units import binary_size, decimal_size
from ..work.firmware import Effect

MOST = 3
"""Ranges that are named one by one in a sentence."""


def said(value: Maybe[object], otherwise: str = "not known") -> str:
    """A fact as text."""
    return otherwise if value is UNKNOWN else str(value)


def size(value: Maybe[int] | None, otherwise: str = "size not known") -> str:
    """A size in decimal units."""
    return otherwise if value is UNKNOWN or value is None else decimal_size(value)


def strip(value: Maybe[int], otherwise: str = "?") -> str:
    """A strip size in binary units."""
    return otherwise if value is UNKNOWN else binary_size(value)


def percent(work: Operation) -> str:
    """How far work is."""
    return "progress not known" if work.percent is UNKNOWN else f"{work.percent:.0f} %"


def drive_name(d: Drive) -> str:
    """Maker and model."""
    return f"{said(d.vendor, '')} {said(d.model, '')}".strip() or "model not known"


def drive_words(d: Drive) -> str:
    """A drive by its serial number, or what stands for that."""
    return f"drive {d.serial}" if d.serial is not UNKNOWN else "the drive (serial number not known)"


def bay_words(d: Drive) -> str:
    """A bay with its drive's serial number, as whoever stands there needs it."""
    return f"bay {d.bay} ({said(d.serial, 'serial not known' if d.seated else 'empty')})"


def seat_words(s: Seat) -> str:
    """A member place: number, bay, serial number."""
    return f"{s.position} (bay {s.bay or '-'}, {said(s.serial, 'serial not known')})"


def ranges_words(ranges: Sequence[tuple[int, int]]) -> str:
    """Ranges in bytes, the first few."""
    listed = ", ".join(f"{a} to {b}" for a, b in ranges[:MOST])
    more = len(ranges) - MOST
    return listed + (f" and {more} more ranges" if more > 0 else "")


def one_or(count: int, thing: str) -> str:
    """A count with its noun."""
    return f"{count} {thing}{'' if count == 1 else 's'}"


def work_words(work: Operation) -> str:
    """What kind of work, and where."""
    target, source = said(work.target, ""), said(work.source, "")
    if work.kind is WorkKind.REBUILD:
        return f"rebuild of bay {target}" if target else "rebuild (the server does not tell of which member)"
    if work.kind is WorkKind.COPY:
        return f"copy from bay {source or '?'} to bay {target or '?'}"
    if work.kind is WorkKind.INITIALIZE:
        return f"{said(work.method, '')} initialization".strip()
    return "consistency check" if work.kind is WorkKind.CHECK else work.word or "work"


def works_words(works: Iterable[Operation]) -> str:
    """Work with how far it is."""
    return ", ".join(f"{w.volume}: {work_words(w)} {percent(w)}" for w in works)


def volume_words(seen: Server, v: Volume) -> str:
    """A volume by its name, with what tells it from others of that name, or at other controllers."""
    return where_words(seen, Subject("volume", v.name, v.path, v.controller)).removeprefix("volume ")


# uses -------------------------------------------------------------------------------------------


def use_words(d: Drive) -> str:
    """What a drive is used for."""
    if d.present is False:
        return "empty"
    if not d.uses:
        return "free" if d.present is True else "not known"
    texts: list[str] = []
    for kind, words in (
        (UseKind.MEMBER, "member{at} of {names}"),
        (UseKind.FORMER_MEMBER, "was member{at} of {names}"),
        (UseKind.COPY_TARGET, "being copied onto for {names}"),
    ):
        by_position: dict[str, list[str]] = {}
        for u in d.used_as(kind):
            by_position.setdefault("" if u.position is UNKNOWN else f" {u.position}", []).append(u.volume)
        texts += [words.format(at=at, names=", ".join(names)) for at, names in by_position.items()]
    texts += ["not known"] if d.used_as(UseKind.NOT_KNOWN) else []
    texts += [f"bay {u.bay} is used in its place" for u in d.used_as(UseKind.STOOD_IN_FOR)]
    spare = spare_words(d)
    if spare:
        return f"{'; '.join(texts)} (hot spare, {spare})" if texts else f"hot spare, {spare}"
    return "; ".join(texts)


def spare_words(d: Drive) -> str:
    """What kind of hot spare a drive is; "" for none."""
    mine = d.used_as(UseKind.GLOBAL_SPARE, UseKind.DEDICATED_SPARE)
    if not mine:
        return ""
    names = [u.volume for u in mine if u.volume]
    dedicated = f"dedicated to {', '.join(names)}" if names else "dedicated, to which volume is not known"
    kind = "global" if mine[0].kind is UseKind.GLOBAL_SPARE else dedicated
    return kind + (", not revertible" if d.spare_reverts is False else "")


def short_use(d: Drive) -> str:
    """A drive's use in few letters, for the panel: volume and number, or what else it is."""
    members: tuple[Use, ...] = d.used_as(UseKind.MEMBER, UseKind.FORMER_MEMBER)
    if members:
        first = members[0]
        more = f" +{len(members) - 1}" if len(members) > 1 else ""
        return f"{first.volume} {said(first.position, '')}".rstrip() + more
    if d.used_as(UseKind.GLOBAL_SPARE, UseKind.DEDICATED_SPARE):
        return "hot spare"
    if d.used_as(UseKind.COPY_TARGET):
        return "copied onto"
    if d.used_as(UseKind.NOT_KNOWN):
        return "not known"
    return "spare used" if d.uses else "free" if d.present is True else "?"


# volumes ----------------------------------------------------------------------------------------


def margin_words(j: Judged) -> str:
    """A margin in a table's cell."""
    if j.margin < 0:
        return "offline"
    if not j.certain:
        return f"{j.margin} (not known)"
    return f"{j.margin}"


def margin_line(j: Judged) -> str:
    """A margin as a sentence says it, with what is behind it."""
    if j.margin < 0:
        return "margin none: it cannot be read"
    takes = "no further failure" if j.margin == 0 else f"{j.margin} more"
    if not j.certain:
        return f"margin {j.margin}: the server does not tell of any redundancy to count on"
    if j.margin < j.whole:
        less = sum(s.end - s.start for s in j.stretches if 0 <= s.margin < j.whole)
        return f"margin {j.margin} in {less} bytes, {j.whole} elsewhere"
    more = [s for s in j.stretches if s.margin > j.whole]
    covered = f"; margin {more[0].margin} in what is rebuilt already" if more else ""
    return f"margin {j.margin} (it survives {takes}){covered}"


def state_style(j: Judged) -> str:
    """How a volume's state is shown: as a severity."""
    if j.state in (State.OFFLINE, State.LOST):
        return Health.CRITICAL.value
    return Health.OK.value if j.state is State.OK else Health.WARNING.value


def holds_words(content: Maybe[str], nothing: str = "nothing yet") -> str:
    """What a volume or drive holds."""
    return "not known" if content is UNKNOWN else content or nothing


def where_words(seen: Server, subject: Subject) -> str:
    """What a finding is about."""
    several = len({c.id for c in seen.controllers}) > 1
    if subject.kind == "drive":
        twice = [d.path for d in seen.drives if d.bay == subject.name]
        other = next((d.enclosure for d in seen.drives if d.path == subject.path), "")
        return f"bay {subject.name} of {other}" if len(twice) > 1 else f"bay {subject.name}"
    if subject.kind == "volume":
        alike = [v for v in seen.volumes if v.name == subject.name]
        if len(alike) > 1 and len({v.controller for v in alike}) < len(alike):
            return f"volume {subject.name} ({subject.path})"
        return f"volume {subject.name} ({subject.controller})" if several else f"volume {subject.name}"
    if subject.kind == "server":
        return subject.name
    if subject.kind == "path":
        return f"resource {subject.path}"
    if subject.kind == "found":
        one = next(f for f in seen.found_volumes if f.path == subject.path and f.name == subject.name)
        where = f"bays {', '.join(m.bay for m in one.members if m.bay)}"
        return f"{where} ({subject.controller})" if several else where
    return f"{subject.kind} {subject.name}"


def effect_words(effect: Effect) -> str:
    """What a firmware setting brings about."""
    return effect.words


# what fits --------------------------------------------------------------------------------------

REASONS: dict[Why, Callable[[dict[str, Any]], str]] = {
    Why.FAILED: lambda x: "it does not answer, or has failed",
    Why.PREDICTED: lambda x: "it predicts its own failure",
    Why.WORN: lambda x: f"its media life is used up ({x['left']:.0f} % left)",
    Why.CONDITION: lambda x: f"{x['condition']}{': ' + x['note'] if x['note'] else ''}",
    Why.KNOWN_FAILED: lambda x: f"known to have failed: {x['known']}",
    Why.TOO_SMALL: lambda x: f"too small: {decimal_size(x['missing'])} are missing",
    Why.SIZE_NOT_KNOWN: lambda x: "its size is not known",
    Why.MEDIA: lambda x: f"{x['found']}, the others are {x['others']}",
    Why.SECTOR: lambda x: f"sectors of {x['found']} bytes, the others have {x['others']}",
    Why.INTERFACE: lambda x: f"{x['found']} does not go into a bay for {x['others']}",
    Why.CONTROLLER: lambda x: f"it is at controller {x['found']}, the others at {x['others']}",
    Why.IN_USE: lambda x: "it is in use",
    Why.FOUND: lambda x: f"it belongs to volume {x['volume']} of another controller",
    Why.HOLDS_DATA: lambda x: f"it holds something: {x['content']}",
    Why.CONTENT_NOT_KNOWN: lambda x: "what it holds is not known",
    Why.SLIGHTLY_SMALLER: lambda x: f"{decimal_size(x['missing'])} smaller by its label: the controller may refuse it",
    Why.MEDIA_NOT_KNOWN: lambda x: "whether it is HDD or SSD is not known",
    Why.SECTOR_EMULATED: lambda x: "it emulates sectors of 512 bytes (512e): small writes are slower",
    Why.PROTOCOL_DIFFERS: lambda x: f"{x['found']} instead of {x['others']}",
    Why.LARGER: lambda x: f"larger: {decimal_size(x['unused'])} of it stay unused",
    Why.SLOWER: lambda x: f"slower: {x['rpm']} instead of {x['others']} rpm, it holds the whole array back",
    Why.FASTER: lambda x: f"faster: {x['rpm']} instead of {x['others']} rpm",
    Why.USED: lambda x: "used",
    Why.SAME_PART: lambda x: "the same part number",
    Why.SAME_SIZE: lambda x: "as large",
}  # fmt: skip


def reason_words(reason: Reason) -> str:
    """One thing that speaks for or against a drive."""
    return REASONS[reason.why](reason.facts)


def fit_words(fit: Fit) -> list[str]:
    """Why a drive cannot be taken; else what follows from taking it."""
    return [reason_words(r) for r in fit.cannot or fit.notes if r.why is not Why.SAME_SIZE]
