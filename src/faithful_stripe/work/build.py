"""Building: volumes removed, rebuilt, initialized and checked; spares, foreign set-ups and controllers changed.

How volumes are planned and made is in `volumes.py`.
"""

from __future__ import annotations

from ..core.server.model import CACHE_WORDS, Controller, Drive, ForeignVolume, Server, Volume
from ..redfish.client import Body, Client, RedfishError
from ..redfish.names import OEM
from .errors import WorkError
from .picking import pick
from .survey import survey


def remove_volume(client: Client, volume: Volume) -> None:
    """Delete a volume, if it is still as it was seen; progress of work on it does not count.

    Raises WorkError when its members or what it holds have changed meanwhile.
    """
    for _attempt in range(3):
        try:
            client.delete(volume.path, volume.etag)
            return
        except RedfishError as reason:
            now = survey(client).volume(*reversed(volume.key)) if reason.facts["status"] == 412 else None
            if now is None:
                raise
            if (now.members, now.size, now.content) != (volume.members, volume.size, volume.content):
                what = f"volume {volume.name} has changed since it was shown"
                raise WorkError(what=what, to_do="look at it again, then decide; nothing was removed") from reason
            volume = now
    raise WorkError(what=f"volume {volume.name} changes all the time", to_do="wait until its work is done (`watch`)")


def start_rebuild(client: Client, name: str, bay: str, controller: str | None = None) -> Volume:
    """Ask the controller to rebuild a volume's lost member onto the drive in a bay."""
    seen = survey(client)
    volume, drive = seen.volume(name, controller), seen.bay(bay)
    target = (client.get(volume.path).get("Actions") or {}).get("Oem", {}).get(f"#{OEM}.Rebuild", {}).get("target")
    if not target:
        what = f"{seen.server}: this server does not take a rebuild by hand"
        raise WorkError(what=what, to_do="seat a fitting blank drive in the failed bay; it starts by itself")
    client.post(target, {"Drive": {"@odata.id": drive.path}})
    return survey(client).volume(*reversed(volume.key))


def initialize(client: Client, name: str, method: str, controller: str | None = None) -> Volume:
    """Begin to initialize a volume: "fast", "foreground" (both lose what it holds) or "background"."""
    seen = survey(client)
    volume = seen.volume(name, controller)
    action = (client.get(volume.path).get("Actions") or {}).get("#Volume.Initialize", {}).get("target")
    if not action:
        raise WorkError(what=f"{seen.server}: this server offers no initialization", to_do="its own console may")
    body = {"InitializeType": "Fast"} if method == "fast" else {"InitializeType": "Slow"}
    client.post(action, body | ({} if method == "fast" else {"InitializeMethod": method.capitalize()}))
    return survey(client).volume(*reversed(volume.key))


def start_check(client: Client, name: str, repair: bool, controller: str | None = None) -> Volume:
    """Begin a consistency check of a volume; with `repair` (where the server takes it) it mends what it finds."""
    seen = survey(client)
    volume = seen.volume(name, controller)
    action = (client.get(volume.path).get("Actions") or {}).get("#Volume.CheckConsistency", {}).get("target")
    if not action:
        what = f"{seen.server}: this server offers no consistency check"
        raise WorkError(what=what, to_do="its own console may")
    client.post(action, {"Oem": {OEM: {"Repair": True}}} if repair else {})
    return survey(client).volume(*reversed(volume.key))


def locate(client: Client, wanted: str, on: bool) -> Drive:
    """Switch the identify LED of a drive (by bay or serial number), and read it back. Raises WorkError."""
    drive = survey(client).drive(wanted)
    if not drive.serial:
        raise WorkError(what=f"bay {drive.bay} is empty: there is no LED to switch", to_do="count from its neighbours")
    client.patch(drive.path, {"LocationIndicatorActive": on})
    now = survey(client).bay(drive.bay)
    if now.located != on:
        raise WorkError(what=f"bay {drive.bay}: the server took it, but the LED did not change", to_do="try it again")
    return now


