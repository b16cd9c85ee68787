"""`bench serve`: a bench over HTTPS, as a real server would be reached."""

from __future__ import annotations

import hashlib
import os
import secrets
import signal
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import json_option, print_json, speed_option

if TYPE_CHECKING:
    from ..redfish.listening import Listener


@click.command()
@click.argument("name", type=click.Path(path_type=Path))
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen at.")
@click.option("--port", default=8443, show_default=True, help="The port; 0 takes a free one.")
@click.option("--user", default="technician", show_default=True, help="Who may log in.")
@click.option(
    "--manner", default="plain", show_default=True,
    type=click.Choice(["plain", "paged", "sparse", "tasks", "tagged", "busy", "slow", "lossy"]),
    help="Behave like a difficult server.",
)  # fmt: skip
@speed_option
@json_option
def serve(name: Path, host: str, port: int, user: str, manner: str, speed: float, as_json: bool) -> None:
    """Serve the bench NAME over HTTPS until Ctrl-C.

    The password is taken from FSTRIPE_SERVE_PASSWORD; without it one is drawn at random and shown. The certificate is
    created on first use and kept in the bench's folder; its fingerprint is shown for --trust.

    \b
    paged   collections in pages, no $expand       busy   503 to every other request
    sparse  only what the standard demands         slow   late answers
    tasks   202 and a monitor for every change     lossy  creations whose answer is lost
    tagged  changes only with an ETag

    \b
    Example:
      fstripe bench serve skerry
    """
    from ..bench.bench import Bench
    from ..bench.errors import BenchError
    from ..redfish.listening import Listener
    from ..redfish.manners import MANNERS
    from ..redfish.service import Service
    from ..redfish.serving import Sessions, certificate
    from ..redfish.streaming import EventStream

    bench = Bench(name, speed=speed)
    with bench.session():
        pass
    password = os.environ.get("FSTRIPE_SERVE_PASSWORD") or secrets.token_urlsafe(9)
    certified, key = certificate(name, host)
    layers = MANNERS[manner](Service(bench))
    events = EventStream(layers)
    door = Sessions(layers if manner == "sparse" else events, user, password)
    try:
        running = Listener(door, host, port, certified, key)
    except OSError as reason:
        bench.close()
        raise BenchError(bench=name, what=f"nobody can listen at {host}:{port} ({reason.strerror})",
                         to_do="choose another --port, or 0 for a free one") from reason  # fmt: skip
    try:
        at = f"https://{running.address[0]}:{running.address[1]}"
        shown = hashlib.sha256(ssl.PEM_cert_to_DER_cert(certified.read_text("ascii"))).hexdigest()
        if "FSTRIPE_SERVE_PASSWORD" not in os.environ:
            click.echo(f"Password, for this time only: {password}", err=True)
        if as_json:
            print_json({"at": at, "user": user, "trust": f"sha256:{shown}", "ca": str(certified)})
        else:
            click.echo(f"Serving {name} at {at}, user {user}; Ctrl-C ends it.")
            click.echo(f"Certificate: --trust sha256:{shown}, or --ca {certified}")
        with ending(running):
            running.serve()
        click.echo("Ended; the bench is as it was left.", err=True)
    finally:
        running.close()
        events.end()
        bench.close()


@contextmanager
def ending(running: Listener) -> Iterator[None]:
    """Ctrl-C and a request to end (SIGTERM, SIGHUP) end the serving at its next turn, wherever they meet it; one
    that is ignored stays so."""

    def end(_number: int, _frame: object) -> None:
        running.stop()

    asked = [s for s in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP) if signal.getsignal(s) is not signal.SIG_IGN]
    before = {number: signal.signal(number, end) for number in asked}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
