"""`volume rescue`: a volume that is offline, member by member, and forcing it online where that loses nothing."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

import click

from . import found as found  # its commands are of the same group
from .arguments import ImageOfBay
from .build import volume
from .common import ATTENTION, confirm, confirm_options, controller_option, json_option, print_json, target
from .completing import volumes

if TYPE_CHECKING:
    from pathlib import Path

    from ..work.rescue import Away, Rescue
    from ..work.trying_back import Choice, OnImages
    from .render import Part

MOST_FILES = 12
"""Names of files that are shown for each choice; --json has them all."""


@volume.command()
@click.argument("name", shell_complete=volumes)
@controller_option
@click.option(
    "--image",
    "images",
    multiple=True,
    type=ImageOfBay(),
    metavar="BAY=IMAGE",
    help="An image of the drive of a bay; again for each one that there is.",
)
@click.option("--force-online", "force", is_flag=True, help="Have the controller use the members that are there again.")
@confirm_options
@json_option
@click.pass_context
def rescue(
    ctx: click.Context, name: str, controller: str | None, images: tuple[tuple[str, Path], ...], force: bool,
    yes: bool, expect_serials: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Show which members of volume NAME are missing, since when, and whether they are up to date.

    With --force-online the controller uses those again that are there: only where enough of them are known to be up to
    date, and the server offers it. Everything else is refused, and what comes first is said.

    With --image for each drive that was imaged, those at work as well, each choice of missing members is tried on the
    images, which are only read: how much of the volume, and of which files, it would read wrong. A member of which
    every byte is shown to be up to date may then be forced online.

    \b
    Example:
      fstripe --at skerry volume rescue tides
      fstripe --at skerry volume rescue tides --image 4=a.img --image 5=b.img --image 6=c.img
      fstripe --at https://10.0.0.7 volume rescue tides --force-online
    """
    from ..core.server.acts import Refused
    from ..core.server.assess import assess
    from ..work.rescue import force_online
    from ..work.rescue import rescue as look
    from .documents import volume_document
    from .render import Line, show, waiting
    from .verdicts import refusal_words
    from .words import margin_line

    if len({bay for bay, _image in images}) < len(images):
        raise click.UsageError("A bay has two images: name the one that was read from its drive.")
    client = target(ctx)
    with waiting("trying each choice") as tell:
        found = look(client, name, controller, dict(images), tell)
    if force:
        show(_parts(found), err=True)
        if not isinstance(found.verdict, Refused):
            confirm(name, found.serials, yes, expect_serials)
        judged = force_online(client, found)
        if as_json:
            print_json(volume_document(judged.volume, judged))
        else:
            show(
                [Line(f"Volume {judged.volume.name} can be read again: {judged.state}, {margin_line(judged)}.", "good")]
            )
        ctx.exit(ATTENTION if judged.state.value != "OK" else 0)
    judged = assess(found.server).of(found.volume)
    if as_json:
        no = found.verdict if isinstance(found.verdict, Refused) else None
        print_json({
            "volume": volume_document(found.volume, judged),
            "missing": [_plain(a) for a in found.away], "log_read": found.logged,
            "force_online": {"allowed": no is None, "offered": found.offered, "because": no.because if no else None,
                             "what": refusal_words(found.server, no)[0] if no else None},
            "on_images": _tried(found, found.tried) if found.tried else None,
        })  # fmt: skip
    else:
        show(_parts(found))
    ctx.exit(ATTENTION if found.away else 0)


def _plain(one: Away) -> dict[str, object]:
    return {
        "position": one.seat.position, "bay": one.seat.bay, "serial": one.seat.serial, "current": one.seat.current,
        "here": one.here, "left": one.left.time if one.left else None,
        "event": one.left.message if one.left else None,
    }  # fmt: skip


def _tried(found: Rescue, tried: OnImages) -> dict[str, object]:
    return {
        "choices": [
            {"bays": [s.bay for s in c.seats], "serials": [s.serial for s in c.seats],
             "harmed": None if c.harmed is None else [{"start": a, "length": b - a} for a, b in c.harmed],
             "files": None if c.files is None else list(c.files)}
            for c in tried.choices
        ],
        "open": tried.open, "doubt": tried.doubt,
        "up_to_date": [found.volume.seats[i].bay for i in sorted(tried.proven)],
    }  # fmt: skip


