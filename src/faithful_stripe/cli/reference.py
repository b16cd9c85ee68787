"""The command reference: every command with its arguments, options and examples, from the commands themselves."""

from __future__ import annotations

from collections.abc import Iterator

import click

from .main import COMMANDS, STAGES, fstripe

HEAD = """# Commands

Written from the program itself (`tools/make_manual.py`); `fstripe COMMAND --help` says the same.

Every command takes `--json` where it prints something: one JSON document on standard output, nothing else there.
`--at TARGET` stands before or after the command: a bench folder or an `https://` address; also in `FSTRIPE_AT`.

| exit status | means |
|---|---|
| 0 | done and healthy |
| 1 | could not be done: one line says what, why, and what to do |
| 2 | wrong usage |
| 3 | done, and something needs attention |
"""


def page() -> str:
    """The reference as Markdown."""
    parts = [HEAD]
    context = click.Context(fstripe, info_name="fstripe")
    parts.append("## fstripe\n\n" + "\n".join(_options(fstripe, context)))
    for stage in STAGES:
        parts.append(f"\n## Stage: {stage}\n")
        for name in (n for n, entry in COMMANDS.items() if entry.stage == stage):
            command = fstripe.get_command(context, name)
            assert command is not None
            parts += _command(command, context, f"fstripe {name}", 3)
    return "\n".join(parts).rstrip() + "\n"


def _command(command: click.Command, parent: click.Context, path: str, depth: int) -> Iterator[str]:
    context = click.Context(command, info_name=path.rpartition(" ")[2], parent=parent)
    yield f"{'#' * depth} {path}\n"
    usage = " ".join(command.collect_usage_pieces(context))
    yield f"```\n{path} {usage}\n```\n"
    yield _text(command.help or "")
    yield from _options(command, context)
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            assert inner is not None
            yield from _command(inner, context, f"{path} {name}", min(depth + 1, 4))


def _text(told: str) -> str:
    """A help text as Markdown: its paragraphs as they are, its examples as they are typed."""
    made = []
    for paragraph in told.split("\n\n"):
        if "\b" in paragraph:
            lines = [line for line in paragraph.replace("\b", "").strip("\n").split("\n") if line.strip()]
            made.append(f"{lines[0].strip()}\n\n```\n" + "\n".join(line.strip() for line in lines[1:]) + "\n```")
        else:
            made.append(" ".join(paragraph.split()))
    return "\n\n".join(made) + "\n"


def _options(command: click.Command, context: click.Context) -> Iterator[str]:
    rows = []
    for option in command.params:
        told = option.get_help_record(context) if isinstance(option, click.Option) else None
        if told:
            rows.append("| `" + told[0].replace("|", "\\|") + "` | " + told[1].replace("|", "\\|") + " |")
    if rows:
        yield "| option | |\n|---|---|\n" + "\n".join(rows) + "\n"
