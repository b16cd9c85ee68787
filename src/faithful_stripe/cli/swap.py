"""The swap command: the guided replacement of a drive, each step told as it is verified."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, json_option, named, target
from .keep import advisories_from, advisories_option, stock_file, stock_option

if TYPE_CHECKING:
    from ..redfish.client import Client
    from ..work.seeing import Told
    from ..work.stock import Match
    from ..work.swap import Swap


@click.command()
@click.argument("drive", required=False)
@click.option("--resume", "again", is_flag=True, help="Pick up the swap that is under way at this server.")
@click.option("--now", is_flag=True, help="Take out a drive that predicts its failure without copying it off first.")
@click.option("--detach", is_flag=True, help="Let go once the rebuild runs.")
@click.option("--overwrite", is_flag=True, help="Take a new drive although it holds something: that is lost.")
@click.option("--condition", type=click.Choice(["bad", "suspect", "used"]), default=None,
    help="What the old drive is called in the cupboard; bad when it failed, else used.")  # fmt: skip
@click.option("--speed", type=click.FloatRange(min=1), default=1.0, help="Bench seconds per second (benches only).")
@advisories_option
@stock_option
@json_option
@click.pass_context
def swap(
    ctx: click.Context, drive: str | None, again: bool, now: bool, detach: bool, overwrite: bool,
    condition: str | None, speed: float, advisories: Path | None, file: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Replace DRIVE (bay or serial number), step by step; every step is verified by reading, never assumed.

    Refuses when taking it out now would lose data. Says at once when the wrong drive leaves, when the new one will not
    do, when another one fails. Ends when the volume is whole again, and says what remains. With --json one line for
    every thing it tells.

    Exit status 3 when something remains to be done.

    \b
    Example:
      fstripe --at skerry swap 5
      fstripe --at skerry swap --resume
    """
    from ..work import swap as work

    if (drive is None) != again:
        raise click.UsageError("name the drive, or --resume the swap that is under way")
    client = target(ctx, speed)
    under_way = work.resume(client) if again else work.begin(client, str(drive), now)
    path = stock_file(file)
    found = _cupboard(client, under_way, path, required=file is not None, where=named(ctx))
    options = work.Options(
        detach=detach, overwrite=overwrite, known=_known(named(ctx)), stock=tuple(m.item for m in found),
        best=next((m.item for m in found if m.grade != "cannot"), None), pause=0.25 if speed > 1 else 1.5,
        advisories=advisories_from(advisories),
    )  # fmt: skip
    remaining = alarms = 0
    if not as_json:
        click.echo(f"Swap at {under_way.server}: bay {under_way.bay}, {under_way.serial or 'empty'}, {under_way.why}.")
    try:
        for told in work.run(client, under_way, options):
            _tell(told, as_json)
            remaining += told.kind == "check" and under_way.stage in ("finish", "over")
            alarms = alarms + 1 if told.kind == "alarm" else 0
    except KeyboardInterrupt:
        under_way.keep()
        click.echo("fstripe: let go; pick it up with `swap --resume`", err=True)
        ctx.exit(1)
    if under_way.stage == "over":
        _put_away(under_way, path, condition, bool(found))
        ctx.exit(ATTENTION if remaining else 0)
    ctx.exit(0 if detach and not alarms else ATTENTION)


def _cupboard(client: Client, swap: Swap, path: Path, required: bool, where: str) -> list[Match]:
    """What the cupboard offers for this bay, the best first; nothing where there is no list."""
    from ..work.errors import WorkError
    from ..work.stock import match, need, read_stock
    from ..work.survey import survey

    if not path.exists() and not required:
        return []
    items = read_stock(path)
    try:
        return match(need(survey(client), swap.bay), items, _known(where))
    except WorkError:
        return []


def _known(where: str) -> dict[str, str]:
    from ..work.visits import failed_drives

    return failed_drives(where)


def _tell(told: Told, as_json: bool) -> None:
    from .render import Line, show

    if as_json:
        click.echo(json.dumps({"kind": told.kind, "what": told.what, "to_do": told.to_do}))
        return
    signs = {"step": "ok", "wait": "NOW", "alarm": "STOP", "check": "check", "progress": "", "done": "done"}
    styles = {"alarm": "Critical", "wait": "head", "done": "good", "check": ""}
    parts = [Line(f"  {signs[told.kind]:<7}{told.what}", styles.get(told.kind, ""))]
    if told.to_do:
        parts.append(Line(f"         {told.to_do}", styles.get(told.kind, "")))
    show(parts)


def _put_away(swap: Swap, path: Path, condition: str | None, listed: bool) -> None:
    """Bring the cupboard's list up to date: the new drive is in use, the old one lies there with its history."""
    from ..work.stock import Item, put, read_stock, taken

    if not listed or not swap.serial:
        return
    if swap.incoming in [i.serial for i in read_stock(path)]:
        taken(path, swap.incoming, f"{swap.server} bay {swap.bay}")
    called = condition or ("bad" if swap.failed else "used")
    old = Item(
        serial=swap.serial, parts=(swap.part,) if swap.part else (), model=swap.model, size=swap.size,
        media=swap.media, protocol=swap.protocol, rpm=swap.rpm, sector=swap.sector or 512, condition=called,
        origin=f"{swap.server} bay {swap.bay}", note=f"{swap.why}, {swap.began[:10]}",
    )  # fmt: skip
    put(path, old)
    click.echo(f"{path}: {swap.incoming} is in use, {swap.serial} is {called}.")
