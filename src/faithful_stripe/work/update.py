"""Firmware versions: what runs on each part, what a package offers for which, the update, and the proof afterwards."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..core.formats.declared import FormatError
from ..core.formats.pldm import Device, Package, is_package, read_package
from ..core.server.unknown import known
from ..media.given import bytes_given
from ..redfish.client import Client, gap
from ..redfish.exchange import AnswerLost, Body, RedfishError, Tell
from ..redfish.names import OEM
from ..redfish.offer import offered, own_address
from ..redfish.plain import link, number, path_of, text
from .errors import WorkError
from .survey import find

MOST_BYTES = 256 << 20


@dataclass(frozen=True)
class VersionView:
    """One part with firmware of its own.

    waiting  the version that runs from the next restart on, "" for none, None where the server does not tell
    related  paths of what it is
    """

    name: str
    what: str
    version: str
    waiting: str | None
    path: str
    related: tuple[str, ...]
    updateable: bool


@dataclass(frozen=True)
class Row:
    """One part that will be updated.

    offered    the version in the package; "" where the file does not tell
    direction  "newer", "older", "same" or "unknown", against what runs now
    activation what has to happen before it runs, in the standard's words; "" where the file does not tell
    checked    whether the file and the server both tell what it is for, and it is for this part
    """

    part: VersionView
    offered: str
    direction: str
    activation: str
    checked: bool = True


@dataclass(frozen=True)
class UpdatePlan:
    """What will be sent where. `package` None for a file of the maker's own format."""

    name: str
    data: bytes
    package: Package | None
    rows: tuple[Row, ...]
    running: tuple[str, ...]


@dataclass(frozen=True)
class Updated:
    """A part after the update, read again: does it run what was offered, or will it from the next restart on?

    trouble  what the server said when the update broke off; "" where it did not
    """

    name: str
    before: str
    offered: str
    now: str
    waiting: str | None
    activation: str
    trouble: str = ""

    @property
    def state(self) -> str:
        """ "runs", "waits" for a restart, "not taken", or "broken off"."""
        if self.trouble:
            return "broken off"
        if self.now == self.offered or (not self.offered and self.now != self.before):
            return "runs"
        restarts = any(word in self.activation for word in ("reboot", "cycle", "reset")) or not self.activation
        told = self.waiting and self.offered in ("", self.waiting)
        return "waits" if told or (self.waiting is None and restarts) else "not taken"


def versions(client: Client) -> list[VersionView]:
    """Every part with firmware of its own. Raises WorkError where the server tells of none."""
    if "UpdateService" not in client.root:
        what = f"{client.where}: this server tells no firmware versions over Redfish"
        raise WorkError(what=what, to_do="use its own console")
    service = client.get(link(client.root, "UpdateService"))
    if "FirmwareInventory" not in service:
        what = f"{client.where}: its update service keeps no inventory"
        raise WorkError(what=what, to_do="use its own console")
    return [_version(body) for body in client.members(link(service, "FirmwareInventory"))]


def _version(body: Body) -> VersionView:
    ours = (body.get("Oem") or {}).get(OEM) or {}
    return VersionView(
        name=str(body.get("Id") or body.get("Name")),
        what=str(body.get("Name") or ""),
        version=str(body.get("Version") or ""),
        waiting=str(ours["WaitingVersion"] or "") if "WaitingVersion" in ours else None,
        path=str(body.get("@odata.id")),
        related=tuple(str(r.get("@odata.id")) for r in body.get("RelatedItem") or []),
        updateable=body.get("Updateable") is not False,
    )


GOING = ("New", "Starting", "Running", "Pending", "Stopping")
"""States of tasks that are under way, by the standard."""

BROKEN = ("Exception", "Killed", "Cancelled", "Interrupted")
"""States of tasks that did not end as they should."""


@dataclass(frozen=True)
class TaskView:
    """A task of the server: its path, what it is called, its state by the standard, per cent done."""

    path: str
    name: str
    state: str
    percent: float


