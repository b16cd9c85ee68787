"""Ready to boot and to install? One checklist from what the server says and what the technician points at."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from ..core.arrays.timing import PACES
from ..core.pcie import LANE_BYTES, link_bytes
from ..core.server.assess import Assessment, assess
from ..core.server.condition import Judged, State
from ..core.server.findings import Code
from ..core.server.model import Server
from ..core.server.redundancy import survives
from ..core.server.things import Drive, Volume, WorkKind
from ..core.server.unknown import UNKNOWN, known
from ..core.units import decimal_size
from ..redfish.client import Client
from ..redfish.exchange import FATAL, Body, RedfishError
from ..redfish.plain import links
from .errors import WorkError
from .firmware import AttributeView, Firmware, firmware
from .installer import Check, Wanted, driver_checks, installer_checks, pci_ids
from .remembered import asked
from .survey import one_system, survey
from .update import versions

SPINNING_RATE = 215e6
"""Bytes per second of a large spinning drive, where the server does not tell."""


def ready(client: Client, wanted: Wanted) -> list[Check]:
    """The checklist, in the order of the job."""
    seen = survey(client)
    system = one_system(client)
    found = assess(seen)
    checks = [*_power(seen)]
    devices: list[Body] = []
    for path in links(system, "PCIeDevices"):
        with _unread(checks, "PCIe devices"):
            devices.append(client.get(path))
    settings: Firmware | None = None
    with _unread(checks, "firmware settings"):
        settings = firmware(client, wanted.roles)
        checks += [*_settings(settings), *_pending(settings), *_fallen(settings)]
    with _unread(checks, "firmware versions"):
        checks += _versions(client)
    checks += [*_links(devices, seen), *_drive_links(seen), *_volumes(found, settings), *_attention(found, settings)]
    if wanted.installer:
        checks += installer_checks(wanted.installer, wanted.architecture)
    if wanted.drivers:
        ids: dict[str, str] = {}
        with _unread(checks, "PCI ids"):
            ids = pci_ids(client, devices)
        checks += driver_checks(wanted, ids)
    return checks


@contextmanager
def _unread(checks: list[Check], what: str) -> Iterator[None]:
    """What cannot be read is one warning; everything else is still looked at."""
    try:
        yield
    except WorkError as reason:
        checks.append(Check("warn", what, reason.what, reason.to_do))
    except RedfishError as reason:
        if reason.facts["status"] in FATAL:
            raise
        checks.append(Check("warn", what, f"it could not be read: {reason.what}", "look at its setup screens"))


def _power(seen: Server) -> Iterator[Check]:
    if seen.power is UNKNOWN:
        yield Check("warn", "power", "the server does not tell whether it is on", "look at it")
        return
    on = seen.power.lower() == "on"
    yield Check("pass" if on else "fail", "power", "on" if on else "the server is off", "" if on else "switch it on")


def _versions(client: Client) -> Iterator[Check]:
    """New firmware that is written and runs from the next restart on only."""
    parts = versions(client)
    waiting = [v for v in parts if v.waiting]
    for v in waiting:
        what = f"{v.name} runs {v.version}; {v.waiting} is written and waits for a restart"
        yield Check("fail", "firmware versions", what, "fstripe firmware restart")
    if not waiting:
        yield Check("pass", "firmware versions", "none waits for a restart")


# settings ---------------------------------------------------------------------------------------


def _settings(found: Firmware) -> Iterator[Check]:
    yield from _role(found, "storage mode", "raid", "RAID", "fail")
    yield from _role(found, "boot mode", "uefi", "UEFI", "fail")
    yield from _role(found, "legacy support", "disabled|off|no|false", "off", "fail")
    yield from _role(found, "drive remapping", "disabled|off|no|false", "off", "warn")


def _role(found: Firmware, role: str, good: str, word: str, bad: str) -> Iterator[Check]:
    attributes = found.of(role)
    if not attributes:
        to_do = "search with `firmware show --find`, say which with --roles"
        yield Check("warn", role, "no attribute was recognised", to_do)
    for a in attributes:
        now, later = _matches(a, a.value, good), _matches(a, a.will_be, good)
        if now and later:
            yield Check("pass", role, f"{word} ({a.name})")
        elif later:
            yield Check(bad, role, f"{word} only after a restart ({a.name})", "fstripe firmware restart")
        else:
            wanted = next((n for n, shown in a.values if re.search(good, f"{n} {shown}".lower())), "false")
            yield Check(bad, role, f"{a.name} is {a.value}", f"fstripe firmware set {a.name}={wanted}")


def _matches(a: AttributeView, value: object, good: str) -> bool:
    shown = next((text for name, text in a.values if name == value), "")
    return re.search(good, f"{value} {shown}".lower()) is not None


def _pending(found: Firmware) -> Iterator[Check]:
    waiting = [a.name for a in found.attributes if a.pending is not None]
    if waiting:
        what = f"{', '.join(waiting)} wait for a restart; whether they are kept shows only then"
        yield Check("warn", "settings", what, "fstripe firmware restart: it reads them all again")
    else:
        yield Check("pass", "settings", "none waits for a restart")


def _fallen(found: Firmware) -> Iterator[Check]:
    """Settings that are not what was asked of this server earlier, and do not wait for a restart either."""
    for name, wish in asked(found.identity).items():
        a = next((a for a in found.attributes if a.name == name), None)
        if a and a.pending is None and a.value != wish.value:
            what = (
                f"{name} was asked to be {wish.value} ({wish.at[:16].replace('T', ' ')}), it is {a.value}: it fell back"
            )
            to_do = f"set it again with what pulls it back, or let it be: fstripe firmware set {name}={a.value}"
            yield Check("fail", "settings", what, to_do)


# links ------------------------------------------------------------------------------------------


def _links(devices: Sequence[Body], seen: Server) -> Iterator[Check]:
    for device in devices:
        interface = device.get("PCIeInterface") or {}
        lanes, most = interface.get("LanesInUse"), interface.get("MaxLanes")
        now, best = _generation(interface.get("PCIeType")), _generation(interface.get("MaxPCIeType"))
        place = (((device.get("Slot") or {}).get("Location") or {}).get("PartLocation") or {}).get("ServiceLabel")
        what = f"link of {device.get('Id')}" + (f" in {place}" if place else "")
        if not (lanes and most and now in LANE_BYTES and best in LANE_BYTES):
            yield Check("warn", what, "the server does not tell its lanes", "look at its setup screens")
            continue
        carries, could = link_bytes(now, lanes), link_bytes(best, most)
        need = sum(_rate(d) for d in seen.drives if d.controller == device.get("Id") and d.seated)
        text = (
            f"{lanes} lanes of generation {now}, {carries / 1e9:.1f} GB/s; its drives do {need / 1e9:.1f} GB/s together"
        )
        if carries < could:
            text += f"; the card can do {most} lanes of generation {best}, {could / 1e9:.1f} GB/s"
            narrow = carries < need
            to_do = "set the slot's width and generation, or move the card to a wider slot"
            yield Check(
                "fail" if narrow else "warn", what, text + ("; it is the narrowest part" if narrow else ""), to_do
            )
        elif carries < need:
            yield Check("warn", what, text + "; the link is the narrowest part", "expect no more than that")
        else:
            yield Check("pass", what, text)


def _generation(text: object) -> int:
    match = re.search(r"\d", str(text or ""))
    return int(match[0]) if match else 0


def _rate(d: Drive) -> float:
    """Bytes per second of a drive in sequence; one of which nothing is told counts as a spinning one."""
    if known(d.media, "HDD") == "HDD":
        return SPINNING_RATE
    return PACES["nvme" if "NVM" in known(d.protocol, "").upper() else "ssd"].rate


# volumes ----------------------------------------------------------------------------------------


def _chosen(seen: Server, settings: Firmware | None) -> Volume | None:
    first = settings.boot[0] if settings and settings.boot else None
    return next((v for v in seen.volumes if first and v.path == first.volume), None)


def _override(settings: Firmware | None) -> Iterator[Check]:
    """What goes before the boot order."""
    if settings is None or settings.override is None:
        return
    o = settings.override
    when, to_do = ("its next start is", "it ends with that start") if o.once else (
        "every start is", "end it: `fstripe boot NAME`")  # fmt: skip
    yield Check("warn", "boot override", f"{when} from {o.target}, not from the first of its boot order", to_do)


def _volumes(found: Assessment, settings: Firmware | None) -> Iterator[Check]:
    yield from _override(settings)
    seen = found.server
    first = settings.boot[0] if settings and settings.boot else None
    chosen = _chosen(seen, settings)
    if not seen.volumes:
        yield Check("fail", "boot volume", "there are no volumes", "create one: `volume add`")
    elif chosen is None:
        names = ", ".join(v.name for v in seen.volumes)
        to_do = f"choose one of {names}: fstripe boot NAME"
        yield Check("fail", "boot volume", f"first in the boot order is {first.shown if first else 'nothing'}", to_do)
    else:
        yield Check("pass", "boot volume", f"{chosen.name} is first in the boot order")
        yield from _seen(chosen)
        yield from _health(found.of(chosen))
    others = [v.name for v in seen.volumes if v is not chosen]
    direct = [d.bay for d in seen.drives if d.free]
    presented = any(not c.offers_volumes for c in seen.controllers) and direct
    if others or presented:
        single = [f"{len(direct)} drives, each by itself"] if presented else []
        what = f"an installer will also see {', '.join([*(f'volume {n}' for n in others), *single])}"
        sizes = _sizes(seen, chosen)
        yield Check("warn", "other disks", what, f"choose by {sizes}" if sizes else "create a volume first")
    else:
        yield Check("pass", "other disks", "an installer sees no other disk of these controllers")


def _health(j: Judged) -> Iterator[Check]:
    """What state the boot volume is in, and what it survives."""
    v, what = j.volume, f"health of {j.volume.name}"
    initializing = [w for w in v.work if w.kind is WorkKind.INITIALIZE]
    if j.state is State.OFFLINE:
        yield Check("fail", what, "offline: it cannot be read", "see `survey`")
    elif initializing and j.state is not State.LOST:
        method = known(initializing[0].method, "its")
        yield Check("warn", what, f"{method} initialization is running", "wait for it: `watch`")
    elif j.state is not State.OK:
        yield Check("fail", what, f"{j.state.value}, margin {j.margin}", "see `survey`")
    elif known(survives(v), 0) == 0:
        told = "OK, margin 0: one failed drive loses everything"
        yield Check("warn", what, told, "boot from a level with redundancy, such as RAID1")
    else:
        yield Check("pass", what, f"OK, margin {j.margin}, initialized")


def _attention(found: Assessment, settings: Firmware | None) -> Iterator[Check]:
    """Drives that have failed, or are about to, anywhere in the server."""
    seen, any_bad = found.server, False
    for f in found.findings:
        if f.code in BAD_DRIVES:
            any_bad = True
            d: Drive = f.facts["drive"]
            serial = known(d.serial, "serial not known")
            yield Check(
                "warn",
                f"drive of bay {d.bay}",
                f"{serial} {BAD_DRIVES[f.code]}",
                "see `survey`: it says what comes first",
            )
    if not any_bad and any(d.seated for d in seen.drives):
        yield Check("pass", "drives", "none has failed or predicts its failure")


BAD_DRIVES = {
    Code.DRIVE_FAILED: "has failed", Code.DRIVE_OFFLINE: "does not answer: its link is down",
    Code.DRIVE_PREDICTED: "predicts its failure", Code.DRIVE_WORN: "has used up its media life",
    Code.DRIVE_UNREADABLE: "has sectors that cannot be read", Code.DRIVE_FLAPPING: "loses its link again and again",
    Code.DRIVE_SLOW: "is far slower than it should be",
}  # fmt: skip
"""What a checklist says of drives that need attention."""


def _seen(chosen: Volume) -> Iterator[Check]:
    """Whether the system's own firmware has found the boot volume, and as large as it is."""
    what = f"firmware and {chosen.name}"
    if chosen.found is UNKNOWN:
        yield Check("warn", what, "the server does not tell which disks its firmware found", "look at its boot menu")
    elif chosen.found is False:
        yield Check(
            "fail", what, "the firmware has not found it yet: it looks as it starts", "fstripe firmware restart"
        )
    elif chosen.found_size != chosen.size:
        found = f"the firmware found {decimal_size(known(chosen.found_size, 0))}, it has "
        yield Check("fail", what, found + decimal_size(known(chosen.size, 0)), "fstripe firmware restart")
    else:
        yield Check("pass", what, f"found at the last start, {decimal_size(known(chosen.size, 0))}")


