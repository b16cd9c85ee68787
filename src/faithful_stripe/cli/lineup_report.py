"""`lineup report`: the record of a recovery as one self-contained page, as Markdown, or as JSON."""

from __future__ import annotations

import base64
import io
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import ATTENTION, json_option, print_json

if TYPE_CHECKING:
    from markupsafe import Markup

    from ..work.recovery import Recovery

OMITTED = {
    "full-pass": "Not all that holds data was read: `lineup solve --full` or `lineup extract` tests every row.",
    "hashes": "The images were not read whole for their hashes: `--hash-images` does.",
    "result": "No written volume is named: `--result FILE`, the file that `lineup extract` wrote.",
    "files": "The files were not looked at.",
    "sample": "No file was opened that proves itself.",
}
ENDINGS = (".html", ".md", ".json")


@click.command("report")
@click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
@click.argument("files", nargs=-1, type=click.Path(path_type=Path))
@click.option("--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1.")
@click.option("--partition", type=click.IntRange(min=1), help="Which partition's files, from 1.")
@click.option("--hash-images", "hashes", is_flag=True, help="Read the images whole, for their BLAKE3.")
@click.option(
    "--result", type=click.Path(path_type=Path), help="The file that `lineup extract` wrote: hashed and named."
)
@click.option("--sample", "count", type=click.IntRange(0, 10_000), default=20, show_default=True, metavar="N",
              help="How many files that prove themselves are opened.")  # fmt: skip
@click.option("--technician", metavar="NAME", default="", help="Who did it.")
@click.option("--note", "remark", metavar="TEXT", default="", help="What else there is to say.")
@json_option
@click.pass_context
def lineup_report(
    ctx: click.Context, lineup_file: Path, files: tuple[Path, ...], number: int, partition: int | None, hashes: bool,
    result: Path | None, count: int, technician: str, remark: str, as_json: bool,
) -> None:  # fmt: skip
    """Write the record of a recovery into FILES, by their ending: .html, .md, .json.

    Verdicts and what they rest on, the drawing, images and result with their hashes, files that are damaged, a sample
    that was opened, and what was not done. Exit status 3 unless all four verdicts are certain.

    \b
    Example:
      fstripe lineup report found.toml recovery.html --result volume.img --hash-images
    """
    from ..media.whole import refuse_existing, write_text
    from ..work.recovery import recovery
    from .render import waiting

    if not files and not as_json:
        raise click.UsageError("name a file: recovery.html, recovery.md or recovery.json")
    for path in files:
        if path.suffix.lower() not in ENDINGS:
            raise click.UsageError(f"{path}: expected a name that ends in .html, .md or .json")
        refuse_existing(path)
    with waiting("reading") as tell:
        found = recovery(lineup_file, number, hashes, result, count, partition, tell)
    for path in files:
        write_text(path, _text(found, path.suffix.lower(), technician, remark))
        if not as_json:
            click.echo(f"{path} is written.")
    if as_json:
        print_json(_document(found))
    ctx.exit(0 if found.lineup.verdicts.certain else ATTENTION)


def _document(found: Recovery) -> dict[str, Any]:
    files = found.files
    return {
        "lineup": found.lineup_file, "array": found.number, "made": found.when, "version": found.version,
        "verdicts": found.lineup.verdicts.as_document(), "images": [
            {"image": i.name, "role": i.role.value, "position": i.position, "bytes": i.size, "blake3": i.blake3}
            for i in found.images
        ],
        "result": None if found.result is None else {
            "file": found.result.file, "bytes": found.result.size, "blake3": found.result.blake3,
            "whole": found.result.whole,
        },
        "files": None if files is None else {
            "count": files.count, "bytes": files.size,
            "damaged": [
                {"path": str(f.entry.path), "wrong_bytes": f.wrong, "lost_bytes": f.lost} for f in files.damaged
            ],
            "sampled": [{"path": str(s.entry.path), "proof": s.proof.value} for s in files.sampled],
        },
        "not_done": [one.value for one in found.omitted],
    }  # fmt: skip


