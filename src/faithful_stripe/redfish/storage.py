"""One controller's storage as Redfish resources: its drives, volumes, spares, work and other controllers' set-ups."""

from __future__ import annotations

from ..bench import assemble
from ..bench.controller import MOST_BAD, RESERVED_BYTES
from ..bench.hands import warmth
from ..bench.session import DAY_SECONDS
from ..bench.state import Drive, Member, Volume
from ..core.arrays.levels import LEVELS
from ..core.formats.probe import describe
from ..core.source import Window
from ..media.image import MediaError
from . import names
from .names import Body, link
from .volume_resources import VolumeResources

_LED_ORDER = ("Rebuild", "InAFailedArray", "InACriticalArray", "OK")
"""Of a drive in several volumes the most telling pattern shows."""

FAULTS = {
    "dead": ("it does not answer", "reseat or replace it", "StorageDevice.1.2.DriveFailure"),
    "link": ("its link is down", "reseat it", "StorageDevice.1.2.DriveOffline"),
    "image": ("its image file is missing, cut short or another drive's", "put its own image back",
              "FaithfulStripe.1.0.ImageWrong"),
}  # fmt: skip
"""By a drive's fault: what it is, what to do, and the message of the standard."""


class StorageResources(VolumeResources):
    """The storage resources of one controller, within one session."""

    def storage(self) -> Body:
        path = names.storage(self.server, self.raid)
        actions = {f"#{names.OEM}.{act}": {"target": names.oem_action(path, act)} for act in ("Adopt", "Forget")}
        return {
            "@odata.id": path,
            "@odata.type": "#Storage.v1_15_1.Storage",
            "Id": self.raid,
            "Name": "Storage of " + self.raid,
            "Status": {"State": self._on("Enabled"), "Health": "OK", "HealthRollup": self.rollup()},
            "Controllers": link(path + "/Controllers"),
            "Drives": [link(names.drive(self.server, self.raid, bay)) for bay in self.c.bays],
            "Drives@odata.count": len(self.c.bays),
            **({"Volumes": link(path + "/Volumes")} if self.raid_offered else {}),
            "Links": {"Enclosures": [link(names.chassis(self.server))]},
            "Actions": {"Oem": actions},
            "Oem": {
                names.OEM: {
                    "FoundVolumes": [self._found(f) for f in assemble.found_volumes(self.c)]
                    if self.session.active
                    else []
                }
            },
        }

    def _found(self, found: assemble.Found) -> Body:
        """A volume that drives describe and the controller does not know."""
        volume, trouble = found.volume, found.trouble
        return {
            "Name": volume.name,
            "GUID": volume.guid.strip(),
            "Level": volume.level,
            "StripSizeBytes": volume.strip,
            "CapacityBytes": None if trouble else volume.geometry.volume_bytes,
            "WrittenBy": found.product,
            "Written": volume.created,
            "MarginAfterAdoption": None if trouble else found.margin,
            "Trouble": trouble[0] if trouble else None,
            "Advice": trouble[1] if trouble else None,
            "Members": [
                {"Position": i, "Bay": m.bay or None, "SerialNumber": m.serial, "State": self._foreign_state(found, m)}
                for i, m in enumerate(volume.members)
            ],
        }

    def _foreign_state(self, found: assemble.Found, member: Member) -> str:
        if member.state == "active":
            return "current"
        return "stale" if member.serial in found.stale else "incomplete" if member.bay else "missing"

    def controller(self) -> Body:
        settings = self.c.memory.settings
        return {
            "@odata.id": names.storage(self.server, self.raid) + "/Controllers/" + self.raid,
            "@odata.type": "#StorageController.v1_7_0.StorageController",
            "Id": self.raid,
            "Name": f"{self.c.facts['maker']} {self.c.facts['model']}",
            "Manufacturer": self.c.facts["maker"],
            "Model": self.c.facts["model"],
            "SerialNumber": self.c.facts["serial"],
            "FirmwareVersion": self.c.facts["firmware"],
            "SupportedDeviceProtocols": ["SAS", "SATA"],
            "SupportedRAIDTypes": [*(n for n in LEVELS if n != "SPAN"), "None"],
            "ControllerRates": {
                "RebuildRatePercent": settings["rebuild_rate"],
                "ConsistencyCheckRatePercent": settings["check_rate"],
            },
            "Status": {"State": self._on("Enabled"), "Health": "OK"},
            "Oem": {
                names.OEM: {
                    "Replacement": settings["replacement"],
                    "CopyOnPrediction": settings["copy_on_prediction"],
                }
            },
        }

    def drive(self, bay: str) -> Body:
        drive = self.state.in_bay(bay)
        path = self._drive_path(bay)
        body: Body = {
            "@odata.id": path,
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
            "CapableSpeedGbs": drive.best_gbps,
            "NegotiatedSpeedGbs": drive.gbps,
            "Identifiers": names.identifiers(names.wwn(drive.serial)),
            "EnvironmentMetrics": link(path + "/EnvironmentMetrics"),
            "Metrics": link(path + "/Metrics"),
        }
        return body | self._drive_state(drive)

    def environment(self, bay: str) -> Body | None:
        """The temperature of the drive in a bay; None when it is empty."""
        drive = self.state.in_bay(bay)
        if drive is None:
            return None
        return {
            "@odata.id": self._drive_path(bay) + "/EnvironmentMetrics",
            "@odata.type": "#EnvironmentMetrics.v1_3_1.EnvironmentMetrics",
            "Id": "EnvironmentMetrics",
            "Name": f"Environment of the drive in bay {bay}",
            "TemperatureCelsius": {"Reading": drive.celsius},
        }

    def metrics(self, bay: str) -> Body | None:
        """How long the drive in a bay has been running; None when it is empty."""
        drive = self.state.in_bay(bay)
        if drive is None:
            return None
        return {
            "@odata.id": self._drive_path(bay) + "/Metrics",
            "@odata.type": "#DriveMetrics.v1_2_1.DriveMetrics",
            "Id": "Metrics",
            "Name": f"Metrics of the drive in bay {bay}",
            "PowerOnHours": drive.hours,
            "BadBlockCount": len(drive.unreadable),
        }

    def _drive_path(self, bay: str) -> str:
        return names.drive(self.server, self.raid, bay)

    def _drive_state(self, drive: Drive) -> Body:
        found = self.c.memory.memberships(drive.serial) if self.raid_offered else []
        spare = self.c.memory.spares.get(drive.serial) if self.raid_offered else None
        state, health, indicator = "Enabled", "OK", "OK"
        if found:
            indicator = min((self._member_led(v, p) for v, p in found), key=_LED_ORDER.index)
            state = "Updating" if indicator == "Rebuild" else "Enabled"
        elif any(job.target == drive.serial for job in self.c.memory.jobs.values()):
            state, indicator = "Updating", "Rebuild"
        elif spare:
            state, indicator = "StandbySpare", "Hotspare"
        status: Body = {}
        if (warm := warmth(drive.celsius)) != "OK":
            health = "Warning"
            message = f"the drive is {drive.celsius} °C warm"
            status["Conditions"] = [
                {
                    "Severity": warm, "Message": message, "Resolution": "check fans and air flow",
                    "MessageId": f"Environmental.1.0.Temperature{warm}",
                }
            ]  # fmt: skip
        if drive.predicted:
            health, indicator = "Warning", "PredictiveFailureAnalysis"
        if not drive.works:
            state, health, indicator = "UnavailableOffline", "Critical", "Fail"
            why, resolution, message_id = FAULTS.get(drive.fault, FAULTS["link"])
            status["Conditions"] = [
                {"Severity": "Critical", "Message": why, "Resolution": resolution, "MessageId": message_id}
            ]
        status |= {"State": self._on(state), "Health": health}
        content = None
        if drive.works and self.state.power:
            try:
                content = None if self.c.memory.in_use(drive.serial) else self._leftovers(drive)
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
                    "UnreadableRanges": [
                        {"StartByte": a, "LengthBytes": n} for a, n in drive.unreadable[:MOST_BAD] if drive.works
                    ],
                    "TemperatureCelsius": drive.celsius,
                    "SlowedBy": drive.slowed,
                    "LinkLossesPerDay": sum(t > self.c.now - DAY_SECONDS for t in drive.losses),
                }
            },
        }

    def _member_led(self, volume: Volume, position: int) -> str:
        if volume.members[position].state == "rebuilding":
            return "Rebuild"
        if self.c.margin(volume) < 0:
            return "InAFailedArray"
        return "InACriticalArray" if volume.lost and self.c.margin(volume) == 0 else "OK"

    def _leftovers(self, drive: Drive) -> str:
        """What a free drive holds: another controller's set-up, or what its start looks like."""
        medium = self.session.medium(drive)
        left = assemble.describe(self.c, drive)
        own = RESERVED_BYTES if drive.configured else 0
        return left or describe(Window(medium, 0, drive.size - own))

    def rollup(self) -> str:
        """The worst health of its drives and volumes."""
        margins = [self.c.margin(v) for v in self.c.memory.volumes.values()]
        failed = any(not d.works for d in self.c.here())
        if failed or any(left < 0 for left in margins):
            return "Critical"
        sick = any(d.predicted or warmth(d.celsius) != "OK" for d in self.c.here())
        return "Warning" if sick or any(v.lost for v in self.c.memory.volumes.values()) else "OK"


def _condition(reason: MediaError) -> Body:
    return {"Severity": "Critical", "Message": reason.what, "Resolution": reason.to_do}
