"""Servers as others build them: trees of standard properties, of a chosen year, size and spelling, wrong in places."""

from __future__ import annotations

import copy
import random
from typing import Any

from .standard import ROOT, Tree, ref

OLD = {"RAID1": "Mirrored", "RAID5": "StripedWithParity", "RAID10": "SpannedMirrors", "RAID0": "NonRedundant",
       "RAID50": "SpannedStripesWithParity"}  # fmt: skip
MEMBERS = {"RAID0": 2, "RAID1": 2, "RAID5": 3, "RAID6": 4, "RAID10": 4, "RAID50": 6}
WRONG: tuple[Any, ...] = (
    None,
    True,
    -1,
    1e400,
    "",
    "?",
    "\x1b[2J",
    [],
    {},
    [None],
    {"a": {}},
    10**30,
    "null",
    float("nan"),
)
BAD = ("Warning", "Critical")


def status(rng: random.Random, state: str = "Enabled", year: int = 2020) -> Any:
    health = rng.choice(("OK",) * 30 + BAD)
    made: dict[str, Any] = {"State": state, "Health": health}
    if rng.random() < 0.3:
        made["HealthRollup"] = health if health != "OK" else rng.choice(("OK",) * 20 + BAD)
    return made


class Maker:
    """One server: `year` decides the words, `style` the spelling of addresses."""

    def __init__(self, rng: random.Random) -> None:
        self.rng, self.year = rng, rng.choice((2016, 2018, 2020, 2022, 2024))
        self.style, self.pages = rng.choice(("plain", "dotted", "uuid")), dict[str, Any]()

    def name(self, kind: str, number: int) -> str:
        return {"plain": f"{number}", "dotted": f"{kind}.Embedded.1-{number}",
                "uuid": f"00000000-0000-4000-8000-{number:012}"}[self.style]  # fmt: skip

    def collect(self, path: str, members: list[str]) -> dict[str, str]:
        body = {"@odata.id": path, "Members": [ref(m) for m in members]}
        if self.rng.random() < 0.8:
            body["Members@odata.count"] = len(members)
        if len(members) > 3 and self.rng.random() < 0.2:
            body["Members"], rest = body["Members"][:2], body["Members"][2:]
            body["Members@odata.nextLink"] = f"{path}/more"
            self.pages[f"{path}/more"] = {"@odata.id": path, "Members": rest}
        self.pages[path] = body
        return ref(path)

    def make(self) -> Tree:
        rng, root = self.rng, {"@odata.id": ROOT, "RedfishVersion": "1.6.0"}
        systems = [self.system(n) for n in range(rng.choice((1, 1, 1, 2)))]
        root["Systems"] = self.collect(f"{ROOT}/Systems", systems)
        boxes = [p for p in self.pages if "/Chassis/" in p and p.count("/") == 4]
        root["Chassis"] = self.collect(f"{ROOT}/Chassis", boxes)
        manager = f"{ROOT}/Managers/{self.name('Manager', 1)}"
        self.pages[manager] = {"@odata.id": manager, "Id": "m", "Status": status(rng), "DateTime": rng.choice(
            ("2026-11-29T04:00:00Z", "2026-11-29T04:00:00.123456+01:00", "2026-11-29T04:00:00"))}  # fmt: skip
        if rng.random() < 0.5:
            self.log(manager)
        root["Managers"] = self.collect(f"{ROOT}/Managers", [manager])
        self.pages[ROOT] = root
        return Tree(self.pages)

    def system(self, number: int) -> str:
        rng, path = self.rng, f"{ROOT}/Systems/{self.name('System', number)}"
        body: dict[str, Any] = {"@odata.id": path, "Id": str(number), "Name": f"s{number}", "PowerState": "On",
                                "Status": status(rng), "SerialNumber": f"S{number}"}  # fmt: skip
        box = f"{ROOT}/Chassis/{self.name('Chassis', number)}"
        self.pages[box] = {"@odata.id": box, "Id": f"c{number}", "Status": status(rng), "Links": {"Drives": []}}
        storages = [self.storage(path, box, n) for n in range(rng.choice((1, 1, 2)))]
        body["Storage"] = self.collect(f"{path}/Storage", storages)
        if rng.random() < 0.5:
            body["Links"] = {"Chassis": [ref(box)], "ManagedBy": [ref(f"{ROOT}/Managers/{self.name('Manager', 1)}")]}
        if rng.random() < 0.4:
            self.log(path)
            body["LogServices"] = ref(f"{path}/LogServices")
        if rng.random() < 0.3:
            simple = f"{path}/SimpleStorage/1"
            self.pages[simple] = {"@odata.id": simple, "Devices": [{"Name": "v", "CapacityBytes": 4 * 10**12}]}
            body["SimpleStorage"] = self.collect(f"{path}/SimpleStorage", [simple])
        self.pages[path] = body
        return path

    def log(self, owner: str) -> None:
        rng, path = self.rng, f"{owner}/LogServices/Log"
        self.pages[f"{owner}/LogServices"] = {"@odata.id": f"{owner}/LogServices", "Members": [ref(path)]}
        self.pages[path] = {"@odata.id": path, "Id": "Log", "Entries": ref(f"{path}/Entries")}
        entries = [{"@odata.id": f"{path}/Entries/{n}", "Id": str(n), "Created": "2026-11-29T03:00:00Z",
                    "Message": "m", "Severity": rng.choice(("OK", *BAD))} for n in range(3)]  # fmt: skip
        whole = rng.random() < 0.5
        self.pages |= {e["@odata.id"]: e for e in entries}
        self.pages[f"{path}/Entries"] = {
            "@odata.id": f"{path}/Entries", "Members": entries if whole else [ref(e["@odata.id"]) for e in entries]
        }  # fmt: skip
        if "LogServices" not in self.pages.get(owner, {"LogServices": 1}):
            self.pages[owner]["LogServices"] = ref(f"{owner}/LogServices")

    def storage(self, system: str, box: str, number: int) -> str:
        rng, path = self.rng, f"{system}/Storage/{self.name('Storage', number)}"
        level = rng.choice(list(MEMBERS))
        count, extra = MEMBERS[level] + rng.randrange(0, 3) * (1 if level != "RAID1" else 0), rng.randrange(0, 4)
        if level in ("RAID10", "RAID50"):
            count = MEMBERS[level]
        drives = [self.drive(path, box, number * 40 + n) for n in range(count + extra)]
        body: dict[str, Any] = {"@odata.id": path, "Id": f"st{number}", "Drives": [ref(d) for d in drives],
                                "Status": status(rng)}  # fmt: skip
        controller = {"Name": "Card", "Status": status(rng), "SerialNumber": f"C{number}"}
        if self.year >= 2020:
            inner = f"{path}/Controllers/0"
            self.pages[inner] = controller | {"@odata.id": inner, "SupportedRAIDTypes": list(MEMBERS)}
            body["Controllers"] = self.collect(f"{path}/Controllers", [inner])
        else:
            body["StorageControllers"] = [controller | {"@odata.id": f"{path}#/StorageControllers/0", "MemberId": "0"}]
        volume = f"{path}/Volumes/1"
        self.pages[volume] = self.volume(volume, level, drives[:count])
        body["Volumes"] = self.collect(f"{path}/Volumes", [volume])
        if self.year >= 2022 and rng.random() < 0.4:
            pool = f"{path}/StoragePools/1"
            self.pages[pool] = {"@odata.id": pool, "CapacitySources": [{"ProvidingDrives": [ref(d) for d in drives]}]}
            body["StoragePools"] = self.collect(f"{path}/StoragePools", [pool])
        self.pages[path] = body
        return path

    def volume(self, path: str, level: str, drives: list[str]) -> dict[str, Any]:
        rng = self.rng
        body: dict[str, Any] = {"@odata.id": path, "Id": "1", "Name": "v", "CapacityBytes": 4 * 10**12,
                                "Status": status(rng), "Links": {}}  # fmt: skip
        if self.year >= 2020 or level not in OLD:
            body["RAIDType"] = level
        else:
            body["VolumeType"] = OLD[level]
        how = rng.choice(("volume", "drive", "both", "sources", "neither"))
        if how in ("volume", "both"):
            body["Links"]["Drives"] = [ref(d) for d in drives]
        if how == "sources":
            body["CapacitySources"] = [{"ProvidingDrives": [ref(d) for d in drives]}]
        for d in drives if how in ("drive", "both") else []:
            self.pages[d]["Links"]["Volumes"] = [ref(path)]
        return body

    def drive(self, storage: str, box: str, number: int) -> str:
        rng, path = self.rng, f"{storage}/Drives/{self.name('Drive', number)}"
        body: dict[str, Any] = {
            "@odata.id": path, "Id": str(number), "Name": f"Drive {number}", "SerialNumber": f"SN{storage[-1]}{number}",
            "CapacityBytes": 4 * 10**12, "MediaType": "HDD", "Protocol": "SAS", "Status": status(rng), "Links": {},
        }  # fmt: skip
        place = rng.choice(("new", "old", "none"))
        if place == "new":
            body["PhysicalLocation"] = {
                "PartLocation": {"ServiceLabel": f"Bay {number}", "LocationOrdinalValue": number}
            }
        elif place == "old":
            body["Location"] = [{"Info": str(number)}]
        body["IndicatorLED" if self.year < 2020 else "LocationIndicatorActive"] = "Off" if self.year < 2020 else False
        if rng.random() < 0.5:
            body["Links"]["Chassis"] = ref(box)
        if rng.random() < 0.5:
            self.pages[box]["Links"]["Drives"].append(ref(path))
        if rng.random() < 0.05:
            body["FailurePredicted"] = True
        self.pages[path] = body
        return path