def add_spare(client: Client, bay: str, names: tuple[str, ...], revertible: bool) -> Drive:
    """Make a drive (by bay or serial number) a hot spare, for the named volumes or for any."""
    seen = survey(client)
    drive = pick(seen, bay)
    serves = [{"@odata.id": seen.volume(name, drive.controller).path} for name in names]
    body: Body = {
        "HotspareType": "Dedicated" if names else "Global",
        "HotspareReplacementMode": "Revertible" if revertible else "NonRevertible",
        **({"Oem": {OEM: {"SpareFor": serves}}} if serves else {}),
    }
    client.patch(drive.path, body)
    return survey(client).bay(drive.bay)


def remove_spare(client: Client, bay: str) -> Drive:
    """Make a standby spare an unassigned drive again."""
    path = survey(client).drive(bay).path
    client.patch(path, {"HotspareType": "None"})
    return survey(client).drive(bay)


def import_foreign(client: Client, foreign: ForeignVolume, new_name: str | None) -> Volume:
    """Take a foreign volume over, with all that shares drives with it, and read it back."""
    body = {"Volume": foreign.guid} | ({"NewName": new_name} if new_name else {})
    client.post(_foreign_action(client, foreign, "Import"), body)
    return survey(client).volume(new_name or foreign.name, foreign.controller)


def clear_foreign(client: Client, foreign: ForeignVolume) -> None:
    """Remove a foreign volume's set-up from its drives, and that of all that shares drives with it."""
    client.post(_foreign_action(client, foreign, "ClearForeign"), {"Volume": foreign.guid})


def _foreign_action(client: Client, foreign: ForeignVolume, name: str) -> str:
    actions = (client.get(foreign.path).get("Actions") or {}).get("Oem") or {}
    return str(actions[f"#{OEM}.{name}"]["target"])  # it stands beside the list that the view came from


def with_company(seen: Server, foreign: ForeignVolume) -> list[ForeignVolume]:
    """A foreign volume, and those whose drives it shares: they can only be imported or cleared together."""
    group, bays = [foreign], {m.bay for m in foreign.members if m.bay}
    while more := [f for f in seen.foreign if f not in group and bays & {m.bay for m in f.members}]:
        group += more
        bays |= {m.bay for f in more for m in f.members if m.bay}
    return group


def set_caches(client: Client, volume: Volume, read: str | None, write: str | None) -> Volume:
    """Change a volume's cache policies (words of `CACHE_WORDS`), and read it back."""
    client.patch(volume.path, cache_body(read, write))
    return survey(client).volume(*reversed(volume.key))


def cache_body(read: str | None, write: str | None) -> Body:
    """Cache policies as Redfish spells them, those that are given."""
    spelled = {word: name for name, word in CACHE_WORDS.items()}
    asked = {"ReadCachePolicy": read, "WriteCachePolicy": write}
    return {key: spelled[word] for key, word in asked.items() if word}


def set_controller(client: Client, controller: Controller, **settings: int | str | bool | None) -> Controller:
    """Change a controller's rates and habits (the names are those of `Controller`), and read it back."""
    rates = {"RebuildRatePercent": "rebuild_rate", "ConsistencyCheckRatePercent": "check_rate"}
    habits = {"Replacement": "replacement", "CopyOnPrediction": "copy_on_prediction"}
    asked, ours = (
        {name: value for name, key in part.items() if (value := settings.get(key)) is not None}
        for part in (rates, habits)
    )
    client.patch(controller.path, {"ControllerRates": asked, "Oem": {OEM: ours}})
    return survey(client).controller(controller.id)


def check_serials(expected: list[str], drives: list[str]) -> None:
    """Compare the serial numbers a script expects with those that are there. Raises WorkError."""
    if sorted(expected) != sorted(drives):
        what = f"the drives are {', '.join(drives)}, expected {', '.join(expected)}"
        raise WorkError(what=what, to_do="nothing was changed; check which drives are meant")
