"""The swap command: the guided replacement of a drive, each step told as it is verified."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, confirm, confirm_options, json_option, named, speed_option, target
from .completing import drives
from .keep import advisories_from, advisories_option, stock_file, stock_option

if TYPE_CHECKING:
    from ..core.server.acts import Cost
    from ..redfish.client import Client
    from ..work.seeing import Told
    from ..work.stock import Match
    from ..work.swap import Swap


@click.command()
@click.argument("drive", required=False, shell_complete=drives)
@click.option("--resume", "again", is_flag=True, help="Pick up the swap that is under way at this server.")
@click.option("--give-up", is_flag=True, help="Forget the swap that is under way; nothing on the server changes.")
@click.option("--now", is_flag=True, help="Take out a drive that predicts its failure without copying it off first.")
@click.option("--detach", is_flag=True, help="Let go once the rebuild runs.")
@click.option("--overwrite", is_flag=True, help="Take a new drive although it holds something: that is lost.")
@click.option("--condition", type=click.Choice(["bad", "suspect", "used", "keep"]), default=None,
    help="What the old drive is called in stock; bad when it failed, else used.")  # fmt: skip
@speed_option
@advisories_option
@stock_option
@confirm_options
@json_option
@click.pass_context
def swap(
    ctx: click.Context, drive: str | None, again: bool, give_up: bool, now: bool, detach: bool, overwrite: bool,
    condition: str | None, speed: float, advisories: Path | None, file: Path | None, yes: bool,
    expect_serials: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Replace DRIVE (bay or serial number), step by step; every step is verified by reading, never assumed.

    Refuses when taking it out now would lose data, or when what is known of the server does not rule that out. Where
    the margin falls, or the drive is healthy, that is said first, and the serial number asked for. Says at once when
    the wrong drive leaves, when the new one will not do, when another one fails. Ends when the volume is whole again,
    and says what remains. With --json one line for every thing it tells.

    Exit status 3 when something remains to be done.

    \b
    Example:
      fstripe --at skerry swap 5
      fstripe --at skerry swap --resume
    """
    from ..work import swap as work
    from ..work.swapping import Options, run

    if (drive is None) != (again or give_up) or (again and give_up):
        raise click.UsageError("name the drive, or --resume (or --give-up) the swap that is under way")
    client = target(ctx, speed)
    if give_up:
        dropped = work.give_up(client)
        click.echo(f"The swap of bay {dropped.bay} is given up; nothing on {dropped.server} was changed.")
        return
    under_way, costs = (work.resume(client), ()) if again else work.begin(client, str(drive), now)
    if costs:
        _agree(under_way, costs, yes, expect_serials)
    path = stock_file(file)
    found = _cupboard(client, under_way, path, required=file is not None, where=named(ctx))
    options = Options(
        detach=detach, overwrite=overwrite, known=_known(named(ctx)), stock=tuple(m.item for m in found),
        best=next((m.item for m in found if m.grade != "cannot"), None), pause=0.25 if speed > 1 else 1.5,
        advisories=advisories_from(advisories),
        put_away=lambda swap: _put_away(swap, path, condition, path.exists()),
    )  # fmt: skip
    remaining = alarms = 0
    if not as_json:
        click.echo(
            f"Swap at {under_way.server}: bay {under_way.bay}, {under_way.serial or 'empty'}, {_why(under_way)}."
        )
    try:
        for told in run(client, under_way, options):
            _tell(told, as_json)
            remaining += told.kind == "check" and under_way.stage in ("finish", "away")
            alarms = alarms + 1 if told.kind == "alarm" else 0
    except KeyboardInterrupt:
        under_way.keep()
        click.echo("fstripe: let go; pick it up with `swap --resume`", err=True)
        ctx.exit(1)
    if under_way.stage == "away":
        ctx.exit(ATTENTION if remaining else 0)
    ctx.exit(0 if detach and not alarms else ATTENTION)


def _why(swap: Swap) -> str:
    """Why a drive is replaced."""
    if not swap.serial:
        return "the bay is empty"
    return swap.why or ("it failed, or predicts that it will" if swap.failed else "asked for")


def _agree(swap: Swap, costs: tuple[Cost, ...], yes: bool, expect_serials: str | None) -> None:
    """Say what taking the drive out costs; where it costs redundancy, ask for the drive's serial number."""
    from ..work.swap import hurts
    from .render import Line, show
    from .verdicts import cost_words

    show([Line(f"  {cost_words(c)}", "Warning") for c in costs], err=True)
    if hurts(costs):
        confirm(swap.serial, [swap.serial], yes, expect_serials, "drive")


def _cupboard(client: Client, swap: Swap, path: Path, required: bool, where: str) -> list[Match]:
    """What the stock offers for this bay, the best first; nothing where there is no list."""
    from ..core.server.model import ChoiceError
    from ..work.errors import WorkError
    from ..work.stock import match, need, read_stock
    from ..work.survey import survey

    if not path.exists() and not required:
        return []
    items = read_stock(path)
    try:
        return match(need(survey(client), swap.path), items, _known(where))
    except (WorkError, ChoiceError):
        return []


def _known(where: str) -> dict[str, str]:
    from ..work.visits import failed_drives

    return failed_drives(where)


def _tell(told: Told, as_json: bool) -> None:
    from .render import Line, show
    from .telling import told_words

    what, to_do = told_words(told)
    if as_json:
        click.echo(json.dumps({"kind": told.kind, "code": told.code.value, "what": what, "to_do": to_do}))
        return
    signs = {"step": "ok", "wait": "NOW", "alarm": "STOP", "check": "check", "progress": "", "done": "done"}
    styles = {"alarm": "Critical", "wait": "head", "done": "good", "check": ""}
    parts = [Line(f"  {signs[told.kind]:<7}{what}", styles.get(told.kind, ""))]
    if to_do:
        parts.append(Line(f"         {to_do}", styles.get(told.kind, "")))
    show(parts)


def _put_away(swap: Swap, path: Path, condition: str | None, listed: bool) -> None:
    """Bring the stock's list up to date: the new drive is in use, the old one lies there with its history."""
    from ..work.stock import Item, exchanged

    if not listed or not swap.serial or swap.incoming == swap.serial:
        return
    called = condition or ("keep" if swap.holds_only_copy else "bad" if swap.failed else "used")
    old = Item(
        serial=swap.serial, parts=(swap.part,) if swap.part else (), model=swap.model, size=swap.size,
        media=swap.media, protocol=swap.protocol, rpm=swap.rpm, sector=swap.sector or 512, condition=called,
        origin=f"{swap.server} bay {swap.bay}", note=f"{_why(swap)}, {swap.began[:10]}",
    )  # fmt: skip
    exchanged(path, swap.incoming, f"{swap.server} bay {swap.bay}", old)
    click.echo(f"{path}: {swap.incoming} is in use, {swap.serial} is {called}.")
