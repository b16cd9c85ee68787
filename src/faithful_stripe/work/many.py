"""Several servers at once: each surveyed by itself, the worst first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from ..core.errors import StripeError
from ..core.server.model import Server
from ..redfish.client import Client
from .survey import survey

AT_ONCE = 32


@dataclass(frozen=True)
class Seen:
    """A server, or why it could not be seen."""

    at: str
    survey: Server | None
    trouble: str = ""

    @property
    def state(self) -> str:
        """ "Critical", "Warning" or "OK"; a server that does not answer is critical."""
        if self.survey is None:
            return "Critical"
        return self.survey.findings[0].severity if self.survey.findings else "OK"

    @property
    def margin(self) -> int | None:
        """The least margin of its volumes; None without any."""
        known = [v.margin for v in self.survey.volumes if v.margin is not None] if self.survey else []
        return min(known, default=None)


def survey_all(targets: Sequence[str], connect: Callable[[str], Client]) -> list[Seen]:
    """Every server surveyed, at the same time; the worst first, then those with the least margin."""

    def look(at: str) -> Seen:
        try:
            with connect(at) as client:
                return Seen(at, survey(client))
        except StripeError as reason:
            return Seen(at, None, reason.what)

    with ThreadPoolExecutor(max_workers=AT_ONCE) as pool:
        found = list(pool.map(look, targets))
    worst = ("Critical", "Warning", "OK")
    return sorted(
        found, key=lambda s: (worst.index(s.state), s.survey is not None, 99 if s.margin is None else s.margin)
    )
