"""Completion of what a person types: bays, serial numbers, volumes and firmware attributes, as they were seen last.

The server is not asked: nobody waits for it while typing.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from ..work.remembered import Names

LEVELS = ("RAID0", "RAID1", "RAID1E", "RAID10", "RAID4", "RAID5", "RAID50", "RAID6", "RAID60", "SPAN")


def _names(ctx: click.Context) -> Names:
    from ..work.remembered import Names, names_at

    at = ctx.find_root().params.get("at") or [a for a in [os.environ.get("FSTRIPE_AT")] if a]
    return names_at(at[0]) if len(at) == 1 else Names()


def _items(known: Iterable[str], incomplete: str, before: str = "") -> list[CompletionItem]:
    low = incomplete.casefold()
    return [CompletionItem(before + one) for one in known if one.casefold().startswith(low)]


def volumes(ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Names of volumes."""
    return _items(_names(ctx).volumes, incomplete)


def bays(ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """One bay, or the last of a list with commas."""
    before, comma, last = incomplete.rpartition(",")
    return _items(_names(ctx).bays, last, before + comma)


def serials(ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Serial numbers of drives."""
    return _items(_names(ctx).serials, incomplete)


def drives(ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Bays and serial numbers."""
    names = _names(ctx)
    return _items((*names.bays, *names.serials), incomplete)


def attributes(ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Names of firmware attributes, with the `=` that follows."""
    return [] if "=" in incomplete else _items((f"{name}=" for name in _names(ctx).attributes), incomplete)


def levels(incomplete: str) -> list[CompletionItem]:
    """Levels, as they are called or by their number alone."""
    found = [one for one in LEVELS if one.casefold().startswith(incomplete.casefold())]
    return _items(found or [one for one in LEVELS if one.removeprefix("RAID").startswith(incomplete)], "")


def benches(_ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Folders here that are simulated servers."""
    try:
        known = sorted(path.parent.name for path in Path.cwd().glob("*/bench.toml"))
    except OSError:
        return []
    return _items(known, incomplete)
