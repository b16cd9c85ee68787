"""A bench as a Redfish service: a WSGI application, one bench session per request."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterable
from typing import Any

from werkzeug.exceptions import HTTPException, MethodNotAllowed, NotFound
from werkzeug.routing import Map, MapAdapter, Rule
from werkzeug.test import EnvironBuilder
from werkzeug.wrappers import Request, Response

from ..bench.bench import Bench
from ..bench.errors import BenchError, ControllerRefusal
from ..bench.hands import Hands
from ..core.arrays.levels import GeometryError
from ..core.errors import StripeError
from . import names
from .answers import Refused
from .handlers import Handler
from .names import link
from .prepare import REGISTRY
from .updates import fetch

_ROUTES: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("/redfish", "versions", ("GET",)),
    ("/redfish/v1", "root", ("GET",)),
    ("/redfish/v1/", "root", ("GET",)),
    ("/redfish/v1/odata", "odata", ("GET",)),
    ("/redfish/v1/$metadata", "metadata", ("GET",)),
    ("/redfish/v1/AccountService", "accounts", ("GET",)),
    ("/redfish/v1/AccountService/Roles", "roles", ("GET",)),
    ("/redfish/v1/AccountService/Roles/<role>", "role", ("GET",)),
    ("/redfish/v1/Systems", "systems", ("GET",)),
    ("/redfish/v1/Systems/<system>", "system", ("GET", "PATCH")),
    ("/redfish/v1/Systems/<system>/Actions/ComputerSystem.Reset", "reset", ("POST",)),
    ("/redfish/v1/Systems/<system>/Bios", "bios", ("GET",)),
    ("/redfish/v1/Systems/<system>/Bios/Settings", "bios_settings", ("GET", "PATCH")),
    ("/redfish/v1/Systems/<system>/Bios/Actions/Bios.ResetBios", "bios_reset", ("POST",)),
    ("/redfish/v1/Systems/<system>/BootOptions", "boot_options", ("GET",)),
    ("/redfish/v1/Systems/<system>/BootOptions/<int:number>", "boot_option", ("GET",)),
    ("/redfish/v1/Systems/<system>/PCIeDevices", "pcie_devices", ("GET",)),
    ("/redfish/v1/Systems/<system>/PCIeDevices/<device>", "pcie_device", ("GET",)),
    ("/redfish/v1/Systems/<system>/PCIeDevices/<device>/PCIeFunctions", "pcie_functions", ("GET",)),
    ("/redfish/v1/Systems/<system>/PCIeDevices/<device>/PCIeFunctions/0", "pcie_function", ("GET",)),
    ("/redfish/v1/Registries", "registries", ("GET",)),
    (f"/redfish/v1/Registries/{REGISTRY}", "registry_file", ("GET",)),
    (f"/redfish/v1/Registries/{REGISTRY}/registry", "registry", ("GET",)),
    ("/redfish/v1/UpdateService", "update_service", ("GET",)),
    ("/redfish/v1/UpdateService/FirmwareInventory", "inventory", ("GET",)),
    ("/redfish/v1/UpdateService/FirmwareInventory/<part>", "inventory_part", ("GET",)),
    ("/redfish/v1/UpdateService/push", "push", ("POST",)),
    ("/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate", "simple_update", ("POST",)),
    ("/redfish/v1/TaskService", "task_service", ("GET",)),
    ("/redfish/v1/TaskService/Tasks", "tasks", ("GET",)),
    ("/redfish/v1/TaskService/Tasks/<int:number>", "task", ("GET",)),
    ("/redfish/v1/TaskService/TaskMonitors/<int:number>", "monitor", ("GET",)),
    ("/redfish/v1/Systems/<system>/SimpleStorage", "firmware_disks", ("GET",)),
    ("/redfish/v1/Systems/<system>/SimpleStorage/<device>", "firmware_disks_device", ("GET",)),
    ("/redfish/v1/Systems/<system>/Storage", "storages", ("GET",)),
    ("/redfish/v1/Systems/<system>/Storage/<raid>", "storage", ("GET",)),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Controllers", "controllers", ("GET",)),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Controllers/<controller>", "controller", ("GET", "PATCH")),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Drives/Bay-<bay>", "drive", ("GET", "PATCH")),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Drives/Bay-<bay>/EnvironmentMetrics", "environment", ("GET",)),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Drives/Bay-<bay>/Metrics", "metrics", ("GET",)),
    (f"/redfish/v1/Systems/<system>/Storage/<raid>/Actions/Oem/{names.OEM}.Adopt", "adopt", ("POST",)),
    (f"/redfish/v1/Systems/<system>/Storage/<raid>/Actions/Oem/{names.OEM}.Forget", "forget", ("POST",)),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Volumes", "volumes", ("GET", "POST")),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Volumes/Members", "volumes", ("POST",)),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Volumes/Capabilities", "volume_capabilities", ("GET",)),
    ("/redfish/v1/Systems/<system>/Storage/<raid>/Volumes/<int:number>", "volume", ("GET", "PATCH", "DELETE")),
    (
        f"/redfish/v1/Systems/<system>/Storage/<raid>/Volumes/<int:number>/Actions/Oem/{names.OEM}.Rebuild",
        "rebuild",
        ("POST",),
    ),
    (
        f"/redfish/v1/Systems/<system>/Storage/<raid>/Volumes/<int:number>/Actions/Oem/{names.OEM}.AcceptInconsistent",
        "accept",
        ("POST",),
    ),
    (
        "/redfish/v1/Systems/<system>/Storage/<raid>/Volumes/<int:number>/Actions/Volume.CheckConsistency",
        "check",
        ("POST",),
    ),
    (
        "/redfish/v1/Systems/<system>/Storage/<raid>/Volumes/<int:number>/Actions/Volume.ForceEnable",
        "force",
        ("POST",),
    ),
    (
        "/redfish/v1/Systems/<system>/Storage/<raid>/Volumes/<int:number>/Actions/Volume.Initialize",
        "initialize",
        ("POST",),
    ),
    ("/redfish/v1/Systems/<system>/LogServices", "log_services", ("GET",)),
    ("/redfish/v1/Systems/<system>/LogServices/Events", "log_service", ("GET",)),
    ("/redfish/v1/Systems/<system>/LogServices/Events/Entries", "entries", ("GET",)),
    ("/redfish/v1/Systems/<system>/LogServices/Events/Entries/<int:number>", "entry", ("GET",)),
    ("/redfish/v1/Chassis", "chassis_all", ("GET",)),
    ("/redfish/v1/Chassis/<chassis>", "chassis", ("GET",)),
    ("/redfish/v1/Chassis/<chassis>/Drives", "chassis_drives", ("GET",)),
    ("/redfish/v1/Managers", "managers", ("GET",)),
    ("/redfish/v1/Managers/<manager>", "manager", ("GET",)),
)
_MAP = Map(
    [
        Rule(path.replace("<int:", "<int(max=999999999):"), endpoint=name, methods=methods)
        for path, name, methods in _ROUTES
    ],
    strict_slashes=False,
)


QUERIES = ("$expand", "$select", "$skip", "$top")
"""OData's query parameters that are served, beside `only`."""

