"""One request's hold of a bench: its state, its controllers, the clock that carries work on, and its power."""

from __future__ import annotations

import math
import random
from pathlib import Path

from ..media.parts import open_image
from . import errors, events, firmware, jobs, members, ondisk, takeover, updating
from .clock import Clock, iso
from .controller import Controller
from .drive import Medium
from .journal import Journal, replay, sound
from .state import Drive, Event, State, Volume
from .store import Store

MOST_DROPS, WITHIN_SECONDS = 3, 3600.0
"""A drive whose link was lost this often within this time is not taken back by itself."""

DAY_SECONDS = 86400.0


class Session:
    """What one request sees and may change."""

    def __init__(self, folder: Path, store: Store, state: State, clock: Clock) -> None:
        self.folder, self.store, self.state, self.clock = folder, store, state, clock
        self._media: dict[str, Medium] = {}
        self.said: list[Event] = []
        self.power_lost = 0
        self._unsaved: list[Event] = []
        self.journal = Journal(folder)
        now = state.clock[0]
        self.controllers: dict[str, Controller] = {
            name: Controller(state, memory, self.medium, self.log, self.save_and_go_on, now)
            for name, memory in state.controllers.items()
        }

    def close(self) -> None:
        for medium in self._media.values():
            medium.close()

    # what is there ------------------------------------------------------------------------------

    @property
    def controller(self) -> Controller:
        """The only controller. Raises UnknownController where there are several: then one must be named."""
        if len(self.controllers) > 1:
            raise errors.UnknownController(name="without a name", known=", ".join(self.controllers))
        return next(iter(self.controllers.values()))

    def controller_at(self, bay: str) -> Controller:
        """The controller that a bay belongs to. Raises UnknownBay."""
        for controller in self.controllers.values():
            if bay in controller.bays:
                return controller
        raise errors.UnknownBay(bay=bay, where="in this chassis", bays=", ".join(self.state.bays))

    def volume(self, name: str, controller: str | None = None) -> tuple[Controller, Volume]:
        """The volume with this name, at the named controller or at any. Raises UnknownVolume, UnknownController,
        WhichController when several have one."""
        if controller is not None and controller not in self.controllers:
            raise errors.UnknownController(name=controller, known=", ".join(self.controllers))
        asked = [self.controllers[controller]] if controller else list(self.controllers.values())
        found = [(c, v) for c in asked for v in c.memory.volumes.values() if v.name == name]
        if len(found) > 1:
            raise errors.WhichController(name=name, known=", ".join(c.facts["id"] for c, _v in found))
        if not found:
            known = ", ".join(v.name for c in asked for v in c.memory.volumes.values()) or "none"
            raise errors.UnknownVolume(name=name, known=known)
        return found[0]

    def medium(self, drive: Drive) -> Medium:
        """The drive, opened for reading and writing. Raises TruncatedImage, MediaError."""
        if drive.serial not in self._media:
            path = self.folder / "drives" / f"{drive.serial}.img"
            image = open_image(path, writable=True, expected_size=drive.size)
            self._media[drive.serial] = Medium(drive, image, self.folder / "drives" / f"{drive.serial}.cache")
        return self._media[drive.serial]

    # events and keeping -------------------------------------------------------------------------

    def log(self, event: Event) -> None:
        """Note an event: `said` keeps all of this session's, for whoever asked."""
        self.said.append(event)
        self._unsaved.append(event)

    def tell(self, kind: str) -> None:
        """Log an event of the server itself."""
        now = max(c.now for c in self.controllers.values())
        self.log(events.make(kind, iso(now), server=self.state.server["name"]))

    def save(self) -> None:
        """Store what changed, write changed set-ups to the drives, and log what happened."""
        if self.active:
            for controller in self.controllers.values():
                jobs.activate(controller)
                ondisk.update(controller, self._keep)
        self.store.save(self.state, self._unsaved)
        self._unsaved.clear()

    def _keep(self) -> None:
        self.store.save(self.state, self._unsaved)
        self._unsaved.clear()
        self.store.checkpoint()

    def save_and_go_on(self) -> None:
        """Store everything as it is now and go on holding the bench."""
        self.save()
        self.store.checkpoint()

    def events(self, after: int = 0) -> list[Event]:
        """The log, oldest first."""
        self.save()
        return self.store.events(after)

    # power --------------------------------------------------------------------------------------

    @property
    def active(self) -> bool:
        """Whether the controllers are at work: the server is on and its firmware offers volumes."""
        return self.state.power and firmware.offers_volumes(self.state)

    def require_power(self) -> None:
        """Raise PoweredOff, NoVolumesOffered unless the controllers are at work."""
        if not self.state.power:
            raise errors.PoweredOff()
        if not self.active:
            raise errors.NoVolumesOffered()

    def cut_power(self, rng: random.Random) -> None:
        """The power fails: drives lose some of what they had not flushed, all work stops where it is."""
        drives = [d for d in self.state.drives.values() if d.bay]
        self.power_lost = sum(self.medium(d).cache.lose_power(rng) for d in drives)
        self._stop()
        self.tell("power lost")

    def shut_down(self) -> None:
        """Switch the server off in order: nothing is lost, work stops where it is."""
        for drive in self.state.drives.values():
            if drive.bay:
                self.medium(drive).flush()
        self._stop()
        self.tell("power off")

    def _stop(self) -> None:
        for controller in self.controllers.values():
            controller.now = max(controller.now, self.clock.now())
            for job in controller.memory.jobs.values():
                job.base, job.since = jobs.done(controller, job), None
        updating.break_off(self, self.clock.now())
        self.state.power = False

    def power_on(self) -> None:
        """Switch the server on: settings that waited come into force, each controller reads its drives, and the
        writes it had begun are finished."""
        firmware.restart(self.state, self.clock.now())
        self.state.power = True
        self.tell("power on")
        updating.activate(self)
        if self.active:
            self._start_controllers()
        self.state.found = firmware.look_around(self)

    def _start_controllers(self) -> None:
        for controller in self.controllers.values():
            if controller.memory.setup.get("mark") == "":  # killed while the set-up was being written
                ondisk.update(controller, self._keep)
            takeover.power_on(controller)
        for drive in self.state.drives.values():
            if drive.link:
                drive.link |= {"up": True, "next": self.clock.now() + drive.link["every"]}
        self.recover()

    def recover(self) -> None:
        """Finish writes that a killed process or a cut of power left in the journal.

        Members that are away then are out of date. What belongs to a volume that cannot be used is held back.
        """
        held = []
        records = list(self.journal.records())
        if not records:
            return
        for record in records:
            for controller in self.controllers.values():
                volume = controller.memory.volumes.get(record.volume)
                if volume is None:
                    continue
                if controller.margin(volume) < 0:
                    held.append(record)
                    continue
                array = controller.array(volume)
                if not sound(record, array):
                    controller.event("journal damaged", volume=volume.name)
                    continue
                controller.outdate(volume)
                replay(record, array)
                array.flush()
        self.journal.keep(held)

    # the clock ----------------------------------------------------------------------------------

    def advance(self, seconds: float = 0.0) -> None:
        """Carry work on to now, or to `seconds` of bench time from now."""
        moment = self.clock.now() + seconds
        busy = any(c.memory.jobs for c in self.controllers.values()) or any(d.link for d in self.state.drives.values())
        if self.active:
            self._work_until(moment)
        elif self.state.power:
            updating.settle(self, moment)
        for controller in self.controllers.values():
            controller.now = max(controller.now, moment)
        if busy or seconds or self.clock.speed != 1.0:
            self.state.clock = self.clock.set_mark(moment)

    def _work_until(self, moment: float) -> None:
        """All controllers' work and all links' changes, in the order of their times."""
        while True:
            ends = min(jobs.next_end(c) for c in self.controllers.values())
            flaky = [d for d in self.state.drives.values() if d.bay and d.link and not d.fault]
            change = min((float(d.link["next"]) for d in flaky if d.link), default=math.inf)
            change = min(change, updating.next_end(self.state))
            at = min(ends, change, moment)
            updating.settle(self, at)
            for controller in self.controllers.values():
                jobs.work_to(controller, at, members.settle)
            for drive in flaky:
                if drive.link and drive.link["next"] <= at:
                    self._link_changes(drive, at)
            if min(ends, change) > moment:
                return

    def _link_changes(self, drive: Drive, at: float) -> None:
        link, controller = drive.link, self.controller_at(str(drive.bay))
        assert link is not None
        if link["up"]:
            link["drops"] = [t for t in link["drops"] if t > at - WITHIN_SECONDS] + [at]
            drive.losses = [t for t in drive.losses if t > at - DAY_SECONDS] + [at]
            link |= {"up": False, "next": at + link["down"]}
            members.drive_gone(controller, drive, str(drive.bay), "link lost")
        elif len(link["drops"]) >= MOST_DROPS:
            drive.fault = "link"
            controller.event("given up", drive=drive, count=len(link["drops"]))
        else:
            link |= {"up": True, "next": at + max(1.0, link["every"] - link["down"])}
            members.drive_seated(controller, drive, "link back")
