"""Building: volumes removed, rebuilt, initialized and checked; spares, found set-ups and controllers changed.

How volumes are planned and made is in `volumes.py`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ..core.server.fitness import as_spare
from ..core.server.model import Server
from ..core.server.redundancy import survives
from ..core.server.things import CACHE_WORDS, Controller, Drive, FoundVolume, Volume
from ..core.server.unknown import UNKNOWN, Maybe, known
from ..redfish.client import Client
from ..redfish.exchange import Body, RedfishError
from ..redfish.names import OEM
from ..redfish.plain import ours, part, text
from ..redfish.readers import located, read_drive, read_volume
from ..redfish.reading import read_server
from ..redfish.writers import change, free_spare, make_spare, offered_values, remove
from .errors import Unfit, WorkError
from .picking import pick
from .remembered import drive_place, remember_drives
from .survey import survey


def remove_volume(client: Client, volume: Volume) -> None:
    """Delete a volume, if it is still as it was seen; progress of work on it does not count.

    Raises WorkError when its members or what it holds have changed meanwhile.
    """
    for _attempt in range(3):
        try:
            remove(client, volume.path, volume.etag)
            return
        except RedfishError as reason:
            if reason.facts["status"] != 412:
                raise
            now = survey(client).volume(volume.path)
            if (_members(now), now.size, now.content) != (_members(volume), volume.size, volume.content):
                what = f"volume {volume.name} has changed since it was shown"
                raise WorkError(what=what, to_do="look at it again, then decide; nothing was removed") from reason
            volume = now
    raise WorkError(what=f"volume {volume.name} changes all the time", to_do="wait until its work is done (`watch`)")


def company(seen: Server, volume: Volume) -> list[Volume]:
    """The other volumes that a volume's drives carry."""
    paths = {s.drive for s in volume.seats if s.drive}
    return [v for v in seen.volumes if v.key != volume.key and paths & {s.drive for s in v.seats}]


def _members(volume: Volume) -> tuple[object, ...]:
    return tuple((s.position, s.drive, s.serial, s.state) for s in volume.seats)


def start_rebuild(client: Client, volume: Volume, drive: Drive) -> None:
    """Ask the controller to rebuild a volume's missing member onto a drive, or to copy back onto it where a hot spare
    stands in its place. Raises WorkError where it does not take that."""
    _post_ours(client, volume, "Rebuild", {"Drive": {"@odata.id": drive.path}},
               "this server does not take a rebuild by hand",
               "seat a fitting blank drive in the failed bay; it starts by itself")  # fmt: skip


def accept_inconsistent(client: Client, name: str, controller: str | None = None) -> Volume:
    """Say of a volume's inconsistent ranges that somebody has seen them, and read it back. Raises WorkError."""
    volume = survey(client).volume(name, controller)
    if not volume.inconsistent:
        what = f"volume {volume.name}: no check has found anything inconsistent"
        raise WorkError(what=what, to_do="nothing to do; look again: `volume check`")
    _post_ours(client, volume, "AcceptInconsistent", {}, "this server does not keep what was found by a check",
               "repair it: `volume check --repair`")  # fmt: skip
    return survey(client).volume(volume.path)


def _post_ours(client: Client, volume: Volume, act: str, body: Body, trouble: str, to_do: str) -> None:
    target = text(part(client.get(volume.path), "Actions", "Oem", f"#{OEM}.{act}"), "target")
    if target is UNKNOWN:
        raise WorkError(what=f"volume {volume.name}: {trouble}", to_do=to_do)
    client.post(target, body)


def initialize(client: Client, volume: Volume, method: str) -> Volume:
    """Begin to initialize a volume: "fast", "foreground" (both lose what it holds) or "background"."""
    action = _action(client, volume, "#Volume.Initialize", "initialization")
    kind, how = ("Fast", None) if method == "fast" else ("Slow", method.capitalize())
    kinds, ways = (offered_values(client, action, f"Initialize{word}") for word in ("Type", "Method"))
    body = {}
    if kinds is UNKNOWN or kind in kinds:
        body["InitializeType"] = kind
    elif kinds:
        raise _not_so(volume, f"a {kind.lower()} initialization", kinds)
    if how and (ways is UNKNOWN or how in ways):
        body["InitializeMethod"] = how
    elif how and (ways or how == "Background"):
        raise _not_so(volume, f"to initialize in the {how.lower()}", ways or ("Foreground",))
    client.post(str(action["target"]), body)
    return _again(client, volume)


