"""Volumes that drives bring with them from elsewhere: found, adopted, forgotten."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .build import volume
from .common import confirm, confirm_options, controller_option, json_option, plain, print_json, target
from .completing import volumes
from .volume_view import show_volume

if TYPE_CHECKING:
    from ..core.server.things import FoundVolume
    from .render import Part


@volume.command()
@json_option
@click.pass_context
def found(ctx: click.Context, as_json: bool) -> None:
    """Show the volumes that seated drives describe and the controller does not know.

    \b
    Example:
      fstripe --at second volume found
    """
    from ..work.survey import survey
    from .render import Line, show

    here = survey(target(ctx)).found_volumes
    if as_json:
        print_json({"found": [plain(f) for f in here]})
        return
    parts: list[Part] = [part for f in here for part in found_parts(f)]
    show(parts or [Line("No seated drive carries a set-up that its controller does not know.")])


@volume.command("adopt")
@click.argument("name", shell_complete=volumes)
@click.option("--as", "new_name", metavar="NAME", help="What to call it here.")
@controller_option
@confirm_options
@json_option
@click.pass_context
def adopt_(
    ctx: click.Context, name: str, new_name: str | None, controller: str | None, yes: bool, expect_serials: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Adopt the found volume NAME as its drives describe it, with all that shares its drives.

    Nothing of its data changes. Members that are out of date are not trusted: they are rebuilt.

    \b
    Example:
      fstripe --at second volume adopt tides
    """
    from ..work.build import adopt, with_company
    from ..work.survey import survey
    from .render import Line, show

    client = target(ctx)
    seen = survey(client)
    found = seen.found_volume(name, controller)
    group = with_company(seen, found)
    if not as_json or not yes:
        parts: list[Part] = [Line(f"To be adopted by controller {found.controller}:", "head")]
        parts += [part for f in group for part in found_parts(f)]
        if any(m.state in ("stale", "incomplete") for f in group for m in f.members):
            parts.append(Line("Members that are out of date or incomplete will be rebuilt from the others.", "Warning"))
        show([*parts, Line("No data will be lost; the drives will carry this controller's set-up.")], err=True)
    if not found.trouble:
        confirm(name, _serials(group), yes, expect_serials)
    show_volume(client, adopt(client, found, new_name), as_json, "adopted")


@volume.command("forget")
@click.argument("name", shell_complete=volumes)
@controller_option
@confirm_options
@json_option
@click.pass_context
def forget_(
    ctx: click.Context, name: str, controller: str | None, yes: bool, expect_serials: str | None, as_json: bool
) -> None:
    """Clear the found volume NAME's set-up off its drives, with all that shares them. Its data are lost with it.

    \b
    Example:
      fstripe --at second volume forget tides
    """
    from ..work.build import forget, with_company
    from ..work.survey import survey
    from .render import Line, show

    client = target(ctx)
    seen = survey(client)
    found = seen.found_volume(name, controller)
    group = with_company(seen, found)
    if not as_json or not yes:
        lost = ", ".join(f"volume {f.name} ({f.level})" for f in group)
        parts: list[Part] = [Line(f"WILL BE LOST: {lost}: nothing will tell any more how its drives belong together")]
        show([*(Line(p.text, "Critical") for p in parts if isinstance(p, Line)), *found_parts(found)], err=True)
    confirm(name, _serials(group), yes, expect_serials)
    forget(client, found)
    if as_json:
        print_json({"forgotten": [f.name for f in group], "serials": _serials(group)})
    else:
        click.echo(f"The set-up of {', '.join(f.name for f in group)} is forgotten; its drives are free.")


def found_parts(found: FoundVolume) -> list[Part]:
    """a found volume as a person reads it: what it is, whether it can be adopted, which drives carry it."""
    from ..core.units import decimal_size
    from .render import Cell, Line, Table

    size = f", {decimal_size(found.size)}" if found.size is not None else ""
    head = (
        f"Volume {found.name}: {found.level}{size}, written by {found.writer}, {found.written[:19].replace('T', ' ')}"
    )
    parts: list[Part] = [Line(f"{head} UTC; at controller {found.controller}", "head")]
    if found.trouble:
        parts.append(Line(f"It cannot be adopted: {found.trouble}; {found.advice}.", "Critical"))
    else:
        parts.append(Line(f"Its margin after that: {found.margin}."))
    table = Table("", [">member", ">bay", "serial", "state"])
    for m in found.members:
        style = "" if m.state == "current" else "Warning"
        table.add(str(m.position), m.bay or "-", m.serial, Cell(STATES.get(m.state, m.state), style))
    return [*parts, table]


STATES = {
    "current": "up to date",
    "stale": "out of date: it was away while the volume was written",
    "incomplete": "its rebuild was not finished",
    "missing": "not here",
}


def _serials(group: list[FoundVolume]) -> list[str]:
    return sorted({m.serial for f in group for m in f.members if m.bay})
