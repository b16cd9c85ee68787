"""One controller's volumes as Redfish resources: what each is, and what a new one may say."""

from __future__ import annotations

from ..bench import firmware, jobs
from ..bench.controller import Controller
from ..bench.hands import Hands
from ..bench.state import Job, Volume
from ..core.arrays.levels import LEVELS
from ..core.errors import StripeError
from ..core.formats.probe import describe
from . import names
from .names import Body, link

READ_POLICIES = {"ahead": "ReadAhead", "adaptive": "AdaptiveReadAhead", "off": "Off"}
WRITE_POLICIES = {"through": "WriteThrough", "protected-back": "ProtectedWriteBack"}
"""Cache policies of the bench as Redfish spells them."""


class VolumeResources:
    """The volumes of one controller, within one session."""

    def __init__(self, session: Hands, controller: Controller) -> None:
        self.session, self.c = session, controller
        self.state = session.state
        self.server: str = session.state.server["name"]
        self.raid: str = controller.facts["id"]
        self.raid_offered = firmware.offers_volumes(session.state)

    def _on(self, state: str) -> str:
        """A state while the server is on; else what everything is then."""
        return state if self.state.power else "StandbyOffline"

    def volume(self, volume: Volume) -> Body:
        made, left = volume.geometry, self.c.margin(volume)
        members = [d for m in volume.members if (d := self.c.drive_of(m))]
        here = [d for m in volume.members if m.state != "lost" and (d := self.c.drive_of(m)) and d.bay]
        lost = self.c.lost_ranges(volume) if self.state.power and left >= 0 else []
        state, health = "Enabled", "OK"
        if left < 0:
            state, health = "UnavailableOffline", "Critical"
        elif lost:
            health = "Critical"
        elif volume.lost:
            health = "Warning"
        elif self.c.initializing(volume) == "foreground":
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
            "BlockSizeBytes": members[0].sector if members else 512,
            "StripSizeBytes": volume.strip,
            "Encrypted": False,
            "Identifiers": names.identifiers(volume.guid.strip().encode().hex().upper()[:32], "NGUID"),
            "ReadCachePolicy": READ_POLICIES[volume.read_cache],
            "WriteCachePolicy": WRITE_POLICIES[volume.write_cache],
            "Status": {"State": self._on(state), "Health": health},
            "Operations": [self._operation(job) for job in self.c.jobs_of(volume)],
            "Links": {
                "Drives": [link(names.drive(self.server, self.raid, str(d.bay))) for d in here],
                "Drives@odata.count": len(here),
                "DedicatedSpareDrives": [self._spare_link(s) for s in self.c.memory.spares if self._serves(s, volume)],
            },
            "Actions": {
                "#Volume.CheckConsistency": {"target": f"{path}/Actions/Volume.CheckConsistency"},
                "#Volume.ForceEnable": {"target": f"{path}/Actions/Volume.ForceEnable"},
                "#Volume.Initialize": {
                    "target": f"{path}/Actions/Volume.Initialize",
                    "InitializeType@Redfish.AllowableValues": ["Fast", "Slow"],
                    "InitializeMethod@Redfish.AllowableValues": ["Foreground", "Background"],
                },
                "Oem": {
                    f"#{names.OEM}.{act}": {"target": names.oem_action(path, act)}
                    for act in ("Rebuild", "AcceptInconsistent")
                },
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
                    "DataStartBytes": volume.start,
                    "DataLengthBytes": volume.extent,
                    "InconsistentRanges": self._inconsistent(volume),
                    "LostRanges": [{"StartByte": start, "LengthBytes": end - start} for start, end in lost],
                    "Members": [
                        {
                            "Position": position,
                            "Bay": member.bay,
                            "SerialNumber": member.serial,
                            "State": "missing" if member.state == "lost" else member.state,
                            "DoneBytes": member.done,
                            "UpToDate": member.state == "active" or member.generation == volume.generation,
                            "StandsInForBay": member.home or None,
                        }
                        for position, member in enumerate(volume.members)
                    ],
                }
            },
        }

    def creation(self) -> Body:
        """What the collection of volumes tells of creating one (DSP0266 7.6, 9.3)."""
        path = f"{names.storage(self.server, self.raid)}/Volumes"
        return {
            "@Redfish.CollectionCapabilities": {
                "@odata.type": "#CollectionCapabilities.v1_4_0.CollectionCapabilities",
                "Capabilities": [
                    {
                        "CapabilitiesObject": link(f"{path}/Capabilities"),
                        "UseCase": "VolumeCreation",
                        "Links": {"TargetCollection": link(path)},
                    }
                ],
            },
            "@Redfish.OperationApplyTimeSupport": {
                "@odata.type": "#Settings.v1_3_5.OperationApplyTimeSupport",
                "SupportedValues": ["Immediate"],
            },
        }

    def capabilities(self) -> Body:
        """What a new volume may say."""
        optional = ("Name", "DisplayName", "CapacityBytes", "StripSizeBytes", "MediaSpanCount", "InitializeMethod",
                    "ReadCachePolicy", "WriteCachePolicy")  # fmt: skip
        return {
            "@odata.id": f"{names.storage(self.server, self.raid)}/Volumes/Capabilities",
            "@odata.type": "#Volume.v1_10_0.Volume",
            "Id": "Capabilities",
            "Name": "What a new volume may say",
            "RAIDType@Redfish.RequiredOnCreate": True,
            "RAIDType@Redfish.AllowableValues": [*(n for n in LEVELS if n != "SPAN"), "None"],
            "Links@Redfish.RequiredOnCreate": True,
            "Links": {"Drives@Redfish.RequiredOnCreate": True},
            **{f"{name}@Redfish.OptionalOnCreate": True for name in optional},
            "ReadCachePolicy@Redfish.AllowableValues": list(READ_POLICIES.values()),
            "WriteCachePolicy@Redfish.AllowableValues": list(WRITE_POLICIES.values()),
            "InitializeMethod@Redfish.AllowableValues": ["Skip", "Foreground", "Background"],
        }

    def _content(self, volume: Volume, left: int) -> str | None:
        try:
            usable = self.state.power and left >= 0 and self.c.initializing(volume) != "foreground"
            return describe(self.c.array(volume)) if usable else None
        except StripeError:
            return None

    def _serves(self, serial: str, volume: Volume) -> bool:
        return volume.number in self.c.memory.spares[serial].volumes and self.state.drives[serial].bay is not None

    def _spare_link(self, serial: str) -> Body:
        return link(names.drive(self.server, self.raid, str(self.state.drives[serial].bay)))

    def _inconsistent(self, volume: Volume) -> list[Body]:
        """Where a check found copies or parity that do not agree, in bytes of the volume."""
        made = volume.geometry
        found = []
        for rows, accepted in ((volume.mismatches, False), (volume.accepted, True)):
            for a, b in made.row_ranges([(a, b) for a, b in rows]):
                found.append({"StartByte": a, "LengthBytes": b - a, "Acknowledged": accepted})
        return found

    def _operation(self, job: Job) -> Body:
        volume = self.c.memory.volumes[job.volume]
        done, extent = jobs.done(self.c, job), jobs.extent(self.c, job)
        kind, name = "CheckConsistency", "consistency check"
        ours: Body = {"Kind": "check"}
        if job.kind in ("foreground", "background"):
            kind, name, ours = "Initialize", f"{job.kind} initialization", {"Kind": "initialize", "Method": job.kind}
        if job.kind == "rebuild":
            bay = volume.members[job.position].bay
            kind, name, ours = "Rebuild", f"rebuild of bay {bay}", {"Kind": "rebuild", "TargetBay": bay}
        elif job.kind == "copy":
            source, target = volume.members[job.position].bay, self.state.drives[job.target].bay
            kind, name = "Replicate", f"copy from bay {source} to bay {target}"
            ours = {"Kind": "copy", "SourceBay": source, "TargetBay": target}
        if job.position >= 0:
            ours["Position"] = job.position
        return {
            "Operation": kind,
            "OperationName": name,
            "PercentageComplete": done * 100 // extent,
            "Oem": {names.OEM: {**ours, "DoneBytes": done, "TotalBytes": extent, "Waiting": job.since is None}},
        }