def _parts(found: Rescue) -> list[Part]:
    from ..core.server.acts import Refused
    from ..core.server.assess import assess
    from ..core.server.unknown import UNKNOWN
    from .render import Cell, Line, Table
    from .verdicts import refusal_words
    from .words import said

    judged = assess(found.server).of(found.volume)
    parts: list[Part] = [
        Line(f"Volume {found.volume.name}, {said(found.volume.level, 'level not known')}: {judged.state}", "head")
    ]
    if not found.away:
        return [*parts, Line("No member is missing.", "good")]
    table = Table("", [">position", ">bay", "drive", "is there", "up to date", "left", "with?1"])
    missing = "not in the log" if found.logged else "not known: the log was not read"
    for one in sorted(found.away, key=lambda a: a.left.time if a.left else ""):
        current = "not known" if one.seat.current is UNKNOWN else "yes" if one.seat.current else "no"
        left = f"{one.left.time[:19].replace('T', ' ')}" if one.left else missing
        table.add(
            str(one.seat.position), one.seat.bay, said(one.seat.serial, "not known"), "yes" if one.here else "no",
            Cell(current, "" if current == "yes" else "Warning"), left, one.left.message if one.left else "",
        )  # fmt: skip
    parts.append(table)
    if found.tried:
        parts += _on_images(found, found.tried)
    if isinstance(found.verdict, Refused):
        what, first = refusal_words(found.server, found.verdict)
        parts.append(Line(f"It is not forced online: {what}.", "Warning"))
        if found.verdict.first:
            parts.append(Line(f"First: {first}."))
        if found.tried is None and found.verdict.because.value in ("out-of-date", "currency-not-known"):
            parts.append(Line("Write nothing to these drives: image all of them, then name the images with --image."))
        elif found.tried and found.verdict.because.value == "out-of-date":
            parts.append(Line("Write nothing to these drives: `lineup solve` and `lineup extract` read the images."))
    elif found.offered:
        parts.append(Line("Enough members are there and up to date: --force-online brings it back."))
    else:
        parts.append(Line("Enough members are there and up to date; this server does not offer to force it online."))
    return parts


def _on_images(found: Rescue, tried: OnImages) -> list[Part]:
    """What the images say of each choice of members."""
    from .render import Cell, Line, Table
    from .words import size

    table = Table("Each choice of missing members, tried on the images", ["returns", ">would be wrong", ">files"])
    for choice in tried.choices:
        wrong = sum(b - a for a, b in choice.harmed or ())
        told = "not known" if choice.harmed is None else size(wrong) if wrong else "nothing"
        table.add(
            ", ".join(f"bay {s.bay} ({s.serial})" for s in choice.seats),
            Cell(told, "good" if told == "nothing" else "Warning"),
            "not known" if choice.files is None else str(len(choice.files)),
        )  # fmt: skip
    parts: list[Part] = [table]
    if not tried.choices:
        parts = [Line("No choice of members that were imaged is enough.", "Warning")]
    for choice in tried.choices:
        if choice.files:
            parts.append(Line(f"With {_bays(choice)}, wrong bytes are in: {_named(choice.files)}."))
    if tried.open:
        parts.append(Line(f"Whichever return, {size(tried.open)} may be wrong: rows do not match.", "Warning"))
    if tried.doubt:
        parts.append(Line(f"No member is shown to be up to date: {DOUBTS[tried.doubt.value]}.", "Warning"))
    elif tried.proven:
        shown = (f"bay {s.bay} ({s.serial})" for i, s in enumerate(found.volume.seats) if i in tried.proven)
        parts.append(Line(f"Up to date in every byte, by the images: {', '.join(shown)}.", "good"))
    return parts


def _bays(choice: Choice) -> str:
    return " and ".join(f"bay {s.bay}" for s in choice.seats)


def _named(files: Iterable[str]) -> str:
    names = list(files)
    more = len(names) - MOST_FILES
    return ", ".join(names[:MOST_FILES]) + (f" and {more} more (--json)" if more > 0 else "")


DOUBTS = {
    "not-members": "not every image is of a member of the array that the others hold",
    "order": "the images do not tell which stands where; `lineup solve` says more",
    "apart": "the images stand in another order or level than the controller says",
    "untested": "rows have no redundancy left; an image of one more member tests them",
    "open": "rows do not match, and nothing tells which member is wrong there",
    "likely": "which member is wrong there is likely, not proven",
}