def tasks(client: Client) -> list[TaskView]:
    """The server's tasks; none where it tells of none."""
    try:
        service = client.get(link(client.root, "Tasks")) if link(client.root, "Tasks") else {}
        found = list(client.members(link(service, "Tasks"))) if link(service, "Tasks") else []
    except RedfishError:
        return []
    return [
        TaskView(path_of(t), str(known(text(t, "Name"), "a task")), str(known(text(t, "TaskState"), "")),
                 known(number(t, "PercentComplete"), 0.0))
        for t in found
    ]  # fmt: skip


def running_updates(client: Client) -> list[str]:
    """Firmware updates and other tasks that are under way, in words."""
    return [f"{t.name} {t.percent:.0f} %" for t in tasks(client) if t.state in GOING]


# planning ---------------------------------------------------------------------------------------


def plan_update(client: Client, file: Path, names: Sequence[str]) -> UpdatePlan:
    """What a firmware file would do here, changing nothing.

    names  inventory names of the parts it is for; empty for all that the package says it is for
    Raises WorkError when the file cannot be read, is damaged, or is for nothing here.
    """
    try:
        if file.stat().st_size > MOST_BYTES:
            raise WorkError(what=f"{file}: more than {MOST_BYTES >> 20} MiB", to_do="is this a firmware file?")
        data = bytes_given(file, MOST_BYTES)
    except OSError as reason:
        raise WorkError(what=f"{file}: it cannot be read ({reason.strerror})", to_do="check the path") from reason
    there = versions(client)
    chosen = [_named(there, name) for name in names]
    package = None
    if is_package(data):
        try:
            package = read_package(file.name, data)
        except FormatError as reason:
            raise WorkError(what=reason.what, to_do=reason.to_do) from reason
    if package is None and not chosen:
        what = f"{file.name} does not say what it is for (no DSP0267 package)"
        listed = ", ".join(v.name for v in there if v.updateable)
        raise WorkError(what=what, to_do=f"say for which part with --part; parts here: {listed}")
    rows = tuple(_rows(client, package, chosen or there, bool(chosen)))
    if not rows:
        what = f"{file.name} is for {_shown(package)}; there is none here"
        raise WorkError(what=what, to_do="get the file for what is here: `firmware show --versions`")
    for row in rows:
        if not row.part.updateable:
            what = f"{row.part.name} cannot be updated over Redfish"
            raise WorkError(what=what, to_do="use the maker's own way")
    return UpdatePlan(file.name, data, package, rows, tuple(running_updates(client)))


def _named(there: list[VersionView], name: str) -> VersionView:
    for part in there:
        if part.name.lower() == name.lower():
            return part
    raise WorkError(what=f"there is no part {name}", to_do=f"parts here: {', '.join(p.name for p in there)}")


def _shown(package: Package | None) -> str:
    return ", ".join(d.shown for d in package.devices) if package else "something unknown"


def _rows(client: Client, package: Package | None, parts: list[VersionView], asked: bool) -> Iterator[Row]:
    if package is None:
        yield from (Row(part, "", "unknown", "", False) for part in parts)
        return
    cards = pci_paths(client) if any(d.pci for d in package.devices) else {}
    models: dict[str, str] = {}
    for part in parts:
        fits = [(d, _is_for(client, d, part, cards, models)) for d in package.devices]
        device = next((d for d, fit in fits if fit), None)
        unknown = next((d for d, fit in fits if fit is None), None)
        if device is None and asked and unknown is None:
            what = f"{package.name} is for {_shown(package)}, not for {part.name} ({part.what})"
            raise WorkError(what=what, to_do="get the file for this part")
        chosen = device or (unknown if asked else None)
        for index in chosen.components[:1] if chosen else ():
            c = package.components[index]
            words, step = ", ".join(c.activation), compare(part.version, c.version)
            yield Row(part, c.version, step, words, device is not None)


