"""Volumes planned, shown and made. The plan is what the preview prints and what is sent.

Several volumes are planned together, so that each knows of the ones before it, and made together: when one is refused,
those made before it in the same go are removed again.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from ..core.arrays.geometry import geometry
from ..core.arrays.margin import margin
from ..core.errors import StripeError
from ..core.server.fitness import Need, Why, candidate, judge
from ..core.server.model import Server
from ..core.server.things import CACHE_WORDS, Drive, Health, Seat, SeatState, Use, UseKind, Volume
from ..core.server.unknown import UNKNOWN, known
from ..core.units import binary_size, decimal_size
from ..redfish.client import Client
from ..redfish.exchange import Body
from ..redfish.reading import read_volume_at
from ..redfish.writers import NewVolume, create_volume, make_spare
from .build import remove_volume
from .errors import Unfit, WorkError
from .picking import check_alike, controller_of, pick, size_of
from .survey import Paths, find, survey

AGREED = (Why.HOLDS_DATA, Why.FOUND, Why.PREDICTED, Why.WORN)
"""What is shown and agreed to elsewhere before a drive becomes a spare."""


@dataclass(frozen=True)
class VolumeWish:
    """What a person asked for; sizes in bytes.

    drives   bay labels or serial numbers, in the order of the members, spans one after the other
    size     of the volume; None for all that the drives hold
    copies   members of one mirror of RAID 10
    mixed, over_found, failing  take drives of different media or sector size, with another set-up on them, or that
             predict their failure
    initialize  "fast", "foreground" or "background"
    controller  the one it is to be made at, where the person said so: the bays must be its
    read_cache, write_cache  policies in the words of `CACHE_WORDS`; None as the controller sees fit
    spares   bays or serials of drives that become hot spares for it
    strip_asked  whether a person named the strip size, or takes what the server makes
    """

    name: str
    level: str
    drives: tuple[str, ...]
    strip: int
    rotation: str | None = None
    data: str | None = None
    mixed: bool = False
    size: int | None = None
    spans: int | None = None
    copies: int | None = None
    q_place: str | None = None
    q_exponent: str | None = None
    initialize: str = "fast"
    controller: str | None = None
    read_cache: str | None = None
    write_cache: str | None = None
    spares: tuple[str, ...] = ()
    over_found: bool = False
    failing: bool = False
    strip_asked: bool = True


@dataclass(frozen=True)
class VolumePlan:
    """What will be made: the drives in order, the usable size (an estimate until it stands), what is asked of which
    storage (empty in a plan that is only looked at).

    spares    drives that become hot spares for it
    extent    bytes of each member that it takes, an estimate, too
    lost      what is on the drives now, a line per drive that is not known to be blank
    warnings  what a careful colleague would say
    """

    wish: VolumeWish
    level: str
    drives: tuple[Drive, ...]
    spares: tuple[Drive, ...]
    size: int
    extent: int
    margin: int
    spans: int
    lost: tuple[str, ...]
    warnings: tuple[str, ...]
    storage: Body
    wanted: NewVolume
    controller: str

    @property
    def serials(self) -> list[str]:
        """Of every drive that it takes."""
        return [known(d.serial, "?") for d in (*self.drives, *self.spares)]


def singly(name: str, drives: Sequence[str], like: VolumeWish) -> list[VolumeWish]:
    """One volume of a single drive each, NAME-BAY: how drives are presented by themselves beside arrays."""
    return [replace(like, name=f"{name}-{d}", level="SPAN", drives=(d,), spans=None) for d in drives]


def plan_volumes(client: Client, wishes: Sequence[VolumeWish]) -> list[VolumePlan]:
    """Check wishes against the server, each with the ones before it, changing nothing. Raises WorkError,
    GeometryError."""
    with client.look():
        seen, paths, plans = survey(client), find(client), list[VolumePlan]()
    for wish in wishes:
        plan = plan_on(seen, wish, paths)
        plans.append(plan)
        seen = with_planned(seen, plan)
    return plans


def plan_on(seen: Server, wish: VolumeWish, paths: Paths | None) -> VolumePlan:
    """A plan for a server as it is, or as it will be; without `paths` it can be looked at, not carried out."""
    drives = tuple(pick(seen, name, wish.drives, wish.over_found, wish.failing) for name in wish.drives)
    spares = tuple(pick(seen, name, (), wish.over_found, wish.failing) for name in wish.spares)
    for d in (*drives, *spares):
        if (*drives, *spares).count(d) > 1:
            raise WorkError(what=f"bay {d.bay} is named twice", to_do="name every drive once")
    controller = controller_of(seen, drives + spares, wish.controller)
    if any(v.name == wish.name for v in seen.volumes if v.controller == controller):
        raise WorkError(what=f"{seen.server}: there is a volume {wish.name} already", to_do="choose another name")
    least = min(_room(seen, d) for d in drives) if drives else wish.strip
    made = geometry(
        wish.level, len(drives), wish.strip, member_bytes=least // wish.strip * wish.strip, rotation=wish.rotation,
        data=wish.data, spans=wish.spans, copies=wish.copies, q_place=wish.q_place, q_exponent=wish.q_exponent,
    )  # fmt: skip
    check_alike(drives, wish.mixed)
    if wish.size is not None and not 0 < wish.size <= made.volume_bytes:
        room = f"these drives hold about {decimal_size(made.volume_bytes)} as {made.layout.level}"
        raise WorkError(what=f"{room}, {decimal_size(wish.size)} are wanted", to_do="ask for less, or use more drives")
    _check_spares(seen, wish, drives, spares)
    if wish.spares and not made.redundant:
        what = f"{made.layout.level} has no redundancy: a spare has nothing to rebuild it from"
        raise WorkError(what=what, to_do="leave the spares out, or choose another level")
    chosen = made.layout
    ours: Body = {
        "Rotation": wish.rotation, "DataOrder": wish.data, "AllowUnlikeDrives": wish.mixed, "QPlace": wish.q_place,
        "QExponent": wish.q_exponent, "MirrorMembers": wish.copies,
    }  # fmt: skip
    return VolumePlan(
        wish=wish,
        level=chosen.level,
        drives=drives,
        spares=spares,
        size=min(made.volume_bytes, wish.size or made.volume_bytes),
        extent=-(-made.rows * wish.strip * min(made.volume_bytes, wish.size or made.volume_bytes) // made.volume_bytes),
        margin=margin(made.pattern, []),
        spans=chosen.spans,
        lost=tuple(
            f"bay {d.bay}, {known(d.serial, 'serial not known')}: {_content(d)}"
            for d in (*drives, *spares)
            if _would_lose(d)
        ),
        warnings=tuple(_warnings(drives, spares, least)),
        storage=paths.storage(controller) if paths else {},
        controller=controller,
        wanted=NewVolume(
            name=wish.name,
            level=chosen.level if chosen.level != "SPAN" else "None",
            drives=tuple(d.path for d in drives),
            strip=wish.strip,
            size=wish.size,
            spans=chosen.spans,
            initialize=wish.initialize.capitalize() if wish.initialize != "fast" else None,
            read_cache=_spelled(wish.read_cache),
            write_cache=_spelled(wish.write_cache),
            asked=frozenset(
                ("CapacityBytes", "ReadCachePolicy", "WriteCachePolicy", "InitializeMethod")
                + (("StripSizeBytes",) if wish.strip_asked else ())
            ),
            ours=ours,
        ),
    )


def _spelled(word: str | None) -> str | None:
    """A cache policy as Redfish spells it."""
    return next((name for name, ours in CACHE_WORDS.items() if ours == word), word) if word else None


def _room(seen: Server, drive: Drive) -> int:
    """Bytes of a drive that volumes on it leave free."""
    return size_of(drive) - _end(seen, drive)


def _end(seen: Server, drive: Drive) -> int:
    """Where the last volume on a drive ends. Raises WorkError where one does not tell."""
    mine = [v for v in seen.volumes if v.at(drive)]
    dark = next((v for v in mine if v.start is UNKNOWN or v.extent is UNKNOWN), None)
    if dark:
        what = f"bay {drive.bay}: the server does not tell how much of its drive volume {dark.name} takes"
        raise WorkError(what=what, to_do="use drives without a volume")
    return max((known(v.start, 0) + known(v.extent, 0) for v in mine), default=0)


def _check_spares(seen: Server, wish: VolumeWish, drives: Sequence[Drive], spares: Sequence[Drive]) -> None:
    """Raise Unfit for a dedicated spare that could not take over for the volume."""
    if not drives:
        return
    like = min(drives, key=size_of)
    need = Need(size_of(like), media=like.media, sector=like.sector, protocol=like.protocol)
    for d in spares:
        against = tuple(r for r in judge(need, candidate(d, seen)).cannot if r.why not in AGREED)
        if against:
            raise Unfit(seen, d, against, wish.name)


def with_planned(seen: Server, plan: VolumePlan) -> Server:
    """The server as it will be once a plan is carried out."""
    seats = tuple(Seat(i, d.bay, d.serial, SeatState.ACTIVE, d.path) for i, d in enumerate(plan.drives))
    volume = Volume(
        name=plan.wish.name, level=plan.level, size=plan.size, strip=plan.wish.strip, rotation=plan.wish.rotation,
        data=plan.wish.data, state="Enabled", health=Health.OK, seats=seats, content="", path="", spans=plan.spans,
        controller=plan.controller, start=max(_end(seen, d) for d in plan.drives), extent=plan.extent,
    )  # fmt: skip
    uses = {d.path: Use(UseKind.MEMBER, plan.wish.name, "", i) for i, d in enumerate(plan.drives)}
    uses |= {d.path: Use(UseKind.DEDICATED_SPARE, plan.wish.name) for d in plan.spares}
    drives = tuple(replace(d, uses=(*d.uses, uses[d.path])) if d.path in uses else d for d in seen.drives)
    return replace(seen, drives=drives, volumes=(*seen.volumes, volume))


def without(seen: Server, gone: Sequence[Volume]) -> Server:
    """The server as it will be once volumes are removed: their drives are free, with what stood on them."""
    keys = [v.key for v in gone]
    left = tuple(v for v in seen.volumes if v.key not in keys)
    names = {s.drive: v.name for v in gone for s in v.seats if s.drive}
    paths = {v.path for v in gone}
    drives = []
    for d in seen.drives:
        uses = tuple(u for u in d.uses if u.volume_path not in paths or not u.volume_path)
        spare = bool({u.kind for u in uses} & {UseKind.GLOBAL_SPARE, UseKind.DEDICATED_SPARE})
        if uses != d.uses:
            left_on = f"what was volume {names[d.path]}" if d.path in names and not uses else d.content
            d = replace(d, uses=uses, content="" if d.spare is True and not uses else left_on, spare=spare)
        drives.append(d)
    return replace(seen, volumes=left, drives=tuple(drives))


# making -----------------------------------------------------------------------------------------


def add_volumes(client: Client, plans: Sequence[VolumePlan]) -> list[Volume]:
    """Make the planned volumes with their spares, all or none, and read them back.

    When one is refused, those made before it in this go are removed again: nobody has used them yet. Raises what the
    server answered, with what was undone.
    """
    made: list[Volume] = []
    try:
        for plan in plans:
            made.append(_add(client, plan))
            for spare in plan.spares:
                make_spare(client, spare, [made[-1]], True)
    except StripeError as reason:
        undone = []
        for volume in reversed(made):
            remove_volume(client, survey(client).volume(volume.path))
            undone.append(volume.name)
        if not undone:
            raise
        what = f"{reason.what}; what was created before it in this run was removed again: {', '.join(undone)}"
        raise WorkError(what=what, to_do=reason.to_do) from reason
    return [
        read_volume_at(client, v.path, v.controller, p.drives) if p.spares else v
        for v, p in zip(made, plans, strict=True)
    ]


def _add(client: Client, plan: VolumePlan) -> Volume:
    """Make one volume, and read it back by its own address. Raises WorkError where it is not as it was asked for."""
    path = create_volume(client, plan.storage, plan.wanted)
    made = read_volume_at(client, path, plan.controller, plan.drives)
    members = {s.drive for s in made.seats if s.drive}
    wrong = [
        *([f"level {made.level}, asked for {plan.level}"] if known(made.level, plan.level) != plan.level else []),
        *([f"strip {binary_size(made.strip)}, asked for {binary_size(plan.wish.strip)}"]
          if plan.wish.strip_asked and made.strip is not UNKNOWN and made.strip != plan.wish.strip else []),
        *(["other drives than those asked for"] if members and members != {d.path for d in plan.drives} else []),
    ]  # fmt: skip
    if wrong:
        what = f"volume {made.name} was created, and is not as asked: {'; '.join(wrong)}"
        raise WorkError(what=what, to_do=f"look at it (`volume show {made.name}`); remove it if it will not do")
    return made


# what a preview tells ----------------------------------------------------------------------------


def _would_lose(drive: Drive) -> bool:
    """Whether something on a free drive will be overwritten; volumes that share a drive stay."""
    return drive.content is UNKNOWN or (drive.content != "" and not drive.used_as(UseKind.MEMBER))


def _warnings(drives: tuple[Drive, ...], spares: tuple[Drive, ...], least: int) -> list[str]:
    found = [
        f"bay {d.bay} holds {decimal_size(size)}; {decimal_size(size - least)} of it stay unused"
        for d in drives
        if (size := known(d.size, 0)) > least and not d.used_as(UseKind.MEMBER)
    ]
    media = sorted({d.media for d in drives if d.media is not UNKNOWN})
    if len(media) > 1:
        found.append(f"{' and '.join(media)} in one volume: the slower drives set the pace")
    found += [f"bay {d.bay} predicts its failure" for d in drives if d.predicted is True]
    found += [f"bay {d.bay} has only {d.media_life:.0f} % of its media life left" for d in drives
              if d.media_life is not UNKNOWN and d.media_life <= 20]  # fmt: skip
    return found


def _content(drive: Drive) -> str:
    return known(drive.content, "contents unknown, the server cannot say")
