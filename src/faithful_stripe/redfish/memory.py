"""What looks at one server remember from one to the next, so that a look at which nothing moves asks for little.

Each look reads what tells first that something has moved (`leads`), what somebody waits for (`keen`), and a share of
the rest, those read longest ago first. So nothing that a look returns is much older than `TURNS` looks, and a server of
24 drives is asked a dozen times instead of forty. Whoever looks compares the server with what it was, and has
everything read again where it moved (`work/seeing`).
"""

from __future__ import annotations

import copy
from collections.abc import Collection, Iterator
from dataclasses import dataclass, field

from .exchange import Body, RedfishError

TURNS, LEAST = 8, 5
"""Looks within which everything is read again, and how many of the rest a look reads at least: of single resources.
Of pages that tell their members whole it is one."""

HASTE = 3
"""A page that holds what somebody waits for is read as if it had been waiting so many times as long."""


@dataclass
class Memory:
    """Resources by their paths, as they were read last.

    leads  paths that every look reads
    keen   paths of resources somebody waits for: read by every look, and pages that hold them whole more often
    """

    leads: set[str] = field(default_factory=set)
    keen: Collection[str] = ()
    number: int = 0
    _bodies: dict[str, Body] = field(default_factory=dict)
    _read_in: dict[str, int] = field(default_factory=dict)
    _tags: dict[str, str] = field(default_factory=dict)

    def recalled(self) -> dict[str, Body | RedfishError]:
        """What the look that begins now does not read again."""
        self.number += 1
        due = set(self._due())
        return {path: body for path, body in self._bodies.items() if path not in due}

    def _due(self) -> Iterator[str]:
        rest: dict[str, int] = {}
        for path, body in self._bodies.items():
            if path in self.leads or path in self.keen:
                yield path
            else:
                rest[path] = (self.number - self._read_in[path]) * (HASTE if self._holds_keen(body) else 1)
        share = max(LEAST if len(rest) > TURNS else 1, -(-len(rest) // TURNS))
        yield from sorted(rest, key=lambda path: -rest[path])[:share]

    def _holds_keen(self, body: Body) -> bool:
        """Whether this page tells a member whole that somebody waits for."""
        members = body.get("Members")
        return isinstance(members, list) and any(
            isinstance(m, dict) and len(m) > 1 and m.get("@odata.id") in self.keen for m in members
        )

    def take(self, seen: dict[str, Body | RedfishError]) -> None:
        """Keep what a look has seen. What could not be read is not kept, nor what no look asked for any more."""
        fresh = {path: body for path, body in seen.items() if isinstance(body, dict)}
        for path, body in fresh.items():
            if self._bodies.get(path) is not body:
                self._read_in[path] = self.number
        self._bodies = fresh

    def kept(self, path: str) -> tuple[Body, str]:
        """A resource as it was read last, and its ETag, for a conditional read; nothing of what leads: a server whose
        tags stand still would hide there that something moved."""
        known = path in self._bodies and path in self._tags and path not in self.leads
        return (copy.deepcopy(self._bodies[path]), self._tags[path]) if known else ({}, "")

    def tag(self, path: str, etag: str) -> None:
        """Keep the ETag of a resource that was read; "" where it has none. A weak one will do: it says that the
        resource means the same."""
        if etag:
            self._tags[path] = etag
        else:
            self._tags.pop(path, None)

    def forget(self) -> None:
        """Have everything read again, whole, by the next look."""
        self._bodies, self._read_in, self._tags = {}, {}, {}
