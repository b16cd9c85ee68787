"""One exchange with a Redfish service at a time: a request, repeated where that is safe, its login, its task, and what
an answer says as a value or as an error of ours.

What is safe to repeat is repeated a few times: reads, and anything answered by 503, which was not carried out. A change
whose answer was lost is never sent again (`AnswerLost`): the caller finds out by reading.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from types import TracebackType
from typing import Any, Self
from urllib.parse import SplitResult, urlsplit

import httpx

from ..core.errors import StripeError
from .told import told

Body = dict[str, Any]


class RedfishError(StripeError):
    """What the server answered. Facts: what, to_do, status (HTTP, 0 without an answer), message_id; and `properties`,
    where it names those of the request that it does not take."""

    template = "{what}"
    remedy = "{to_do}"


class AnswerLost(RedfishError):
    """A change was sent and no answer came: whether it was carried out is not known."""


class Deferred(RedfishError):
    """A change that was taken, and is carried out at the server's next restart only."""

    exit_status = 3


FATAL = (0, 401)
"""HTTP statuses that end every reading: no answer at all, and no login."""

TRIES, LONGEST_WAIT = 4, 30.0
"""How often what is safe to repeat is sent, and how many seconds a Retry-After is honoured at most."""

MOST_BYTES, ANSWER_PATIENCE = 32 << 20, 120.0
"""Bytes of one answer, as it reads once it is unpacked, and seconds until all of it is there."""

MOST_STEPS = 4
"""How often a server may send a reader on to another of its paths."""

TASK_PATIENCE = 600.0
"""Seconds for which a task is followed."""

PENDING_LOOKS = 3
"""Looks in a row at which a task has not begun yet: it waits for something that a person does."""

FAILED_TASKS = ("Exception", "Killed", "Cancelled", "Interrupted")
"""Of the standard's `TaskState`, those in which nothing more will come of a task."""

WITHOUT_SESSIONS = (404, 405, 501)
"""HTTP statuses of servers that offer no sessions."""

Credentials = tuple[str, str]
Tell = Callable[[str, int | None], None]
"""Hears a task's name and how many per cent of it are done, None where the server does not say."""


