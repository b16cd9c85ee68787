"""What people type, where they mean it: options of the tool after the command, trade verbs, levels as they are said."""

from __future__ import annotations

import difflib
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
from click.shell_completion import CompletionItem

from ..core.units import SizeError, parse_duration, parse_size
from .completing import levels

OF_THE_TOOL = ("--at", "--ca", "--trust")
"""Options that stand before the command, and may stand after it."""
OF_COMMANDS = ("--speed",)
"""Options that stand after the command, and may stand before it."""

TRADE = {
    "create": "volume add NAME --level LEVEL --bays BAYS", "make": "volume add NAME --level LEVEL --bays BAYS",
    "delete": "volume remove NAME", "remove": "volume remove NAME", "status": "survey", "show": "survey",
    "list": "survey", "info": "survey", "disks": "survey", "drives": "survey", "events": "log", "monitor": "watch",
    "blink": "locate DRIVE", "identify": "locate DRIVE", "replace": "swap DRIVE", "rebuild": "volume rebuild NAME",
    "import": "volume adopt NAME",
    "initialize": "volume initialize NAME", "scrub": "volume check NAME", "check": "volume check NAME",
    "bios": "firmware show", "update": "firmware update FILE", "reboot": "firmware restart",
    "restart": "firmware restart", "hotspare": "spare add BAY", "recover": "lineup solve",
    "simulate": "bench new NAME", "help": "--help",
}  # fmt: skip
"""Verbs of the trade, and what serves them here."""

INSIDE = {
    "volume": {"create": "add", "make": "add", "delete": "remove", "destroy": "remove", "list": "show", "info": "show",
               "status": "show", "import": "adopt", "clear": "forget", "scrub": "check",
               "verify": "check", "init": "initialize", "resize": "set", "modify": "set"},
    "spare": {"create": "add", "delete": "remove", "assign": "add", "unassign": "remove"},
    "firmware": {"list": "show", "get": "show", "reboot": "restart", "reset": "restart", "flash": "update",
                 "change": "set"},
    "stock": {"create": "add", "show": "list", "find": "match", "search": "match"},
    "bench": {"create": "new", "make": "new", "insert": "seat", "eject": "pull", "fail": "fault", "break": "fault"},
    "lineup": {"detect": "solve", "find": "solve", "verify": "prove", "check": "prove", "ls": "files",
               "diff": "compare", "undelete": "files",
               "mount": "serve", "plot": "draw", "export": "extract", "import": "adopt", "restore": "adopt"},
    "controller": {"list": "show", "change": "set", "get": "show"},
}  # fmt: skip


def arranged(words: Sequence[str], commands: Sequence[str]) -> list[str]:
    """A command line with each option on its side of the command; what follows `--` stays."""
    before: list[str] = []
    after: list[str] = []
    rest = list(words)
    seen = False
    while rest:
        word = rest.pop(0)
        if word == "--":
            return [*before, *after, word, *rest]
        name, equals, _value = word.partition("=")
        value = [] if equals or not rest or name not in OF_THE_TOOL + OF_COMMANDS else [rest.pop(0)]
        if name in OF_THE_TOOL:
            before += [word, *value]
        else:
            seen = seen or word in commands
            (after if seen or name in OF_COMMANDS else before).extend([word, *value])
    first = next((i for i, word in enumerate(after) if word in commands), None)
    if first is None:
        return list(words)
    early, late = after[:first], after[first:]  # --speed and its value, which stood before the command
    return [*before, *late, *early]


def trade_verb(group: str, word: str, known: Sequence[str]) -> str:
    """What to say to a word that is no command of a group ("" for the tool itself)."""
    meant = TRADE.get(word.lower(), "") if not group else INSIDE.get(group, {}).get(word.lower(), "")
    if meant and group:
        meant = f"{group} {meant}"
    if meant:
        return f"{word!r} is called otherwise here: fstripe {meant}"
    near = difflib.get_close_matches(word.lower(), known, 1)
    return f"No such command {word!r}" + (f"; is {near[0]!r} meant?" if near else "")


Resolved = tuple[str | None, click.Command | None, list[str]]


class Family(click.Group):
    """A group of commands that knows the trade's verbs for them."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and not args[0].startswith("-") and self.get_command(ctx, args[0]) is None:
            raise click.UsageError(trade_verb(str(self.name), args[0], self.list_commands(ctx)), ctx)
        return super().resolve_command(ctx, args)


class Level(click.ParamType[str]):
    """A RAID level as people say it: RAID5, raid-5, 5."""

    name = "level"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        found = re.sub(r"[\s_-]", "", str(value)).upper()
        return f"RAID{found}" if re.match(r"\d", found) else found

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        return levels(incomplete)


class ImageOfBay(click.ParamType[tuple[str, Path]]):
    """BAY=IMAGE: an image of the drive of a bay."""

    name = "bay=image"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, Path]:
        bay, sign, image = str(value).partition("=")
        if not (bay and sign and image):
            self.fail(f"{value!r}: expected BAY=IMAGE, such as 4=bay4.img", param, ctx)
        return bay, Path(image)


class Bytes(click.ParamType[int]):
    """A size as people write it: 64KiB, 1MiB, 512."""

    name = "size"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> int:
        if isinstance(value, int):
            return value
        try:
            return int(str(value)) if str(value).isdecimal() else parse_size(str(value))
        except SizeError as reason:
            self.fail(str(reason), param, ctx)


class Seconds(click.ParamType[float]):
    """A time as people write it: 90s, 10m."""

    name = "time"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, float):
            return value
        try:
            seconds = parse_duration(str(value))
        except SizeError as reason:
            self.fail(str(reason), param, ctx)
        if seconds <= 0:
            self.fail("it must be longer than 0 s", param, ctx)
        return seconds
