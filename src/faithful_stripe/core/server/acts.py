"""Whether an act that can hurt may be done now: allowed, with what it costs, or refused, with what comes first.

One rule carries all of it: an act is judged by the margins that would be left, and what is not known to be redundant
is not redundant.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from itertools import combinations
from typing import Any

from ..arrays.margin import margin
from ..ranges import subtract, total, union
from .findings import Step, StepCode, of_drive, of_volume
from .fitness import fit, need_of, sound
from .model import Server
from .redundancy import Answers, answers, layout_of, margin_now, margin_without, members_at, offline, standing, survives
from .stretches import stretches
from .things import Drive, Seat, SeatState, UseKind, Volume, WorkKind
from .unknown import UNKNOWN, known


class Because(StrEnum):
    """Why an act is refused."""

    LOSES_VOLUME = "loses-volume"
    LOSES_RANGES = "loses-ranges"
    NEEDED_TO_RETURN = "needed-to-return"
    USE_NOT_KNOWN = "use-not-known"
    REDUNDANCY_NOT_KNOWN = "redundancy-not-known"
    BEING_COPIED = "being-copied"
    COPY_FIRST = "copy-first"
    NOT_OFFLINE = "not-offline"
    MEMBERS_AWAY = "members-away"
    OUT_OF_DATE = "out-of-date"
    CURRENCY_NOT_KNOWN = "currency-not-known"


class Costs(StrEnum):
    """What an allowed act costs all the same."""

    MARGIN_FALLS = "margin-falls"
    WORK_STOPS = "work-stops"
    HOLDS_DATA = "holds-data"
    SPARE_LESS = "spare-less"
    HEALTHY_DRIVE = "healthy-drive"
    POWER_OFF_FIRST = "power-off-first"
    MEMBER_DROPS = "member-drops"


@dataclass(frozen=True)
class Cost:
    """One cost of an allowed act, with its facts."""

    code: Costs
    facts: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Allowed:
    """It may be done; `costs` must be said, and where there are some be agreed to."""

    costs: tuple[Cost, ...] = ()


@dataclass(frozen=True)
class Refused:
    """It must not be done now: why, with facts, and what comes first (None: there is no way)."""

    because: Because
    facts: dict[str, Any]
    first: Step | None


@dataclass(frozen=True)
class TakeOut:
    """Taking the drive out of a bay; `now` although its data could be copied off it first."""

    drive: Drive
    now: bool = False


@dataclass(frozen=True)
class Restart:
    """Restarting the server, or switching it off in order."""


@dataclass(frozen=True)
class ForgetVolume:
    """Removing or emptying a volume: its content is lost by agreement, but what else hangs on it is named."""

    volume: Volume


@dataclass(frozen=True)
class UpdateFirmware:
    """Writing new firmware to parts, by their paths: a drive that restarts is away for a moment."""

    paths: tuple[str, ...]


@dataclass(frozen=True)
class ForceOnline:
    """Having a controller use members of an offline volume again that it has given up (`Volume.ForceEnable`).

    proven  the indices of seats whose members are known to be up to date from elsewhere, whatever the server says
    """

    volume: Volume
    proven: frozenset[int] = frozenset()


Act = TakeOut | Restart | ForgetVolume | UpdateFirmware | ForceOnline


def may(act: Act, server: Server) -> Allowed | Refused:
    """Whether an act may be done now."""
    if isinstance(act, TakeOut):
        return _take_out(server, act)
    if isinstance(act, Restart):
        return Allowed(tuple(_running(server)))
    if isinstance(act, ForgetVolume):
        return Allowed(tuple(_hangs_on(server, act.volume)))
    if isinstance(act, ForceOnline):
        return _force(server, act.volume, act.proven)
    return _update(server, act)


# taking a drive out -----------------------------------------------------------------------------


def _take_out(server: Server, act: TakeOut) -> Allowed | Refused:
    drive, costs = act.drive, list[Cost]()
    if drive.used_as(UseKind.NOT_KNOWN):
        return Refused(Because.USE_NOT_KNOWN, {"drive": drive}, Step(StepCode.LOOK, of_drive(drive)))
    for v in server.volumes:
        mine = members_at(v, drive)
        refusal = _moving(v, drive) or (_hurts(server, v, drive, mine) if mine else None)
        if refusal:
            return refusal
        if mine:
            costs += _what_it_costs(server, v, drive, mine)
        costs += [Cost(Costs.WORK_STOPS, {"work": w, "volume": v}) for w in v.work
                  if w.target == drive.bay and w.kind in (WorkKind.REBUILD, WorkKind.COPY)]  # fmt: skip
    first = None if act.now else _copy_first(server, drive)
    if first:
        return first
    if drive.free and answers(drive) is Answers.YES and drive.content != "":
        costs.append(Cost(Costs.HOLDS_DATA, {"drive": drive}))
    if drive.stands_by:
        costs.append(Cost(Costs.SPARE_LESS, {"drive": drive}))
    if server.hot_swap is False and not server.off:
        costs.append(Cost(Costs.POWER_OFF_FIRST, {"drive": drive}))
    return Allowed(tuple(costs))


def _moving(v: Volume, drive: Drive) -> Refused | None:
    """A drive whose data are being copied off it stays until that is done."""
    work = next((w for w in v.work if w.kind is WorkKind.COPY and w.source == drive.bay and v.at(drive)), None)
    if work is None:
        return None
    step = Step(StepCode.WAIT_FOR_WORK, of_volume(v), {"work": (work,)})
    return Refused(Because.BEING_COPIED, {"drive": drive, "volume": v, "work": work}, step)


def _hurts(server: Server, v: Volume, drive: Drive, mine: frozenset[int]) -> Refused | None:
    """Whether a volume, or a range of it, is lost with a member."""
    if offline(server, v):
        return _needed(server, v, drive, mine)
    gone = standing(server, v).gone
    if mine <= gone and not any(v.seats[i].state is SeatState.REBUILDING for i in mine):
        return None  # it holds nothing that counts
    facts = {"drive": drive, "volume": v, "margin": margin_now(server, v)}
    if margin_without(server, v, mine) < 0:
        not_known = survives(v) is UNKNOWN or not standing(server, v).told
        because = Because.REDUNDANCY_NOT_KNOWN if not_known and margin_now(server, v) == 0 else Because.LOSES_VOLUME
        return Refused(because, facts, _first_for(server, v, drive))
    before = union((s.start, s.end) for s in stretches(server, v) if s.margin < 0)
    after = [s for s in stretches(server, v, mine) if s.margin < 0]
    worse = tuple(subtract(union((s.start, s.end) for s in after), before))
    if worse:
        step = Step(StepCode.REPAIR, of_volume(v), {"ranges": worse})
        return Refused(Because.LOSES_RANGES, facts | {"ranges": worse, "bytes": total(worse)}, step)
    return None


def _needed(server: Server, v: Volume, drive: Drive, mine: frozenset[int]) -> Refused:
    """No drive of a volume that cannot be read is replaced: the volume returns with its members or not at all."""
    return Refused(Because.NEEDED_TO_RETURN, {"drive": drive, "volume": v}, bring_back(server, v))


MOST_TRIED = 8
"""Missing members up to which every choice of those that return is tried."""


def bring_back(server: Server, v: Volume) -> Step:
    """The step that makes an offline volume readable again: which members, and how many of them, whichever they are,
    are enough."""
    seats, gone = to_bring_back(server, v), standing(server, v).gone
    chosen, enough = layout_of(v), len(seats)
    places = [i for i, s in enumerate(v.seats) if s in seats]
    if chosen is not None and len(places) <= MOST_TRIED:
        pattern = chosen.pattern()
        for count in range(1, len(places) + 1):
            if all(margin(pattern, gone - set(back)) >= 0 for back in combinations(places, count)):
                enough = count
                break
    return Step(StepCode.BRING_BACK, of_volume(v), {"seats": seats, "enough": enough})


def to_bring_back(server: Server, v: Volume) -> tuple[Seat, ...]:
    """The missing members whose return would make an offline volume readable: those that were up to date when they
    left, where that is told; else all of them."""
    gone = [v.seats[i] for i in sorted(standing(server, v).gone)]
    missing = [s for s in gone if s.state is not SeatState.REBUILDING]
    current = [s for s in missing if s.current is True]
    return tuple(current or [s for s in missing if s.current is not False] or missing)


def _first_for(server: Server, v: Volume, drive: Drive) -> Step:
    """What comes before taking a drive out of a volume that has no redundancy to spare."""
    busy = tuple(w for w in v.work if w.kind in (WorkKind.REBUILD, WorkKind.COPY, WorkKind.INITIALIZE))
    if busy:
        return Step(StepCode.WAIT_FOR_WORK, of_volume(v), {"work": busy})
    stands = standing(server, v)
    mine = members_at(v, drive)
    others = [v.seats[i] for i in sorted((stands.gone | stands.doubtful) - mine)]
    if others:
        seat = others[0]
        return Step(StepCode.REPLACE, of_volume(v), {"seat": seat, "drive": server.seated_at(seat)})
    if known(survives(v), -1) == 0:
        return Step(StepCode.COPY_FIRST, of_drive(drive), {"volume": v, "drive": drive, "backup": True})
    return Step(StepCode.LOOK, of_volume(v), {"volume": v})


def _what_it_costs(server: Server, v: Volume, drive: Drive, mine: frozenset[int]) -> list[Cost]:
    stands = standing(server, v)
    if mine <= stands.gone:
        return []
    now, then = margin_now(server, v), margin_without(server, v, mine)
    costs = []
    if then < now:
        costs.append(Cost(Costs.MARGIN_FALLS, {"volume": v, "before": now, "after": then}))
    if sound(drive) and not known(drive.unreadable, ()):
        costs.append(Cost(Costs.HEALTHY_DRIVE, {"drive": drive, "volume": v}))
    return costs


def _copy_first(server: Server, drive: Drive) -> Refused | None:
    """A drive that only predicts its failure still works: where another one fits, its data are copied off it first,
    and the margin stays."""
    mine = [v for v in server.volumes if any(v.seats[i].state is SeatState.ACTIVE for i in members_at(v, drive))]
    if drive.predicted is not True or answers(drive) is not Answers.YES or not mine:
        return None
    need = need_of(server, drive)
    able = [d for d in server.drives if d.free and d.content == "" and d.controller == drive.controller]
    fits = [d for d in able if need and not fit(server, need, d).cannot]
    standby = [d for d in server.drives if d.used_as(UseKind.GLOBAL_SPARE, UseKind.DEDICATED_SPARE) and d.stands_by]
    if not fits or standby:
        return None
    step = Step(StepCode.COPY_FIRST, of_drive(drive), {"drive": drive, "volume": mine[0], "onto": fits[0]})
    return Refused(Because.COPY_FIRST, {"drive": drive, "volumes": tuple(mine)}, step)


# forcing a volume online ------------------------------------------------------------------------


def _force(server: Server, v: Volume, proven: frozenset[int]) -> Allowed | Refused:
    """Allowed where enough members are there that are known to be up to date: a controller that is made to use one that
    is not mixes old bytes with new ones, and parity that is written from them makes that lasting."""
    facts: dict[str, Any] = {"volume": v}
    if not offline(server, v):
        return Refused(Because.NOT_OFFLINE, facts, None)
    chosen, gone = layout_of(v), standing(server, v).gone
    if chosen is None:
        return Refused(Because.CURRENCY_NOT_KNOWN, facts | {"seats": v.seats}, Step(StepCode.LOOK, of_volume(v)))
    missing = {i: v.seats[i] for i in gone if v.seats[i].state is not SeatState.REBUILDING}
    here = {i for i, s in missing.items() if (d := server.seated_at(s)) and d.seated and answers(d) is Answers.YES}
    pattern = chosen.pattern()

    def enough(back: set[int]) -> bool:
        return margin(pattern, gone - back) >= 0

    current = {i for i, s in missing.items() if s.current is True or i in proven}
    if enough(here & current):
        return Allowed()
    if enough(current):
        away = tuple(s for i, s in missing.items() if i in current and i not in here)
        return Refused(Because.MEMBERS_AWAY, facts | {"seats": away}, bring_back(server, v))
    unknown = tuple(s for s in missing.values() if s.current is UNKNOWN)
    if unknown and enough({i for i, s in missing.items() if s.current is not False}):
        return Refused(Because.CURRENCY_NOT_KNOWN, facts | {"seats": unknown}, Step(StepCode.LOOK, of_volume(v)))
    old = tuple(s for s in missing.values() if s.current is False)
    return Refused(Because.OUT_OF_DATE, facts | {"seats": old or tuple(missing.values())}, None)


# the server as a whole --------------------------------------------------------------------------


def _running(server: Server) -> Iterable[Cost]:
    for v in server.volumes:
        for w in v.work:
            yield Cost(Costs.WORK_STOPS, {"work": w, "volume": v})


def _hangs_on(server: Server, v: Volume) -> Iterable[Cost]:
    for w in v.work:
        yield Cost(Costs.WORK_STOPS, {"work": w, "volume": v})
    for d in server.drives:
        if any(u.volume_path == v.path for u in d.used_as(UseKind.DEDICATED_SPARE)) and len(d.spare_for) <= 1:
            yield Cost(Costs.SPARE_LESS, {"drive": d, "volume": v})


def _update(server: Server, act: UpdateFirmware) -> Allowed | Refused:
    """A drive that is updated is away for a moment: where that takes a volume offline it is refused."""
    costs = list[Cost]()
    for path in act.paths:
        drive = next((d for d in server.drives if d.path == path), None)
        for v in server.volumes if drive else ():
            assert drive is not None
            mine = members_at(v, drive)
            if mine and not mine <= standing(server, v).gone:
                left = margin_without(server, v, mine)
                if left < 0:
                    facts = {"drive": drive, "volume": v, "margin": margin_now(server, v)}
                    return Refused(Because.LOSES_VOLUME, facts, _first_for(server, v, drive))
                costs.append(Cost(Costs.MEMBER_DROPS, {"volume": v, "drive": drive, "after": left}))
    return Allowed(tuple(costs))
