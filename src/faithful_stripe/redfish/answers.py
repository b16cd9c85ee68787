"""What every answer of the Redfish service needs: reading requests, and shaping responses and refusals."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from werkzeug.wrappers import Request, Response

from ..bench.controller import Controller
from ..bench.hands import Hands
from ..core.errors import StripeError
from . import documents, names
from .names import Body, collection, link
from .resources import Resources
from .storage import StorageResources
from .told import deeper, expected, misfits, spoken


class Refused(StripeError):
    """A request that the service answers with an error body: HTTP status, Redfish message."""

    template = "{what}"
    remedy = "{to_do}"

    def __init__(self, status: int, message: str, what: str, to_do: str = "", **more: Any) -> None:
        super().__init__(what=what, to_do=to_do, **more)
        self.status, self.message = status, message


MOST_DEPTH = 32


def wish_of(data: bytes | str, what: str = "the request") -> Body:
    """What a request asks for: a JSON object, every property of the type that the standard gives it. Raises Refused."""
    try:
        body = json.loads(data)
    except (ValueError, RecursionError) as reason:
        raise Refused(400, names.BASE + "MalformedJSON", f"{what} is not JSON ({reason})") from reason
    if not isinstance(body, dict) or deeper(body, MOST_DEPTH):
        raise Refused(400, names.BASE + "MalformedJSON", f"{what} is not a JSON object of a few levels")
    for path in misfits(body):
        told = f"{path.lstrip('/')}: the value is not of this property's type ({expected(path)})"
        raise Refused(400, names.BASE + "PropertyValueTypeError", told, "see the property's schema")
    found: Body = spoken(body)
    return found


class Answers:
    """One request within one session."""

    def __init__(self, session: Hands, request: Request) -> None:
        self.session, self.request, self.made = session, request, Resources(session)
        self.c: Controller = next(iter(session.controllers.values()))
        self.storing = StorageResources(session, self.c)

    # what requests say --------------------------------------------------------------------------

    def _body(self, empty: bool = False) -> Body:
        """The request's object, every property of the standard's type; `empty`: where none counts as {}."""
        return wish_of(self.request.get_data() or (b"{}" if empty else b""))

    def _text(self, wish: Body, key: str, fallback: object = None) -> str:
        value = wish.get(key, fallback)
        if value is None:
            raise Refused(400, names.BASE + "PropertyMissing", f"the request has no property {key}", "give it")
        if not isinstance(value, str):
            raise Refused(400, names.BASE + "PropertyValueTypeError", f"{key}: expected text, found {value!r}")
        return value

    def _whole(self, wish: Body, key: str, fallback: int | None) -> int | None:
        value = wish.get(key, fallback)
        if value is None:
            return None
        if not isinstance(value, int) or isinstance(value, bool):
            raise Refused(
                400, names.BASE + "PropertyValueTypeError", f"{key}: expected a whole number, found {value!r}"
            )
        return value

    def _number(self, key: str, fallback: int) -> int:
        text = self.request.args.get(key, str(fallback))
        if not (text.isdecimal() and len(text) < 16):
            raise Refused(400, names.BASE + "QueryParameterValueTypeError", f"{key}: expected a number, found {text!r}")
        return int(text)

    # what answers look like ---------------------------------------------------------------------

    def _collection(self, name: str, kind: str, members: list[Body], more: Body | None = None) -> Response:
        if self.request.args.get("$expand", "") not in (".", ".($levels=1)"):
            members = [link(member["@odata.id"]) for member in members]
        else:
            members = [{**member, "@odata.etag": etag(member)} for member in members]
        skip, top = self._number("$skip", 0), self._number("$top", len(members))
        path, page = self.request.path.rstrip("/"), members[skip : skip + top]
        body = collection(path, kind, name, page) | {"Members@odata.count": len(members)} | (more or {})
        if top and skip + top < len(members):
            body["Members@odata.nextLink"] = f"{path}?$skip={skip + top}&$top={top}"
        return self._ok(body)

    def _ok(self, body: Body, status: int = 200) -> Response:
        tag = etag(body)
        resting = not body.get("Operations") and "DateTime" not in body
        if status == 200 and resting and self.request.headers.get("If-None-Match") == tag:
            return Response(status=304, headers={"ETag": tag})
        text = json.dumps({**body, "@odata.etag": tag} if "@odata.id" in body else body)
        headers = {"ETag": tag, "Link": documents.described_by(body)}
        return Response(text, status, headers, content_type="application/json; charset=utf-8")

    def _missing(self) -> Refused:
        what = f"there is nothing at {self.request.path}"
        return Refused(404, names.BASE + "ResourceMissingAtURI", what, "follow the links from /redfish/v1/")


def etag(body: Body) -> str:
    """An ETag: equal for bodies that say the same but for how far work is. It is weak for that, and while work is
    under way nobody is told that nothing has changed."""
    still = {k: v for k, v in body.items() if k not in ("Operations", "DateTime")}
    if "Operations" in body:
        still["Operations"] = [operation.get("OperationName") for operation in body["Operations"]]
    return 'W/"' + hashlib.sha256(json.dumps(still, sort_keys=True).encode()).hexdigest()[:20] + '"'
