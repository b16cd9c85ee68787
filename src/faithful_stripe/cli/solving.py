"""`lineup solve`: from a pile of images to the arrays in it."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING

import click

from .arguments import Bytes, Level, Seconds
from .common import ATTENTION, json_option, print_json
from .lineup_parts import array_parts, given_parts, second_parity_lines

if TYPE_CHECKING:
    from ..core.lineup.document.lineup_document import Solution
    from .render import Part


@click.command()
@click.argument("images", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(path_type=Path), help="Write the lineup to this new TOML file.")
@click.option("--full", is_flag=True, help="Read everything that holds data: only that proves currency and soundness.")
@click.option("--explain", is_flag=True, help="Print what each stage found: samples, evidence, hypotheses.")
@click.option("--level", metavar="LEVEL", type=Level(), help="Known: the level, such as 5 or RAID50.")
@click.option("--strip", metavar="SIZE", type=Bytes(), help="Known: the strip size, such as 64KiB.")
@click.option("--start", metavar="SIZE", type=Bytes(), help="Known: where data start on the images, such as 1MiB.")
@click.option("--members", type=click.IntRange(2, 256), help="Known: how many, the missing ones counted.")
@click.option(
    "--order", metavar="A,B,?,-", help="Known: images by position; ? may be any, - is missing. File names are enough."
)
@click.option(
    "--not",
    "without",
    multiple=True,
    metavar="IMAGE",
    type=click.Path(path_type=Path),
    help="Known: this image takes no part; again for more.",
)
@click.option(
    "--stale",
    multiple=True,
    metavar="IMAGE",
    type=click.Path(path_type=Path),
    help="Known: this image is out of date and is not used; again for more.",
)
@click.option(
    "--from",
    "earlier",
    metavar="LINEUP",
    type=click.Path(path_type=Path),
    help="Keep what is certain of this earlier lineup, and search for the rest as long as it takes.",
)
@click.option(
    "--stop-after",
    metavar="TIME",
    type=Seconds(),
    help="End the search after that time, such as 90s or 10m, with the best so far.",
)
@json_option
@click.pass_context
def solve(
    ctx: click.Context, images: tuple[Path, ...], out: Path | None, full: bool, explain: bool, level: str | None,
    strip: int | None, start: int | None, members: int | None, order: str | None, without: tuple[Path, ...],
    stale: tuple[Path, ...], earlier: Path | None, stop_after: float | None, as_json: bool,
) -> None:  # fmt: skip
    """Which images belong together, level, order, strip size, rotation and start, and how sure that is.

    Every level, complete or with as many members missing as it survives, among strangers, under any names. Ctrl-C
    ends the search and prints what is known.

    Four verdicts: order (each image is in its place), start (the volume begins there), currency (every member is
    up to date), soundness (every byte is what it was). Samples prove the first two; for the others all that holds data
    is read: with --full, and without it where that is at most 1 GiB. Exit status 3 unless all four are certain.

    What you know is fixed in the search, and held against what the images say by themselves. Where they do not say the
    same, the answer is at most probable.

    With --from, a search that was ended, or that left something open, continues from what it found.

    Images may be raw, split (.001 .002), with a rescue copier's map beside them (.map), qcow2, VMDK, VHD, VHDX, EWF,
    gzip or zstd. FIRST+SECOND is one drive from two passes over it, by their maps, or without one by what they hold.
    nbd://HOST/NAME and https://... are raw images elsewhere, read in place.

    \b
    Example:
      fstripe lineup solve pile/*.img --out found.toml
      fstripe lineup solve pile/*.img --full
      fstripe lineup solve pile/*.img --from found.toml --out more.toml
      fstripe lineup solve pile/*.img --level 5 --strip 64KiB --order "a.img,?,-,c.img"
    """
    from ..core.errors import StripeError
    from ..core.lineup.document.known import Given
    from ..media.whole import try_place
    from ..work.lineup import save, solve_images
    from ..work.searching_on import solve_from
    from .render import show, waiting

    if out:
        try_place(out)  # before a long search, not after it
    given = Given(level, strip, start, members, tuple(w.strip() for w in order.split(",")) if order else ())
    if given.order and members not in (None, len(given.order)):
        raise click.UsageError(f"--order names {len(given.order)} positions, --members {members}")
    if earlier and (given.anything or without or stale):
        raise click.UsageError("--from excludes what is known of an array: --level, --order, --not and the like")
    with waiting("solving") as tell, stopping_after(stop_after):
        solution = (
            solve_from(earlier, images, tell, full) if earlier
            else solve_images(images, tell, full, given, without, stale)
        )  # fmt: skip
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
    sure = solution.arrays and all(a.verdicts.certain for a in solution.arrays) and not solution.differences
    ctx.exit(0 if sure else ATTENTION)


@contextmanager
def stopping_after(seconds: float | None) -> Iterator[None]:
    """End what runs inside after so long, as Ctrl-C would."""
    if seconds is None:
        yield
        return

    def stop(_number: int, _frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    before = signal.signal(signal.SIGALRM, stop)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


def _trace_parts(solution: Solution) -> list[Part]:
    from .render import Line, Table

    stages = Table("", ["stage", "found"])
    for stage, says in solution.trace:
        stages.add(stage, says)
    return [stages, Line()]


def _solution_parts(solution: Solution, out: Path | None, explain: bool) -> list[Part]:
    from ..core.units import binary_size
    from .evidence_words import remark
    from .render import Line

    parts: list[Part] = []
    for number, array in enumerate(solution.arrays):
        parts += [*array_parts(array, number + 1, explain), Line()]
    parts += [line for other in solution.parities for line in second_parity_lines(other)]
    if not solution.arrays and not solution.parities:
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
    parts += given_parts(solution)
    parts += [Line(f"Note: {remark(note)}", "Warning") for note in solution.notes]
    parts.append(Line(f"Read: {binary_size(solution.bytes_read)}."))
    if out:
        decided = any(a.verdicts.placing != "undecided" for a in solution.arrays)
        volume = f"; the volume: fstripe lineup extract {out} OUT" if decided else ": no order in it is decided"
        volume = volume if solution.arrays else ": there is no volume in it"
        parts.append(Line(f"Written to {out}{volume}"))
    return parts
