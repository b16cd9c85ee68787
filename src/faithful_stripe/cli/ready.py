"""The ready command: the checklist before a system is installed or started."""

from __future__ import annotations

import re
from pathlib import Path

import click

from .common import ATTENTION, json_option, print_json, target
from .firmware import roles_option


@click.command()
@click.option("--installer", type=click.Path(path_type=Path), help="The installer: an image file or a device.")
@click.option(
    "--drivers", type=click.Path(path_type=Path), help="A folder with driver files (.inf) for the controller."
)
@click.option("--lowest", metavar="VERSION", help="The lowest driver version that the controller needs, such as 7.2.0.")
@click.option("--release", metavar="VERSION", help="The release of the system to be installed, such as 10.0.20348.")
@click.option(
    "--architecture", type=click.Choice(["amd64", "arm64", "x86"]), default="amd64", show_default=True,
    help="The architecture of the system to be installed.",
)  # fmt: skip
@roles_option
@json_option
@click.pass_context
def ready(
    ctx: click.Context, installer: Path | None, drivers: Path | None, lowest: str | None, release: str | None,
    architecture: str, roles: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Is the server ready to be installed and to boot? One checklist; exit status 3 when something is not.

    \b
    Example:
      fstripe --at skerry ready --installer installer.img --drivers drivers --release 10.0.20348
    """
    from ..work.installer import Wanted
    from ..work.ready import ready as check
    from .render import Cell, Line, Table, show

    wanted = Wanted(installer, drivers, _version(lowest), _version(release), architecture, roles)
    found = check(target(ctx), wanted)
    bad = [c for c in found if c.state == "fail"]
    if as_json:
        print_json({"ready": not bad, "checks": found})
    else:
        table = Table("", ["", "checked", "found", "to do"])
        words = {"pass": Cell("pass"), "warn": Cell("warn", "Warning"), "fail": Cell("fail", "Critical")}
        for c in found:
            table.add(words[c.state], c.what, c.found, c.to_do)
        warned = sum(c.state == "warn" for c in found)
        last = Line(f"Not ready: {len(bad)} of {len(found)} checks failed.", "Critical")
        if not bad:
            last = Line(f"Ready{f', with {warned} warnings' if warned else ''}.", "good")
        show([table, last])
    ctx.exit(ATTENTION if bad else 0)


def _version(text: str | None) -> tuple[int, ...]:
    if text is None:
        return ()
    if not re.fullmatch(r"\d+(\.\d+){0,3}", text):
        raise click.UsageError(f"{text!r} is not a version: write numbers between dots, such as 10.0.20348")
    return tuple(int(part) for part in text.split("."))
