"""The volume commands: make, show, check, initialize, rebuild, remove; found ones are in `found.py`."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click
from click.core import ParameterSource

from .arguments import Family, Level
from .common import (
    ATTENTION,
    confirm,
    confirm_options,
    controller_option,
    json_option,
    print_json,
    split_list,
    target,
)
from .completing import bays as bays_
from .completing import volumes
from .volume_view import show_volume, volume_of

if TYPE_CHECKING:
    from ..work.volumes import VolumePlan
    from .render import Part

READS, WRITES = ("ahead", "adaptive", "off"), ("through", "protected-back", "unprotected-back")
"""Cache policies."""


@click.group(cls=Family)
def volume() -> None:
    """Create, show, check, initialize, rebuild and remove volumes (virtual drives).

    \b
    Example:
      fstripe --at skerry volume add tides --level RAID5 --bays 4-7
    """


@volume.command()
@click.argument("name")
@click.option("--level", type=Level(), metavar="LEVEL", help="RAID0, 1, 1E, 10, 4, 5, 6, 50, 60 or SPAN.")
@click.option(
    "--bays",
    metavar="LIST",
    shell_complete=bays_,
    help="Drives in the order of the members, by bay or serial: 4,5,6,7 or 4-7.",
)
@click.option("--spans", metavar="LIST/LIST", help="Nested levels: the drives of each span, such as 4-6/7-9/10-12.")
@click.option("--strip", default="64KiB", show_default=True, help="Strip size, a power of two from 4KiB to 4MiB.")
@click.option("--size", metavar="SIZE", help="Size of the volume; all that the drives hold without it.")
@click.option("--spares", metavar="LIST", shell_complete=bays_, help="Drives that become its dedicated hot spares.")
@click.option("--read-cache", type=click.Choice(READS), help="Whether it reads ahead.")
@click.option(
    "--write-cache",
    type=click.Choice(WRITES),
    help="through: acknowledged when it is on the drives; protected-back: in memory that outlasts a cut of power; "
    "unprotected-back: in memory that does not (few controllers offer it, no one should want it).",
)
@click.option("--singly", is_flag=True, help="Present each drive by itself, as NAME-BAY, beside the arrays.")
@click.option("--rotation", metavar="WORD", help="Where parity starts: parity-0, parity-N; RAID 4: fixed-0, fixed-N.")
@click.option("--data", metavar="WORD", help="How data run on: restart, continuation; RAID 1E: adjacent, offset.")
@click.option("--q-place", type=click.Choice(["after-p", "before-p"]), help="RAID 6: where Q stands.")
@click.option("--q-exponent", type=click.Choice(["data-index", "member-position"]), help="RAID 6: how Q counts.")
@click.option("--mirrors-of", type=click.IntRange(2, 3), help="RAID 10: drives in each mirror.")
@click.option(
    "--initialize",
    type=click.Choice(["fast", "foreground", "background"]),
    default="fast",
    show_default=True,
    help="fast: what is there is cleared at once; foreground: zeros everywhere, usable afterwards; "
    "background: parity is computed while the volume is used already.",
)
@click.option("--mixed", is_flag=True, help="Allow drives of different media or sector size.")
@click.option("--over-found", is_flag=True, help="Take drives although another controller's set-up is on them.")
@click.option("--failing", is_flag=True, help="Take drives although they predict their failure.")
@click.option("--controller", metavar="ID", help="The controller to create it at; the bays must be its.")
@confirm_options
@json_option
@click.pass_context
def add(
    ctx: click.Context, name: str, level: str | None, bays: str | None, spans: str | None, strip: str,
    size: str | None, spares: str | None, read_cache: str | None, write_cache: str | None, singly: bool,
    rotation: str | None, data: str | None, q_place: str | None, q_exponent: str | None, mirrors_of: int | None,
    initialize: str, mixed: bool, over_found: bool, failing: bool, controller: str | None, yes: bool,
    expect_serials: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Create a volume NAME. Shows what will be lost, then asks for the name again.

    Several volumes may share the same drives, one after the other: create the first with --size, the next on the
    same bays. With --singly every drive becomes a volume of its own; all are created, or none.

    \b
    Example:
      fstripe --at skerry volume add tides --level RAID5 --bays 4,5,6,7 --strip 64KiB --spares 13
      fstripe --at skerry volume add gauges --level RAID50 --spans 4-6/7-9/10-12
      fstripe --at skerry volume add spool --singly --bays 3,8
    """
    from ..core.units import parse_size
    from ..work import volumes as work
    from .render import Line, show

    if (bays is None) == (spans is None):
        raise click.UsageError("name the drives with --bays, or with --spans for a nested level")
    if (level is None) != singly or (singly and spans):
        raise click.UsageError("give the --level, or --singly with --bays")
    parts = [split_list(part) for part in (spans or str(bays)).split("/")]
    if len({len(part) for part in parts}) > 1:
        raise click.UsageError("--spans: every span needs as many bays")
    wish = work.VolumeWish(
        name=name, level=level or "SPAN", drives=tuple(bay for part in parts for bay in part),
        strip=parse_size(strip), rotation=rotation, data=data, mixed=mixed, size=parse_size(size) if size else None,
        spans=len(parts) if spans else None, copies=mirrors_of, q_place=q_place, q_exponent=q_exponent,
        initialize=initialize, controller=controller, read_cache=read_cache, write_cache=write_cache,
        spares=split_list(spares) if spares else (), over_found=over_found, failing=failing,
        strip_asked=ctx.get_parameter_source("strip") is not ParameterSource.DEFAULT,
    )  # fmt: skip
    client = target(ctx)
    plans = work.plan_volumes(client, work.singly(name, wish.drives, wish) if singly else [wish])
    if not as_json or not yes:
        parts_shown = [part for plan in plans for part in (*_plan_parts(plan), Line())]
        show(parts_shown[:-1], err=True)
    confirm(name, [serial for plan in plans for serial in plan.serials], yes, expect_serials)
    made = work.add_volumes(client, plans)
    if as_json:
        documents = [volume_of(client, v) for v in made]
        print_json(documents if singly else documents[0])
        return
    for found in made:
        show_volume(client, found, False, "created")


