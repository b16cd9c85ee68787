"""The firmware versions and updates on the command line: what runs where, a file held against it, the update proven."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, json_option, print_json, speed_option, target

if TYPE_CHECKING:
    from ..work.update import Updated, UpdatePlan, VersionView
    from .render import Part


def version_parts(found: list[VersionView]) -> list[Part]:
    """Every part with its version, and what waits for the restart."""
    from .render import Cell, Line, Table

    table = Table("Firmware versions", ["part", "what?1", "runs", "after the restart"])
    for v in found:
        table.add(v.name, v.what, v.version, Cell(v.waiting, "Warning") if v.waiting else Cell("same", "dim"))
    waiting = [v.name for v in found if v.waiting]
    last = [Line(f"{', '.join(waiting)}: new firmware waits for a restart.", "Warning")] if waiting else []
    return [table, *last]


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--part", "names", multiple=True, metavar="NAME", help="Only for this part, where it is for several.")
@click.option("--go-back", is_flag=True, help="Allow an older version than the one that runs.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@speed_option
@json_option
@click.pass_context
def update(
    ctx: click.Context, file: Path, names: tuple[str, ...], go_back: bool, yes: bool, speed: float, as_json: bool
) -> None:
    """Update firmware from FILE, a package as the makers ship them (DMTF DSP0267, or their own format with --part).

    Shows which parts it is for, what runs there now and what it offers, asks for the server's name, follows the
    update to its end, and reads the versions again. Exit status 3 while new firmware waits for a restart, or was not
    taken.

    \b
    Example:
      fstripe --at skerry bench package raid.pldm --for CTRL-1 --version 5.4.0
      fstripe --at skerry firmware update raid.pldm
    """
    from ..core.server.acts import UpdateFirmware, may
    from ..work import firmware as settings
    from ..work import update as work
    from ..work.errors import WorkError, granted
    from ..work.survey import survey
    from .render import show
    from .verdicts import cost_words
    from .words import works_words

    client = target(ctx, speed)
    plan = work.plan_update(client, file, names)
    older = [row for row in plan.rows if row.direction == "older"]
    if older and not go_back:
        what = f"{plan.name} is older than what runs on {older[0].part.name}: {older[0].part.version} now, "
        raise WorkError(what=f"{what}{older[0].offered} offered", to_do="if you mean to go back: --go-back")
    seen = survey(client)
    if not as_json or not yes:
        show(_plan_parts(plan, [works_words([w]) for w in settings.working(seen)] + list(plan.running)), err=True)
    verdict = granted(seen, may(UpdateFirmware(tuple(p for row in plan.rows for p in row.part.related)), seen))
    for cost in verdict.costs:
        click.echo(f"  {cost_words(cost)}", err=True)
    if settings.working(seen) or plan.running:
        click.echo("WAIT FIRST: work is running; an update beside it is a risk that nobody needs (watch)", err=True)
    click.echo("Ctrl-C stops following the update, not the update: it continues at the server.", err=True)
    if not yes:
        answer = click.prompt(
            f"Type the server's name ({seen.server}) to continue", err=True, default="", show_default=False
        )
        if answer.strip() != seen.server:
            raise WorkError(what="not confirmed; nothing was changed", to_do="in a script, use --yes")
    try:
        found = work.update(client, plan, _Teller())
    except KeyboardInterrupt:
        click.echo("fstripe: stopped following; the update continues at the server, restart nothing until it is done: "
                   "firmware show --versions", err=True)  # fmt: skip
        ctx.exit(1)
    if as_json:
        print_json({"parts": [{**vars(u), "state": u.state} for u in found]})
    else:
        show(_outcome(found))
    ctx.exit(0 if all(u.state == "runs" for u in found) else ATTENTION)


class _Teller:
    """Prints how far the update is, each time it is further."""

    def __init__(self) -> None:
        self.last = ""

    def __call__(self, name: str, percent: int | None) -> None:
        line = f"  {name}" + (f": {percent} %" if percent is not None else "")
        if line != self.last:
            click.echo(line, err=True)
            self.last = line


def _plan_parts(plan: UpdatePlan, busy: list[str]) -> list[Part]:
    from .render import Cell, Line, Table

    about = f"{plan.name}: {len(plan.data)} bytes"
    if plan.package and plan.package.released:
        about += f", released {plan.package.released.date().isoformat()}"
    parts: list[Part] = [Line(about, "head")]
    table = Table("", ["part", "what?1", "runs now", "offered", "", "takes effect"])
    colour = {"newer": "good", "older": "Critical", "same": "dim", "unknown": "Warning"}
    for row in plan.rows:
        effect = {"system reboot": "at the next restart", "self-contained": "at once; the part restarts by itself"}
        when = effect.get(row.activation, row.activation or "as the server says")
        step = Cell({"older": "GOES BACK", "same": "the same"}.get(row.direction, row.direction), colour[row.direction])
        table.add(row.part.name, row.part.what, row.part.version, row.offered or "not told", step, when)
    parts.append(table)
    unsure = [row.part.name for row in plan.rows if not row.checked]
    if unsure:
        text = (
            f"Not checked: whether it is for {', '.join(unsure)}. The file or the server does not tell; you named it."
        )
        parts.append(Line(text, "Warning"))
    if busy:
        parts.append(Line("WORK IS RUNNING: " + "; ".join(busy), "Warning"))
    return parts


def _outcome(found: list[Updated]) -> list[Part]:
    from .render import Cell, Line, Table

    table = Table("", ["part", "before", "offered", "runs now", "after the restart", ""])
    words = {
        "runs": Cell("runs", "good"),
        "waits": Cell("waits", "Warning"),
        "not taken": Cell("NOT TAKEN", "Critical"),
        "broken off": Cell("BROKEN OFF", "Critical"),
    }
    for u in found:
        table.add(
            u.name,
            u.before,
            u.offered or "not told",
            u.now,
            ("not told" if u.waiting is None else u.waiting or u.now),
            words[u.state],
        )
    last = Line("Read again: every part runs what was offered.", "good")
    if any(u.state == "waits" for u in found):
        last = Line("Written. It runs from the next restart on: fstripe firmware restart", "Warning")
    if any(u.state == "not taken" for u in found):
        last = Line("Not every part took it: look at `log`.", "Critical")
    if any(u.trouble for u in found):
        last = Line(f"It broke off: {found[0].trouble}. What runs now was read again; update it again.", "Critical")
    return [table, last]
