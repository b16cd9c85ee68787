"""A bench's state as Redfish resources: values in, JSON bodies out, with the standard's property names."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from ..bench import jobs, ondisk
from ..bench.bench import Session
from ..bench.controller import RESERVED_BYTES
from ..bench.state import Drive, Event, Job, Volume
from ..core.arrays.levels import LEVELS
from ..core.formats.probe import describe
from ..core.source import Window
from ..media.image import MediaError
from . import names

Body = dict[str, Any]


class Resources:
    """The resources of one session."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.state = session.state
        self.server: str = session.state.server["name"]
        self.facts: dict[str, Any] = session.state.controllers[0]
        self.raid: str = self.facts["id"]

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
                "SelectQuery": False,
                "OnlyMemberQuery": False,
            },
            "Systems": link(names.ROOT + "Systems"),
            "Chassis": link(names.ROOT + "Chassis"),
            "Managers": link(names.ROOT + "Managers"),
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
            "BiosVersion": facts["firmware"],
            "PowerState": "On",
            "Status": {"State": "Enabled", "Health": "OK", "HealthRollup": self._rollup()},
            "Storage": link(path + "/Storage"),
            "LogServices": link(path + "/LogServices"),
            "Links": {
                "Chassis": [link(names.chassis(self.server))],
                "ManagedBy": [link(names.manager(self.server))],
            },
        }

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
                "Storage": [link(names.storage(self.server, self.raid))],
            },
            "Oem": {names.OEM: {"Panel": self.state.server["panel"]}},
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

    def storage(self) -> Body:
        path = names.storage(self.server, self.raid)
        return {
            "@odata.id": path,
            "@odata.type": "#Storage.v1_15_1.Storage",
            "Id": self.raid,
            "Name": "Storage of " + self.raid,
            "Status": {"State": "Enabled", "Health": "OK", "HealthRollup": self._rollup()},
            "Controllers": link(path + "/Controllers"),
            "Drives": [link(names.drive(self.server, self.raid, bay)) for bay in self.facts["bays"]],
            "Drives@odata.count": len(self.facts["bays"]),
            "Volumes": link(path + "/Volumes"),
            "Links": {"Enclosures": [link(names.chassis(self.server))]},
        }

    def controller(self) -> Body:
        return {
            "@odata.id": names.storage(self.server, self.raid) + "/Controllers/" + self.raid,
            "@odata.type": "#StorageController.v1_7_0.StorageController",
            "Id": self.raid,
            "Name": f"{self.facts['maker']} {self.facts['model']}",
            "Manufacturer": self.facts["maker"],
            "Model": self.facts["model"],
            "SerialNumber": self.facts["serial"],
            "FirmwareVersion": self.facts["firmware"],
            "SupportedDeviceProtocols": ["SAS", "SATA"],
            "SupportedRAIDTypes": [name for name in LEVELS if name != "SPAN"] + ["None"],
            "Status": {"State": "Enabled", "Health": "OK"},
        }

    def drive(self, bay: str) -> Body:
        drive = self.state.in_bay(bay)
        body: Body = {
            "@odata.id": names.drive(self.server, self.raid, bay),
            "@odata.type": "#Drive.v1_18_0.Drive",
            "Id": f"Bay-{bay}",
            "Name": f"Drive bay {bay}",
            "PhysicalLocation": {
                "PartLocation": {
                    "LocationType": "Bay",
                    "ServiceLabel": bay,
                    "LocationOrdinalValue": self.state.bays.index(bay),
                }
            },
            "Links": {"Chassis": link(names.chassis(self.server)), "Volumes": []},
        }
        if drive is None:
            return body | {"Status": {"State": "Absent"}}
        body |= {
            "Manufacturer": drive.vendor,
            "Model": drive.model,
            "PartNumber": drive.part,
            "SerialNumber": drive.serial,
            "Revision": drive.firmware,
            "CapacityBytes": drive.size,
            "BlockSizeBytes": drive.sector,
            "MediaType": drive.media,
            "Protocol": drive.protocol,
            "RotationSpeedRPM": drive.rpm,
            "FailurePredicted": drive.predicted,
            "LocationIndicatorActive": drive.indicator,
        }
        return body | self._drive_state(drive)

    def _drive_state(self, drive: Drive) -> Body:
        found = self.state.memberships(drive.serial)
        spare = self.state.spares.get(drive.serial)
        state, health, indicator = "Enabled", "OK", "OK"
        if found:
            indicator = min((self._member_led(v, p) for v, p in found), key=_LED_ORDER.index)
            state = "Updating" if indicator == "Rebuild" else "Enabled"
        elif any(job.target == drive.serial for job in self.state.jobs.values()):
            state, indicator = "Updating", "Rebuild"
        elif spare:
            state, indicator = "StandbySpare", "Hotspare"
        if drive.predicted:
            health, indicator = "Warning", "PredictiveFailureAnalysis"
        if drive.fault:
            state, health, indicator = "UnavailableOffline", "Critical", "Fail"
        status: Body = {"State": state, "Health": health}
        content = None
        if not drive.fault:
            try:
                content = self._leftovers(drive) if not found else None
            except MediaError as reason:
                status = {"State": "UnavailableOffline", "Health": "Critical", "Conditions": [_condition(reason)]}
                indicator = "Fail"
        kind = "None" if spare is None else "Dedicated" if spare.volumes else "Global"
        mode = {"HotspareReplacementMode": "Revertible" if spare.revertible else "NonRevertible"} if spare else {}
        serves = [link(names.volume(self.server, self.raid, n)) for n in spare.volumes] if spare else []
        volumes = [link(names.volume(self.server, self.raid, v.number)) for v, _position in found]
        return {
            "Status": status,
            "StatusIndicator": indicator,
            "HotspareType": kind,
            **mode,
            "Links": {"Chassis": link(names.chassis(self.server)), "Volumes": volumes},
            "Oem": {
                names.OEM: {
                    "Content": content,
                    "SpareFor": serves,
                    "UnreadableBytes": sum(count for _start, count in drive.unreadable),
                }
            },
        }

    def _member_led(self, volume: Volume, position: int) -> str:
        if volume.members[position].state == "rebuilding":
            return "Rebuild"
        if self.session.controller.margin(volume) < 0:
            return "InAFailedArray"
        return "InACriticalArray" if volume.lost and self.session.controller.margin(volume) == 0 else "OK"

    def _leftovers(self, drive: Drive) -> str:
        """What an unassigned drive holds: another controller's set-up, or what its start looks like."""
        medium = self.session.medium(drive)
        left = ondisk.foreign(medium, self.session.controller)
        own = RESERVED_BYTES if drive.configured else 0
        return left or describe(Window(medium, 0, drive.size - own))

    def volume(self, volume: Volume) -> Body:
        made, left = volume.geometry, self.session.controller.margin(volume)
        members = [self.state.drives[m.serial] for m in volume.members]
        here = [d for d, m in zip(members, volume.members, strict=True) if m.state != "lost" and d.bay]
        state, health = "Enabled", "OK"
        if left < 0:
            state, health = "UnavailableOffline", "Critical"
        elif volume.lost:
            state, health = "Enabled", "Warning"
        elif self.session.controller.initializing(volume) == "foreground":
            state = "Starting"
        path = names.volume(self.server, self.raid, volume.number)
        return {
            "@odata.id": path,
            "@odata.type": "#Volume.v1_10_0.Volume",
            "Id": str(volume.number),
            "Name": volume.name,
            "DisplayName": volume.name,
            "RAIDType": volume.level if volume.level != "SPAN" else "None",
            **({"MediaSpanCount": volume.spans} if volume.spans > 1 else {}),
            "CapacityBytes": made.volume_bytes,
            "BlockSizeBytes": members[0].sector,
            "StripSizeBytes": volume.strip,
            "Encrypted": False,
            "Status": {"State": state, "Health": health},
            "Operations": [self._operation(job) for job in self.session.controller.jobs_of(volume)],
            "Links": {
                "Drives": [link(names.drive(self.server, self.raid, str(d.bay))) for d in here],
                "Drives@odata.count": len(here),
                "DedicatedSpareDrives": [self._spare_link(s) for s in self.state.spares if self._serves(s, volume)],
            },
            "Actions": {
                "#Volume.CheckConsistency": {"target": f"{path}/Actions/Volume.CheckConsistency"},
                "#Volume.Initialize": {
                    "target": f"{path}/Actions/Volume.Initialize",
                    "InitializeType@Redfish.AllowableValues": ["Fast", "Slow"],
                    "InitializeMethod@Redfish.AllowableValues": ["Foreground", "Background"],
                },
                "Oem": {f"#{names.OEM}.Rebuild": {"target": f"{path}/Actions/Oem/{names.OEM}.Rebuild"}},
            },
            "Oem": {
                names.OEM: {
                    "Level": volume.level,
                    "Margin": left,
                    "QPlace": volume.q_place,
                    "QExponent": volume.q_exponent,
                    "MirrorMembers": volume.copies,
                    "Rotation": volume.rotation,
                    "DataOrder": volume.data,
                    "Content": self._content(volume, left),
                    "Members": [
                        {
                            "Position": position,
                            "Bay": member.bay,
                            "SerialNumber": member.serial,
                            "State": member.state,
                            "DoneBytes": member.done,
                            "StandsInForBay": member.home or None,
                        }
                        for position, member in enumerate(volume.members)
                    ],
                }
            },
        }

    def _content(self, volume: Volume, left: int) -> str | None:
        try:
            usable = left >= 0 and self.session.controller.initializing(volume) != "foreground"
            return describe(self.session.controller.array(volume)) if usable else None
        except MediaError:
            return None

    def _serves(self, serial: str, volume: Volume) -> bool:
        return volume.number in self.state.spares[serial].volumes and self.state.drives[serial].bay is not None

    def _spare_link(self, serial: str) -> Body:
        return link(names.drive(self.server, self.raid, str(self.state.drives[serial].bay)))

    def _operation(self, job: Job) -> Body:
        volume = self.state.volumes[job.volume]
        done, extent = jobs.done(self.session.controller, job), jobs.extent(self.session.controller, job)
        kind, name = "ConsistencyCheck", "consistency check"
        if job.kind in ("foreground", "background"):
            kind, name = "Initialize", f"{job.kind} initialization"
        if job.kind == "rebuild":
            kind, name = "Rebuild", f"rebuild of bay {volume.members[job.position].bay}"
        elif job.kind == "copy":
            bay = self.state.drives[job.target].bay
            kind, name = "Rebuild", f"copy from bay {volume.members[job.position].bay} to bay {bay}"
        return {
            "Operation": kind,
            "OperationName": name,
            "PercentageComplete": done * 100 // extent,
            "Oem": {names.OEM: {"DoneBytes": done, "TotalBytes": extent, "Waiting": job.since is None}},
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
            links["OriginOfCondition"] = link(names.drive(self.server, self.raid, event.bay))
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

    def _rollup(self) -> str:
        margins = [self.session.controller.margin(v) for v in self.state.volumes.values()]
        failed = any(d.bay and d.fault for d in self.state.drives.values())
        if failed or any(left < 0 for left in margins):
            return "Critical"
        predicted = any(d.bay and d.predicted for d in self.state.drives.values())
        return "Warning" if predicted or any(v.lost for v in self.state.volumes.values()) else "OK"


_LED_ORDER = ("Rebuild", "InAFailedArray", "InACriticalArray", "OK")
"""Of a drive in several volumes the most telling pattern shows."""


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


def _condition(reason: MediaError) -> Body:
    return {"Severity": "Critical", "Message": reason.what, "Resolution": reason.to_do}
