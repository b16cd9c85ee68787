"""Making and removing volumes: what is wished for, whether it can be had, and the volume itself."""

from __future__ import annotations

import re
from dataclasses import dataclass

from ..core.arrays.geometry import geometry
from ..core.arrays.levels import level_named
from ..core.units import decimal_size
from . import errors, jobs, ondisk
from .clock import iso
from .controller import RESERVED_BYTES, Controller
from .state import Drive, Member, Volume

ALIGN = 1 << 20
"""Volumes that share drives start at multiples of this, in bytes."""


@dataclass(frozen=True)
class Wish:
    """A volume as somebody wants it; `bays` in the order of the members, spans one after the other.

    size   bytes of the volume; None for all that the drives hold
    mixed  allow drives of different media or sector size
    initialize  "fast": what the drives held is cleared at once; "foreground": zeros are written everywhere, the
                volume can be used afterwards; "background": nothing is cleared, parity is computed from what the
                drives hold while the volume is used already
    """

    name: str
    level: str
    bays: tuple[str, ...]
    strip: int = 65536
    size: int | None = None
    rotation: str | None = None
    data: str | None = None
    q_place: str | None = None
    q_exponent: str | None = None
    spans: int | None = None
    copies: int | None = None
    mixed: bool = False
    initialize: str = "fast"
    read_cache: str = "ahead"
    write_cache: str = "through"


READ_CACHES = ("ahead", "adaptive", "off")
WRITE_CACHES = ("through", "protected-back")
"""The cache policies that these controllers offer. Both ways to write acknowledge only what a cut of power cannot take
away again: the second one keeps it in the memory that outlasts the cut. There is no unprotected one on purpose."""

METHODS = ("fast", "foreground", "background")


