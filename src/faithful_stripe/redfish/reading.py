"""A server read over Redfish into `core/server/model`: every resource that tells of storage, joined both ways.

What a resource does not tell is `UNKNOWN`; what cannot be read is a gap with its reason, and everything else still
appears. Only the loss of the connection, a refused login, or a service without systems ends a reading.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

from ..core.server.model import Server, uses_of
from ..core.server.redundancy import members_untold
from ..core.server.things import (
    Controller,
    Drive,
    FoundVolume,
    Gap,
    Part,
    PartKind,
    Seat,
    Use,
    UseKind,
    Volume,
)
from ..core.server.unknown import UNKNOWN, Maybe, known
from .client import Client, gap
from .exchange import Body, RedfishError
from .plain import (
    body_of,
    conditions,
    flag,
    health,
    last_of,
    link,
    links,
    ours,
    part,
    path_of,
    rows,
    state,
    text,
)
from .readers import read_controller, read_drive, read_found, read_seat, read_volume
from .systems import meant


@dataclass
class Found:
    """What has been read of a server so far, as JSON."""

    client: Client
    systems: list[Body] = field(default_factory=list)
    storages: list[Body] = field(default_factory=list)
    chassis: dict[str, Body] = field(default_factory=dict)
    listed: dict[str, Body] = field(default_factory=dict)
    holder: dict[str, str] = field(default_factory=dict)
    manager: Body = field(default_factory=dict)
    gaps: list[Gap] = field(default_factory=list)

    def get(self, path: str) -> Body:
        """A resource; empty, with a gap noted, where it cannot be read."""
        try:
            return self.client.get(path)
        except RedfishError as reason:
            self.missed(path, reason)
            return {}

    def members(self, path: str) -> list[Body]:
        """The members of a collection that can be read."""
        return [body_of(b) for b in self.client.members(path, self.missed)]

    def missed(self, path: str, reason: RedfishError) -> None:
        """Note a gap; raise what ends the reading."""
        gap(path, reason)
        self.gaps.append(Gap(path, int(reason.facts["status"]), reason.what))


def read_server(client: Client, drives_only: bool = False) -> Server:
    """Everything that a server tells of its storage. Raises RedfishError where it cannot be reached.

    drives_only  only where its drives are: no volume is read, and nothing of what a drive is used for is known
    """
    with client.look():
        found = Found(client)
        root = client.root
        client.ahead(client.page(link(root, name)) for name in ("Systems", "Chassis"))
        found.systems = meant(client, found.members(link(root, "Systems")))
        managers = [p for s in found.systems for p in links(s, "Links", "ManagedBy")][:1]
        client.ahead([*(client.page(link(s, "Storage")) for s in found.systems), *(() if drives_only else managers)])
        for system in found.systems:
            found.storages += found.members(link(system, "Storage"))
        if drives_only:
            found.storages = [_without_volumes(s) for s in found.storages]
        client.leads([*managers, *map(path_of, found.storages), *_pages(found)])
        _ahead(found)
        _chassis(found)
        if not drives_only:
            found.manager = (
                found.get(managers[0]) if managers else next(iter(found.members(link(root, "Managers"))), {})
            )
        made = _server(found, _first(found))
        if not drives_only:
            return made
        unknown = (Use(UseKind.NOT_KNOWN),)
        return replace(made, drives=tuple(replace(d, uses=unknown) if d.seated else d for d in made.drives))


def _pages(found: Found) -> Iterator[str]:
    """The pages on which volumes stand, and storage where the server tells it on a page."""
    client = found.client
    yield from (client.page(link(s, "Storage")) for s in found.systems if client.expands)
    yield from (client.page(link(s, "Volumes")) for s in found.storages)


def _without_volumes(storage: Body) -> Body:
    return {name: value for name, value in storage.items() if name not in ("Volumes", "Controllers")}


def _ahead(found: Found) -> None:
    """What storage links to, all at once; its drives by themselves, unless a chassis tells them whole."""
    wanted = [found.client.page(link(s, name)) for s in found.storages for name in ("Volumes", "Controllers")]
    enclosures = [p for s in found.storages for p in links(s, "Links", "Enclosures")]
    if found.client.expands:
        found.client.ahead(wanted)
        return
    found.client.ahead([*wanted, *enclosures, *(p for s in found.storages for p in links(s, "Drives"))])


def _uses(d: Drive, volumes: Sequence[Volume], unread: set[str]) -> tuple[Use, ...]:
    """What a drive is used for; where volumes of its storage could not be read, that is not known."""
    uses = uses_of(d, volumes)
    member = any(u.kind is UseKind.MEMBER for u in uses)
    return (*uses, Use(UseKind.NOT_KNOWN)) if d.seated and d.controller in unread and not member else uses


def _first(found: Found) -> Body:
    """The system that the server is named after: the first one with storage, else the first."""
    return next((s for s in found.systems if link(s, "Storage")), next(iter(found.systems), {}))


def _chassis(found: Found) -> None:
    """All chassis, those that storage names and those of the service's own list, with the drives that they list."""
    wanted = [p for s in found.storages for p in links(s, "Links", "Enclosures")]
    mine = {*wanted, *(p for s in found.systems for p in links(s, "Links", "Chassis"))}
    for body in found.members(link(found.client.root, "Chassis")):
        if not found.client.system or path_of(body) in mine:
            found.chassis[path_of(body)] = body
    for path in dict.fromkeys(wanted):
        if path not in found.chassis:
            found.chassis[path] = found.get(path)
    found.client.ahead(found.client.page(link(body, "Drives")) for body in found.chassis.values())
    known_of = {p for s in found.storages for p in links(s, "Drives")}
    for path, body in found.chassis.items():
        inside = links(body, "Links", "Drives")
        told = not found.client.expands and inside and set(inside) <= known_of
        for drive in [] if told else found.members(link(body, "Drives")):
            found.listed[path_of(drive)] = drive
            found.holder.setdefault(path_of(drive), path)
        for drive_path in links(body, "Links", "Drives"):
            found.holder.setdefault(drive_path, path)


