"""Judging drives: whether one may come out now, whether a new one will do, and what remains to be done."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from ..core.server.model import Drive, Server
from ..core.units import decimal_size
from ..redfish.client import Client
from .advisories import Advisory, faults_in
from .errors import WorkError
from .margins import margin_without

if TYPE_CHECKING:
    from .swap import Options, Swap


def unsafe(seen: Server, drive: Drive) -> WorkError | None:
    """Why a drive must not be taken out now; None where nothing would be lost."""
    for v in seen.volumes:
        member = next((m for m in v.members if m.serial == drive.serial and drive.serial), None)
        moving = [w for w in v.work if f"copy from bay {drive.bay} " in w.name]
        if moving and member:
            what = f"the data of bay {drive.bay} are being copied off it ({v.name}: {moving[0].percent:.0f} %)"
            return WorkError(what=what, to_do="leave it seated until the copy is done: fstripe watch")
        if member is None or member.state != "active":
            continue
        after = margin_without(v, {drive.serial})
        if after is not None and after < 0:
            busy = ", ".join(f"{w.name} {w.percent:.0f} %" for w in v.work)
            to_do = f"wait until this is done: {busy} (fstripe watch)" if busy else "mend the volume first: its other"
            to_do += "" if busy else " lost member's drive comes before this one (fstripe survey)"
            what = f"taking bay {drive.bay} ({drive.serial}) out now loses volume {v.name}: its margin is {v.margin}"
            return WorkError(what=what, to_do=to_do)
    return None


def better_first(seen: Server, drive: Drive) -> WorkError | None:
    """A drive that only predicts its failure still works: where another one is seated, its data are copied off it
    first, and the margin stays. None where there is nothing better to do first."""
    mine = [v for v in seen.volumes if any(m.serial == drive.serial and m.state == "active" for m in v.members)]
    if not drive.predicted or drive.health == "Critical" or not mine:
        return None
    fits = [
        d.bay
        for d in seen.drives
        if d.use == "unassigned" and d.health == "OK" and d.size >= drive.size and d.media == drive.media
        and d.controller == drive.controller and d.content == ""
    ]  # fmt: skip
    if not fits:
        return None
    names = ", ".join(v.name for v in mine)
    what = f"bay {drive.bay} ({drive.serial}) still works: its data can be copied off it, and {names} keeps its margin"
    to_do = f"fstripe spare add {fits[0]} --for {mine[0].name}, watch the copy, then swap; or --now to do without"
    return WorkError(what=what, to_do=to_do)


def objections_to(client: Client, seen: Server, swap: Swap, drive: Drive, options: Options) -> Iterator[str]:
    """Why a drive that was just seated must not take the old one's place."""
    mates = [d for v in seen.volumes if v.key in swap.volumes for d in seen.drives
             if d.serial in [m.serial for m in v.members if m.state == "active"] and d.bay != swap.bay]  # fmt: skip
    least = min([d.size for d in mates] or [swap.size])
    if drive.health == "Critical":
        yield drive.why or "it does not answer"
    if drive.predicted:
        yield "it predicts its own failure"
    if drive.size < least:
        yield f"it is too small: {decimal_size(drive.size)}, {decimal_size(least)} are needed"
    if mates and drive.media != mates[0].media:
        yield f"it is {drive.media}, the others are {mates[0].media}"
    if mates and drive.sector and mates[0].sector and drive.sector != mates[0].sector:
        yield f"its sectors have {drive.sector} bytes, those of the others {mates[0].sector}"
    listed = next((i for i in options.stock if i.serial == drive.serial), None)
    if listed and listed.condition in ("bad", "suspect"):
        yield f"the cupboard's list calls it {listed.condition}{f' ({listed.note})' if listed.note else ''}"
    if drive.serial in options.known:
        yield f"it is known to have failed: {options.known[drive.serial]}"
    if drive.content and drive.use == "unassigned" and not options.overwrite:
        yield f"it holds something: {drive.content}. To overwrite that, begin again with --overwrite"


def hours_of(client: Client, drive: Drive) -> str:
    if not drive.hours_path:
        return ""
    hours = client.get(drive.hours_path).get("PowerOnHours")
    return f", {hours} hours of use" if hours else ", no hours of use" if hours == 0 else ""


def remains(seen: Server, known: Sequence[Advisory] = ()) -> Iterator[str]:
    """What is still to be done about a server's drives after a swap."""
    for f in seen.findings:
        yield f"{f.where}: {f.what}; {f.to_do}"
    redundant = [v for v in seen.volumes if v.level not in ("RAID0", "SPAN")]
    spares = [d for d in seen.drives if d.spare and d.use.startswith("hot spare")]
    if redundant and not spares:
        yield "there is no hot spare: the next failure waits for a person (fstripe spare add BAY)"
    yield from faults_in(seen, known)
    by_model: dict[str, set[str]] = {}
    for d in seen.drives:
        if d.serial and d.firmware:
            by_model.setdefault(f"{d.vendor} {d.model}", set()).add(d.firmware)
    for model, found in by_model.items():
        if len(found) > 1:
            yield f"drives {model} run different firmware ({', '.join(sorted(found))}): bring them to the newest"
