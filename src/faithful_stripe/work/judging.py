"""What remains to be done about a server's drives, as findings: what needs attention, and what only a visit shows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from ..core.server.assess import Assessment
from ..core.server.findings import Finding
from ..core.server.redundancy import survives
from ..core.server.things import Drive
from ..core.server.unknown import UNKNOWN, known
from ..redfish.client import Client
from ..redfish.plain import whole
from .advisories import Advisory, Fault, faults_in


@dataclass(frozen=True)
class NoSpare:
    """There are redundant volumes, and no hot spare stands by."""


@dataclass(frozen=True)
class FirmwareDiffers:
    """Drives of one model run different firmware."""

    model: str
    versions: tuple[str, ...]


Remaining = Finding | NoSpare | FirmwareDiffers | Fault


def remains(judged: Assessment, advisories: Sequence[Advisory] = ()) -> Iterator[Remaining]:
    """What is still to be done after a visit."""
    yield from judged.findings
    seen = judged.server
    redundant = [v for v in seen.volumes if known(survives(v), 0) > 0]
    if redundant and not any(d.stands_by for d in seen.drives):
        yield NoSpare()
    yield from faults_in(seen, advisories)
    by_model: dict[str, set[str]] = {}
    for d in seen.drives:
        if d.seated and d.firmware is not UNKNOWN and d.model is not UNKNOWN:
            by_model.setdefault(f"{known(d.vendor, '')} {d.model}".strip(), set()).add(d.firmware)
    for model, found in by_model.items():
        if len(found) > 1:
            yield FirmwareDiffers(model, tuple(sorted(found)))


def hours_of(client: Client, drive: Drive) -> int | None:
    """How many hours a drive has been running; None where the server does not tell."""
    if not drive.hours_path:
        return None
    return known(whole(client.maybe(drive.hours_path), "PowerOnHours"), None)
