"""The Redfish client: reads resources, follows links, and asks for changes.

What it puts up with: absent properties, paged collections, servers that cannot expand, tasks (202 with a monitor) or
answers at once, ETags that are required, 503 with Retry-After, slow answers, a login that is asked for late.
"""

from __future__ import annotations

import copy
import json
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager

import httpx

from .exchange import FATAL, Body, Exchange, RedfishError, Tell, parted, words
from .memory import Memory
from .told import told

STREAM_PATIENCE = 30.0
"""Seconds without a sign of life after which a stream of events is given up."""

MOST_MEMBERS, MOST_PAGES = 20_000, 2_000
"""Of one collection: who has more does not end."""

EXPANDED = "?$expand=."

Missed = Callable[[str, "RedfishError"], None]
"""Hears of a resource that could not be read, by its path."""


def gap(_path: str, reason: RedfishError) -> None:
    """Does without a resource, unless nothing can be read any more."""
    if reason.facts["status"] in FATAL:
        raise reason


class Client(Exchange):
    """A connection to one Redfish service that remembers what it has read within one look.

    system  the one that is meant where a service has several; "" for all
    """

    system = ""
    _memory: Memory | None = None

    @property
    def expands(self) -> bool:
        """Whether the server can tell a collection's members whole, as it says, and nothing has shown otherwise."""
        if self._expand is None:
            features = self.root.get("ProtocolFeaturesSupported")
            query = features.get("ExpandQuery") if isinstance(features, dict) else None
            self._expand = isinstance(query, dict) and query.get("NoLinks") is True
        return self._expand

    def page(self, path: str) -> str:
        """How the first page of a collection is asked for; "" for ""."""
        return path + EXPANDED if path and self.expands else path

    def get(self, path: str) -> Body:
        """The resource at a path. Raises RedfishError; also for "", what a resource does not link to."""
        if not path:
            what = f"{self.where}: the server does not tell where something is that every server has"
            raise RedfishError(what=what, to_do="look at its own console", status=0, message_id="")
        if self._seen is None:
            return self._resource(path)
        if path not in self._seen:
            self._seen[path] = self._read(path)
        found = self._seen[path]
        if isinstance(found, RedfishError):
            raise found
        return copy.deepcopy(found)

    def maybe(self, path: str) -> Body:
        """The resource at a path; empty where there is none, or the server refuses it. Raises RedfishError for what
        ends every reading."""
        try:
            return self.get(path) if path else {}
        except RedfishError as reason:
            gap(path, reason)
            return {}

    @contextmanager
    def look(self, memory: Memory | None = None) -> Iterator[None]:
        """One look at the server: within it each resource is read once, until something is changed.

        memory  of the looks before: what it recalls is not read again
        """
        before, kept = self._seen, self._memory
        if memory is not None:
            self._seen, self._memory = memory.recalled(), memory
        elif before is None:
            self._seen = {}
        try:
            yield
            if memory is not None and self._seen is not None:
                memory.take(self._seen)
        finally:
            self._seen, self._memory = before, kept

    def leads(self, paths: Iterable[str]) -> None:
        """Of these resources the looks that follow read each anew: they tell first that something has moved."""
        if self._memory is not None:
            self._memory.leads.update(path for path in paths if path)

    @property
    def far(self) -> bool:
        """Whether an answer takes time, so that it pays to ask for less."""
        return self._far

    def ahead(self, paths: Iterable[str]) -> None:
        """Within a look: read these resources now, several at a time; what each says, or why it cannot be read, is
        kept for whoever asks for it."""
        seen = self._seen
        if seen is None or self._width == 1:
            return
        wanted = [path for path in dict.fromkeys(paths) if path and path not in seen]
        if len(wanted) < 2:
            return
        if self._session is None and self._login is not None:
            first = wanted.pop(0)
            seen[first] = self._read(first)  # whoever has to log in does that once, not all at once
        waiting, lock = deque(wanted), threading.Lock()

        def work(number: int) -> None:
            while number < self._width:  # fewer go on where the server is at its limit
                with lock:
                    if not waiting:
                        return
                    path = waiting.popleft()
                seen[path] = self._read(path)

        pool = ThreadPoolExecutor(self._width, "read")
        try:
            for one in [pool.submit(work, number) for number in range(min(self._width, len(wanted)))]:
                one.result()
        finally:
            pool.shutdown(wait=False, cancel_futures=True)

    def _read(self, path: str) -> Body | RedfishError:
        """A resource, or why it cannot be read."""
        try:
            return self._resource(path)
        except RedfishError as reason:
            return reason

    def _resource(self, path: str) -> Body:
        """What a resource tells. Raises RedfishError where it cannot be read, or tells nothing."""
        kept, tag = self._memory.kept(path) if self._memory is not None else ({}, "")
        response = self._send("GET", path, headers={"If-None-Match": tag} if tag else {})
        if response.status_code == 304 and kept:
            return kept
        body = self._json(response)
        if body and self._memory is not None:
            self._memory.tag(path, response.headers.get("ETag") or "")
        if not body:
            what = f"{self.where}: the answer from {path} tells nothing"
            raise RedfishError(what=what, to_do="look at its own console", status=200, message_id="")
        return body

    def members(self, path: str, missed: Missed | None = None, at_once: bool = True) -> Iterator[Body]:
        """Every member of a collection, whole, page by page; one request a page where the server can expand. None of
        "", what a resource does not link to.

        at_once  whether all members of a page are wanted: then they are read together
        missed  hears of a member or a page that cannot be read, which is left out then; without it that is an error
        """
        for body in self.pages(path, missed):
            members = body["Members"]
            if at_once:
                self.ahead(str(m["@odata.id"]) for m in members if len(m) == 1 and "@odata.id" in m)
            for member in members:
                link = member.get("@odata.id")
                if len(member) > 1 or not isinstance(link, str):
                    yield member
                    continue
                try:
                    found = self.get(link)
                except RedfishError as reason:
                    if missed is None:
                        raise
                    missed(link, reason)
                    continue
                yield found

    def pages(self, path: str, missed: Missed | None = None) -> Iterator[Body]:
        """The pages of a collection, each with its list `Members`; none of "". Pages that lead back to one that was
        read end the collection.

        missed  hears of a page that cannot be read, which ends the collection then; without it that is an error
        """
        page: str | None = self.page(path)
        read: set[str] = set()
        count = 0
        while page and page not in read and len(read) < MOST_PAGES:
            read.add(page)
            try:
                body = self.get(page)
            except RedfishError as reason:
                if page == path + EXPANDED and reason.facts["status"] not in (0, 401):
                    self._expand, page = False, path  # it says that it can, and cannot
                    continue
                if missed is None:
                    raise
                missed(page, reason)
                return
            members = body.get("Members")
            if not isinstance(members, list):  # no list is not the same as an empty one
                what = f"{self.where}: the answer from {path} lists no members"
                broken = RedfishError(what=what, to_do="look at its own console", status=200, message_id="")
                if missed is None:
                    raise broken
                missed(page, broken)
                return
            count += len(members)
            if count > MOST_MEMBERS:
                what = f"{self.where}: {path} lists more than {MOST_MEMBERS} members"
                raise RedfishError(what=what, to_do="something is wrong with the server", status=0, message_id="")
            yield {**body, "Members": [m for m in members if isinstance(m, dict)]}
            following = body.get("Members@odata.nextLink")
            page = following if isinstance(following, str) else None

    def post(self, path: str, body: Body, tell: Tell | None = None) -> Body:
        """Ask for something to be made or done; the answer's body, empty where there is none. Raises AnswerLost,
        Deferred."""
        return self._json(self._send("POST", path, tell, json=body))

    def create(self, path: str, body: Body) -> tuple[str, Body]:
        """Ask for a new member of a collection: its path, "" where the server does not tell, and the answer's body.
        Raises AnswerLost, Deferred."""
        response = self._send("POST", path, json=body)
        answer = self._json(response)
        if "TaskState" in answer:
            made = answer.get("Links", {}).get("CreatedResources")
            return (str(made[0].get("@odata.id") or "") if isinstance(made, list) and made else ""), {}
        location = parted(response.headers.get("Location") or "").path if response.status_code == 201 else ""
        return location or str(answer.get("@odata.id") or ""), answer

    def push(self, path: str, parameters: Body, name: str, data: bytes, tell: Tell | None = None) -> Body:
        """Send a file with its parameters as one multipart request (DSP0266 12.6), and follow its task."""
        files = {
            "UpdateParameters": (None, json.dumps(parameters), "application/json"),
            "UpdateFile": (name, data, "application/octet-stream"),
        }
        return self._json(self._send("POST", path, tell, files=files))

    def patch(self, path: str, body: Body) -> Body:
        """Change properties of a resource; what the server answers, empty where there is nothing."""
        return self._json(self._send("PATCH", path, json=body))

    def delete(self, path: str, etag: str | None = None) -> None:
        """Remove a resource; with `etag` only if it is still as it was read."""
        self._send("DELETE", path, headers={"If-Match": etag} if etag else {})

    def stream(self, path: str) -> Iterator[Body]:
        """Events as the server sends them, until it ends or the connection is lost (RedfishError).

        The first one is empty: from then on nothing is missed.
        """
        try:
            with self._http.stream("GET", path, timeout=httpx.Timeout(60.0, read=STREAM_PATIENCE)) as response:
                if response.status_code >= 400:
                    response.read()
                    raise self._error("GET", path, response)
                yield {}
                for line in response.iter_lines():
                    if line.startswith("data:"):
                        yield _object(line[5:])
        except httpx.HTTPError as reason:
            what = f"{self.where}: the stream of events broke off ({words(reason)})"
            raise RedfishError(what=what, to_do="", status=0, message_id="") from reason


def _object(text: str) -> Body:
    """A JSON object, empty for anything else."""
    try:
        found = json.loads(text)
    except (ValueError, RecursionError):
        return {}
    answer = told(found)
    return answer if isinstance(answer, dict) else {}
