"""The bench commands: a simulated server, and the hands in its machine room."""

from __future__ import annotations

from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core.server.unknown import known
from .arguments import Family
from .common import (
    ATTENTION,
    access_of,
    confirm,
    confirm_options,
    controller_option,
    json_option,
    named,
    own_bench,
    print_json,
)
from .completing import bays, drives, volumes
from .faults import cut_power, echo, fault, lid, power_on, report, said_by
from .keep import stock_file, stock_option
from .serving import serve

if TYPE_CHECKING:
    from ..bench.state import State
    from ..redfish.client import Client


@click.group(cls=Family)
def bench() -> None:
    """The simulated server: create one, and be the hands in its machine room.

    These commands act on the bench folder itself; a real server has no such calls. Killed at any moment, a simulated
    server loses nothing that was acknowledged; when this machine itself loses power, it may.

    \b
    Example:
      fstripe bench new skerry
    """


def make_copy(client: Client, folder: Path, stock: Path | None) -> tuple[State, tuple[str, ...]]:
    """A bench like the server behind a client, with the stock's drives beside it; and what had to be filled in."""
    from ..bench.likeness import Twin, make_like
    from ..bench.volumes import Wish
    from ..work.likeness import likeness
    from ..work.stock import read_stock

    path = stock_file(stock)
    found = likeness(client, read_stock(path) if stock or path.exists() else ())
    wishes = [
        (
            v.controller,
            Wish(
                name=v.name, level=known(v.level, ""), bays=tuple(m.stands_in or m.bay for m in v.seats),
                strip=known(v.strip, 65536),
                size=known(v.size, None), rotation=v.rotation, data=v.data, q_place=v.q_place, q_exponent=v.q_exponent,
                spans=v.spans if v.spans > 1 else None, copies=v.copies if v.level == "RAID10" else None, mixed=True,
                read_cache=known(v.read_cache, "ahead"),
                write_cache="protected-back" if v.write_cache == "protected-back" else "through",
            ),
        )
        for v in found.volumes
    ]  # fmt: skip
    twin = Twin(found.text, wishes, found.spares, found.failed, found.predicted, found.firmware, found.unreadable,
                found.inconsistent)  # fmt: skip
    return make_like(folder, twin), found.guessed


