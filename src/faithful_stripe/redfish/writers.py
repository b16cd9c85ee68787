"""Changes to a server: only what it offers is sent, and each is read back by its own address before it counts as done.

What is offered a server tells itself: our own parts by our key under its `Oem`, what a collection takes by its
capabilities (DSP0266 7.6), what an action takes by its allowable values or ActionInfo. Where it tells nothing, the
standard's usual way is tried first, and what the server names as not its own gives way to an older one, if nothing that
a person asked for is lost by it. A refused request was not carried out, so that asking again is safe.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from ..core.server.model import uses_of
from ..core.server.redundancy import OLD_TYPES
from ..core.server.things import Drive, Volume
from ..core.server.unknown import UNKNOWN, Maybe
from .client import MOST_PAGES, Client
from .exchange import AnswerLost, Body, Deferred, RedfishError
from .names import OEM
from .plain import body_of, flag, link, links, ours, part, rows, text, texts
from .readers import read_drive, read_volume

REFUSED = (400, 422)
"""HTTP statuses of a request that was understood and not carried out."""

GONE = (404, 410)
LOOKS, PAUSE = 3, 0.5
"""How often a resource is looked at until it is as asked, and the seconds in between."""

MOST_RUNGS = 8


class NotOffered(RedfishError):
    """What a person asked for, and the server does not take."""


def not_offered(client: Client, what: str, to_do: str) -> NotOffered:
    return NotOffered(what=f"{client.where}: {what}", to_do=to_do, status=0, message_id="")


@dataclass(frozen=True)
class NewVolume:
    """A volume as it is wanted. Sizes in bytes; `level` canonical, "None" for drives one after the other.

    asked  the properties that a person named: they are not given up for a server that does not take them
    ours   what only our own type can say, sent where a server states it, without what is None
    """

    name: str
    level: str
    drives: tuple[str, ...]
    strip: int
    size: int | None = None
    spans: int = 1
    read_cache: str | None = None
    write_cache: str | None = None
    initialize: str | None = None
    asked: frozenset[str] = frozenset()
    ours: Body = field(default_factory=dict)


def create_volume(client: Client, storage: Body, wanted: NewVolume) -> str:
    """Create a volume at a storage; its path. Raises NotOffered, AnswerLost, Deferred, RedfishError.

    Where the answer is lost, or does not tell which one it is, the volume is looked for among those that were not there
    before; it is never asked for twice.
    """
    path = link(storage, "Volumes")
    before = _listed(client, path)
    body = _first_rung(client, storage, path, wanted)
    for _rung in range(MOST_RUNGS):
        try:
            made, _answer = client.create(path, body)
        except AnswerLost:
            made = ""
            if not (found := set(_listed(client, path)) - set(before)):
                raise
            return next(iter(found)) if len(found) == 1 else _by_name(client, sorted(found), wanted.name)
        except RedfishError as reason:
            body = _next_rung(client, reason, body, wanted)
            continue
        if made and made not in before:
            return made
        new = [p for p in _listed(client, path) if p not in before]
        if len(new) == 1:
            return new[0]
        what = f"{client.where}: it took volume {wanted.name}, and lists {len(new) or 'no'} new volumes"
        raise RedfishError(what=what, to_do="look (`survey`) before you ask again", status=0, message_id="")
    raise not_offered(client, "it takes a volume in no way that the standard has", "create it at its own console")


def _listed(client: Client, path: str) -> list[str]:
    """The paths of a collection's members."""
    found: list[str] = []
    page, read = path, set[str]()
    while page and page not in read and len(read) < MOST_PAGES:
        read.add(page)
        body = client.get(page)
        found += links(body, "Members")
        page = str(body.get("Members@odata.nextLink") or "")
    return found


def _by_name(client: Client, paths: Sequence[str], name: str) -> str:
    found = [p for p in paths if read_volume(client.get(p), "").name == name]
    if len(found) == 1:
        return found[0]
    what = f"{client.where}: the answer was lost, and {len(paths)} volumes are new"
    raise RedfishError(what=what, to_do="look (`survey`) before you ask again", status=0, message_id="")


