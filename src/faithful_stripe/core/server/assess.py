"""The one judgement of a server: what state each volume is in, how much it survives, what needs attention, what to do.

A pure function of what a server says. Every command, metric, alert and report speaks from its result, so that no two
can disagree.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ..ranges import total, union
from .acts import Refused, TakeOut, bring_back, may
from .condition import Judged, State, judge_volume
from .findings import Code, Finding, Step, StepCode, Subject, of_drive, of_part, of_volume
from .fitness import Why, as_spare, worn
from .model import Server
from .redundancy import Answers, answers, health_of, members_at, survives
from .things import Drive, Health, PartKind, SeatState, UseKind, Volume, WorkKind
from .unknown import UNKNOWN, Maybe, known

SLOW_FACTOR = 3.0
"""A member that works at less than this part of its fellows' pace holds all of them back."""

FLAPS = 3
"""Losses of a link within a day from which on it is told as one that comes and goes."""


POOR = (Why.SLOWER, Why.SLIGHTLY_SMALLER)
"""What makes a hot spare one that serves a volume badly."""


@dataclass(frozen=True)
class Assessment:
    """A server judged: volumes by their key, findings and steps with the most dangerous first.

    notices  what is worth knowing and needs no attention now; severity OK
    """

    server: Server
    volumes: Mapping[str, Judged]
    findings: tuple[Finding, ...]
    notices: tuple[Finding, ...] = ()

    @property
    def steps(self) -> tuple[Step, ...]:
        """What to do next, in order, each thing once."""
        found: list[Step] = []
        for f in self.findings:
            if f.step and f.step not in found:
                found.append(f.step)
        return tuple(found)

    @property
    def worst(self) -> Health:
        """The worst severity of what was found."""
        return worst([f.severity for f in self.findings])

    def of(self, volume: Volume) -> Judged:
        """A volume as judged."""
        return self.volumes[volume.key]

    @property
    def all_read(self) -> bool:
        """Whether the volumes of every controller could be read."""
        return all(c.volumes_read for c in self.server.controllers)

    @property
    def least_margin(self) -> int | None:
        """The least margin of all volumes; None without any."""
        return min((j.margin for j in self.volumes.values()), default=None)


def worst(found: list[Health]) -> Health:
    for level in (Health.CRITICAL, Health.WARNING):
        if level in found:
            return level
    return Health.OK


def assess(server: Server) -> Assessment:
    """Judge a server."""
    volumes = {v.key: judge_volume(server, v) for v in server.volumes}
    found = [
        *_machine(server),
        *(f for j in volumes.values() for f in _volume(server, j)),
        *(f for d in server.drives for f in _drive(server, d, volumes)),
        *_spares(server, volumes),
        *_found(server),
        *_gaps(server),
    ]
    found += _rollups(server, found)
    found = _one_thing_at_a_time(found)
    order = list(Code)
    ranked = sorted(found, key=lambda f: (f.severity is not Health.CRITICAL, order.index(f.code)))
    needy = tuple(f for f in ranked if f.severity is not Health.OK)
    return Assessment(server, volumes, needy, tuple(f for f in ranked if f.severity is Health.OK))


PATIENT = (StepCode.REPLACE, StepCode.TAKE_OUT, StepCode.RESEAT, StepCode.COPY_BACK, StepCode.REPAIR)
"""Steps that wait while a member is being brought back: nobody pulls a drive, or checks a volume, meanwhile."""


def _one_thing_at_a_time(found: list[Finding]) -> list[Finding]:
    """Findings whose steps do not contradict each other: while work must be waited for, drives come out after it."""
    waits = [f.step for f in found if f.step and f.step.code is StepCode.WAIT_FOR_WORK]
    busy = [s for s in waits if any(w.kind in (WorkKind.REBUILD, WorkKind.COPY) for w in s.facts["work"])]
    if not busy:
        return found
    made = []
    for f in found:
        if f.step and f.step.code in PATIENT:
            after = Step(StepCode.AFTER_WORK, f.step.subject, {"then": f.step, "work": busy[0].facts["work"]})
            f = replace(f, step=after)
        made.append(f)
    return made


# the machine ------------------------------------------------------------------------------------


