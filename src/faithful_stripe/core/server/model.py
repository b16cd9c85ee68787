"""A server as a plain frozen value: the things that it tells of, and how one of them is chosen by what a person says.

Nothing here judges: states, margins and findings are `assess`'s.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..errors import StripeError
from .things import (
    Controller,
    Drive,
    FoundVolume,
    Gap,
    Part,
    Seat,
    SeatState,
    Use,
    UseKind,
    Volume,
    WorkKind,
)
from .unknown import UNKNOWN, Maybe


class ChoiceError(StripeError):
    """What was named is not there, or is there more than once."""

    template = "{what}"
    remedy = "{to_do}"


@dataclass(frozen=True)
class Server:
    """A server as it was at `time` (ISO 8601, its own clock). `panel`: rows of bay labels from the top left.

    hot_swap  whether drives may be changed while it is on
    """

    server: str
    maker: Maybe[str] = UNKNOWN
    model: Maybe[str] = UNKNOWN
    serial: Maybe[str] = UNKNOWN
    uuid: Maybe[str] = UNKNOWN
    firmware: Maybe[str] = UNKNOWN
    power: Maybe[str] = UNKNOWN
    time: str = ""
    controllers: tuple[Controller, ...] = ()
    drives: tuple[Drive, ...] = ()
    volumes: tuple[Volume, ...] = ()
    panel: tuple[tuple[str, ...], ...] = ()
    found_volumes: tuple[FoundVolume, ...] = ()
    parts: tuple[Part, ...] = ()
    gaps: tuple[Gap, ...] = ()
    lid_open: Maybe[bool] = UNKNOWN
    hot_swap: Maybe[bool] = UNKNOWN

    @property
    def off(self) -> bool:
        return self.power is not UNKNOWN and self.power.lower() in ("off", "poweringon", "poweringoff")

    # choosing -----------------------------------------------------------------------------------

    def volume(self, name: str, controller: str | None = None) -> Volume:
        """The volume with this name, path or durable name, at this controller or at any.

        Raises ChoiceError naming those there are, or asking which is meant.
        """
        here = [v for v in self.volumes if controller in (None, v.controller)]
        found = [v for v in here if name in (v.path, v.wwn)] or [v for v in here if v.name == name]
        self._at_controller(controller)
        if not found:
            listed = ", ".join(dict.fromkeys(v.name for v in self.volumes)) or "none yet"
            where = f" at controller {controller}" if controller else ""
            what = f"{self.server}: there is no volume {name}{where}"
            raise ChoiceError(what=what, to_do=f"volumes here: {listed}")
        if len(found) > 1:
            apart = len({v.controller for v in found}) == len(found)
            if apart:
                listed = ", ".join(v.controller for v in found)
                what = f"{self.server}: controllers {listed} have a volume {name} each"
                raise ChoiceError(what=what, to_do="say which: --controller ID")
            listed = ", ".join(v.path for v in found)
            what = f"{self.server}: {len(found)} volumes are called {name}"
            raise ChoiceError(what=what, to_do=f"say which, by its path: {listed}")
        return found[0]

    def _at_controller(self, controller: str | None) -> None:
        ids = [c.id for c in self.controllers]
        if controller is not None and controller not in ids:
            what = f"{self.server}: there is no controller {controller}"
            raise ChoiceError(what=what, to_do=f"controllers here: {', '.join(ids)}")

    def controller(self, name: str | None) -> Controller:
        """The controller with this id, or the only one. Raises ChoiceError naming those there are."""
        self._at_controller(name)
        found = [c for c in self.controllers if name in (None, c.id)]
        if len({c.id for c in found}) > 1:
            listed = ", ".join(c.id for c in found)
            raise ChoiceError(what=f"{self.server} has controllers {listed}", to_do="say which: --controller ID")
        if not found:
            raise ChoiceError(what=f"{self.server} has no controller", to_do="is its storage switched off?")
        return found[0]

    def found_volume(self, name: str, controller: str | None = None) -> FoundVolume:
        """The found volume with this name. Raises ChoiceError naming those there are."""
        self._at_controller(controller)
        found = [f for f in self.found_volumes if name in (f.name, f.guid) and controller in (None, f.controller)]
        if not found:
            listed = ", ".join(dict.fromkeys(f.name for f in self.found_volumes)) or "none yet"
            what = f"{self.server}: no seated drive describes a volume {name}"
            raise ChoiceError(what=what, to_do=f"found here: {listed}")
        if len(found) > 1:
            if len({f.controller for f in found}) > 1:
                listed = ", ".join(f.controller for f in found)
                what = f"{self.server}: controllers {listed} have found a volume {name} each"
                raise ChoiceError(what=what, to_do="say which: --controller ID")
            what = f"{self.server}: {len(found)} found volumes are called {name}"
            raise ChoiceError(what=what, to_do=f"say which, by its GUID: {', '.join(f.guid for f in found)}")
        return found[0]

    def drive(self, wanted: str) -> Drive:
        """The drive with this serial number, durable name or path, or the bay with this label.

        A label that stands in several enclosures is not taken silently; neither is a name that is a serial number and
        another bay's label. Raises ChoiceError.
        """
        exact = [d for d in self.drives if d.path == wanted or f"{d.enclosure}/{d.bay}" == wanted]
        named = exact or [d for d in self.drives if wanted in (d.serial, d.wwn)]
        labelled = [] if exact else [d for d in self.drives if d.bay == wanted]
        found = {d.path: d for d in (*named, *labelled)}
        if not found:  # as a person types it
            low = wanted.casefold()
            found = {d.path: d for d in self.drives if low in (str(d.serial).casefold(), d.bay.casefold())}
        if len(found) > 1:
            listed = "; ".join(f"{d.enclosure}/{d.bay} ({_told(d)})" for d in found.values())
            what = f"{self.server}: {wanted} names {len(found)} bays or drives"
            raise ChoiceError(what=what, to_do=f"say which, by enclosure and bay, serial number or path: {listed}")
        if not found:
            labels = ", ".join(d.bay for d in self.drives)
            raise ChoiceError(what=f"{self.server}: there is no bay {wanted}", to_do=f"bays here: {labels}")
        return next(iter(found.values()))

    def bay(self, label: str) -> Drive:
        """The bay with this label or path. Raises ChoiceError naming those there are."""
        return self.drive(label)

    def at_place(self, enclosure: str, label: str) -> Drive | None:
        """The bay at a place; None where the server lists none there (some list only bays with a drive)."""
        return next((d for d in self.drives if d.place == (enclosure, label)), None)

    def seated_at(self, seat: Seat) -> Drive | None:
        """The drive that stands at a seat, where one of this server's bays holds it."""
        if seat.drive:
            return next((d for d in self.drives if d.path == seat.drive), None)
        return next((d for d in self.drives if d.seated and d.serial == seat.serial), None)

    def mates(self, volume: Volume) -> tuple[Drive, ...]:
        """The drives of a volume's active members."""
        found = [self.seated_at(s) for s in volume.seats if s.state is SeatState.ACTIVE]
        return tuple(d for d in found if d)

    def volume_at(self, path: str) -> Volume | None:
        """The volume with this path."""
        return next((v for v in self.volumes if v.path == path), None)


