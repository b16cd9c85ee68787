"""The `fstripe` command: the stages of the job, each command loaded only when it is asked for."""

from __future__ import annotations

import codecs
import importlib
import json
import os
import shlex
import signal
import sys
from io import TextIOWrapper
from typing import Any, NamedTuple

import click

from ..core.errors import StripeError
from ..core.visible import visible
from ..redfish.address import check_address
from .arguments import arranged, trade_verb
from .completing import benches


class Entry(NamedTuple):
    """A command in the table: its stage, where it lives, and its line in the help."""

    stage: str
    module: str
    name: str
    help: str


COMMANDS: dict[str, Entry] = {
    "survey": Entry("look", "survey", "survey", "What is in the server, what it is used for, what needs attention."),
    "bays": Entry("look", "survey", "bays", "Draw the front panel: what is in which bay."),
    "log": Entry("look", "log", "log", "The server's events, in order."),
    "watch": Entry("look", "watch", "watch", "Follow rebuilds, copies and checks until they are done."),
    "words": Entry("look", "vocabulary", "words", "What a word means here, and which command serves it."),
    "firmware": Entry("prepare", "firmware", "firmware", "Firmware settings: show, set, restart and read again."),
    "ready": Entry("prepare", "ready", "ready", "Is the server ready to be installed and to boot? One checklist."),
    "weigh": Entry("prepare", "weigh", "weigh", "Weigh the layouts: capacity, margin, speed, risk."),
    "build": Entry("build", "sheet", "build", "Bring a server to what a build sheet says: plan, agree, carry out."),
    "volume": Entry("build", "rescuing", "volume", "Create, show, check, rebuild, rescue, adopt and remove volumes."),
    "spare": Entry("build", "spares", "spare", "Hot spares: add and remove."),
    "controller": Entry("build", "spares", "controller", "What a controller does by itself, and how fast."),
    "boot": Entry("build", "firmware", "boot", "Put a volume first in the boot order."),
    "locate": Entry("keep", "keep", "locate", "Let a drive's identify LED blink."),
    "swap": Entry("keep", "swap", "swap", "Replace a drive, guided: every step verified by reading."),
    "stock": Entry("keep", "keep", "stock", "The stock: what replacement drives there are, and what fits."),
    "report": Entry("keep", "report", "report", "The service record of a visit: a page, Markdown, JSON."),
    "rehearse": Entry("keep", "rehearse", "rehearse", "Try commands on a copy of a server first."),
    "lineup": Entry("recover", "lineup", "lineup", "Reconstruct an array's member order from drive images."),
    "bench": Entry(
        "bench", "hands", "bench", "The simulated server: create one, and be the hands in its machine room."
    ),
    "demo": Entry("bench", "demo", "demo", "A lesson of 90 seconds in five chapters; `demo all`: the whole job."),
}
STAGES = ("look", "prepare", "build", "keep", "recover", "bench")