def check(controller: Controller, wish: Wish) -> Volume:
    """The volume that a wish describes, not yet made.

    Raises ControllerRefusal or GeometryError, saying which wish cannot be met.
    """
    if wish.initialize not in METHODS:
        raise errors.NoMethod(method=wish.initialize, known=", ".join(METHODS))
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9_-]{0,14}", wish.name):
        raise errors.BadName(name=wish.name)
    if any(v.name == wish.name for v in controller.memory.volumes.values()):
        raise errors.NameTaken(name=wish.name)
    check_caches(wish.read_cache, wish.write_cache)
    drives = [_usable(controller, bay, wish.bays) for bay in wish.bays]
    if not wish.mixed:
        _check_alike(drives)
    sharing = _sharing(controller, drives)
    start = -(-max((v.end for v in sharing), default=0) // ALIGN) * ALIGN
    room = min((d.size for d in drives), default=0) - RESERVED_BYTES - start
    facts = level_named(wish.level)
    made = geometry(
        facts.name,
        len(wish.bays),
        wish.strip,
        member_bytes=max(0, room) // wish.strip * wish.strip,
        start_bytes=start,
        rotation=wish.rotation,
        data=wish.data,
        spans=wish.spans,
        copies=wish.copies,
        q_place=wish.q_place,
        q_exponent=wish.q_exponent,
    )
    extent = made.rows * wish.strip
    if wish.size is not None:
        if not 0 < wish.size <= made.volume_bytes:
            most = made.volume_bytes
            raise errors.NoRoom(wanted=wish.size, most=most, text=decimal_size(most))
        per_row = made.pattern.strips * wish.strip / made.pattern.rows
        extent = (int(wish.size / per_row) + 2 * made.pattern.unit_rows) * wish.strip
        extent = min(
            made.rows * wish.strip,
            extent // (made.pattern.unit_rows * wish.strip) * made.pattern.unit_rows * wish.strip,
        )
    chosen = made.layout
    return Volume(
        number=0,
        name=wish.name,
        level=chosen.level,
        strip=wish.strip,
        rotation=chosen.rotation,
        data=chosen.data,
        start=start,
        extent=extent,
        members=[Member(d.serial, str(d.bay)) for d in drives],
        created=iso(controller.now),
        spans=chosen.spans,
        copies=chosen.copies,
        q_place=chosen.q_place,
        q_exponent=chosen.q_exponent,
        read_cache=wish.read_cache,
        write_cache=wish.write_cache,
    )


def check_caches(read: str, write: str) -> None:
    """Raise NoCache for a policy that is not offered."""
    for value, known in ((read, READ_CACHES), (write, WRITE_CACHES)):
        if value not in known:
            raise errors.NoCache(policy=value, known=", ".join(known))


def set_caches(controller: Controller, volume: Volume, read: str, write: str) -> None:
    """Change a volume's cache policies. Raises NoCache."""
    check_caches(read, write)
    if (read, write) != (volume.read_cache, volume.write_cache):
        volume.read_cache, volume.write_cache = read, write
        controller.event("caches changed", volume=volume.name, read=read, write=write)


def create(controller: Controller, volume: Volume, method: str = "fast") -> Volume:
    """Make a checked volume and initialize it (see `Wish`)."""
    volume.number = controller.state.take_number()
    volume.guid = ondisk.volume_guid(controller, volume.number, volume.created)
    controller.memory.volumes[volume.number] = volume
    size = decimal_size(volume.geometry.volume_bytes)
    bays = ", ".join(m.bay for m in volume.members)
    controller.event("volume created", volume=volume.name, what=f"{volume.level}, {size}, bays {bays}")
    initialize(controller, volume, method)
    return volume


def initialize(controller: Controller, volume: Volume, method: str) -> None:
    """Make copies and parity true: at once by clearing, or with the clock. Raises ControllerRefusal.

    fast and foreground lose what the volume holds.
    """
    if method not in METHODS:
        raise errors.NoMethod(method=method, known=", ".join(METHODS))
    if volume.lost:
        raise errors.NotWhole(name=volume.name)
    running = controller.jobs_of(volume)
    if running:
        raise errors.WorkRunning(name=volume.name, work=running[0].kind)
    if method == "fast":
        _clear(controller, volume)
    elif method == "foreground" or volume.geometry.redundant:
        jobs.start_initialize(controller, volume, method)


def _clear(controller: Controller, volume: Volume) -> None:
    for member in volume.members:
        medium = controller.medium(controller.state.drives[member.serial])
        for a, b in list(medium.data_ranges(volume.start, volume.end)):
            medium.discard(a, b - a)
        medium.flush()
    volume.mismatches, volume.accepted = [], []


def delete(controller: Controller, volume: Volume) -> None:
    """Forget a volume; its drives are free afterwards, their bytes as they were."""
    for job in controller.jobs_of(volume):
        del controller.memory.jobs[job.number]
    for spare in list(controller.memory.spares.values()):
        if volume.number in spare.volumes:
            spare.volumes.remove(volume.number)
            if not spare.volumes:  # it was for this volume only: it must not turn into a global one
                del controller.memory.spares[spare.serial]
    del controller.memory.volumes[volume.number]
    controller.event("volume deleted", volume=volume.name)


def free_drive(controller: Controller, bay: str) -> Drive:
    """The drive in a bay if nothing uses it. Raises UnknownBay, EmptyBay, DriveFailed, DriveInUse."""
    drive = controller.seated(bay)
    if drive.fault:
        raise errors.DriveFailed(bay=bay, serial=drive.serial)
    found = controller.memory.memberships(drive.serial)
    if found:
        raise errors.DriveInUse(bay=bay, serial=drive.serial, volume=found[0][0].name)
    if controller.memory.in_use(drive.serial):
        raise errors.DriveInUse(bay=bay, serial=drive.serial, volume="that is being copied onto it")
    return drive


def _usable(controller: Controller, bay: str, bays: tuple[str, ...]) -> Drive:
    drive = controller.seated(bay)
    if bays.count(bay) > 1:
        raise errors.NamedTwice(bay=bay)
    if drive.fault:
        raise errors.DriveFailed(bay=bay, serial=drive.serial)
    if drive.serial in controller.memory.spares:
        raise errors.DriveIsSpare(bay=bay, serial=drive.serial)
    return drive


def _sharing(controller: Controller, drives: list[Drive]) -> list[Volume]:
    """Volumes on the same drives, which a new one may follow. Raises DriveInUse for any other overlap."""
    wanted = {d.serial for d in drives}
    found: dict[int, Volume] = {}
    for drive in drives:
        for volume, _position in controller.memory.memberships(drive.serial):
            if {m.serial for m in volume.members} != wanted or volume.lost:
                raise errors.DriveInUse(bay=drive.bay, serial=drive.serial, volume=volume.name)
            found[volume.number] = volume
        if controller.memory.in_use(drive.serial) and not controller.memory.memberships(drive.serial):
            raise errors.DriveInUse(bay=drive.bay, serial=drive.serial, volume="that is being copied onto it")
    return list(found.values())


def _check_alike(drives: list[Drive]) -> None:
    for what, values in (("media", [d.media for d in drives]), ("sector size", [str(d.sector) for d in drives])):
        if len(set(values)) > 1:
            listed = ", ".join(f"bay {d.bay} {value}" for d, value in zip(drives, values, strict=True))
            raise errors.UnlikeDrives(what=what, values=listed, unless=", or allow it with --mixed")
