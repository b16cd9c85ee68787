"""Looking at a server again and again: surveys that survive a lost connection and a restarting server."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any

from ..core.server.model import Server
from ..core.server.unknown import UNKNOWN
from ..redfish.client import Client
from ..redfish.exchange import RedfishError
from ..redfish.memory import Memory
from .survey import survey

PASSING = (0, 500, 502, 503, 504)
"""HTTP statuses (0: no answer at all) of troubles that pass by themselves."""


class Tell(StrEnum):
    """What there is to tell while something is followed or guided."""

    NO_ANSWER = "no-answer"
    SERVER_OFF = "server-off"
    ANSWERS_AGAIN = "answers-again"
    LED_ELSEWHERE = "led-elsewhere"
    GOES_ON = "goes-on"
    POWER_OFF = "power-off"
    POWER_ON = "power-on"
    HOT_SWAP_NOT_KNOWN = "hot-swap-not-known"
    TAKE_OUT = "take-out"
    WRONG_BAY = "wrong-bay"
    BACK = "back"
    COPY_BACK = "copy-back"
    HAS_LEFT = "has-left"
    LEAVE_SEATED = "leave-seated"
    NOW_SAFE = "now-safe"
    SEAT_NEW = "seat-new"
    STRAY = "stray"
    OLD_AGAIN = "old-again"
    HOLDS_NOW = "holds-now"
    WILL_NOT_DO = "will-not-do"
    FITS = "fits"
    GONE_AGAIN = "gone-again"
    ANOTHER_FAILS = "another-fails"
    OFFLINE = "offline"
    BYTES_LOST = "bytes-lost"
    WHOLE_AGAIN = "whole-again"
    RUNS = "runs"
    PROGRESS = "progress"
    ASKED_FOR = "asked-for"
    NOT_OFFERED = "not-offered"
    NOTHING_BEGINS = "nothing-begins"
    SPARE_AGAIN = "spare-again"
    DONE = "done"
    REMAINS = "remains"


@dataclass(frozen=True)
class Told:
    """One thing to tell: `kind` "step" (something is settled), "wait" (for a person or for work), "alarm" (do this at
    once), "check" (of a drive, or what remains), "progress", "done"; what it is, and its facts."""

    kind: str
    code: Tell
    facts: dict[str, Any] = field(default_factory=dict)


class Again:
    """Looks at one server, of which those at which nothing moves ask for little (`redfish/memory`).

    keen  paths of what is waited for, which every look reads
    """

    def __init__(self, client: Client, keen: Sequence[str] = ()) -> None:
        self._client, self._memory = client, Memory(keen=keen)
        self._last: Server | None = None

    def look(self) -> Server:
        """The server as it is. Where something has moved since the last look, all of it is read. Raises RedfishError,
        WorkError."""
        if not self._client.far:
            return survey(self._client, sight=False)
        seen = self._survey()
        if self._last is not None and _unmoving(seen) != _unmoving(self._last):
            self._memory.forget()
            seen = self._survey()
        self._last = seen
        return seen

    def _survey(self) -> Server:
        with self._client.look(self._memory):
            return survey(self._client, sight=False)


def _unmoving(seen: Server) -> object:
    """A server without what changes all the time by itself: its clock, how far work is, temperatures, wear."""
    volumes = [
        replace(v, work=(), etag=None, seats=tuple(replace(s, done=UNKNOWN) for s in v.seats)) for v in seen.volumes
    ]
    work = [(w.key, w.waits is True) for v in seen.volumes for w in v.work]
    drives = [replace(d, celsius=UNKNOWN, media_life=UNKNOWN) for d in seen.drives]
    return replace(seen, time="", drives=tuple(drives), volumes=tuple(volumes)), work


def looks(
    client: Client,
    pause: float,
    sleep: Callable[[float], None] = time.sleep,
    also_off: Callable[[], bool] | None = None,
    keen: Sequence[str] = (),
) -> Iterator[Server | Told]:
    """A survey each time it is asked; in between, once each, what there is to tell of the connection or the power.

    also_off  whether surveys of a server that is off are wanted now, too
    keen      paths of what is waited for, which every look reads

    Raises RedfishError for what does not pass by itself, and for a server that never answered.
    """
    trouble, first, again = "", True, Again(client, keen)
    while True:
        if not first:
            sleep(pause)
        try:
            seen = again.look()
        except RedfishError as reason:
            if first or reason.facts["status"] not in PASSING:
                raise
            if trouble != "lost":
                trouble = "lost"
                yield Told("wait", Tell.NO_ANSWER)
            continue
        first = False
        if seen.off:
            wanted = also_off is not None and also_off()
            if trouble != "off" and not wanted:
                yield Told("wait", Tell.SERVER_OFF)
            trouble = "off"
            if wanted:
                yield seen
            continue
        if trouble:
            trouble = ""
            yield Told("step", Tell.ANSWERS_AGAIN)
        yield seen