class Stages(click.Group):
    """A group that lists its commands by the stages of the job and loads them one at a time."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and not args[0].startswith("-") and args[0] not in COMMANDS:
            raise click.UsageError(trade_verb("", args[0], self.list_commands(ctx)), ctx)
        return super().resolve_command(ctx, args)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        entry = COMMANDS.get(name)
        if entry is None:
            return None
        module = importlib.import_module(f"{__package__}.{entry.module}")
        command: click.Command = getattr(module, entry.name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for stage in STAGES:
            rows = [(name, entry.help) for name, entry in COMMANDS.items() if entry.stage == stage]
            if rows:
                with formatter.section(stage.capitalize()):
                    formatter.write_dl(rows)


@click.command(
    cls=Stages,
    invoke_without_command=True,
    epilog="Exit status: 0 done and healthy, 1 could not be done, 2 wrong usage, 3 needs attention.",
)
@click.option(
    "--at",
    metavar="TARGET",
    multiple=True,
    shell_complete=benches,
    help="The server: a bench folder or an https:// address; `survey`, `log`, `watch` take several. Or FSTRIPE_AT.",
)
@click.option(
    "--ca", type=click.Path(), metavar="FILE", help="Certificates (PEM) that are trusted besides the system's."
)
@click.option(
    "--trust", metavar="FINGERPRINT", help="SHA-256 of the server's own certificate, when you have checked it."
)
@click.option("--system", metavar="NAME", help="The one that is meant of several systems behind one address.")
@click.version_option(package_name="faithful-stripe", message="%(version)s")
@click.pass_context
def fstripe(ctx: click.Context, at: tuple[str, ...], ca: str | None, trust: str | None, system: str | None) -> None:
    """RAID for the server technician, from the empty server to the worst day.

    \b
    Example: create a simulated server and look at it
      fstripe bench new skerry
      fstripe --at skerry survey
    """
    environment = os.environ.get("FSTRIPE_AT")
    ctx.obj = at or ((environment,) if environment else ())
    for target in ctx.obj:
        if "://" in target:
            check_address(target)  # before anything is noted of it
    if ctx.invoked_subcommand is None:
        from .welcome import welcome

        welcome(ctx.obj)
    called[:] = [*ctx.obj[:1], ctx.invoked_subcommand or ""] if len(ctx.obj) == 1 else []


called: list[str] = []
"""The one server that --at names and the command, once they are known."""

CHANGING = {
    "firmware": ("set", "restart", "update"), "spare": ("add", "remove"), "controller": ("set",), "boot": (),
    "volume": ("add", "set", "remove", "initialize", "check", "rebuild", "rescue", "adopt", "forget"),
    "build": (), "swap": (),
}  # fmt: skip
"""Commands, with their subcommands, that change a server: they are noted for its service record."""


def _note(status: Any) -> None:
    """Note a command that changed a server; nothing secret is ever among its words."""
    if len(called) != 2 or called[1] not in CHANGING or "--check" in sys.argv or "--help" in sys.argv or status == 2:
        return
    words = CHANGING[called[1]]
    if not words or any(word in sys.argv for word in words):
        from ..work.visits import note

        note(called[0], "command", command=shlex.join(["fstripe", *sys.argv[1:]]), status=status or 0)


BOXES = str.maketrans("┌┬┐├┼┤└┴┘─│…·•×✓", "+++++++++-|.*.xv")
"""Drawn characters, and what stands for them where the terminal has none."""


def _plain(error: UnicodeError) -> tuple[str | bytes, int]:
    """What a terminal cannot show, as it can: lines of a drawing plain, all else spelled out."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    part = error.object[error.start : error.end].translate(BOXES)
    return part.encode("ascii", "backslashreplace").decode("ascii"), error.end


codecs.register_error("plain", _plain)


def run() -> None:
    """Run the command line: errors become one line and an exit status here, and nowhere else."""
    status: Any
    for pool in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"):
        os.environ.setdefault(pool, "1")  # the solver's matrices are small: more threads wait for one another
    for number in (signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(number) is signal.SIG_DFL:
            signal.signal(number, _ended)  # what is open is closed, and sessions are logged out
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, TextIOWrapper):  # names of files may be no UTF-8, and the terminal something else
            stream.reconfigure(errors="plain")
    try:
        words = arranged(sys.argv[1:], list(COMMANDS))
        status = fstripe.main(words, prog_name="fstripe", standalone_mode=False)
    except click.exceptions.NoArgsIsHelpError as asked:
        click.echo(asked.format_message(), err=True)
        status = 2
    except click.UsageError as wrong:
        help_command = f"{wrong.ctx.command_path} --help" if wrong.ctx else "fstripe --help"
        status = _say(wrong.format_message().rstrip("."), f"see {help_command}", 2)
    except click.ClickException as trouble:
        status = _say(trouble.format_message(), "", trouble.exit_code)
    except click.Abort:
        click.echo(err=True)  # the line of the question, or of the ^C, is not over
        status = _say("stopped", "what was done until then is kept", 1)
    except StripeError as trouble:
        from .trouble import trouble_words

        status = _say(*trouble_words(trouble), trouble.exit_status)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # the reader has left; so may we
        status = 1
    except OSError as trouble:  # a full or failing disk, wherever it was met
        where = f"{trouble.filename}: " if trouble.filename else ""
        status = _say(f"{where}{trouble.strerror or trouble}", "check the disk; what was done until then is kept", 1)
    code = status if isinstance(status, int) else 0
    _note(code)
    sys.exit(code)


def _ended(number: int, _frame: object) -> None:
    sys.exit(128 + number)


def _say(what: str, to_do: str, status: int) -> int:
    """One line on standard error; with --json also a document, so that a script always gets one."""
    click.echo(visible(f"fstripe: {what}; {to_do}" if to_do else f"fstripe: {what}"), err=True)
    if "--json" in sys.argv:
        click.echo(json.dumps({"error": {"what": what, "to_do": to_do, "exit_status": status}}))
    return status
