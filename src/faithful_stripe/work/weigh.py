"""Weigh the layouts: every sensible way to use some drives, with what each gives, takes and risks."""

from __future__ import annotations

import json
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.arrays.choices import Choice, choices
from ..core.arrays.groups import HOURS_PER_YEAR, redundancy
from ..core.arrays.layout import Layout, layout
from ..core.arrays.levels import LEVELS, level_named
from ..core.arrays.risk import (
    Hazards,
    mean_hours_to_loss,
    unreadable_chance,
)
from ..core.arrays.timing import PACES, WORKLOADS, Pace, speed, spinning, strip_advice
from ..core.server.fitness import Need, Reason, candidate, judge
from ..core.server.model import Server
from ..core.server.risk import FAILING, SWAP_HOURS, UNREADABLE, until_whole
from ..core.server.things import Drive
from ..core.server.unknown import UNKNOWN, known
from ..core.units import chance, decimal_size
from ..media.given import text_given
from .errors import WorkError
from .picking import size_of

SAFE = 1e-3
"""Chance of losing data within the years asked about below which `balance` looks for capacity."""


@dataclass(frozen=True)
class Assumptions:
    """What is assumed of the drives. Rates of failure per year, of unreadable bits per bit read; hours.

    swap_hours  until somebody has fitted a replacement, where no spare stands by
    link        bytes per second that the controller's link carries; None: it is not the narrowest
    """

    pace: Pace
    failing: float = FAILING
    unreadable: float = UNREADABLE
    swap_hours: float = SWAP_HOURS
    years: float = 5.0
    link: float | None = None


@dataclass(frozen=True)
class Weight:
    """One layout weighed: capacities in bytes, rates in bytes or accesses of 4 KiB per second, hours, chances."""

    name: str
    level: str
    spans: int
    members: int
    mirrors: int
    spares: int
    usable: int
    unequal: int
    margin: int
    best: int
    read: float
    write: float
    random_reads: float
    random_writes: float
    small_write_costs: int
    limited_by_link: bool
    rebuild_hours: float
    loss_during_rebuild: float
    years_to_loss: float
    loss: float


def weigh(sizes: Sequence[int], assumed: Assumptions, spares: int | None = None) -> list[Weight]:
    """Every sensible layout of drives with these sizes in bytes, weighed; `spares` set aside, or 0 to 2 of them."""
    if not sizes or min(sizes) < 1 << 20:
        raise WorkError(what="there are no drives to weigh", to_do="say how many and how large: --drives 9 --size 4TB")
    if spares is not None and not 0 <= spares < len(sizes):
        what = f"{spares} spares of {len(sizes)} drives leave none for data"
        raise WorkError(what=what, to_do="set fewer aside")
    wanted = range(min(3, len(sizes))) if spares is None else (spares,)
    return [_weigh(choice, assumed) for choice in choices(sizes, wanted)]


def _weigh(choice: Choice, assumed: Assumptions) -> Weight:
    pace = speed(choice.layout, assumed.pace, min(choice.members), assumed.link)
    groups = redundancy(choice.layout)
    hours = pace.rebuild / 3600 + (0.0 if choice.spares else assumed.swap_hours)
    bad = unreadable_chance(min(choice.members), assumed.unreadable)
    hazards = Hazards(assumed.failing / HOURS_PER_YEAR, 1.0 / hours, bad)
    mean = mean_hours_to_loss(groups, hazards) / HOURS_PER_YEAR
    return Weight(
        name=choice.name,
        level=choice.layout.level,
        spans=choice.layout.spans,
        members=choice.layout.members,
        mirrors=choice.layout.copies,
        spares=choice.spares,
        usable=choice.usable,
        unequal=choice.unequal,
        margin=choice.margin,
        best=choice.best,
        read=pace.read,
        write=pace.write,
        random_reads=pace.random_reads,
        random_writes=pace.random_writes,
        small_write_costs=pace.penalty,
        limited_by_link=pace.limited,
        rebuild_hours=pace.rebuild / 3600,
        loss_during_rebuild=until_whole(groups, 1, hours, min(choice.members), assumed.failing, assumed.unreadable),
        years_to_loss=mean,
        loss=-math.expm1(-assumed.years / mean),
    )


