"""A bench as a folder: opened for one request at a time, with its clock, its drives' images and its log."""

from __future__ import annotations

import os
import random
import shutil
import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from pathlib import Path

from ..media.given import why_not
from ..media.image import MediaError
from ..media.parts import create_image
from ..media.whole import sync_folder, write_text
from . import events, images, moving
from .clock import Clock, iso
from .description import description_text, read_description
from .errors import BenchError
from .hands import Hands
from .state import State
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
    def session(self, power_cut: random.Random | None = None, stay_off: bool = False) -> Iterator[Hands]:
        """Hold the bench for one request: work is carried on to now, and what changed is kept at the end.

        power_cut  the power has failed before this: drives lose what their caches held, at this chance's pick
        stay_off   it does not come back by itself
        """
        with self.store.transaction():
            state = self.store.load()
            if (state.leaving or state.arrived) and moving.settle(self.folder, state, _opened):
                self.store.save(state, [])
                self.store.checkpoint()
            session = Hands(self.folder, self.store, state, self._wind(state))
            try:
                images.look(session)
                if power_cut and state.power:
                    if session.journal.empty:  # else a killed process was at work when the power failed
                        session.advance()
                    session.cut_power(power_cut)
                    if not stay_off:
                        session.power_on()
                elif session.active:
                    session.recover()
                session.advance()
                yield session
                session.save()
                self._kept = state.clock
            finally:
                session.close()


def create(
    folder: Path,
    description: Path | None = None,
    now: Callable[[], float] = time.time,
    take: Sequence[tuple[Path, str]] = (),
) -> State:
    """Make a new bench folder: state, log, and one sparse image of the full nominal size per drive.

    take  (other bench, serial) of drives that lie pulled or in stock there: they move here, as they are

    The folder appears complete or not at all. Raises BenchError when it exists or cannot be made.
    """
    folder = Path(folder)
    if folder.exists():
        raise BenchError(bench=folder, what="it exists already", to_do="choose another name; nothing is overwritten")
    state = read_description(description, now())
    state.server["uuid"] = str(uuid.uuid4())
    text = description_text(description)[1]
    _sweep(folder)
    building = folder.with_name(f".{folder.name}.new-{os.getpid()}")
    with ExitStack() as stack:
        places = sorted({Path(place).resolve() for place, _serial in take})  # in one order, whoever else moves drives
        givers = {place: stack.enter_context(_opened(place, now)) for place in places}
        taken = [(givers[Path(place).resolve()], serial) for place, serial in take]
        for giver, serial in taken:
            _check_loose(giver, state, serial)
        for giver, serial in taken:
            moving.begin(giver, serial, folder, building, state.server["uuid"])
        stack.callback(shutil.rmtree, building, ignore_errors=True)
        try:
            (building / "drives").mkdir(parents=True)
            for drive in state.drives.values():
                create_image(building / "drives" / f"{drive.serial}.img", drive.size)
            for giver, serial in taken:
                for path in images.files_of(giver.folder, serial):
                    os.link(path, building / "drives" / path.name)
                state.drives[serial] = replace(giver.state.drives[serial], place="pulled", link=None)
                state.arrived[serial] = str(giver.folder)
            write_text(building / "bench.toml", text)
            Store.create(building, state)
            sync_folder(building / "drives")
            sync_folder(building)
            os.rename(building, folder)
            sync_folder(folder.parent)
        except (OSError, MediaError, BenchError) as reason:
            what = reason.what if isinstance(reason, BenchError) else why_not(reason)
            to_do = "choose another place" + (" on the file system of the drives' bench" if take else "")
            raise BenchError(bench=folder, what=f"it cannot be created ({what})", to_do=to_do) from reason
        for giver, serial in taken:
            moving.end(giver.folder, giver.state, serial)
    bench = Bench(folder)
    try:
        with bench.session() as session:
            session.log(events.make("started", iso(state.clock[0]), server=state.server["name"]))
    finally:
        bench.close()
    return state


def _sweep(folder: Path) -> None:
    """Remove what a killed process left of an earlier attempt at this bench."""
    for left in folder.parent.glob(f".{folder.name}.new-*"):
        number = left.name.rpartition("-")[2]
        if number.isdecimal() and not Path(f"/proc/{number}").exists():
            shutil.rmtree(left, ignore_errors=True)


@contextmanager
def _opened(place: Path, now: Callable[[], float] = time.time) -> Iterator[Hands]:
    bench = Bench(place, wall=now)
    try:
        with bench.session() as session:
            yield session
    finally:
        bench.close()


def _check_loose(giver: Hands, state: State, serial: str) -> None:
    """Raise BenchError unless a drive can be taken out of a bench: it is there, and not seated."""
    drive = giver.state.drives.get(serial)
    loose = ", ".join(d.serial for d in giver.state.drives.values() if d.bay is None) or "none"
    if drive is None or drive.bay or serial in giver.state.leaving:
        what = f"drive {serial} is in bay {drive.bay}" if drive and drive.bay else f"there is no drive {serial}"
        raise BenchError(bench=giver.folder, what=what, to_do=f"pull it first; loose drives there: {loose}")
    if serial in state.drives:
        what = f"the new bench has a drive {serial} of its own"
        raise BenchError(bench=giver.folder, what=what, to_do="describe the new bench without it (--from)")
