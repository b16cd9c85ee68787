"""`lineup prove`: a claim, held against all that differs from it in one thing, and against the images' own lineup."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, json_option, print_json
from .lineup_parts import verdict_parts

if TYPE_CHECKING:
    from ..core.lineup.claims.neighbour_test import Attempt
    from ..work.lineup import Proof
    from .render import Part


@click.command()
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
