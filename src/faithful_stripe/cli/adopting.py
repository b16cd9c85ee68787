"""`lineup adopt`: an array becomes a volume again, on new drives; and what a server then shows is held against it."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, json_option, print_json
from .common import plain as plain_of
from .lineup_parts import map_parts, verdict_parts

if TYPE_CHECKING:
    from ..core.lineup.document.lineup_document import Lineup
    from ..work.adopting import NewSet
    from ..work.same_volume import Seen
    from .render import Part

MOST_SHOWN = 8
"""Ranges that are listed; the JSON has more."""


@click.command()
@click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
@click.argument("folder", required=False, type=click.Path(path_type=Path))
@click.option("--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1.")
@click.option("--name", help="What the set-up calls the volume; the lineup file's name without this.")
@click.option("--size", metavar="SIZE", help="Of each new drive; the smallest that holds all without this.")
@click.option("--doubtful", is_flag=True, help="Also where order, start or currency is not certain.")
@click.option("--seen", metavar="VOLUME", type=click.Path(path_type=Path),
              help="Compare what a server shows (device, image, nbd://) with the lineup.")  # fmt: skip
@json_option
@click.pass_context
def adopt(
    ctx: click.Context, lineup_file: Path, folder: Path | None, number: int, name: str | None, size: str | None,
    doubtful: bool, seen: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Write the array of a lineup to new drive images in FOLDER, with a set-up that controllers can adopt.

    The images of the lineup are only read. The new drives have the same level, order, strip and layout; every member
    is there and every row consistent. The set-up is SNIA DDF, at the end of each drive. Before FOLDER appears, the set
    is opened by that set-up alone and every byte of its volume compared.

    Write the images to drives of exactly their size (--size), or seat them in a simulated server. Before anything may
    write to the adopted volume, compare what the server shows with --seen. Exit status 3 where a verdict is not
    certain, or the volumes differ.

    \b
    Example:
      fstripe lineup adopt found.toml drives --name tides
      fstripe lineup adopt found.toml --seen /dev/sdb
    """
    if (folder is None) is (seen is None):
        raise click.UsageError("name a FOLDER to write the new drives to, or --seen VOLUME to compare with")
    if seen is not None:
        if name or size or doubtful:
            raise click.UsageError("--seen only compares: it goes with --array and --json")
        _compare(ctx, lineup_file, number, seen, as_json)
    else:
        assert folder is not None
        called = name or re.sub(r"[^A-Za-z0-9_-]", "-", lineup_file.stem)[:15]
        _write(ctx, lineup_file, folder, number, called, size, doubtful, as_json)


def _write(
    ctx: click.Context, lineup_file: Path, folder: Path, number: int, name: str, size: str | None, doubtful: bool,
    as_json: bool,
) -> None:  # fmt: skip
    from ..core.units import parse_size
    from ..work.adopting import Doubtful, adopt
    from ..work.errors import WorkError
    from ..work.lineup import open_array, what_is_read
    from .render import show, waiting

    bytes_each = None if size is None else parse_size(size)
    try:
        with open_array(lineup_file, number) as (found, members), waiting(f"writing {folder.name}") as tell:
            identity = what_is_read(found, members)
            made, after = adopt(found, members, identity, folder, name, bytes_each, doubtful, tell)
    except Doubtful as reason:
        what = f"not certain of this lineup: {', '.join(reason.against)}; a controller would take it for right"
        to_do = "`lineup solve --full` says what would settle it; --doubtful writes the drives all the same"
        raise WorkError(what=what, to_do=to_do) from None
    if as_json:
        print_json({**plain_of(made), "verdicts": after.verdicts.as_document()})
    else:
        show(_set_parts(made, after, lineup_file.name))
    ctx.exit(0 if after.verdicts.certain and not made.unreadable else ATTENTION)


