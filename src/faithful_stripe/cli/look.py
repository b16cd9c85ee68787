"""The looking commands: survey, bays, log, watch."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, access_of, all_named, json_option, plain, print_json, target

if TYPE_CHECKING:
    from ..core.server.model import Server, Volume
    from ..work.watch import Snapshot
    from .render import Cell, Part


@click.command()
@click.option("--as-sheet", is_flag=True, help="Write the present set-up as a build sheet (TOML) instead.")
@json_option
@click.pass_context
def survey(ctx: click.Context, as_sheet: bool, as_json: bool) -> None:
    """What is in the server, what it is used for, what needs attention.

    Exit status 3 when something needs attention. Of several servers (--at repeated, or a list file with
    `servers = ["...", ...]`) one line each, the worst first.

    \b
    Example:
      fstripe --at skerry survey
      fstripe --at rack.toml survey
      fstripe --at skerry survey --as-sheet > skerry.toml
    """
    from ..work.survey import survey as read_survey
    from .render import show

    if as_sheet:
        _sheet(ctx)
        return
    if len(all_named(ctx)) > 1:
        _survey_all(ctx, as_json)
        return
    seen = read_survey(target(ctx))
    if as_json:
        print_json(seen)
    else:
        show(survey_parts(seen))
    ctx.exit(ATTENTION if seen.findings else 0)


def _sheet(ctx: click.Context) -> None:
    from ..work.errors import WorkError
    from ..work.firmware import firmware
    from ..work.sheet import as_sheet
    from ..work.survey import survey as read_survey

    client = target(ctx)
    try:
        settings = firmware(client)
    except WorkError:
        settings = None
    click.echo(as_sheet(read_survey(client), settings), nl=False)


def _survey_all(ctx: click.Context, as_json: bool) -> None:
    from ..redfish.target import connect
    from ..work.many import survey_all
    from .render import Cell, Line, Table, show

    access = access_of(ctx)
    found = survey_all(all_named(ctx), lambda at: connect(at, access=access))
    if as_json:
        print_json([{"at": s.at, "state": s.state, "trouble": s.trouble, "survey": s.survey} for s in found])
    else:
        table = Table("", ["state", "server", "at", ">volumes", ">least margin", "worst of it"])
        for s in found:
            if s.survey is None:
                table.add(Cell("Critical", "Critical"), "?", s.at, "?", "?", s.trouble)
                continue
            findings = s.survey.findings
            more = f" (and {len(findings) - 1} more)" if len(findings) > 1 else ""
            worst = f"{findings[0].where}: {findings[0].what}{more}" if findings else "nothing needs attention"
            margin = "-" if s.margin is None else "lost" if s.margin < 0 else str(s.margin)
            table.add(Cell(s.state, s.state), s.survey.server, s.at, str(len(s.survey.volumes)), margin, worst)
        bad = sum(s.state != "OK" for s in found)
        show([table, Line(f"{bad} of {len(found)} servers need attention." if bad else "All is well.")])
    ctx.exit(ATTENTION if any(s.state != "OK" for s in found) else 0)


def survey_parts(seen: Server) -> list[Part]:
    """The survey as a person reads it: what is wrong first, then controllers, volumes, drives."""
    from .attention import finding_lines
    from .render import Line

    parts: list[Part] = [
        Line(f"{seen.server}: {seen.maker} {seen.model}, serial {seen.serial}, firmware {seen.firmware}", "head"),
        Line(f"as of {seen.time[:19].replace('T', ' ')} {seen.time[-6:]} (server's clock), power {seen.power.lower()}"),
        Line(),
        *finding_lines(seen),
        Line(),
        _controllers(seen),
        Line(),
        *_volumes(seen),
        Line(),
        _drives(seen),
        Line(),
    ]
    free = [d for d in seen.drives if d.use == "unassigned" and d.health == "OK"]
    listed = ", ".join(d.bay for d in free) or "none"
    empty = ", ".join(d.bay for d in seen.drives if d.use == "empty") or "none"
    return [*parts, Line(f"Unassigned drives in bays: {listed}. Empty bays: {empty}.")]


def _controllers(seen: Server) -> Part:
    from .render import Table

    table = Table("Controllers", ["controller", "model", "serial", "firmware", "state", "health", "levels"])
    for c in seen.controllers:
        table.add(
            c.id,
            c.name,
            c.serial,
            c.firmware,
            c.state,
            c.health,
            ", ".join(level for level in c.levels if level != "None"),
        )
    return table


def _volumes(seen: Server) -> list[Part]:
    from ..core.units import binary_size, decimal_size
    from .render import Cell, Line, Table

    if not seen.volumes:
        return [Line("Volumes: none yet")]
    several = ["controller"] if len(seen.controllers) > 1 else []
    heads = [
        "volume",
        *several,
        "level",
        ">size",
        "strip",
        "bays in order",
        "health",
        ">margin",
        "now",
        "holds",
        "firmware",
    ]
    table = Table("Volumes", heads)
    for v in seen.volumes:
        labels = [f"({m.bay})" if m.state == "lost" else m.bay for m in v.members]
        size = len(labels) // v.spans or 1
        bays = " / ".join(" ".join(labels[i : i + size]) for i in range(0, len(labels), size))
        now = ", ".join(f"{w.name} {w.percent:.0f} %" for w in v.work) or v.state
        margin = "?" if v.margin is None else "lost" if v.margin < 0 else str(v.margin)
        strip = binary_size(v.strip) if v.strip else "?"
        holds = "nothing yet" if v.content == "" else v.content or "?"
        table.add(
            v.name, *([v.controller] if several else []), v.level, decimal_size(v.size), strip, bays,
            Cell(v.health, v.health), Cell(margin, v.health), now, holds, _found(v),
        )  # fmt: skip
    unseen = [v.name for v in seen.volumes if v.found is False]
    if unseen:
        return [
            table,
            Line(f"The server's own firmware looks as it starts: after a restart it sees {', '.join(unseen)}."),
        ]
    return [table]


def _found(v: Volume) -> str | Cell:
    """What the system's own firmware makes of a volume."""
    from ..core.units import decimal_size
    from .render import Cell

    boots = "; boots" if v.boots else ""
    if v.found is None:
        return f"not told{boots}"
    if not v.found:
        return Cell(f"not yet{boots}", "Warning")
    if v.found_size != v.size:
        return Cell(f"{decimal_size(v.found_size or 0)}{boots}", "Warning")
    return f"sees it{boots}"


