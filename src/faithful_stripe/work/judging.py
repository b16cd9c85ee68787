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


ERRORS = ("BadBlockCount", "UncorrectableIOReadErrorCount", "UncorrectableIOWriteErrorCount")
"""Counts of a drive's metrics (Redfish `DriveMetrics`) that stand for bytes which could not be kept."""


@dataclass(frozen=True)
class Past:
    """What a drive's metrics tell of it: hours in use, and bad blocks and errors that it could not correct; None where
    the server does not tell."""

    hours: int | None = None
    errors: int | None = None


def past_of(client: Client, drive: Drive) -> Past:
    """What a drive has behind it."""
    told = client.maybe(drive.hours_path) if drive.hours_path else {}
    counts = [known(whole(told, name), None) for name in ERRORS]
    counted = [c for c in counts if c is not None]
    return Past(known(whole(told, "PowerOnHours"), None), sum(counted) if counted else None)
