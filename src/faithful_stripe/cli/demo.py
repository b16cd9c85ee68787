"""The demo: a lesson in chapters, and the whole job as one long story."""

from __future__ import annotations

import tempfile
from contextlib import nullcontext
from pathlib import Path

import click

from .common import json_option, print_json
from .demo_lesson import CHAPTERS, Lesson
from .demo_story import DemoFailed, Story


@click.command()
@click.argument("chapter", required=False, type=click.Choice([*CHAPTERS, "all"]))
@click.option("--keep", "folder", type=click.Path(path_type=Path), metavar="FOLDER",
              help="Work in this new folder, and leave it.")  # fmt: skip
@click.option(
    "--speed", default=7200.0, show_default=True, help="Simulated seconds per second while a rebuild is watched."
)
@json_option
def demo(chapter: str | None, folder: Path | None, speed: float, as_json: bool) -> None:
    """A lesson of about 90 seconds on a simulated server, in five chapters; CHAPTER runs one of them alone.

    On a terminal it waits for a key after each chapter. `demo all` is the long story: a build sheet, firmware, a
    guided swap by hands that err, a shuffled pile, and a bad week of a RAID 50, with every hash compared.

    \b
    Example:
      fstripe demo
      fstripe demo failure
      fstripe demo all --keep story
    """
    if folder is not None and folder.exists():
        raise DemoFailed(what=f"{folder} exists already; name a new folder")
    if folder is not None:
        folder.mkdir(parents=True)
    with tempfile.TemporaryDirectory(prefix="fstripe-") if folder is None else nullcontext(str(folder)) as place:
        if chapter == "all":
            summary = Story(Path(place), speed, quiet=as_json).tell()
        else:
            summary = Lesson(Path(place), speed, quiet=as_json).teach([chapter] if chapter else list(CHAPTERS))
    if as_json:
        print_json(summary)