_ARGUMENTS = ("bay", "number", "device", "part", "role")
"""Parts of a path that a handler's method takes; what the others name is checked before."""


class Service:
    """The WSGI application. Holds the bench only while it answers, one request at a time."""

    def __init__(self, bench: Bench) -> None:
        self.bench, self._lock = bench, threading.Lock()

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        request = Request(environ)
        try:
            response = self._answer(request)
        except (NotFound, MethodNotAllowed) as reason:
            response = _http_error(request, reason)
        except HTTPException as reason:
            response = _error(reason.code or 400, names.BASE + "GeneralError", reason.description or "refused", "")
        except Refused as refusal:
            response = _error(refusal.status, refusal.message, refusal.what, refusal.to_do)
        except ControllerRefusal as refusal:
            response = _error(refusal.status, refusal.message_id, refusal.what, refusal.to_do)
        except GeometryError as refusal:
            response = _error(400, "FaithfulStripe.1.0.NoSuchLayout", refusal.what, refusal.to_do)
        except BenchError as trouble:
            response = _error(500, names.BASE + "InternalError", trouble.what, trouble.to_do)
        except StripeError as trouble:
            response = _error(500, names.BASE + "InternalError", trouble.what, trouble.to_do)
        request.close()
        response.headers["OData-Version"] = "4.0"
        response.headers["Cache-Control"] = "no-cache"
        return response(environ, start_response)

    def _answer(self, request: Request) -> Response:
        adapter = _MAP.bind_to_environ(request.environ)
        endpoint, arguments = adapter.match()
        check_protocol(request)
        fetched = fetch(request) if endpoint == "simple_update" else b""
        request.get_data(cache=True, parse_form_data=endpoint == "push")
        with self._lock, self.bench.session() as session:
            handler = Handler(session, request)
            handler.fetched = fetched
            handler.check_path(**arguments)
            method = "" if request.method in ("GET", "HEAD") else "_" + request.method.lower()
            wanted = {k: v for k, v in arguments.items() if k in _ARGUMENTS}
            if method in ("_patch", "_delete") and request.headers.get("If-Match", "*") != "*":
                unchanged(request, getattr(handler, endpoint)(**wanted).headers.get("ETag"))
            response: Response = getattr(handler, endpoint + method)(**wanted)
            if not method:
                response.headers["Allow"] = ", ".join(sorted(adapter.allowed_methods()))
            if not method and response.status_code == 200 and not response.is_streamed:
                self._shape(session, adapter, request, response)
            return response

    def _shape(self, session: Hands, adapter: MapAdapter, request: Request, response: Response) -> None:
        """An answer as its query asks for it (DSP0266 7.3): the only member of a collection, expanded, or with some of
        its properties."""
        if "only" in request.args:
            members = json.loads(response.get_data()).get("Members")
            if not isinstance(members, list):
                what = f"{request.path} is no collection: it has no only member"
                raise Refused(400, names.BASE + "QueryNotSupportedOnResource", what, "leave only out")
            if len(members) == 1:
                response.set_data(json.dumps(self._whole(session, adapter, members[0]["@odata.id"])))
        if request.args.get("$expand"):
            self._expand(session, adapter, response)
        if "$select" in request.args:
            wanted = {word.strip().split("/")[0] for word in request.args["$select"].split(",")}
            told = json.loads(response.get_data())
            told = {n: v for n, v in told.items() if n in wanted or n.startswith("@odata.") or n == "Members"}
            response.set_data(json.dumps(told))

    def _whole(self, session: Hands, adapter: MapAdapter, path: str) -> Any:
        """What a resource tells; only its link where that cannot be read."""
        try:
            endpoint, arguments = adapter.match(path, "GET")
        except HTTPException:
            return link(path)
        handler = Handler(session, Request(EnvironBuilder(path=path).get_environ()))
        handler.check_path(**arguments)
        wanted = {k: v for k, v in arguments.items() if k in _ARGUMENTS}
        return json.loads(getattr(handler, endpoint)(**wanted).get_data())

    def _expand(self, session: Hands, adapter: MapAdapter, response: Response) -> None:
        """Put what a resource refers to, but for its `Links`, into its answer (DSP0266 7.3, `.` with one level)."""

        def expanded(value: Any, name: str = "") -> Any:
            if isinstance(value, list):
                return [expanded(v, name) for v in value]
            if not isinstance(value, dict) or name in ("Links", "Oem", "Actions") or name.startswith("@"):
                return value
            if list(value) == ["@odata.id"] and "#" not in value["@odata.id"]:
                return self._whole(session, adapter, value["@odata.id"])
            return {n: expanded(v, n) for n, v in value.items()}

        body = json.loads(response.get_data())
        if "Members" not in body:  # those expand themselves
            response.set_data(json.dumps({n: expanded(v, n) for n, v in body.items()}))


