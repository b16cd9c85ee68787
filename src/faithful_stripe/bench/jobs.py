"""Work that goes on with the bench clock: rebuilds, copies, consistency checks; one at a time on each drive."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator

from ..core.arrays.rebuild import NotRecoverable, rebuild_rows
from ..core.source import Unreadable
from . import errors
from .controller import Controller
from .journal import close_parity
from .mending import check_span, check_unreadable, fill
from .state import Drive, Job, Member, Volume

HOST_SECONDS = 1.0
"""Work is checkpointed about this often, in seconds of the host's time."""

NEVER = -1
"""The generation of a member that has not been complete yet: it is stale whenever it returns."""

COPY_BYTES = 4 << 20
INITIALIZE_BYTES, CHECK_BYTES = 1 << 30, 1 << 34
"""Bytes of a member after which an initialization, a consistency check is checkpointed."""


def start_rebuild(controller: Controller, volume: Volume, position: int, drive: Drive, done: int = 0) -> Job:
    """Begin to compute the member at `position` onto `drive`; the first `done` bytes of it are complete already."""
    drop(controller, volume, position)
    volume.members[position] = Member(drive.serial, str(drive.bay), "rebuilding", done, NEVER)
    controller.event("rebuild started", drive=drive, volume=volume.name)
    return _add(controller, Job(0, "rebuild", volume.number, position, 0.0))


def still_good(volume: Volume, position: int) -> int:
    """Bytes of an interrupted rebuild that still hold: none, once the volume was written without the member."""
    member = volume.members[position]
    return member.paused if member.paused_at == volume.generation else 0


def start_copy(controller: Controller, volume: Volume, position: int, drive: Drive, why: str) -> Job:
    """Begin to copy the member at `position` onto `drive`, which takes its place at the end."""
    controller.event("copy started", drive=drive, volume=volume.name, why=why)
    return _add(controller, Job(0, "copy", volume.number, position, 0.0, target=drive.serial))


def start_check(controller: Controller, volume: Volume, repair: bool) -> Job:
    """Begin to test every parity and copy of a volume, and to mend it if asked. Raises NotWhole."""
    if volume.lost:
        raise errors.NotWhole(name=volume.name)
    controller.event("check started", volume=volume.name, mode="repairing" if repair else "report only")
    return _add(controller, Job(0, "check", volume.number, -1, 0.0, repair=repair))


def start_initialize(controller: Controller, volume: Volume, method: str) -> Job:
    """Begin to write zeros everywhere ("foreground"), or to make parity true of what is there ("background")."""
    controller.event("initialize started", volume=volume.name, mode=method)
    return _add(controller, Job(0, method, volume.number, -1, 0.0))


def _add(controller: Controller, job: Job) -> Job:
    job.number = controller.state.take_number()
    job.rate = _rate(controller, job)
    controller.memory.jobs[job.number] = job
    return job


def _rate(controller: Controller, job: Job) -> float:
    """Bytes of a member per second of bench time: the controller's share of the slowest drive's pace."""
    share = controller.memory.settings["check_rate" if job.kind == "check" else "rebuild_rate"] / 100
    return min((d.pace for d in _drives(controller, job)), default=1.0) * float(share)


def retime(controller: Controller) -> None:
    """Go on at the rate that the settings and the drives' pace allow now."""
    for job in controller.memory.jobs.values():
        rate = _rate(controller, job)
        if rate != job.rate:
            job.base, job.rate = done(controller, job), rate
            job.since = controller.now if job.since is not None else None


def _drives(controller: Controller, job: Job) -> list[Drive]:
    """The drives that a job keeps busy."""
    volume = controller.memory.volumes[job.volume]
    serials = [m.serial for m in volume.members if m.state != "lost"]
    if job.kind == "copy":
        serials = [volume.members[job.position].serial, job.target]
    return [controller.state.drives[s] for s in serials]


def drop(controller: Controller, volume: Volume, position: int) -> None:
    """Forget the work on a position."""
    for job in controller.jobs_of(volume):
        if job.position == position:
            del controller.memory.jobs[job.number]


def stop_hopeless(controller: Controller) -> None:
    """Give up checks and initializations of volumes that have lost a member: they need all of them."""
    for job in list(controller.memory.jobs.values()):
        volume = controller.memory.volumes[job.volume]
        if volume.lost and job.kind in ("check", "foreground", "background"):
            del controller.memory.jobs[job.number]
            kind = "check stopped" if job.kind == "check" else "initialize stopped"
            controller.event(kind, volume=volume.name, why="a member is missing")