def _told(d: Drive) -> str:
    """What tells a bay from another one of its label."""
    if not d.seated:
        return "empty"
    return d.path if d.serial is UNKNOWN else f"serial {d.serial}"


def uses_of(drive: Drive, volumes: Sequence[Volume]) -> tuple[Use, ...]:
    """What a drive is used for, from the volumes' seats and its own word on being a spare."""
    found: list[Use] = []
    for v in volumes:
        for seat in v.at(drive) if drive.seated else ():
            kind = UseKind.FORMER_MEMBER if seat.state is SeatState.MISSING else UseKind.MEMBER
            found.append(Use(kind, v.name, v.path, seat.position if v.ordered else UNKNOWN))
        for seat in v.homes(drive) if drive.seated else ():
            if seat.stands_in and not v.at(drive):
                found.append(Use(UseKind.STOOD_IN_FOR, v.name, v.path, seat.position, seat.bay))
        for work in v.work:
            if work.kind is WorkKind.COPY and work.target == drive.bay and not v.at(drive):
                found.append(Use(UseKind.COPY_TARGET, v.name, v.path, work.position))
    if drive.spare is True:
        serves = [v for v in volumes if v.path in drive.spare_for or drive.path in v.spares]
        found += [Use(UseKind.DEDICATED_SPARE, v.name, v.path) for v in serves]
        if not serves:
            found.append(Use(UseKind.DEDICATED_SPARE if drive.dedicated is True else UseKind.GLOBAL_SPARE))
    known_paths = {v.path for v in volumes}
    found += [Use(UseKind.NOT_KNOWN, "", path) for path in drive.volumes if path not in known_paths]
    return tuple(found)
