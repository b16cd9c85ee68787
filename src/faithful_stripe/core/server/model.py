"""What a server's storage looks like, as values: drives, volumes, controllers, findings, and the survey of them all."""

from __future__ import annotations

from dataclasses import dataclass, field

from ..errors import StripeError


class ChoiceError(StripeError):
    """What was named is not there, or is there more than once."""

    template = "{what}"
    remedy = "{to_do}"


@dataclass(frozen=True)
class Drive:
    """A bay and what is seated there. Without a drive `serial` is "" and `state` "Absent"; sizes in bytes.

    use      "empty", "unassigned", "member N of VOLUME", "was member N of VOLUME" for one that failed,
             or "hot spare, ..."
    content  what an unassigned drive seems to hold: "" for nothing, None where the server cannot say
    led      the bay's LED pattern, by its SFF-8489 name as Redfish `StatusIndicator` spells it
    controller  the id of the controller that the bay belongs to
    celsius  its temperature, where the server tells
    located  its identify LED is on
    hours_path  where its metrics are read, "" where the server has none
    gbps, best_gbps  the link rate that it has and the one it can do, in Gbit/s, where the server tells
    advice   what the server says to do about `why`
    spare    what kind of hot spare it is, in words; `spare_for` the volumes, `spare_reverts` whether it stands by again
    """

    bay: str
    serial: str
    vendor: str
    model: str
    part: str
    size: int
    media: str
    protocol: str
    rpm: int | None
    sector: int | None
    firmware: str
    state: str
    health: str
    use: str
    content: str | None
    led: str
    why: str
    path: str
    predicted: bool = False
    unreadable: int = 0
    spare: str = ""
    controller: str = ""
    celsius: float | None = None
    advice: str = ""
    gbps: float | None = None
    best_gbps: float | None = None
    located: bool = False
    hours_path: str = ""
    spare_for: tuple[str, ...] = ()
    spare_reverts: bool = True


@dataclass(frozen=True)
class Seat:
    """One position of a volume: `state` is "active", "lost" or "rebuilding".

    stands_in  where a hot spare stands there: the bay whose drive it stands in for; else ""
    """

    position: int
    bay: str
    serial: str
    state: str
    stands_in: str = ""


@dataclass(frozen=True)
class Operation:
    """Work on a volume; bytes of the member where the server tells them, else None; it may wait for other work."""

    volume: str
    name: str
    percent: float
    done: int | None
    total: int | None
    waits: bool = False


CACHE_WORDS = {
    "ReadAhead": "ahead", "AdaptiveReadAhead": "adaptive", "WriteThrough": "through",
    "ProtectedWriteBack": "protected-back", "UnprotectedWriteBack": "unprotected-back", "Off": "off",
}  # fmt: skip
"""Cache policies of Redfish volumes in the words of the command line."""


@dataclass(frozen=True)
class Volume:
    """A volume; `margin` is None where it cannot be told, -1 when data are lost. Members span by span.

    ordered                  whether the server tells the members' order; else they stand in the order of the bays
    read_cache, write_cache  as `CACHE_WORDS` has them; "" where the server does not tell
    found, found_size        whether the system's own firmware found it at the last start, and with how many bytes;
                             None where the server does not tell
    boots                    it is first in the boot order
    """

    name: str
    level: str
    size: int
    strip: int | None
    rotation: str | None
    data: str | None
    state: str
    health: str
    margin: int | None
    members: tuple[Seat, ...]
    work: tuple[Operation, ...]
    content: str | None
    path: str
    etag: str | None
    spans: int = 1
    q: str | None = None
    q_place: str | None = None
    q_exponent: str | None = None
    copies: int = 1
    ordered: bool = True
    controller: str = ""
    lost: tuple[tuple[int, int], ...] = ()
    read_cache: str = ""
    write_cache: str = ""
    found: bool | None = None
    found_size: int | None = None
    boots: bool = False

    @property
    def key(self) -> tuple[str, str]:
        """Which volume it is: two controllers may have one of the same name."""
        return self.controller, self.name


@dataclass(frozen=True)
class BootOption:
    """Something the server can be started from; `volume`: the path of the volume it is, "" for anything else."""

    reference: str
    shown: str
    volume: str


@dataclass(frozen=True)
class ForeignSeat:
    """One position of a foreign volume: `state` is "current", "stale", "incomplete" or "missing"; `bay` "" then."""

    position: int
    bay: str
    serial: str
    state: str