def _not_so(volume: Volume, what: str, offered: Sequence[str]) -> WorkError:
    to_do = f"offered: {', '.join(offered)}; its own console may"
    return WorkError(what=f"volume {volume.name}: this server does not offer {what}", to_do=to_do)


def _again(client: Client, volume: Volume) -> Volume:
    """A volume read by its own address, after something that changes none of its members."""
    now = read_volume(client.get(volume.path), volume.controller)
    return replace(now, seats=volume.seats, ordered=volume.ordered, found=volume.found, boots=volume.boots)


def start_check(client: Client, name: str, repair: bool, controller: str | None = None) -> Volume:
    """Begin a consistency check of a volume; with `repair` (where the server takes it) it repairs what it finds."""
    volume = survey(client).volume(name, controller)
    action = _action(client, volume, "#Volume.CheckConsistency", "consistency check")
    if repair and not action["ours"]:
        what = f"volume {volume.name}: this server does not say that a check repairs what it finds"
        raise WorkError(what=what, to_do="check without --repair; its own console may repair")
    client.post(str(action["target"]), {"Oem": {OEM: {"Repair": True}}} if repair else {})
    return _again(client, volume)


def _action(client: Client, volume: Volume, name: str, words: str) -> Body:
    """An action of a volume as it is offered, and under "ours" whether the server is of our own kind."""
    body = client.get(volume.path)
    action = part(body, "Actions", name)
    if text(action, "target") is UNKNOWN:
        raise WorkError(what=f"volume {volume.name}: this server offers no {words}", to_do="its own console may")
    return {**action, "ours": bool(ours(body))}


def _remembered(client: Client, wanted: str) -> tuple[Server, Drive, Body] | None:
    """A drive where it was at an earlier look, if its resource tells the same label and serial number now."""
    place = drive_place(client.where, wanted)
    if place is None:
        return None
    was, panel = place
    _ = client.root  # what tells how to log in
    body = client.maybe(was.path)
    drive = read_drive(body, was.path, "", "")
    if (drive.bay, drive.serial) != (was.bay, was.serial):
        return None
    return Server(client.where, drives=(drive,), panel=panel), drive, body


def _looked_for(client: Client, wanted: str) -> tuple[Server, Drive, Body]:
    seen = read_server(client, drives_only=True)
    remember_drives(client.where, seen)
    drive = seen.drive(wanted)
    if not drive.seated:
        raise WorkError(what=f"bay {drive.bay} is empty: there is no LED to switch", to_do="count from its neighbours")
    return seen, drive, client.get(drive.path)


def locate(client: Client, wanted: str, on: bool) -> tuple[Server, Drive]:
    """Switch the identify LED of a drive (by bay, serial number or path), and read it back; the drives of the server,
    and this one as it is then. Raises WorkError."""
    seen, drive, body = _remembered(client, wanted) or _looked_for(client, wanted)
    old = "LocationIndicatorActive" not in body and "IndicatorLED" in body  # as it was told until 2020
    client.patch(drive.path, {"IndicatorLED": "Blinking" if on else "Off"} if old else {"LocationIndicatorActive": on})
    now = replace(drive, located=located(client.get(drive.path)))
    if now.located is UNKNOWN:
        what = f"bay {drive.bay}: the server took it, and does not tell whether the LED changed"
        raise WorkError(what=what, to_do="look at the LED, or count the bays")
    if now.located is not on:
        raise WorkError(what=f"bay {drive.bay}: the server took it, but the LED did not change", to_do="try it again")
    return seen, now


def add_spare(client: Client, bay: str, names: tuple[str, ...], revertible: bool) -> Drive:
    """Make a drive (by bay or serial number) a hot spare, for the named volumes or for any. Raises Unfit where it would
    take over for none of them."""
    seen = survey(client)
    drive = pick(seen, bay)
    serves = [seen.volume(name, drive.controller) for name in names]
    check_spare(seen, drive, serves)
    return make_spare(client, drive, serves, revertible)


def check_spare(seen: Server, drive: Drive, serves: Sequence[Volume]) -> None:
    """Raise Unfit for a drive that could not take over: for one of the volumes it is meant for, or for none at all."""
    redundant = [v for v in seen.volumes if v.controller == drive.controller and known(survives(v), 0) > 0]
    fits = [(v, as_spare(seen, v, drive)) for v in serves or redundant]
    unfit = [(v, fit) for v, fit in fits if fit.cannot]
    if unfit and (serves or len(unfit) == len(fits)):
        raise Unfit(seen, drive, unfit[0][1].cannot, unfit[0][0].name)


