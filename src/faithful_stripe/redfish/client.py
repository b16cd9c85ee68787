"""The Redfish client: reads resources, follows links, and turns error bodies into one clear sentence."""

from __future__ import annotations

from collections.abc import Iterator
from types import TracebackType
from typing import Any
from urllib.parse import urlsplit

import httpx

from ..core.errors import StripeError

Body = dict[str, Any]


class RedfishError(StripeError):
    """What the server answered. Facts: what, to_do, status (HTTP, 0 without an answer), message_id."""

    template = "{what}"
    remedy = "{to_do}"


class Client:
    """A connection to one Redfish service.

    where      how a person calls the server, for messages
    http       the transport, its base address set
    """

    def __init__(self, where: str, http: httpx.Client) -> None:
        self.where, self._http = where, http
        self._expand: bool | None = None
        self._root: Body | None = None

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    @property
    def root(self) -> Body:
        """The service root."""
        if self._root is None:
            self._root = self.get("/redfish/v1/")
        return self._root

    def get(self, path: str) -> Body:
        """The resource at a path. Raises RedfishError."""
        return self._json(self._send("GET", path))

    def members(self, path: str) -> Iterator[Body]:
        """Every member of a collection, whole, page by page; one request a page where the server can expand."""
        if self._expand is None:
            features = self.root.get("ProtocolFeaturesSupported", {}).get("ExpandQuery", {})
            self._expand = bool(features.get("NoLinks"))
        page: str | None = path + "?$expand=." if self._expand else path
        while page:
            body = self.get(page)
            for member in body.get("Members", []):
                whole = len(member) > 1 or "@odata.id" not in member
                yield member if whole else self.get(member["@odata.id"])
            page = body.get("Members@odata.nextLink")

    def post(self, path: str, body: Body) -> Body:
        """Ask for something to be made or done; the answer's body, empty where there is none."""
        return self._json(self._send("POST", path, json=body))

    def patch(self, path: str, body: Body) -> Body:
        """Change properties of a resource; what the server answers, empty where there is nothing."""
        return self._json(self._send("PATCH", path, json=body))

    def delete(self, path: str, etag: str | None = None) -> None:
        """Remove a resource; with `etag` only if it is still as it was read."""
        self._send("DELETE", path, headers={"If-Match": etag} if etag else {})

    def _send(self, method: str, path: str, **more: Any) -> httpx.Response:
        parts = urlsplit(path)
        try:
            response = self._http.request(method, f"{parts.path}?{parts.query}" if parts.query else parts.path, **more)
        except httpx.HTTPError as reason:
            what = f"{self.where}: no answer to {method} {parts.path} ({reason or type(reason).__name__})"
            raise RedfishError(
                what=what, to_do="check the address and the network", status=0, message_id=""
            ) from reason
        if response.status_code >= 400:
            raise self._error(method, path, response)
        return response

    def _json(self, response: httpx.Response) -> Body:
        if response.status_code == 204 or not response.content:
            return {}
        try:
            body = response.json()
        except ValueError as reason:
            what = f"{self.where}: the answer from {response.request.url.path} is not JSON"
            raise RedfishError(
                what=what, to_do="is this a Redfish server?", status=response.status_code, message_id=""
            ) from reason
        if not isinstance(body, dict):
            what = f"{self.where}: the answer from {response.request.url.path} is not an object"
            raise RedfishError(what=what, to_do="is this a Redfish server?", status=response.status_code, message_id="")
        return body

    def _error(self, method: str, path: str, response: httpx.Response) -> RedfishError:
        """The first extended message of an error body, or the bare status where there is none."""
        try:
            error = response.json()["error"]
            entries = error.get("@Message.ExtendedInfo") or [{}]
            first = entries[0]
            what = first.get("Message") or error.get("message") or ""
            to_do = first.get("Resolution") or ""
            message_id = first.get("MessageId") or error.get("code") or ""
        except (ValueError, KeyError, AttributeError, TypeError, IndexError):
            what = to_do = message_id = ""
        what = (what or f"{method} {path} was answered with status {response.status_code}").rstrip(".")
        to_do = "" if to_do.strip(" .").lower() == "none" else to_do.rstrip(".")
        return RedfishError(what=what, to_do=to_do, status=response.status_code, message_id=message_id)
