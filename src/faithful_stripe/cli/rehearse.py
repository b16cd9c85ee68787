"""The rehearse command: a risky operation tried on a copy of a server, stopping where data would be lost."""

from __future__ import annotations

import json
import shlex
import subprocess
import sys
import tempfile
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import click

from .common import ATTENTION, access_of, json_option, print_json
from .keep import stock_option


@click.command()
@click.argument("script", type=click.Path(path_type=Path))
@click.option("--like", "target", required=True, metavar="TARGET", help="The server: a bench folder or an address.")
@click.option("--keep", type=click.Path(path_type=Path), metavar="FOLDER", help="Leave the copy there, as a bench.")
@stock_option
@json_option
@click.pass_context
def rehearse(
    ctx: click.Context, script: Path, target: str, keep: Path | None, file: Path | None, as_json: bool
) -> None:
    """Run the fstripe commands of SCRIPT on a bench made like TARGET, and show margin and state after each.

    One command a line, without `fstripe` and --at; `bench` commands are the hands (pull, seat, fault); lines that
    begin with # are left out. The cupboard's drives (--stock) lie beside the copy. Stops at the first step that would
    lose data. The server itself is only read.

    Exit status 3 when data would be lost; 1 when a command fails.

    \b
    Example:
      fstripe rehearse swap-bay-5.txt --like https://skerry-1
    """
    from ..redfish.target import connect
    from ..work.errors import WorkError
    from ..work.survey import survey
    from .hands import make_copy

    try:
        lines = [line.strip() for line in script.read_text("utf-8").splitlines()]
    except (OSError, UnicodeDecodeError) as reason:
        raise WorkError(what=f"{script}: it cannot be read ({reason})", to_do="write one command a line") from reason
    steps = [(n, shlex.split(line)) for n, line in enumerate(lines, 1) if line and not line.startswith("#")]
    with tempfile.TemporaryDirectory(prefix="fstripe-") if keep is None else nullcontext(None) as scratch:
        copy = keep if keep is not None else Path(str(scratch)) / "copy"
        with connect(target, access=access_of(ctx)) as client:
            make_copy(client, copy, file)
        told: list[dict[str, Any]] = []
        status = 0
        for number, words in [(0, []), *steps]:
            done = _do(copy, words) if words else None
            with connect(str(copy)) as client:
                seen = survey(client)
            margins = {v.name: v.margin for v in seen.volumes}
            lost = [v.name for v in seen.volumes if (v.margin is not None and v.margin < 0) or v.lost]
            before = told[-1]["margins"] if told else margins
            gone = [name for name in before if name not in margins]
            states = {
                v.name: ", ".join([v.health, *(f"{w.name} {w.percent:.0f} %" for w in v.work)]) for v in seen.volumes
            }
            step = {"line": number, "command": shlex.join(words), "status": done.returncode if done else 0}
            told.append(step | {"margins": margins, "states": states, "lost": lost + gone, "says": _said(done)})
            if not as_json:
                _tell(told[-1], first=not words)
            if lost or gone:
                status = ATTENTION
                break
            if done and done.returncode in (1, 2):
                status = 1
                break
    if as_json:
        print_json({"like": target, "steps": told, "loses": status == ATTENTION, "failed": status == 1})
    elif status == ATTENTION:
        click.echo(f"STOP: this step loses data: {', '.join(told[-1]['lost'])}. Nothing was done to {target}.")
    elif status == 1:
        click.echo(f"This step fails: {told[-1]['says']}. Nothing was done to {target}.")
    else:
        click.echo(f"{len(steps)} steps, nothing is lost. Nothing was done to {target}.")
    ctx.exit(status)


def _do(copy: Path, words: list[str]) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "faithful_stripe", "--at", str(copy), *words]
    return subprocess.run(command, capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL)


def _said(done: subprocess.CompletedProcess[str] | None) -> str:
    """The last line of what a command said, without our name."""
    text = (done.stderr if done.returncode == 1 else done.stdout) if done else ""
    last = text.strip().splitlines()[-1] if text.strip() else ""
    return last.removeprefix("fstripe: ")


def _tell(step: dict[str, Any], first: bool) -> None:
    what = "as it is" if first else step["command"]
    margins = "; ".join(
        f"{name}: {'data lost' if margin is not None and margin < 0 else f'margin {margin}'}, {step['states'][name]}"
        for name, margin in step["margins"].items()
    )
    gone = [name for name in step["lost"] if name not in step["margins"]]
    margins += "".join(f", {name} is gone" for name in gone)
    click.echo(f"{step['line'] or '':>4}  {what}")
    click.echo(f"        {margins.strip(', ') or 'no volumes'}")
    if step["status"] in (1, 2):
        click.echo(f"        {json.dumps(step['says'])}")
