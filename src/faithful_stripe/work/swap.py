"""The guided replacement of a drive: every step verified by reading, never assumed.

The stages are remove, seat, check, rebuild, finish, away. A swap is kept in a file of the user's own after every stage,
so that another command can pick it up. `run` tells what is seen and what to do as values; it never asks.
"""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any

from ..core.server.acts import Cost, Costs, TakeOut, may
from ..core.server.assess import Assessment, assess
from ..core.server.fitness import Need, need_of, sound
from ..core.server.model import Server
from ..core.server.redundancy import Answers, answers
from ..core.server.things import Drive, SeatState, Volume
from ..core.server.unknown import UNKNOWN, known
from ..core.shape import fits
from ..media.whole import write_text
from ..redfish.client import Client
from ..redfish.exchange import RedfishError
from . import build
from .errors import WorkError, granted
from .remembered import state_file
from .survey import find, survey

STAGES = ("remove", "seat", "check", "rebuild", "finish", "away")
"""The last is over at the server; the drive that came out is still to be put away."""


@dataclass
class Swap:
    """A replacement under way.

    bay, enclosure, serial, part, model  of the drive that comes out; `why`: what speaks against it, in the server's own
             words where it has any; `failed`: whether it failed (or predicts that it will)
    volumes  paths of the volumes that it is, or was, a member of, `names` what they are called
    before   serial numbers by place, as they were when it began
    need     what the new drive must be
    spare_for, was_spare  where it was a hot spare: for which volumes, by path
    incoming the serial number of the drive that came in
    hot      whether drives may be changed while the server is on; None where that is not known
    """

    identity: str
    where: str
    server: str
    bay: str
    serial: str
    part: str
    model: str
    size: int
    why: str
    failed: bool
    began: str
    enclosure: str = ""
    path: str = ""
    media: str = ""
    protocol: str = ""
    rpm: int | None = None
    sector: int | None = None
    volumes: list[str] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    before: dict[str, str] = field(default_factory=dict)
    need: dict[str, Any] = field(default_factory=dict)
    was_spare: bool = False
    spare_for: list[str] = field(default_factory=list)
    hot: bool | None = None
    stage: str = "remove"
    incoming: str = ""
    holds_only_copy: bool = False

    def keep(self) -> None:
        """Write it down, whole and durable, for nobody else to read. Raises MediaError."""
        path = _file(self.identity)
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        write_text(path, json.dumps(asdict(self), indent=1), replace=True, mode=0o600)

    def forget(self) -> None:
        """It is over."""
        _file(self.identity).unlink(missing_ok=True)

    @property
    def needs(self) -> Need:
        """What the new drive must be."""
        kept: dict[str, Any] = {k: UNKNOWN if v is None else v for k, v in self.need.items()}
        return Need(**kept)

    def here(self, seen: Server) -> Drive:
        """The bay as it is now; where the server lists only bays with drives, an empty one."""
        found = seen.at_place(self.enclosure, self.bay) or next((d for d in seen.drives if d.path == self.path), None)
        return found or Drive(self.bay, self.path, self.enclosure, present=False)


SHAPE = {
    **dict.fromkeys(["identity", "where", "server", "bay", "serial", "part", "model", "why", "began"], str),
    **dict.fromkeys(["enclosure?", "path?", "media?", "protocol?", "incoming?"], str), "stage?": str,
    "size": int, "failed": bool, "rpm?": (int, None), "sector?": (int, None), "volumes?": [str], "names?": [str],
    "before?": {"*": str}, "need?": dict.fromkeys(("*",), object), "was_spare?": bool, "spare_for?": [str],
    "hot?": (bool, None), "holds_only_copy?": bool,
}  # fmt: skip
"""What a swap's file holds."""


def _file(server: str) -> Any:
    return state_file(f"swap-{server}", ".json")


def identity(client: Client) -> str:
    """What tells this server from every other one."""
    system = find(client).system
    return str(system.get("UUID") or f"{system.get('SerialNumber') or ''}@{client.where}")


def resume(client: Client) -> Swap:
    """The swap that is under way at this server. Raises WorkError where there is none."""
    found = _under_way(identity(client))
    if found is None:
        what = f"{client.where}: no swap is under way"
        raise WorkError(what=what, to_do="begin one: fstripe swap BAY")
    return found


def _under_way(server: str) -> Swap | None:
    try:
        told = json.loads(_file(server).read_text("utf-8"))
        return Swap(**told) if fits(told, SHAPE) and told.get("stage", "remove") in STAGES else None
    except (OSError, ValueError, TypeError, RecursionError):
        return None