def _drive_links(seen: Server) -> Iterator[Check]:
    """Drives whose link is slower than they can do: half the lanes, a bad cable, a tired backplane."""
    told = [(d, now, best) for d in seen.drives if (now := known(d.gbps, 0.0)) and (best := known(d.best_gbps, 0.0))]
    for d, now, best in told:
        if now < best:
            rate = _rate(d)
            bound = "slower than the drive itself" if now * 1e8 < rate else f"its {rate / 1e6:.0f} MB/s still fit"
            what = f"{now:g} of {best:g} Gbit/s, {now / 10:.2g} GB/s; {bound}"
            yield Check("warn", f"link of bay {d.bay}", what, "reseat the drive; then look at cable and backplane")
    if told and all(now >= best for _d, now, best in told):
        yield Check("pass", "links of the drives", f"all {len(told)} as fast as they can do")


def _sizes(seen: Server, chosen: Volume | None) -> str:
    """What an installer tells the volumes apart by: their sizes; where two have one size, their durable names."""
    sizes = [decimal_size(known(v.size, 0)) for v in seen.volumes]
    told = []
    for v, size in zip(seen.volumes, sizes, strict=True):
        text = f"{v.name} {size}"
        if sizes.count(size) > 1:
            bays = " ".join(s.bay for s in v.seats)
            text += f", WWN {known(v.wwn, 'not told')}, bays {bays}"
        told.append(text + (" (boot)" if v is chosen else ""))
    alike = len(set(sizes)) < len(sizes)
    return (f"WWN, since sizes are alike: {'; '.join(told)}" if alike else f"size: {', '.join(told)}") if told else ""