def _first_rung(client: Client, storage: Body, path: str, wanted: NewVolume) -> Body:
    """The request as today's standard has it, as far as the server offers it. Raises NotOffered."""
    body: Body = {
        "DisplayName": wanted.name,
        "RAIDType": wanted.level,
        "StripSizeBytes": wanted.strip,
        "Links": {"Drives": [{"@odata.id": d} for d in wanted.drives]},
    }
    more: Body = {
        "InitializeMethod": wanted.initialize, "CapacityBytes": wanted.size, "ReadCachePolicy": wanted.read_cache,
        "WriteCachePolicy": wanted.write_cache, "MediaSpanCount": wanted.spans if wanted.spans > 1 else None,
    }  # fmt: skip
    body |= {name: value for name, value in more.items() if value is not None}
    own = {name: value for name, value in wanted.ours.items() if value is not None and value is not False}
    if ours(storage):
        body["Oem"] = {OEM: own}
    elif own:
        listed = ", ".join(sorted(_WORDS.get(name, name) for name in own))
        raise not_offered(client, f"it does not take: {listed}", "leave that out, or create the volume at its console")
    collection = client.get(path)
    takes = _capabilities(client, collection)
    if takes:
        levels = texts(takes, "RAIDType@Redfish.AllowableValues")
        if levels and wanted.level not in levels:
            raise not_offered(client, f"it offers no {wanted.level}", f"offered: {', '.join(levels)}")
        while spare := [n for n in body if n not in ("Oem", "Links", "RAIDType") and not _takes(takes, n)]:
            body = _without(client, body, spare[0], wanted)
    times = texts(part(collection, "@Redfish.OperationApplyTimeSupport"), "SupportedValues")
    if "Immediate" in times:
        body["@Redfish.OperationApplyTime"] = "Immediate"
    return body


_WORDS = {
    "Rotation": "--rotation", "DataOrder": "--data", "QPlace": "--q-place", "QExponent": "--q-exponent",
    "MirrorMembers": "--copies", "AllowUnlikeDrives": "--mixed",
}  # fmt: skip


def _capabilities(client: Client, collection: Body) -> Body:
    """What a collection takes for a new member: its capabilities object; empty where it does not tell."""
    for row in rows(part(collection, "@Redfish.CollectionCapabilities"), "Capabilities"):
        if text(row, "UseCase") in ("VolumeCreation", UNKNOWN) and (path := link(row, "CapabilitiesObject")):
            try:
                return client.get(path)
            except RedfishError as reason:
                if reason.facts["status"] == 0:
                    raise
    return {}


def _takes(capabilities: Body, name: str) -> bool:
    """Whether a new member may say this; where an object annotates nothing, everything."""
    marks = [n for n in capabilities if n.endswith(("@Redfish.RequiredOnCreate", "@Redfish.OptionalOnCreate"))]
    named = (f"{name}@Redfish.RequiredOnCreate", f"{name}@Redfish.OptionalOnCreate")
    return not marks or any(flag(capabilities, n) is True for n in named)


def _next_rung(client: Client, reason: RedfishError, body: Body, wanted: NewVolume) -> Body:
    """The request without what a server has refused by name, in an older way where there is one. Raises the reason
    where none is left, NotOffered where a person asked for it."""
    refused = [n for n in reason.facts.get("properties", ()) if n in body]
    if reason.facts["status"] not in REFUSED or not refused:
        raise reason
    if "NotInList" in reason.facts["message_id"] or "NotSupported" in reason.facts["message_id"]:
        raise reason  # the property is taken, its value is not
    for name in refused:
        body = _without(client, body, name, wanted)
    return body


def _without(client: Client, body: Body, name: str, wanted: NewVolume) -> Body:
    """A request that does not say this, or says it as the standard did before. Raises NotOffered."""
    left = {n: value for n, value in body.items() if n != name}
    if name == "DisplayName":
        return left | {"Name": wanted.name}
    if name == "RAIDType":
        older = next((old for old, level in OLD_TYPES.items() if level == wanted.level), None)
        if older is None:
            raise not_offered(client, f"it knows no {wanted.level}", "choose another level")
        return left | {"VolumeType": older}
    if name in wanted.asked or name in ("VolumeType", "Links", "MediaSpanCount"):
        what = f"it does not take {_SHOWN.get(name, name)} for a new volume"
        raise not_offered(client, what, "leave that out, or create the volume at its console")
    return left


_SHOWN = {
    "StripSizeBytes": "a strip size", "CapacityBytes": "a size", "ReadCachePolicy": "a read cache policy",
    "WriteCachePolicy": "a write cache policy", "InitializeMethod": "a way to initialize", "Links": "the drives",
    "MediaSpanCount": "a number of spans",
}  # fmt: skip


def remove(client: Client, path: str, etag: str | None) -> None:
    """Delete a resource, if it is still as it was read, and see that it is gone. Raises Deferred where it stays."""
    client.delete(path, etag)
    for look in range(LOOKS):
        try:
            client.get(path)
        except RedfishError as reason:
            if reason.facts["status"] in GONE:
                return
            raise
        if look + 1 < LOOKS:
            client.wait(PAUSE)
    what = f"{client.where}: it took the removal, and what was to go is still there"
    raise Deferred(what=what, to_do="restart it (`firmware restart`), then look (`survey`)", status=202, message_id="")


