"""The rehearse command: a risky operation tried on a copy of a server, stopping where data would be lost."""

from __future__ import annotations

import json
import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..media.given import text_given, why_not
from ..media.scratch import scratch_folder
from .common import ATTENTION, access_of, json_option, print_json
from .keep import stock_file, stock_option
from .rehearsing import let_work_end, look, not_rehearsed, run, swap_whole, world_of_its_own

if TYPE_CHECKING:
    from .rehearsing import Step


@click.command()
@click.argument("script", type=click.Path(path_type=Path))
@click.option("--like", "target", required=True, metavar="TARGET", help="The server: a bench folder or an address.")
@click.option("--keep", type=click.Path(path_type=Path), metavar="FOLDER", help="Leave the copy there, as a bench.")
@click.option("--hasty", is_flag=True, help="Every step follows at once: nobody waits until work is done.")
@stock_option
@json_option
@click.pass_context
def rehearse(
    ctx: click.Context, script: Path, target: str, keep: Path | None, hasty: bool, file: Path | None, as_json: bool
) -> None:
    """Run the fstripe commands of SCRIPT on a bench like TARGET, and show what each of them changes.

    One command a line, without `fstripe` and --at; `bench` commands are the hands (pull, seat, fault); `swap BAY` is
    done whole, with a fitting drive in stock (--stock), whose drives lie beside the copy. Between the steps time
    passes until work is done, unless --hasty. Lines that begin with # are left out. Stops at the first step that leaves
    a volume worse than the plan found it: offline, or with bytes lost. The server itself is only read, and nothing else
    on this machine is changed: commands that would (stock add, bench new, lineup) are refused before the first step.

    Exit status 3 when data would be lost; 1 when a command fails.

    \b
    Example:
      fstripe rehearse swap-bay-5.txt --like https://skerry-1
    """
    from ..redfish.target import connect
    from ..work.errors import WorkError
    from .hands import make_copy

    try:
        lines = [line.strip() for line in text_given(script).splitlines()]
    except (OSError, UnicodeDecodeError) as reason:
        raise WorkError(
            what=f"{script}: it cannot be read: {why_not(reason)}", to_do="write one command a line"
        ) from reason
    steps = [(n, _words(script, n, line)) for n, line in enumerate(lines, 1) if line and not line.startswith("#")]
    for number, words in steps:
        if why := not_rehearsed(words):
            raise WorkError(what=f"{script}, line {number}: {shlex.join(words[:2])} {why}", to_do="leave it out")
    with scratch_folder() as scratch, world_of_its_own(scratch, stock_file(file)):
        copy = keep if keep is not None else scratch / "copy"
        with connect(target, access=access_of(ctx)) as client:
            make_copy(client, copy, file)
        told = [look(copy, 0, [], None)]
        if not as_json:
            _tell(told[0], None)
        for number, words in steps:
            done = swap_whole(copy, words) if words[0] == "swap" else run(copy, words)
            passed = 0.0 if hasty or done.status in (1, 2) else let_work_end(copy)
            told.append(look(copy, number, words, done, passed, told[0]))
            if not as_json:
                _tell(told[-1], told[-2])
            if told[-1].lost or done.status in (1, 2):
                break
    last = told[-1]
    status = ATTENTION if last.lost else 1 if last.done and last.done.status in (1, 2) else 0
    if as_json:
        steps_told = [_document(s) for s in told]
        print_json({"like": target, "steps": steps_told, "loses": status == ATTENTION, "failed": status == 1})
    elif status == ATTENTION:
        click.echo(f"STOP: this step takes data away: {', '.join(last.lost)}. Nothing was done to {target}.")
    elif status == 1:
        click.echo(f"This step fails: {last.says}. Nothing was done to {target}.")
    else:
        click.echo(f"{len(steps)} steps, nothing is lost. Nothing was done to {target}.")
    ctx.exit(status)


def _document(step: Step) -> dict[str, Any]:
    return {
        "line": step.line, "command": step.command, "status": step.done.status if step.done else 0,
        "margins": step.margins, "states": step.states, "lost": list(step.lost), "says": step.says,
        "seconds_until_work_is_done": step.passed,
    }  # fmt: skip


def _tell(step: Step, before: Step | None) -> None:
    from ..core.units import duration

    click.echo(f"{step.line or '':>4}  {step.command if step.line else 'as it is'}")
    for name, words in step.words.items():
        was = before.words.get(name) if before else None
        click.echo(f"        {name}: {words}" + (f" (before: {was})" if was not in (None, words) else ""))
    for name in before.words if before else ():
        if name not in step.words:
            click.echo(f"        {name} is gone")
    if not step.words and not (before and before.words):
        click.echo("        no volumes")
    if step.passed:
        click.echo(f"        {duration(step.passed)} later the work is done")
    if step.done and step.done.status in (1, 2):
        click.echo(f"        {json.dumps(step.says)}")


def _words(script: Path, number: int, line: str) -> list[str]:
    """The words of a command in a plan. Raises WorkError."""
    from ..work.errors import WorkError

    try:
        return shlex.split(line)
    except ValueError as reason:
        raise WorkError(
            what=f"{script}, line {number}: a quotation mark without its other one", to_do="close it"
        ) from reason
