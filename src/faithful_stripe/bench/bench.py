"""A bench as a folder: opened for one request at a time, with its clock, its drives' images and its log."""

from __future__ import annotations

import os
import random
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from ..core.ranges import subtract
from ..media.image import ImageFile, MediaError
from ..media.parts import create_image, open_image
from ..media.whole import CHUNK, sync_folder, write_text
from . import events, jobs, members, ondisk
from .clock import Clock, iso
from .controller import Controller
from .description import read_description, shipped
from .drive import Medium
from .errors import BayTaken, BenchError, UnknownBay, UnknownDrive
from .journal import Journal, replay
from .state import Drive, Event, State, Volume
from .store import Store


class Bench:
    """A bench folder.

    speed  bench seconds per wall second while this object is the one that moves the clock
    wall   where wall time comes from
    """

    def __init__(self, folder: Path, speed: float = 1.0, wall: Callable[[], float] = time.time) -> None:
        self.folder, self.speed, self.wall = Path(folder), speed, wall
        self.store = Store(self.folder)
        self._clock: Clock | None = None
        self._kept: tuple[float, float] | None = None

    def close(self) -> None:
        self.store.close()

    def _wind(self, state: State) -> Clock:
        """The clock as of this request. Until this object was opened, and while others hold the bench, bench
        time runs with the wall; only from here on does it run at this object's speed."""
        if self._clock is None or state.clock != self._kept:
            there = Clock(state.clock, wall=self.wall).now()
            here = self._clock.now() if self._clock else there
            self._clock = Clock((max(here, there), self.wall()), self.speed, self.wall)
            self._kept = state.clock
        return self._clock

    @contextmanager
    def session(self, power_cut: random.Random | None = None) -> Iterator[Session]:
        """Hold the bench for one request: work is carried on to now, and what changed is kept at the end.

        power_cut  the power has failed before this: drives lose what their caches held, at this chance's pick
        """
        with self.store.transaction():
            state = self.store.load()
            session = Session(self, state, self._wind(state))
            try:
                if power_cut:
                    session.power_lost = session.lose_power(power_cut)
                session.recover()
                if power_cut:
                    session.controller.event("power restored", server=state.server["name"])
                session.advance()
                yield session
                session.save()
                self._kept = state.clock
            finally:
                session.close()


