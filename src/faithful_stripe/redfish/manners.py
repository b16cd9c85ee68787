"""Difficult servers: layers over the service that behave as servers are allowed to, or as some do.

Each is a WSGI layer over any Redfish service; the service itself knows nothing of them.
"""

from __future__ import annotations

import io
import itertools
import json
import time
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from werkzeug.test import run_wsgi_app
from werkzeug.wrappers import Request, Response

from . import names

Wsgi = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


class Manner:
    """A layer: `answer` may answer in the service's stead, or change what it answered."""

    def __init__(self, inner: Wsgi) -> None:
        self.inner = inner

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        return self.answer(Request(environ))(environ, start_response)

    def answer(self, request: Request) -> Response:
        return self.inside(request)

    def inside(self, request: Request) -> Response:
        """What the service itself answers."""
        body, status, headers = run_wsgi_app(self.inner, request.environ)
        return Response(b"".join(body), status, headers)


class Paged(Manner):
    """Collections in pages of two members, links only; cannot expand."""

    def answer(self, request: Request) -> Response:
        request.environ["QUERY_STRING"] = "&".join(
            part
            for part in request.query_string.decode("latin-1").split("&")
            if "expand" not in part and "skip=" not in part
        )
        number = request.args.get("$skip", "")
        skip = int(number) if number.isdecimal() and len(number) < 16 and "LogServices" not in request.path else 0
        response = self.inside(request)
        body = _body(response)
        if request.path.rstrip("/") == "/redfish/v1" and body:
            body.pop("ProtocolFeaturesSupported", None)
        elif body and isinstance(body.get("Members"), list) and "LogServices" not in request.path:
            everything = body["Members"]
            body["Members"] = everything[skip : skip + 2]
            if skip + 2 < len(everything):
                body["Members@odata.nextLink"] = f"{request.path}?$skip={skip + 2}"
        return _with(response, body)


class Sparse(Manner):
    """Nothing of our own, and little of what the standard leaves optional."""

    DROPPED = {
        "Oem", "@odata.etag", "StripSizeBytes", "DisplayName", "StatusIndicator", "HotspareReplacementMode",
        "BootProgress", "PCIeDevices", "PhysicalSecurity", "ControllerRates", "EnvironmentMetrics",
        "MultipartHttpPushUri", "SimpleStorage", "ReadCachePolicy", "WriteCachePolicy", "CapableSpeedGbs",
        "NegotiatedSpeedGbs",
    }  # fmt: skip

    def answer(self, request: Request) -> Response:
        response = self.inside(request)
        response.headers.pop("ETag", None)
        return _with(response, _without(_body(response), self.DROPPED))


class Tasks(Manner):
    """Changes are answered by 202 and a monitor; the outcome is read there a little later."""

    def __init__(self, inner: Wsgi) -> None:
        super().__init__(inner)
        self._numbers, self._done = itertools.count(1), dict[str, tuple[float, Response]]()

    def answer(self, request: Request) -> Response:
        if request.path in self._done:
            ready, response = self._done[request.path]
            return response if time.monotonic() >= ready else self._wait(request.path)
        if request.method in ("GET", "HEAD") or "/Sessions" in request.path:
            return self.inside(request)
        path = f"{names.ROOT}TaskService/TaskMonitors/later-{next(self._numbers)}"
        self._done[path] = (time.monotonic() + 0.3, self.inside(request))
        return self._wait(path)

    def _wait(self, path: str) -> Response:
        body = {"@odata.type": "#Task.v1_7_4.Task", "Id": path.rpartition("/")[2], "TaskState": "Running"}
        headers = {"Location": path, "Retry-After": "0"}
        return Response(json.dumps(body), 202, headers, content_type="application/json")


class Tagged(Manner):
    """Wants an ETag with every change."""

    def answer(self, request: Request) -> Response:
        if (
            request.method in ("PATCH", "DELETE")
            and "If-Match" not in request.headers
            and "/Sessions" not in request.path
        ):
            return Response(
                json.dumps({"error": {"code": "Base.1.18.PreconditionRequired", "message": "give an ETag"}}), 428
            )
        request.environ.pop("HTTP_IF_MATCH", None)
        return self.inside(request)