def _server(found: Found, system: Body) -> Server:
    names = _storage_names(found.storages)
    controllers: list[Controller] = []
    keeping: list[Part] = []
    volumes: list[Volume] = []
    bodies: dict[str, Body] = {}
    owner: dict[str, str] = {}
    found_volumes: list[FoundVolume] = []
    told: list[tuple[Body, Volume]] = []
    found.client.ahead(p for s in found.storages for p in links(s, "Drives") if p not in found.listed)
    unread = {""}  # drives that no storage owns: what uses them is not known either
    for storage in found.storages:
        name = names[path_of(storage)]
        missed = len(found.gaps)
        mine = [(b, read_volume(b, name)) for b in found.members(link(storage, "Volumes"))]
        found.client.leads(path_of(b) for b, _v in mine)
        whole = len(found.gaps) == missed
        unread |= set() if whole else {name}
        mine_too = _controller_bodies(found, storage)
        controllers += [replace(c, volumes_read=whole) for c in _controllers(mine_too, storage, name)]
        keeping += [p for body in mine_too for p in _keeping(found, body, name)]
        told += mine
        volumes += [v for _b, v in mine]
        for path in links(storage, "Drives"):
            bodies[path] = found.listed.get(path) or found.get(path)
            owner[path] = name
        found_volumes += [one for row in rows(ours(storage), "FoundVolumes") if (one := read_found(row, storage, name))]
    for path in found.holder:
        if path not in bodies:
            bodies[path] = found.listed.get(path) or found.get(path)
    drives = [
        read_drive(body, path, owner.get(path, ""), found.holder.get(path, "")) for path, body in bodies.items() if body
    ]
    joined = tuple(_seated(body, v, drives, bodies) for body, v in told)
    made = Server(
        server=str(known(text(system, "Name", "Id"), found.client.where)),
        maker=text(system, "Manufacturer"),
        model=text(system, "Model"),
        serial=text(system, "SerialNumber"),
        uuid=text(system, "UUID"),
        firmware=text(system, "BiosVersion"),
        power=text(system, "PowerState"),
        time=str(known(text(found.manager, "DateTime"), "")),
        controllers=tuple(controllers),
        drives=tuple(replace(d, uses=_uses(d, joined, unread)) for d in _with_spares(drives, joined)),
        volumes=joined,
        panel=_panel(found, drives),
        found_volumes=tuple(found_volumes),
        parts=(*_parts(found), *keeping),
        gaps=tuple(found.gaps),
        lid_open=_lid(found),
        hot_swap=next((f for c in found.chassis.values() if (f := flag(ours(c), "HotSwap")) is not UNKNOWN), UNKNOWN),
    )
    dark = {v.controller for v in made.volumes if members_untold(made, v)}
    return replace(made, drives=tuple(_maybe_used(d, dark) for d in made.drives)) if dark else made


def _maybe_used(d: Drive, dark: set[str]) -> Drive:
    """A drive that nothing is known to use, at a controller with a volume that does not tell its members."""
    untold = d.seated and not d.uses and d.controller in dark
    return replace(d, uses=(Use(UseKind.NOT_KNOWN),)) if untold else d


def _storage_names(storages: Sequence[Body]) -> dict[str, str]:
    """What each storage is called: its Id, or, where two have one, its system's with it."""
    plain = {path_of(s): str(known(text(s, "Id"), last_of(path_of(s)))) for s in storages}
    twice = [n for n in plain.values() if list(plain.values()).count(n) > 1]
    return {p: f"{p.split('/Storage/')[0].rpartition('/')[2]}/{n}" if n in twice else n for p, n in plain.items()}


