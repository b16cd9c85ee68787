"""The report command: the service record as one self-contained page, as Markdown, or as JSON."""

from __future__ import annotations

import base64
import io
import json
from collections.abc import Sequence
from dataclasses import fields
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import json_option, plain, print_json, target
from .keep import advisories_from, advisories_option

if TYPE_CHECKING:
    from ..work.report import Point, Report, Then


@click.command()
@click.argument("files", nargs=-1, type=click.Path(path_type=Path))
@click.option("--begin", is_flag=True, help="Only note how the server is now: the before of the next report.")
@click.option("--since", metavar="TIME", help="From then on: 2026-11-23T08:00, or how long ago: 2d.")
@click.option("--technician", metavar="NAME", default="", help="Who was there.")
@click.option("--note", "remark", metavar="TEXT", default="", help="What else there is to say.")
@advisories_option
@json_option
@click.pass_context
def report(
    ctx: click.Context, files: tuple[Path, ...], begin: bool, since: str | None, technician: str, remark: str,
    advisories: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Write the service record of a visit or a period into FILES, by their ending: .html, .md, .json.

    Before and after, what was done and by which command, events, serial numbers out and in, how rebuilds went,
    margins, and what still needs attention. Commands that change a server, and swaps, are noted as they run.

    \b
    Example:
      fstripe --at skerry report --begin
      fstripe --at skerry report visit.html --technician "I. Maddery"
    """
    from ..core.server.assess import assess
    from ..media.whole import refuse_existing, write_text
    from ..work import report as work
    from ..work.log import clocks
    from ..work.survey import survey
    from ..work.visits import remember_state

    client = target(ctx)
    if begin:
        remember_state(client.where, assess(survey(client)))
        clocks(client)
        click.echo("Noted how the server is now.")
        return
    if not files and not as_json:
        raise click.UsageError("name a file: visit.html, visit.md or visit.json")
    for path in files:
        if path.suffix.lower() not in (".html", ".md", ".json"):
            raise click.UsageError(f"{path}: expected a name that ends in .html, .md or .json")
        refuse_existing(path)
    found = work.report(client, since, advisories_from(advisories))
    for path in files:
        write_text(path, _text(found, path.suffix.lower(), technician, remark))
        if not as_json:
            click.echo(f"{path} is written.")
    if as_json:
        print_json(_document(found))


def _document(found: Report) -> dict[str, Any]:
    """The record as JSON: its values, and in words what is left to do."""
    from .telling import remaining_words

    body = {f.name: plain(getattr(found, f.name)) for f in fields(found) if f.name not in ("judged", "left")}
    return body | {"left": [remaining_words(found.judged.server, one) for one in found.left]}


def _text(found: Report, kind: str, technician: str, remark: str) -> str:
    if kind == ".json":
        return json.dumps(_document(found), indent=2) + "\n"
    from jinja2 import Environment, PackageLoader, StrictUndefined

    from ..core.units import duration
    from ..work.report import lasted
    from .telling import remaining_words
    from .words import size

    pages = Environment(
        loader=PackageLoader("faithful_stripe.cli"), autoescape=kind == ".html", undefined=StrictUndefined,
        keep_trailing_newline=True,
    )  # fmt: skip
    pages.filters |= {"condition": _condition, "decimal": size, "remaining": lambda one: remaining_words(
        found.judged.server, one)}  # fmt: skip
    pages.filters |= {"moment": _moment, "ended": _ended, "lasting": lambda s: duration(abs(s))}
    pages.filters["hardware"] = _hardware
    curve = _curve(found.points) if kind == ".html" and found.points else ""
    page = pages.get_template(f"report{kind}")
    return page.render(r=found, technician=technician, remark=remark, curve=curve, works=lasted(found.points))


def _condition(then: Then | None, absent: str) -> str:
    """A volume's state and margin at a moment; `absent` where it was not there."""
    if then is None:
        return absent
    if then.margin is not None and then.margin < 0:
        return then.state
    return f"{then.state}, margin {'not known' if then.margin is None else then.margin}"


def _moment(text: str) -> str:
    return f"{text[:16].replace('T', ' ')}"


def _hardware(model: str, part: str, hours: int | None = None) -> str:
    """A drive's model, part number and age, as far as they were told."""
    age = "" if hours is None else "no hours of use" if hours == 0 else f"{hours} h of use"
    return ", ".join(word for word in (model, f"part {part}" if part else "", age) if word)


def _ended(status: int) -> str:
    return {0: "done", 1: "could not be done", 2: "wrong usage", 3: "done, needs attention"}.get(status, str(status))


def _curve(points: Sequence[Point]) -> str:
    """How far each piece of work was, as a picture in base64."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num

    figure, axes = pyplot.subplots(figsize=(9.0, 3.2), dpi=110)
    styles = ["-", "--", ":", "-."]
    for i, (volume, kind, bay) in enumerate(dict.fromkeys((p.volume, p.kind, p.target) for p in points)):
        mine = [p for p in points if (p.volume, p.kind, p.target) == (volume, kind, bay)]
        work = f"{volume}: {kind} of bay {bay}" if bay else f"{volume}: {kind}"
        times = [datetime.fromisoformat(p.time) for p in mine]
        moments = date2num(times).tolist()  # type: ignore[no-untyped-call]
        done = [p.percent for p in mine]
        axes.plot(moments, done, styles[i % 4], marker="o", markersize=3.5, color="black", label=work)
    axes.set_ylim(0, 102)
    axes.set_ylabel("per cent done")
    axes.set_xlabel("server's clock")
    axes.legend(loc="lower right", frameon=False)
    axes.grid(True, color="0.92")
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    locator = AutoDateLocator()  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    figure.tight_layout()
    out = io.BytesIO()
    figure.savefig(out, format="png")
    pyplot.close(figure)
    return base64.b64encode(out.getvalue()).decode("ascii")
