"""`volume rescue`: a volume that is offline, member by member, and forcing it online where that loses nothing."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from . import found as found  # its commands are of the same group
from .build import volume
from .common import ATTENTION, confirm, confirm_options, controller_option, json_option, print_json, target
from .completing import volumes

if TYPE_CHECKING:
    from ..work.rescue import Away, Rescue
    from .render import Part


@volume.command()
@click.argument("name", shell_complete=volumes)
@controller_option
@click.option("--force-online", "force", is_flag=True, help="Have the controller use the members that are there again.")
@confirm_options
@json_option
@click.pass_context
def rescue(
    ctx: click.Context, name: str, controller: str | None, force: bool, yes: bool, expect_serials: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Show which members of volume NAME are missing, since when, and whether they are up to date.

    With --force-online the controller uses those again that are there: only where enough of them are known to be up to
    date, and the server offers it. Everything else is refused, and what comes first is said.

    \b
    Example:
      fstripe --at skerry volume rescue tides
      fstripe --at https://10.0.0.7 volume rescue tides --force-online
    """
    from ..core.server.acts import Refused
    from ..core.server.assess import assess
    from ..work.rescue import force_online
    from ..work.rescue import rescue as look
    from .documents import volume_document
    from .render import Line, show
    from .verdicts import refusal_words
    from .words import margin_line

    client = target(ctx)
    found = look(client, name, controller)
    if force:
        show(_parts(found), err=True)
        if not isinstance(found.verdict, Refused):
            confirm(name, found.serials, yes, expect_serials)
        judged = force_online(client, found)
        if as_json:
            print_json(volume_document(judged.volume, judged))
        else:
            show(
                [Line(f"Volume {judged.volume.name} can be read again: {judged.state}, {margin_line(judged)}.", "good")]
            )
        ctx.exit(ATTENTION if judged.state.value != "OK" else 0)
    judged = assess(found.server).of(found.volume)
    if as_json:
        no = found.verdict if isinstance(found.verdict, Refused) else None
        print_json({
            "volume": volume_document(found.volume, judged),
            "missing": [_plain(a) for a in found.away], "log_read": found.logged,
            "force_online": {"allowed": no is None, "offered": found.offered, "because": no.because if no else None,
                             "what": refusal_words(found.server, no)[0] if no else None},
        })  # fmt: skip
    else:
        show(_parts(found))
    ctx.exit(ATTENTION if found.away else 0)


def _plain(one: Away) -> dict[str, object]:
    return {
        "position": one.seat.position, "bay": one.seat.bay, "serial": one.seat.serial, "current": one.seat.current,
        "here": one.here, "left": one.left.time if one.left else None,
        "event": one.left.message if one.left else None,
    }  # fmt: skip


def _parts(found: Rescue) -> list[Part]:
    from ..core.server.acts import Refused
    from ..core.server.assess import assess
    from ..core.server.unknown import UNKNOWN
    from .render import Cell, Line, Table
    from .verdicts import refusal_words
    from .words import said

    judged = assess(found.server).of(found.volume)
    parts: list[Part] = [
        Line(f"Volume {found.volume.name}, {said(found.volume.level, 'level not known')}: {judged.state}", "head")
    ]
    if not found.away:
        return [*parts, Line("No member is missing.", "good")]
    table = Table("", [">position", ">bay", "drive", "is there", "up to date", "left", "with?1"])
    missing = "not in the log" if found.logged else "not known: the log was not read"
    for one in sorted(found.away, key=lambda a: a.left.time if a.left else ""):
        current = "not known" if one.seat.current is UNKNOWN else "yes" if one.seat.current else "no"
        left = f"{one.left.time[:19].replace('T', ' ')}" if one.left else missing
        table.add(
            str(one.seat.position), one.seat.bay, said(one.seat.serial, "not known"), "yes" if one.here else "no",
            Cell(current, "" if current == "yes" else "Warning"), left, one.left.message if one.left else "",
        )  # fmt: skip
    parts.append(table)
    if isinstance(found.verdict, Refused):
        what, first = refusal_words(found.server, found.verdict)
        parts.append(Line(f"It is not forced online: {what}.", "Warning"))
        if found.verdict.first:
            parts.append(Line(f"First: {first}."))
        elif found.verdict.because.value == "out-of-date":
            parts.append(Line("Write nothing to these drives: image them, then `lineup solve`."))
    elif found.offered:
        parts.append(Line("Enough members are there and up to date: --force-online brings it back."))
    else:
        parts.append(Line("Enough members are there and up to date; this server does not offer to force it online."))
    return parts
