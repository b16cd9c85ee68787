"""The bench commands: a simulated server, and the hands in its machine room."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, confirm, confirm_options, controller_option, json_option, own_bench, print_json

if TYPE_CHECKING:
    from ..bench.hands import Hands
    from ..bench.state import Drive


@click.group()
def bench() -> None:
    """The simulated server: make one, and be the hands in its machine room.

    These commands act on the bench folder itself; a real server has no such calls.

    \b
    Example:
      fstripe bench new skerry
    """


@bench.command()
@click.argument("name", type=click.Path(path_type=Path))
@click.option("--from", "description", type=click.Path(path_type=Path), help="A bench description (TOML).")
@click.option(
    "--take", "takes", multiple=True, metavar="BENCH:SERIAL", help="Move a loose drive of another bench here."
)
@json_option
def new(name: Path, description: Path | None, takes: tuple[str, ...], as_json: bool) -> None:
    """Make a bench in a new folder NAME: by default the tide observatory's server, 16 bays.

    Drives are sparse files of their full nominal size; they take space only for what is written. A drive that was
    pulled on another bench can be moved here, with what is on it: seated, its set-up is foreign to this bench's
    controller (`volume foreign`).

    \b
    Example:
      fstripe bench new skerry
      fstripe bench new second --from second.toml --take skerry:HG4K20931 --take skerry:HG4K20944
    """
    from ..bench.bench import create
    from ..core.units import decimal_size

    for wanted in takes:
        if not wanted.rpartition(":")[0]:
            raise click.UsageError(f"--take {wanted}: expected BENCH:SERIAL")
    taken = [(Path(place), serial) for place, _colon, serial in (wanted.rpartition(":") for wanted in takes)]
    state = create(name, description, take=taken)
    seated = [d for d in state.drives.values() if d.bay]
    stock = [d for d in state.drives.values() if not d.bay]
    if as_json:
        print_json({"bench": str(name), "server": state.server["name"], "seated": seated, "stock": stock})
        return
    click.echo(f"Bench {name}: server {state.server['name']}, {len(state.bays)} bays, {len(seated)} drives seated.")
    click.echo("In the cupboard:")
    for d in stock:
        click.echo(f"  {d.serial}  {d.vendor} {d.model}, {decimal_size(d.size)} {d.media}")
    click.echo(f"Look at it: fstripe --at {name} survey")


@bench.command()
@click.argument("drive")
@json_option
@click.pass_context
def pull(ctx: click.Context, drive: str, as_json: bool) -> None:
    """Pull a drive, by bay or serial number. It lies on the bench top afterwards.

    \b
    Example:
      fstripe --at skerry bench pull 5
    """
    with own_bench(ctx).session() as session:
        before = session.drive(drive).bay
        pulled = session.pull(drive)
        said = _said(session)
    _report(as_json, pulled, f"Drive {pulled.serial} is out of bay {before}.", said)


@bench.command()
@click.argument("bay")
@click.argument("serial")
@json_option
@click.pass_context
def seat(ctx: click.Context, bay: str, serial: str, as_json: bool) -> None:
    """Seat drive SERIAL, from the cupboard or the bench top, in BAY.

    Exit status 3 when the controller does not take it as the replacement it was meant to be.

    \b
    Example:
      fstripe --at skerry bench seat 5 HG4K30555
    """
    with own_bench(ctx).session() as session:
        seated = session.seat(bay, serial)
        said = _said(session)
    _report(as_json, seated, f"Drive {serial} is in bay {bay}.", said)
    ctx.exit(ATTENTION if any(severity != "OK" for severity, _text in said) else 0)


@bench.command()
@click.argument("drive")
@click.argument(
    "kind",
    type=click.Choice(["dead", "predicted", "unreadable", "corrupt", "slow", "link", "temperature"]),
    default="dead",
)
@click.option("--range", "where", metavar="OFFSET:LENGTH", help="Which bytes of the drive (unreadable, corrupt).")
@click.option("--random", "count", type=click.IntRange(1, 10000), help="So many sectors at random (unreadable).")
@click.option("--seed", type=int, help="Which random sectors; others each time without it.")
@click.option("--factor", type=click.FloatRange(1, 1000), help="How many times slower (slow); 1 heals.")
@click.option("--celsius", type=click.IntRange(-20, 120), help="The drive's temperature (temperature).")
@click.option("--every", default="20m", show_default=True, metavar="TIME", help="Time from loss to loss (link).")
@click.option("--down", default="30s", show_default=True, metavar="TIME", help="How long it is lost (link).")
@json_option
@click.pass_context
def fault(
    ctx: click.Context, drive: str, kind: str, where: str | None, count: int | None, seed: int | None,
    factor: float | None, celsius: int | None, every: str, down: str, as_json: bool,
) -> None:  # fmt: skip
    """Make a drive fail, by bay or serial number, in one of several ways.

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
            hurt, text = session.slow(drive, float(factor or 1)), f"works at 1/{factor:g} of its rate"
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
        said = _said(session)
    _report(as_json, hurt, f"Drive {hurt.serial} in bay {hurt.bay} {text}.", said)


