"""What a watch sees as OpenMetrics text, for the monitoring system that a room full of servers already has.

Where a server stops answering, what was known of it is no longer exposed as if it were so: only that it is not up, and
when it was heard of last.
"""

from __future__ import annotations

import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from http import HTTPStatus
from pathlib import Path
from socketserver import ThreadingMixIn
from typing import Any
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server

from prometheus_client import CollectorRegistry
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

from ..core.ranges import total
from ..core.server.condition import Judged, State
from ..core.server.redundancy import Answers, answers, failed, health_of
from ..core.server.things import Drive, Health
from ..core.server.unknown import UNKNOWN, known
from ..media.whole import write_text
from .errors import WorkError
from .watch import Snapshot

VOLUME = ["server", "volume", "controller", "path"]
DRIVE = ["server", "bay", "serial", "path"]
WORK = ["server", "volume", "work", "target"]


class Exposition:
    """The newest snapshot as metrics: collected when they are asked for.

    server  how the server is called until it has told its own name; now: this machine's clock, seconds since 1970
    """

    def __init__(self, server: str = "", now: Callable[[], float] = time.time) -> None:
        self.snapshot: Snapshot | None = None
        self.server, self._now = server, now
        self.heard: float | None = None
        self.registry = CollectorRegistry()
        self.registry.register(self)

    def take(self, snapshot: Snapshot) -> None:
        """This is what is so from now on."""
        self.snapshot, self.heard = snapshot, self._now()
        self.server = snapshot.judged.server.server

    def silent(self) -> None:
        """The server does not answer: nothing that was known of it is so any more, for all we know."""
        self.snapshot = None

    def collect(self) -> Iterator[Metric]:
        """Every metric with its values, as the library asks for them."""
        up = _gauge("fstripe_up", "1: the server answers; 0: it does not", ["server"])
        up.add_metric([self.server], int(self.snapshot is not None))
        heard = _gauge("fstripe_last_contact_timestamp_seconds", "When the server answered last", ["server"])
        if self.heard is not None:
            heard.add_metric([self.server], self.heard)
        yield from (up, heard)
        if self.snapshot is not None:
            yield from self._volumes(self.snapshot)
            yield from self._work(self.snapshot)
            yield from self._drives(self.snapshot)

    def _volumes(self, seen: Snapshot) -> Iterator[Metric]:
        margin = _gauge("fstripe_volume_margin",
                        "Further failures that it certainly survives; -1: it cannot be read", VOLUME)  # fmt: skip
        state = _gauge("fstripe_volume_state", "1 for the state that the volume is in", [*VOLUME, "state"])
        lost = _gauge("fstripe_volume_lost_bytes", "Bytes that can be neither read nor computed", VOLUME)
        open_ = _gauge("fstripe_volume_inconsistent_bytes", "Bytes in which a check found a mismatch", VOLUME)
        for j in seen.volumes:
            names = self._named(j)
            margin.add_metric(names, j.margin)
            for one in State:
                state.add_metric([*names, one.value], int(j.state is one))
            lost.add_metric(names, total(j.lost))
            open_.add_metric(names, total(j.volume.inconsistent))
        findings = _gauge("fstripe_findings", "Things that need attention, by severity", ["server", "severity"])
        for severity in (Health.WARNING, Health.CRITICAL):
            found = sum(f.severity is severity for f in seen.judged.findings)
            findings.add_metric([self.server, severity.value], found)
        yield from (margin, state, lost, open_, findings)

    def _named(self, j: Judged) -> list[str]:
        return [self.server, j.volume.name, j.volume.controller, j.volume.path]

    def _work(self, seen: Snapshot) -> Iterator[Metric]:
        done = _gauge("fstripe_work_done_ratio", "How much of the work is done", WORK)
        left = _gauge("fstripe_work_left_seconds", "Time left at the measured rate", WORK)
        chance = _gauge("fstripe_work_loss_ratio", "Chance of losing data until the work is done", WORK)
        for p in seen.progress:
            names = [self.server, p.work.volume, p.work.kind.value, known(p.work.target, "")]
            if p.work.percent is not UNKNOWN:
                done.add_metric(names, p.work.percent / 100)
            if p.left is not None:
                left.add_metric(names, p.left)
            if p.chance is not None:
                chance.add_metric(names, p.chance)
        yield from (done, left, chance)

    def _drives(self, seen: Snapshot) -> Iterator[Metric]:
        health = _gauge("fstripe_drive_health", "0 OK, 1 warning or not known, 2 critical", DRIVE)
        needed = _gauge("fstripe_drive_needed", "1: a volume that is offline returns only with this drive", DRIVE)
        predicts = _gauge("fstripe_drive_predicts_failure", "1: it says that it will fail", DRIVE)
        warm = _gauge("fstripe_drive_celsius", "Temperature", DRIVE)
        losses = _gauge("fstripe_drive_link_losses", "How often its link was lost within a day", DRIVE)
        slow = _gauge("fstripe_drive_slowed_ratio", "How many times slower than it should be", DRIVE)
        offline = {s.drive for j in seen.volumes if j.state is State.OFFLINE for s in j.volume.seats}
        for d in seen.drives:
            if not d.seated:
                continue
            names = [self.server, d.bay, known(d.serial, ""), d.path]
            health.add_metric(names, _severity(d))
            needed.add_metric(names, int(d.path in offline))
            for gauge, value in ((warm, d.celsius), (losses, d.link_losses), (slow, d.slowed)):
                if value is not UNKNOWN:
                    gauge.add_metric(names, value)
            if d.predicted is not UNKNOWN:
                predicts.add_metric(names, int(d.predicted))
        spares = _gauge("fstripe_hot_spares", "Hot spares that stand by", ["server"])
        spares.add_metric([self.server], sum(d.stands_by for d in seen.drives))
        yield from (health, needed, predicts, warm, losses, slow, spares)

    def text(self) -> str:
        """The metrics as OpenMetrics text."""
        return str(generate_latest(self.registry), "utf-8")  # type: ignore[no-untyped-call]

    def write(self, path: Path) -> None:
        """The metrics into a file, whole or not at all, as a collector of text files reads them."""
        write_text(path, self.text(), replace=True)

    def page(self, path: str, _query: str) -> tuple[int, bytes]:
        """What is answered at a path: the metrics, and nothing else."""
        return (200, self.text().encode()) if path in ("/", "/metrics") else (404, b"/metrics\n")


