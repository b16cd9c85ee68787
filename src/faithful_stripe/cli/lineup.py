"""The recovery commands, one family."""

from __future__ import annotations

import click

from .adopting import adopt
from .arguments import Family
from .comparing import compare
from .drawing import draw
from .file_commands import copy_out, files
from .handing_over import extract, serve
from .lineup_report import lineup_report
from .proving import prove
from .solving import solve


@click.group(cls=Family)
def lineup() -> None:
    """Reconstruct an array's member order from drive images, and hand the volume over.

    Images are opened read-only, always.

    \b
    Example:
      fstripe lineup solve pile/*.img --out found.toml
      fstripe lineup extract found.toml volume.img
    """


for command in (solve, prove, compare, draw, files, copy_out, extract, serve, adopt, lineup_report):
    lineup.add_command(command)