def spoilt(rng: random.Random, made: Tree, share: float) -> Tree:
    """A tree with some of its values of another kind, and some of its pages refused; none of what tells a trouble."""
    pages = copy.deepcopy(made.pages)

    def change(value: Any, name: str = "") -> Any:
        if name in ("Status", "@odata.id") or (name == "FailurePredicted"):
            return value
        if rng.random() < share and name not in ("Members", "Systems", "Storage", "Drives", "Volumes", "Controllers",
                                                 "StorageControllers", "Chassis", "Links", "Managers"):  # fmt: skip
            return rng.choice(WRONG)
        if isinstance(value, dict):
            return {n: change(v, n) for n, v in value.items()}
        return [change(v, name) for v in value] if isinstance(value, list) else value

    for path, body in pages.items():
        pages[path] = change(body)
        if path != ROOT and rng.random() < share / 4:
            pages[path] = rng.choice((404, 403, 500, 501))
    return Tree(pages)


def troubled(made: Tree) -> list[str]:
    """The resources that tell of a trouble, or cannot be read."""
    found = []
    for path, body in made.pages.items():
        if isinstance(body, int):
            found.append(path)
            continue
        told = [body, *(body.get("StorageControllers") or [])] if isinstance(body, dict) else []
        for one in told:
            health = one.get("Status") or {} if isinstance(one, dict) else {}
            if set(BAD) & {health.get("Health"), health.get("HealthRollup")} or one.get("FailurePredicted") is True:
                found.append(path)
    return [p for p in found if not any(part in p for part in ("/LogServices", "/SimpleStorage", "/StoragePools"))]