class Exchange:
    """A connection to one Redfish service.

    where   how a person calls the server, for messages
    http    the transport, its base address set
    login   gives user and password when the server asks for them; None where there are none
    explain turns a failure of the connection into an error of its own; None where it says enough by itself
    sleep   how to wait (tests hand in their own)
    early   whether to log in before anything but the root is asked for, since `login` costs nobody a question
    width   how many reads may be under way at the same time: half as many after each 503
    """

    def __init__(
        self,
        where: str,
        http: httpx.Client,
        login: Callable[[], Credentials | None] | None = None,
        explain: Callable[[httpx.HTTPError], StripeError | None] = lambda _reason: None,
        sleep: Callable[[float], None] = time.sleep,
        width: int = 1,
        early: bool = False,
    ) -> None:
        self.where, self._http, self._login, self._explain, self._sleep = where, http, login, explain, sleep
        self._session: str | None = None
        self._expand: bool | None = None
        self._root: Body | None = None
        self._width, self._early, self._entering = width, early, threading.Lock()
        self._far = width > 1
        self._seen: dict[str, Body | RedfishError] | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Log out, where a session was begun, and close the connection."""
        if self._session:
            with suppress(httpx.HTTPError):
                self._http.delete(self._session)
            self._session = None
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

    def wait(self, seconds: float) -> None:
        """Wait for the server."""
        self._sleep(seconds)

    # one request --------------------------------------------------------------------------------

    def _send(self, method: str, path: str, tell: Tell | None = None, **more: Any) -> httpx.Response:
        if method != "GET" and self._seen is not None:
            self._seen.clear()
        token = self._http.headers.get("X-Auth-Token")
        if token is None and self._early and self._root is not None:
            self._early = False
            if self._sessions():
                with suppress(RedfishError):  # if it is wrong, that is told when the server asks for it
                    self._enter(None)
            token = self._http.headers.get("X-Auth-Token")
        response = self._repeated(method, path, **more)
        if response.status_code == 401 and self._enter(token):
            response = self._repeated(method, path, **more)
        if response.status_code == 428 and method in ("PATCH", "DELETE"):
            more["headers"] = {**more.get("headers", {}), "If-Match": self._etag(path)}
            response = self._repeated(method, path, **more)
        if response.status_code == 202 and method != "GET":
            response = self._follow(response, tell)
        if response.status_code >= 400:
            raise self._error(method, path, response)
        return response

    def _repeated(self, method: str, path: str, **more: Any) -> httpx.Response:
        """One request, sent again where that is safe: after a 503, and reads whose answer did not come."""
        parts = parted(path)
        where = f"{parts.path}?{parts.query}" if parts.query else parts.path
        for attempt in range(1, TRIES + 1):
            try:
                response = self._answer(method, where, **more)
            except httpx.HTTPError as reason:
                ours = self._explain(reason)
                if ours is not None:
                    raise ours from reason
                never_sent = isinstance(reason, httpx.ConnectError | httpx.ConnectTimeout)
                if method != "GET" and not never_sent:
                    what = f"{self.where}: the answer to {method} {parts.path} was lost ({words(reason)})"
                    to_do = "it may have been carried out: look before you ask again (`survey`)"
                    raise AnswerLost(what=what, to_do=to_do, status=0, message_id="") from reason
                if attempt == TRIES or (never_sent and attempt > 1):
                    what = f"{self.where}: no answer to {method} {parts.path} ({words(reason)})"
                    to_do = "check the address and the network"
                    raise RedfishError(what=what, to_do=to_do, status=0, message_id="") from reason
                self._sleep(0.2 * attempt)
                continue
            if response.status_code != 503 or attempt == TRIES:
                return response
            self._width = max(1, self._width // 2)
            self._sleep(_retry_after(response))
        raise AssertionError("the last attempt returns or raises")

    def _answer(self, method: str, where: str, **more: Any) -> httpx.Response:
        """One answer, no larger than it may be, and where it stands for a reader who was sent on to it."""
        for _step in range(MOST_STEPS):
            began, content = time.monotonic(), bytearray()
            with self._http.stream(method, where, **more) as response:
                for piece in response.iter_bytes():
                    content += piece
                    if len(content) > MOST_BYTES or time.monotonic() - began > ANSWER_PATIENCE:
                        how = f"more than {MOST_BYTES >> 20} MiB" if len(content) > MOST_BYTES else "without an end"
                        what = f"{self.where}: the answer to {method} {where.partition('?')[0]} is {how}"
                        to_do = "is this a Redfish server? What it sent is not used"
                        raise RedfishError(what=what, to_do=to_do, status=response.status_code, message_id="")
            kept = [(k, v) for k, v in response.headers.multi_items() if k.lower() not in _UNPACKED]
            answer = httpx.Response(
                response.status_code, headers=kept, content=bytes(content), request=response.request
            )
            if answer.status_code not in _REDIRECTS:
                return answer
            further = parted(answer.headers.get("Location", ""))
            ours = self._http.base_url
            elsewhere = further.netloc and (further.scheme, further.netloc) != (ours.scheme, ours.netloc.decode())
            if elsewhere or not further.path or method not in ("GET", "HEAD"):
                to = f"{further.scheme}://{further.netloc}" if elsewhere else further.path or "nowhere"
                what = f"{self.where}: it sends {method} {where.partition('?')[0]} on to {to}"
                to_do = "if that is the server, name it with --at: nothing is followed to another address"
                raise RedfishError(what=what, to_do=to_do, status=answer.status_code, message_id="")
            where = f"{further.path}?{further.query}" if further.query else further.path
        what = f"{self.where}: it sends {method} {where.partition('?')[0]} on and on"
        raise RedfishError(what=what, to_do="something is wrong with the server", status=0, message_id="")

    def _etag(self, path: str) -> str:
        """The ETag of a resource, for a server that wants one with every change."""
        response = self._repeated("GET", path)
        return str(response.headers.get("ETag") or self._json(response).get("@odata.etag") or "*")

    def _follow(self, response: httpx.Response, tell: Tell | None) -> httpx.Response:
        """Wait for a task to end; its answer. `tell` hears how far it is, where the server says so."""
        monitor = response.headers.get("Location") or self._json(response).get("@odata.id")
        waited, idle = 0.0, 0
        while monitor and response.status_code == 202 and waited < TASK_PATIENCE:
            pause = _retry_after(response)
            task = self._json(response)
            idle = idle + 1 if task.get("TaskState") == "Pending" else 0
            if idle == PENDING_LOOKS:
                raise self._deferred(task)
            if tell:
                tell(str(task.get("Name") or "task"), task.get("PercentComplete"))
            self._sleep(pause)
            waited += pause
            response = self._repeated("GET", parted(str(monitor)).path)
            monitor = response.headers.get("Location") or monitor  # it may lead on to another one
        if response.status_code == 202:
            what = f"{self.where}: a task is still running after {waited:.0f} s"
            raise RedfishError(what=what, to_do="look at the server; do not ask again", status=202, message_id="")
        task = self._json(response) if response.status_code < 400 else {}
        if task.get("TaskState") == "Pending":  # told at once, where no monitor says it
            raise self._deferred(task)
        if task.get("TaskState") in FAILED_TASKS:
            told = _messages(task.get("Messages"))
            what = f"{self.where}: {told or 'it gives no reason'}; its task has ended as {task['TaskState']}"
            raise RedfishError(what=what, to_do="look at its log: `log`", status=response.status_code, message_id="")
        return response

    def _deferred(self, task: Body) -> Deferred:
        """A task that waits: what the server says of it, and what a person does."""
        told = _messages(task.get("Messages"))
        what = f"{self.where}: it does that at its next restart{f' ({told})' if told else ''}"
        to_do = "restart it (`firmware restart`), then look (`survey`)"
        return Deferred(what=what, to_do=to_do, status=202, message_id="")

    # sessions -----------------------------------------------------------------------------------

    def _enter(self, token: str | None) -> bool:
        """After a 401: whether there is another session than the one of `token` now."""
        with self._entering:
            if self._http.headers.get("X-Auth-Token") != token:
                return True  # somebody else has logged in meanwhile
            if self._session:
                self._session = None  # the server has forgotten it: it was restarted, or the session has run out
                self._http.headers.pop("X-Auth-Token", None)
            return self._begin_session()

    def _begin_session(self) -> bool:
        """Log in when the server asks for it; False where there is nothing to log in with."""
        found = self._login() if self._login and self._session is None else None
        if found is None:
            return False
        if self._root is None:
            self._root = self._json(self._repeated("GET", "/redfish/v1/"))
        path = self._sessions() or "/redfish/v1/SessionService/Sessions"
        response = self._repeated("POST", path, json={"UserName": found[0], "Password": found[1]})
        token = response.headers.get("X-Auth-Token")
        if response.status_code < 400 and token:
            self._http.headers["X-Auth-Token"] = token
            self._session = parted(response.headers.get("Location") or "").path or None
            return True
        reason = self._error("POST", path, response)
        full = "SessionLimit" in str(reason.facts["message_id"]) or response.status_code == 503
        if full or response.status_code in WITHOUT_SESSIONS or response.status_code < 400:
            basic, self._login = httpx.BasicAuth(*(part.encode() for part in found)), None
            tried = self._repeated("GET", self._systems(), auth=basic)
            if tried.status_code < 400:
                self._http.auth = basic  # with every request, and to no other address: nothing is followed there
                return True
            reason = self._error("GET", self._systems(), tried)
        said = "" if response.status_code == 401 else f": {reason.facts['said']}" if reason.facts["said"] else ""
        what = f"{self.where}: the login of {found[0]} was refused{said}"
        to_do = "check user and password" if not said else reason.to_do
        raise RedfishError(what=what, to_do=to_do, status=response.status_code, message_id=reason.facts["message_id"])

    def _systems(self) -> str:
        """What can be read by those who have logged in only."""
        systems = (self._root or {}).get("Systems")
        return str(systems.get("@odata.id")) if isinstance(systems, dict) else "/redfish/v1/Systems"

    def _sessions(self) -> str:
        """Where sessions are begun, as the root tells; "" where it does not."""
        links = (self._root or {}).get("Links")
        sessions = links.get("Sessions") if isinstance(links, dict) else None
        return str(sessions.get("@odata.id") or "") if isinstance(sessions, dict) else ""

    def _json(self, response: httpx.Response) -> Body:
        if response.status_code == 204 or not response.content:
            return {}
        try:
            body = told(response.json())
        except (ValueError, RecursionError) as reason:
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
            error = told(response.json())["error"]
            entries = error.get("@Message.ExtendedInfo") or [{}]
            first = entries[0]
            what = first.get("Message") or error.get("message") or ""
            to_do = first.get("Resolution") or ""
            message_id = first.get("MessageId") or error.get("code") or ""
            named = _properties(entries)
        except (ValueError, KeyError, AttributeError, TypeError, IndexError, RecursionError):
            what = to_do = message_id = ""
            named = ()
        said = what.rstrip(".")
        if response.status_code == 401:
            what = f"{self.where}: this server asks for a login"
            to_do = "put it into ~/.netrc, or into FSTRIPE_USER and FSTRIPE_PASSWORD"
        what = (what or f"{method} {path} was answered with status {response.status_code}").rstrip(".")
        to_do = "" if to_do.strip(" .").lower() == "none" else to_do.rstrip(".")
        return RedfishError(
            what=what, to_do=to_do, status=response.status_code, message_id=message_id, said=said, properties=named
        )


def _messages(messages: object) -> str:
    """What a task's messages say, one after the other."""
    told = [m.get("Message") for m in messages if isinstance(m, dict)] if isinstance(messages, list) else []
    return "; ".join(text.rstrip(".") for text in told if isinstance(text, str) and text)


def _properties(entries: list[Body]) -> tuple[str, ...]:
    """The properties of a request that a server's messages are about: by pointer, or as the message's first word."""
    found = []
    for entry in entries:
        found += [str(pointer).rpartition("/")[2] for pointer in entry.get("RelatedProperties") or []]
        if "Property" in str(entry.get("MessageId") or ""):
            found += [str(word).rpartition("/")[2] for word in (entry.get("MessageArgs") or [])[:1]]
    return tuple(dict.fromkeys(found))


_REDIRECTS = (301, 302, 303, 307, 308)
_UNPACKED = ("content-encoding", "content-length", "transfer-encoding")


def parted(address: str) -> SplitResult:
    """The parts of an address that a server gave; none of what is no address."""
    try:
        return urlsplit(address)
    except ValueError:
        return urlsplit("")


def _retry_after(response: httpx.Response) -> float:
    text = response.headers.get("Retry-After", "")
    return min(LONGEST_WAIT, float(text)) if text.isdecimal() else 1.0


def words(reason: httpx.HTTPError) -> str:
    return str(reason) or type(reason).__name__
