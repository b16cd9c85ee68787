"""The answers of the Redfish service: one method per route, within one bench session."""

from __future__ import annotations

from typing import Any

from werkzeug.wrappers import Response

from ..bench import firmware, jobs, members, settings, takeover, volumes
from ..bench.errors import WorkRunning
from ..core.ranges import union
from . import documents, names
from .answers import Refused
from .names import Body, collection, link
from .storage import StorageResources
from .updates import UpdateHandler
from .volume_resources import READ_POLICIES, WRITE_POLICIES

PAGE = 100
"""Log entries per page, unless the client asks for fewer with $top."""


class Handler(UpdateHandler):
    """The answers within one session: one method per route, `_post` and `_delete` after its name."""

    def check_path(self, **ids: Any) -> None:
        """Raise Refused (404) unless every id in the path is one of this server's."""
        server = self.made.server
        known = {"system": server, "chassis": server, "manager": server + "-bmc"}
        raid = ids.get("raid")
        if raid is not None:
            if raid not in self.session.controllers:
                raise self._missing()
            self.c = self.session.controllers[raid]
            self.storing = StorageResources(self.session, self.c)
        for name, value in ids.items():
            if name in known and value != known[name]:
                raise self._missing()
        if ids.get("controller", raid) != raid or ids.get("bay", self.c.bays[0]) not in self.c.bays:
            raise self._missing()
        lights = self.request.method == "PATCH" and "bay" in ids  # the LED works without the controllers
        if self.request.method not in ("GET", "HEAD") and raid is not None and not lights:
            self.session.require_power()

    def versions(self) -> Response:
        return self._ok({"v1": names.ROOT})

    def root(self) -> Response:
        return self._ok(self.made.root())

    def odata(self) -> Response:
        return self._ok(documents.odata(self.made.root()))

    def metadata(self) -> Response:
        return Response(documents.metadata(), content_type="application/xml; charset=utf-8")

    def accounts(self) -> Response:
        return self._ok(documents.accounts())

    def roles(self) -> Response:
        return self._collection("Roles", "RoleCollection", [documents.role(name) for name in documents.ROLES])

    def role(self, role: str) -> Response:
        if role not in documents.ROLES:
            raise self._missing()
        return self._ok(documents.role(role))

    def systems(self) -> Response:
        return self._collection("Systems", "ComputerSystemCollection", [self.made.system()])

    def system(self) -> Response:
        return self._ok(self.made.system())

    def storages(self) -> Response:
        return self._collection("Storage", "StorageCollection", [s.storage() for s in self._all()])

    def storage(self) -> Response:
        return self._ok(self.storing.storage())

    def controllers(self) -> Response:
        return self._collection("Controllers", "StorageControllerCollection", [self.storing.controller()])

    def controller(self) -> Response:
        return self._ok(self.storing.controller())

    def controller_patch(self) -> Response:
        """Rates, and what the controller does by itself."""
        wish = self._body()
        rates = wish.get("ControllerRates", {})
        ours = wish.get("Oem", {}).get(names.OEM, {})
        asked = {
            "rebuild_rate": rates.get("RebuildRatePercent") if isinstance(rates, dict) else rates,
            "check_rate": rates.get("ConsistencyCheckRatePercent") if isinstance(rates, dict) else rates,
            "replacement": ours.get("Replacement"),
            "copy_on_prediction": ours.get("CopyOnPrediction"),
        }
        settings.change(self.c, {name: value for name, value in asked.items() if value is not None})
        return self._ok(self.storing.controller())

    def drive(self, bay: str) -> Response:
        return self._ok(self.storing.drive(bay))

    def environment(self, bay: str) -> Response:
        body = self.storing.environment(bay)
        if body is None:
            raise self._missing()
        return self._ok(body)

    def metrics(self, bay: str) -> Response:
        body = self.storing.metrics(bay)
        if body is None:
            raise self._missing()
        return self._ok(body)

    def adopt_post(self) -> Response:
        """Take over a found volume, and what shares its drives."""
        wish = self._body()
        new_name = self._text(wish, "NewName", "")
        takeover.adopt(self.c, self._text(wish, "Volume"), new_name or None)
        return Response(status=204)

    def forget_post(self) -> Response:
        """Remove a found volume's set-up from its drives."""
        takeover.forget(self.c, self._text(self._body(), "Volume"))
        return Response(status=204)

    def chassis_drives(self) -> Response:
        return self._collection("Drives", "DriveCollection", [s.drive(bay) for s in self._all() for bay in s.c.bays])

    def chassis_all(self) -> Response:
        return self._collection("Chassis", "ChassisCollection", [self.made.chassis()])

    def chassis(self) -> Response:
        return self._ok(self.made.chassis())

    def managers(self) -> Response:
        return self._collection("Managers", "ManagerCollection", [self.made.manager()])

    def manager(self) -> Response:
        return self._ok(self.made.manager())

    def log_services(self) -> Response:
        return self._collection("Log services", "LogServiceCollection", [self.made.log_service()])

    def log_service(self) -> Response:
        return self._ok(self.made.log_service())

    def entries(self) -> Response:
        skip, top = self._number("$skip", 0), self._number("$top", PAGE)
        everything = self.session.events()
        page = [self.made.entry(event) for event in everything[skip : skip + top]]
        body = collection(self.request.path, "LogEntryCollection", "Log entries", page)
        body["Members@odata.count"] = len(everything)
        if skip + top < len(everything):
            body["Members@odata.nextLink"] = f"{self.request.path}?$skip={skip + top}&$top={top}"
        return self._ok(body)

    def entry(self, number: int) -> Response:
        for event in self.session.events(number - 1):
            if event.number == number:
                return self._ok(self.made.entry(event))
        raise self._missing()

    def volumes(self) -> Response:
        there = self.c.memory.volumes.values() if firmware.offers_volumes(self.session.state) else ()
        found = [self.storing.volume(v) for v in there]
        return self._collection("Volumes", "VolumeCollection", found, self.storing.creation())

    def volume_capabilities(self) -> Response:
        return self._ok(self.storing.capabilities())

    def volumes_post(self) -> Response:
        wish = self._body()
        ours = wish.get("Oem", {}).get(names.OEM, {})
        level = self._text(wish, "RAIDType")
        volume = volumes.check(
            self.c,
            volumes.Wish(
                name=self._text(wish, "DisplayName", wish.get("Name")),
                level="SPAN" if level == "None" else level,
                bays=tuple(self._bays(wish)),
                strip=self._whole(wish, "StripSizeBytes", 65536) or 65536,
                size=self._whole(wish, "CapacityBytes", None),
                rotation=ours.get("Rotation"),
                data=ours.get("DataOrder"),
                q_place=ours.get("QPlace"),
                q_exponent=ours.get("QExponent"),
                spans=self._whole(wish, "MediaSpanCount", None),
                copies=self._whole(ours, "MirrorMembers", None),
                mixed=ours.get("AllowUnlikeDrives") is True,
                **self._caches(wish, "ahead", "through"),
            ),
        )
        method = self._text(wish, "InitializeMethod", "Skip").lower()
        volumes.create(self.c, volume, "fast" if method == "skip" else method)
        body = self.storing.volume(volume)
        response = self._ok(body, 201)
        response.headers["Location"] = body["@odata.id"]
        return response

    def volume(self, number: int) -> Response:
        return self._ok(self.storing.volume(self._volume(number)))

    def volume_patch(self, number: int) -> Response:
        """The cache policies, and which hot spares are dedicated to it."""
        volume, wish = self._volume(number), self._body()
        unknown = [key for key in wish if key not in ("ReadCachePolicy", "WriteCachePolicy", "Links")]
        if not unknown and set(wish.get("Links", {})) - {"DedicatedSpareDrives"}:
            unknown = ["Links"]
        if unknown or not wish:
            what = f"{unknown[0]} of a volume cannot be changed" if unknown else "the request changes nothing"
            raise Refused(400, names.BASE + "PropertyNotWritable", what, "its cache policies and spares can be")
        if "Links" in wish:
            self._dedicate(volume, self._bays({"Links": {"Drives": wish["Links"]["DedicatedSpareDrives"]}}, none=True))
        chosen = self._caches(wish, volume.read_cache, volume.write_cache)
        volumes.set_caches(self.c, volume, chosen["read_cache"], chosen["write_cache"])
        return self._ok(self.storing.volume(volume))

    def _caches(self, wish: Body, read: str, write: str) -> dict[str, str]:
        """Cache policies as the request says, in the bench's words; an unknown one goes on to be refused there."""
        asked = (self._text(wish, "ReadCachePolicy", READ_POLICIES[read]),
                 self._text(wish, "WriteCachePolicy", WRITE_POLICIES[write]))  # fmt: skip
        known = [{v: k for k, v in table.items()} for table in (READ_POLICIES, WRITE_POLICIES)]
        return {"read_cache": known[0].get(asked[0], asked[0]), "write_cache": known[1].get(asked[1], asked[1])}

    def firmware_disks(self) -> Response:
        found = [self._disks(raid) for raid in self.session.controllers]
        return self._collection("Simple storage", "SimpleStorageCollection", found)

    def firmware_disks_device(self, device: str) -> Response:
        if device not in self.session.controllers:
            raise self._missing()
        return self._ok(self._disks(device))

    def _disks(self, raid: str) -> Body:
        """What the system's own firmware found behind a controller at the last start."""
        there = [d for d in self.session.state.found if d["controller"] == raid]
        return {
            "@odata.id": f"{names.system(self.made.server)}/SimpleStorage/{raid}",
            "@odata.type": "#SimpleStorage.v1_3_2.SimpleStorage",
            "Id": raid,
            "Name": f"Disks behind {raid} as the firmware found them",
            "Status": {"State": "Enabled", "Health": "OK"},
            "Devices": [
                {"Name": d["name"], "CapacityBytes": d["size"], "Status": {"State": "Enabled", "Health": "OK"}}
                for d in there
            ],
            "Links": {"Storage": link(names.storage(self.made.server, raid))},
        }

    def volume_delete(self, number: int) -> Response:
        volume = self._volume(number)
        volumes.delete(self.c, volume)
        return Response(status=204)

    def rebuild_post(self, number: int) -> Response:
        volume = self._volume(number)
        wish = self._body()
        (bay,) = self._bays({"Links": {"Drives": [wish.get("Drive")]}})
        members.rebuild_onto(self.c, volume, bay)
        return Response(status=204)

    def accept_post(self, number: int) -> Response:
        """What a check found is let be: somebody has seen it."""
        volume = self._volume(number)
        volume.accepted = [list(r) for r in union((a, b) for a, b in [*volume.mismatches, *volume.accepted])]
        self.c.event("mismatches accepted", volume=volume.name)
        return Response(status=204)

    def initialize_post(self, number: int) -> Response:
        """Fast clears at once; Slow takes its time, in the foreground unless asked otherwise."""
        volume, wish = self._volume(number), self._body()
        kind = self._text(wish, "InitializeType", "Fast")
        method = self._text(wish, "InitializeMethod", "Foreground").lower()
        if kind not in ("Fast", "Slow"):
            what = f"InitializeType: expected Fast or Slow, found {kind!r}"
            raise Refused(400, names.BASE + "PropertyValueNotInList", what, "use one of these")
        volumes.initialize(self.c, volume, "fast" if kind == "Fast" else method)
        return Response(status=204)

    def force_post(self, number: int) -> Response:
        """The standard's ForceEnable: an offline volume is used with what is seated, even if that loses data."""
        members.force_online(self.c, self._volume(number))
        return Response(status=204)

    def check_post(self, number: int) -> Response:
        volume = self._volume(number)
        repair = self._body(empty=True).get("Oem", {}).get(names.OEM, {}).get("Repair") is True
        self.c.check_writable(volume)
        if not volume.geometry.redundant:
            what = f"volume {volume.name} is {volume.level}: it has no redundancy to check"
            raise Refused(400, names.BASE + "ActionNotSupported", what, "nothing to do")
        for job in self.c.jobs_of(volume):
            if job.kind in ("check", "background"):
                raise WorkRunning(name=volume.name, work=f"{job.kind} work")
        jobs.start_check(self.c, volume, repair)
        return Response(status=204)

    def drive_patch(self, bay: str) -> Response:
        """HotspareType makes a drive a spare, or a free drive again; the identify LED is switched."""
        wish = self._body()
        if "LocationIndicatorActive" in wish:
            if not isinstance(wish["LocationIndicatorActive"], bool):
                what = "LocationIndicatorActive: expected true or false"
                raise Refused(400, names.BASE + "PropertyValueTypeError", what, "use one of these")
            self.c.seated(bay).indicator = wish["LocationIndicatorActive"]
            if len(wish) == 1:
                return self._ok(self.storing.drive(bay))
        self.session.require_power()
        ours = wish.get("Oem", {}).get(names.OEM, {})
        kind = self._text(wish, "HotspareType")
        if kind == "None":
            members.remove_spare(self.c, bay)
        elif kind in ("Global", "Dedicated"):
            serves = [self._volume_at(entry) for entry in ours.get("SpareFor", [])] if kind == "Dedicated" else []
            if kind == "Dedicated" and not serves:
                what = "a dedicated hot spare needs the volumes it is for (Oem SpareFor)"
                raise Refused(400, names.BASE + "PropertyMissing", what, "name them")
            revertible = wish.get("HotspareReplacementMode", "Revertible") == "Revertible"
            members.add_spare(self.c, bay, serves, revertible)
        else:
            what = f"HotspareType: expected None, Global or Dedicated, found {kind!r}"
            raise Refused(400, names.BASE + "PropertyValueNotInList", what, "use one of these")
        return self._ok(self.storing.drive(bay))

    def _dedicate(self, volume: Any, bays: list[str]) -> None:
        """Exactly these drives are dedicated to a volume; each may be to others, too."""
        spares, by_bay = self.c.memory.spares, {self.session.state.drives[s].bay: s for s in self.c.memory.spares}
        for bay in bays:
            spare = spares.get(by_bay.get(bay, ""))
            if spare is None:
                members.add_spare(self.c, bay, [volume], True)
            elif volume.number not in spare.volumes:
                others = [self.c.memory.volumes[n] for n in spare.volumes]
                members.remove_spare(self.c, bay)
                members.add_spare(self.c, bay, [*others, volume], spare.revertible)
        for seat, serial in by_bay.items():
            bay = seat or ""
            if bay and bay not in bays and volume.number in spares[serial].volumes:
                spare = spares[serial]
                others = [self.c.memory.volumes[n] for n in spare.volumes if n != volume.number]
                members.remove_spare(self.c, bay)
                if others:
                    members.add_spare(self.c, bay, others, spare.revertible)

    def _all(self) -> list[StorageResources]:
        return [StorageResources(self.session, c) for c in self.session.controllers.values()]

    def _volume_at(self, entry: object) -> Any:
        path = entry.get("@odata.id") if isinstance(entry, dict) else None
        for volume in self.c.memory.volumes.values():
            if path == names.volume(self.made.server, self.c.facts["id"], volume.number):
                return volume
        raise Refused(
            400, names.BASE + "ResourceMissingAtURI", f"{path!r} is not a volume", "name one of this controller"
        )

    # what requests say --------------------------------------------------------------------------

    def _volume(self, number: int) -> Any:
        if number not in self.c.memory.volumes:
            raise self._missing()
        return self.c.memory.volumes[number]

    def _bays(self, wish: Body, none: bool = False) -> list[str]:
        links = wish.get("Links")
        drives = links.get("Drives") if isinstance(links, dict) else None
        if not isinstance(drives, list) or not (drives or none):
            raise Refused(400, names.BASE + "PropertyMissing", "the request names no drives (Links.Drives)")
        start = names.drive(self.made.server, self.c.facts["id"], "")
        bays = []
        for entry in drives:
            path = entry.get("@odata.id") if isinstance(entry, dict) else None
            if not isinstance(path, str) or not path.startswith(start):
                what = f"Links.Drives: {path!r} is not a drive of controller {self.c.facts['id']}"
                raise Refused(400, names.BASE + "ResourceMissingAtURI", what)
            bays.append(path.removeprefix(start))
        return bays