def _is_for(
    client: Client, device: Device, part: VersionView, cards: dict[str, str], models: dict[str, str]
) -> bool | None:
    """Whether a part is such a device; None where the server tells no PCI ids at all."""
    if device.pci:
        return any(cards.get(path) == device.pci for path in part.related) if cards else None
    for path in part.related:
        if path not in models:
            models[path] = str(client.maybe(path).get("Model") or "")
    return device.model != "" and device.model in [models[path] for path in part.related]


def pci_paths(client: Client) -> dict[str, str]:
    """Hardware ids (`PCI\\VEN_1234&DEV_5678`) by the paths of cards, their functions and their controllers."""
    found: dict[str, str] = {}
    for entry in find(client).system.get("PCIeDevices") or []:
        device = client.maybe(link(entry))
        if "PCIeFunctions" not in device:
            continue
        for function in client.members(link(device, "PCIeFunctions"), gap):
            vendor, number = str(function.get("VendorId") or ""), str(function.get("DeviceId") or "")
            if vendor and number:
                ids = f"PCI\\VEN_{int(vendor, 16):04X}&DEV_{int(number, 16):04X}"
                related = (function.get("Links") or {}).get("StorageControllers") or []
                paths = [device.get("@odata.id"), function.get("@odata.id"), *(r.get("@odata.id") for r in related)]
                found |= {str(path): ids for path in paths}
    return found


def compare(now: str, offered: str) -> str:
    """How an offered version stands to the one that runs: numbers as numbers, words as words, from the left.

    >>> compare("5.9.0", "5.10.0")
    'newer'
    """
    if not now or not offered:
        return "unknown"
    a, b = (_parts(text) for text in (now, offered))
    return "same" if a == b else "newer" if b > a else "older"


def _parts(version: str) -> list[tuple[int, int, str]]:
    pieces = re.findall(r"\d+|[a-z]+", version.lower())
    return [(0, int(p), "") if p.isdecimal() else (1, 0, p) for p in pieces]


# doing ------------------------------------------------------------------------------------------


def update(client: Client, plan: UpdatePlan, tell: Tell) -> list[Updated]:
    """Send the package, follow its task to the end, and read the versions again.

    It is pushed where the server takes that, else offered for fetching. An update that breaks off is a result, too:
    what runs then is read. Raises RedfishError when it was refused, WorkError where the server takes neither.
    """
    trouble = ""
    try:
        _send(client, plan, tell)
    except AnswerLost:
        raise
    except RedfishError as reason:
        if int(reason.facts["status"]) < 500:
            raise
        trouble = reason.what
    after = {v.path: v for v in versions(client)}
    return [
        Updated(r.part.name, r.part.version, r.offered, now.version, now.waiting, r.activation, trouble)
        for r in plan.rows
        if (now := after.get(r.part.path))
    ]


def _send(client: Client, plan: UpdatePlan, tell: Tell) -> None:
    service = client.get(link(client.root, "UpdateService"))
    targets: Body = {"Targets": [row.part.path for row in plan.rows]}
    push = service.get("MultipartHttpPushUri")
    simple = (service.get("Actions") or {}).get("#UpdateService.SimpleUpdate") or {}
    if push:
        client.push(str(push), targets, plan.name, plan.data, tell)
    elif simple.get("target"):
        try:
            with offered(plan.name, plan.data, own_address(client.where)) as uri:
                protocol = {"TransferProtocol": "HTTP"}
                client.post(str(simple.get("target") or ""), {"ImageURI": uri, **protocol, **targets}, tell)
        except OSError as reason:
            what = f"{client.where}: the file could not be offered for fetching ({reason})"
            raise WorkError(what=what, to_do="check this machine's network") from reason
    else:
        what = f"{client.where}: it takes no firmware over Redfish"
        raise WorkError(what=what, to_do="use its own console")
