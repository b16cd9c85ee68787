"""Volumes as the drives themselves describe them: read at power-on, and when another controller's drives are seated.

The rules. Of a volume's records those with the highest sequence number count; a member whose own record is older
was away while the volume was written, and is out of date. Members with the same number that were written apart
from each other (their marks differ) contradict each other: none of them is trusted. A record older than what the
controller remembers of its own volume is not trusted either, even when nothing newer is there.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ..core.arrays.levels import GeometryError
from ..core.arrays.margin import margin
from ..core.formats import ddf
from ..core.formats.ddf_records import scratch_of, stated_layout
from ..core.formats.declared import FormatError
from ..media.image import MediaError
from . import errors, jobs, ondisk
from .clock import iso
from .controller import Controller
from .state import Drive, Member, Volume


@dataclass
class Found:
    """A volume that records on the seated drives describe.

    volume    as they describe it; members that are not here or out of date are "lost"
    product   the controller that wrote them, in words; `sequence` of its set-up
    drives    the serials of the seated drives that carry it
    stale     those of them that are out of date
    trouble   why it cannot be used: what, and what to do; None when it can
    """

    volume: Volume
    product: str
    sequence: int
    drives: list[str]
    stale: list[str] = field(default_factory=list)
    trouble: tuple[str, str] | None = None

    @property
    def margin(self) -> int:
        return margin(self.volume.geometry.pattern, self.volume.lost)


@dataclass(frozen=True)
class Carrier:
    """One drive's records of one volume, span by span."""

    drive: Drive
    told: ddf.Metadata
    spans: tuple[ddf.Config, ...]

    @property
    def first(self) -> dict[str, Any]:
        return self.spans[0].fields

    @property
    def age(self) -> tuple[int, int]:
        """Older records compare as smaller."""
        return self.first["sequence"], self.told.header["sequence"]

    @property
    def branch(self) -> int:
        return ours[-1] if (ours := scratch_of(self.spans[0])) else 0


def told_by(controller: Controller) -> dict[str, ddf.Metadata]:
    """What DDF says on each working drive in the controller's bays that carries a sound set-up, by serial."""
    found = {}
    for drive in controller.here():
        told = _decode(controller, drive) if drive.works else None
        if told:
            found[drive.serial] = told
    return found


def _decode(controller: Controller, drive: Drive) -> ddf.Metadata | None:
    try:
        return ddf.decode(controller.medium(drive))
    except (FormatError, MediaError):
        return None


def describe(controller: Controller, drive: Drive) -> str:
    """What set-up a drive carries that is not the controller's own present one, in words; "" for none."""
    if drive.serial in controller.memory.spares or controller.memory.in_use(drive.serial):
        return ""
    try:
        told = ddf.decode(controller.medium(drive))
    except FormatError:
        return "damaged DDF set-up"
    if told is None:
        return ""
    product = told.controller["product"].rstrip(b" \0").decode("ascii", "replace")
    if told.controller["guid"] != ondisk.controller_guid(controller):
        return f"DDF set-up of another controller ({product})"
    known = {v.guid.encode(): v.name for v in controller.memory.volumes.values()}
    names = [known[c.fields["guid"]] for c in told.configs if c.fields["guid"] in known]
    return f"out-of-date member of volume {names[0]}" if names else "out-of-date set-up of this controller"


# reading ----------------------------------------------------------------------------------------


def volumes_on(controller: Controller, told: dict[str, ddf.Metadata]) -> list[Found]:
    """The volumes that these drives describe, each judged by the rules at the head of this file."""
    carriers: dict[bytes, list[Carrier]] = {}
    for serial, one in told.items():
        for guid in dict.fromkeys(c.fields["guid"] for c in one.configs):
            spans = tuple(sorted((c for c in one.configs if c.fields["guid"] == guid), key=_span))
            carriers.setdefault(guid, []).append(Carrier(controller.state.drives[serial], one, spans))
    found = [_volume(controller, guid.decode("latin-1"), group) for guid, group in carriers.items()]
    return sorted(found, key=lambda f: (f.volume.number, f.volume.name))


def _span(config: ddf.Config) -> int:
    return int(config.fields["span"])


def _volume(controller: Controller, guid: str, carriers: list[Carrier]) -> Found:
    newest = max(carriers, key=lambda c: c.age)
    nameless: dict[str, Any] = {"name": b"", "number": 0}
    entry = next((v for v in newest.told.volumes if v["guid"] == newest.first["guid"]), nameless)
    current = {c.drive.serial: c for c in carriers if c.first["sequence"] == newest.first["sequence"]}
    volume = Volume(
        number=entry["number"],
        name=entry["name"].rstrip(b" \0").decode("ascii", "replace") or "unnamed",
        strip=ddf.SECTOR << min(newest.first["strip"], 16),
        start=newest.spans[0].starts[0] * ddf.SECTOR if newest.spans[0].starts else 0,
        extent=newest.first["extent"] * ddf.SECTOR,
        members=[],
        created=iso(ondisk.EPOCH + newest.first["timestamp"]),
        generation=newest.first["sequence"],
        guid=guid,
        branch=newest.branch,
        read_cache=_reads(newest.first["cache"]),
        write_cache="protected-back" if newest.first["cache"] & 0x21 == 0x21 else "through",
        **stated_layout(newest.spans),
    )
    found = Found(
        volume,
        newest.told.controller["product"].rstrip(b" \0").decode("ascii", "replace"),
        newest.told.header["sequence"],
        drives=[c.drive.serial for c in carriers],
        stale=[c.drive.serial for c in carriers if c.drive.serial not in current],
    )
    by_reference = {c.told.drive["reference"]: c for c in carriers}
    for config in newest.spans:
        for position, reference in enumerate(config.references):
            volume.members.append(_member(newest, config, position, by_reference.get(reference), current))
    found.trouble = _trouble(volume, newest, list(current.values()))
    return found


