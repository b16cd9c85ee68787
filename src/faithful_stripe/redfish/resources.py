"""A bench's server as Redfish resources: values in, JSON bodies out, with the standard's property names."""

from __future__ import annotations

from datetime import UTC, datetime

from ..bench import firmware
from ..bench.hands import Hands
from ..bench.state import Event
from . import names
from .names import Body, link
from .storage import StorageResources


class Resources:
    """The resources of one session."""

    def __init__(self, session: Hands) -> None:
        self.session = session
        self.state = session.state
        self.server: str = session.state.server["name"]

    def root(self) -> Body:
        return {
            "@odata.id": names.ROOT,
            "@odata.type": "#ServiceRoot.v1_15_0.ServiceRoot",
            "Id": "RootService",
            "Name": "Root Service",
            "RedfishVersion": "1.18.0",
            "Vendor": self.state.server["maker"],
            "Product": self.state.server["model"],
            "ProtocolFeaturesSupported": {
                "ExpandQuery": {"ExpandAll": False, "Levels": False, "Links": False, "NoLinks": True},
                "FilterQuery": False,
                "SelectQuery": True,
                "OnlyMemberQuery": True,
                "TopSkipQuery": True,
            },
            "Systems": link(names.ROOT + "Systems"),
            "Chassis": link(names.ROOT + "Chassis"),
            "Managers": link(names.ROOT + "Managers"),
            "Registries": link(names.ROOT + "Registries"),
            "UpdateService": link(names.ROOT + "UpdateService"),
            "AccountService": link(names.ROOT + "AccountService"),
            "Tasks": link(names.ROOT + "TaskService"),
            "Links": {},
        }

    def system(self) -> Body:
        path = names.system(self.server)
        facts = self.state.server
        return {
            "@odata.id": path,
            "@odata.type": "#ComputerSystem.v1_22_0.ComputerSystem",
            "Id": self.server,
            "Name": self.server,
            "SystemType": "Physical",
            "Manufacturer": facts["maker"],
            "Model": facts["model"],
            "SerialNumber": facts["serial"],
            "UUID": facts["uuid"],
            "BiosVersion": facts["firmware"],
            "PowerState": "On" if self.state.power else "Off",
            "Status": {
                "State": "Enabled" if self.state.power else "StandbyOffline",
                "Health": "OK",
                "HealthRollup": self._worst(),
            },
            "Storage": link(path + "/Storage"),
            "SimpleStorage": link(path + "/SimpleStorage"),
            "Bios": link(path + "/Bios"),
            "Boot": {
                "BootOrder": firmware.boot_options(self.state),
                "BootOptions": link(path + "/BootOptions"),
                **{name: self.state.boot_override.get(key, none) for name, (key, none) in names.OVERRIDE.items()},
                "BootSourceOverrideTarget@Redfish.AllowableValues": list(firmware.TARGETS),
                "BootSourceOverrideEnabled@Redfish.AllowableValues": list(firmware.ENABLED),
            },
            "BootProgress": {"LastState": self._progress()},
            "PCIeDevices": [link(f"{path}/PCIeDevices/{raid}") for raid in self.session.controllers],
            "Actions": {
                "#ComputerSystem.Reset": {
                    "target": path + "/Actions/ComputerSystem.Reset",
                    "ResetType@Redfish.AllowableValues": list(names.RESETS[self.state.power]),
                }
            },
            "LogServices": link(path + "/LogServices"),
            "Links": {
                "Chassis": [link(names.chassis(self.server))],
                "ManagedBy": [link(names.manager(self.server))],
            },
        }

    def _progress(self) -> str:
        if not self.state.power:
            return "None"
        return (
            "OSRunning" if self.session.clock.now() >= self.state.boot_until else "SystemHardwareInitializationComplete"
        )

    def chassis(self) -> Body:
        path = names.chassis(self.server)
        return {
            "@odata.id": path,
            "@odata.type": "#Chassis.v1_25_0.Chassis",
            "Id": self.server,
            "Name": "Chassis of " + self.server,
            "ChassisType": "RackMount",
            "Manufacturer": self.state.server["maker"],
            "Model": self.state.server["model"],
            "SerialNumber": self.state.server["serial"],
            "Status": {"State": "Enabled", "Health": "OK"},
            "Drives": link(path + "/Drives"),
            "Links": {
                "ComputerSystems": [link(names.system(self.server))],
                "Storage": [link(names.storage(self.server, raid)) for raid in self.session.controllers],
                "Drives": [
                    link(names.drive(self.server, raid, bay))
                    for raid, c in self.session.controllers.items()
                    for bay in c.bays
                ],
            },
            "PhysicalSecurity": {
                "IntrusionSensorNumber": 1,
                "IntrusionSensor": "HardwareIntrusion" if self.state.lid else "Normal",
                "IntrusionSensorReArm": "Automatic",
            },
            "Oem": {names.OEM: {"Panel": self.state.server["panel"], "HotSwap": self.state.server["hot_swap"]}},
        }

    def manager(self) -> Body:
        return {
            "@odata.id": names.manager(self.server),
            "@odata.type": "#Manager.v1_19_0.Manager",
            "Id": self.server + "-bmc",
            "Name": "Manager of " + self.server,
            "ManagerType": "BMC",
            "DateTime": datetime.fromtimestamp(self.session.clock.now(), UTC).isoformat(),
            "DateTimeLocalOffset": "+00:00",
            "Status": {"State": "Enabled", "Health": "OK"},
            "Links": {"ManagerForServers": [link(names.system(self.server))]},
        }

    def log_service(self) -> Body:
        path = names.log(self.server)
        return {
            "@odata.id": path,
            "@odata.type": "#LogService.v1_5_0.LogService",
            "Id": "Events",
            "Name": "Event log",
            "OverWritePolicy": "NeverOverWrites",
            "DateTime": datetime.fromtimestamp(self.session.clock.now(), UTC).isoformat(),
            "DateTimeLocalOffset": "+00:00",
            "LogEntryType": "Event",
            "Status": {"State": "Enabled", "Health": "OK"},
            "Entries": link(path + "/Entries"),
        }

    def entry(self, event: Event) -> Body:
        links: Body = {}
        if event.bay:
            raid = self.session.controller_at(event.bay).facts["id"]
            links["OriginOfCondition"] = link(names.drive(self.server, raid, event.bay))
        return {
            "@odata.id": f"{names.log(self.server)}/Entries/{event.number}",
            "@odata.type": "#LogEntry.v1_16_0.LogEntry",
            "Id": str(event.number),
            "Name": f"Event {event.number}",
            "EntryType": "Event",
            "Created": event.time,
            "Severity": event.severity,
            "MessageId": event.message_id,
            "MessageArgs": event.args,
            "Message": event.message,
            **({"Resolution": event.resolution} if event.resolution else {}),
            "Links": links,
            "Oem": {names.OEM: {"Bay": event.bay, "SerialNumber": event.serial, "Volume": event.volume}},
        }

    def _worst(self) -> str:
        """The worst health of all storage."""
        found = [StorageResources(self.session, c).rollup() for c in self.session.controllers.values()]
        return max(found, key=("OK", "Warning", "Critical").index)
