"""`lineup compare`: two lineups of the same images, where they differ, and what speaks for each."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, json_option, print_json

if TYPE_CHECKING:
    from ..work.comparing import Comparison
    from .render import Part

MOST_SHOWN = 12
"""Ranges that are listed; all of them are in the JSON."""


@click.command()
@click.argument("first", metavar="A", type=click.Path(path_type=Path))
@click.argument("second", metavar="B", type=click.Path(path_type=Path))
@click.option("--array", "numbers", type=click.IntRange(min=1), nargs=2, default=(1, 1), metavar="N M",
              help="Which arrays of A and of B, from 1.")  # fmt: skip
@json_option
@click.pass_context
def compare(ctx: click.Context, first: Path, second: Path, numbers: tuple[int, int], as_json: bool) -> None:
    """Compare two lineups: in what they differ, which bytes of the volume that moves, and what speaks for each.

    The images are searched for structures that state their own address, and those that stand right are counted under
    both. Exit status 3 where the volumes differ.

    \b
    Example:
      fstripe lineup compare found.toml claim.toml
    """
    from ..work.comparing import compare as compared
    from .render import show, waiting

    with waiting("comparing") as tell:
        made = compared(first, second, numbers, tell=tell)
    if as_json:
        print_json({
            "same": made.same, "differences": [dict(zip(("what", "a", "b"), one, strict=True)) for one in made.set_up],
            "compared_bytes": made.compared,
            "differ": [[a, b - a] for a, b in made.differ], "differ_bytes": made.bytes_differ,
            "only_first_bytes": made.only_first, "only_second_bytes": made.only_second,
            "standing": list(made.standing or ()),
        })  # fmt: skip
    else:
        show(_parts(made, first.name, second.name))
    ctx.exit(0 if made.same else ATTENTION)


def _parts(made: Comparison, first: str, second: str) -> list[Part]:
    from ..core.units import binary_size, decimal_size
    from .render import Line, Table

    if made.same:
        return [Line(f"{first} and {second} read the same volume of {decimal_size(made.compared)}.", "good")]
    stated = Table("", ["", f"={first}", f"={second}"])
    for what, mine, theirs in made.set_up:
        stated.add(what, mine or "-", theirs or "-")
    parts: list[Part] = [Line(f"{first} and {second} differ:", "head"), stated]
    whole = "" if made.compared >= made.first.volume_bytes - made.only_first else " compared, from its start"
    share = made.bytes_differ / made.compared if made.compared else 0.0
    of = f"{share:.1%} of {binary_size(made.compared)}{whole}"
    parts.append(Line(f"{binary_size(made.bytes_differ)} of the volume ({of}) stands elsewhere."))
    table = Table("", [">from byte", ">to byte", ">size"])
    for a, b in made.differ[:MOST_SHOWN]:
        table.add(str(a), str(b), binary_size(b - a))
    parts.append(table)
    if len(made.differ) > MOST_SHOWN:
        parts.append(Line(f"and {len(made.differ) - MOST_SHOWN} more such ranges (--json lists them all)", "dim"))
    for name, more in ((first, made.only_first), (second, made.only_second)):
        if more:
            parts.append(Line(f"{name} has {binary_size(more)} more at its end."))
    if made.standing is not None:
        stand = Table("", ["lineup", ">structures that stand where they say?1", "verdict"])
        for name, count, lineup in ((first, made.standing[0], made.first), (second, made.standing[1], made.second)):
            stand.add(name, str(count), lineup.verdict)
        parts.append(stand)
        lead = made.standing[0] - made.standing[1]
        if lead:
            parts.append(Line(f"More speaks for {first if lead > 0 else second}: {abs(lead)} structures.", "head"))
        else:
            parts.append(Line("The structures found speak for both alike: lineup prove tests more.", "Warning"))
    return parts