def _lid(found: Found) -> Maybe[bool]:
    sensors = [text(part(c, "PhysicalSecurity"), "IntrusionSensor") for c in found.chassis.values()]
    told = [s for s in sensors if s is not UNKNOWN]
    return "HardwareIntrusion" in told if told else UNKNOWN


def _parts(found: Found) -> Iterator[Part]:
    named = [
        *((PartKind.SYSTEM, s) for s in found.systems),
        *((PartKind.STORAGE, s) for s in found.storages),
        *((PartKind.CHASSIS, c) for c in found.chassis.values()),
        *([(PartKind.MANAGER, found.manager)] if found.manager else []),
    ]
    for kind, body in named:
        name = str(known(text(body, "Name", "Id"), last_of(path_of(body))))
        yield Part(kind, name, path_of(body), state(body), health(body), health(body, "HealthRollup"), conditions(body))


def _panel(found: Found, drives: Sequence[Drive]) -> tuple[tuple[str, ...], ...]:
    """Rows of bay labels from the top left; all in one row where the server does not tell."""
    labels = [d.bay for d in drives]
    for chassis in found.chassis.values():
        told = ours(chassis).get("Panel")
        if isinstance(told, list) and all(isinstance(row, list) for row in told):
            made = tuple(tuple(str(bay) for bay in row if str(bay) in labels) for row in told)
            if sorted(bay for row in made for bay in row) == sorted(labels):
                return made
    return (tuple(labels),) if labels else ()


# controllers ------------------------------------------------------------------------------------


def _controller_bodies(found: Found, storage: Body) -> list[Body]:
    """A storage's controllers: its collection, or the older list inside it."""
    return found.members(link(storage, "Controllers")) or list(rows(storage, "StorageControllers"))


def _keeping(found: Found, body: Body, controller: str) -> Iterator[Part]:
    """What keeps the writes that a controller has acknowledged: its cache, and the batteries that it links."""
    cache = part(body, "CacheSummary")
    if cache:
        path = f"{path_of(body)}#/CacheSummary"
        yield Part(PartKind.CACHE, f"cache of {controller}", path, state(cache), health(cache), controller=controller)
    for path in links(body, "Links", "Batteries"):
        told = found.get(path)
        name = str(known(text(told, "Name", "Id"), last_of(path)))
        yield Part(PartKind.BATTERY, name, path, state(told), health(told), UNKNOWN, conditions(told), controller)


def _controllers(bodies: Sequence[Body], storage: Body, name: str) -> list[Controller]:
    """A storage's controllers, of which there may be none by themselves."""
    offers = bool(link(storage, "Volumes"))
    if not bodies:
        return [Controller(name, path_of(storage), offers_volumes=offers)] if links(storage, "Drives") else []
    return [read_controller(b, storage, name, offers) for b in bodies]


# drives -----------------------------------------------------------------------------------------


def _with_spares(drives: Sequence[Drive], volumes: Sequence[Volume]) -> list[Drive]:
    """Drives that a volume names as its dedicated spares are spares for it, whatever their own resource says."""
    made = []
    for d in drives:
        serves = [v.path for v in volumes if d.path in v.spares]
        if serves:
            d = replace(d, spare=True, dedicated=True, spare_for=tuple(dict.fromkeys((*d.spare_for, *serves))))
        made.append(d)
    return made


# volumes ----------------------------------------------------------------------------------------


def read_volume_at(client: Client, path: str, controller: str, drives: Sequence[Drive]) -> Volume:
    """A volume by its own address, with its seats as far as `drives` are its members. Raises RedfishError."""
    body = client.get(path)
    return _seated(body, read_volume(body, controller), drives, {})


def _seated(body: Body, volume: Volume, drives: Sequence[Drive], bodies: dict[str, Body]) -> Volume:
    """A volume with its seats: as its server lists its members, else from the links, whichever side has them."""
    members = rows(ours(body), "Members")
    if members:
        width = max(1, len(members) // max(1, volume.spans))
        seats = tuple(read_seat(row, i, i // width, drives) for i, row in enumerate(members))
        return replace(volume, seats=seats, told={**volume.told, "seats": "Oem Members"})
    mine = [*links(body, "Links", "Drives")]
    source = ["Volume.Links.Drives"] if mine else []
    for row in rows(body, "CapacitySources"):
        mine += links(row, "ProvidingDrives")
    back = [path for path, b in bodies.items() if volume.path in links(b, "Links", "Volumes")]
    if set(back) - set(mine):
        source.append("Drive.Links.Volumes")
    wanted = [p for p in dict.fromkeys([*mine, *back]) if p not in volume.spares or p in mine]
    by_path = {d.path: d for d in drives}
    seats = tuple(
        Seat(i, by_path[p].bay if p in by_path else last_of(p), by_path[p].serial if p in by_path else UNKNOWN,
             UNKNOWN, p)
        for i, p in enumerate(wanted)
    )  # fmt: skip
    told = {**volume.told, "seats": ", ".join(source) or "nowhere"}
    return replace(volume, seats=seats, ordered=False, told=told)
