"""Many servers watched at the same time: each looked at in its turn, what begins and what ends told once, and all of it
as metrics.

Of a server no more is kept than its findings' keys and its metrics, so that five hundred take little memory. Servers
are asked 32 at a time, each no more often than it is wanted; one that does not answer is a finding of its own and keeps
nobody waiting.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from urllib.parse import parse_qs

from prometheus_client import CollectorRegistry
from prometheus_client.core import Metric
from prometheus_client.openmetrics.exposition import generate_latest

from ..core.errors import StripeError
from ..core.server.assess import Assessment, assess
from ..core.server.findings import Finding
from ..core.server.things import Health
from ..redfish.client import Client
from .many import AT_ONCE
from .metrics import Exposition
from .survey import survey
from .watch import Pace, snapshot_of

Key = tuple[str, str]
"""What a finding is, and of what."""

UNREACHABLE: Key = ("unreachable", "")


@dataclass(frozen=True)
class Change:
    """Something that began or ended at a server.

    at, server  how it is named here, and what it calls itself
    finding     None for a server that does not answer, or answers again; trouble: why it does not
    judged      what the finding is told by; None where it has ended
    """

    at: str
    server: str
    begins: bool
    severity: Health
    key: Key
    finding: Finding | None = None
    judged: Assessment | None = None
    trouble: str = ""
    time: float = 0.0


@dataclass
class _Watched:
    """What is kept of a server."""

    exposition: Exposition
    pace: Pace = field(default_factory=Pace)
    findings: dict[Key, Health] = field(default_factory=dict)
    families: tuple[Metric, ...] = ()


class Fleet:
    """The servers that are watched. `connect` makes a client for one of them; `now` is this machine's clock."""

    def __init__(
        self, targets: Sequence[str], connect: Callable[[str], Client], now: Callable[[], float] = time.time
    ) -> None:
        self.targets, self._connect, self._now = tuple(targets), connect, now
        self._lock = threading.Lock()
        self._watched = {at: _Watched(Exposition(at, now)) for at in self.targets}

    def look(self) -> Iterator[Change]:
        """Look at every server once; what began and ended since the last look, as it is found."""
        with ThreadPoolExecutor(AT_ONCE, "look") as pool:
            for changes in pool.map(self._one, self.targets):
                yield from changes

    def _one(self, at: str) -> list[Change]:
        trouble, judged = "", None
        try:
            with self._connect(at) as client:
                judged = assess(survey(client, sight=False))
        except StripeError as reason:
            trouble = reason.what
        watched = self._watched[at]
        with self._lock:
            if judged is None:
                watched.exposition.silent()
            else:
                watched.exposition.take(snapshot_of(judged, watched.pace))
            watched.families = tuple(_named(at, family) for family in watched.exposition.collect())
            watched.exposition.snapshot = None  # it is in the metrics now: no more of a server is kept than those
            return list(self._changes(at, watched, judged, trouble))

    def _changes(self, at: str, watched: _Watched, judged: Assessment | None, trouble: str) -> Iterator[Change]:
        name, now, before = watched.exposition.server, self._now(), watched.findings
        if judged is None:
            if UNREACHABLE not in before:
                before[UNREACHABLE] = Health.CRITICAL
                yield Change(at, name, True, Health.CRITICAL, UNREACHABLE, trouble=trouble, time=now)
            return
        found = {key_of(f): f for f in judged.findings}
        for key, severity in before.items():
            if key not in found:
                yield Change(at, name, False, severity, key, time=now)
        for key, f in found.items():
            if key not in before:
                yield Change(at, name, True, f.severity, key, f, judged, time=now)
        watched.findings = {key: f.severity for key, f in found.items()}

    # metrics ------------------------------------------------------------------------------------

    def collect(self) -> Iterator[Metric]:
        """The metrics of all servers, each family once."""
        return _merged(family for w in self._watched.values() for family in w.families)

    def page(self, path: str, query: str) -> tuple[int, bytes]:
        """What is answered at `/metrics`, and at `/probe?target=AT` for one server, as monitoring systems ask."""
        if path == "/metrics":
            source: Iterable[Metric] = self.collect()
        elif path == "/probe":
            wanted = (parse_qs(query).get("target") or [""])[0]
            if wanted not in self._watched:
                return 404, b"no such target is watched\n"
            source = self._watched[wanted].families
        else:
            return 404, b"/metrics, or /probe?target=AT\n"
        return 200, exposed(source)


def key_of(finding: Finding) -> Key:
    """What a finding is and of what, the same from look to look."""
    return finding.code.value, finding.subject.path or finding.subject.name


def exposed(source: Iterable[Metric]) -> bytes:
    """Metrics as OpenMetrics text."""
    registry = CollectorRegistry()
    registry.register(_Collected(tuple(source)))
    return bytes(generate_latest(registry))  # type: ignore[no-untyped-call]


class _Collected:
    def __init__(self, families: tuple[Metric, ...]) -> None:
        self._families = families

    def collect(self) -> Iterator[Metric]:
        return iter(self._families)


def _named(at: str, family: Metric) -> Metric:
    """A family whose samples also say how the server is named here: what servers call themselves may be the same."""
    named = Metric(family.name, family.documentation, family.type)
    named.samples = [s._replace(labels={"at": at, **s.labels}) for s in family.samples]
    return named


def _merged(families: Iterable[Metric]) -> Iterator[Metric]:
    found: dict[str, Metric] = {}
    for family in families:
        mine = found.setdefault(family.name, Metric(family.name, family.documentation, family.type))
        mine.samples.extend(family.samples)
    return iter(found.values())