def _plan_parts(plan: VolumePlan) -> list[Part]:
    from ..core.server.things import UseKind
    from ..core.units import binary_size, decimal_size
    from .render import Line, Table
    from .words import drive_name, holds_words, said, size, use_words

    wish = plan.wish
    made = f"{plan.level}, about {decimal_size(plan.size)}, strip {binary_size(wish.strip)}"
    parts: list[Part] = [
        Line(f"To be created at controller {plan.controller}: volume {wish.name}, {made}", "head"),
        Line(f"It will survive {plan.margin} failure{'s' if plan.margin != 1 else ''}, whichever drive fails."),
    ]
    nested = [">span"] if plan.spans > 1 else []
    table = Table("", [">member", *nested, ">bay", ">size", "media?1", "model?2", "serial", "holds now"])
    for position, d in enumerate(plan.drives):
        holds = holds_words(d.content, "nothing")
        holds = f"other volumes, which stay ({use_words(d)})" if d.used_as(UseKind.MEMBER) else holds
        model = drive_name(d)
        span = [str(position * plan.spans // len(plan.drives))] if nested else []
        table.add(str(position), *span, d.bay, size(d.size), said(d.media, "?"), model, said(d.serial, "?"), holds)
    parts.append(table)
    if plan.spares:
        listed = ", ".join(f"bay {d.bay} ({d.serial}, {size(d.size)})" for d in plan.spares)
        parts.append(Line(f"Dedicated hot spares: {listed}."))
    caches = [
        f"reads {wish.read_cache}" if wish.read_cache else "",
        f"writes {wish.write_cache}" if wish.write_cache else "",
    ]
    if any(caches):
        parts.append(Line(f"Cache: {', '.join(c for c in caches if c)}."))
    parts += [Line(f"Note: {text}.", "Warning") for text in plan.warnings]
    if plan.lost:
        parts.append(Line("WILL BE LOST:", "Critical"))
        parts += [Line(f"  {text}", "Critical") for text in plan.lost]
    else:
        parts.append(Line("Nothing will be lost."))
    return parts


@volume.command()
@click.argument("name", shell_complete=volumes)
@controller_option
@json_option
@click.pass_context
def show(ctx: click.Context, name: str, controller: str | None, as_json: bool) -> None:
    """Everything about one volume: sizes, layout, members in order.

    \b
    Example:
      fstripe --at skerry volume show tides
    """
    from ..core.server.condition import State
    from ..work.survey import survey

    client = target(ctx)
    state = show_volume(client, survey(client).volume(name, controller), as_json, "")
    ctx.exit(0 if state is State.OK else ATTENTION)


@volume.command("set")
@click.argument("name", shell_complete=volumes)
@click.option("--read-cache", type=click.Choice(READS), help="Whether it reads ahead.")
@click.option("--write-cache", type=click.Choice(WRITES), help="When a write is acknowledged, as for `volume add`.")
@controller_option
@json_option
@click.pass_context
def set_(
    ctx: click.Context,
    name: str,
    read_cache: str | None,
    write_cache: str | None,
    controller: str | None,
    as_json: bool,
) -> None:
    """Change volume NAME's cache policies.

    \b
    Example:
      fstripe --at skerry volume set tides --write-cache protected-back
    """
    from ..work.build import set_caches
    from ..work.survey import survey

    if read_cache is None and write_cache is None:
        raise click.UsageError("say what to set")
    client = target(ctx)
    found = survey(client).volume(name, controller)
    show_volume(client, set_caches(client, found, read_cache, write_cache), as_json, "changed")


@volume.command()
@click.argument("name", shell_complete=volumes)
@controller_option
@confirm_options
@json_option
@click.pass_context
def remove(
    ctx: click.Context, name: str, controller: str | None, yes: bool, expect_serials: str | None, as_json: bool
) -> None:
    """Remove volume NAME and lose what is on it. Shows it first, then asks for the name again.

    \b
    Example:
      fstripe --at skerry volume remove tides
    """
    from ..core.server.acts import Allowed, ForgetVolume, may
    from ..work.build import company, remove_volume
    from ..work.survey import survey
    from .render import Line
    from .render import show as show_parts
    from .verdicts import cost_words
    from .words import holds_words, said, size

    client = target(ctx)
    seen = survey(client)
    found = seen.volume(name, controller)
    members = ", ".join(f"bay {m.bay} {said(m.serial, 'serial not known')}" for m in found.seats)
    lost = f"volume {name}, {said(found.level, 'level not known')}, {size(found.size)}, holding "
    lost += holds_words(found.content, "nothing")
    lines = [Line(f"WILL BE LOST: {lost}", "Critical"), Line(f"Members: {members}")]
    if found.boots is True:
        lines.append(Line("The server starts from this volume: without it, it does not start.", "Critical"))
    verdict = may(ForgetVolume(found), seen)
    costs = verdict.costs if isinstance(verdict, Allowed) else ()
    lines += [Line(f"{cost_words(c)[:1].upper()}{cost_words(c)[1:]}.", "Warning") for c in costs]
    others = company(seen, found)
    if others:
        lines.append(Line(f"Its drives carry other volumes, which stay: {', '.join(v.name for v in others)}."))
    if not as_json or not yes:
        show_parts(lines, err=True)
    confirm(name, [said(m.serial) for m in found.seats], yes, expect_serials)
    remove_volume(client, found)
    if as_json:
        print_json({"removed": name})
    else:
        rest = f"its drives still carry {', '.join(v.name for v in others)}" if others else "its drives are free"
        click.echo(f"Volume {name} is removed; {rest}.")


@volume.command()
@click.argument("name", shell_complete=volumes)
@click.option(
    "--onto",
    required=True,
    metavar="BAY",
    shell_complete=bays_,
    help="The bay of the drive that takes the missing member's place.",
)
@controller_option
@confirm_options
@json_option
@click.pass_context
def rebuild(
    ctx: click.Context, name: str, onto: str, controller: str | None, yes: bool, expect_serials: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Rebuild volume NAME's missing member onto the drive in a bay, where the controller does not do so by itself.

    Where a hot spare is used in place of that bay, the data are copied back from the spare.

    \b
    Example:
      fstripe --at skerry volume rebuild tides --onto 5
    """
    from ..work.build import start_rebuild
    from ..work.survey import survey
    from .render import Line
    from .render import show as show_parts
    from .words import drive_name, holds_words, said

    client = target(ctx)
    seen = survey(client)
    found = seen.volume(name, controller)
    drive = seen.bay(onto)
    if not as_json or not yes:
        holds = holds_words(drive.content, "nothing")
        what = f"Bay {onto}: {said(drive.serial)}, {drive_name(drive)}, holding {holds}, will be overwritten."
        show_parts([Line(what, "Critical")], err=True)
    confirm(name, [said(drive.serial)], yes, expect_serials)
    start_rebuild(client, found, drive)
    show_volume(client, survey(client).volume(found.path), as_json, "being rebuilt; follow it with `watch`")


@volume.command()
@click.argument("name", shell_complete=volumes)
@click.option(
    "--method", type=click.Choice(["fast", "foreground", "background"]), default="fast", show_default=True,
    help="fast clears at once, foreground writes zeros everywhere, background computes parity and keeps the data.",
)  # fmt: skip
@controller_option
@confirm_options
@json_option
@click.pass_context
def initialize(
    ctx: click.Context, name: str, method: str, controller: str | None, yes: bool, expect_serials: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Initialize volume NAME again. Fast and foreground lose what it holds, and ask for its name first.

    \b
    Example:
      fstripe --at skerry volume initialize tides --method foreground
    """
    from ..work import build
    from ..work.survey import survey
    from .render import Line
    from .render import show as show_parts
    from .words import holds_words, said

    client = target(ctx)
    found = survey(client).volume(name, controller)
    if method != "background":
        holds = holds_words(found.content, "nothing")
        show_parts([Line(f"WILL BE LOST: what volume {name} holds: {holds}", "Critical")], err=True)
        confirm(name, [said(m.serial) for m in found.seats], yes, expect_serials)
    show_volume(
        client,
        build.initialize(client, found, method),
        as_json,
        "initialized" if method == "fast" else "being initialized",
    )


@volume.command()
@click.argument("name", shell_complete=volumes)
@click.option("--repair", is_flag=True, help="Repair what is found: the member that lies where that can be told.")
@click.option("--accept", is_flag=True, help="Check nothing: say that what an earlier check found was seen, and stays.")
@controller_option
@json_option
@click.pass_context
def check(ctx: click.Context, name: str, repair: bool, accept: bool, controller: str | None, as_json: bool) -> None:
    """Check volume NAME's consistency: every copy and parity, while it continues to work.

    Only reports, unless --repair is given. What it finds stays open, here and in `survey`, until it is repaired or
    accepted. Where no member can be blamed, a repair writes parity anew from the data: which side was right it cannot
    tell.

    \b
    Example:
      fstripe --at skerry volume check tides
      fstripe --at skerry watch --speed 3600
    """
    from ..work.build import accept_inconsistent, start_check

    client = target(ctx)
    if accept:
        found = accept_inconsistent(client, name, controller)
        show_volume(client, found, as_json, "as it was: what the check found is accepted")
        return
    found = start_check(client, name, repair, controller)
    show_volume(client, found, as_json, "being checked; follow it with `watch`, read `log`")
