"""The looking commands: survey, bays, log, watch."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core.server.fitness import sound
from ..core.server.things import SeatState
from ..core.server.unknown import UNKNOWN, known
from .common import ATTENTION, access_of, all_named, json_option, named, plain, print_json, speed_option, target

if TYPE_CHECKING:
    from ..core.server.assess import Assessment
    from ..core.server.model import Server
    from ..core.server.things import Volume
    from ..work.metrics import Door
    from ..work.seeing import Told
    from ..work.watch import Snapshot
    from .render import Cell, Part


@click.command()
@click.option("--as-sheet", is_flag=True, help="Write the present set-up as a build sheet (TOML) instead.")
@click.option("--identities", is_flag=True, help="Also each drive's WWN, part number, interface, sector, firmware.")
@json_option
@click.pass_context
def survey(ctx: click.Context, as_sheet: bool, identities: bool, as_json: bool) -> None:
    """What is in the server, what it is used for, what needs attention.

    Exit status 3 when something needs attention. Of several servers (--at repeated, or a list file with
    `servers = ["...", ...]`) one line each, the worst first.

    \b
    Example:
      fstripe --at skerry survey
      fstripe --at rack.toml survey
      fstripe --at skerry survey --as-sheet > skerry.toml
    """
    from ..core.server.assess import assess
    from ..work.survey import survey as read_survey
    from .render import Line, show

    if as_sheet:
        _sheet(ctx)
        return
    if len(all_named(ctx)) > 1:
        _survey_all(ctx, as_json)
        return
    client = target(ctx)
    found = assess(read_survey(client))
    if as_json:
        from .documents import server_document

        print_json(server_document(found))
    else:
        show([*survey_parts(found), *([Line(), _identities(found.server)] if identities else [])])
    ctx.exit(ATTENTION if found.findings else 0)


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
    from .attention import finding_documents
    from .render import Cell, Line, Table, show

    access = access_of(ctx)
    found = survey_all(all_named(ctx), lambda at: connect(at, access=access))
    if as_json:
        from .documents import server_document

        print_json([{"at": s.at, "state": s.state, "trouble": s.trouble,
                     "survey": server_document(s.judged) if s.judged else None} for s in found])  # fmt: skip
    else:
        table = Table("", ["state", "server", "at", ">volumes?1", ">least margin?2", "worst of it"])
        for s in found:
            if s.survey is None or s.judged is None:
                table.add(Cell("Critical", "Critical"), "?", s.at, "?", "?", s.trouble)
                continue
            findings = finding_documents(s.judged)
            more = f" (and {len(findings) - 1} more)" if len(findings) > 1 else ""
            worst = f"{findings[0]['where']}: {findings[0]['what']}{more}" if findings else "nothing needs attention"
            margin = "-" if s.margin is None else "offline" if s.margin < 0 else str(s.margin)
            table.add(Cell(s.state, s.state), s.survey.server, s.at, str(len(s.survey.volumes)), margin, worst)
        bad = sum(s.state != "OK" for s in found)
        show([table, Line(f"{bad} of {len(found)} servers need attention." if bad else "All is well.")])
    ctx.exit(ATTENTION if any(s.state != "OK" for s in found) else 0)


def survey_parts(found: Assessment) -> list[Part]:
    """The survey as a person reads it: what is wrong first, then controllers, volumes, drives."""
    from .attention import finding_lines
    from .render import Line
    from .words import said

    seen = found.server
    when = f"as of {seen.time[:19].replace('T', ' ')} {seen.time[-6:]} (server's clock)" if seen.time else "now"
    parts: list[Part] = [
        Line(f"{seen.server}: {said(seen.maker, '')} {said(seen.model, 'model not known')}, serial {seen.serial}, "
             f"firmware {seen.firmware}", "head"),
        Line(f"{when}, power {said(seen.power).lower()}"),
        Line(),
        *finding_lines(found),
        Line(),
        _controllers(seen),
        Line(),
        *_volumes(found),
        Line(),
        _drives(seen),
        Line(),
    ]  # fmt: skip
    free = [d for d in seen.drives if d.free and sound(d)]
    listed = ", ".join(d.bay for d in free) or "none"
    empty = ", ".join(d.bay for d in seen.drives if not d.seated) or "none"
    return [*parts, Line(f"Free drives in bays: {listed}. Empty bays: {empty}.")]


def _controllers(seen: Server) -> Part:
    from .render import Cell, Table
    from .words import said

    table = Table("Controllers", ["controller", "model", "serial?2", "firmware?1", "state?3", "health"])
    for c in seen.controllers:
        table.add(c.id, said(c.name), said(c.serial), said(c.firmware), said(c.state, "?"),
                  Cell(said(c.health, "?"), said(c.health, "")))  # fmt: skip
    return table


def _volumes(found: Assessment) -> list[Part]:
    from . import words
    from .render import Cell, Line, Table

    seen = found.server
    if not seen.volumes:
        return [Line("Volumes: none yet" if found.all_read else "Volumes: they could not be read", "")]
    several = ["controller"] if len({c.id for c in seen.controllers}) > 1 else []
    heads = [
        "volume",
        *several,
        "level",
        ">size",
        "strip?1",
        "bays in order",
        "state",
        ">margin",
        "now?3",
        "holds?4",
        "firmware?2",
    ]
    table = Table("Volumes", heads)
    for v in seen.volumes:
        j = found.of(v)
        labels = [
            f"({s.bay or '?'})" if s in j.gone and s.state is not SeatState.REBUILDING else s.bay for s in v.seats
        ]
        labels += ["(?)"] * j.hidden
        size = len(labels) // v.spans or 1
        bays = " / ".join(" ".join(labels[i : i + size]) for i in range(0, len(labels), size))
        now = ", ".join(f"{words.work_words(w)} {words.percent(w)}" for w in v.work) or words.said(v.state, "?")
        style = words.state_style(j)
        table.add(
            v.name, *([v.controller] if several else []), words.said(v.level, "?"), words.size(v.size, "?"),
            words.strip(v.strip), bays or "?", Cell(j.state.value, style), Cell(words.margin_words(j), style), now,
            words.holds_words(v.content), _found(v),
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
    from .render import Cell
    from .words import size

    boots = "; boots" if v.boots is True else ""
    if v.found is UNKNOWN:
        return f"not told{boots}"
    if v.found is False:
        return Cell(f"not yet{boots}", "Warning")
    if v.found_size != v.size:
        return Cell(f"{size(v.found_size)}{boots}", "Warning")
    return f"sees it{boots}"


def _drives(seen: Server) -> Part:
    from .render import Cell, Table
    from .words import drive_name, said, size, use_words

    several = ["controller"] if len({c.id for c in seen.controllers}) > 1 else []
    boxes = ["enclosure"] if len({d.enclosure for d in seen.drives}) > 1 else []
    heads = [
        ">bay",
        *boxes,
        *several,
        ">size",
        "media?2",
        ">rpm?1",
        "model?4",
        "serial",
        "state?3",
        "health",
        "used for",
    ]
    table = Table("Drives", heads)
    for d in seen.drives:
        whose = [*([d.enclosure] if boxes else []), *([d.controller or "-"] if several else [])]
        if not d.seated:
            table.add(d.bay, *whose, "", "", "", "", "", "", "", Cell("empty", "dim"))
            continue
        use = use_words(d) if known(d.content, "") == "" else f"{use_words(d)}, holds {d.content}"
        health = said(d.health, "?")
        table.add(
            d.bay, *whose, size(d.size, "?"), said(d.media, "?"), str(known(d.rpm, 0) or "-"), drive_name(d),
            said(d.serial, "?"), said(d.state, "?"), Cell(health, health), use,
        )  # fmt: skip
    return table


def _identities(seen: Server) -> Part:
    """What tells each drive from every other one, and what a replacement must be like."""
    from .render import Table
    from .words import said

    table = Table("Identities", [">bay", "serial", "WWN", "part number?3", "interface?1", ">sector?2", "firmware?4"])
    for d in seen.drives:
        if d.seated:
            table.add(d.bay, said(d.serial, "?"), said(d.wwn, "?"), said(d.part, "?"), said(d.protocol, "?"),
                      said(d.sector, "?"), said(d.firmware, "?"))  # fmt: skip
    return table


@click.command()
@json_option
@click.pass_context
def bays(ctx: click.Context, as_json: bool) -> None:
    """Draw the front panel: what is in which bay, with its state and LED pattern in words.

    \b
    Example:
      fstripe --at skerry bays
    """
    from ..core.server.assess import assess
    from ..work.survey import survey as read_survey
    from .panel import show_panel

    client = target(ctx)
    found = assess(read_survey(client))
    seen = found.server
    if as_json:
        from .documents import drive_document

        print_json({"server": seen.server, "panel": seen.panel, "bays": [drive_document(d) for d in seen.drives]})
    else:
        show_panel(found)
    ctx.exit(ATTENTION if found.findings else 0)


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
