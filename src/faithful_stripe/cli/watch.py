"""Watch: a server, or several, followed until nothing is left to wait for; for people, for programs, as metrics."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core.server.unknown import known
from .common import ATTENTION, all_named, json_option, named, plain, speed_option, target

if TYPE_CHECKING:
    from ..work.metrics import Door
    from ..work.seeing import Told
    from ..work.watch import Snapshot


@click.command()
@speed_option
@click.option("--once", is_flag=True, help="One look, then return.")
@click.option(
    "--metrics",
    metavar="FILE|[ADDRESS:]PORT",
    help="Also as OpenMetrics text: into a file, or served at a port, of this machine unless told.",
)
@click.option("--metrics-cert", type=click.Path(path_type=Path), metavar="PEM", help="Serve them over TLS with this.")
@click.option("--metrics-key", type=click.Path(path_type=Path), metavar="PEM", help="The certificate's key.")
@click.option("--forever", is_flag=True, help="Keep on when no work is left (for --metrics).")
@click.option(
    "--every",
    type=click.FloatRange(1.0, 86400.0),
    metavar="SECONDS",
    help="From look to look; 1 s, of several servers 60 s.",
)
@click.option(
    "--run",
    "command",
    metavar="COMMAND",
    help="Of several servers: run this for each finding that begins or ends, told as JSON on its input.",
)
@click.option("--post", metavar="URL", help="Of several servers: post each finding that begins or ends there, as JSON.")
@json_option
@click.pass_context
def watch(
    ctx: click.Context, speed: float, once: bool, metrics: str | None, metrics_cert: Path | None,
    metrics_key: Path | None, forever: bool, every: float | None, command: str | None, post: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Follow all work until it is done: rate, time left with its spread, temperature, margin, the chance of losing
    data meanwhile. A lost connection or a restarting server is waited for.

    Of several servers (--at repeated, or a list file): a line for each finding that begins or ends, until Ctrl-C.

    Exit status 3 when a volume is still not healthy at the end. With --json one line per look.

    \b
    Example: an hour of the bench in every second
      fstripe --at skerry watch --speed 3600
      fstripe --at skerry watch --metrics 9123 --forever
      fstripe --at rack.toml watch --metrics 9123 --run ./tell-us
    """
    from ..work.seeing import Tell, Told
    from ..work.watch import watch as snapshots
    from .fleet import door_of, watch_fleet
    from .telling import told_words

    door = door_of(metrics, metrics_cert, metrics_key)
    if len(all_named(ctx)) > 1:
        watch_fleet(ctx, every or 60.0, once, door or metrics, command, post, as_json)
        return
    if command or post:
        raise click.UsageError("--run and --post are for several servers; of one, `log --follow` tells what happens")
    client = target(ctx, speed)
    if as_json:
        show_one: Callable[[Snapshot], None] = JsonView()
    elif sys.stdout.isatty():
        from .live import LiveView

        show_one = ctx.with_resource(LiveView())
    else:
        show_one = PlainView()
    last: Snapshot | None = None
    exposed = _metrics(door or metrics, named(ctx))
    try:
        while True:
            for found in snapshots(client, every or (0.25 if speed > 1 else 1.0)):
                if isinstance(found, Told):
                    what, to_do = told_words(found)
                    _tell_trouble(found, what, to_do, as_json)
                    if found.code is Tell.NO_ANSWER:
                        exposed(None)
                    continue
                last = found
                show_one(last)
                exposed(last)
                if once:
                    break
            if once or not forever:
                break
            time.sleep(10.0)
    except KeyboardInterrupt:
        _left_running(last)
        ctx.exit(1)
    ctx.exit(0 if last is None or last.healthy else ATTENTION)


def _tell_trouble(told: Told, what: str, to_do: str, as_json: bool) -> None:
    """A server that does not answer, or is off, is told at once, in the terminal, the pipe and the lines of JSON."""
    if as_json:
        click.echo(json.dumps({"told": told.code.value, "what": what, "to_do": to_do}))
    click.echo(f"  {what}{f': {to_do}' if to_do else ''}", err=True)


def _metrics(wanted: Door | str | None, at: str) -> Callable[[Snapshot | None], None]:
    """What is done with every snapshot for the monitoring system; None: the server does not answer."""
    if wanted is None:
        return lambda _snapshot: None
    from ..work.metrics import Exposition, serve_pages

    made = Exposition(at)
    if not isinstance(wanted, str):
        click.echo(f"Metrics at {serve_pages(made.page, wanted)}", err=True)

    def take(snapshot: Snapshot | None) -> None:
        if snapshot is None:
            made.silent()
        else:
            made.take(snapshot)
        if isinstance(wanted, str):
            made.write(Path(wanted))

    return take


def _left_running(last: Snapshot | None) -> None:
    from .words import percent, work_words

    running = [p.work for p in last.progress] if last else []
    going = ", ".join(f"{w.volume} {work_words(w)} {percent(w)}" for w in running)
    rest = f"the work continues ({going}); look again with `watch`" if going else "nothing was changed"
    click.echo(f"fstripe: stopped watching; {rest}", err=True)


class JsonView:
    """A line for every change."""

    def __init__(self) -> None:
        self._last: object = None

    def __call__(self, snapshot: Snapshot) -> None:
        from .words import work_words

        progress = [{**plain(p), "name": work_words(p.work)} for p in snapshot.progress]
        body = {"progress": progress, "healthy": snapshot.healthy,
                "margins": {j.volume.name: j.margin for j in snapshot.volumes},
                "states": {j.volume.name: j.state.value for j in snapshot.volumes},
                "unfinished": snapshot.unfinished}  # fmt: skip
        if body != self._last:
            self._last = body
            click.echo(json.dumps({"time": snapshot.time, **body}))


class PlainView:
    """Lines for a pipe: one whenever another five per cent are done, and one at the end."""

    def __init__(self) -> None:
        self._last: dict[tuple[str, ...], int] = {}

    def __call__(self, snapshot: Snapshot) -> None:
        from .live import closing_line, progress_line, whole_line

        for p in snapshot.progress:
            step = int(known(p.work.percent, 0.0) // 5)
            if self._last.get(p.work.key) != step:
                self._last[p.work.key] = step
                click.echo(f"{snapshot.time[:19].replace('T', ' ')}  {progress_line(p, snapshot.judged.server)}")
                if p.work.waits is not True and whole_line(snapshot):
                    click.echo(f"{snapshot.time[:19].replace('T', ' ')}  {whole_line(snapshot)}")
        if not snapshot.progress:
            click.echo(f"{snapshot.time[:19].replace('T', ' ')}  {closing_line(snapshot)}")
