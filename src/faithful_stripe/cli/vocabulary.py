"""One vocabulary: each word, what it means, the words of others for it, and the command that serves it."""

from __future__ import annotations

import difflib
from dataclasses import dataclass

import click

from .arguments import TRADE
from .common import json_option, print_json


@dataclass(frozen=True)
class Word:
    """One word, its meaning, what others call it, and a command where it is met."""

    word: str
    means: str
    others: tuple[str, ...] = ()
    command: str = ""


def _word(word: str, means: str, others: str = "", command: str = "") -> Word:
    return Word(word, means, tuple(o for o in others.split(", ") if o), command)


WORDS: tuple[Word, ...] = (
    _word("drive", "The hardware: one disk or solid-state drive.", "disk, physical disk, PD", "survey"),
    _word("image", "A file that holds a drive's content.", "dump", "lineup solve IMAGE..."),
    _word(
        "volume",
        "What the server sees as one disk; the controller makes it of drives.",
        "virtual drive, logical drive, VD, LUN, array",
        "volume show NAME",
    ),
    _word("array", "In recovery only: the set of members that belong together.", "", "lineup solve IMAGE..."),
    _word("member", "A drive of an array.", "component, leg", "volume show NAME"),
    _word("position", "A member's place in its array, counted from 0.", "slot, index", "volume show NAME"),
    _word("bay", "Where a drive is seated, by the label on the server.", "slot", "bays"),
    _word("span", "One inner array of a nested level, such as RAID 50.", "leg, group, sub-array", "weigh"),
    _word(
        "concatenated",
        "Members one after the other, without stripes; the level is written SPAN.",
        "JBOD, linear, append",
        "volume add NAME --level SPAN",
    ),
    _word("strip", "One member's piece of a row.", "chunk, stripe unit, block", "volume add NAME --strip 64KiB"),
    _word("row", "One strip from each member.", "stripe", "lineup draw LINEUP"),
    _word(
        "parity",
        "Computed from a row's data, so that a missing strip can be computed again: P; for RAID 6 also Q.",
        "",
        "weigh --explain RAID5",
    ),
    _word("mirror", "Members that hold the same.", "RAID 1", "weigh --explain RAID1"),
    _word(
        "margin",
        "How many more members may fail, whichever they are, before data are lost.",
        "redundancy, fault tolerance",
        "survey",
    ),
    _word("missing", "Said of a member that cannot be read now.", "lost, absent", "volume show NAME"),
    _word("offline", "Said of a volume that cannot be read and may return.", "failed", "survey"),
    _word("lost", "Said of bytes that are gone for good, and of nothing else.", "", "volume show NAME"),
    _word("degraded", "A volume that lacks a member and can still be read.", "critical", "survey"),
    _word("failed", "A drive that does not answer any more.", "dead", "survey"),
    _word(
        "predicted to fail",
        "A drive that says it will fail, and still works.",
        "SMART alert, predictive failure",
        "survey",
    ),
    _word("out of date", "A member that was away while its volume was written.", "stale", "volume found"),
    _word("free", "A drive that nothing uses.", "unassigned, available", "survey"),
    _word("hot spare", "A free drive that is used by itself when a member fails.", "standby", "spare add BAY"),
    _word("global", "A hot spare for any volume.", "", "spare add BAY"),
    _word("dedicated", "A hot spare for the volumes it is named for.", "", "spare add BAY --for NAME"),
    _word("revertible", "A hot spare that is free again once the failed drive was replaced.", "", "spare add BAY"),
    _word("rebuild", "Computing a missing member onto another drive.", "resync, reconstruct", "volume rebuild NAME"),
    _word("copy", "Moving a member from bay to bay while it still works.", "migrate", "watch"),
    _word("check", "Comparing a volume's copies or parity with its data.", "scrub, verify", "volume check NAME"),
    _word("repair", "Changing what a check found wrong.", "mend, fix", "volume check NAME --repair"),
    _word(
        "initialize",
        "Writing a volume so that its parity is true everywhere.",
        "format, background init",
        "volume initialize NAME",
    ),
    _word("replace", "Taking a drive out and putting another in.", "swap, exchange", "swap DRIVE"),
    _word("locate", "Switching a drive's identify LED.", "blink, identify, beacon", "locate DRIVE"),
    _word("stock", "The spare drives that are at hand, as a list.", "spares cupboard, inventory", "stock list"),
    _word("firmware", "The server's own settings, and the programs of its parts.", "BIOS, UEFI setup", "firmware show"),
    _word("boot order", "What the server starts from, in order.", "boot sequence", "boot NAME"),
    _word(
        "simulator",
        "A server that `bench` makes: real image files, a real controller's work.",
        "bench, emulator",
        "bench new NAME",
    ),
    _word(
        "found volume",
        "A volume that seated drives describe and this controller does not use.",
        "import",
        "volume found",
    ),
    _word(
        "lineup",
        "An array's complete reconstruction: level, members in order, strip, rotation, start.",
        "RAID recovery",
        "lineup solve IMAGE...",
    ),
    _word(
        "rotation",
        "How parity moves from row to row: parity-0, parity-N, fixed-0, fixed-N.",
        "layout, algorithm",
        "weigh --explain RAID5",
    ),
    _word("build sheet", "A file that says what a server is to be.", "template, profile", "build SHEET"),
    _word("restart", "Of a server.", "reboot, reset", "firmware restart"),
    _word("resume", "Of work that was interrupted.", "continue, restart", "swap --resume"),
    _word("report", "The service record of a visit.", "log", "report FILE"),
)


def found(term: str) -> list[Word]:
    """The words that a term names, ours or others'; [] for none."""
    low = term.casefold().strip()
    exact = [w for w in WORDS if w.word == low]
    return exact + [w for w in WORDS if low in (o.casefold() for o in w.others) and w not in exact]


@click.command()
@click.argument("term", nargs=-1)
@json_option
@click.pass_context
def words(ctx: click.Context, term: tuple[str, ...], as_json: bool) -> None:
    """What a word means here, ours or the trade's, and which command serves it; all of ours without TERM.

    \b
    Example:
      fstripe words stripe
    """
    from .render import Line, Table, show

    wanted = " ".join(term)
    shown = found(wanted) if wanted else list(WORDS)
    if as_json:
        print_json(shown)
    elif shown:
        table = Table("", ["word", "means", "others say?1", "command"])
        for w in shown:
            table.add(w.word, w.means, ", ".join(w.others), f"fstripe {w.command}" if w.command else "")
        show([table])
    elif wanted.casefold() in TRADE:
        show([Line(f"{wanted}: fstripe {TRADE[wanted.casefold()]}")])
    else:
        known = [w.word for w in WORDS] + [o for w in WORDS for o in w.others]
        near = difflib.get_close_matches(wanted, known, 3)
        meant = f"is one of these meant: {', '.join(near)}?" if near else "all of them: fstripe words"
        raise click.ClickException(f"{wanted!r} is no word of ours, nor one that we know for them; {meant}")
    ctx.exit(0)


def page() -> str:
    """The vocabulary as a page of the manual (Markdown)."""
    lines = [
        "# Words",
        "",
        "One meaning each, everywhere a person reads. `fstripe words TERM` says the same. This page is made from",
        "`cli/vocabulary.py` by `tools/make_manual.py`.",
        "",
        "| word | means | others say | command |",
        "|---|---|---|---|",
    ]
    for w in WORDS:
        command = f"`fstripe {w.command}`" if w.command else ""
        lines.append(f"| {w.word} | {w.means} | {', '.join(w.others)} | {command} |")
    return "\n".join(lines) + "\n"
