"""The building commands: volume add, show, remove, rebuild."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import ATTENTION, confirm, confirm_options, json_option, print_json, split_list, target

if TYPE_CHECKING:
    from ..work.build import VolumePlan
    from ..work.survey import VolumeView
    from .render import Part


@click.group()
def volume() -> None:
    """Make, show, remove and rebuild volumes (virtual drives).

    \b
    Example:
      fstripe --at skerry volume add records --level RAID5 --bays 4-7
    """


@volume.command()
@click.argument("name")
@click.option("--level", required=True, metavar="LEVEL", help="RAID0, RAID1 or RAID5.")
@click.option("--bays", required=True, metavar="LIST", help="Bays in the order of the members: 4,5,6,7 or 4-7.")
@click.option("--strip", default="64KiB", show_default=True, help="Strip size, a power of two from 4KiB to 1MiB.")
@click.option("--rotation", type=click.Choice(["parity-0", "parity-N"]), help="RAID 5: where parity starts.")
@click.option("--data", type=click.Choice(["restart", "continuation"]), help="RAID 5: how data run on past parity.")
@click.option("--mixed", is_flag=True, help="Allow drives of different media or sector size.")
@confirm_options
@json_option
@click.pass_context
def add(
    ctx: click.Context, name: str, level: str, bays: str, strip: str, rotation: str | None, data: str | None,
    mixed: bool, yes: bool, expect_serials: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Make a volume NAME. Shows what will be lost, then asks for the name again.

    \b
    Example:
      fstripe --at skerry volume add records --level RAID5 --bays 4,5,6,7 --strip 64KiB
    """
    from ..core.units import parse_size
    from ..work.build import VolumeWish, add_volume, plan_volume
    from .render import show

    client = target(ctx)
    plan = plan_volume(client, VolumeWish(name, level, split_list(bays), parse_size(strip), rotation, data, mixed))
    if not as_json or not yes:
        show(_plan_parts(plan), err=True)
    confirm(name, [d.serial for d in plan.drives], yes, expect_serials)
    _show_volume(add_volume(client, plan), as_json, "made")


def _plan_parts(plan: VolumePlan) -> list[Part]:
    from ..core.units import binary_size, decimal_size
    from .render import Line, Table

    wish = plan.wish
    size = decimal_size(plan.size)
    parts: list[Part] = [
        Line(f"To be made: volume {wish.name}, {plan.level}, about {size}, strip {binary_size(wish.strip)}", "head"),
        Line(f"It will survive {plan.margin} failure{'s' if plan.margin != 1 else ''}, whichever drive fails."),
    ]
    table = Table("", [">member", ">bay", ">size", "media", "model", "serial", "holds now"])
    for position, d in enumerate(plan.drives):
        holds = "nothing" if d.content == "" else d.content or "unknown"
        model = f"{d.vendor} {d.model}"
        table.add(str(position), d.bay, decimal_size(d.size), d.media, model, d.serial, holds)
    parts.append(table)
    parts += [Line(f"Note: {text}.", "Warning") for text in plan.warnings]
    if plan.lost:
        parts.append(Line("WILL BE LOST:", "Critical"))
        parts += [Line(f"  {text}", "Critical") for text in plan.lost]
    else:
        parts.append(Line("Nothing will be lost: these drives are blank."))
    return parts


@volume.command()
@click.argument("name")
@json_option
@click.pass_context
def show(ctx: click.Context, name: str, as_json: bool) -> None:
    """Everything about one volume: sizes, layout, members in order.

    \b
    Example:
      fstripe --at skerry volume show records
    """
    from ..work.survey import survey

    found = survey(target(ctx)).volume(name)
    _show_volume(found, as_json, "")
    ctx.exit(0 if found.health == "OK" else ATTENTION)


@volume.command()
@click.argument("name")
@confirm_options
@json_option
@click.pass_context
def remove(ctx: click.Context, name: str, yes: bool, expect_serials: str | None, as_json: bool) -> None:
    """Remove volume NAME and lose what is on it. Shows it first, then asks for the name again.

    \b
    Example:
      fstripe --at skerry volume remove records
    """
    from ..core.units import decimal_size
    from ..work.build import remove_volume
    from ..work.survey import survey
    from .render import Line
    from .render import show as show_parts

    client = target(ctx)
    found = survey(client).volume(name)
    members = ", ".join(f"bay {m.bay} {m.serial}" for m in found.members)
    holds = "nothing" if found.content == "" else found.content or "unknown contents"
    lines = [
        Line(f"WILL BE LOST: volume {name}, {found.level}, {decimal_size(found.size)}, holding {holds}", "Critical"),
        Line(f"Members: {members}"),
    ]
    if not as_json or not yes:
        show_parts(lines, err=True)
    confirm(name, [m.serial for m in found.members], yes, expect_serials)
    remove_volume(client, found)
    if as_json:
        print_json({"removed": name})
    else:
        click.echo(f"Volume {name} is removed; its drives are unassigned.")


@volume.command()
@click.argument("name")
@click.option("--onto", required=True, metavar="BAY", help="The bay of the drive that takes the lost member's place.")
@confirm_options
@json_option
@click.pass_context
def rebuild(ctx: click.Context, name: str, onto: str, yes: bool, expect_serials: str | None, as_json: bool) -> None:
    """Rebuild volume NAME's lost member onto the drive in a bay, where the controller does not do so by itself.

    \b
    Example:
      fstripe --at skerry volume rebuild records --onto 5
    """
    from ..work.build import start_rebuild
    from ..work.survey import survey
    from .render import Line
    from .render import show as show_parts

    client = target(ctx)
    seen = survey(client)
    seen.volume(name)
    drive = seen.bay(onto)
    holds = "nothing" if drive.content == "" else drive.content or "unknown contents"
    if not as_json or not yes:
        what = f"Bay {onto}: {drive.serial}, {drive.vendor} {drive.model}, holding {holds}, will be overwritten."
        show_parts([Line(what, "Critical")], err=True)
    confirm(name, [drive.serial], yes, expect_serials)
    _show_volume(start_rebuild(client, name, onto), as_json, "being rebuilt; follow it with `watch`")


def _show_volume(found: VolumeView, as_json: bool, done: str) -> None:
    from ..core.units import binary_size, decimal_size
    from .render import Cell, Line, Table
    from .render import show as show_parts

    if as_json:
        print_json(found)
        return
    layout = f", {found.rotation} {found.data}" if found.rotation else ""
    strip = f", strip {binary_size(found.strip)}" if found.strip else ""
    margin = "unknown" if found.margin is None else "none, data are lost" if found.margin < 0 else str(found.margin)
    head = f"Volume {found.name}" + (f" is {done}" if done else "")
    table = Table("", [">member", ">bay", "serial", "state"])
    for m in found.members:
        table.add(str(m.position), m.bay, m.serial, Cell(m.state, "" if m.state == "active" else "Warning"))
    holds = "nothing yet" if found.content == "" else found.content or "unknown"
    show_parts(
        [
            Line(f"{head}: {found.level}, {decimal_size(found.size)} ({found.size} bytes){strip}{layout}", "head"),
            Line(f"health {found.health}, margin {margin}, holds {holds}", found.health),
            table,
        ]
    )
