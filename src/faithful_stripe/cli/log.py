"""The log command: events in order, causes with what followed, new ones, and as they happen."""

from __future__ import annotations

import json
import time
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, access_of, all_named, json_option, plain, print_json, target

if TYPE_CHECKING:
    from ..work.log import Entry
    from .render import Part

MOST_OFF = 60.0
"""Seconds by which the server's clock may be off before times are corrected."""


@click.command()
@click.option("--bay", metavar="LABEL", help="Only events of this bay.")
@click.option("--since", metavar="TIME", help="Only from then on: 2026-11-23T08:00, or how long ago: 2h.")
@click.option("--new", "fresh", is_flag=True, help="Only what came since it was last read with --new.")
@click.option("--follow", is_flag=True, help="Keep on: tell events as they happen, until Ctrl-C.")
@json_option
@click.pass_context
def log(ctx: click.Context, bay: str | None, since: str | None, fresh: bool, follow: bool, as_json: bool) -> None:
    """The server's events, oldest first: bay, drive and volume resolved, plain words beside the server's own, what
    followed from a cause below it. Where the server's clock is off, the times by this machine's stand beside its own.
    Of several servers (--at repeated, or a list file): all events in one list, by this machine's clock.

    \b
    Example:
      fstripe --at skerry log --since 2h
      fstripe --at skerry log --new
    """
    from ..work import log as work
    from ..work.swap import identity

    if len(all_named(ctx)) > 1:
        if fresh or follow:
            raise click.UsageError("--new and --follow are for one server; `watch` tells what begins at several")
        _several(ctx, bay, since, as_json)
        return
    client = target(ctx)
    clocks = work.clocks(client)
    offset = clocks.offset
    moment = work.since(since, time.time() + offset) if since else ""
    unread = lambda path, reason: click.echo(f"Not read: {path} ({reason.what})", err=True)  # noqa: E731
    everything = work.entries(client, unread, "" if fresh else moment)
    seen = work.seen_for(client)
    found = work.explained(everything, seen, clocks)
    if fresh:
        server = identity(client)
        wanted = {(e.number, e.time) for e in work.unread(server, everything)}
        found = [e for e in found if (e.number, e.time) in wanted]
        work.mark_read(server, everything)
    if since:
        found = work.later(found, moment)
    found = [e for e in found if bay in (None, e.bay)]
    _show(found, as_json and not follow, offset, as_lines=as_json and follow)
    if not follow:
        return
    try:
        for more in work.follow(client, 2.0):
            told = [e for e in work.explained(more, work.seen_for(client), clocks) if bay in (None, e.bay)]
            _show(told, False, offset, as_lines=as_json, heads=False)
    except KeyboardInterrupt:
        click.echo("fstripe: stopped following the log", err=True)
        ctx.exit(1)


def _several(ctx: click.Context, bay: str | None, since: str | None, as_json: bool) -> None:
    """The events of several servers in one list, by this machine's clock: theirs may differ."""
    from ..redfish.target import connect
    from ..work.log import since as moment_of
    from ..work.many import logs_of
    from .render import Cell, Table, show

    access = access_of(ctx)
    if since:
        moment_of(since, time.time())  # a moment that cannot be read is one error, not one of each server
    found = logs_of(all_named(ctx), lambda at: connect(at, access=access), since or "", time.time())
    for one in found:
        for path in one.missed:
            click.echo(f"Not read: {path} of {one.at}", err=True)
        if one.trouble:
            click.echo(f"Not read: {one.at} ({one.trouble})", err=True)
    rows = sorted(
        ((e.here, one, e) for one in found for e in one.entries if bay in (None, e.bay)), key=lambda row: row[0]
    )
    if as_json:
        print_json({
            "events": [{"at": one.at, "server": one.server, **plain(e)} for _here, one, e in rows],
            "not_read": [{"at": one.at, "why": one.trouble, "paths": one.missed}
                         for one in found if one.trouble or one.missed],
        })  # fmt: skip
    else:
        table = Table("", ["time (this machine's clock)", "server", "severity", ">bay", "drive?1", "volume?2", "event"])
        for here, one, e in rows:
            text = e.message if not e.plain or e.plain.lower().rstrip(".") in e.message.lower() else (
                f"{e.message} [{e.plain}]")  # fmt: skip
            table.add(_short(here), one.at, Cell(e.severity, e.severity), e.bay, e.serial, e.volume, text)
        show([table] if rows else [])
        if not rows:
            click.echo("No events.")
    ctx.exit(ATTENTION if any(one.trouble or one.missed for one in found) else 0)


def _show(found: list[Entry], as_json: bool, offset: float, as_lines: bool = False, heads: bool = True) -> None:
    from ..work.log import collapsed
    from .render import Cell, Line, Table, show

    if as_json:
        print_json(found)
        return
    if as_lines:
        for e in found:
            click.echo(json.dumps(plain(e)))
        return
    off = abs(offset) > MOST_OFF
    parts: list[Part] = []
    if off and heads:
        parts.append(Line(_off(offset), "Warning"))
    told = list(collapsed(found))
    zones = {e.time[19:] for e in told}
    zone = zones.pop() if len(zones) == 1 else ""  # said once where it is the same everywhere
    columns = [
        f"time (server's clock{f', {zone}' if zone else ''})",
        *(["by this clock?3"] if off else []),
        "severity",
        ">bay",
        "drive?1",
        "volume?2",
        "event",
    ]
    table = Table("", columns)
    for e in told:
        own = [_short(e.here)] if off else []
        text = f"  then: {e.message}" if e.follows else e.message
        if e.plain and e.plain.lower().rstrip(".") not in e.message.lower():
            text += f" [{e.plain}]"
        if e.count > 1:
            text += f" ({e.count} times, last {_short(e.last)})"
        table.add(
            _short(e.time).removesuffix(f" {zone}"), *own, Cell(e.severity, e.severity), e.bay, e.serial, e.volume, text
        )
    if not found and heads:
        parts.append(Line("No events."))
    show([*parts, table] if found else parts)


def _off(offset: float) -> str:
    from ..core.units import duration

    word = "ahead of" if offset > 0 else "behind"
    return f"The server's clock is {duration(abs(offset))} {word} this machine's: both times are shown."


def _short(text: str) -> str:
    return f"{text[:19].replace('T', ' ')} {text[-6:]}"
