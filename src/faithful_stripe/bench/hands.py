"""The hands in the machine room: drives pulled and seated, faults, the lid; and the host's side of a volume."""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from typing import Any

from ..core.ranges import Range, subtract, total, union
from ..core.source import BlockSource
from ..media.forgiving import read_forgiving
from ..media.image import ImageFile
from ..media.parts import create_image, open_image
from ..media.whole import CHUNK
from . import jobs, members
from .controller import Controller
from .description import SERIAL
from .errors import BayTaken, BenchError, NotHot, UnknownDrive
from .images import files_of
from .session import Session
from .state import Drive, Volume

BROUGHT: dict[str, Any] = {
    "vendor": "unknown", "model": "copy of an image", "part": "", "media": "HDD", "protocol": "SAS", "rpm": None,
    "sector": 512, "rate": 200_000_000, "firmware": "",
}  # fmt: skip
"""What is said of a drive that was made from an image."""

WARM, HOT = 55, 65
"""Degrees Celsius from which a drive's temperature is a warning, and critical."""


class Hands(Session):
    """A session with hands."""

    def drive(self, bay_or_serial: str) -> Drive:
        """A seated drive by bay label or serial number. Raises UnknownBay, EmptyBay, UnknownDrive."""
        drive = self.state.drives.get(bay_or_serial)
        if drive is not None and drive.bay:
            return drive
        return self.controller_at(bay_or_serial).seated(bay_or_serial)

    def pull(self, bay_or_serial: str) -> Drive:
        """Take a drive out of its bay. Raises NotHot where that must not be done while the server is on."""
        drive = self.drive(bay_or_serial)
        bay = str(drive.bay)
        self._check_hot(bay, "pull the drive")
        drive.bay, drive.place, drive.gbps = None, "pulled", 0.0
        if self.active:
            members.drive_gone(self.controller_at(bay), drive, bay, "drive removed")
        return drive

    def seat(self, bay: str, serial: str) -> Drive:
        """Put a drive from stock or the bench top into a bay. A link that came and went is sound again."""
        controller = self._check_free(bay)
        loose = {s: d for s, d in self.state.drives.items() if d.bay is None}
        if serial not in loose:
            seated = self.state.drives.get(serial)
            where = f"outside the server (it is in bay {seated.bay})" if seated else "in stock"
            raise UnknownDrive(serial=serial, where=where, known=", ".join(loose) or "none")
        if serial in self.state.leaving:
            what = f"drive {serial} was given to another bench, and that one is no longer where it was"
            raise BenchError(bench=self.folder, what=what, to_do="open that bench where it is now (`survey`)")
        drive = loose[serial]
        self.medium(drive)  # a damaged image is found before anything changes
        drive.bay, drive.place, drive.link = bay, "", None
        drive.fault = "" if drive.fault == "link" else drive.fault
        drive.gbps = self.state.negotiated(drive)
        if self.active:
            members.drive_seated(controller, drive)
            self.recover()
        return drive

    def seat_copy(
        self, bay: str, serial: str, source: BlockSource, tell: Callable[[int, int], None] | None = None
    ) -> Drive:
        """Put a new drive into a bay that holds a copy of what `source` holds: nobody says of which make it is.

        What cannot be read there cannot be read on the drive either.

        tell  called with (bytes of data copied, bytes of data in all)
        Raises BenchError: there is such a drive, or its name or size is not possible; BayTaken, UnknownBay, NotHot.
        """
        self._check_free(bay)
        if not re.fullmatch(SERIAL, serial) or serial in self.state.drives:
            what = (
                f"there is a drive {serial} here" if serial in self.state.drives else f"{serial!r} is no serial number"
            )
            raise BenchError(bench=self.folder, what=what, to_do="name another one: 1 to 32 letters, digits or dashes")
        if not source.size or source.size % BROUGHT["sector"]:
            what = f"{source} holds {source.size} bytes, no whole number of sectors of {BROUGHT['sector']}"
            raise BenchError(bench=self.folder, what=what, to_do="name the whole image of a drive")
        drive = Drive(serial=serial, size=source.size, place="pulled", **BROUGHT)
        self._clear(serial)  # what a killed process left: no drive here has that name
        try:
            drive.unreadable = [[a, b - a] for a, b in self._copied(serial, source, tell)]
            self.state.drives[serial] = drive
            return self.seat(bay, serial)
        except BaseException:
            self.state.drives.pop(serial, None)
            self._clear(serial)
            raise

    def _copied(self, serial: str, source: BlockSource, tell: Callable[[int, int], None] | None) -> list[Range]:
        """Copy an image for a new drive; the ranges, in whole sectors, that cannot be read."""
        path, unread = self.folder / "drives" / f"{serial}.img", list[Range]()
        create_image(path, source.size)
        ranges = list(source.data_ranges(0, source.size))
        whole, done = total(ranges), 0
        with open_image(path, writable=True) as image:
            for a, b in ranges:
                for at in range(a, b, CHUNK):
                    data = read_forgiving(source, at, min(CHUNK, b - at), unread)
                    if any(data):
                        image.write(at, data)
                    done += len(data)
                    if tell:
                        tell(done, whole)
            image.flush()
        sector = BROUGHT["sector"]
        return union((a // sector * sector, -(-b // sector) * sector) for a, b in unread)

    def _clear(self, serial: str) -> None:
        for path in files_of(self.folder, serial):
            path.unlink()

    def _check_free(self, bay: str) -> Controller:
        """The controller of a bay that is there, empty, and may be used now."""
        controller = self.controller_at(bay)
        there = self.state.in_bay(bay)
        if there:
            raise BayTaken(bay=bay, serial=there.serial)
        self._check_hot(bay, "seat the drive")
        return controller

    def _check_hot(self, bay: str, act: str) -> None:
        if self.state.power and not self.state.server["hot_swap"]:
            raise NotHot(bay=bay, act=act)

    # faults -------------------------------------------------------------------------------------

    def _of(self, drive: Drive) -> Controller | None:
        """The controller that notices what happens to a seated drive; None while none is at work."""
        return self.controller_at(str(drive.bay)) if self.active else None

    def fail(self, bay_or_serial: str) -> Drive:
        """Make a seated drive fail: it answers nothing any more."""
        drive = self.drive(bay_or_serial)
        if drive.fault != "dead":
            answered, drive.fault = drive.works, "dead"
            controller = self._of(drive)
            if controller and answered:
                members.drive_gone(controller, drive, str(drive.bay), "drive failed")
        return drive

    def predict(self, bay_or_serial: str) -> Drive:
        """Make a seated drive predict its failure: it goes on working."""
        drive = self.drive(bay_or_serial)
        if not drive.predicted and not drive.fault:
            controller = self._of(drive)
            if controller:
                members.predict_failure(controller, drive)
            drive.predicted = True
        return drive

    def spoil(self, bay_or_serial: str, offset: int, length: int) -> Drive:
        """Make a range of a seated drive unreadable, in whole sectors; the drive's own scan tells of it."""
        drive = self.drive(bay_or_serial)
        start, end = self._sectors(drive, offset, length)
        self.medium(drive).spoil(start, end - start)
        controller = self._of(drive)
        if controller:
            controller.event("sectors unreadable", drive=drive, where=f"bytes {start} to {end}")
        return drive

    def spoil_some(self, bay_or_serial: str, count: int, rng: random.Random) -> Drive:
        """Make `count` sectors unreadable at random, among those that hold data if any does."""
        drive = self.drive(bay_or_serial)
        ranges = list(self.medium(drive).data_ranges(0, drive.size)) or [(0, drive.size)]
        sectors = [(b - a) // drive.sector for a, b in ranges]
        for a, _b in rng.choices(ranges, [max(1, n) for n in sectors], k=count):
            inner = rng.randrange(max(1, sectors[ranges.index((a, _b))]))
            self.spoil(drive.serial, a + inner * drive.sector, drive.sector)
        return drive

    def corrupt(self, bay_or_serial: str, offset: int, length: int) -> Drive:
        """Change the bytes of a range of a seated drive, in whole sectors; nothing notices by itself."""
        drive = self.drive(bay_or_serial)
        start, end = self._sectors(drive, offset, length)
        buffer = bytearray(end - start)
        self.medium(drive).image.read_into(start, buffer)
        self.medium(drive).image.write(start, bytes(value ^ 0xA5 for value in buffer))
        return drive

    def slow(self, bay_or_serial: str, factor: float) -> Drive:
        """Make a seated drive work at one part in `factor` of its rate (1: as it should)."""
        drive = self.drive(bay_or_serial)
        drive.slowed = factor
        jobs.retime(self.controller_at(str(drive.bay)))
        return drive

    def heat(self, bay_or_serial: str, celsius: int) -> Drive:
        """Set a seated drive's temperature; crossing a threshold is an event."""
        drive = self.drive(bay_or_serial)
        before, drive.celsius = warmth(drive.celsius), celsius
        controller, now = self._of(drive), warmth(celsius)
        if controller and now != before:
            kind = {"OK": "normal", "Warning": "high", "Critical": "critical"}[now]
            sensor = f"drive temperature, bay {drive.bay}"
            controller.event(f"temperature {kind}", drive=drive, celsius=celsius, sensor=sensor)
        return drive

    def loosen(self, bay_or_serial: str, every: float, down: float) -> Drive:
        """Make a seated drive's link fail now, for `down` seconds, and again `every` so many, until it is reseated."""
        drive = self.drive(bay_or_serial)
        if not 0 < down < every:
            raise BenchError(
                bench=self.folder,
                what=f"a link that is down for {down:g} s every {every:g} s never comes back",
                to_do="choose a time down that is shorter than the time between",
            )
        drive.link = {"every": every, "down": down, "next": self.clock.now(), "up": True, "drops": []}
        self.advance()
        return drive

    def lid(self, is_open: bool) -> None:
        """Open or close the chassis."""
        if self.state.lid != is_open:
            self.state.lid = is_open
            if self.state.power:
                self.tell("lid opened" if is_open else "lid closed")

    def _sectors(self, drive: Drive, offset: int, length: int) -> tuple[int, int]:
        start, end = offset // drive.sector * drive.sector, -(-(offset + length) // drive.sector) * drive.sector
        if not 0 <= start < end <= drive.size or end - start > 1 << 30:
            raise BenchError(
                bench=self.folder,
                what=f"{length} bytes at {offset} are not a range of drive {drive.serial} ({drive.size} bytes)",
                to_do="name an offset and a length (at most 1 GiB) inside the drive",
            )
        return start, end

    # the host's side ----------------------------------------------------------------------------

    def load(
        self, controller: Controller, volume: Volume, image: ImageFile, tell: Callable[[int, int], None] | None = None
    ) -> int:
        """Write an image to the start of a volume through the array engine; bytes of data written.

        Holes of the image become holes of the volume. Raises BenchError when it does not fit, PoweredOff.
        """
        self.require_power()
        array = controller.array(volume)
        if image.size > array.size:
            raise BenchError(
                bench=self.folder,
                what=f"{image} holds {image.size} bytes, volume {volume.name} {array.size}",
                to_do="load a smaller image, or create a larger volume",
            )
        controller.before_write(volume)
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


def warmth(celsius: int) -> str:
    """A drive temperature as Redfish health: "OK", "Warning" or "Critical"."""
    return "Critical" if celsius >= HOT else "Warning" if celsius >= WARM else "OK"
