"""The build command: a server brought to what a build sheet says, after showing the plan and asking."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, confirm, json_option, print_json, speed_option, target

if TYPE_CHECKING:
    from ..work.plan import BuildPlan
    from ..work.sheet import Sheet
    from .render import Part


@click.command()
@click.argument("sheet", type=click.Path(path_type=Path), required=False)
@click.option("--check", is_flag=True, help="Only show the difference; exit status 3 when there is one.")
@click.option("--replace", "replaced", multiple=True, metavar="VOLUME",
    help="Remove this volume and create it anew where it differs from the sheet: what it holds is lost.",
)  # fmt: skip
@click.option("--schema", "show_schema", is_flag=True, help="Print the JSON Schema of build sheets.")
@speed_option
@click.option("--patience", default="15m", show_default=True, metavar="TIME", help="How long to wait for a restart.")
@click.option("--yes", is_flag=True, help="Do not ask (scripts); needs --expect-serials where drives are named by bay.")
@click.option(
    "--expect-serials", metavar="S1,S2,...", help="The serial numbers of the drives that are taken or emptied."
)
@json_option
@click.pass_context
def build(
    ctx: click.Context, sheet: Path | None, check: bool, replaced: tuple[str, ...], show_schema: bool, speed: float,
    patience: str, yes: bool, expect_serials: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Bring a server to what the build SHEET says: firmware, controllers, volumes, spares, the boot volume.

    Shows the difference as a plan (what is created, changed and lost, in order, restarts included), asks for the
    server's name, carries it out, and proves it by reading again. After an interruption run it again: it continues with
    what is left, and says so when there is nothing to do.

    \b
    Example:
      fstripe --at skerry survey --as-sheet > skerry.toml
      fstripe --at skerry build skerry.toml --check
    """
    from ..core.units import parse_duration
    from ..work import apply
    from ..work.plan import plan_build
    from ..work.sheet import read_sheet, schema
    from .render import show

    if show_schema:
        print_json(schema())
        return
    if sheet is None:
        raise click.UsageError("Missing argument 'SHEET'")
    wanted = read_sheet(sheet)
    client = target(ctx, speed)
    plan = plan_build(client, wanted, replaced)
    if check or plan.done:
        if as_json:
            print_json(_document(plan, ()))
        else:
            show(_plan_parts(plan, check))
        ctx.exit(0 if plan.done else ATTENTION)
    if not as_json or not yes:
        show(_plan_parts(plan, check), err=True)
    if plan.steps:
        _agree(wanted, plan, yes, expect_serials)
    built = apply.build_sheet(
        client, wanted, plan, replaced, lambda text: click.echo(f"  {text}", err=True), parse_duration(patience),
        2.0 if speed == 1 else 0.2,
    )  # fmt: skip
    if as_json:
        print_json(_document(built.left, built.done))
    else:
        show(_result(built.done, built.left))
    ctx.exit(0 if built.left.done else ATTENTION)


def _agree(sheet: Sheet, plan: BuildPlan, yes: bool, expect_serials: str | None) -> None:
    """Ask for the server's name; in scripts every drive that is taken must be known by its serial number."""
    known = [serial for serial in plan.serials if serial in sheet.drives]
    given = expect_serials
    if yes and len(known) == len(plan.serials):
        given = ",".join(plan.serials)  # the sheet itself names them all, or none is touched
    confirm(plan.server, plan.serials, yes, given, "server")


def _document(plan: BuildPlan, done: tuple[str, ...]) -> dict[str, object]:
    steps = [
        {"kind": s.kind, "what": s.what, "lines": s.lines, "lost": s.lost, "serials": s.serials} for s in plan.steps
    ]
    return {"server": plan.server, "as_the_sheet_says": plan.done, "done": done, "steps": steps, "notes": plan.notes}


def _plan_parts(plan: BuildPlan, check: bool) -> list[Part]:
    from .render import Cell, Line, Table

    if plan.done:
        return [Line(f"{plan.server} is as the sheet says: nothing to do.", "good")]
    parts: list[Part] = [Line(f"From {plan.server} as it is to what the sheet says:", "head")]
    table = Table("", [">step", "what"])
    for number, step in enumerate(plan.steps, 1):
        table.add(str(number), Cell(step.what, "Critical" if step.kind == "remove" else ""))
        for text in step.lines:
            table.add("", f"  {text}")
    parts += [table] if plan.steps else []
    parts += [Line(f"Not done: {text}.", "Warning") for text in plan.notes]
    if plan.lost:
        parts.append(Line("WILL BE LOST:", "Critical"))
        parts += [Line(f"  {text}", "Critical") for text in plan.lost]
    elif plan.steps:
        parts.append(Line("Nothing will be lost."))
    if plan.steps and check:
        parts.append(Line(f"{len(plan.steps)} steps are left. Nothing was changed.", "Warning"))
    return parts


def _result(done: tuple[str, ...], left: BuildPlan) -> list[Part]:
    from .render import Line

    if left.done:
        return [Line(f"{len(done)} steps done. Read again: {left.server} is as the sheet says.", "good")]
    head = Line(f"{len(done)} steps done. Read again, this still differs from the sheet:", "Critical")
    return [
        head,
        *(Line(f"  {s.what}", "Warning") for s in left.steps),
        *(Line(f"  {n}", "Warning") for n in left.notes),
    ]