def _drives(seen: Server) -> Part:
    from ..core.units import decimal_size
    from .render import Cell, Table

    several = ["controller"] if len(seen.controllers) > 1 else []
    heads = [">bay", *several, ">size", "media", ">rpm", "model", "serial", "state", "health", "used for"]
    table = Table("Drives", heads)
    for d in seen.drives:
        whose = [d.controller] if several else []
        if d.use == "empty":
            table.add(d.bay, *whose, "", "", "", "", "", Cell("empty", "dim"), "", "")
            continue
        use = d.use if d.content in ("", None) else f"{d.use}, holds {d.content}"
        table.add(
            d.bay, *whose, decimal_size(d.size), d.media, str(d.rpm or "-"), f"{d.vendor} {d.model}", d.serial, d.state,
            Cell(d.health, d.health), use,
        )  # fmt: skip
    return table


@click.command()
@json_option
@click.pass_context
def bays(ctx: click.Context, as_json: bool) -> None:
    """Draw the front panel: what stands in which bay, with its state and LED pattern in words.

    \b
    Example:
      fstripe --at skerry bays
    """
    from ..work.survey import survey as read_survey
    from .panel import show_panel

    seen = read_survey(target(ctx))
    if as_json:
        print_json({"server": seen.server, "panel": seen.panel, "bays": [plain(d) for d in seen.drives]})
    else:
        show_panel(seen)
    ctx.exit(ATTENTION if seen.findings else 0)