def _machine(server: Server) -> Iterator[Finding]:
    here = Subject("server", server.server)
    if server.off:
        yield Finding(Code.SERVER_OFF, Health.WARNING, here, step=Step(StepCode.RESTORE_POWER, here))
    if server.lid_open is True:
        warm = [d for d in server.drives if d.health is Health.WARNING and any("Temp" in c.kind for c in d.conditions)]
        yield Finding(Code.LID_OPEN, Health.WARNING, here, {"warm": tuple(warm)}, Step(StepCode.CLOSE_LID, here))
    if not (server.controllers or server.drives or server.volumes):
        yield Finding(Code.NO_STORAGE, Health.WARNING, here, step=Step(StepCode.LOOK, here))
    for c in server.controllers:
        subject = Subject("controller", c.id, c.path)
        if not c.offers_volumes and [level for level in c.levels if level != "None"]:
            step = Step(StepCode.SET_STORAGE_MODE, subject)
            yield Finding(Code.CONTROLLER_DIRECT, Health.WARNING, subject, step=step)
        if c.health in (Health.WARNING, Health.CRITICAL):
            yield _unwell(subject, c.health, c.conditions, known(c.state, ""))
        elif known(c.state, "") in ("UnavailableOffline", "Disabled") and not server.off:
            yield _unwell(subject, Health.WARNING, c.conditions, known(c.state, ""))
    for p in server.parts:
        if p.health in (Health.WARNING, Health.CRITICAL):
            yield _unwell(of_part(p), p.health, p.conditions, known(p.state, ""))
        elif p.kind is PartKind.BATTERY and p.gone:
            yield _unwell(of_part(p), Health.WARNING, p.conditions, known(p.state, ""))


def _unwell(subject: Subject, severity: Maybe[Health], conditions: tuple[object, ...], state: str) -> Finding:
    facts = {"conditions": conditions, "state": state}
    return Finding(
        Code.PART_UNWELL, known(severity, Health.WARNING), subject, facts, Step(StepCode.FOLLOW_SERVER, subject, facts)
    )


def _rollups(server: Server, found: list[Finding]) -> Iterator[Finding]:
    """What a roll-up says is worse than anything that was found, and than what any part says of itself, which may weigh
    less once all is known: the cause is somewhere that nobody has read."""
    told = [*(p.health for p in server.parts), *(c.health for c in server.controllers)]
    told += [*(v.health for v in server.volumes), *(d.health for d in server.drives)]
    said = worst([*(f.severity for f in found), *(health for health in told if health is not UNKNOWN)])
    levels = [Health.OK, Health.WARNING, Health.CRITICAL]
    for subject, rollup in [
        *((of_part(p), p.rollup) for p in server.parts),
        *((Subject("controller", c.id, c.path), c.rollup) for c in server.controllers),
        *((of_volume(v), v.rollup) for v in server.volumes),
        *((of_drive(d), d.rollup) for d in server.drives),
    ]:
        if rollup is not UNKNOWN and levels.index(rollup) > levels.index(said):
            yield Finding(Code.ROLLUP_UNEXPLAINED, rollup, subject, step=Step(StepCode.FOLLOW_SERVER, subject))
            said = rollup


def _gaps(server: Server) -> Iterator[Finding]:
    for gap in server.gaps:
        subject = Subject("path", gap.path, gap.path)
        facts = {"status": gap.status, "reason": gap.reason}
        yield Finding(Code.GAP, Health.WARNING, subject, facts, Step(StepCode.LOOK, subject))


# volumes ----------------------------------------------------------------------------------------


def _cache(server: Server, v: Volume) -> Iterator[Finding]:
    """Writes that are acknowledged while they are in a cache only which a loss of power empties: chosen so (a note), or
    since the battery that should keep it does not."""
    subject, step = of_volume(v), Step(StepCode.WRITE_THROUGH, of_volume(v))
    if v.write_cache == "unprotected-back":
        yield Finding(Code.CACHE_UNPROTECTED, Health.OK, subject, {"battery": None}, step)
    if v.write_cache != "protected-back":
        return
    keeps = [p for p in server.parts if p.kind in (PartKind.BATTERY, PartKind.CACHE) and p.controller == v.controller]
    broken = next((p for p in keeps if p.gone or p.health in (Health.WARNING, Health.CRITICAL)), None)
    if broken:
        yield Finding(Code.CACHE_UNPROTECTED, Health.WARNING, subject, {"battery": broken}, step)


