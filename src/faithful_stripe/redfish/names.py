"""Paths and names that the service and its tests share; a client follows links instead."""

from __future__ import annotations

import hashlib
from typing import Any

Body = dict[str, Any]

ROOT = "/redfish/v1/"
OEM = "FaithfulStripe"
"""Our key under `Oem`: facts the standard has no property for. A client must do without them."""

BASE = "Base.1.18."

RESETS = {
    True: ("GracefulRestart", "GracefulShutdown", "ForceRestart", "ForceOff", "PowerCycle"),
    False: ("On", "ForceOn", "ForceRestart", "PowerCycle"),
}
"""The resets that are possible, by whether the server is on."""

OVERRIDE = {
    "BootSourceOverrideEnabled": ("enabled", "Disabled"),
    "BootSourceOverrideTarget": ("target", "None"),
    "BootSourceOverrideMode": ("mode", "UEFI"),
}
"""The boot override's properties: what a bench calls each, and what it is while there is none."""


def system(name: str) -> str:
    return f"{ROOT}Systems/{name}"


def chassis(name: str) -> str:
    return f"{ROOT}Chassis/{name}"


def manager(name: str) -> str:
    return f"{ROOT}Managers/{name}-bmc"


def storage(name: str, controller: str) -> str:
    return f"{system(name)}/Storage/{controller}"


def drive(name: str, controller: str, bay: str) -> str:
    return f"{storage(name, controller)}/Drives/Bay-{bay}"


def volume(name: str, controller: str, number: int) -> str:
    return f"{storage(name, controller)}/Volumes/{number}"


def log(name: str) -> str:
    return f"{system(name)}/LogServices/Events"


def wwn(serial: str) -> str:
    """The durable name of a drive: an NAA identifier (type 3, locally assigned) derived from its serial number."""
    return "3" + hashlib.sha256(serial.encode()).hexdigest()[:15].upper()


def identifiers(name: str, form: str = "NAA") -> list[Body]:
    """Redfish `Identifiers` with one durable name."""
    return [{"DurableName": name, "DurableNameFormat": form}]


def oem_action(path: str, name: str) -> str:
    return f"{path}/Actions/Oem/{OEM}.{name}"


def link(path: str) -> Body:
    """A reference to another resource."""
    return {"@odata.id": path}


def collection(path: str, kind: str, name: str, members: list[Body]) -> Body:
    """A collection resource over full or linked members."""
    return {
        "@odata.id": path,
        "@odata.type": f"#{kind}.{kind}",
        "Name": name,
        "Members": members,
        "Members@odata.count": len(members),
    }