def _member(
    newest: Carrier, config: ddf.Config, position: int, carrier: Carrier | None, current: dict[str, Carrier]
) -> Member:
    """A position: its drive where one is here, complete and up to date; else what is known of the lost one."""
    if carrier is None or carrier.drive.serial not in current:
        known = [d for d in newest.told.drives if d["reference"] == config.references[position]]
        text = known[0]["guid"][8:].decode("ascii", "replace").strip() if known else "unknown"
        serial = carrier.drive.serial if carrier else text
        # one that is not here may be up to date for all we know: the first write without it must outdate it
        generation = jobs.NEVER if carrier else config.fields["sequence"]
        return Member(serial, str(carrier.drive.bay) if carrier else "", "lost", 0, generation)
    own = next((c for c in carrier.spans if c.fields["span"] == config.fields["span"]), config)
    incomplete = any(_incomplete(who, record, position) for who, record in ((newest, config), (carrier, own)))
    drive = carrier.drive
    state, generation = ("lost", jobs.NEVER) if incomplete else ("active", config.fields["sequence"])
    return Member(drive.serial, str(drive.bay), state, 0, generation)


def _incomplete(carrier: Carrier, config: ddf.Config, position: int) -> bool:
    """Whether a record says that a member was not complete, as after an unfinished rebuild."""
    ours = scratch_of(config)
    if ours:
        return bool(ours[-2] >> position & 1)
    entries = [d for d in carrier.told.drives if d["reference"] == config.references[position]]
    return any(d["state"] & (ddf.FAILED | ddf.REBUILDING | ddf.MISSING) for d in entries)


def _reads(bits: int) -> str:
    """The read policy from DDF's cache byte; one that cannot be had here becomes none."""
    return next((name for name, mask in ondisk.CACHED_READS.items() if mask == bits & 0x4C), "off")


def _trouble(volume: Volume, newest: Carrier, current: list[Carrier]) -> tuple[str, str] | None:
    if len({c.branch for c in current}) > 1:
        listed = ", ".join(f"{c.drive.serial} (bay {c.drive.bay})" for c in current)
        what = f"its members were written apart from each other and contradict each other: {listed}"
        return what, "pull those that are not wanted; keep them, they hold data of their own"
    if len(newest.spans) != newest.first["spans"]:
        return f"records of {len(newest.spans)} of {newest.first['spans']} spans are there", "seat its other drives"
    starts = {start for config in newest.spans for start in config.starts}
    if len(starts) > 1:
        return "its members start at different places", "copy the drives and use `lineup solve`"
    try:
        made = volume.geometry
    except (GeometryError, ValueError) as reason:
        return f"its layout is not known here ({reason})", "copy the drives and use `lineup solve`"
    short = [c.drive for c in current if c.drive.size < volume.end]
    if short:
        return f"drive {short[0].serial} ends before its member does", "find the drive that belongs there"
    if margin(made.pattern, volume.lost) < 0:
        missing = ", ".join(f"{p} ({m.serial})" for p, m in enumerate(volume.members) if m.state == "lost")
        return f"members {missing} are not here, incomplete or out of date", "seat the missing drives"
    return None


def found_volumes(controller: Controller) -> list[Found]:
    """The volumes that seated drives describe and this controller does not know."""
    memory = controller.memory
    known = {v.guid for v in memory.volumes.values()}
    told = {s: one for s, one in told_by(controller).items() if not memory.in_use(s) and s not in memory.spares}
    return [f for f in volumes_on(controller, told) if f.volume.guid not in known]


def found_named(controller: Controller, name: str) -> list[Found]:
    """The found volume with this name (or GUID), first, and those that share drives with it. Raises NothingFound."""
    found = found_volumes(controller)
    chosen = next((f for f in found if name in (f.volume.name, f.volume.guid.strip())), None)
    if chosen is None:
        raise errors.NothingFound(name=name, known=", ".join(f.volume.name for f in found) or "none")
    group, drives = [chosen], set(chosen.drives)
    while more := [f for f in found if f not in group and drives & set(f.drives)]:
        group += more
        drives |= {serial for f in more for serial in f.drives}
    return group


def standing(controller: Controller, volume: Volume, position: int, drive: Drive) -> str:
    """What a returning member's own records make of it: "current", "stale", or "other": changed elsewhere, or even
    newer than what is here, so that it must not be written over unasked."""
    told = _decode(controller, drive)
    if told is None or told.controller["guid"] != ondisk.controller_guid(controller):
        return "other"
    found = [f for f in volumes_on(controller, {drive.serial: told}) if f.volume.guid == volume.guid]
    if not found:
        return "other"
    now, mine = found[0].volume, found[0].volume.members[position]
    fresh = (now.generation, now.branch) == (volume.generation, volume.branch)
    if not fresh and now.generation >= volume.generation:
        return "other"
    return "current" if fresh and mine.serial == drive.serial and mine.state == "active" else "stale"
