"""The recovery commands: lineup solve, draw, prove, extract, serve."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .arguments import Family
from .common import ATTENTION, json_option, print_json
from .common import plain as plain_of

if TYPE_CHECKING:
    from ..core.lineup.document import Lineup, Solution
    from ..core.lineup.trial import Attempt
    from ..core.lineup.verdicts import Verdicts
    from ..work.drawing import Row
    from ..work.extracting import Extract
    from ..work.lineup import Proof
    from .render import Part


@click.group(cls=Family)
def lineup() -> None:
    """Reconstruct an array's member order from drive images, and hand the volume over.

    Images are opened read-only, always.

    \b
    Example:
      fstripe lineup solve pile/*.img --out found.toml
      fstripe lineup extract found.toml volume.img
    """


@lineup.command()
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
        parts += [*_array_parts(array, number + 1, explain), Line()]
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


def _array_parts(array: Lineup, number: int, explain: bool) -> list[Part]:
    from ..core.units import binary_size, decimal_size
    from .lineup_words import strength
    from .render import Line, Table

    made = array.geometry
    layout = "".join(f", {w}" for w in (made.layout.rotation, made.layout.data) if w)
    q = f", Q {made.layout.q_place} ({made.layout.q_exponent})" if made.layout.q_place else ""
    spans = f" in {made.layout.spans} spans" if made.layout.spans > 1 else ""
    strip = f"strip {binary_size(made.strip_bytes)}{layout}{q}"
    if made.layout.level == "SPAN":
        strip = "one after the other"
    head = f"Array {number}: {made.layout.level} of {made.members}{spans}, {strip}"
    table = Table("", [">position", "image"])
    gone = "(missing, computed from the others)" if made.redundant else "(missing)"
    for position, name in enumerate(array.members):
        table.add(str(position), name or gone)
    seats = dict(array.seats)
    for name in array.stale:
        table.add(f"out of date{f', {seats[name]}' if name in seats else ''}", name)
    evidence = Table("", ["evidence", ">count", "says"])
    for e in array.evidence:
        evidence.add(e.kind, str(e.count), e.says)
    start = f", data from byte {made.start_bytes[0]}" if any(made.start_bytes) else ""
    size = f"volume of {decimal_size(made.volume_bytes)} ({made.volume_bytes} bytes){start}"
    parts: list[Part] = [Line(head, "head"), Line(size), table]
    parts += [*verdict_parts(array.verdicts), *map_parts(array)]
    number_of = f" ({array.best:.0f}, the next answer {array.next:.0f})" if explain else ""
    parts.append(Line(f"Lead over the next different answer: {strength(array.best - array.next)}{number_of}.", "dim"))
    if array.settle:
        parts.append(Line(f"What would settle it: {array.settle}"))
    parts += [Line(f"Cannot be told apart: {text}") for text in array.alternatives]
    return [*parts, evidence]


def verdict_parts(verdicts: Verdicts) -> list[Part]:
    """The four verdicts."""
    from .lineup_words import lines
    from .render import Cell, Table

    table = Table("", ["verdict", "", "because"])
    for name, sure, why, style in lines(verdicts):
        table.add(name, Cell(sure, style), why)
    return [table]


def map_parts(array: Lineup) -> list[Part]:
    """The map of rows, summed up; nothing where there is none."""
    from .lineup_words import summary
    from .render import Table

    if array.rowmap is None:
        return []
    table = Table("", [">rows", "state"])
    for count, text in summary(array.rowmap, array.seated):
        table.add(count, text)
    return [table]


@lineup.command()
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
    full pass found, made now where the lineup has none.

    \b
    Example:
      fstripe lineup draw found.toml --rows 12
      fstripe lineup draw found.toml --plot found.png
      fstripe lineup draw found.toml --map rows.png
    """
    from ..core.lineup.document import LineupError
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
    drawn = [] if spanned else rows(found.geometry, first, count or max(4, min(24, found.geometry.pattern.rows)))
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
    from .render import Cell, Line, Table

    made = found.geometry
    chosen = made.layout
    words = [w for w in (chosen.rotation, chosen.data) if w] + ([f"Q {chosen.q_place}"] if chosen.q_place else [])
    head = f"{chosen.level} of {made.members}, strip {binary_size(made.strip_bytes)}" + "".join(f", {w}" for w in words)
    names = [Path(name).name if name else "(missing)" for name in found.members]
    width = chosen.copies if chosen.level == "RAID10" else chosen.span_members
    heads = [f">={'| ' if i and i % width == 0 else ''}{name}" for i, name in enumerate(names)]
    table = Table("", [">row", ">at byte", *heads])
    styles = {"P": "Warning", "Q": "good"}
    for row in drawn:
        table.add(str(row.number), str(row.offset), *(Cell(word, styles.get(word, "")) for word in row.cells))
    return [Line(head, "head"), table, Line("Numbers are strips of the volume, from 0; P and Q are parity.", "dim")]


@lineup.command()
@click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
@click.option("--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1.")
@click.option(
    "--against", multiple=True, metavar="IMAGE", type=click.Path(path_type=Path),
    help="Test it with this image; again for more. Members are looked up among them by file name first, the others are "
    "tried in every member's place.",
)  # fmt: skip
@json_option
@click.pass_context
def prove(ctx: click.Context, lineup_file: Path, number: int, against: tuple[Path, ...], as_json: bool) -> None:
    """Test a lineup, or a claim typed by hand, from scratch: do its rows match, does its file system hold?

    Everything that differs from it in one thing is tried as well: two members exchanged, another rotation, a strip
    twice or half as large, a row earlier or later, another image in a member's place (--against). Then the images are
    solved, and the claim is held against that: it is as sure as their own lineup, or wrong. Exit status 3 unless it is
    theirs and all four verdicts on that are certain.

    \b
    Example:
      fstripe lineup prove claim.toml
      fstripe lineup prove claim.toml --against copy-1.img --against copy-2.img --against found-in-the-drawer.img
    """
    from ..work.lineup import prove as test
    from .render import show, waiting

    with waiting("testing") as tell:
        _found, proof = test(lineup_file, number, tell, against)
    trial = proof.trial
    if as_json:
        print_json({
            "verdict": trial.verdict, "says": trial.says, "wrong": trial.wrong, "claim": _attempt(trial.claim),
            "others": [_attempt(o) for o in trial.others],
            "verdicts": proof.verdicts.as_document() if proof.verdicts else None,
        })  # fmt: skip
    else:
        show(_trial_parts(proof))
    ctx.exit(0 if proof.verdicts and proof.verdicts.certain else ATTENTION)


def _attempt(tried: Attempt) -> dict[str, object]:
    return {
        "what": tried.what, "rows": tried.rows, "broken": tried.broken, "passes": tried.passes,
        "failures": tried.failures, "standing": tried.standing, "holds": tried.holds,
    }  # fmt: skip


def _trial_parts(proof: Proof) -> list[Part]:
    from .render import Cell, Line, Table

    trial = proof.trial
    table = Table("", ["tried", ">rows?1", ">do not match", ">checksums?2", ">structures?3", ">wrong", ""])
    near = sorted(trial.others, key=lambda o: (not o.holds, o.broken + o.failures, -o.passes - o.standing))
    for one in (trial.claim, *near[:12]):
        word = Cell("holds", "good") if one.holds else Cell("fails" if one.refused else "tells nothing", "dim")
        table.add(one.what, str(one.rows), str(one.broken), str(one.passes), str(one.standing), str(one.failures), word)
    more = [Line(f"and {len(near) - 12} more, which do no better", "dim")] if len(near) > 12 else []
    style = {"certain": "good", "probable": "Warning"}.get(trial.verdict, "Critical")
    wrong = [Line(f"  wrong: {what}") for what in trial.wrong]
    end = ":" if wrong else "."
    four = verdict_parts(proof.verdicts) if proof.verdicts else []
    return [table, *more, Line(f"Verdict: {trial.verdict.upper()}: {trial.says}{end}", style), *wrong, *four]


@lineup.command()
@click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1.")
@click.option("--range", "wanted", metavar="START:LENGTH", help="Only this part of the volume, such as 0:256MiB.")
@click.option("--partition", type=click.IntRange(min=1), help="Only this partition of the volume's table, from 1.")
@click.option(
    "--sha256", "plain", is_flag=True, help="The SHA-256 of OUT as well, however large it is (up to 64 MiB it is)."
)
@json_option
@click.pass_context
def extract(
    ctx: click.Context, lineup_file: Path, out: Path, number: int, wanted: str | None, partition: int | None,
    plain: bool, as_json: bool,
) -> None:  # fmt: skip
    """Write the volume of a lineup to a new sparse file OUT, test every row on the way, and print its BLAKE3.

    Image names are looked up from the present folder first, then from the lineup file's. What is missing, or wrong on
    one member, is computed from the others; what cannot be read is left as zeros. OUT.map.txt lists all that, and the
    bytes that do not match and may be wrong. Interrupted, the same command goes on where it stopped. Exit status 3
    unless all four verdicts on what was written are certain.

    The BLAKE3 and SHA-256 are those of OUT as it reads, whatever of it stands as holes.

    \b
    Example:
      fstripe lineup extract found.toml volume.img --range 0:256MiB
      fstripe lineup extract found.toml data.img --partition 2
    """
    from ..work.extracting import extract as write
    from ..work.extracting import place_of
    from ..work.lineup import open_array, what_is_read
    from .render import show, waiting

    with open_array(lineup_file, number) as (found, members):
        if found.verdicts.placing != "certain":
            click.echo(f"Warning: order and start of this lineup are {found.verdicts.placing}, not certain.", err=True)
        start, length = place_of(found.opened(members), wanted, partition)
        with waiting(f"writing {out.name}") as tell:
            made, tested = write(found, members, what_is_read(found, members), out, start, length, tell, plain)
    if as_json:
        print_json({**plain_of(made), "verdicts": tested.verdicts.as_document()})
    else:
        show(_extract_parts(made, tested))
    ctx.exit(0 if tested.verdicts.certain and not made.unreadable else ATTENTION)


def _extract_parts(made: Extract, tested: Lineup) -> list[Part]:
    from ..core.units import binary_size
    from .render import Line

    gone_on = f", resumed from byte {made.resumed}" if made.resumed else ""
    parts: list[Part] = [Line(f"{made.file}: {binary_size(made.size)}, {binary_size(made.data)} of it data{gone_on}.")]
    parts += [*verdict_parts(tested.verdicts), *map_parts(tested)]
    for ranges, says, style in (
        (made.computed, "computed from the other members", ""),
        (made.open, "may be wrong: the rows do not match", "Critical"),
        (made.unreadable, "cannot be read, and are zeros", "Critical"),
    ):  # fmt: skip
        if ranges:
            size = sum(length for _at, length in ranges)
            places = "1 place" if len(ranges) == 1 else f"{len(ranges)} places"
            parts.append(Line(f"{size} bytes in {places} {says}.", style))
    if made.map:
        parts.append(Line(f"They are listed in {made.map}"))
    parts.append(Line(f"BLAKE3  {made.blake3}"))
    if made.sha256:
        parts.append(Line(f"SHA-256 {made.sha256}"))
    return parts


@lineup.command()
@click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
@click.option("--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1.")
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen at.")
@click.option("--port", type=click.IntRange(0, 65535), default=10809, show_default=True, help="0 takes a free one.")
@json_option
def serve(lineup_file: Path, number: int, host: str, port: int, as_json: bool) -> None:
    """Serve the volume of a lineup read-only over NBD until Ctrl-C, so that it need not be copied first.

    Any NBD client reads it. Every row is tested as it is asked for: what is missing, or wrong on one member, is
    computed from the others; bytes that do not match are said here before they are given. Nobody is asked for a
    password: listen beyond this machine only where everybody may read it.

    \b
    Example:
      fstripe lineup serve found.toml
      nbdcopy nbd://localhost/ volume.img
    """
    from ..media.nbd import NbdServer
    from ..work.checked import CheckedVolume
    from ..work.errors import WorkError
    from ..work.lineup import open_array

    def told(ranges: list[tuple[int, int]]) -> None:
        for a, b in ranges:
            click.echo(f"Warning: {b - a} bytes at {a} do not match, and may be wrong.", err=True)

    with open_array(lineup_file, number) as (found, members):
        if found.verdicts.placing != "certain":
            click.echo(f"Warning: order and start of this lineup are {found.verdicts.placing}, not certain.", err=True)
        volume = CheckedVolume(found, members, told, lineup_file.stem)
        try:
            server = NbdServer(volume, lineup_file.stem, host, port)
        except OSError as reason:
            what = f"{host}:{port} cannot be listened at ({reason.strerror or reason})"
            raise WorkError(what=what, to_do="name another --port or --host") from reason
        with server:
            at = f"nbd://{host}:{server.port}/{lineup_file.stem}"
            if as_json:
                print_json({"at": at, "bytes": volume.size, "verdict": found.verdict})
            else:
                click.echo(f"Serving {volume.size} bytes read-only at {at}; Ctrl-C ends it.")
            try:
                server.serve_forever()
            except KeyboardInterrupt:
                click.echo("Ended; nothing was changed.", err=True)