def _volume(server: Server, j: Judged) -> Iterator[Finding]:
    v, subject = j.volume, of_volume(j.volume)
    facts: dict[str, Any] = {"judged": j}
    if j.state is State.OFFLINE:
        step = bring_back(server, v)
        yield Finding(Code.VOLUME_OFFLINE, Health.CRITICAL, subject, facts, step)
        return
    if j.lost:
        step = Step(StepCode.RESTORE, subject, {"ranges": j.lost})
        yield Finding(Code.VOLUME_LOST, Health.CRITICAL, subject, {"ranges": j.lost, "bytes": total(j.lost)}, step)
    yield from _cache(server, v)
    weak = tuple(s for s in j.stretches if 0 <= s.margin < j.whole)
    bare = union(v.inconsistent)
    open_rows = tuple(r for r in bare if not any(a <= r[0] and r[1] <= b for a, b in v.acknowledged))
    if open_rows:
        step = Step(StepCode.REPAIR, subject, {"ranges": open_rows})
        yield Finding(
            Code.VOLUME_INCONSISTENT, Health.WARNING, subject, {"ranges": open_rows, "bytes": total(open_rows)}, step
        )
    initializing = [w for w in v.work if w.kind is WorkKind.INITIALIZE]
    working = [w for w in v.work if w.kind in (WorkKind.REBUILD, WorkKind.COPY)]
    if j.gone or j.hidden:
        yield _short(server, j, facts, subject, bool(working))
    elif initializing:
        yield Finding(Code.VOLUME_INITIALIZING, Health.WARNING, subject, {"work": initializing[0], **facts},
                      Step(StepCode.WAIT_FOR_WORK, subject, {"work": tuple(initializing)}))  # fmt: skip
    elif working:
        copying = Step(StepCode.WAIT_FOR_WORK, subject, {"work": tuple(working)})
        yield Finding(Code.VOLUME_REBUILDING, Health.WARNING, subject, facts, copying)
    elif health_of(v) in (Health.WARNING, Health.CRITICAL) and not j.lost:
        yield Finding(Code.VOLUME_UNWELL, known(health_of(v), Health.WARNING), subject, facts,
                      Step(StepCode.LOOK, subject))  # fmt: skip
    elif (health_of(v) is UNKNOWN or j.doubtful) and not server.off:
        yield Finding(Code.VOLUME_NOT_KNOWN, Health.WARNING, subject, facts, Step(StepCode.LOOK, subject))
    unreadable = [s for s in weak if not any(a <= s.start and s.end <= b for a, b in open_rows)]
    if unreadable and not initializing:
        ranges = union((s.start, s.end) for s in unreadable)
        facts = facts | {"ranges": tuple(ranges), "bytes": total(ranges)}
        yield Finding(Code.VOLUME_WEAK, Health.WARNING, subject, facts, Step(StepCode.REPAIR, subject, facts))


def _short(server: Server, j: Judged, facts: dict[str, Any], subject: Subject, working: bool) -> Finding:
    """A volume that lacks members: being rebuilt, interrupted, or waiting for somebody."""
    v = j.volume
    if working:
        work = tuple(w for w in v.work if w.kind in (WorkKind.REBUILD, WorkKind.COPY))
        return Finding(Code.VOLUME_REBUILDING, Health.WARNING, subject, facts,
                       Step(StepCode.WAIT_FOR_WORK, subject, {"work": work}))  # fmt: skip
    stopped = next((s for s in j.gone if s.state is SeatState.REBUILDING), None)
    if stopped:
        step = Step(StepCode.RESUME_REBUILD, subject, {"seat": stopped})
        return Finding(Code.VOLUME_UNFINISHED, Health.CRITICAL, subject, facts | {"seat": stopped}, step)
    seat = j.gone[0] if j.gone else None
    drive = server.seated_at(seat) if seat else None
    code = StepCode.REPLACE if seat else StepCode.LOOK
    severity = Health.CRITICAL
    return Finding(Code.VOLUME_DEGRADED, severity, subject, facts, Step(code, subject, {"seat": seat, "drive": drive}))


# drives -----------------------------------------------------------------------------------------