def remove_spare(client: Client, bay: str) -> Drive:
    """Make a standby spare a free drive again, and read it back."""
    return free_spare(client, survey(client).drive(bay))


def adopt(client: Client, found: FoundVolume, new_name: str | None) -> Volume:
    """Take a found volume over, with all that shares drives with it, and read it back."""
    body = {"Volume": found.guid} | ({"NewName": new_name} if new_name else {})
    client.post(_found_action(client, found, "Adopt"), body)
    return survey(client).volume(new_name or found.name, found.controller)


def forget(client: Client, found: FoundVolume) -> None:
    """Remove a found volume's set-up from its drives, and that of all that shares drives with it."""
    client.post(_found_action(client, found, "Forget"), {"Volume": found.guid})


def _found_action(client: Client, found: FoundVolume, name: str) -> str:
    actions = (client.get(found.path).get("Actions") or {}).get("Oem") or {}
    target = (actions.get(f"#{OEM}.{name}") or {}).get("target")
    if not target:
        what = f"{client.where}: the controller offers no {name} any more"
        raise WorkError(what=what, to_do="look again: `survey`")
    return str(target)


def with_company(seen: Server, found: FoundVolume) -> list[FoundVolume]:
    """a found volume, and those whose drives it shares: they can only be adopted or forgotten together."""
    group, bays = [found], {m.bay for m in found.members if m.bay}
    while more := [f for f in seen.found_volumes if f not in group and bays & {m.bay for m in f.members}]:
        group += more
        bays |= {m.bay for f in more for m in f.members if m.bay}
    return group


def set_caches(client: Client, volume: Volume, read: str | None, write: str | None) -> Volume:
    """Change a volume's cache policies (words of `CACHE_WORDS`), and read it back."""
    asked = cache_body(read, write)
    change(client, volume.path, asked, lambda now: _told(now, asked), "the policies are as asked")
    return _again(client, volume)


def _told(body: Body, asked: Body) -> Maybe[bool]:
    """Whether a resource says what was asked of it; UNKNOWN where it tells none of it."""
    if not any(name in body for name in asked):
        return UNKNOWN
    return all(body.get(name) == value for name, value in asked.items())


def cache_body(read: str | None, write: str | None) -> Body:
    """Cache policies as Redfish spells them, those that are given."""
    spelled = {word: name for name, word in CACHE_WORDS.items()}
    asked = {"ReadCachePolicy": read, "WriteCachePolicy": write}
    return {key: spelled[word] for key, word in asked.items() if word}


def set_controller(client: Client, controller: Controller, **settings: int | str | bool | None) -> Controller:
    """Change a controller's rates and habits (the names are those of `Controller`), and read it back."""
    rates = {"RebuildRatePercent": "rebuild_rate", "ConsistencyCheckRatePercent": "check_rate"}
    habits = {"Replacement": "replacement", "CopyOnPrediction": "copy_on_prediction"}
    asked, own = (
        {name: value for name, key in part.items() if (value := settings.get(key)) is not None}
        for part in (rates, habits)
    )
    now = client.get(controller.path)
    if asked and not part(now, "ControllerRates"):
        what = f"controller {controller.id}: this server tells no rates"
        raise WorkError(what=what, to_do="its own console may change them")
    if own and not ours(now):
        what = f"controller {controller.id}: this server does not take what it is to do by itself"
        raise WorkError(what=what, to_do="its own console may")
    body: Body = {**({"ControllerRates": asked} if asked else {}), **({"Oem": {OEM: own}} if own else {})}
    change(
        client, controller.path, body,
        lambda now: _told({**part(now, "ControllerRates"), **ours(now)}, {**asked, **own}),
        "the settings are as asked",
    )  # fmt: skip
    return survey(client).controller(controller.id)


def check_serials(expected: list[str], drives: list[str]) -> None:
    """Compare the serial numbers a script expects with those that are there. Raises WorkError."""
    if sorted(expected) != sorted(drives):
        what = f"the drives are {', '.join(drives)}, expected {', '.join(expected)}"
        raise WorkError(what=what, to_do="nothing was changed; check which drives are meant")