class Busy(Manner):
    """Says 503 to every other request, with Retry-After."""

    def __init__(self, inner: Wsgi) -> None:
        super().__init__(inner)
        self._count = itertools.count(1)

    def answer(self, request: Request) -> Response:
        if next(self._count) % 2:
            return Response(status=503, headers={"Retry-After": "0"})
        return self.inside(request)


class Slow(Manner):
    """Takes its time over every answer."""

    def answer(self, request: Request) -> Response:
        time.sleep(0.05)
        return self.inside(request)


class Lossy(Manner):
    """Carries every creation out, and loses the answer."""

    def answer(self, request: Request) -> Response:
        response = self.inside(request)
        made = request.method == "POST" and response.status_code == 201 and "/Volumes" in request.path
        return lost() if made else response


def refused(name: str) -> Response:
    """A property that a server does not know."""
    entry = {"MessageId": names.BASE + "PropertyUnknown", "Message": f"{name} is not known here", "MessageArgs": [name],
             "RelatedProperties": [f"#/{name}"], "Severity": "Warning", "Resolution": "Leave it out."}  # fmt: skip
    error = {"code": names.BASE + "GeneralError", "message": "see there", "@Message.ExtendedInfo": [entry]}
    return Response(json.dumps({"error": error}), 400, content_type="application/json")


class Strict(Manner):
    """Standard properties only, and refuses what it does not know."""

    HIDDEN = {"Oem", "DisplayName", "@Redfish.CollectionCapabilities", "@Redfish.OperationApplyTimeSupport"}
    KNOWN = {
        "Volumes": {"Name", "RAIDType", "CapacityBytes", "Links", "MediaSpanCount"},
        "Drives": {"LocationIndicatorActive", "HotspareType"},
    }

    def answer(self, request: Request) -> Response:
        wish = _wish(request)
        kind = next((k for k in self.KNOWN if f"/{k}" in request.path and "/Actions/" not in request.path), None)
        if kind and request.method in ("POST", "PATCH"):
            for name in wish:
                if name not in self.KNOWN[kind]:
                    return refused(name)
        if request.method == "POST" and "/Actions/Volume." in request.path:
            for name in set(wish) - {"InitializeType", "InitializeMethod"}:
                return refused(name)
        response = self.inside(request)
        return _with(response, _without(_body(response), self.HIDDEN))


class Old(Manner):
    """Speaks as servers did in 2016: volume types for levels, controllers inside their storage, an LED with a state."""

    HIDDEN = (Sparse.DROPPED | {"HotspareType", "Controllers", "MediaSpanCount", "@Redfish.CollectionCapabilities",
                                "@Redfish.OperationApplyTimeSupport", "ProtocolFeaturesSupported"})  # fmt: skip
    TYPES = {"RAID1": "Mirrored", "RAID5": "StripedWithParity", "RAID10": "SpannedMirrors", "None": "RawDevice",
             "RAID50": "SpannedStripesWithParity"}  # fmt: skip

    def answer(self, request: Request) -> Response:
        wish = _wish(request)
        if request.method == "POST" and request.path.endswith("/Volumes"):
            for name in wish:
                if name not in ("Name", "VolumeType", "CapacityBytes", "Links"):
                    return refused(name)
            levels = {old: level for level, old in self.TYPES.items()}
            wish["RAIDType"] = levels.get(wish.pop("VolumeType", ""), "")
            _wishing(request, wish)
        if request.method == "PATCH" and "/Drives/" in request.path:
            if set(wish) != {"IndicatorLED"}:
                return refused(next(iter(set(wish) - {"IndicatorLED"}), "nothing"))
            _wishing(request, {"LocationIndicatorActive": wish["IndicatorLED"] == "Blinking"})
        request.environ["QUERY_STRING"] = ""
        response = self.inside(request)
        body = _body(response)
        controllers = body.get("Controllers") if isinstance(body, dict) else None
        body = self._older(_without(body, self.HIDDEN))
        if controllers and "Drives" in body:
            path = body["@odata.id"]
            body["StorageControllers"] = [{"@odata.id": f"{path}#/StorageControllers/0", "Name": "Controller",
                                           "Status": {"State": "Enabled", "Health": "OK"}}]  # fmt: skip
        return _with(response, body)

    def _older(self, body: Any) -> Any:
        if isinstance(body, dict):
            if "RAIDType" in body:
                body["VolumeType"] = self.TYPES.get(str(body.pop("RAIDType")), "NonRedundant")
            if "LocationIndicatorActive" in body:
                body["IndicatorLED"] = "Blinking" if body.pop("LocationIndicatorActive") else "Off"
        return body


