"""Several servers at once: each surveyed by itself, the worst first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from ..core.errors import StripeError
from ..core.server.assess import Assessment, assess
from ..core.server.model import Server
from ..core.server.unknown import known
from ..redfish.client import Client
from .log import Entry, clocks, entries, explained, later, seen_for, since
from .survey import survey

AT_ONCE = 32


@dataclass(frozen=True)
class Logged:
    """The events of one server, or why they could not be read; `missed`: parts of its log that could not be."""

    at: str
    server: str
    entries: tuple[Entry, ...] = ()
    missed: tuple[str, ...] = ()
    trouble: str = ""


def logs_of(targets: Sequence[str], connect: Callable[[str], Client], moment: str, now: float) -> list[Logged]:
    """The events of every server, read at the same time, resolved and with this machine's times.

    moment  from when on, as a person gives it (`log.since`); "" for all
    now     this machine's time, in seconds since 1970
    """

    def look(at: str) -> Logged:
        missed: list[str] = []
        try:
            with connect(at) as client:
                told = clocks(client)
                begin = since(moment, now + told.offset) if moment else ""
                everything = entries(client, lambda path, _reason: missed.append(path), begin)
                seen = seen_for(client)
                found = explained(everything, seen, told)
                name = str(known(seen.server, at)) if seen else at
                return Logged(at, name, tuple(later(found, begin) if begin else found), tuple(missed))
        except StripeError as reason:
            return Logged(at, at, missed=tuple(missed), trouble=reason.what)

    with ThreadPoolExecutor(max_workers=AT_ONCE) as pool:
        return list(pool.map(look, targets))


@dataclass(frozen=True)
class Seen:
    """A server, or why it could not be seen."""

    at: str
    survey: Server | None
    trouble: str = ""
    judged: Assessment | None = None

    @property
    def state(self) -> str:
        """ "Critical", "Warning" or "OK"; a server that does not answer is critical."""
        return "Critical" if self.judged is None else self.judged.worst.value

    @property
    def margin(self) -> int | None:
        """The least margin of its volumes; None without any."""
        return self.judged.least_margin if self.judged else None


def survey_all(targets: Sequence[str], connect: Callable[[str], Client]) -> list[Seen]:
    """Every server surveyed, at the same time; the worst first, then those with the least margin."""

    def look(at: str) -> Seen:
        try:
            with connect(at) as client:
                seen = survey(client)
                return Seen(at, seen, judged=assess(seen))
        except StripeError as reason:
            return Seen(at, None, reason.what)

    with ThreadPoolExecutor(max_workers=AT_ONCE) as pool:
        found = list(pool.map(look, targets))
    worst = ("Critical", "Warning", "OK")
    return sorted(
        found, key=lambda s: (worst.index(s.state), s.survey is not None, 99 if s.margin is None else s.margin)
    )
