"""`lineup solve`: from a pile of images to the arrays in it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, json_option, print_json
from .lineup_parts import array_parts

if TYPE_CHECKING:
    from ..core.lineup.document import Solution
    from .render import Part


@click.command()
@click.argument("images", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(path_type=Path), help="Write the lineup to this new TOML file.")
@click.option("--full", is_flag=True, help="Read everything that holds data: only that proves currency and soundness.")
@click.option("--explain", is_flag=True, help="Print what each stage found: samples, evidence, hypotheses.")
@json_option
@click.pass_context
def solve(
    ctx: click.Context, images: tuple[Path, ...], out: Path | None, full: bool, explain: bool, as_json: bool
) -> None:  # fmt: skip
    """Which images belong together, level, order, strip size, rotation and start, and how sure that is.

    Every level, complete or with as many members missing as it survives, among strangers, under any names. Ctrl-C
    ends the search and prints what is known.

    Four verdicts: order (each image is in its place), start (the volume begins there), currency (every member is
    up to date), soundness (every byte is what it was). Samples prove the first two; for the others all that holds data
    is read: with --full, and without it where that is at most 1 GiB. Exit status 3 unless all four are certain.

    \b
    Example:
      fstripe lineup solve pile/*.img --out found.toml
      fstripe lineup solve pile/*.img --full
    """
    from ..core.errors import StripeError
    from ..media.whole import try_place
    from ..work.lineup import save, solve_images
    from .render import show, waiting

    if out:
        try_place(out)  # before a long search, not after it
    with waiting("solving") as tell:
        solution = solve_images(images, tell, full)
    unsaved: StripeError | None = None
    if out:
        try:
            save(solution, out)
        except StripeError as reason:  # the answer is not lost for that
            unsaved, out = reason, None
    if as_json and not unsaved:
        print_json(solution.as_document())
    else:
        show([*(_trace_parts(solution) if explain else []), *_solution_parts(solution, out, explain)])
    if unsaved:
        raise unsaved
    sure = solution.arrays and all(a.verdicts.certain for a in solution.arrays)
    ctx.exit(0 if sure else ATTENTION)


def _trace_parts(solution: Solution) -> list[Part]:
    from .render import Line, Table

    stages = Table("", ["stage", "found"])
    for stage, says in solution.trace:
        stages.add(stage, says)
    return [stages, Line()]


def _solution_parts(solution: Solution, out: Path | None, explain: bool) -> list[Part]:
    from ..core.units import binary_size
    from .render import Line

    parts: list[Part] = []
    for number, array in enumerate(solution.arrays):
        parts += [*array_parts(array, number + 1, explain), Line()]
    if not solution.arrays:
        parts.append(Line("No array was found among these images.", "Warning"))
    if solution.unused:
        parts.append(Line(f"Belong to no array found: {', '.join(solution.unused)}"))
    for claim in solution.claims:
        style = {"holds": "good", "wrong": "Critical"}.get(claim.verdict, "Warning")
        found = {"holds": "the data agree", "untested": "the data say too little to test it"}.get(
            claim.verdict, "WRONG"
        )
        parts.append(Line(f"{claim.kind} on {len(claim.images)} images, volume {claim.name}: {found}", style))
        parts.append(Line(f"  it states {claim.states}"))
        parts += [Line(f"  wrong: {wrong}") for wrong in claim.wrong]
    parts += [Line(f"Note: {note}", "Warning") for note in solution.notes]
    parts.append(Line(f"Read: {binary_size(solution.bytes_read)}."))
    if out:
        parts.append(Line(f"Written to {out}; the volume: fstripe lineup extract {out} OUT"))
    return parts