class Deferring(Manner):
    """Does what changes its storage at its next restart: a task waits until then."""

    def __init__(self, inner: Wsgi) -> None:
        super().__init__(inner)
        self._numbers, self._waiting, self._done = itertools.count(1), dict[str, Request](), dict[str, Response]()

    def answer(self, request: Request) -> Response:
        if request.path in self._done:
            return self._done[request.path]
        if request.path in self._waiting:
            return self._pending(request.path)
        if request.method in ("GET", "HEAD"):
            return self.inside(request)
        if "/Storage/" in request.path:
            path = f"{names.ROOT}TaskService/TaskMonitors/waits-{next(self._numbers)}"
            data = request.get_data()
            request.environ["wsgi.input"] = io.BytesIO(data)
            self._waiting[path] = request
            return self._pending(path)
        if "ComputerSystem.Reset" in request.path:
            for path, waiting in self._waiting.items():
                self._done[path] = self.inside(waiting)
            self._waiting.clear()
        return self.inside(request)

    def _pending(self, path: str) -> Response:
        told = [{"Message": "Waits for a reset of the system."}]
        body = {"@odata.type": "#Task.v1_7_4.Task", "Id": path.rpartition("/")[2], "Name": "Change of storage",
                "TaskState": "Pending", "Messages": told}  # fmt: skip
        headers = {"Location": path, "Retry-After": "0"}
        return Response(json.dumps(body), 202, headers, content_type="application/json")


class Partial(Manner):
    """Does not have a part of what it links to, and says so in different ways."""

    LACKING = {"EnvironmentMetrics": 404, "Metrics": 501, "SimpleStorage": 500, "PCIeDevices": 403, "Boot": 501}

    def answer(self, request: Request) -> Response:
        for part, status in self.LACKING.items():
            if f"/{part}" in request.path and request.method == "GET":
                return Response("{}", status, content_type="application/json")
        return self.inside(request)


class Redirecting(Manner):
    """Sends a reader on from every address to the same one with a slash."""

    def answer(self, request: Request) -> Response:
        if request.method == "GET" and not request.path.endswith("/"):
            query = request.query_string.decode("latin-1")
            return Response(status=308, headers={"Location": f"{request.path}/{'?' + query if query else ''}"})
        return self.inside(request)


def lost() -> Response:
    """An answer that breaks off after its first byte."""
    return Response(_broken(), 201, {"Content-Length": "100"})


def _broken() -> Iterator[bytes]:
    yield b"{"
    raise ConnectionAbortedError("the answer is lost")


MANNERS: dict[str, type[Manner]] = {
    "plain": Manner, "paged": Paged, "sparse": Sparse, "tasks": Tasks, "tagged": Tagged, "busy": Busy, "slow": Slow,
    "lossy": Lossy, "strict": Strict, "old": Old, "partial": Partial, "redirecting": Redirecting,
    "deferring": Deferring,
}  # fmt: skip


def _wish(request: Request) -> Any:
    """What a request says; the request can still be read."""
    data = request.get_data()
    _set(request, data)
    try:
        found = json.loads(data)
    except ValueError:
        return {}
    return found if isinstance(found, dict) else {}


def _wishing(request: Request, wish: Any) -> None:
    """Let a request say something else."""
    _set(request, json.dumps(wish).encode())


def _set(request: Request, data: bytes) -> None:
    request.environ["wsgi.input"], request.environ["CONTENT_LENGTH"] = io.BytesIO(data), str(len(data))


def _body(response: Response) -> Any:
    try:
        return json.loads(response.get_data())
    except ValueError:
        return None


def _with(response: Response, body: Any) -> Response:
    if body is not None:
        response.set_data(json.dumps(body))
    return response


def _without(body: Any, names_: set[str]) -> Any:
    if isinstance(body, dict):
        return {k: _without(v, names_) for k, v in body.items() if k not in names_}
    return [_without(v, names_) for v in body] if isinstance(body, list) else body
