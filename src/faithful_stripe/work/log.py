"""The server's event log, in order, with bays, serials and volumes beside the original message."""

from __future__ import annotations

from dataclasses import dataclass

from ..redfish.client import Client
from ..redfish.names import OEM
from .survey import find
from .views import WorkError


@dataclass(frozen=True)
class Entry:
    """One event; `time` as the server wrote it (ISO 8601)."""

    number: str
    time: str
    severity: str
    bay: str
    serial: str
    volume: str
    message: str
    message_id: str
    to_do: str


def entries(client: Client) -> list[Entry]:
    """All events of all log services of the system, oldest first. Raises WorkError where there is no log."""
    system = find(client).system
    if "LogServices" not in system:
        raise WorkError(what=f"{client.where}: the server offers no log", to_do="look at its own console")
    found = []
    for service in client.members(system["LogServices"]["@odata.id"]):
        for body in client.members(service["Entries"]["@odata.id"]):
            ours = (body.get("Oem") or {}).get(OEM) or {}
            found.append(
                Entry(
                    number=str(body.get("Id")),
                    time=str(body.get("Created") or ""),
                    severity=str(body.get("Severity") or ""),
                    bay=str(ours.get("Bay") or ""),
                    serial=str(ours.get("SerialNumber") or ""),
                    volume=str(ours.get("Volume") or ""),
                    message=str(body.get("Message") or ""),
                    message_id=str(body.get("MessageId") or ""),
                    to_do=str(body.get("Resolution") or ""),
                )
            )
    return sorted(found, key=lambda e: e.time)  # stable: entries of one second keep the log's own order
