"""What the system's own firmware sees: the disks it found at the last start, and which volume it starts from.

A controller may offer a volume that the firmware has not found yet: it looks only as the server starts. The disks come
from Redfish `SimpleStorage` and the order from the boot options; a server may tell neither.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from ..core.server.things import BootOption, Volume
from ..core.server.unknown import UNKNOWN, known
from ..redfish.client import Client, gap
from ..redfish.exchange import Body
from ..redfish.plain import link, links, part, rows, text, texts


@dataclass(frozen=True)
class Override:
    """A boot override that is on: Redfish's word for what is started, and whether for the next start only."""

    target: str
    once: bool


@dataclass(frozen=True)
class Booting:
    """What a server starts from.

    server    its name; path: its system's
    options   in the boot order
    override  None where none is on
    first     the path of the volume it starts from, "" where that is none or not known
    told      whether the server tells what it starts from at all
    """

    server: str
    path: str
    options: tuple[BootOption, ...]
    override: Override | None
    first: str
    told: bool


def booting(client: Client, system: Body, volumes: Sequence[Volume] = (), whole: bool = True) -> Booting:
    """What a system starts from.

    volumes  to tell which of them an option is, where it does not link it
    whole    all options; else no more of them are read than tell which volume is first
    """
    boot = part(system, "Boot")
    override = _override(boot)
    options: list[BootOption] = []
    order = texts(boot, "BootOrder")
    for body in client.members(link(boot, "BootOptions"), gap, at_once=whole):
        options.append(_option(body, volumes))
        if not whole and order and not override and options[-1].reference == order[0]:
            break
    by_reference = {o.reference: o for o in options}
    sorted_options = tuple(by_reference.get(r, BootOption(r, r, "")) for r in order or by_reference)
    named = str(known(text(boot, "UefiTargetBootSourceOverride"), ""))
    if override is None:
        first = sorted_options[0].volume if sorted_options else ""
    elif override.target == "UefiTarget":
        first = next((o.volume for o in options if o.uefi_path and o.uefi_path == named), "")
    elif override.target == "UefiBootNext":
        first = next((o.volume for o in options if o.reference == text(boot, "BootNext")), "")
    else:
        first = ""
    if override is not None and override.once:  # after that start the order holds again
        first = sorted_options[0].volume if sorted_options else ""
    name = str(known(text(system, "Name", "Id"), client.where))
    return Booting(name, link(system), sorted_options, override, first, "Boot" in system)


def _override(boot: Body) -> Override | None:
    enabled = known(text(boot, "BootSourceOverrideEnabled"), "Disabled")
    target = known(text(boot, "BootSourceOverrideTarget"), "None")
    on = enabled in ("Once", "Continuous") and target != "None"
    return Override(target, enabled == "Once") if on else None


def _option(body: Body, volumes: Sequence[Volume]) -> BootOption:
    """An option, and the volume it is: as it links it, else by the durable name in its UEFI path."""
    reference = str(known(text(body, "BootOptionReference", "Id"), ""))
    related, path = links(body, "RelatedItem"), str(known(text(body, "UefiDevicePath"), ""))
    paths = {v.path for v in volumes}
    found = next((r for r in related if r in paths or "/Volumes/" in r), "")
    if not found and path:
        flat = re.sub(r"[^0-9a-f]", "", path.lower())
        named = [v.path for v in volumes if (wwn := _hex(known(v.wwn, ""))) and wwn in flat]
        found = named[0] if len(named) == 1 else ""
    return BootOption(reference, str(known(text(body, "DisplayName"), reference)), found, path)


def _hex(durable: str) -> str:
    """The digits of a durable name, where they are enough to be nobody else's."""
    digits = re.sub(r"[^0-9a-f]", "", durable.lower().removeprefix("0x"))
    return digits if len(digits) >= 16 else ""


def as_seen(client: Client, system: Body, volumes: Sequence[Volume]) -> list[Volume]:
    """The volumes with what the firmware sees of each."""
    now = booting(client, system, volumes, whole=False) if volumes else None
    disks = _disks(client, system) if volumes else None
    made = []
    for v in volumes:
        size = None if disks is None else _size(v, disks)
        made.append(
            replace(
                v,
                found=UNKNOWN if disks is None else size is not None,
                found_size=UNKNOWN if size is None else size,
                boots=v.path == now.first if now and now.told else UNKNOWN,
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
