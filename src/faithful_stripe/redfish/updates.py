"""The answers about firmware versions: the inventory, the update service, and the tasks that updates are."""

from __future__ import annotations

import time
from typing import Any

import httpx
from werkzeug.wrappers import Request, Response

from ..bench import updating
from ..bench.clock import iso
from ..bench.state import Update
from . import names
from .answers import Refused, wish_of
from .names import Body, link
from .prepare import PrepareHandler

SERVICE = names.ROOT + "UpdateService"
INVENTORY = SERVICE + "/FirmwareInventory"
TASKS = names.ROOT + "TaskService"
MOST_BYTES = 256 << 20
"""Of a package that is pushed or fetched."""
FETCH_SECONDS = 60.0
"""For the whole of a package that is fetched."""

_STATES = {"Running": "Running", "Waiting": "Completed", "Completed": "Completed", "Exception": "Exception"}


class UpdateHandler(PrepareHandler):
    """One method per route, `_post` after its name. `fetched`: what was fetched before the bench was held."""

    fetched = b""

    def update_service(self) -> Response:
        action = SERVICE + "/Actions/UpdateService.SimpleUpdate"
        return self._ok({
            "@odata.id": SERVICE,
            "@odata.type": "#UpdateService.v1_14_0.UpdateService",
            "Id": "UpdateService",
            "Name": "Firmware updates",
            "ServiceEnabled": True,
            "Status": {"State": "Enabled", "Health": "OK"},
            "FirmwareInventory": link(INVENTORY),
            "MultipartHttpPushUri": SERVICE + "/push",
            "MaxImageSizeBytes": MOST_BYTES,
            "Actions": {
                "#UpdateService.SimpleUpdate": {
                    "target": action,
                    "TransferProtocol@Redfish.AllowableValues": ["HTTP", "HTTPS"],
                }
            },
        })  # fmt: skip

    def inventory(self) -> Response:
        parts = [self._part(part) for part in updating.inventory(self.session.state)]
        return self._collection("Firmware inventory", "SoftwareInventoryCollection", parts)

    def inventory_part(self, part: str) -> Response:
        return self._ok(self._part(updating.part_named(self.session.state, part)))

    def _part(self, part: updating.Part) -> Body:
        state, server = self.session.state, self.made.server
        related = names.system(server)
        if part.controller:
            related = names.storage(server, part.controller) + "/Controllers/" + part.controller
        elif part.serial:
            bay = str(state.drives[part.serial].bay)
            related = names.drive(server, self.session.controller_at(bay).facts["id"], bay)
        return {
            "@odata.id": f"{INVENTORY}/{part.name}",
            "@odata.type": "#SoftwareInventory.v1_10_2.SoftwareInventory",
            "Id": part.name,
            "Name": part.what,
            "Version": part.version,
            "Updateable": True,
            "Status": {"State": "Enabled", "Health": "OK"},
            "RelatedItem": [link(related)],
            "Oem": {names.OEM: {"WaitingVersion": updating.waiting(state, part.name) or None}},
        }

    def push_post(self) -> Response:
        """A package and its parameters as one multipart request (DSP0266 12.6)."""
        parameters = self.request.form.get("UpdateParameters", "") or _text_of(self.request.files, "UpdateParameters")
        file = self.request.files.get("UpdateFile")
        wish = wish_of(parameters or "{}", "UpdateParameters")
        if file is None:
            raise Refused(400, names.BASE + "PropertyMissing", "the request has no UpdateFile", "send it as multipart")
        return self._begin(file.read(MOST_BYTES), wish)

    def simple_update_post(self) -> Response:
        """Begin with the package that was fetched."""
        return self._begin(self.fetched, self._body())

    def _begin(self, data: bytes, wish: Body) -> Response:
        self.require_on()
        targets = wish.get("Targets") or []
        if not isinstance(targets, list) or not all(isinstance(t, str) for t in targets):
            raise Refused(400, names.BASE + "PropertyValueTypeError", "Targets: expected a list of paths")
        made = updating.begin(self.session, data, [t.rpartition("/")[2] for t in targets])
        return self._monitored(made[0])

    def require_on(self) -> None:
        """Raise Refused while the server is off."""
        if not self.session.state.power:
            raise Refused(409, names.BASE + "ResourceInStandby", "the server is off", "switch it on first")

    # tasks --------------------------------------------------------------------------------------

    def task_service(self) -> Response:
        return self._ok({
            "@odata.id": TASKS,
            "@odata.type": "#TaskService.v1_2_1.TaskService",
            "Id": "TaskService",
            "Name": "Tasks",
            "ServiceEnabled": True,
            "Status": {"State": "Enabled", "Health": "OK"},
            "Tasks": link(TASKS + "/Tasks"),
        })  # fmt: skip

    def tasks(self) -> Response:
        tasks = [self._task(u) for u in self.session.state.updates.values()]
        return self._collection("Tasks", "TaskCollection", tasks)

    def task(self, number: int) -> Response:
        return self._ok(self._task(self._update(number)))

    def monitor(self, number: int) -> Response:
        """202 while the update runs, then its outcome; parts of one package are one task to wait for."""
        return self._monitored(self._update(number))

    def _monitored(self, first: Update) -> Response:
        together = [u for u in self.session.state.updates.values() if u.began == first.began]
        current = next((u for u in together if u.state == "Running"), first)
        failed = [u for u in together if u.state == "Exception"]
        if current.state != "Running" and failed:
            what = f"writing firmware {failed[0].version} to {failed[0].part} was broken off"
            raise Refused(500, "Update.1.1.ApplyFailed", what, "the firmware it had still runs; update it again")
        response = self._ok(self._task(current), 202 if current.state == "Running" else 200)
        if current.state == "Running":
            response.headers["Location"] = f"{TASKS}/TaskMonitors/{first.number}"
            response.headers["Retry-After"] = "1"
        return response

    def _update(self, number: int) -> Update:
        if number not in self.session.state.updates:
            raise self._missing()
        return self.session.state.updates[number]

    def _task(self, update: Update) -> Body:
        state = _STATES[update.state]
        message: dict[str, Any] = {
            "MessageId": "Update.1.1.AwaitToActivate"
            if update.state == "Waiting"
            else "Update.1.1.InstallingOnComponent",
            "Message": f"firmware {update.version} of {update.part} runs from the next restart on"
            if update.state == "Waiting"
            else f"firmware {update.version} for {update.part}",
        }
        return {
            "@odata.id": f"{TASKS}/Tasks/{update.number}",
            "@odata.type": "#Task.v1_7_4.Task",
            "Id": str(update.number),
            "Name": f"Firmware update of {update.part} to {update.version}",
            "TaskState": state,
            "TaskStatus": "Critical" if state == "Exception" else "OK",
            "PercentComplete": updating.percent(update, self.session.clock.now()),
            "StartTime": iso(update.began),
            **({} if state == "Running" else {"EndTime": iso(update.until)}),
            "TaskMonitor": f"{TASKS}/TaskMonitors/{update.number}",
            "Messages": [message],
        }


