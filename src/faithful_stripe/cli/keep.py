"""The keeping commands: the identify LED, and the stock of replacement drives."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .arguments import Family
from .common import ATTENTION, json_option, named, print_json, target
from .completing import bays, drives

if TYPE_CHECKING:
    from ..work.advisories import Advisory
    from ..work.stock import Match
    from .render import Part

stock_option = click.option(
    "--stock", "file", type=click.Path(path_type=Path), metavar="FILE",
    help="The stock list (CSV); also in FSTRIPE_STOCK, else stock.csv here.",
)  # fmt: skip


advisories_option = click.option(
    "--advisories", type=click.Path(path_type=Path), metavar="FILE",
    help="Known faults of firmware (TOML: [[fault]] with model, fixed_in, what); also in FSTRIPE_ADVISORIES.",
)  # fmt: skip


def advisories_from(given: Path | None) -> tuple[Advisory, ...]:
    """The known faults that the option or the environment names; none without."""
    from ..work.advisories import read_advisories

    path = given or (Path(named) if (named := os.environ.get("FSTRIPE_ADVISORIES")) else None)
    return tuple(read_advisories(path)) if path else ()


def stock_file(given: Path | None) -> Path:
    """Which list is meant: the option, the environment, or the one in this folder."""
    return given or Path(os.environ.get("FSTRIPE_STOCK") or "stock.csv")


@click.command()
@click.argument("drive", shell_complete=drives)
@click.option("--off", is_flag=True, help="Switch it off again.")
@json_option
@click.pass_context
def locate(ctx: click.Context, drive: str, off: bool, as_json: bool) -> None:
    """Let the identify LED of DRIVE blink, by bay or serial number, and say where it is.

    \b
    Example:
      fstripe --at skerry locate UV4H20944
    """
    from ..work.build import locate as switch
    from .panel import position
    from .words import drive_name

    client = target(ctx)
    seen, found = switch(client, drive, not off)
    if as_json:
        print_json({"bay": found.bay, "serial": found.serial, "on": found.located})
        return
    where = position(seen, found.bay)
    state = "blinks" if found.located is True else "is off"
    click.echo(f"Bay {found.bay} ({where}), {drive_name(found)}, serial {found.serial}: its LED {state}.")


@click.group(cls=Family)
def stock() -> None:
    """The stock: replacement drives as a CSV file that any spreadsheet opens.

    \b
    Example:
      fstripe --at skerry stock match 5
    """


@stock.command("list")
@stock_option
@json_option
def list_(file: Path | None, as_json: bool) -> None:
    """List the drives in stock.

    \b
    Example:
      fstripe stock list --stock stock.csv
    """
    from ..core.units import decimal_size
    from ..work.stock import OFFERED, read_stock
    from .render import Cell, Line, Table, show

    items = read_stock(stock_file(file))
    if as_json:
        print_json(items)
        return
    table = Table("", ["serial", ">size", "media?4", "protocol?2", ">rpm?1", "model?5", "condition", "from?3", "note"])
    for i in items:
        condition = Cell(i.condition, "" if i.condition in OFFERED else "Warning")
        table.add(i.serial, decimal_size(i.size), i.media, i.protocol, str(i.rpm or "-"), i.model, condition, i.origin,
                  i.note)  # fmt: skip
    usable = sum(i.condition in OFFERED for i in items)
    show([table, Line(f"{usable} of {len(items)} can be used.")])


@stock.command()
@click.argument("serial")
@click.option("--like", metavar="SERIAL", help="The same as this one of the list, but for the serial number.")
@click.option("--part", "parts", multiple=True, help="A part number; may be repeated.")
@click.option("--model", help="Maker and model.")
@click.option("--size", help="Such as 4TB.")
@click.option("--media", type=click.Choice(["HDD", "SSD"]), help="Spinning, or solid state.")
@click.option("--protocol", help="SAS, SATA or NVMe.")
@click.option("--rpm", type=click.IntRange(1, 100_000), help="Turns a minute; nothing for solid state.")
@click.option("--sector", type=click.Choice(["512", "512e", "4096"]), default="512", show_default=True, help="Bytes.")
@click.option("--condition", type=click.Choice(["new", "used", "suspect", "bad", "retired", "keep"]), default="new",
    show_default=True, help="How it is.")  # fmt: skip
@click.option("--from", "origin", default="", help="Where it comes from.")
@click.option("--note", default="", help="Anything else.")
@stock_option
@json_option
def add(
    serial: str, like: str | None, parts: tuple[str, ...], model: str | None, size: str | None, media: str | None,
    protocol: str | None, rpm: int | None, sector: str, condition: str, origin: str, note: str, file: Path | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Add the drive SERIAL to the stock, or change what is known of it; creates the list where there is none.

    \b
    Example:
      fstripe stock add UV4H30601 --like UV4H30555 --from "bought 2026-11"
    """
    from dataclasses import replace

    from ..core.units import parse_size
    from ..work.errors import WorkError
    from ..work.stock import SECTORS, Item, put, read_stock

    path = stock_file(file)
    known = {i.serial: i for i in read_stock(path)} if path.exists() else {}
    base = known.get(like) if like else known.get(serial)
    if like and base is None:
        raise WorkError(what=f"{path}: there is no {like}", to_do=f"known: {', '.join(known) or 'none'}")
    if base is None and not (size and media):
        raise click.UsageError("say at least --size and --media, or --like another one")
    base = base or Item(serial, (), "", 0, str(media), "", None, 512)
    item = replace(
        base, serial=serial, parts=parts or base.parts, model=model or base.model,
        size=parse_size(size) if size else base.size, media=media or base.media, protocol=protocol or base.protocol,
        rpm=rpm if rpm is not None else base.rpm, sector=SECTORS[sector][0],
        emulates=SECTORS[sector][1], condition=condition, origin=origin or base.origin,
        note=note,
    )  # fmt: skip
    put(path, item)
    if as_json:
        print_json(item)
    else:
        click.echo(f"{path}: {item.serial}, {item.model or item.media}, is {item.condition}.")