def _drive(server: Server, d: Drive, volumes: Mapping[str, Judged]) -> Iterator[Finding]:
    if not d.seated or (d.present is UNKNOWN and d.serial is UNKNOWN and d.health is UNKNOWN):
        return
    subject, facts = of_drive(d), {"drive": d}
    told = answers(d)
    link = any(c.kind == "DriveOffline" for c in d.conditions)
    if link and told is not Answers.YES:
        yield Finding(Code.DRIVE_OFFLINE, Health.CRITICAL, subject, facts, _for_failed(server, d, True))
    elif told is not Answers.YES and not (server.off and d.health is not Health.CRITICAL):
        spent = d.free or bool(d.used_as(UseKind.STOOD_IN_FOR))  # no volume lacks it
        severity = Health.WARNING if spent or d.health is Health.WARNING else Health.CRITICAL
        yield Finding(Code.DRIVE_FAILED, severity, subject, facts, _for_failed(server, d, False))
    elif d.predicted is True:
        yield Finding(Code.DRIVE_PREDICTED, Health.WARNING, subject, facts, _for_sick(server, d))
    elif worn(d):
        yield Finding(Code.DRIVE_WORN, Health.WARNING, subject, facts, _for_sick(server, d))
    elif health_of(d) in (Health.WARNING, Health.CRITICAL):
        step = Step(StepCode.FOLLOW_SERVER, subject, {"conditions": d.conditions})
        yield Finding(Code.DRIVE_UNWELL, known(health_of(d), Health.WARNING), subject, facts, step)
    if d.unreadable is not UNKNOWN and d.unreadable and told is Answers.YES:
        yield Finding(Code.DRIVE_UNREADABLE, Health.WARNING, subject, facts | {"bytes": total(d.unreadable)},
                      _for_unreadable(server, d))  # fmt: skip
    if d.link_losses is not UNKNOWN and d.link_losses >= FLAPS:
        step = Step(StepCode.RESEAT, subject, facts)
        if isinstance(may(TakeOut(d, now=True), server), Refused):
            step = Step(StepCode.LEAVE_SEATED, subject, facts)
        yield Finding(Code.DRIVE_FLAPPING, Health.WARNING, subject, facts | {"count": d.link_losses}, step)
    if d.slowed is not UNKNOWN and d.slowed >= SLOW_FACTOR:
        step = Step(StepCode.REPLACE, subject, {"drive": d})
        yield Finding(Code.DRIVE_SLOW, Health.WARNING, subject, facts | {"factor": d.slowed}, step)
    for use in d.used_as(UseKind.STOOD_IN_FOR):
        if told is Answers.YES:
            step = Step(StepCode.COPY_BACK, subject, {"volume": server.volume_at(use.volume_path), "drive": d})
            yield Finding(Code.STOOD_IN_FOR, Health.WARNING, subject, facts | {"use": use}, step)


def _for_failed(server: Server, d: Drive, link: bool) -> Step:
    """What to do about a drive that does not answer: what a volume needs to return is never replaced."""
    verdict = may(TakeOut(d), server)
    if isinstance(verdict, Refused):
        return verdict.first or Step(StepCode.LEAVE_SEATED, of_drive(d), {"drive": d})
    return Step(StepCode.RESEAT if link else StepCode.REPLACE, of_drive(d), {"drive": d})


def _for_sick(server: Server, d: Drive) -> Step:
    """What to do about a drive that still works and should not be relied upon."""
    if not d.used_as(UseKind.MEMBER):
        return Step(StepCode.TAKE_OUT, of_drive(d), {"drive": d})
    verdict = may(TakeOut(d), server)
    if isinstance(verdict, Refused):
        return verdict.first or Step(StepCode.LEAVE_SEATED, of_drive(d), {"drive": d})
    return Step(StepCode.COPY_FIRST, of_drive(d), {"drive": d})


def _for_unreadable(server: Server, d: Drive) -> Step:
    volume = next((v for v in server.volumes if members_at(v, d)), None)
    if volume is None:
        return Step(StepCode.TAKE_OUT, of_drive(d), {"drive": d})
    return Step(StepCode.REPAIR, of_volume(volume), {"drive": d})


# spares and strangers ---------------------------------------------------------------------------


def _spares(server: Server, volumes: Mapping[str, Judged]) -> Iterator[Finding]:
    """Hot spares that would not take over, or badly."""
    redundant = [j.volume for j in volumes.values() if known(survives(j.volume), 0) > 0]
    for d in server.drives:
        if not d.stands_by:
            continue
        named = [v for v in redundant if v.path in d.spare_for or d.path in v.spares]
        serves = named or [v for v in redundant if v.controller == d.controller]
        fits = {v.key: as_spare(server, v, d) for v in serves}
        subject, step = of_drive(d), Step(StepCode.CHOOSE_SPARE, of_drive(d), {"drive": d})
        unfit = [(v, fits[v.key]) for v in serves if fits[v.key].cannot]
        if serves and len(unfit) == len(serves):
            yield Finding(Code.SPARE_UNFIT, Health.WARNING, subject, {"drive": d, "unfit": tuple(unfit)}, step)
        elif unfit or any(f.notes and f.has(*POOR) for f in fits.values()):
            poor = [(v, fits[v.key]) for v in serves if fits[v.key].cannot or fits[v.key].has(*POOR)]
            meant = bool(named) or len(poor) == len(serves)  # a global one that serves others well is no mistake
            severity = Health.WARNING if meant else Health.OK
            yield Finding(Code.SPARE_POOR, severity, subject, {"drive": d, "unfit": tuple(poor)}, step)


def _found(server: Server) -> Iterator[Finding]:
    for one in server.found_volumes:
        subject = Subject("found", one.name, one.path, one.controller)
        yield Finding(Code.FOUND, Health.WARNING, subject, {"found": one}, Step(StepCode.ADOPT_OR_FORGET, subject,
                      {"found": one}))  # fmt: skip