def _text(found: Recovery, kind: str, technician: str, remark: str) -> str:
    if kind == ".json":
        return json.dumps(_document(found), indent=2) + "\n"
    from jinja2 import Environment, PackageLoader, StrictUndefined

    from ..core.units import binary_size, decimal_size
    from ..core.visible import visible
    from .evidence_words import alike, says, settles
    from .lineup_words import growing, layout_words, lines, measured, summary

    array = found.lineup
    made = array.geometry
    pages = Environment(
        loader=PackageLoader("faithful_stripe.cli"), autoescape=kind == ".html", undefined=StrictUndefined,
        keep_trailing_newline=True, finalize=lambda value: visible(value) if type(value) is str else value,
    )  # fmt: skip
    pages.filters["commands"] = _commands
    pages.filters["says"] = says
    words = layout_words(made.layout)
    images = [
        {"position": "" if i.position is None else i.position, "name": Path(i.name).name, "role": i.role.value,
         "size": i.size, "blake3": i.blake3 or "not computed"} for i in found.images
    ]  # fmt: skip
    gone = [p for p, name in enumerate(array.seated) if name is None]
    images += [{"position": p, "name": "(missing)", "role": "", "size": "", "blake3": ""} for p in gone]
    images.sort(key=lambda i: (i["position"] == "", i["position"] or 0))
    sure = {
        "certain": "All four verdicts are certain.",
        "probable": "Not all four verdicts are certain: rely on it only as far as they say.",
    }.get(array.verdict, "The lineup is undecided: this volume may be wrong.")
    drawing, rows_map = _pictures(found) if kind == ".html" else ("", "")
    omitted = [OMITTED[one.value] for one in found.omitted]
    page = pages.get_template(f"lineup{kind}")
    return page.render(
        r=found, technician=technician, remark=remark, images=images, omitted=omitted, verdict=sure,
        certain=array.verdicts.certain, measured=measured(array), settle=settles(array.settle),
        alternatives=[alike(one) for one in array.alternatives],
        head=f"{made.layout.level} of {made.members}, strip {binary_size(made.strip_bytes)}"
        + "".join(f", {w}" for w in words),
        size=f"{decimal_size(array.volume_bytes)} ({array.volume_bytes} bytes)", growing=growing(array),
        verdicts=[(name, word, why) for name, word, why, _style in lines(array.verdicts)],
        rows=summary(array.rowmap, array.seated) if array.rowmap is not None else [],
        files_size=binary_size(found.files.size) if found.files else "", drawing=drawing, map=rows_map,
    )  # fmt: skip


def _commands(text: str) -> Markup:
    """A sentence of ours for a page: what it quotes as commands, set as such."""
    from markupsafe import Markup, escape

    parts = [escape(part) for part in text.split("`")]
    return Markup("").join(Markup("<code>{}</code>").format(p) if i % 2 else p for i, p in enumerate(parts))


def _pictures(found: Recovery) -> tuple[str, str]:
    """The drawing of the rows and their evidence, and of the map, each as a picture in base64; "" for none."""
    from ..work.drawing import rows
    from ..work.lineup import evidence_of
    from .lineup_plot import plot_lineup
    from .map_plot import plot_map

    drawing = rows_map = ""
    array = found.lineup
    if array.geometry.layout.level != "SPAN":
        out = io.BytesIO()
        drawn = rows(array, 0, max(4, min(24, array.geometry.pattern.rows)))
        plot_lineup(array, drawn, evidence_of(Path(found.lineup_file), found.number), out)
        drawing = base64.b64encode(out.getvalue()).decode("ascii")
    if array.rowmap is not None:
        out = io.BytesIO()
        plot_map(array, out)
        rows_map = base64.b64encode(out.getvalue()).decode("ascii")
    return drawing, rows_map
