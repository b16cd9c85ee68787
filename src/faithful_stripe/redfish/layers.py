"""What the layers around a served bench answer: JSON, and refusals in the standard's form."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from werkzeug.datastructures import Headers
from werkzeug.wrappers import Request, Response

from . import documents, names
from .names import Body

Wsgi = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


class Wrong(Exception):
    """A request to a layer that is not carried out: HTTP status, message of the Base registry, what, its arguments."""

    def __init__(self, status: int, message: str, what: str, *arguments: str) -> None:
        super().__init__(what)
        self.status, self.message, self.what, self.arguments = status, message, what, arguments

    def answer(self) -> Response:
        return refusal(self.status, self.message, self.what, self.arguments)


def object_of(request: Request) -> Body:
    """The JSON object that a request carries. Raises Wrong."""
    try:
        found = json.loads(request.get_data())
    except (ValueError, RecursionError):
        found = None
    if not isinstance(found, dict):
        raise Wrong(400, "MalformedJSON", "the request carries no JSON object")
    return found


def named_in(request: Request) -> set[str]:
    """The properties that a request names."""
    try:
        return set(object_of(request))
    except Wrong:
        return set()


def kept(headers: Headers) -> dict[str, str]:
    """Of an inner answer's headers those that stay right when its body is changed."""
    return {k: v for k, v in headers.items() if k.lower() not in ("content-length", "content-type", "etag")}


def message(name: str, what: str, arguments: Sequence[str] = ()) -> Body:
    """A message of the Base registry."""
    return {
        "@odata.type": "#Message.v1_2_1.Message", "MessageId": names.BASE + name, "Message": what,
        "MessageArgs": list(arguments), "MessageSeverity": "Warning", "Resolution": "None.",
    }  # fmt: skip


def refusal(status: int, name: str, what: str, arguments: Sequence[str] = ()) -> Response:
    """An error with one message of the Base registry."""
    told = [message(name, what, arguments)]
    asks = {"WWW-Authenticate": 'Basic realm="Redfish"'} if status == 401 else {}
    error = {"code": names.BASE + name, "message": what, "@Message.ExtendedInfo": told}
    return answer(status, {"error": error}, asks)


def answer(status: int, body: Body, headers: Mapping[str, str] | None = None) -> Response:
    """A JSON answer with the headers that every answer has."""
    found = {"OData-Version": "4.0", "Cache-Control": "no-cache", "Link": documents.described_by(body)}
    found |= {"Allow": "DELETE, GET, HEAD, POST"} | dict(headers or {})
    return Response(json.dumps(body), status, found, content_type="application/json; charset=utf-8")