def change(client: Client, path: str, body: Body, done: Callable[[Body], Maybe[bool]], what: str) -> Body:
    """Change properties of a resource, and see that it tells so; how it is then. Raises RedfishError where it took the
    change and is not so.

    done  whether a resource is as asked; UNKNOWN where it does not tell
    what  what was to become so, for the message
    """
    if not body:
        return client.get(path)
    client.patch(path, body)
    for look in range(LOOKS):
        now = client.get(path)
        so = done(now)
        if so is True:
            return now
        if so is UNKNOWN:
            message = f"{client.where}: it took the change, and does not tell whether {what}"
            raise RedfishError(what=message, to_do="look at its own console", status=0, message_id="")
        if look + 1 < LOOKS:
            client.wait(PAUSE)
    message = f"{client.where}: it took the change, and it is not so that {what}"
    raise RedfishError(what=message, to_do="look at its log: `log`", status=0, message_id="")


def make_spare(client: Client, drive: Drive, serves: Sequence[Volume], revertible: bool) -> Drive:
    """Make a drive a hot spare, for the given volumes or for any, in the first way that the server offers, and read it
    back: as the drive's own property, or as a link of the volumes that it is for."""
    body = client.get(drive.path)
    wanted: Body = {"HotspareType": "Dedicated" if serves else "Global"}
    if "HotspareReplacementMode" in body or ours(body):
        wanted["HotspareReplacementMode"] = "Revertible" if revertible else "NonRevertible"
    if ours(body) or not serves:
        if ours(body) and serves:
            wanted["Oem"] = {OEM: {"SpareFor": [{"@odata.id": v.path} for v in serves]}}
        now = change(client, drive.path, wanted, _is_spare, f"bay {drive.bay} is a hot spare")
        return _used(read_drive(now, drive.path, drive.controller, drive.enclosure), serves)
    for volume in serves:
        there = links(client.get(volume.path), "Links", "DedicatedSpareDrives")
        linked = [{"@odata.id": path} for path in dict.fromkeys((*there, drive.path))]
        change(
            client, volume.path, {"Links": {"DedicatedSpareDrives": linked}},
            lambda now: drive.path in links(now, "Links", "DedicatedSpareDrives"),
            f"bay {drive.bay} is a hot spare for volume {volume.name}",
        )  # fmt: skip
    now = client.get(drive.path)
    made = read_drive(now, drive.path, drive.controller, drive.enclosure)
    return _used(replace(made, spare=True, dedicated=True, spare_for=tuple(v.path for v in serves)), serves)


def _used(drive: Drive, serves: Sequence[Volume]) -> Drive:
    """A hot spare with what it is used for."""
    return replace(drive, uses=uses_of(drive, serves))


def free_spare(client: Client, drive: Drive) -> Drive:
    """Make a standby spare a free drive again: by its own property, else by the volumes that link it."""
    body = client.get(drive.path)
    if text(body, "HotspareType") in ("Global", "Dedicated", "Chassis") or not drive.spare_for:
        now = change(
            client, drive.path, {"HotspareType": "None"}, lambda now: _not(_is_spare(now)),
            f"bay {drive.bay} is no hot spare any more",
        )  # fmt: skip
        return read_drive(now, drive.path, drive.controller, drive.enclosure)
    for path in drive.spare_for:
        there = [p for p in links(client.get(path), "Links", "DedicatedSpareDrives") if p != drive.path]
        linked = [{"@odata.id": p} for p in there]
        change(
            client, path, {"Links": {"DedicatedSpareDrives": linked}},
            lambda now: drive.path not in links(now, "Links", "DedicatedSpareDrives"),
            f"bay {drive.bay} is no hot spare any more",
        )  # fmt: skip
    return read_drive(client.get(drive.path), drive.path, drive.controller, drive.enclosure)


def _is_spare(body: Body) -> Maybe[bool]:
    kind = text(body, "HotspareType")
    if kind is not UNKNOWN:
        return kind != "None"
    state = text(body_of(body.get("Status")), "State")
    return UNKNOWN if state is UNKNOWN else state == "StandbySpare"


def _not(so: Maybe[bool]) -> Maybe[bool]:
    return so if so is UNKNOWN else not so


def offered_values(client: Client, action: Body, parameter: str) -> Maybe[tuple[str, ...]]:
    """The values that an action takes for a parameter, beside it or in its ActionInfo; () where it has no such
    parameter, UNKNOWN where the server does not tell."""
    beside = f"{parameter}@Redfish.AllowableValues"
    if beside in action:
        return texts(action, beside)
    path = str(action.get("@Redfish.ActionInfo") or "")
    if not path:
        return UNKNOWN
    try:
        listed = rows(client.get(path), "Parameters")
    except RedfishError as reason:
        if reason.facts["status"] == 0:
            raise
        return UNKNOWN
    mine = next((row for row in listed if text(row, "Name") == parameter), None)
    if mine is None:
        return ()
    return texts(mine, "AllowableValues") or UNKNOWN