@dataclass(frozen=True)
class ForeignVolume:
    """A volume that seated drives describe and their controller does not know.

    margin   what it would be after the import; None when it cannot be imported: `trouble` says why, `advice` what to do
    written  when the newest of its records was written, by the clock of who wrote it
    """

    name: str
    guid: str
    level: str
    size: int | None
    writer: str
    written: str
    margin: int | None
    trouble: str
    advice: str
    members: tuple[ForeignSeat, ...]
    controller: str
    path: str


@dataclass(frozen=True)
class Controller:
    """A controller. `rates` in per cent of the drives' rate; None or "" where the server does not tell.

    replacement         "automatic" or "by-hand": whether a blank drive in a failed bay is taken by itself
    copy_on_prediction  whether a drive that predicts its failure is copied to a hot spare by itself
    direct              it offers no volumes: its drives are presented one by one
    """

    id: str
    name: str
    serial: str
    firmware: str
    state: str
    health: str
    levels: tuple[str, ...]
    path: str = ""
    rebuild_rate: int | None = None
    check_rate: int | None = None
    replacement: str = ""
    copy_on_prediction: bool | None = None
    direct: bool = False


@dataclass(frozen=True)
class Finding:
    """Something that needs attention: how bad ("Warning", "Critical"), where, what, what to do."""

    severity: str
    where: str
    what: str
    to_do: str


@dataclass(frozen=True)
class Server:
    """A server as it was at `time` (ISO 8601, its own clock). `panel`: rows of bay labels from the top left."""

    server: str
    maker: str
    model: str
    serial: str
    firmware: str
    power: str
    time: str
    controllers: tuple[Controller, ...]
    drives: tuple[Drive, ...]
    volumes: tuple[Volume, ...]
    panel: tuple[tuple[str, ...], ...]
    foreign: tuple[ForeignVolume, ...] = ()
    lid_open: bool = False
    findings: tuple[Finding, ...] = field(default=())

    def volume(self, name: str, controller: str | None = None) -> Volume:
        """The volume with this name, at this controller or at any. Raises ChoiceError naming those there are."""
        found = [v for v in self.volumes if v.name == name and controller in (None, v.controller)]
        self.one(f"volume {name}", [v.controller for v in found], [v.name for v in self.volumes], controller)
        return found[0]

    def one(self, what: str, found: list[str], known: list[str], controller: str | None) -> None:
        """Raise ChoiceError unless exactly one thing was found; `found` are the controllers that have it."""
        ids = [c.id for c in self.controllers]
        if controller is not None and controller not in ids:
            what = f"{self.server}: there is no controller {controller}"
            raise ChoiceError(what=what, to_do=f"controllers here: {', '.join(ids)}")
        if not found:
            listed = ", ".join(dict.fromkeys(known)) or "none yet"
            where = f" at controller {controller}" if controller else ""
            kind = what.rpartition(" ")[0] or what
            raise ChoiceError(what=f"{self.server}: there is no {what}{where}", to_do=f"{kind}s here: {listed}")
        if len(found) > 1:
            listed = ", ".join(found)
            what = f"{self.server}: controllers {listed} have a {what} each"
            raise ChoiceError(what=what, to_do="say which: --controller ID")

    def controller(self, name: str | None) -> Controller:
        """The controller with this id, or the only one. Raises ChoiceError naming those there are."""
        found = [c for c in self.controllers if name in (None, c.id)]
        if len({c.id for c in found}) > 1:
            listed = ", ".join(c.id for c in found)
            raise ChoiceError(what=f"{self.server} has controllers {listed}", to_do="say which: --controller ID")
        self.one("controller", list({c.id for c in found}), [], name)
        return found[0]

    def foreign_volume(self, name: str, controller: str | None = None) -> ForeignVolume:
        """The foreign volume with this name. Raises ChoiceError naming those there are."""
        found = [f for f in self.foreign if name in (f.name, f.guid) and controller in (None, f.controller)]
        what = f"foreign volume {name}"
        self.one(what, list(dict.fromkeys(f.controller for f in found)), [f.name for f in self.foreign], controller)
        return found[0]

    def drive(self, wanted: str) -> Drive:
        """The bay with this label, or the one whose drive has this serial number. Raises ChoiceError."""
        found = [d for d in self.drives if d.serial and d.serial == wanted]
        return found[0] if found else self.bay(wanted)

    def bay(self, label: str) -> Drive:
        """The bay with this label. Raises ChoiceError naming those there are."""
        for drive in self.drives:
            if drive.bay == label:
                return drive
        known = ", ".join(d.bay for d in self.drives)
        raise ChoiceError(what=f"{self.server}: there is no bay {label}", to_do=f"bays here: {known}")
