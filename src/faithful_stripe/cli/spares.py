"""The spare and controller commands: hot spares, and what a controller does by itself."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from ..core.server.unknown import UNKNOWN, known
from .arguments import Family
from .common import confirm, confirm_options, controller_option, json_option, print_json, target
from .completing import bays

if TYPE_CHECKING:
    from ..core.server.things import Controller, Drive


@click.group(cls=Family)
def spare() -> None:
    """Hot spares: drives that replace a failed member by themselves.

    Dedicated before global, same media before other, the smallest that fits. A revertible spare gives the data
    back when the failed drive has been replaced, and stands by again.

    \b
    Example:
      fstripe --at skerry spare add 13
    """


@spare.command("add")
@click.argument("bay", shell_complete=bays)
@click.option("--for", "names", metavar="VOLUME,...", help="Only for these volumes; for any without it.")
@click.option("--keep", is_flag=True, help="Not revertible: once it replaced a member it stays one.")
@confirm_options
@json_option
@click.pass_context
def spare_add(
    ctx: click.Context, bay: str, names: str | None, keep: bool, yes: bool, expect_serials: str | None, as_json: bool
) -> None:
    """Use the drive in BAY as a hot spare. Asks for the bay again when the drive holds something: it will be lost.

    \b
    Example:
      fstripe --at skerry spare add 13 --for tides
    """
    from ..core.server.assess import assess
    from ..core.server.findings import Code
    from ..work.build import add_spare
    from ..work.survey import survey
    from .verdicts import finding_words
    from .words import said

    wanted = tuple(name.strip() for name in names.split(",") if name.strip()) if names else ()
    client = target(ctx)
    drive = survey(client).drive(bay)
    if drive.free and known(drive.content, "") != "":
        click.echo(f"WILL BE LOST: what drive {drive.serial} in bay {bay} holds: {drive.content}", err=True)
        confirm(bay, [said(drive.serial)], yes, expect_serials, "bay")
    made = add_spare(client, bay, wanted, not keep)
    _say_drive(made, as_json)
    if not as_json:
        found = assess(survey(client))
        for f in (*found.findings, *found.notices):
            if f.code in (Code.SPARE_UNFIT, Code.SPARE_POOR) and f.subject.path == made.path:
                click.echo(f"Note: {finding_words(found.server, f)}.", err=True)


@spare.command("remove")
@click.argument("bay", shell_complete=bays)
@json_option
@click.pass_context
def spare_remove(ctx: click.Context, bay: str, as_json: bool) -> None:
    """Set the hot spare in BAY free again.

    \b
    Example:
      fstripe --at skerry spare remove 13
    """
    from ..work.build import remove_spare

    _say_drive(remove_spare(target(ctx), bay), as_json)


def _say_drive(drive: Drive, as_json: bool) -> None:
    from .documents import drive_document
    from .words import use_words

    if as_json:
        print_json(drive_document(drive))
    else:
        click.echo(f"Bay {drive.bay}: drive {drive.serial} is {use_words(drive)}.")


@click.group(cls=Family)
def controller() -> None:
    """What a controller does by itself, and how fast: rates, replacements, copies off failing drives.

    \b
    Example:
      fstripe --at skerry controller show
    """


@controller.command("show")
@controller_option
@json_option
@click.pass_context
def controller_show(ctx: click.Context, controller: str | None, as_json: bool) -> None:
    """Show a controller's settings.

    \b
    Example:
      fstripe --at skerry controller show
    """
    from ..work.survey import survey

    _say_controller(survey(target(ctx)).controller(controller), as_json)


@controller.command("set")
@controller_option
@click.option("--rebuild-rate", type=click.IntRange(1, 100), help="Per cent of the drives' rate for rebuilds.")
@click.option("--check-rate", type=click.IntRange(1, 100), help="Per cent of the drives' rate for consistency checks.")
@click.option(
    "--replacement",
    type=click.Choice(["automatic", "by-hand"]),
    help="automatic: a fitting blank drive in a failed bay is taken by itself; by-hand: it waits for your word.",
)
@click.option(
    "--copy-on-prediction", type=bool, help="Copy a drive that predicts its failure to a hot spare (yes, no)."
)
@json_option
@click.pass_context
def controller_set(
    ctx: click.Context, controller: str | None, rebuild_rate: int | None, check_rate: int | None,
    replacement: str | None, copy_on_prediction: bool | None, as_json: bool,
) -> None:  # fmt: skip
    """Change a controller's settings. Running work continues at its new rate.

    \b
    Example:
      fstripe --at skerry controller set --rebuild-rate 30 --replacement by-hand
    """
    from ..work.build import set_controller
    from ..work.survey import survey

    asked = {"rebuild_rate": rebuild_rate, "check_rate": check_rate}
    asked |= {"replacement": replacement, "copy_on_prediction": copy_on_prediction}  # type: ignore[dict-item]
    if all(value is None for value in asked.values()):
        raise click.UsageError("say what to set")
    client = target(ctx)
    _say_controller(set_controller(client, survey(client).controller(controller), **asked), as_json)


def _say_controller(found: Controller, as_json: bool) -> None:
    from .render import Line, Table, show

    if as_json:
        print_json(found)
        return
    table = Table("", ["setting", ">value", "meaning"])
    copying = {True: "yes", False: "no", None: "?"}[known(found.copy_on_prediction, None)]
    rebuild, check = ("?" if rate is UNKNOWN else f"{rate} %" for rate in (found.rebuild_rate, found.check_rate))
    levels = ", ".join(level for level in found.levels if level != "None") if found.offers_volumes else "none now"
    table.add("levels", "", levels)
    table.add("rebuild rate", rebuild, "of the slowest drive's rate, for rebuilds, copies and initializations")
    table.add("check rate", check, "of the slowest drive's rate, for consistency checks")
    table.add("replacement", known(found.replacement, "?"), "whether a blank drive in a failed bay is taken by itself")
    table.add("copy on prediction", copying, "whether a drive that predicts its failure is copied to a hot spare")
    show([Line(f"{found.id}: {found.name}, serial {found.serial}, firmware {found.firmware}", "head"), table])