def rank(
    weights: Iterable[Weight], goal: str, need: int | None = None, survive: int | None = None
) -> tuple[list[Weight], str]:
    """Those that meet the need and survive so many failures, the best for the goal first, and why in one sentence.

    balance   the most capacity among those whose chance of loss is below 1 in 1000; then the others by that chance
    capacity  the most capacity that survives a failure; safety: the least chance of loss; speed: random writes, then
              writes in sequence, of those that survive a failure

    Raises WorkError when none is left.
    """
    least = 1 if survive is None else survive
    fitting = [w for w in weights if w.usable >= (need or 0) and w.margin >= least]
    if not fitting:
        wanted = [f"survives {least} failure{'s' if least != 1 else ''}"]
        wanted += [f"gives {decimal_size(need)}"] if need else []
        to_do = "take more or larger drives, or ask for less (--survive, --need)"
        raise WorkError(what=f"no layout of these drives {' and '.join(wanted)}", to_do=to_do)
    keys: dict[str, Any] = {
        "balance": lambda w: (w.loss >= SAFE, -w.usable if w.loss < SAFE else w.loss, w.loss, w.spares),
        "capacity": lambda w: (-w.usable, w.loss),
        "safety": lambda w: (w.loss, -w.usable),
        "speed": lambda w: (-w.random_writes, -w.write, w.loss),
    }
    ranked = sorted(fitting, key=keys[goal])
    return ranked, _why(ranked[0], goal, ranked)


def _why(first: Weight, goal: str, ranked: list[Weight]) -> str:
    spares = "" if not first.spares else f" and {first.spares} hot spare{'s' if first.spares > 1 else ''}"
    survives = f"any {first.margin} failures" if first.margin > 1 else "any one failure" if first.margin else "none"
    what = f"{first.name}{spares}: {decimal_size(first.usable)}, survives {survives}"
    if goal == "balance" and first.loss < SAFE:
        why = "it gives the most capacity of those whose chance of losing data stays below 1 in 1000"
    elif goal in ("balance", "safety"):
        why = "none has a smaller chance of losing data"
    elif goal == "capacity":
        why = "none gives more"
        safer = next((w for w in ranked if w.loss < first.loss / 10 and w.usable > 0.6 * first.usable), None)
        if safer and first.loss >= SAFE:
            why += f"; {safer.name} gives {decimal_size(safer.usable)} at {chance(safer.loss)} instead"
    else:
        why = f"a small write costs {first.small_write_costs} accesses, the fewest of these"
    return f"{what}, chance of losing data {chance(first.loss)}; {why}"


def media_pace(media: str, rpm: int, rate: float | None, iops: float | None) -> Pace:
    """The pace of a kind of drive, with what is known of it put in."""
    usual = spinning(rpm) if media == "hdd" else PACES[media]
    return Pace(rate or usual.rate, iops or usual.reads, iops or usual.writes)


def of_server(seen: Server, bays: Sequence[str]) -> tuple[list[int], str, int]:
    """Sizes, media ("hdd", "ssd", "nvme") and rpm of a server's drives. Raises WorkError for an empty bay."""
    drives = [seen.bay(label) for label in bays]
    for d in drives:
        if not d.seated:
            raise WorkError(what=f"bay {d.bay} is empty", to_do="name bays with drives; `survey` lists them")
    spins = [d.rpm for d in drives if d.rpm is not UNKNOWN and d.rpm]
    kinds = ["hdd" if d.media != "SSD" else "nvme" if "NVM" in known(d.protocol, "").upper() else "ssd" for d in drives]
    slowest = min(kinds, key=("hdd", "ssd", "nvme").index)
    return [size_of(d) for d in drives], slowest, min(spins) if spins else 7200


def against(seen: Server, bays: Sequence[str]) -> list[tuple[Drive, tuple[Reason, ...]]]:
    """What speaks against taking drives for something new: dead, failing, in use, or holding something."""
    drives = [seen.bay(label) for label in bays]
    found = []
    for d in drives:
        reasons = judge(Need(0), candidate(d, seen)).cannot
        if reasons:
            found.append((d, reasons))
    return found


# explaining -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Explanation:
    """A level in plain sentences, and a drawing: rows of cells, a list of them for each row."""

    level: str
    sentences: tuple[str, ...]
    drawing: tuple[tuple[str, ...], ...]


_COSTS = {
    "RAID0": "It costs nothing and protects nothing: for what can be created again.",
    "RAID1": "It costs all members but one. Reads come from any member; a write goes to all.",
    "RAID1E": "It costs half. It does for an odd number of drives what mirrored pairs do for an even one.",
    "RAID10": "It costs half. Small writes are quick: two accesses. Rebuilding reads one drive only.",
    "RAID4": "It costs one drive, and every small write waits for that one parity drive.",
    "RAID5": "It costs one drive. A small write takes four accesses; a rebuild reads every other drive, and a single "
    "unreadable sector there is lost.",
    "RAID6": "It costs two drives. A small write takes six accesses; a rebuild still survives bad sectors.",
    "RAID50": "It costs one drive in each span. Spans rebuild by themselves, so that fewer drives are read.",
    "RAID60": "It costs two drives in each span; the safest of the wide ones.",
    "SPAN": "It costs nothing and protects nothing; the drives may differ in size.",
}