@click.command()
@click.option("--speed", type=click.FloatRange(min=1), default=1.0, help="Bench seconds per second (benches only).")
@click.option("--once", is_flag=True, help="One look, then return.")
@click.option("--metrics", metavar="FILE|PORT", help="Also as OpenMetrics text: into a file, or served at a port.")
@click.option("--forever", is_flag=True, help="Go on when no work is left (for --metrics).")
@json_option
@click.pass_context
def watch(ctx: click.Context, speed: float, once: bool, metrics: str | None, forever: bool, as_json: bool) -> None:
    """Follow all work until it is done: rate, time left with its spread, temperature, margin, the chance of losing
    data meanwhile. A lost connection or a restarting server is waited for.

    Exit status 3 when a volume is still not healthy at the end. With --json one line per look.

    \b
    Example: an hour of the bench in every second
      fstripe --at skerry watch --speed 3600
      fstripe --at skerry watch --metrics 9123 --forever
    """
    from ..work.seeing import Told
    from ..work.watch import watch as snapshots

    client = target(ctx, speed)
    if as_json:
        show_one: Callable[[Snapshot], None] = JsonView()
    elif sys.stdout.isatty():
        from .live import LiveView

        show_one = ctx.with_resource(LiveView())
    else:
        show_one = PlainView()
    last: Snapshot | None = None
    tell_metrics = _metrics(metrics)
    try:
        while True:
            for found in snapshots(client, 0.25 if speed > 1 else 1.0):
                if isinstance(found, Told):
                    click.echo(f"  {found.what}{f': {found.to_do}' if found.to_do else ''}", err=True)
                    continue
                last = found
                show_one(last)
                tell_metrics(last)
                if once:
                    break
            if once or not forever:
                break
            time.sleep(10.0)
    except KeyboardInterrupt:
        _left_running(last)
        ctx.exit(1)
    ctx.exit(0 if last is None or last.healthy else ATTENTION)


def _metrics(wanted: str | None) -> Callable[[Snapshot], None]:
    """What is done with every snapshot for the monitoring system."""
    if wanted is None:
        return lambda _snapshot: None
    from ..work.metrics import Exposition

    made = Exposition()
    if wanted.isdecimal():
        click.echo(f"Metrics at http://127.0.0.1:{made.serve(int(wanted))}/metrics", err=True)
        return made.take

    def write(snapshot: Snapshot) -> None:
        made.take(snapshot)
        made.write(Path(wanted))

    return write


def _left_running(last: Snapshot | None) -> None:
    going = ", ".join(f"{p.work.volume} {p.work.name} {p.work.percent:.0f} %" for p in last.progress) if last else ""
    rest = f"the work goes on ({going}); look again with `watch`" if going else "nothing was changed"
    click.echo(f"fstripe: stopped watching; {rest}", err=True)


class JsonView:
    """A line for every change."""

    def __init__(self) -> None:
        self._last: object = None

    def __call__(self, snapshot: Snapshot) -> None:
        body = {"progress": plain(snapshot.progress), "healthy": snapshot.healthy,
                "margins": {v.name: v.margin for v in snapshot.volumes}, "unfinished": snapshot.unfinished}  # fmt: skip
        if body != self._last:
            self._last = body
            click.echo(json.dumps({"time": snapshot.time, **body}))


class PlainView:
    """Lines for a pipe: one whenever another five per cent are done, and one at the end."""

    def __init__(self) -> None:
        self._last: dict[tuple[str, str], int] = {}

    def __call__(self, snapshot: Snapshot) -> None:
        from .live import closing_line, progress_line

        for p in snapshot.progress:
            step = int(p.work.percent // 5)
            if self._last.get((p.work.volume, p.work.name)) != step:
                self._last[p.work.volume, p.work.name] = step
                click.echo(f"{snapshot.time[:19].replace('T', ' ')}  {progress_line(p)}")
        if not snapshot.progress:
            click.echo(f"{snapshot.time[:19].replace('T', ' ')}  {closing_line(snapshot)}")