def take_over_copy(controller: Controller, volume: Volume, copy: Job) -> None:
    """The drive being copied is gone: what was copied counts, the rest is rebuilt onto the same target."""
    del controller.memory.jobs[copy.number]
    drive = controller.state.drives[copy.target]
    old = volume.members[copy.position]
    member = Member(drive.serial, str(drive.bay), "rebuilding", copy.done, NEVER, old.home)
    volume.members[copy.position] = member
    controller.event("rebuild started", drive=drive, volume=volume.name)
    _add(controller, Job(0, "rebuild", volume.number, copy.position, 0.0))


# the clock --------------------------------------------------------------------------------------


def next_end(controller: Controller) -> float:
    """The bench time at which the first piece of running work ends; infinity when none runs."""
    return min((_end(controller, job) for job in activate(controller)), default=math.inf)


def _end(controller: Controller, job: Job) -> float:
    return float(job.since or 0.0) + (extent(controller, job) - job.base) / job.rate


def work_to(controller: Controller, moment: float, settle: Callable[[Controller], None]) -> None:
    """Bring all running work to a moment that is not after `next_end`, and finish what ends there.

    settle  called whenever something ended: it may begin new work
    """
    waiting = controller.memory.jobs
    running = activate(controller)
    controller.now = max(controller.now, moment)
    for job in running:
        if job.number in waiting:
            ends = _end(controller, job) <= moment
            _work(controller, job, extent(controller, job) if ends else None)
    if any(job.number not in waiting for job in running):
        settle(controller)


def activate(controller: Controller) -> list[Job]:
    """The jobs whose drives no earlier job keeps busy; the others wait, and their clocks with them.

    To be called whenever jobs have come or gone, so that each runs from the moment it could.
    """
    busy: set[str] = set()
    running = []
    for job in sorted(controller.memory.jobs.values(), key=lambda j: j.number):
        mine = {d.serial for d in _drives(controller, job)}
        if busy & mine:
            if job.since is not None:
                job.base, job.since = done(controller, job), None
        else:
            if job.since is None:
                job.since, job.base = controller.now, done(controller, job)
            running.append(job)
        busy |= mine
    return running


def extent(controller: Controller, job: Job) -> int:
    """Bytes of a member that the job covers."""
    made = controller.memory.volumes[job.volume].geometry
    return made.rows * made.strip_bytes


def done(controller: Controller, job: Job) -> int:
    """Bytes of a member that are done."""
    return controller.memory.volumes[job.volume].members[job.position].done if job.kind == "rebuild" else job.done