def unchanged(request: Request, now: str | None) -> None:
    """Raise Refused for a change of something that is not any more as whoever asks has read it; now: its ETag."""
    if now not in [tag.strip() for tag in request.headers["If-Match"].split(",")]:
        what = f"{request.path} has changed since it was read"
        raise Refused(412, names.BASE + "PreconditionFailed", what, "read it again, then decide")


def check_protocol(request: Request) -> None:
    """Raise Refused for another OData version than 4.0, and for query parameters of OData that are not served."""
    version = request.headers.get("OData-Version", "4.0")
    if version != "4.0":
        what = f"OData-Version {version} is not spoken here"
        raise Refused(412, names.BASE + "PreconditionFailed", what, "ask for 4.0")
    strange = [key for key in request.args if key.startswith("$") and key not in QUERIES]
    if strange:
        what = f"the query parameter {strange[0]} is not served"
        raise Refused(501, names.BASE + "QueryNotSupported", what, "leave it out")
    if "only" in request.args and (request.args["only"] or len(request.args) > 1):
        what = "the query parameter only has no value, and stands alone"
        raise Refused(400, names.BASE + "QueryCombinationInvalid", what, "ask for only, or for the others")
    if "$select" in request.args and not request.args["$select"].strip():
        what = "the query parameter $select names no property"
        raise Refused(400, names.BASE + "QueryParameterValueFormatError", what, "name some")


def _error(status: int, message_id: str, what: str, to_do: str) -> Response:
    entry = {
        "@odata.type": "#Message.v1_2_1.Message",
        "MessageId": message_id,
        "Message": what,
        "MessageArgs": [],
        "MessageSeverity": "Critical" if status >= 500 else "Warning",
        "Resolution": to_do or "None.",
    }
    body = {"error": {"code": message_id, "message": what, "@Message.ExtendedInfo": [entry]}}
    return Response(json.dumps(body), status, content_type="application/json; charset=utf-8")


def _http_error(request: Request, reason: HTTPException) -> Response:
    if isinstance(reason, MethodNotAllowed):
        response = _error(
            405, names.BASE + "ActionNotSupported", f"{request.method} is not possible at {request.path}", ""
        )
        response.headers["Allow"] = ", ".join(sorted(reason.valid_methods or ()))
        return response
    return _error(404, names.BASE + "ResourceMissingAtURI", f"there is nothing at {request.path}", "")