def _range(text: str) -> tuple[int, int]:
    from ..core.units import SizeError, parse_size

    offset, colon, length = text.partition(":")
    if not colon:
        raise SizeError(text=text, kind="range", example="1MiB:4KiB")
    return parse_size(offset), parse_size(length)


@bench.command("cut-power")
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
        lost, said = session.power_lost, _said(session)
    if as_json:
        print_json({"lost_sectors": lost, "power": not stay_off, "events": [text for _severity, text in said]})
        return
    back = "stays off: bench power-on restores it" if stay_off else "is back"
    click.echo(f"The power was cut and {back}. Unflushed sectors that were lost: {lost}.")
    _echo(said)


@bench.command("power-on")
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
            session.tell("power on")
            session.power_on()
        said = _said(session)
    if as_json:
        print_json({"power": True, "events": [text for _severity, text in said]})
        return
    click.echo("The server was on already." if was_on else "The server is on.")
    _echo(said)


@bench.command()
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
        said = _said(session)
    if as_json:
        print_json({"lid": how, "events": [text for _severity, text in said]})
        return
    click.echo(f"The chassis is {'open' if how == 'open' else 'closed'}.")
    _echo(said)


@bench.command()
@click.argument("time")
@json_option
@click.pass_context
def advance(ctx: click.Context, time: str, as_json: bool) -> None:
    """Let bench time pass: work goes on as far as it would in that time.

    \b
    Example:
      fstripe --at skerry bench advance 3h
    """
    from ..bench.clock import iso
    from ..core.units import parse_duration

    with own_bench(ctx).session() as session:
        session.advance(parse_duration(time))
        now = iso(session.clock.now())
        said = _said(session)
    if as_json:
        print_json({"time": now, "events": [text for _severity, text in said]})
        return
    click.echo(f"It is {now} on the bench.")
    _echo(said)


@bench.command()
@click.argument("volume")
@click.argument("image", type=click.Path(path_type=Path))
@controller_option
@confirm_options
@json_option
@click.pass_context
def load(
    ctx: click.Context, volume: str, image: Path, controller: str | None, yes: bool, expect_serials: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Write IMAGE to the start of VOLUME through the controller, as a server would.

    Asks for the volume's name when it holds something already. `observatory` names the shipped image.

    \b
    Example:
      fstripe --at skerry bench load records observatory
    """
    from ..bench.observatory import opened
    from ..core.formats.probe import describe
    from ..core.units import binary_size
    from ..media.whole import sha256
    from .render import progress

    with opened(image) as source, own_bench(ctx).session() as session:
        session.require_power()
        serving, found = session.volume(volume, controller)
        holds = describe(serving.array(found)) if serving.margin(found) >= 0 else ""
        if holds:
            click.echo(f"WILL BE LOST: volume {volume} holds: {holds}", err=True)
            confirm(volume, [m.serial for m in found.members], yes, expect_serials)
        with progress(f"loading {image.name}") as tell:
            done = session.load(serving, found, source, tell)
        digest = sha256(source)
    if as_json:
        print_json({"volume": volume, "image_bytes": source.size, "data_bytes": done, "sha256": digest})
        return
    click.echo(f"{image.name}: {binary_size(source.size)}, {binary_size(done)} of it data, is on volume {volume}.")
    click.echo(f"SHA-256 {digest}")


@bench.command()
@click.argument("volume")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--range", "wanted", metavar="START:LENGTH", help="Only this part of the volume, such as 0:256MiB.")
@controller_option
@json_option
@click.pass_context
def dump(
    ctx: click.Context, volume: str, file: Path, wanted: str | None, controller: str | None, as_json: bool
) -> None:
    """Read VOLUME through the controller into a new sparse FILE, and print its SHA-256.

    \b
    Example:
      fstripe --at skerry bench dump records copy.img --range 0:256MiB
    """
    from .copying import copy_and_report

    with own_bench(ctx).session() as session:
        session.require_power()
        serving, found = session.volume(volume, controller)
        serving.check_writable(found)
        array = serving.array(found)
        copy_and_report(array, file, wanted, as_json)


def _said(session: Hands) -> list[tuple[str, str]]:
    """What the controller logged in this session: (severity, message and advice)."""
    return [(event.severity, f"{event.message} {event.resolution}".strip()) for event in session.said]


def _report(as_json: bool, drive: Drive, text: str, said: list[tuple[str, str]]) -> None:
    if as_json:
        print_json({"drive": drive, "events": [message for _severity, message in said]})
        return
    click.echo(text)
    _echo(said)


def _echo(said: list[tuple[str, str]]) -> None:
    for severity, message in said:
        click.echo(f"  {severity:8}  {message}")