@stock.command("match")
@click.argument("bay", shell_complete=bays)
@stock_option
@json_option
@click.pass_context
def match_(ctx: click.Context, bay: str, file: Path | None, as_json: bool) -> None:
    """Rank what fits BAY: the exact part, then equal, better, worse with what follows; and what cannot, and why.

    Exit status 3 when nothing fits.

    \b
    Example:
      fstripe --at skerry stock match 5
    """
    from ..work import stock as work
    from ..work.survey import survey
    from ..work.visits import failed_drives
    from .render import show
    from .words import fit_words

    items = work.read_stock(stock_file(file))
    needed = work.need(survey(target(ctx)), bay)
    found = work.match(needed, items, failed_drives(named(ctx)))
    if as_json:
        matches = [{"item": m.item, "grade": m.grade, "reasons": [r.why.value for r in m.fit.reasons],
                    "says": fit_words(m.fit)} for m in found]  # fmt: skip
        print_json({"bay": needed.bay, "least_bytes": needed.least, "matches": matches})
    else:
        show(_match_parts(needed.bay, found))
    ctx.exit(0 if any(m.grade != "cannot" for m in found) else ATTENTION)


def _match_parts(bay: str, found: list[Match]) -> list[Part]:
    from ..core.units import decimal_size
    from .render import Cell, Line, Table
    from .words import fit_words

    table = Table("", ["", "serial", ">size", "model?1", "condition", "what follows"])
    colour = {"exact": "good", "worse": "Warning", "cannot": "dim"}
    for m in found:
        grade = Cell(m.grade, colour.get(m.grade, ""))
        table.add(
            grade, m.item.serial, decimal_size(m.item.size), m.item.model, m.item.condition, "; ".join(fit_words(m.fit))
        )
    best = next((m.item for m in found if m.grade != "cannot"), None)
    last = Line(f"For bay {bay}: {best.serial}, {best.model}." if best else f"Nothing here fits bay {bay}.",
                "good" if best else "Critical")  # fmt: skip
    return [table, last]
