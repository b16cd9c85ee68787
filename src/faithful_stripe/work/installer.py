"""What a technician brings to an installation: the installer's image and the drivers, held against the server."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..core.formats.declared import FormatError
from ..core.formats.fat import Entry, Fat
from ..core.formats.gpt import SYSTEM_PARTITION, table
from ..core.formats.inf import Driver, parse
from ..core.formats.pe import machine
from ..core.source import Window
from ..media.given import bytes_given
from ..media.image import ImageFile, MediaError
from ..redfish.client import Client
from ..redfish.exchange import Body
from .update import pci_paths


@dataclass(frozen=True)
class Check:
    """One line: `state` "pass", "warn" or "fail", what was looked at, what is so, what to do."""

    state: str
    what: str
    found: str
    to_do: str = ""


@dataclass(frozen=True)
class Wanted:
    """What the technician points at; `lowest` (of a driver) and `release` (of the system) are versions."""

    installer: Path | None = None
    drivers: Path | None = None
    lowest: tuple[int, ...] = ()
    release: tuple[int, ...] = ()
    architecture: str = "amd64"
    roles: Path | None = None


def installer_checks(path: Path, architecture: str) -> Iterator[Check]:
    what = f"installer {path.name}"
    try:
        with ImageFile(path) as image:
            found = table(image)
            if found is None:
                to_do = "write it anew for UEFI, with a GUID partition table"
                yield Check("fail", what, "there is no GUID partition table on it", to_do)
                return
            system = [p for p in found.partitions if p.type == SYSTEM_PARTITION]
            sound = "" if found.copy_sound else "; the copy at its end is damaged or missing"
            state = "pass" if found.copy_sound else "warn"
            yield Check(state, what, f"GUID partition table with {len(found.partitions)} partitions{sound}",
                        "" if found.copy_sound else "write it anew if it does not start")  # fmt: skip
            if not system:
                yield Check("fail", what, "there is no EFI system partition on it", "write it anew for UEFI")
                return
            fat = Fat(Window(image, system[0].start, system[0].length))
            files = [e for e in fat.list("EFI/BOOT") if re.fullmatch(r"BOOT\w+\.EFI", e.name) and e.size]
            loaders = {e.name: _machine(fat, e) for e in files}
    except (MediaError, FormatError) as reason:
        yield Check("fail", what, reason.what, reason.to_do)
        return
    mine = [name for name, kind in loaders.items() if kind == architecture]
    if mine:
        yield Check("pass", what, f"EFI system partition with {', '.join(mine)}, for {architecture}")
    elif loaders:
        listed = "; ".join(f"{name}: {kind}" for name, kind in loaders.items())
        to_do = f"use an installer for {architecture}, or say which with --architecture"
        yield Check("fail", what, f"no boot file there starts on {architecture} ({listed})", to_do)
    else:
        yield Check("fail", what, "there is no boot file in EFI/BOOT on it", "write it anew for UEFI")


def _machine(fat: Fat, entry: Entry) -> str:
    """What a boot file is for; what is wrong with it where it is no program."""
    try:
        return machine(fat.head(entry, 64 << 10), entry.name)
    except FormatError as reason:
        return reason.what.removeprefix(f"{entry.name}: ")


# drivers ----------------------------------------------------------------------------------------


def pci_ids(client: Client, devices: Sequence[Body]) -> dict[str, str]:
    """Hardware ids (`PCI\\VEN_1234&DEV_5678`) by controller, where the server tells them."""
    known = pci_paths(client)
    return {str(d.get("Id")): known[path] for d in devices if (path := str(d.get("@odata.id"))) in known}


def driver_checks(wanted: Wanted, ids: dict[str, str]) -> Iterator[Check]:
    assert wanted.drivers is not None
    if not wanted.drivers.is_dir():
        yield Check("fail", "drivers", f"{wanted.drivers} is no folder", "name the folder with the .inf files")
        return
    files = sorted(p for p in wanted.drivers.rglob("*") if p.suffix.lower() == ".inf")
    if not files:
        yield Check("fail", "drivers", f"there is no .inf file in {wanted.drivers}", "unpack the driver there")
    if not ids:
        yield Check("warn", "drivers", "the server does not tell its controllers' PCI ids", "match them by hand")
    drivers: list[Driver] = []
    for path in files:
        try:
            drivers.append(parse(str(path.relative_to(wanted.drivers)), bytes_given(path)))
        except (FormatError, OSError) as reason:
            yield Check("warn", f"driver {path.name}", str(reason), "leave it out")
    for controller, wanted_id in ids.items():
        verdicts = [(d, _unfit(d, wanted_id, wanted)) for d in drivers]
        good = [d for d, why in verdicts if not why]
        for d, why in verdicts:
            if why:
                yield Check("warn", f"driver {d.name}", f"not for {controller}: {why}", "do not load it")
        if good:
            best = max(good, key=lambda d: d.version)
            dated = f" of {best.dated.isoformat()}" if best.dated else ""
            yield Check("pass", f"driver for {controller}", f"load {best.name}, version {best.version_text}{dated}")
        elif files:
            to_do = f"get one for {wanted_id}, {wanted.architecture}"
            yield Check("fail", f"driver for {controller}", "none of these fits", to_do)


def _unfit(driver: Driver, wanted_id: str, wanted: Wanted) -> str:
    """Why a driver does not fit, "" where it does."""
    mine = [target for target, i in driver.ids if i.startswith(wanted_id)]
    if not mine:
        return f"it does not list {wanted_id}"
    fitting = [t for t in mine if t.architecture == wanted.architecture]
    if not fitting:
        return f"it is for {', '.join(sorted({t.architecture for t in mine}))}, not {wanted.architecture}"
    if wanted.lowest and driver.version < wanted.lowest:
        return f"version {driver.version_text} is too old, {'.'.join(map(str, wanted.lowest))} is needed"
    build = wanted.release[2] if len(wanted.release) > 2 else 0
    if build and all(t.build > build for t in fitting):
        return f"it needs build {min(t.build for t in fitting)} or later, the system is {build}"
    return ""