def fetch(request: Request) -> bytes:
    """The package that a SimpleUpdate request names, fetched. The bench is not held meanwhile. Raises Refused."""
    address = wish_of(request.get_data()).get("ImageURI")
    if not isinstance(address, str):
        raise Refused(400, names.BASE + "PropertyMissing", "the request has no property ImageURI", "give it")
    if not address.startswith(("http://", "https://")):
        what = f"ImageURI {address!r} is fetched by HTTP or HTTPS only"
        raise Refused(400, names.BASE + "ActionParameterNotSupported", what, "offer the file there")
    data, until = bytearray(), time.monotonic() + FETCH_SECONDS
    try:
        with httpx.stream("GET", address, timeout=FETCH_SECONDS, trust_env=False) as answer:
            answer.raise_for_status()
            for piece in answer.iter_raw():
                data += piece
                if len(data) > MOST_BYTES or time.monotonic() > until:
                    raise httpx.HTTPError(f"more than {MOST_BYTES} bytes, or {FETCH_SECONDS:g} s")
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as reason:  # a name that is none, too
        what = f"nothing could be fetched from {address} ({reason})"
        raise Refused(400, "Update.1.1.TransferFailed", what, "check the address") from reason
    return bytes(data)


def _text_of(files: Any, name: str) -> str:
    part = files.get(name)
    return part.read().decode("utf-8", "replace") if part else ""
