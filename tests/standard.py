"""Servers that tell standard Redfish properties only, as trees of resources: made to order, and served over https."""

from __future__ import annotations

import json
import threading
from contextlib import contextmanager

from werkzeug.wrappers import Request, Response

from faithful_stripe.redfish.listening import Listener
from faithful_stripe.redfish.serving import certificate

TB4 = 4 * 10**12
ROOT = "/redfish/v1"
SYSTEM, STORAGE, CHASSIS = f"{ROOT}/Systems/1", f"{ROOT}/Systems/1/Storage/A", f"{ROOT}/Chassis/box"
VOLUME = f"{STORAGE}/Volumes/1"


def ref(path):
    return {"@odata.id": path}


def collection(path, members):
    return {
        "@odata.id": path,
        "Name": "Members",
        "Members": [ref(m) for m in members],
        "Members@odata.count": len(members),
    }


def drive_path(number):
    return f"{STORAGE}/Drives/{number}"


class Tree:
    """Resources by path. `sent`: every change as (method, path, body); an application of its own for WSGI."""

    def __init__(self, pages):
        self.pages, self.sent = pages, []

    def __getitem__(self, path):
        return self.pages[path]

    def __call__(self, environ, start_response):
        request = Request(environ)
        path = request.path.rstrip("/") if request.path.rstrip("/") != ROOT else ROOT
        body = self.pages.get(path)
        if request.method != "GET":
            wish = json.loads(request.get_data() or b"{}")
            self.sent.append((request.method, path, wish))
            if body is not None and request.method == "PATCH":
                body.update(wish)
        if body is None:
            return Response("{}", 404)(environ, start_response)
        if isinstance(body, int):
            return Response("{}", body)(environ, start_response)
        return Response(json.dumps(body), 200, content_type="application/json")(environ, start_response)


def tree(members=4, level=("RAIDType", "RAID5"), linked="both", bad=(), health="OK", name="data", size=None, extra=1):
    """A server with one volume on its first drives, `extra` free ones behind them, and its parts all well.

    level   the property that tells the level, and its value; None for neither
    linked  which side tells who is a member: "volume", "drive" or "both"
    bad     numbers of drives that are offline
    """
    pages = {
        ROOT: {"@odata.id": ROOT, "Systems": ref(f"{ROOT}/Systems"), "Chassis": ref(f"{ROOT}/Chassis"),
               "Managers": ref(f"{ROOT}/Managers")},
        f"{ROOT}/Systems": collection(f"{ROOT}/Systems", [SYSTEM]),
        SYSTEM: {"@odata.id": SYSTEM, "Id": "1", "Name": "plain-1", "PowerState": "On", "SerialNumber": "P1",
                 "Status": {"State": "Enabled", "Health": "OK"}, "Storage": ref(f"{SYSTEM}/Storage")},
        f"{SYSTEM}/Storage": collection(f"{SYSTEM}/Storage", [STORAGE]),
        STORAGE: {"@odata.id": STORAGE, "Id": "A", "Drives": [ref(drive_path(i)) for i in range(members + extra)],
                  "Volumes": ref(f"{STORAGE}/Volumes"), "Status": {"State": "Enabled", "Health": "OK"},
                  "StorageControllers": [{"@odata.id": f"{STORAGE}#/StorageControllers/0", "Name": "Card",
                                          "Status": {"State": "Enabled", "Health": "OK"}}]},
        f"{STORAGE}/Volumes": collection(f"{STORAGE}/Volumes", [VOLUME]),
        VOLUME: {"@odata.id": VOLUME, "Id": "1", "Name": name, "CapacityBytes": size or (members - 1) * TB4,
                 "Status": {"State": "Enabled", "Health": health}, "Links": {}},
        f"{ROOT}/Chassis": collection(f"{ROOT}/Chassis", [CHASSIS]),
        CHASSIS: {"@odata.id": CHASSIS, "Id": "box", "Status": {"State": "Enabled", "Health": "OK"}},
        f"{ROOT}/Managers": collection(f"{ROOT}/Managers", []),
    }  # fmt: skip
    if level:
        pages[VOLUME][level[0]] = level[1]
    if linked in ("volume", "both"):
        pages[VOLUME]["Links"]["Drives"] = [ref(drive_path(i)) for i in range(members)]
    for i in range(members + extra):
        body = {
            "@odata.id": drive_path(i), "Id": str(i), "Name": f"Drive {i}", "SerialNumber": f"SN{i}", "Model": "M",
            "CapacityBytes": TB4, "MediaType": "HDD", "Protocol": "SAS", "BlockSizeBytes": 512,
            "Status": {"State": "Enabled", "Health": "OK"}, "IndicatorLED": "Off",
            "PhysicalLocation": {"PartLocation": {"ServiceLabel": str(i)}}, "Links": {"Chassis": ref(CHASSIS)},
        }  # fmt: skip
        if linked in ("drive", "both") and i < members:
            body["Links"]["Volumes"] = [ref(VOLUME)]
        if i in bad:
            body["Status"] = {"State": "UnavailableOffline", "Health": "Critical"}
        pages[drive_path(i)] = body
    return Tree(pages)


@contextmanager
def at_https(made, folder):
    """Serves a tree; the words of the command line that reach it."""
    folder.mkdir(exist_ok=True)
    running = Listener(made, "127.0.0.1", 0, *certificate(folder, "127.0.0.1"))
    thread = threading.Thread(target=running.serve)
    thread.start()
    try:
        yield "--ca", str(folder / "tls.pem"), "--at", f"https://127.0.0.1:{running.address[1]}"
    finally:
        running.stop()
        thread.join()
