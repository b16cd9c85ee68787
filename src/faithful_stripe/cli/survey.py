"""Survey and bays: what a server has, and what is in which bay."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from ..core.server.fitness import sound
from ..core.server.things import SeatState
from ..core.server.unknown import UNKNOWN, known
from .common import ATTENTION, access_of, all_named, json_option, print_json, target

if TYPE_CHECKING:
    from ..core.server.assess import Assessment
    from ..core.server.model import Server
    from ..core.server.things import Volume
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
