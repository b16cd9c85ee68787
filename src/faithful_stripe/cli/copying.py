"""Copying out as the command line shows it: a progress bar, then size and SHA-256."""

from __future__ import annotations

from pathlib import Path

import click

from ..core.source import BlockSource
from ..core.units import binary_size
from ..work.copying import copy_out
from .common import print_json
from .render import progress


def copy_and_report(source: BlockSource, file: Path, wanted: str | None, as_json: bool) -> None:
    """Write a part of `source` to a new file and say what was written."""
    with progress(f"writing {file.name}") as tell:
        copy = copy_out(source, file, wanted, tell)
    if as_json:
        print_json(copy)
        return
    click.echo(f"{copy.file}: {binary_size(copy.size)}, {binary_size(copy.data)} of it data.")
    if copy.sha256:
        click.echo(f"SHA-256 {copy.sha256}")
    else:
        click.echo(f"SHA-256 not computed over {binary_size(copy.size)}; take a part with --range to have one.")
