"""`lineup draw`: which strip, P or Q stands on which image."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import json_option, print_json

if TYPE_CHECKING:
    from ..core.lineup.document.lineup_document import Lineup
    from ..work.drawing import Row
    from .render import Part


@click.command()
@click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
@click.option("--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1.")
@click.option("--from", "first", type=click.IntRange(min=0), default=0, help="The first row that is drawn, from 0.")
@click.option("--rows", "count", type=click.IntRange(1, 200), help="How many; one period of the layout without it.")
@click.option("--plot", type=click.Path(path_type=Path), help="Draw them, and the evidence, into this new PNG file.")
@click.option(
    "--map", "mapped", metavar="FILE.png", type=click.Path(path_type=Path), help="Draw the map of all rows into this."
)
@json_option
def draw(
    lineup_file: Path, number: int, first: int, count: int | None, plot: Path | None, mapped: Path | None, as_json: bool
) -> None:  # fmt: skip
    """Draw the rows of a lineup's array: which strip of the volume, P or Q stands on which image.

    With --plot, also which structures found on each image would stand right at each position: the images are read.
    With --map, which rows are sound, computed in part, open or unprotected, and which image is not used where: what a
    full pass found, done now where the lineup has none.

    \b
    Example:
      fstripe lineup draw found.toml --rows 12
      fstripe lineup draw found.toml --plot found.png
      fstripe lineup draw found.toml --map rows.png
    """
    from ..core.lineup.document.lineup_document import LineupError
    from ..work.drawing import pieces, rows
    from ..work.lineup import evidence_of, load
    from .render import show, waiting

    arrays = load(lineup_file).arrays
    if number > len(arrays):
        raise LineupError(what=f"{lineup_file}: there is no array {number}", to_do=f"it has {len(arrays)}")
    found = arrays[number - 1]
    spanned = found.geometry.layout.level == "SPAN"
    if spanned and plot:
        raise LineupError(what="a span has no stripes to plot", to_do="draw it without --plot")
    drawn = [] if spanned else rows(found, first, count or max(4, min(24, found.geometry.pattern.rows)))
    if plot:
        from .lineup_plot import plot_lineup

        with waiting("reading the evidence") as tell:
            evidence = evidence_of(lineup_file, number, tell)
        plot_lineup(found, drawn, evidence, plot)
    if mapped:
        from ..media.whole import refuse_existing
        from ..work.lineup import with_map
        from .map_plot import plot_map

        refuse_existing(mapped)
        with waiting("reading") as tell:
            found = with_map(lineup_file, number, tell)
        plot_map(found, mapped)
    if as_json:
        print_json({
            "array": number, "images": found.members, "rows": drawn, **({"pieces": pieces(found)} if spanned else {}),
        })  # fmt: skip
    else:
        show(_one_by_one(found) if spanned else _drawing(found, drawn))
        for file in (plot, mapped):
            if file:
                click.echo(f"Drawn to {file}.")


def _one_by_one(found: Lineup) -> list[Part]:
    from ..core.units import binary_size
    from ..work.drawing import pieces
    from .render import Line, Table

    table = Table("", [">position", "image", ">from byte of the volume", ">size", ">at byte"])
    for number, (image, piece) in enumerate(zip(found.members, pieces(found), strict=True)):
        name = Path(image).name if image else "(missing)"
        table.add(str(number), name, str(piece["from"]), binary_size(piece["length"]), str(piece["at"]))
    return [Line(f"SPAN of {found.geometry.members}: one after the other", "head"), table]


def _drawing(found: Lineup, drawn: list[Row]) -> list[Part]:
    from ..core.units import binary_size
    from .lineup_words import growing, layout_words
    from .render import Cell, Line, Table

    made = found.geometry
    chosen = made.layout
    words = [*layout_words(chosen), *([f"Q {chosen.q_place}"] if chosen.q_place else [])]
    head = f"{chosen.level} of {made.members}, strip {binary_size(made.strip_bytes)}" + "".join(f", {w}" for w in words)
    names = [Path(name).name if name else "(missing)" for name in found.members]
    width = chosen.copies if chosen.level == "RAID10" else chosen.span_members
    heads = [f">={'| ' if i and i % width == 0 else ''}{name}" for i, name in enumerate(names)]
    table = Table("", [">row", ">at byte", *heads])
    styles = {"P": "Warning", "Q": "good"}
    for row in drawn:
        table.add(str(row.number), str(row.offset), *(Cell(word, styles.get(word, "")) for word in row.cells))
    key = "Numbers are strips of the volume, from 0; P and Q are parity."
    if any(row.former for row in drawn):
        key += " Strips in brackets are read in the new layout."
    grew = [Line(text) for text in growing(found)]
    return [Line(head, "head"), *grew, table, Line(key, "dim")]
