"""What fits a member's place or serves as a hot spare: one rule, for seated drives, stock lists and planned ones.

The bench refuses by it; `swap`, `stock`, `spare`, `weigh --bays` and build sheets speak by it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any

from .model import Server
from .redundancy import Answers, answers
from .things import Drive, Health, SeatState, UseKind, Volume
from .unknown import UNKNOWN, Maybe, known

SLACK = 0.005
"""Sizes that differ by less are sold as one size: makers count a few sectors more or less."""

NOMINAL = 10**9
"""A size that is a multiple of this stands on a label: the drive itself holds a little more."""

WORN_OUT = 5.0
"""Per cent of media life from which on a solid-state drive is not taken for anything new."""


class Why(StrEnum):
    """What speaks for or against a drive. Those in `CANNOT` rule it out."""

    FAILED = "failed"
    PREDICTED = "predicted"
    WORN = "worn"
    CONDITION = "condition"
    KNOWN_FAILED = "known-failed"
    TOO_SMALL = "too-small"
    SIZE_NOT_KNOWN = "size-not-known"
    MEDIA = "media"
    SECTOR = "sector"
    INTERFACE = "interface"
    CONTROLLER = "controller"
    IN_USE = "in-use"
    FOUND = "found"
    HOLDS_DATA = "holds-data"
    CONTENT_NOT_KNOWN = "content-not-known"
    SLIGHTLY_SMALLER = "slightly-smaller"
    MEDIA_NOT_KNOWN = "media-not-known"
    SECTOR_EMULATED = "sector-emulated"
    PROTOCOL_DIFFERS = "protocol-differs"
    LARGER = "larger"
    SLOWER = "slower"
    FASTER = "faster"
    USED = "used"
    SAME_PART = "same-part"
    SAME_SIZE = "same-size"


CANNOT = frozenset({
    Why.FAILED, Why.PREDICTED, Why.WORN, Why.CONDITION, Why.KNOWN_FAILED, Why.TOO_SMALL, Why.SIZE_NOT_KNOWN, Why.MEDIA,
    Why.SECTOR, Why.INTERFACE, Why.CONTROLLER, Why.IN_USE, Why.FOUND, Why.HOLDS_DATA,
})  # fmt: skip


@dataclass(frozen=True)
class Reason:
    """One thing that speaks for or against a drive, with its facts."""

    why: Why
    facts: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Need:
    """What a member's place needs; sizes in bytes.

    least     the smallest drive that will do: the smallest member's size; `floor`: where the data end on it, if told
    size, part, protocol, rpm  of the drive that is, or was, there
    exact     `least` is exact: no allowance for a maker's count of sectors
    """

    least: int
    floor: Maybe[int] = UNKNOWN
    media: Maybe[str] = UNKNOWN
    sector: Maybe[int] = UNKNOWN
    protocol: Maybe[str] = UNKNOWN
    rpm: Maybe[int] = UNKNOWN
    size: Maybe[int] = UNKNOWN
    part: Maybe[str] = UNKNOWN
    controller: Maybe[str] = UNKNOWN
    bay: str = ""
    exact: bool = False


@dataclass(frozen=True)
class Candidate:
    """A drive that might be taken, wherever it is.

    emulates   its sectors of 4096 bytes are presented as 512 (512e)
    condition  as a stock list calls it: "new", "used", "suspect", "bad", "retired", "keep"
    """

    serial: Maybe[str] = UNKNOWN
    size: Maybe[int] = UNKNOWN
    media: Maybe[str] = UNKNOWN
    protocol: Maybe[str] = UNKNOWN
    rpm: Maybe[int] = UNKNOWN
    sector: Maybe[int] = UNKNOWN
    parts: tuple[str, ...] = ()
    emulates: bool = False
    condition: str = ""
    note: str = ""
    failed: bool = False
    predicted: bool = False
    media_life: Maybe[float] = UNKNOWN
    controller: Maybe[str] = UNKNOWN
    uses: tuple[Any, ...] = ()
    found_volume: str = ""
    content: Maybe[str] = ""


GOOD_CONDITIONS = ("", "new", "used")


@dataclass(frozen=True)
class Fit:
    """How a drive would do: everything that speaks for or against it."""

    reasons: tuple[Reason, ...]

    @property
    def cannot(self) -> tuple[Reason, ...]:
        """Why it cannot be taken."""
        return tuple(r for r in self.reasons if r.why in CANNOT)

    @property
    def notes(self) -> tuple[Reason, ...]:
        """What follows from taking it."""
        return tuple(r for r in self.reasons if r.why not in CANNOT)

    def has(self, *whys: Why) -> bool:
        return any(r.why in whys for r in self.reasons)


def candidate(drive: Drive, server: Server | None = None) -> Candidate:
    """A seated drive as a candidate."""
    other = (
        next((f.name for f in server.found_volumes if drive.bay in [m.bay for m in f.members]), "") if server else ""
    )
    return Candidate(
        serial=drive.serial, size=drive.size, media=drive.media, protocol=drive.protocol, rpm=drive.rpm,
        sector=drive.sector, parts=(drive.part,) if drive.part is not UNKNOWN else (),
        failed=answers(drive) is not Answers.YES, predicted=drive.predicted is True, media_life=drive.media_life,
        controller=drive.controller or UNKNOWN, uses=drive.uses, found_volume=other, content=drive.content,
    )  # fmt: skip


def judge(need: Need, c: Candidate, failed: Mapping[str, str] | None = None) -> Fit:
    """Whether a candidate fits a need. `failed`: serial numbers that are known to have failed, and what is known."""
    return Fit((*_itself(c, failed or {}), *_size(need, c), *_likeness(need, c), *_notes(need, c)))


def fit(server: Server, need: Need, drive: Drive, failed: Mapping[str, str] | None = None) -> Fit:
    """Whether a seated drive fits a need."""
    return judge(need, candidate(drive, server), failed)


def _itself(c: Candidate, failed: Mapping[str, str]) -> Iterator[Reason]:
    if c.condition not in GOOD_CONDITIONS:
        yield Reason(Why.CONDITION, {"condition": c.condition, "note": c.note})
    if c.serial is not UNKNOWN and c.serial in failed:
        yield Reason(Why.KNOWN_FAILED, {"known": failed[c.serial]})
    if c.failed:
        yield Reason(Why.FAILED)
    if c.predicted:
        yield Reason(Why.PREDICTED)
    if c.media_life is not UNKNOWN and c.media_life <= WORN_OUT:
        yield Reason(Why.WORN, {"left": c.media_life})
    if c.uses:
        yield Reason(Why.IN_USE, {"uses": c.uses})
    if c.found_volume:
        yield Reason(Why.FOUND, {"volume": c.found_volume})
    elif c.content is UNKNOWN:
        yield Reason(Why.CONTENT_NOT_KNOWN)
    elif c.content and not c.uses:
        yield Reason(Why.HOLDS_DATA, {"content": c.content})


def _size(need: Need, c: Candidate) -> Iterator[Reason]:
    if c.size is UNKNOWN:
        yield Reason(Why.SIZE_NOT_KNOWN)
        return
    short = need.least - c.size
    if short <= 0:
        return
    nominal = c.size % NOMINAL == 0 and short <= SLACK * need.least
    enough = need.floor is not UNKNOWN and c.size >= need.floor and short <= SLACK * need.least
    facts = {"missing": short, "size": c.size, "least": need.least}
    yield Reason(Why.SLIGHTLY_SMALLER if not need.exact and (nominal or enough) else Why.TOO_SMALL, facts)


def _likeness(need: Need, c: Candidate) -> Iterator[Reason]:
    if need.media is not UNKNOWN and c.media is not UNKNOWN and c.media != need.media:
        yield Reason(Why.MEDIA, {"found": c.media, "others": need.media})
    elif need.media is not UNKNOWN and c.media is UNKNOWN:
        yield Reason(Why.MEDIA_NOT_KNOWN)
    if need.sector is not UNKNOWN and c.sector is not UNKNOWN and c.sector != need.sector:
        yield Reason(Why.SECTOR, {"found": c.sector, "others": need.sector})
    elif c.emulates and need.sector == 512:
        yield Reason(Why.SECTOR_EMULATED)
    if need.protocol is not UNKNOWN and c.protocol is not UNKNOWN and c.protocol != need.protocol:
        apart = ("NVME" in need.protocol.upper()) != ("NVME" in c.protocol.upper())
        why = Why.INTERFACE if apart else Why.PROTOCOL_DIFFERS
        yield Reason(why, {"found": c.protocol, "others": need.protocol})
    if need.controller is not UNKNOWN and c.controller is not UNKNOWN and c.controller != need.controller:
        yield Reason(Why.CONTROLLER, {"found": c.controller, "others": need.controller})


def _notes(need: Need, c: Candidate) -> Iterator[Reason]:
    part = known(need.part, "")
    if part and part in c.parts:
        yield Reason(Why.SAME_PART)
    if c.size is not UNKNOWN and c.size - need.least > SLACK * need.least:
        yield Reason(Why.LARGER, {"unused": c.size - need.least})
    if c.size is not UNKNOWN and need.size is not UNKNOWN and abs(c.size - need.size) <= SLACK * need.size:
        yield Reason(Why.SAME_SIZE)
    mine, theirs = known(c.rpm, 0), known(need.rpm, 0)
    if mine and theirs and mine != theirs:
        yield Reason(Why.SLOWER if mine < theirs else Why.FASTER, {"rpm": mine, "others": theirs})
    if c.condition == "used":
        yield Reason(Why.USED)


# what a place needs -----------------------------------------------------------------------------


def need_of(server: Server, drive: Drive) -> Need | None:
    """What the bay of a drive needs, by the volumes that it is, was or should be a member of; None where it is in an
    empty bay that no volume lacks a member in."""
    mine = [v for v in server.volumes if v.at(drive) or v.homes(drive)]
    mates = _unlike([m for v in mine for m in server.mates(v)], drive)
    if not drive.seated and not mates:
        return None
    old = drive if drive.seated else min(mates, key=lambda d: known(d.size, 0))
    if not mates and old.size is UNKNOWN:
        return None
    sizes = [d.size for d in (*mates, *([old] if old.seated and not mates else [])) if d.size is not UNKNOWN]
    return Need(
        least=min(sizes or [known(old.size, 0)]), floor=floor_of(mine), media=(mates or [old])[0].media,
        sector=(mates or [old])[0].sector, protocol=old.protocol, rpm=old.rpm, size=old.size, part=old.part,
        controller=drive.controller or UNKNOWN, bay=drive.bay,
    )  # fmt: skip


def need_of_volume(server: Server, volume: Volume) -> Need | None:
    """What a hot spare for a volume must be; None where nothing is known of its members."""
    mates = [d for s in volume.seats if (d := server.seated_at(s)) and s.state is not SeatState.MISSING]
    sizes = [d.size for d in mates if d.size is not UNKNOWN]
    if not sizes:
        return None
    like = min(mates, key=lambda d: known(d.size, 0))
    spins = [d.rpm for d in mates if d.rpm is not UNKNOWN and d.rpm]
    return Need(
        least=min(sizes), floor=floor_of([volume]), media=like.media, sector=like.sector, protocol=like.protocol,
        rpm=min(spins) if spins else UNKNOWN, size=like.size, part=like.part, controller=volume.controller or UNKNOWN,
    )  # fmt: skip


def floor_of(volumes: list[Volume]) -> Maybe[int]:
    """Where the data of volumes end on their members, where all of them tell."""
    ends = [v.start + v.extent for v in volumes if v.start is not UNKNOWN and v.extent is not UNKNOWN]
    return max(ends) if ends and len(ends) == len(volumes) else UNKNOWN


def _unlike(drives: list[Drive], one: Drive) -> list[Drive]:
    return [d for d in drives if d.path != one.path]


def as_spare(server: Server, volume: Volume, drive: Drive) -> Fit:
    """How a drive would do as a hot spare of a volume: its being a spare is no objection."""
    need = need_of_volume(server, volume)
    c = candidate(drive, server)
    spare = (UseKind.GLOBAL_SPARE, UseKind.DEDICATED_SPARE)
    c = replace(c, uses=tuple(u for u in c.uses if u.kind not in spare), content="")
    return judge(need, c) if need else Fit((*_itself(c, {}),))


def worn(drive: Drive) -> bool:
    """Whether a drive's media life is used up."""
    return drive.media_life is not UNKNOWN and drive.media_life <= WORN_OUT


def sound(drive: Drive) -> bool:
    """Whether nothing is known against a drive itself."""
    bad = drive.health in (Health.WARNING, Health.CRITICAL) or drive.rollup in (Health.WARNING, Health.CRITICAL)
    return answers(drive) is Answers.YES and not bad and drive.predicted is not True and not worn(drive)
