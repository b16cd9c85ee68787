"""The bench commands that hurt: faults of drives, cuts of power, the open lid; and how hands report what followed."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import Finite, json_option, own_bench, print_json
from .completing import drives

if TYPE_CHECKING:
    from ..bench.hands import Hands
    from ..bench.state import Drive


@click.command()
@click.argument("drive", shell_complete=drives)
@click.argument(
    "kind",
    type=click.Choice(["dead", "predicted", "unreadable", "corrupt", "slow", "link", "temperature"]),
    default="dead",
)
@click.option("--range", "where", metavar="OFFSET:LENGTH", help="Which bytes of the drive (unreadable, corrupt).")
@click.option("--random", "count", type=click.IntRange(1, 10000), help="So many sectors at random (unreadable).")
@click.option("--seed", type=int, help="Which random sectors; others each time without it.")
@click.option("--factor", type=Finite(1, 1000), help="How many times slower (slow); 1 heals.")
@click.option("--celsius", type=click.IntRange(-20, 120), help="The drive's temperature (temperature).")
@click.option("--every", default="20m", show_default=True, metavar="TIME", help="Time from loss to loss (link).")
@click.option("--down", default="30s", show_default=True, metavar="TIME", help="How long it is lost (link).")
@json_option
@click.pass_context
def fault(
    ctx: click.Context, drive: str, kind: str, where: str | None, count: int | None, seed: int | None,
    factor: float | None, celsius: int | None, every: str, down: str, as_json: bool,
) -> None:  # fmt: skip
    """Let a drive fail, by bay or serial number, in one of several ways.

    \b
    dead         it answers nothing any more
    predicted    it says that it will fail, and works on
    unreadable   the sectors of --range, or --random ones, cannot be read until they are written again
    corrupt      the bytes of --range are others now, and nothing notices by itself
    slow         it works at one part in --factor of its rate
    link         its link is lost now for --down, and again --every so long, until it is reseated
    temperature  it is --celsius warm

    \b
    Example:
      fstripe --at skerry bench fault 5
      fstripe --at skerry bench fault 6 unreadable --range 1MiB:4KiB
      fstripe --at skerry bench fault 7 link --every 10m
    """
    import random

    from ..core.units import parse_duration

    needed: dict[str, tuple[str, object]] = {"unreadable": ("--range", where or count), "corrupt": ("--range", where)}
    needed |= {"slow": ("--factor", factor), "temperature": ("--celsius", celsius)}
    option, value = needed.get(kind, ("", ""))
    if option and value is None:
        raise click.UsageError(f"{kind} needs {option}" + (" or --random" if kind == "unreadable" else ""))
    if where is not None and (count is not None or kind not in ("unreadable", "corrupt")):
        raise click.UsageError("--range goes with unreadable (then without --random) and with corrupt")
    with own_bench(ctx).session() as session:
        if kind == "dead":
            hurt, text = session.fail(drive), "has failed"
        elif kind == "predicted":
            hurt, text = session.predict(drive), "predicts its failure"
        elif kind == "slow":
            hurt = session.slow(drive, float(factor or 1))
            text = "works at its full rate" if factor == 1 else f"works at one part in {factor:g} of its rate"
        elif kind == "temperature":
            hurt, text = session.heat(drive, int(celsius or 0)), f"is {celsius} °C warm"
        elif kind == "link":
            hurt = session.loosen(drive, parse_duration(every), parse_duration(down))
            text = f"loses its link for {down} every {every}, until it is reseated"
        elif count:
            hurt = session.spoil_some(drive, count, random.Random(seed))
            text = f"has {count} unreadable sectors"
        else:
            offset, length = _range(str(where))
            hurt = (session.spoil if kind == "unreadable" else session.corrupt)(drive, offset, length)
            text = f"has {'unreadable sectors' if kind == 'unreadable' else 'silently changed bytes'} at {where}"
        said = said_by(session)
    report(as_json, hurt, f"Drive {hurt.serial} in bay {hurt.bay} {text}.", said)


def _range(text: str) -> tuple[int, int]:
    from ..core.units import SizeError, parse_size

    offset, colon, length = text.partition(":")
    if not colon:
        raise SizeError(text=text, kind="range", example="1MiB:4KiB")
    return parse_size(offset), parse_size(length)


@click.command("cut-power")
@click.option("--seed", type=int, help="Which unflushed sectors are lost; another pick each time without it.")
@click.option("--stay-off", is_flag=True, help="The power does not come back by itself (`bench power-on`).")
@json_option
@click.pass_context
def cut_power(ctx: click.Context, seed: int | None, stay_off: bool, as_json: bool) -> None:
    """Cut the server's power, and restore it. Drives lose what their caches had not written.

    When it comes back each controller reads its drives and takes up the volumes that they describe. With
    --stay-off drives can be moved about first.

    \b
    Example:
      fstripe --at skerry bench cut-power
    """
    import random

    with own_bench(ctx).session(power_cut=random.Random(seed), stay_off=stay_off) as session:
        lost, said = session.power_lost, said_by(session)
    if as_json:
        print_json({"lost_sectors": lost, "power": not stay_off, "events": [text for _severity, text in said]})
        return
    back = "stays off: bench power-on restores it" if stay_off else "is back"
    click.echo(f"The power was cut and {back}. Unflushed sectors that were lost: {lost}.")
    echo(said)


@click.command("power-on")
@json_option
@click.pass_context
def power_on(ctx: click.Context, as_json: bool) -> None:
    """Restore the power after `cut-power --stay-off`.

    \b
    Example:
      fstripe --at skerry bench power-on
    """
    with own_bench(ctx).session() as session:
        was_on = session.state.power
        if not was_on:
            session.power_on()
        said = said_by(session)
    if as_json:
        print_json({"power": True, "events": [text for _severity, text in said]})
        return
    click.echo("The server was on already." if was_on else "The server is on.")
    echo(said)


@click.command()
@click.argument("how", type=click.Choice(["open", "close"]))
@json_option
@click.pass_context
def lid(ctx: click.Context, how: str, as_json: bool) -> None:
    """Open or close the chassis.

    \b
    Example:
      fstripe --at skerry bench lid open
    """
    with own_bench(ctx).session() as session:
        session.lid(how == "open")
        said = said_by(session)
    if as_json:
        print_json({"lid": how, "events": [text for _severity, text in said]})
        return
    click.echo(f"The chassis is {'open' if how == 'open' else 'closed'}.")
    echo(said)


def said_by(session: Hands) -> list[tuple[str, str]]:
    """What the controller logged in this session: (severity, message and advice)."""
    return [(event.severity, f"{event.message} {event.resolution}".strip()) for event in session.said]


def report(as_json: bool, drive: Drive, text: str, said: list[tuple[str, str]]) -> None:
    if as_json:
        print_json({"drive": drive, "events": [message for _severity, message in said]})
        return
    click.echo(text)
    echo(said)


def echo(said: list[tuple[str, str]]) -> None:
    for severity, message in said:
        click.echo(f"  {severity:8}  {message}")