@dataclass(frozen=True)
class Door:
    """Where metrics are served: an address of this machine, a port (0: a free one), and the certificate (PEM) with its
    key where that is done over TLS."""

    address: str = "127.0.0.1"
    port: int = 0
    certificate: Path | None = None
    key: Path | None = None


class _Server(ThreadingMixIn, WSGIServer):
    daemon_threads = True
    request_queue_size = 64


class _Silent(WSGIRequestHandler):
    timeout = 15.0

    def log_message(self, format: str, *args: Any) -> None:
        """Say nothing: a monitoring system asks all the time."""


def serve_pages(page: Callable[[str, str], tuple[int, bytes]], door: Door) -> str:
    """Serve pages in a thread of their own until this process ends; the address. Raises WorkError.

    page  (status, OpenMetrics text) of a path and its query
    """

    def answer(environ: dict[str, Any], start_response: Callable[..., Any]) -> list[bytes]:
        status, text = page(environ["PATH_INFO"], environ["QUERY_STRING"])
        start_response(f"{status} {HTTPStatus(status).phrase}", [("Content-Type", CONTENT_TYPE_LATEST)])
        return [text]

    try:
        family = socket.AF_INET6 if ":" in door.address else socket.AF_INET
        kind = type("_Bound", (_Server,), {"address_family": family})
        server: WSGIServer = make_server(door.address, door.port, answer, kind, _Silent)
        if door.certificate:
            context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
            context.load_cert_chain(door.certificate, door.key)
            server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
    except (OSError, ssl.SSLError) as reason:
        what = f"metrics cannot be served at {door.address}, port {door.port} ({reason.strerror or reason})"
        raise WorkError(what=what, to_do="name another port, address, or certificate and key (PEM)") from reason
    threading.Thread(target=server.serve_forever, daemon=True).start()
    host = f"[{door.address}]" if ":" in door.address else door.address
    return f"http{'s' if door.certificate else ''}://{host}:{server.server_address[1]}/metrics"


def _gauge(name: str, words: str, labels: list[str]) -> GaugeMetricFamily:
    return GaugeMetricFamily(name, words, labels=labels)


def _severity(d: Drive) -> int:
    if failed(d):
        return 2
    return 0 if health_of(d) is Health.OK and answers(d) is Answers.YES else 1