def give_up(client: Client) -> Swap:
    """Forget the swap that is under way: nothing on the server changes. Raises WorkError where there is none."""
    found = resume(client)
    _file(found.identity).unlink(missing_ok=True)
    light(client, found.path, False)
    return found


def begin(client: Client, wanted: str, now: bool = False) -> tuple[Swap, tuple[Cost, ...]]:
    """Choose the drive and see whether it may be taken out now, and what that costs.

    now  take out a drive that still works although its data could be copied off it first

    Raises ActRefused naming what would be lost; WorkError where another swap is under way, or there is nothing to do.
    """
    server = identity(client)
    other = _under_way(server)
    if other is not None:
        what = f"{client.where}: a swap of bay {other.bay} is under way since {other.began[:16].replace('T', ' ')}"
        raise WorkError(what=what, to_do="continue: fstripe swap --resume; or give it up: fstripe swap --give-up")
    seen = survey(client)
    drive = seen.drive(wanted)
    if not drive.seated and not any(v.homes(drive) for v in seen.volumes):
        raise WorkError(what=f"bay {drive.bay} is empty, and no volume lacks a member there", to_do="name another")
    found = assess(seen)
    made = _plan(client, server, found, drive)
    if made.stage == "rebuild" and not now:
        return made, ()
    costs = granted(seen, may(TakeOut(drive, now), seen)).costs
    made.stage = "remove" if drive.seated else "seat"
    return made, costs


def _plan(client: Client, server: str, found: Assessment, drive: Drive) -> Swap:
    seen = found.server
    mine = [v for v in seen.volumes if v.at(drive) or v.homes(drive)]
    failed = answers(drive) is not Answers.YES or drive.predicted is True or any(v.homes(drive) for v in mine)
    needed = need_of(seen, drive)
    if needed is None:
        what = f"bay {drive.bay}: the server does not tell how large its drive is"
        raise WorkError(what=what, to_do="what could replace it cannot be told; read its label")
    if drive.seated and drive.serial is UNKNOWN:
        what = f"bay {drive.bay}: the server does not tell its drive's serial number"
        raise WorkError(
            what=what, to_do="what leaves and what comes cannot be told apart: change it by hand, label first"
        )
    made = Swap(
        identity=server,
        where=client.where,
        server=seen.server,
        bay=drive.bay,
        enclosure=drive.enclosure,
        path=drive.path,
        serial=known(drive.serial, "") if drive.seated else "",
        part=known(drive.part, ""),
        model=f"{known(drive.vendor, '')} {known(drive.model, '')}".strip(),
        size=known(drive.size, 0),
        media=known(drive.media, ""),
        protocol=known(drive.protocol, ""),
        rpm=known(drive.rpm, None),
        sector=known(drive.sector, None),
        why="; ".join(c.message for c in drive.conditions if c.message),
        failed=failed,
        began=datetime.now(UTC).isoformat(timespec="seconds"),
        volumes=[v.path for v in mine],
        names=[v.name for v in mine],
        before={place_of(d): known(d.serial, "?") for d in seen.drives if d.seated},
        need={k: None if v is UNKNOWN else v for k, v in vars(needed).items()},
        was_spare=drive.spare is True,
        spare_for=list(drive.spare_for),
        hot=known(seen.hot_swap, None),
    )
    if drive.seated and sound(drive) and _interrupted(mine, drive):
        made.stage, made.incoming = "rebuild", made.serial
        made.before.pop(place_of(drive), None)
    return made


def _interrupted(volumes: list[Volume], drive: Drive) -> bool:
    """Whether a good drive is a member that is not whole: its rebuild goes on, it is not replaced."""
    seats = [s for v in volumes for s in v.at(drive)]
    busy = any(w.target == drive.bay for v in volumes for w in v.work)
    return bool(seats) and all(s.state is SeatState.REBUILDING for s in seats) and not busy


def place_of(d: Drive) -> str:
    return f"{d.enclosure}/{d.bay}"


def hurts(costs: tuple[Cost, ...]) -> bool:
    """Whether a person must agree to what an allowed act costs."""
    return any(
        c.code in (Costs.MARGIN_FALLS, Costs.HEALTHY_DRIVE, Costs.WORK_STOPS, Costs.SPARE_LESS, Costs.HOLDS_DATA)
        for c in costs
    )


def light(client: Client, bay: str, on: bool) -> str:
    """Switch the LED; what went wrong, "" where nothing did."""
    try:
        build.locate(client, bay, on)
    except (RedfishError, WorkError) as reason:
        return reason.what
    return ""
