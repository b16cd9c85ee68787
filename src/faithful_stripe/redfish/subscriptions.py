"""Event subscriptions of a served bench (DSP0266 12.5.1): what is new in the log is posted to whoever asked for it.

To addresses of this machine only: a simulated server sends nothing to anybody else, and a subscription of another
address is disabled, as it says itself. They are kept in memory and last as long as the bench is served; one whose
listener cannot be reached so many times in a row ends.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from ipaddress import ip_address
from typing import Any
from urllib.parse import urlsplit

import httpx

from . import names
from .layers import Wrong
from .names import Body

SUBSCRIPTIONS = names.ROOT + "EventService/Subscriptions"
MOST, MOST_CONTEXT, FAILURES, PATIENCE = 16, 256, 3, 5.0
"""Subscriptions at a time, characters of a context, deliveries in a row that may fail, and seconds for each."""

WRITABLE = ("Destination", "Protocol", "Context", "EventFormatType", "SubscriptionType", "RegistryPrefixes",
            "ResourceTypes", "EventTypes", "HttpHeaders", "DeliveryRetryPolicy")  # fmt: skip


@dataclass
class Subscription:
    """Who is told. `failed`: deliveries in a row that did not arrive."""

    number: str
    destination: str
    context: str
    failed: int = field(default=0, compare=False)

    @property
    def path(self) -> str:
        return f"{SUBSCRIPTIONS}/{self.number}"

    @property
    def here(self) -> bool:
        """Whether its listener is on this machine; nothing is sent to others."""
        return _of_this_machine(self.destination)

    def body(self) -> Body:
        return {
            "@odata.id": self.path,
            "@odata.type": "#EventDestination.v1_15_0.EventDestination",
            "Id": self.number,
            "Name": f"Subscription {self.number}",
            "Destination": self.destination,
            "Protocol": "Redfish",
            "Context": self.context,
            "EventFormatType": "Event",
            "SubscriptionType": "RedfishEvent",
            "DeliveryRetryPolicy": "TerminateAfterRetries",
            "Status": {"State": "Enabled" if self.here else "Disabled", "Health": "Warning" if self.failed else "OK"},
        }


class Subscriptions:
    """All subscriptions, and the thread that serves them while there are any.

    fresh  yields what is new in the log, as event records, each time it is asked for the next
    """

    def __init__(self, fresh: Callable[[], Iterator[list[Body]]]) -> None:
        self._fresh, self._lock = fresh, threading.Lock()
        self._there: dict[str, Subscription] = {}
        self._last = 0
        self._worker: threading.Thread | None = None

    def create(self, wish: Mapping[str, Any]) -> Subscription:
        """A new subscription. Raises Wrong."""
        if "Destination" not in wish:
            raise Wrong(400, "PropertyMissing", "Destination is needed", "Destination")
        strange = [name for name in wish if name not in WRITABLE and not name.startswith("@odata.")]
        if strange:
            raise Wrong(400, "PropertyUnknown", f"{strange[0]} is no property that can be written here", strange[0])
        for name, only in (("Protocol", "Redfish"), ("EventFormatType", "Event"), ("SubscriptionType", "RedfishEvent")):
            if wish.get(name, only) != only:
                raise Wrong(400, "PropertyValueNotInList", f"{name} is {only} here", str(wish[name]), name)
        destination, context = wish["Destination"], wish.get("Context", "")
        if not isinstance(destination, str) or not _address(destination):
            what = "Destination is no http address"
            raise Wrong(400, "PropertyValueFormatError", what, str(destination)[:80], "Destination")
        if not isinstance(context, str) or len(context) > MOST_CONTEXT:
            raise Wrong(
                400, "PropertyValueFormatError", f"Context has at most {MOST_CONTEXT} characters", "", "Context"
            )
        with self._lock:
            if len(self._there) >= MOST:
                raise Wrong(400, "EventSubscriptionLimitExceeded", "there are as many subscriptions as there may be")
            self._last += 1
            made = self._there[str(self._last)] = Subscription(str(self._last), destination, context)
            if self._worker is None or not self._worker.is_alive():
                self._worker = threading.Thread(target=self._serve, daemon=True, name="subscriptions")
                self._worker.start()
        return made

    def at(self, path: str) -> Subscription:
        """The subscription at a path. Raises Wrong."""
        found = self._there.get(path.rpartition("/")[2])
        if found is None or found.path != path:
            raise Wrong(404, "ResourceMissingAtURI", f"there is nothing at {path}", path)
        return found

    def remove(self, found: Subscription) -> None:
        with self._lock:
            self._there.pop(found.number, None)

    def end(self) -> None:
        """Serve nobody any more; returns when nothing is read on anybody's behalf."""
        with self._lock:
            self._there.clear()
            worker = self._worker
        if worker is not None:
            worker.join()

    def collection(self, whole: bool) -> Body:
        members = [s.body() if whole else names.link(s.path) for s in list(self._there.values())]
        return names.collection(SUBSCRIPTIONS, "EventDestinationCollection", "Subscriptions", members)

    def _serve(self) -> None:
        """Post what is new to everybody who wants it, until nobody does."""
        with httpx.Client(timeout=PATIENCE, trust_env=False, verify=False) as http:  # to this machine itself
            for events in self._fresh():
                for one in list(self._there.values()):
                    if events and one.here and one.number in self._there:  # it may have ended meanwhile
                        self._post(http, one, events)
                with self._lock:
                    if not self._there:
                        self._worker = None
                        return

    def _post(self, http: httpx.Client, one: Subscription, events: list[Body]) -> None:
        event = {
            "@odata.type": "#Event.v1_9_0.Event", "Id": str(events[-1]["EventId"]), "Name": "Event",
            "Context": one.context, "Events": events,
        }  # fmt: skip
        try:
            answer = http.post(one.destination, content=json.dumps(event), headers={"Content-Type": "application/json"})
            one.failed = 0 if answer.is_success else one.failed + 1
        except (httpx.HTTPError, httpx.InvalidURL):
            one.failed += 1
        if one.failed >= FAILURES:
            self.remove(one)


def _address(address: str) -> bool:
    """Whether this is an address of HTTP."""
    try:
        parts = urlsplit(address)
        _port = parts.port
    except ValueError:
        return False
    return parts.scheme in ("http", "https") and bool(parts.hostname)


def _of_this_machine(address: str) -> bool:
    host = urlsplit(address).hostname or ""
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
