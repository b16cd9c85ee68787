"""What a watch sees as OpenMetrics text, for the monitoring system that a room full of servers already has."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from prometheus_client import CollectorRegistry, start_http_server
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import generate_latest

from ..media.whole import write_text
from .errors import WorkError
from .watch import Snapshot

HEALTH = {"OK": 0, "Warning": 1, "Critical": 2}


class Exposition:
    """The newest snapshot as metrics: collected when they are asked for."""

    def __init__(self) -> None:
        self.snapshot: Snapshot | None = None
        self.registry = CollectorRegistry()
        self.registry.register(self)

    def take(self, snapshot: Snapshot) -> None:
        """This is what is so from now on."""
        self.snapshot = snapshot

    def collect(self) -> Iterator[Metric]:
        """Every metric with its values, as the library asks for them."""
        seen = self.snapshot
        if seen is None:
            return
        margin = GaugeMetricFamily(
            "fstripe_volume_margin", "Further failures that the volume certainly survives; -1: data are lost",
            labels=["volume", "controller"])  # fmt: skip
        health = GaugeMetricFamily(
            "fstripe_volume_health", "0 OK, 1 warning, 2 critical", labels=["volume", "controller"])  # fmt: skip
        for v in seen.volumes:
            if v.margin is not None:
                margin.add_metric([v.name, v.controller], v.margin)
            health.add_metric([v.name, v.controller], HEALTH.get(v.health, 1))
        done = GaugeMetricFamily("fstripe_work_done_ratio", "How much of the work is done", labels=["volume", "work"])
        left = GaugeMetricFamily("fstripe_work_left_seconds", "Time left at the measured rate",
                                 labels=["volume", "work"])  # fmt: skip
        chance = GaugeMetricFamily("fstripe_work_loss_ratio", "Chance of losing data until the work is done",
                                   labels=["volume", "work"])  # fmt: skip
        for p in seen.progress:
            names = [p.work.volume, p.work.name]
            done.add_metric(names, p.work.percent / 100)
            if p.left is not None:
                left.add_metric(names, p.left)
            if p.chance is not None:
                chance.add_metric(names, p.chance)
        drive = GaugeMetricFamily("fstripe_drive_health", "0 OK, 1 warning, 2 critical", labels=["bay", "serial"])
        predicts = GaugeMetricFamily("fstripe_drive_predicts_failure", "1: it says that it will fail",
                                     labels=["bay", "serial"])  # fmt: skip
        warm = GaugeMetricFamily("fstripe_drive_celsius", "Temperature", labels=["bay", "serial"])
        for d in seen.drives:
            if d.serial:
                drive.add_metric([d.bay, d.serial], HEALTH.get(d.health, 1))
                predicts.add_metric([d.bay, d.serial], int(d.predicted))
                if d.celsius is not None:
                    warm.add_metric([d.bay, d.serial], d.celsius)
        spares = GaugeMetricFamily("fstripe_hot_spares", "Hot spares that stand by")
        spares.add_metric([], sum(bool(d.spare) and d.use.startswith("hot spare") for d in seen.drives))
        yield from (margin, health, done, left, chance, drive, predicts, warm, spares)

    def text(self) -> str:
        """The metrics as OpenMetrics text."""
        return str(generate_latest(self.registry), "utf-8")  # type: ignore[no-untyped-call]

    def write(self, path: Path) -> None:
        """The metrics into a file, whole or not at all, as a collector of text files reads them."""
        write_text(path, self.text(), replace=True)

    def serve(self, port: int) -> int:
        """Serve them at a port of this machine; which one. Raises WorkError when it is taken."""
        try:
            server, _thread = start_http_server(port, addr="127.0.0.1", registry=self.registry)
        except OSError as reason:
            raise WorkError(what=f"port {port} cannot be used ({reason})", to_do="name another one") from reason
        return int(server.server_address[1])