def explain(name: str) -> Explanation:
    """How a level works, what it survives, what it costs. Raises GeometryError for an unknown level."""
    facts = level_named(name)
    members = {"RAID0": 3, "RAID1": 2, "RAID50": 6, "RAID60": 8, "SPAN": 2}.get(facts.name, max(4, facts.least))
    members = 3 if facts.name == "RAID1E" else members
    chosen = layout(facts.name, members, spans=2 if facts.inner else None)
    words = facts.words[0].upper() + facts.words[1:]
    survives = _survives(chosen)
    return Explanation(facts.name, (f"{words}.", survives, _COSTS[facts.name]), _drawing(chosen))


def _survives(chosen: Layout) -> str:
    groups = redundancy(chosen)
    sure, best = len([f for f in groups.fatal if f == 0.0]), groups.groups * (len(groups.fatal) - 1)
    if not sure:
        return "It survives no failure."
    many = f", and up to {best} if they fall where they hurt least" if best > sure else ""
    return f"It survives any {sure} failure{'s' if sure > 1 else ''}{many}."


def _drawing(chosen: Layout, rows: int = 4) -> tuple[tuple[str, ...], ...]:
    if chosen.level == "SPAN":
        return tuple(("first" if m == 0 else "then",) for m in range(chosen.members))
    pattern = chosen.pattern()
    names = {-1: "P", -2: "Q"}
    drawn = []
    for row in range(rows):
        period, phase = divmod(row, pattern.rows)
        line = [int(v) for v in pattern.index[phase]]
        drawn.append(tuple(names.get(v, str(v + period * pattern.strips)) for v in line))
    return tuple(drawn)


def strip_for(weight: Weight, pace: Pace, workload: str) -> tuple[int, str]:
    """A strip size for a workload on a weighed layout, in bytes, and the reason."""
    facts = LEVELS[weight.level]
    copies = weight.mirrors if weight.level == "RAID10" else None
    chosen = layout(weight.level, weight.members, spans=weight.spans if facts.inner else None, copies=copies)
    return strip_advice(chosen, pace, WORKLOADS[workload])


# measurements -----------------------------------------------------------------------------------


@dataclass(frozen=True)
class Measured:
    """One line of a measurement beside the estimate: `share` of the estimate; what stands out, in words."""

    what: str
    measured: float
    estimate: float
    share: float
    says: str


def compare(path: Path, weight: Weight, link: float | None, working: Sequence[str] = ()) -> list[Measured]:
    """Hold an fio JSON result against a weighed layout. Raises WorkError when the file is not one.

    working  work that was running on the server, if any: such a measurement says little
    """
    try:
        jobs = json.loads(text_given(path))["jobs"]
        rows = [(job, kind, job[kind]) for job in jobs for kind in ("read", "write") if job[kind]["io_bytes"]]
        found = [_held(job, kind, part, weight, link) for job, kind, part in rows]
    except OSError as reason:
        raise WorkError(what=f"{path}: cannot be read ({reason.strerror})", to_do="name an fio JSON result") from reason
    except (ValueError, KeyError, TypeError, RecursionError) as reason:
        what = f"{path}: this is not an fio JSON result ({type(reason).__name__}: {reason})"
        raise WorkError(what=what, to_do="create it with fio --output-format=json") from reason
    if not found:
        raise WorkError(what=f"{path}: nothing was read or written in it", to_do="run fio with a job that does")
    if working:
        listed = ", ".join(working)
        found = [
            Measured(m.what, m.measured, m.estimate, m.share, f"{m.says}; {listed} was running: measure again after it")
            for m in found
        ]
    return found


def _held(job: dict[str, Any], kind: str, part: dict[str, Any], weight: Weight, link: float | None) -> Measured:
    """Small blocks are held against accesses per second, large ones against bytes per second."""
    options = job.get("job options") or {}
    mode = str(options.get("rw", ""))
    bytes_per_second, accesses = float(part["bw_bytes"]), float(part["iops"])
    name = f"{job.get('jobname', 'job')}, {kind}"
    if mode.startswith("rand"):
        estimate = weight.random_reads if kind == "read" else weight.random_writes
        measured, unit = accesses, "accesses/s"
    else:
        estimate = weight.read if kind == "read" else weight.write
        measured, unit = bytes_per_second, "B/s"
    share = measured / estimate
    says = "as estimated"
    if link is not None and bytes_per_second > 0.9 * link:
        says = "the link is the narrowest part"
    elif share > 1.5:
        says = "faster than the drives can be: a cache answered; measure with --direct=1 and more data"
    elif share < 0.5:
        says = "less than half of the estimate: look for a slow drive, a narrow link, or a small queue"
    return Measured(f"{name} ({unit})", measured, estimate, share, says)
