"""What the system's own firmware sees: the disks it found at the last start, and which volume it starts from.

A controller may offer a volume that the firmware has not found yet: it looks only as the server starts. The disks come
from Redfish `SimpleStorage` and the order from the boot options; a server may tell neither.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from ..core.server.things import BootOption, Volume
from ..core.server.unknown import UNKNOWN
from ..redfish.client import Client, gap
from ..redfish.exchange import Body
from ..redfish.plain import link, rows


def boot_options(client: Client, system: Body) -> Iterator[BootOption]:
    """The boot options in their order; none where the server tells of none."""
    boot = system.get("Boot") or {}
    options: dict[str, Body] = {}
    if "BootOptions" in boot:
        known = client.members(link(boot, "BootOptions"), gap)
        options = {str(o.get("BootOptionReference") or o.get("Id")): o for o in known}
    for reference in boot.get("BootOrder") or list(options):
        option = options.get(str(reference), {})
        related = [str(r.get("@odata.id")) for r in option.get("RelatedItem") or []]
        yield BootOption(
            str(reference),
            str(option.get("DisplayName") or reference),
            next((r for r in related if "/Volumes/" in r), ""),
        )


def _first_volume(client: Client, system: Body) -> str:
    """The volume that the first boot option starts from; of the options no more are read than that needs."""
    boot = system.get("Boot") or {}
    order = boot.get("BootOrder")
    if not order or "BootOptions" not in boot:
        return next((o.volume for o in boot_options(client, system)), "")
    for option in client.members(link(boot, "BootOptions"), gap, at_once=False):
        if str(option.get("BootOptionReference") or option.get("Id")) == str(order[0]):
            related = [str(r.get("@odata.id")) for r in option.get("RelatedItem") or []]
            return next((r for r in related if "/Volumes/" in r), "")
    return ""


def as_seen(client: Client, system: Body, volumes: Sequence[Volume]) -> list[Volume]:
    """The volumes with what the firmware sees of each."""
    first = _first_volume(client, system) if volumes else ""
    told = "Boot" in system
    disks = _disks(client, system) if volumes else None
    made = []
    for v in volumes:
        size = None if disks is None else _size(v, disks)
        made.append(
            replace(
                v,
                found=UNKNOWN if disks is None else size is not None,
                found_size=UNKNOWN if size is None else size,
                boots=(bool(first) and v.path == first) if told else UNKNOWN,
            )
        )
    return made


def _disks(client: Client, system: Body) -> list[tuple[str, str, int]] | None:
    """(controller, name, bytes) of every disk that the firmware found; None where it does not tell."""
    if "SimpleStorage" not in system:
        return None
    found = []
    for body in client.members(link(system, "SimpleStorage")):
        storage = link(body, "Links", "Storage")
        controller = storage.rstrip("/").rpartition("/")[2]
        for device in rows(body, "Devices"):
            found.append((controller, str(device.get("Name") or ""), int(device.get("CapacityBytes") or 0)))
    return found


def _size(volume: Volume, disks: list[tuple[str, str, int]]) -> int | None:
    """The size as which a volume was found: by its name at its controller, else the one disk of exactly its size."""
    for controller, name, size in disks:
        if controller in ("", volume.controller) and name == volume.name:
            return size
    nameless = [size for _controller, _name, size in disks if size == volume.size]
    named = any(name == volume.name for _controller, name, _size in disks)
    return nameless[0] if len(nameless) == 1 and not named else None
