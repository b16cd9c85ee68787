"""What the commands share: options, the target, confirmation before anything is destroyed."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from enum import Enum
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from ..core.server.unknown import UNKNOWN
from ..media.given import text_given, toml_of, why_not

if TYPE_CHECKING:
    from datetime import datetime

    from ..bench.bench import Bench
    from ..redfish.client import Client
    from ..redfish.target import Access

F = TypeVar("F", bound=Callable[..., Any])

ATTENTION = 3
"""Exit status: done, but something needs attention."""


def json_option(command: F) -> F:
    """`--json`: one JSON document on standard output and nothing else there."""
    return click.option("--json", "as_json", is_flag=True, help="Print one JSON document.")(command)


class Finite(click.FloatRange):
    """A number within bounds; "nan" and "inf" are none."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        found = super().convert(value, param, ctx)
        if not math.isfinite(found):
            self.fail(f"{value!r} is not a number that can be worked with.", param, ctx)
        return found


FASTEST = 1e6
"""Bench seconds per second: eleven days. A clock beyond that leaves the calendar before anybody can stop it."""


def speed_option(command: F) -> F:
    """`--speed`: how fast a bench's clock runs for the command."""
    words = "Bench seconds per second (benches only)."
    return click.option("--speed", type=Finite(1, FASTEST), default=1.0, help=words)(command)


def controller_option(command: F) -> F:
    """`--controller`: which one is meant, where several have the name."""
    return click.option("--controller", metavar="ID", help="Which controller's, where several have one of that name.")(
        command
    )


def confirm_options(command: F) -> F:
    """`--yes` with `--expect-serials`, for scripts that cannot be asked."""
    command = click.option("--yes", is_flag=True, help="Do not ask (scripts); needs --expect-serials.")(command)
    return click.option(
        "--expect-serials",
        metavar="S1,S2,...",
        help="The drives' serial numbers as the script knows them; others are refused.",
    )(command)


def all_named(ctx: click.Context) -> tuple[str, ...]:
    """What --at names, list files (TOML, `servers = [...]`) read. Raises UsageError when nothing does."""
    from ..work.errors import WorkError

    found: list[str] = []
    for at in ctx.find_root().obj:
        if at.endswith(".toml") and Path(at).is_file():
            try:
                listed = toml_of(text_given(Path(at))).get("servers")
            except (OSError, ValueError) as reason:
                raise WorkError(
                    what=f"{at}: the list cannot be read: {why_not(reason)}", to_do="correct the file"
                ) from reason
            if not isinstance(listed, list) or not listed or not all(isinstance(s, str) for s in listed):
                raise WorkError(what=f"{at}: there is no list of servers in it", to_do='write servers = ["...", ...]')
            found += listed
        else:
            found.append(at)
    if not found:
        raise click.UsageError("Which server? Name it before the command: fstripe --at TARGET ... (or set FSTRIPE_AT)")
    return tuple(dict.fromkeys(found))


def named(ctx: click.Context) -> str:
    """The one server that --at names. Raises UsageError when none or several are."""
    found = all_named(ctx)
    if len(found) > 1:
        raise click.UsageError(f"This command works on one server, {len(found)} are named")
    return found[0]


def access_of(ctx: click.Context) -> Access:
    """How to reach real servers, as the options say."""
    from ..redfish.target import Access

    options = ctx.find_root().params
    ca = options.get("ca")
    trust, system = options.get("trust"), options.get("system") or ""
    return Access(Path(ca) if ca else None, trust, ask_login, _out_of_date, system)


def _out_of_date(first: datetime, last: datetime) -> None:
    """Say that a certificate is trusted in spite of its dates."""
    valid = f"{first:%Y-%m-%d} to {last:%Y-%m-%d}"
    click.echo(f"Note: the server's certificate is valid from {valid} only; trusted by its fingerprint.", err=True)


def target(ctx: click.Context, speed: float = 1.0) -> Client:
    """A Redfish client for the server that --at names; closed with the command."""
    from ..redfish.target import connect

    return ctx.with_resource(connect(named(ctx), speed, access_of(ctx)))


def ask_login(at: str) -> tuple[str, str] | None:
    """Ask a person for user and password; None where nobody can be asked."""
    if not sys.stdin.isatty():
        return None
    user = click.prompt(f"User at {at}", err=True)
    return user, click.prompt("Password", hide_input=True, err=True)


def own_bench(ctx: click.Context) -> Bench:
    """The bench folder that --at names, for the hands in the machine room; closed with the command."""
    from ..bench.bench import Bench
    from ..bench.errors import BenchError

    at = named(ctx)
    if "://" in at:
        raise BenchError(bench=at, what="a real server has no such hands", to_do="bench commands need a bench folder")
    bench = Bench(Path(at))
    ctx.call_on_close(bench.close)
    return bench


def print_json(value: object) -> None:
    """One JSON document on standard output."""
    click.echo(json.dumps(plain(value), indent=2))


def plain(value: Any) -> Any:
    """Dataclasses as dictionaries, what is unknown as null, for JSON."""
    if value is UNKNOWN:
        return None
    if isinstance(value, Enum):
        return value.value
    if is_dataclass(value) and not isinstance(value, type):
        return {f.name: plain(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, list | tuple):
        return [plain(v) for v in value]
    if isinstance(value, dict):
        return {k: plain(v) for k, v in value.items()}
    return value


def split_list(text: str) -> tuple[str, ...]:
    """The parts of a list such as `4,5,6` or `4-7`."""
    from ..bench.description import bay_labels

    return tuple(bay_labels(text))


def confirm(name: str, serials: list[str], yes: bool, expect_serials: str | None, thing: str = "volume") -> None:
    """Ask for the volume's (or other thing's) name before going on; or compare serial numbers when told not to ask.

    Raises WorkError when the answer is another, the serials are others, or nobody can answer.
    """
    from ..work.build import check_serials
    from ..work.errors import WorkError

    if yes:
        if expect_serials is None:
            raise click.UsageError("--yes needs --expect-serials, the serial numbers of the drives that are meant")
        check_serials([s for s in expect_serials.split(",") if s], serials)
        return
    if expect_serials is not None:
        check_serials([s for s in expect_serials.split(",") if s], serials)
    try:
        answer = click.prompt(f"Type the {thing}'s name ({name}) to continue", err=True, default="", show_default=False)
    except click.Abort:
        answer = ""
        click.echo(err=True)
    if answer.strip() != name:
        given = f"{answer.strip()!r} is not its name" if answer.strip() else "not confirmed"
        raise WorkError(what=f"{given}; nothing was changed", to_do="in a script, use --yes with --expect-serials")
