"""Looking at a server again and again: surveys that survive a lost connection and a restarting server."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from ..core.server.model import Server
from ..redfish.client import Client, RedfishError
from .survey import survey

PASSING = (0, 500, 502, 503, 504)
"""HTTP statuses (0: no answer at all) of troubles that pass by themselves."""


@dataclass(frozen=True)
class Told:
    """One thing to tell: `kind` "step" (something is settled), "wait" (for a person or for work), "alarm" (do this at
    once), "check" (of a drive, or what remains), "progress", "done"."""

    kind: str
    what: str
    to_do: str = ""


def looks(client: Client, pause: float, sleep: Callable[[float], None] = time.sleep) -> Iterator[Server | Told]:
    """A survey each time it is asked; in between, once each, what there is to tell of the connection or the power.

    Raises RedfishError for what does not pass by itself, and for a server that never answered.
    """
    trouble, first = "", True
    while True:
        if not first:
            sleep(pause)
        try:
            seen = survey(client, sight=False)
        except RedfishError as reason:
            if first or reason.facts["status"] not in PASSING:
                raise
            if trouble != "lost":
                trouble = "lost"
                yield Told("wait", "the server does not answer", "waiting for it; touch nothing until it is back")
            continue
        first = False
        if seen.power.lower() == "off":
            if trouble != "off":
                trouble = "off"
                yield Told("wait", "the server is off", "waiting until it is on again: work goes on then")
            continue
        if trouble:
            trouble = ""
            yield Told("step", "the server answers again")
        yield seen