@bench.command()
@click.argument("name", type=click.Path(path_type=Path))
@click.option("--from", "description", type=click.Path(path_type=Path), metavar="FILE",
    help="A bench description (TOML), or one that comes with the program: skerry, skerry-2.",
)  # fmt: skip
@click.option("--like", metavar="TARGET", help="Like this server: its bays, drives, volumes, settings; no data.")
@click.option(
    "--take", "takes", multiple=True, metavar="BENCH:SERIAL", help="Move a loose drive of another bench here."
)
@stock_option
@json_option
@click.pass_context
def new(
    ctx: click.Context, name: Path, description: Path | None, like: str | None, takes: tuple[str, ...],
    file: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Create a bench in a new folder NAME: by default the tide observatory's server, 16 bays.

    Drives are sparse files of their full nominal size; they take space only for what is written. A drive that was
    pulled on another bench can be moved here, with what is on it: seated, its set-up is another's than this bench's
    controller (`volume found`).

    \b
    Example:
      fstripe bench new skerry
      fstripe bench new trial --like https://skerry-1
      fstripe bench new second --from skerry-2 --take skerry:UV4H20931 --take skerry:UV4H20944
    """
    from ..bench.bench import create
    from ..core.units import decimal_size

    for wanted in takes:
        if not wanted.rpartition(":")[0]:
            raise click.UsageError(f"--take {wanted}: expected BENCH:SERIAL")
    if like is not None:
        from ..redfish.target import connect

        if description or takes:
            raise click.UsageError("--like stands alone: it says everything")
        with connect(like, access=access_of(ctx)) as client:
            state, guessed = make_copy(client, name, file)
        if as_json:
            print_json({"bench": str(name), "server": state.server["name"], "like": like})
        else:
            click.echo(f"Bench {name} is like {state.server['name']}: the same drives and volumes, no data.")
            click.echo(f"Filled in with what is usual: {', '.join(guessed)}.")
        return
    taken = [(Path(place), serial) for place, _colon, serial in (wanted.rpartition(":") for wanted in takes)]
    state = create(name, description, take=taken)
    seated = [d for d in state.drives.values() if d.bay]
    stock = [d for d in state.drives.values() if not d.bay]
    if as_json:
        print_json({"bench": str(name), "server": state.server["name"], "seated": seated, "stock": stock})
        return
    click.echo(f"Bench {name}: server {state.server['name']}, {len(state.bays)} bays, {len(seated)} drives seated.")
    click.echo("In stock:")
    for d in stock:
        click.echo(f"  {d.serial}  {d.vendor} {d.model}, {decimal_size(d.size)} {d.media}")
    click.echo(f"Look at it: fstripe --at {name} survey")


@bench.command()
@click.argument("drive", shell_complete=drives)
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
        said = said_by(session)
    report(as_json, pulled, f"Drive {pulled.serial} is out of bay {before}.", said)


@bench.command()
@click.argument("bay", shell_complete=bays)
@click.argument("serial")
@click.option(
    "--image", type=click.Path(path_type=Path), help="SERIAL is a new drive, with a copy of what this image holds."
)
@json_option
@click.pass_context
def seat(ctx: click.Context, bay: str, serial: str, image: Path | None, as_json: bool) -> None:
    """Seat drive SERIAL, from stock or the bench top, in BAY.

    With --image it is a new drive that holds what the image holds, in whatever form that comes: so a set of images can
    be tried on a simulated controller. The image itself is only read.

    Exit status 3 when the controller does not take it as the replacement it was meant to be.

    \b
    Example:
      fstripe --at skerry bench seat 5 UV4H30555
      fstripe --at second bench seat 1 TIDES-0 --image tides-0.img
    """
    from ..media.forms import open_drive
    from .render import progress

    with own_bench(ctx).session() as session, ExitStack() as stack:
        if image is None:
            seated = session.seat(bay, serial)
        else:
            source = open_drive(image)
            stack.callback(source.close)
            seated = session.seat_copy(bay, serial, source, stack.enter_context(progress(f"copying {image.name}")))
        said = said_by(session)
    report(as_json, seated, f"Drive {serial} is in bay {bay}.", said)
    ctx.exit(ATTENTION if any(severity != "OK" for severity, _text in said) else 0)


for command in (fault, cut_power, power_on, lid, serve):
    bench.add_command(command)


@bench.command()
@click.argument("time")
@json_option
@click.pass_context
def advance(ctx: click.Context, time: str, as_json: bool) -> None:
    """Let bench time pass: work advances as far as it would in that time.

    \b
    Example:
      fstripe --at skerry bench advance 3h
    """
    from ..bench.clock import iso
    from ..core.units import parse_duration

    with own_bench(ctx).session() as session:
        session.advance(parse_duration(time))
        now = iso(session.clock.now())
        said = said_by(session)
    if as_json:
        print_json({"time": now, "events": [text for _severity, text in said]})
        return
    click.echo(f"It is {now} on the bench.")
    echo(said)


@bench.command()
@click.argument("volume", shell_complete=volumes)
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
      fstripe --at skerry bench load tides observatory
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
@click.argument("volume", shell_complete=volumes)
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
      fstripe --at skerry bench dump tides copy.img --range 0:256MiB
    """
    from .copying import copy_and_report

    with own_bench(ctx).session() as session:
        session.require_power()
        serving, found = session.volume(volume, controller)
        serving.check_writable(found)
        array = serving.array(found)
        copy_and_report(array, file, wanted, as_json)


@bench.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--for", "part", required=True, metavar="PART", help="As `firmware show --versions` names it.")
@click.option("--version", required=True, metavar="V", help="The version that it brings.")
@json_option
@click.pass_context
def package(ctx: click.Context, file: Path, part: str, version: str, as_json: bool) -> None:
    """Write a firmware package that fits a part of this bench: invented bytes in a true wrapping (DMTF DSP0267).

    \b
    Example:
      fstripe --at skerry bench package raid.pldm --for CTRL-1 --version 5.4.0
      fstripe --at skerry firmware update raid.pldm
    """
    from ..bench.errors import BenchError
    from ..bench.updating import package_for

    if not version.isascii() or len(version) > 32:
        raise BenchError(bench=named(ctx), what=f"version {version!r}", to_do="at most 32 ASCII characters")
    with own_bench(ctx).session() as session:
        data = package_for(session.state, part, version)
    with file.open("xb") as out:
        out.write(data)
    if as_json:
        print_json({"package": str(file), "part": part, "version": version, "bytes": len(data)})
    else:
        click.echo(f"{file}: firmware {version} for {part}, {len(data)} bytes.")
