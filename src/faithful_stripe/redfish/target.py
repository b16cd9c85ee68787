"""From what `--at` names to a client: a bench folder in process, an https address over the network."""

from __future__ import annotations

from pathlib import Path

import httpx

from ..bench.bench import Bench
from ..core.errors import StripeError
from .client import Client
from .service import Service


class TargetError(StripeError):
    template = "{at}: {what}"
    remedy = "{to_do}"


class _BenchTransport(httpx.WSGITransport):
    """httpx's in-process transport over a bench, which it closes with the client."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(Service(bench))
        self._bench = bench

    def close(self) -> None:
        self._bench.close()


def connect(at: str, speed: float = 1.0) -> Client:
    """A client for a bench folder or an `https://` address.

    speed  bench seconds per second; a real server's clock cannot be hurried (TargetError)
    """
    if "://" not in at:
        transport = _BenchTransport(Bench(Path(at), speed=speed))
        return Client(at, httpx.Client(transport=transport, base_url="http://bench"))
    if not at.startswith("https://"):
        raise TargetError(at=at, what="only https addresses are spoken to", to_do="write https://ADDRESS")
    if speed != 1.0:
        raise TargetError(at=at, what="--speed is for benches", to_do="leave it out; a real server keeps real time")
    return Client(at, httpx.Client(base_url=at.rstrip("/"), timeout=30.0, headers={"OData-Version": "4.0"}))
