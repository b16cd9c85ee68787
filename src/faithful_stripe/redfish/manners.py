"""Difficult servers: layers over the service that behave as servers are allowed to, or as some do.

Each is a WSGI layer over any Redfish service; the service itself knows nothing of them.
"""

from __future__ import annotations

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


def lost() -> Response:
    """An answer that breaks off after its first byte."""
    return Response(_broken(), 201, {"Content-Length": "100"})


def _broken() -> Iterator[bytes]:
    yield b"{"
    raise ConnectionAbortedError("the answer is lost")


MANNERS: dict[str, type[Manner]] = {
    "plain": Manner, "paged": Paged, "sparse": Sparse, "tasks": Tasks, "tagged": Tagged, "busy": Busy, "slow": Slow,
    "lossy": Lossy,
}  # fmt: skip


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
