"""The documents that every Redfish service has, whatever its server: those of OData, the predefined roles (DSP0266)."""

from __future__ import annotations

import re

from . import names
from .names import Body, link

TYPES = (
    "ServiceRoot.v1_15_0", "ComputerSystem.v1_22_0", "Storage.v1_15_1", "StorageController.v1_7_0", "Drive.v1_18_0",
    "Volume.v1_10_0", "Chassis.v1_25_0", "Manager.v1_19_0", "LogService.v1_5_0", "LogEntry.v1_16_0", "Bios.v1_2_1",
    "BootOption.v1_0_6", "PCIeDevice.v1_13_0", "PCIeFunction.v1_5_0", "SimpleStorage.v1_3_2", "UpdateService.v1_14_0",
    "SoftwareInventory.v1_10_2", "TaskService.v1_2_1", "Task.v1_7_4", "SessionService.v1_1_9", "Session.v1_7_2",
    "MessageRegistryFile.v1_1_3", "AttributeRegistry.v1_3_8", "EnvironmentMetrics.v1_3_1", "AccountService.v1_15_0",
    "Role.v1_3_1", "EventService.v1_10_0", "DriveMetrics.v1_2_1",
)  # fmt: skip
"""The schemas of the answers, as `@odata.type` names them."""

METADATA = names.ROOT + "$metadata"
SCHEMAS = "http://redfish.dmtf.org/schemas/v1/"

ROLES = {
    "Administrator": ("Login", "ConfigureManager", "ConfigureUsers", "ConfigureComponents", "ConfigureSelf"),
    "Operator": ("Login", "ConfigureComponents", "ConfigureSelf"),
    "ReadOnly": ("Login", "ConfigureSelf"),
}
"""The predefined roles with their privileges (DSP0266, table of roles). Whom a bench is served with is an
administrator."""


def metadata() -> str:
    """The OData metadata document: where the schemas are, and what the container extends."""
    references = "".join(
        f'<edmx:Reference Uri="{SCHEMAS}{kind.partition(".")[0]}_v1.xml">'
        f'<edmx:Include Namespace="{kind.partition(".")[0]}"/><edmx:Include Namespace="{kind}"/></edmx:Reference>'
        for kind in TYPES
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?>'
        '<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0">'
        f"{references}<edmx:DataServices>"
        '<Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="Service">'
        f'<EntityContainer Name="Service" Extends="{TYPES[0]}.ServiceContainer"/>'
        "</Schema></edmx:DataServices></edmx:Edmx>"
    )


def odata(root: Body) -> Body:
    """The OData service document: the service root, and everything that it links."""
    rows = [{"name": "Service", "kind": "Singleton", "url": names.ROOT}]
    rows += [
        {"name": key, "kind": "Singleton", "url": value["@odata.id"]}
        for key, value in root.items()
        if isinstance(value, dict) and "@odata.id" in value
    ]
    return {"@odata.context": METADATA, "value": rows}


def described_by(body: Body) -> str:
    """The Link header of a resource: its schema."""
    kind = re.fullmatch(r"#([A-Za-z]+)(\.v\d+_\d+_\d+)?\.[A-Za-z]+", str(body.get("@odata.type") or ""))
    return f"<{SCHEMAS}{kind[1]}{kind[2] or ''}.json>; rel=describedby" if kind else f"<{METADATA}>; rel=describedby"


def accounts() -> Body:
    path = names.ROOT + "AccountService"
    return {
        "@odata.id": path,
        "@odata.type": "#AccountService.v1_15_0.AccountService",
        "Id": "AccountService",
        "Name": "Accounts",
        "ServiceEnabled": True,
        "HTTPBasicAuth": "Enabled",
        "Roles": link(path + "/Roles"),
    }


def role(name: str) -> Body:
    """One predefined role. Raises KeyError for another."""
    return {
        "@odata.id": f"{names.ROOT}AccountService/Roles/{name}",
        "@odata.type": "#Role.v1_3_1.Role",
        "Id": name,
        "Name": f"Role {name}",
        "RoleId": name,
        "IsPredefined": True,
        "AssignedPrivileges": list(ROLES[name]),
    }