def _work(controller: Controller, job: Job, goal: int | None) -> None:
    """Bring a job to where the clock has brought it (or to `goal`, in bytes of the member)."""
    volume = controller.memory.volumes[job.volume]
    made = volume.geometry
    unit = made.strip_bytes * made.pattern.unit_rows
    due = job.base + int((controller.now - float(job.since or 0.0)) * job.rate)
    due = min(extent(controller, job), due // unit * unit) if goal is None else goal
    if due > done(controller, job):
        steps = _STEPS[job.kind](controller, job, volume, due)
        last = time.monotonic()
        for _step in steps:
            if time.monotonic() - last > HOST_SECONDS:
                controller.checkpoint()
                last = time.monotonic()
    if job.number in controller.memory.jobs and done(controller, job) >= extent(controller, job):
        _finish(controller, job, volume)


def _rebuild(controller: Controller, job: Job, volume: Volume, due: int) -> Iterator[None]:
    member, made = volume.members[job.position], volume.geometry
    target, strip = controller.medium(controller.state.drives[member.serial]), made.strip_bytes
    if controller.margin(volume) < 0:
        _give_up(controller, job, volume, "the volume has failed")
        return
    while member.done < due:
        array = controller.array(volume)
        try:
            for row in rebuild_rows(array, job.position, target, member.done // strip, due // strip):
                member.done = row * strip
                target.flush()
                yield
        except NotRecoverable as reason:
            bad = (int(reason.facts["offset"]) - volume.start) // strip
            for row in range(member.done // strip, bad + made.pattern.unit_rows, made.pattern.unit_rows):
                _rebuild_one(controller, job, volume, row)
                target.flush()
                member.done = (row + made.pattern.unit_rows) * strip
                yield


def _rebuild_one(controller: Controller, job: Job, volume: Volume, row: int) -> None:
    """One unit of rows next to an unreadable sector: whole where that can be, else sector by sector."""
    member, made = volume.members[job.position], volume.geometry
    target, unit = controller.medium(controller.state.drives[member.serial]), made.pattern.unit_rows
    array = controller.array(volume)
    try:
        for _row in rebuild_rows(array, job.position, target, row, row + unit):
            pass
    except NotRecoverable:
        start = volume.start + row * made.strip_bytes
        fill(controller, volume, array, job.position, target, (start, start + unit * made.strip_bytes))


def _copy(controller: Controller, job: Job, volume: Volume, due: int) -> Iterator[None]:
    """Copy what is data, clear what is not; sectors that cannot be read are computed from the others."""
    source = controller.medium(controller.state.drives[volume.members[job.position].serial])
    target = controller.medium(controller.state.drives[job.target])
    strip = volume.geometry.strip_bytes * volume.geometry.pattern.unit_rows
    while job.done < due:
        end = min(due, job.done + max(strip, 64 * COPY_BYTES // strip * strip))
        a, b = volume.start + job.done, volume.start + end
        for x, y in list(target.data_ranges(a, b)):
            target.discard(x, y - x)
        for x, y in list(source.data_ranges(a, b)):
            for at in range(x, y, COPY_BYTES):
                _copy_piece(controller, job, volume, at, min(COPY_BYTES, y - at))
                yield
        job.done = end
        target.flush()
        yield


def _copy_piece(controller: Controller, job: Job, volume: Volume, at: int, length: int) -> None:
    source = controller.medium(controller.state.drives[volume.members[job.position].serial])
    target = controller.medium(controller.state.drives[job.target])
    buffer = bytearray(length)
    try:
        source.read_into(at, buffer)
        target.write(at, buffer)
        return
    except Unreadable:
        pass
    array = controller.array(volume)
    array.members[job.position] = None
    fill(controller, volume, array, job.position, target, (at, at + length), source)


def _check(controller: Controller, job: Job, volume: Volume, due: int) -> Iterator[None]:
    strip = volume.geometry.strip_bytes
    array = controller.array(volume)
    unit = volume.geometry.pattern.unit_rows
    step = max(1, CHECK_BYTES // (strip * unit)) * unit
    row, last = job.done // strip, due // strip
    while row < last:
        stop = min(last, row + step)
        reached = check_span(controller, job, volume, array, row, stop)
        if reached == row:
            check_unreadable(controller, job, volume, array, row)
            reached = row + unit
        row = reached
        job.done = row * strip
        yield


def _initialize(controller: Controller, job: Job, volume: Volume, due: int) -> Iterator[None]:
    """Zeros on every member, or copies and parity computed from the data as they stand."""
    made = volume.geometry
    step = INITIALIZE_BYTES // made.strip_bytes * made.strip_bytes or made.strip_bytes
    array = controller.array(volume)
    while job.done < due:
        end = min(
            due,
            -(-(job.done + step) // made.strip_bytes // made.pattern.unit_rows)
            * made.pattern.unit_rows
            * made.strip_bytes,
        )
        if job.kind == "foreground":
            for member in volume.members:
                medium = controller.medium(controller.state.drives[member.serial])
                for a, b in list(medium.data_ranges(volume.start + job.done, volume.start + end)):
                    medium.discard(a, b - a)
        else:
            for a, b in made.row_ranges([(job.done // made.strip_bytes, end // made.strip_bytes)]):
                close_parity(array, a, b - a)
        array.flush()
        job.done = end
        yield


_STEPS: dict[str, Callable[[Controller, Job, Volume, int], Iterator[None]]] = {
    "rebuild": _rebuild,
    "copy": _copy,
    "check": _check,
    "foreground": _initialize,
    "background": _initialize,
}


def _finish(controller: Controller, job: Job, volume: Volume) -> None:
    del controller.memory.jobs[job.number]
    if job.kind in ("foreground", "background"):
        volume.mismatches, volume.accepted = [], []  # parity was computed anew everywhere
        controller.event("initialize done", volume=volume.name)
        return
    if job.kind == "check":
        computed = "; what could be computed was written anew" if job.repair and job.found else ""
        kind = "check done" if job.found == 0 else "check found"
        controller.event(kind, volume=volume.name, found=job.found, repaired=computed)
        return
    member = volume.members[job.position]
    if job.kind == "rebuild":
        member.state, member.done, member.generation = "active", 0, volume.generation
        controller.event("rebuild done", drive=controller.state.drives[member.serial], volume=volume.name)
        controller.event_condition(volume)
        return
    drive = controller.state.drives[job.target]
    home = member.home if member.home != drive.bay else ""
    volume.members[job.position] = Member(drive.serial, str(drive.bay), "active", 0, member.generation, home)
    controller.event("copy done", drive=drive, volume=volume.name, old=member.serial)


def _give_up(controller: Controller, job: Job, volume: Volume, why: str) -> None:
    del controller.memory.jobs[job.number]
    member = volume.members[job.position]
    member.state, member.done = "lost", 0
    controller.event("rebuild stopped", drive=controller.state.drives[member.serial], volume=volume.name, why=why)
