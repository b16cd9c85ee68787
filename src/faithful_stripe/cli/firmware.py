"""The firmware and boot commands: settings with what waits for the restart, the restart read back, the boot order."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .arguments import Family
from .common import ATTENTION, controller_option, json_option, print_json, speed_option, target
from .completing import attributes, volumes
from .update import update, version_parts

if TYPE_CHECKING:
    from ..work.firmware import AttributeView, Firmware, Outcome
    from .render import Part

roles_option = click.option(
    "--roles", type=click.Path(path_type=Path),
    help='A TOML file that says which attribute serves which role: "storage mode" = "NAME".',
)  # fmt: skip


@click.group(cls=Family)
def firmware() -> None:
    """The server's firmware settings: show, search, set, restart and read again what they became.

    \b
    Example:
      fstripe --at skerry firmware show
    """


@firmware.command()
@click.option("--find", "word", metavar="WORD", help="Search all attributes by name and help.")
@click.option("--all", "everything", is_flag=True, help="All attributes, not only those that matter to this job.")
@click.option("--versions", "by_version", is_flag=True, help="The firmware versions of every part instead.")
@roles_option
@json_option
@click.pass_context
def show(
    ctx: click.Context, word: str | None, everything: bool, by_version: bool, roles: Path | None, as_json: bool
) -> None:
    """Show the settings that matter to this job, now and after the next restart.

    Exit status 3 while something waits for a restart.

    \b
    Example:
      fstripe --at skerry firmware show --find slot
    """
    from ..work.firmware import firmware as read
    from ..work.update import versions
    from .render import show as show_parts

    client = target(ctx)
    if by_version:
        listed = versions(client)
        if as_json:
            print_json(listed)
        else:
            show_parts(version_parts(listed))
        ctx.exit(ATTENTION if any(v.waiting for v in listed) else 0)
    found = read(client, roles)
    if as_json:
        print_json(found)
    else:
        show_parts(_shown(found, word, everything))
    ctx.exit(ATTENTION if any(a.pending is not None for a in found.attributes) else 0)


def _shown(found: Firmware, word: str | None, everything: bool) -> list[Part]:
    from ..work.firmware import ROLES
    from .render import Line

    parts: list[Part] = [Line(f"{found.server}: firmware settings", "head")]
    if word:
        text = word.lower()
        chosen = [a for a in found.attributes if text in f"{a.name} {a.shown} {a.help}".lower()]
        parts += [_table(chosen)] if chosen else [Line(f"No attribute has {word!r} in its name or help.")]
        return [*parts, *(Line(f"{a.name}: {a.help} Expected: {a.expected}.") for a in chosen)]
    chosen = [a for rule in ROLES for a in found.of(rule.role)]
    parts.append(_table([*chosen, *(a for a in found.attributes if everything and a not in chosen)]))
    missing = [rule.role for rule in ROLES if not found.of(rule.role)]
    if missing:
        text = f"No attribute was recognised as: {', '.join(missing)}. Search with --find; say which with --roles."
        parts.append(Line(text, "Warning"))
    boot = ", then ".join(o.shown for o in found.boot) or "not told"
    parts.append(Line(f"Boot order: {boot}."))
    waiting = [a for a in found.attributes if a.pending is not None]
    if waiting:
        parts.append(Line(f"{len(waiting)} settings wait for a restart: fstripe firmware restart", "Warning"))
    return parts


def _table(chosen: list[AttributeView]) -> Part:
    from .render import Cell, Table

    table = Table("", ["role?1", "attribute", "called?2", "now", "after the restart"])
    for a in chosen:
        after = Cell("same", "dim") if a.pending is None else Cell(_said(a, a.pending), "Warning")
        table.add(a.role or "-", a.name, a.shown, _said(a, a.value), after)
    return table


def _said(a: AttributeView, value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    shown = next((text for name, text in a.values if name == value), None)
    return f"{value} ({shown})" if shown and shown != value else str(value)


firmware.add_command(update)


@firmware.command("set")
@click.argument("pairs", nargs=-1, required=True, metavar="NAME=VALUE...", shell_complete=attributes)
@json_option
@click.pass_context
def set_(ctx: click.Context, pairs: tuple[str, ...], as_json: bool) -> None:
    """Set attributes. They are checked before anything is sent, all or none, and wait for the next restart.

    \b
    Example:
      fstripe --at skerry firmware set DiskControllerUse=Raid StartupStyle=Uefi
    """
    from ..work import firmware as work
    from ..work.survey import survey
    from .render import Line
    from .render import show as show_parts
    from .words import effect_words

    client = target(ctx)
    found = work.firmware(client)
    wanted = work.parse(found, pairs)
    says = work.effects(found, wanted, survey(client).volumes)
    after = work.set_attributes(client, found, wanted)
    waiting = {a.name: a.pending for a in after.attributes if a.pending is not None}
    if as_json:
        print_json({"asked": wanted, "waiting": waiting, "effects": [effect_words(e) for e in says]})
        return
    lines: list[Part] = []
    for name, value in wanted.items():
        a = after.named(name)
        same = a.pending is None and a.value == value
        text = f"is {_said(a, value)} already" if same else f"will be {_said(a, value)}, is {_said(a, a.value)} now"
        lines.append(Line(f"{name} ({a.shown}) {text}."))
    lines += [Line(f"After the restart {effect_words(e)}.", "Warning" if e.bad else "") for e in says]
    if waiting:
        lines.append(Line("It takes effect at the next restart: fstripe firmware restart"))
    show_parts(lines)


@firmware.command()
@click.option("--yes", is_flag=True, help="Do not ask.")
@speed_option
@click.option("--patience", default="15m", show_default=True, metavar="TIME", help="How long to wait for it.")
@json_option
@click.pass_context
def restart(ctx: click.Context, yes: bool, speed: float, patience: str, as_json: bool) -> None:
    """Restart the server, wait until it is back, read every setting again, and name each that did not keep.

    Exit status 3 when a setting fell back.

    \b
    Example:
      fstripe --at skerry firmware restart --speed 30
    """
    from ..core.units import parse_duration
    from ..work import firmware as work
    from ..work.errors import WorkError
    from ..work.survey import survey
    from ..work.update import running_updates
    from .words import works_words

    client = target(ctx, speed)
    seen = survey(client)
    busy = works_words(work.working(seen))
    if busy:
        click.echo(f"WORK IS RUNNING: {busy}; it stops during the restart and continues afterwards", err=True)
        click.echo("WAIT FIRST: with no margin left a restart is a risk that nobody needs (watch)", err=True)
    for text in running_updates(client):
        click.echo(f"FIRMWARE IS BEING WRITTEN: {text}; a restart breaks it off: WAIT FIRST", err=True)
    click.echo("Ctrl-C stops the waiting, not the restart once it has begun.", err=True)
    if not yes:
        answer = click.prompt(
            f"Type the server's name ({seen.server}) to restart it", err=True, default="", show_default=False
        )
        if answer.strip() != seen.server:
            raise WorkError(what="not confirmed; nothing was restarted", to_do="in a script, use --yes")
    pause = 2.0 if speed == 1 else 0.2
    try:
        back = work.restart(client, lambda state: click.echo(f"  {state}", err=True), parse_duration(patience), pause)
    except KeyboardInterrupt:
        click.echo("fstripe: stopped waiting; the restart continues; `firmware show` reads the settings after it",
                   err=True)  # fmt: skip
        ctx.exit(1)
    fell = [o for o in back.settings if not o.kept]
    if as_json:
        print_json({"settings": back.settings, "versions": back.versions, "broken_off": back.broken,
                    "kept": not fell})  # fmt: skip
    else:
        _say_outcomes(list(back.settings))
        for v in back.versions:
            click.echo(f"{v.name} runs firmware {v.now} now; before it was {v.before}.")
        for text in back.broken:
            click.echo(f"BROKEN OFF by the restart: {text}. The firmware it had still runs: update it again.")
    missed = [v for v in back.versions if v.waited and v.waited != v.now]
    ctx.exit(ATTENTION if fell or missed or back.broken else 0)


def _say_outcomes(found: list[Outcome]) -> None:
    from .render import Cell, Line, Table, show

    if not found:
        show([Line("The server is back; no setting has changed.")])
        return
    table = Table("", ["attribute", "called?1", "was", "asked", "is now", ""])
    for o in found:
        verdict = Cell("kept") if o.kept else Cell("FELL BACK", "Critical")
        table.add(o.name, o.shown, str(o.before), str(o.asked), str(o.now), verdict)
    fell = [o.name for o in found if not o.kept]
    last = Line("The server is back; every setting kept what was asked.", "good")
    if fell:
        text = f"The server is back, but {', '.join(fell)} did not keep what was asked: another setting pulls it back."
        last = Line(text, "Critical")
    show([table, last])


@click.command()
@click.argument("volume", shell_complete=volumes)
@controller_option
@json_option
@click.pass_context
def boot(ctx: click.Context, volume: str, controller: str | None, as_json: bool) -> None:
    """Put VOLUME first in the server's boot order, or, where the server has none that can be changed, have it start
    from VOLUME in the way that it offers.

    \b
    Example:
      fstripe --at skerry boot system
    """
    from ..work.booting import Way, boot_from

    found = boot_from(target(ctx), volume, controller)
    if as_json:
        print_json({"boot_order": found.options, "way": found.way})
    elif found.way in (Way.ORDER, Way.ORDER_AT_RESTART):
        waits = " (from its next restart on)" if found.way is Way.ORDER_AT_RESTART else ""
        click.echo(f"Boot order of {found.server}{waits}: {', then '.join(o.shown for o in found.options)}.")
    elif found.way is Way.OVERRIDE:
        click.echo(f"{found.server} starts from volume {found.volume} until further notice: by its boot override.")
    else:
        click.echo(f"{found.server} starts from volume {found.volume} at its next start only: it offers no more.")
    if found.way in (Way.ORDER_AT_RESTART, Way.NEXT_START):
        ctx.exit(3)
