"""The stage of a rehearsal: a copy of a server on which commands run, hands act, and time passes."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from ..bench.bench import Bench
from ..core.errors import StripeError
from ..core.ranges import total
from ..core.server.assess import assess
from ..core.server.condition import State
from ..core.server.fitness import Candidate, judge
from ..core.server.unknown import known
from ..core.units import chance
from ..redfish.target import connect
from ..work.survey import survey
from ..work.swap import Swap, begin
from ..work.swapping import Options
from ..work.swapping import run as guide
from .telling import told_words
from .trouble import trouble_words
from .words import margin_words, percent, work_words

HOUR = 3600.0
MOST_HOURS = 24 * 30
"""Of bench time that a rehearsal waits for work to end."""


@dataclass(frozen=True)
class Done:
    """How a command ended: its exit status, and the last line that it said."""

    status: int
    says: str


@dataclass(frozen=True)
class Step:
    """The copy after one step: volumes by their name.

    lost    volumes that the step has made worse than the plan found them: offline, with bytes lost, or gone
    passed  seconds of bench time until its work was done
    """

    line: int
    command: str
    done: Done | None
    margins: dict[str, int]
    states: dict[str, str]
    words: dict[str, str]
    lost: tuple[str, ...]
    passed: float = 0.0

    @property
    def says(self) -> str:
        return self.done.says if self.done else ""


BAD = (State.OFFLINE.value, State.LOST.value)


REHEARSED: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(("survey", "bays", "log", "watch", "ready", "weigh", "build", "boot", "locate", "swap"), ()),
    "firmware": ("show", "set", "restart", "update"),
    "volume": ("add", "adopt", "check", "forget", "found", "initialize", "rebuild", "remove", "set", "show"),
    "spare": ("add", "remove"), "controller": ("show", "set"), "stock": ("list", "match"),
    "bench": ("advance", "cut-power", "fault", "lid", "load", "power-on", "pull", "seat"),
}  # fmt: skip
"""What a plan may hold: commands that change nothing but the server that they are given, with their subcommands."""

WRITING = ("--plot", "--metrics", "--follow", "--forever")
"""Options by which some of them write a file, or do not end."""


def not_rehearsed(words: list[str]) -> str:
    """Why a command cannot be part of a rehearsal; "" where it can."""
    if words[0] not in REHEARSED:
        return "is no command that can be rehearsed: it works on something else than the server"
    subcommands = REHEARSED[words[0]]
    if subcommands and next((w for w in words[1:] if not w.startswith("-")), "") not in subcommands:
        return "cannot be rehearsed: it would change something on this machine, not on the copy"
    option = next((w for w in words if w.partition("=")[0] in WRITING), "")
    return f"cannot be rehearsed with {option}" if option else ""


@contextmanager
def world_of_its_own(scratch: Path, stock: Path) -> Iterator[None]:
    """What is remembered of servers stays out of a rehearsal, and a rehearsal out of it; the stock's list is a copy.

    stock  the list, which may not be there
    """
    mine = {"XDG_STATE_HOME": str(scratch / "memory"), "FSTRIPE_STOCK": str(scratch / "stock.csv")}
    if stock.is_file():
        shutil.copyfile(stock, mine["FSTRIPE_STOCK"])
    before = {name: os.environ.get(name) for name in (*mine, "FSTRIPE_AT")}
    os.environ.update(mine)
    os.environ.pop("FSTRIPE_AT", None)
    try:
        yield
    finally:
        for name, value in before.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value


def run(copy: Path, words: list[str]) -> Done:
    """Run a command on the copy."""
    command = [sys.executable, "-m", "faithful_stripe", "--at", str(copy), *words]
    done = subprocess.run(command, capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL)
    text = done.stderr if done.returncode == 1 else done.stdout
    last = text.strip().splitlines()[-1] if text.strip() else ""
    return Done(done.returncode, last.removeprefix("fstripe: "))


def look(
    copy: Path, line: int, words: list[str], done: Done | None, passed: float = 0.0, first: Step | None = None
) -> Step:
    """The copy as it is now, beside how the plan found it."""
    with connect(str(copy)) as client:
        found = assess(survey(client))
    volumes = list(found.volumes.values())
    states = {j.volume.name: j.state.value for j in volumes}
    told = {}
    for j in volumes:
        parts = [j.state.value, *([] if j.margin < 0 else [f"margin {margin_words(j)}"])]
        parts += [f"{work_words(w)} {percent(w)}" for w in j.volume.work]
        parts += [f"chance of losing data {chance(j.exposure.chance)}"] if j.exposure else []
        parts += [f"{total(j.lost)} bytes lost"] if j.lost else []
        told[j.volume.name] = ", ".join(parts)
    lost: list[str] = []
    if first is not None:
        lost = [n for n, s in states.items() if s in BAD and first.states.get(n) not in BAD]
        lost += [n for n in first.states if n not in states]
    margins = {j.volume.name: j.margin for j in volumes}
    return Step(line, " ".join(words), done, margins, states, told, tuple(lost), passed)


def let_work_end(copy: Path) -> float:
    """Let the copy's time pass until no work is left; how long that took, in seconds of its clock."""
    passed = 0.0
    with Bench(copy).session() as session:
        while any(c.memory.jobs for c in session.controllers.values()) and passed < MOST_HOURS * HOUR:
            session.advance(HOUR)
            passed += HOUR
    return passed


def swap_whole(copy: Path, words: list[str]) -> Done:
    """A whole swap, with hands that do as they are told and take a fitting drive in stock."""
    wanted = [w for w in words[1:] if not w.startswith("-")]
    if len(wanted) != 1:
        return Done(2, "swap in a plan needs one bay or serial number")
    try:
        with connect(str(copy)) as client:
            under_way, _costs = begin(client, wanted[0], "--now" in words)
            last = ""
            for told in guide(client, under_way, Options(overwrite=True), _Hands(copy, under_way)):
                what, to_do = told_words(told)
                last = what
                if told.kind == "alarm":
                    return Done(1, f"{what}; {to_do}")
            return Done(0, last)
    except StripeError as trouble:
        what, to_do = trouble_words(trouble)
        return Done(1, f"{what}; {to_do}" if to_do else what)


class _Hands:
    """What a technician does at each pause of the guide: takes the old drive out, seats a new one, waits."""

    def __init__(self, copy: Path, swap: Swap) -> None:
        self.copy, self.swap = copy, swap

    def __call__(self, _seconds: float) -> None:
        with Bench(self.copy).session() as session:
            there = session.state.in_bay(self.swap.bay)
            if self.swap.stage == "remove" and there:
                if not session.state.server["hot_swap"] and session.state.power:
                    session.shut_down()
                session.pull(self.swap.bay)
            elif self.swap.stage == "seat" and there is None:
                needs = self.swap.needs
                for drive in sorted(session.state.drives.values(), key=lambda d: d.size):
                    offered = Candidate(
                        serial=drive.serial, size=drive.size, media=drive.media, protocol=drive.protocol,
                        sector=drive.sector, failed=bool(drive.fault), predicted=drive.predicted,
                    )  # fmt: skip
                    if drive.bay is None and drive.place == "stock" and not judge(needs, offered).cannot:
                        session.seat(self.swap.bay, drive.serial)
                        return
                size = known(needs.size, needs.least)
                raise NoDrive(bay=self.swap.bay, size=size)
            elif self.swap.stage == "seat" and not session.state.power:
                session.power_on()
            else:
                session.advance(HOUR)


class NoDrive(StripeError):
    template = "no drive in stock fits bay {bay}: {size} bytes are needed"
    remedy = "put one into the stock list (--stock)"