class Session:
    """What one request sees and may change. The hands (`seat`, `pull`, `fault`) are methods here."""

    def __init__(self, bench: Bench, state: State, clock: Clock) -> None:
        self.bench, self.state, self.clock = bench, state, clock
        self._media: dict[str, Medium] = {}
        self.said: list[Event] = []
        self.power_lost = 0
        self._unsaved: list[Event] = []
        self.journal = Journal(bench.folder)
        self.controller = Controller(state, self.medium, self.log, self.save_and_go_on, state.clock[0])

    def close(self) -> None:
        for medium in self._media.values():
            medium.close()

    def medium(self, drive: Drive) -> Medium:
        """The drive, opened for reading and writing. Raises TruncatedImage, MediaError."""
        if drive.serial not in self._media:
            path = self.bench.folder / "drives" / f"{drive.serial}.img"
            image = open_image(path, writable=True, expected_size=drive.size)
            self._media[drive.serial] = Medium(drive, image, self.bench.folder / "drives" / f"{drive.serial}.cache")
        return self._media[drive.serial]

    def log(self, event: Event) -> None:
        """Note an event: `said` keeps all of this session's, for whoever asked."""
        self.said.append(event)
        self._unsaved.append(event)

    def recover(self) -> None:
        """Finish writes that a killed process left in the journal."""
        for record in self.journal.records():
            if record.volume in self.state.volumes:
                array = self.controller.array(self.state.volumes[record.volume])
                replay(record, array)
                array.flush()
        self.journal.clear()

    def lose_power(self, rng: random.Random) -> int:
        """Every drive loses some of what it had not flushed; how many sectors in all."""
        return sum(self.medium(d).cache.lose_power(rng) for d in self.state.drives.values() if d.bay)

    def advance(self, seconds: float = 0.0) -> None:
        """Carry work on to now, or to `seconds` of bench time from now."""
        moment = self.clock.now() + seconds
        working = bool(self.state.jobs)
        jobs.advance(self.controller, moment, members.settle)
        if working or seconds or self.clock.speed != 1.0:
            self.state.clock = self.clock.set_mark(moment)

    def save(self) -> None:
        """Store what changed and log what happened."""
        jobs.activate(self.controller)
        ondisk.update(self.controller)
        self.bench.store.save(self.state, self._unsaved)
        self._unsaved.clear()

    def save_and_go_on(self) -> None:
        self.save()
        self.bench.store.checkpoint()

    def events(self, after: int = 0) -> list[Event]:
        """The log, oldest first."""
        self.save()
        return self.bench.store.events(after)

    # hands --------------------------------------------------------------------------------------

    def drive(self, bay_or_serial: str) -> Drive:
        """A seated drive by bay label or serial number. Raises UnknownBay, EmptyBay, UnknownDrive."""
        drive = self.state.drives.get(bay_or_serial)
        return drive if drive is not None and drive.bay else self.controller.seated(bay_or_serial)

    def pull(self, bay_or_serial: str) -> Drive:
        """Take a drive out of its bay."""
        drive = self.drive(bay_or_serial)
        bay, drive.bay, drive.place = str(drive.bay), None, "pulled"
        members.drive_gone(self.controller, drive, bay, "drive removed")
        return drive

    def seat(self, bay: str, serial: str) -> Drive:
        """Put a drive from the cupboard or the bench top into a bay."""
        if bay not in self.state.bays:
            raise UnknownBay(bay=bay, bays=", ".join(self.state.bays))
        there = self.state.in_bay(bay)
        if there:
            raise BayTaken(bay=bay, serial=there.serial)
        loose = {s: d for s, d in self.state.drives.items() if d.bay is None}
        if serial not in loose:
            seated = self.state.drives.get(serial)
            where = f"outside the server (it is in bay {seated.bay})" if seated else "in the cupboard"
            raise UnknownDrive(serial=serial, where=where, known=", ".join(loose) or "none")
        drive = loose[serial]
        self.medium(drive)  # a damaged image is found before anything changes
        drive.bay, drive.place = bay, ""
        members.drive_seated(self.controller, drive)
        return drive

    def fail(self, bay_or_serial: str) -> Drive:
        """Make a seated drive fail: it answers nothing any more."""
        drive = self.drive(bay_or_serial)
        if not drive.fault:
            drive.fault = "dead"
            members.drive_gone(self.controller, drive, str(drive.bay), "drive failed")
        return drive

    def predict(self, bay_or_serial: str) -> Drive:
        """Make a seated drive predict its failure: it goes on working."""
        drive = self.drive(bay_or_serial)
        if not drive.predicted and not drive.fault:
            members.predict_failure(self.controller, drive)
        return drive

    def spoil(self, bay_or_serial: str, offset: int, length: int) -> Drive:
        """Make a range of a seated drive unreadable, in whole sectors."""
        drive = self.drive(bay_or_serial)
        start, end = self._sectors(drive, offset, length)
        self.medium(drive).spoil(start, end - start)
        self.controller.event("sectors unreadable", drive=drive, where=f"bytes {start} to {end}")
        return drive

    def corrupt(self, bay_or_serial: str, offset: int, length: int) -> Drive:
        """Change the bytes of a range of a seated drive, in whole sectors; nothing notices by itself."""
        drive = self.drive(bay_or_serial)
        start, end = self._sectors(drive, offset, length)
        buffer = bytearray(end - start)
        self.medium(drive).image.read_into(start, buffer)
        self.medium(drive).image.write(start, bytes(value ^ 0xA5 for value in buffer))
        return drive

    def _sectors(self, drive: Drive, offset: int, length: int) -> tuple[int, int]:
        start, end = offset // drive.sector * drive.sector, -(-(offset + length) // drive.sector) * drive.sector
        if not 0 <= start < end <= drive.size or end - start > 1 << 30:
            raise BenchError(
                bench=self.bench.folder,
                what=f"{length} bytes at {offset} are not a range of drive {drive.serial} ({drive.size} bytes)",
                to_do="name an offset and a length (at most 1 GiB) inside the drive",
            )
        return start, end

    def load(self, volume: Volume, image: ImageFile, tell: Callable[[int, int], None] | None = None) -> int:
        """Write an image to the start of a volume through the array engine; bytes of data written.

        Holes of the image become holes of the volume. Raises BenchError when it does not fit.
        """
        array = self.controller.array(volume)
        if image.size > array.size:
            raise BenchError(
                bench=self.bench.folder,
                what=f"{image} holds {image.size} bytes, volume {volume.name} {array.size}",
                to_do="load a smaller image, or make a larger volume",
            )
        self.controller.before_write(volume)
        self.save_and_go_on()
        ranges = list(image.data_ranges())
        for a, b in subtract(list(array.data_ranges(0, image.size)), ranges):
            self.journal.discard(array, volume.number, a, b - a)
        whole, done = sum(b - a for a, b in ranges), 0
        for a, b in ranges:
            at = a
            while at < b:
                stop = min(b, (at // CHUNK + 1) * CHUNK)
                buffer = bytearray(stop - at)
                image.read_into(at, buffer)
                self.journal.write(array, volume.number, at, buffer)
                done, at = done + len(buffer), stop
                if tell:
                    tell(done, whole)
        array.flush()
        return done


def create(folder: Path, description: Path | None = None, now: Callable[[], float] = time.time) -> State:
    """Make a new bench folder: state, log, and one sparse image of the full nominal size per drive.

    The folder appears complete or not at all. Raises BenchError when it exists or cannot be made.
    """
    folder = Path(folder)
    if folder.exists():
        raise BenchError(bench=folder, what="it exists already", to_do="choose another name; nothing is overwritten")
    state = read_description(description, now())
    text = shipped()[1] if description is None else description.read_text("utf-8")
    building = folder.with_name(f".{folder.name}.new-{os.getpid()}")
    try:
        (building / "drives").mkdir(parents=True)
        for drive in state.drives.values():
            create_image(building / "drives" / f"{drive.serial}.img", drive.size)
        write_text(building / "bench.toml", text)
        Store.create(building, state)
        os.rename(building, folder)
        sync_folder(folder.parent)
    except (OSError, MediaError) as reason:
        raise BenchError(bench=folder, what=f"it cannot be made ({reason})", to_do="choose another place") from reason
    finally:
        shutil.rmtree(building, ignore_errors=True)
    bench = Bench(folder)
    try:
        with bench.session() as session:
            session.log(events.make("started", iso(state.clock[0]), server=state.server["name"]))
    finally:
        bench.close()
    return state