def _set_parts(made: NewSet, after: Lineup, lineup: str) -> list[Part]:
    from ..core.units import binary_size
    from .render import Line, Table

    chosen = after.geometry.layout
    parts: list[Part] = [
        Line(f"{made.folder}: volume {made.name}, {chosen.level} of {chosen.members} new drives.", "head")
    ]
    table = Table("", [">position", "drive", "serial number", "stands for"])
    for drive in made.drives:
        table.add(str(drive.position), drive.file, drive.serial, drive.image or "a missing member, computed")
    parts += [table, *verdict_parts(after.verdicts), *map_parts(after)]
    if made.moved:
        parts.append(
            Line(f"Data start at byte {made.start} of every drive; on the sources they do not all do.", "Warning")
        )
    if made.shorter:
        says = f"The volume is {made.shorter} bytes shorter than on the sources: nothing on it claims those."
        parts.append(Line(says, "Warning"))
    for ranges, says in (
        (made.open, "may be wrong: the rows do not match"),
        (made.unreadable, "cannot be read, and are zeros"),
    ):
        if ranges:
            size = sum(b - a for a, b in ranges)
            parts.append(Line(f"{size} bytes in {_places(len(ranges))} {says}.", "Critical"))
    each = made.drives[0].size
    parts += [
        Line(f"Opened by its own set-up, the set reads as the lineup's volume: {binary_size(made.volume)}."),
        *([Line(f"BLAKE3  {made.blake3}")] if made.blake3 else []),
        Line(f"Write each to a drive of exactly {each} bytes; or, in a simulated server:"),
        *(
            Line(f"  fstripe --at BENCH bench seat BAY {d.serial} --image {made.folder}/{d.file}")
            for d in made.drives[:1]
        ),
        Line("and each other one in a bay of its own; then adopt the volume:"),
        Line(f"  fstripe --at BENCH volume adopt {made.name}"),
        Line("Do not let anything write to it before what the server shows was compared:"),
        Line(f"  fstripe lineup adopt {lineup} --seen VOLUME"),
    ]
    return parts


def _places(count: int) -> str:
    return "1 place" if count == 1 else f"{count} places"


def _compare(ctx: click.Context, lineup_file: Path, number: int, seen: Path, as_json: bool) -> None:
    from ..media.forms import open_drive
    from ..work.lineup import open_array
    from ..work.same_volume import compare_seen
    from .render import show, waiting

    with open_array(lineup_file, number) as (found, members):
        source = open_drive(seen)
        try:
            with waiting(f"comparing {seen.name}") as tell:
                made = compare_seen(found, members, source, tell)
        finally:
            source.close()
    if as_json:
        print_json({**plain_of(made), "same": made.same})
    else:
        show(_seen_parts(made, str(seen)))
    ctx.exit(0 if made.same else ATTENTION)


def _seen_parts(made: Seen, name: str) -> list[Part]:
    from ..core.units import binary_size
    from .render import Line, Table

    if made.same:
        more = made.size - made.expected
        behind = f" It has {more} bytes more behind the end." if more > 0 else ""
        behind = f" It is {-more} bytes shorter: nothing on it claims those." if more < 0 else behind
        return [Line(f"{name} is the lineup's volume: {binary_size(made.compared)} of data compared.{behind}", "good")]
    parts: list[Part] = []
    if made.size < made.needed:
        parts.append(Line(f"{name} has {made.size} bytes, what is on the volume takes {made.needed}.", "Critical"))
    for ranges, says in ((made.differ, "differ"), (made.unreadable, "cannot be read on one of the two")):
        if not ranges:
            continue
        size = sum(b - a for a, b in ranges)
        parts.append(Line(f"{binary_size(size)} in {_places(len(ranges))} {says}:", "Critical"))
        table = Table("", [">from byte", ">to byte", ">size"])
        for a, b in ranges[:MOST_SHOWN]:
            table.add(str(a), str(b), binary_size(b - a))
        parts.append(table)
        if len(ranges) > MOST_SHOWN:
            parts.append(Line(f"and {len(ranges) - MOST_SHOWN} more (--json lists them)", "dim"))
    parts.append(Line("Do not let anything write to it: it is not what the lineup's images hold.", "Critical"))
    return parts
