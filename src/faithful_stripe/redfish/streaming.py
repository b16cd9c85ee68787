"""Events of a served bench (DSP0266 12.5): a layer that sends what is new in the log as it happens, as a stream, or to
whoever has subscribed.

It stands outside the layer that lets one request through at a time, since an answer lasts as long as somebody listens.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from werkzeug.test import EnvironBuilder, run_wsgi_app
from werkzeug.wrappers import Request, Response

from . import names
from .layers import Wrong, Wsgi, answer, object_of
from .names import Body
from .subscriptions import FAILURES, SUBSCRIPTIONS, Subscriptions

SERVICE = names.ROOT + "EventService"
STREAM = SERVICE + "/SSE"
PAUSE, STILL, LONGEST = 0.5, 2.0, 3600.0
"""Seconds between two looks at the log, between two signs of life, and for which one stream lasts at most."""
MOST_LISTENING = 16


class EventStream:
    """A WSGI layer with the event service and its stream."""

    def __init__(self, inner: Wsgi) -> None:
        self.inner = inner
        self.listening = 0
        self.subscriptions = Subscriptions(self._fresh)

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        request = Request(environ)
        path = request.path.rstrip("/")
        if path == STREAM and request.method == "GET":
            if self.listening >= MOST_LISTENING:
                return Response(status=503, headers={"Retry-After": "60"})(environ, start_response)
            response = Response(self._events(), content_type="text/event-stream", headers={"Cache-Control": "no-cache"})
            return response(environ, start_response)
        if path == SERVICE and request.method in ("GET", "HEAD"):
            return answer(200, self._service(), {"Allow": "GET, HEAD"})(environ, start_response)
        if path == SUBSCRIPTIONS or path.startswith(SUBSCRIPTIONS + "/"):
            try:
                response = self._about_subscriptions(request, path)
            except Wrong as wrong:
                response = wrong.answer()
            return response(environ, start_response)
        if path == names.ROOT.rstrip("/") and request.method in ("GET", "HEAD"):
            data, status, found = run_wsgi_app(self.inner, environ)
            root = json.loads(b"".join(data) or b"{}")
            if root.get("@odata.id"):
                root["EventService"] = self._service() if request.args.get("$expand") else names.link(SERVICE)
            kept = {k: v for k, v in found.items() if k.lower() not in ("content-length", "etag")}
            return Response(json.dumps(root), status, kept)(environ, start_response)
        return self.inner(environ, start_response)

    def end(self) -> None:
        """Let go of what is below: to be called before that is closed."""
        self.subscriptions.end()

    def _service(self) -> Body:
        return {
            "@odata.id": SERVICE,
            "@odata.type": "#EventService.v1_10_0.EventService",
            "Id": "EventService",
            "Name": "Events",
            "ServiceEnabled": True,
            "ServerSentEventUri": STREAM,
            "Subscriptions": names.link(SUBSCRIPTIONS),
            "DeliveryRetryAttempts": FAILURES,
            "EventFormatTypes": ["Event"],
            "Status": {"State": "Enabled", "Health": "OK"},
        }

    def _about_subscriptions(self, request: Request, path: str) -> Response:
        """The answer to a request about subscriptions. Raises Wrong."""
        if path == SUBSCRIPTIONS:
            if request.method == "POST":
                made = self.subscriptions.create(object_of(request))
                return answer(201, made.body(), {"Location": made.path})
            if request.method in ("GET", "HEAD"):
                return answer(200, self.subscriptions.collection(bool(request.args.get("$expand"))))
            raise Wrong(405, "ActionNotSupported", f"{request.method} is not possible at {path}", request.method)
        found = self.subscriptions.at(path)
        if request.method == "DELETE":
            self.subscriptions.remove(found)
            return Response(status=204)
        if request.method not in ("GET", "HEAD"):
            raise Wrong(405, "ActionNotSupported", f"{request.method} is not possible at {path}", request.method)
        return answer(200, found.body())

    def _fresh(self) -> Iterator[list[Body]]:
        """What is new in the log since this was begun, as event records, at each turn."""
        path, count, _none = self._log()
        while True:
            time.sleep(PAUSE)
            path, count, fresh = self._log(path, count)
            yield [_record(entry) for entry in fresh]

    def _events(self) -> Iterator[bytes]:
        """What is new in the log, an event each; a comment now and then, so that a dead connection is noticed."""
        self.listening += 1
        try:
            path, count, _none = self._log()
            began = time.monotonic()
            yield b": listening\n\n"
            looked = said = began
            while (now := time.monotonic()) - began < LONGEST:
                if now - looked < PAUSE:
                    yield b""  # nothing yet: whoever passes this on waits, not a worker
                    continue
                looked = now
                path, count, fresh = self._log(path, count)
                for entry in fresh:
                    event = {"@odata.type": "#Event.v1_9_0.Event", "Id": entry["Id"], "Name": "Event",
                             "Events": [_record(entry)]}  # fmt: skip
                    yield f"id: {entry['Id']}\ndata: {json.dumps(event)}\n\n".encode()
                if fresh:
                    said = now
                elif now - said > STILL:
                    said = now
                    yield b": still here\n\n"
        finally:
            self.listening -= 1

    def _log(self, path: str = "", known: int | None = None) -> tuple[str, int, list[Body]]:
        """The log's path, how many entries it has, and those after the first `known`."""
        if not path:
            systems = self._get(names.ROOT + "Systems")["Members"]
            path = systems[0]["@odata.id"] + "/LogServices/Events/Entries"
        if known is None:
            return path, int(self._get(path + "?$top=1")["Members@odata.count"]), []
        page = self._get(f"{path}?$skip={known}&$expand=.")
        return path, int(page.get("Members@odata.count") or known), list(page.get("Members") or [])

    def _get(self, path: str) -> Body:
        builder = EnvironBuilder(path=path.partition("?")[0], query_string=path.partition("?")[2])
        data, _status, _headers = run_wsgi_app(self.inner, builder.get_environ())
        found = json.loads(b"".join(data) or b"{}")
        return found if isinstance(found, dict) else {}


def _record(entry: Body) -> Body:
    """An entry of the log as an event record."""
    told: Body = {key: entry[key] for key in ("MessageId", "Message", "Severity") if key in entry}
    return told | {"EventId": entry["Id"], "EventTimestamp": entry.get("Created")}
