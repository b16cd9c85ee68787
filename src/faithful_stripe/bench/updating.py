"""Firmware versions of the simulated server: what can be updated, a package checked, and the update that takes time.

An update transfers, is verified and is written with the bench clock. Drives run their new firmware at once; the
server's own and a controller's run it from the next restart. A restart or a loss of power while it is being written
breaks it off: the old version stays.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from ..core.formats.declared import FormatError
from ..core.formats.pldm import ENTERPRISE, MODEL, PCI_DEVICE, PCI_VENDOR, Package, read_package, write_package
from . import errors, events
from .clock import iso
from .state import State, Update

if TYPE_CHECKING:
    from .session import Session

WRITE_SECONDS = 80.0
"""Bench seconds that an update takes."""

OWN_ENTERPRISE = (32473).to_bytes(4, "little")
"""The IANA enterprise number that is set aside for examples (RFC 5612)."""

SYSTEM = "System"


@dataclass(frozen=True)
class Part:
    """One updatable part: `name` as in the inventory, `what` in words, its version, whether a restart activates it."""

    name: str
    what: str
    version: str
    restart: bool
    controller: str = ""
    serial: str = ""


def inventory(state: State) -> Iterator[Part]:
    """Everything whose firmware can be told and updated."""
    server = state.server
    yield Part(SYSTEM, f"{server['maker']} {server['model']}", server["firmware"], True)
    for name, memory in state.controllers.items():
        facts = memory.facts
        yield Part(name, f"{facts['maker']} {facts['model']}", facts["firmware"], True, controller=name)
    for drive in state.drives.values():
        if drive.works:
            what = f"{drive.vendor} {drive.model}, bay {drive.bay}"
            yield Part(f"Drive-{drive.serial}", what, drive.firmware, False, serial=drive.serial)


def part_named(state: State, name: str) -> Part:
    """A part by its inventory name. Raises UnknownPart."""
    found = {part.name: part for part in inventory(state)}
    if name not in found:
        raise errors.UnknownPart(name=name, known=", ".join(found))
    return found[name]


def _fits(state: State, package: Package, part: Part) -> bool:
    if part.controller:
        vendor, _colon, device = state.controllers[part.controller].facts["pci"].upper().partition(":")
        return any(d.pci == f"PCI\\VEN_{vendor}&DEV_{device}" for d in package.devices)
    model = state.drives[part.serial].model if part.serial else state.server["model"]
    return any(d.model == model for d in package.devices)


def begin(session: Session, data: bytes, wanted: list[str]) -> list[Update]:
    """Check a package and start to write it, to the named parts or to all that it is for. Raises BadPackage."""
    state = session.state
    try:
        package = read_package("package", data)
    except FormatError as reason:
        raise errors.BadPackage(what=reason.what, advice=reason.to_do) from reason
    parts = [part_named(state, name) for name in wanted] or [p for p in inventory(state) if _fits(state, package, p)]
    devices = ", ".join(d.shown for d in package.devices)
    for part in parts:
        if not _fits(state, package, part):
            what = f"it is for {devices}, not for {part.name} ({part.what})"
            raise errors.BadPackage(what=what, advice="nothing was changed; get the one for this part")
    if not parts:
        raise errors.BadPackage(what=f"it is for {devices}, which is not here", advice="nothing was changed")
    component = package.components[0] if package.components else None
    image = data[component.offset : component.offset + component.size] if component else b""
    if component is None or hashlib.sha256(image[32:]).digest() != image[:32]:
        raise errors.BadPackage(what="its image is damaged", advice="nothing was changed; fetch the file again")
    running = [u for u in state.updates.values() if u.state == "Running"]
    if running:
        raise errors.UpdateRunning(part=running[0].part)
    for part in parts:
        _check_calm(session, part)
    now = session.clock.now()
    made = []
    for part in parts:
        number = state.take_number()
        state.updates[number] = Update(number, part.name, component.version, now, now + WRITE_SECONDS)
        made.append(state.updates[number])
        say(session, "update started", now, part.name, component.version)
    return made


def _check_calm(session: Session, part: Part) -> None:
    """Raise WorkRunning when work is under way on what restarts by itself at the end: a drive."""
    for controller in session.controllers.values():
        for job in controller.memory.jobs.values():
            volume = controller.memory.volumes[job.volume]
            if part.serial and part.serial in [m.serial for m in volume.members] + [job.target]:
                raise errors.WorkRunning(name=volume.name, work=job.kind)


def say(session: Session, kind: str, moment: float, part: str, version: str) -> None:
    session.log(events.make(kind, iso(moment), part=part, version=version))


def next_end(state: State) -> float:
    """Bench time of the next end of an update; infinity when none is running."""
    return min((u.until for u in state.updates.values() if u.state == "Running"), default=math.inf)


def settle(session: Session, moment: float) -> None:
    """End the updates whose time has come."""
    for update in session.state.updates.values():
        if update.state == "Running" and update.until <= moment:
            part = part_named(session.state, update.part) if _there(session.state, update.part) else None
            if part is None:
                update.state = "Exception"
                say(session, "update failed", update.until, update.part, update.version)
            elif part.restart:
                update.state = "Waiting"
                say(session, "update waits", update.until, update.part, update.version)
            else:
                _apply(session.state, update)
                say(session, "update done", update.until, update.part, update.version)


def _there(state: State, name: str) -> bool:
    return any(part.name == name for part in inventory(state))


def break_off(session: Session, moment: float) -> None:
    """The server stops: what is still being written is lost."""
    settle(session, moment)
    for update in session.state.updates.values():
        if update.state == "Running":
            update.state = "Exception"
            say(session, "update failed", moment, update.part, update.version)


def activate(session: Session) -> None:
    """The server starts: new firmware that waited for this runs from now on."""
    for update in session.state.updates.values():
        if update.state == "Waiting":
            _apply(session.state, update)
            say(session, "update done", session.clock.now(), update.part, update.version)


def _apply(state: State, update: Update) -> None:
    part = part_named(state, update.part)
    if part.controller:
        state.controllers[part.controller].facts["firmware"] = update.version
    elif part.serial:
        state.drives[part.serial].firmware = update.version
    else:
        state.server["firmware"] = update.version
    update.state = "Completed"


def percent(update: Update, now: float) -> int:
    """How far an update is."""
    if update.state != "Running":
        return 100
    return min(99, int(100 * (now - update.began) / (update.until - update.began)))


def waiting(state: State, name: str) -> str:
    """The version that runs from the next restart on; "" where none waits."""
    found = [u.version for u in state.updates.values() if u.part == name and u.state == "Waiting"]
    return found[-1] if found else ""


def package_for(state: State, name: str, version: str) -> bytes:
    """A package that brings a part of this bench to a version: invented bytes in a true wrapping."""
    part = part_named(state, name)
    if part.controller:
        vendor, _colon, device = state.controllers[part.controller].facts["pci"].partition(":")
        ids = ((PCI_VENDOR, _little(vendor)), (PCI_DEVICE, _little(device)))
    else:
        model = state.drives[part.serial].model if part.serial else state.server["model"]
        ids = ((ENTERPRISE, OWN_ENTERPRISE), (MODEL, model.encode("ascii")))
    inside = f"{part.what} {version}\n".encode() * 4096
    image = hashlib.sha256(inside).digest() + inside
    activation = "system reboot" if part.restart else "self-contained"
    return write_package(version, datetime.fromtimestamp(state.clock[0], UTC), ids, activation, image)


def _little(four: str) -> bytes:
    return int(four, 16).to_bytes(2, "little")
