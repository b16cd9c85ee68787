"""The weighing command: layouts side by side, one plain sentence on top, a plot, a level explained."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .arguments import Level
from .common import Finite, json_option, named, print_json, split_list, target

if TYPE_CHECKING:
    from ..work.weigh import Assumptions, Explanation, Weight
    from .render import Part


@click.command()
@click.option("--drives", "count", type=click.IntRange(1, 256), help="How many drives.")
@click.option("--size", metavar="SIZE", help="The size of each, such as 4TB.")
@click.option("--sizes", metavar="SIZE,...", help="Instead: the size of every drive, where they differ.")
@click.option("--bays", metavar="LIST", help="Instead: the drives in these bays of the server that --at names.")
@click.option("--media", type=click.Choice(["hdd", "ssd", "nvme"]), help="What kind of drives.  [default: hdd]")
@click.option("--rpm", type=click.IntRange(3000, 20000), default=7200, show_default=True, help="Of spinning drives.")
@click.option("--rate", metavar="SIZE", help="What one drive does in sequence, per second, such as 215MB.")
@click.option("--iops", type=Finite(1, 1e9), help="Random accesses of 4 KiB per second of one drive.")
@click.option("--link", metavar="SIZE", help="What the controller's link carries per second, such as 7.9GB.")
@click.option("--failing", default=1.5, show_default=True, help="Drives that fail in a year, per cent.")
@click.option("--unreadable", default=1e-15, show_default=True, help="Unreadable bits per bit read.")
@click.option("--swap", default="24h", show_default=True, metavar="TIME", help="Until a replacement is fitted by hand.")
@click.option("--years", default=5.0, show_default=True, type=Finite(0.01, 100), help="For the chance of loss.")
@click.option("--spares", type=click.IntRange(0, 16), help="Hot spares set aside; 0 to 2 are tried without it.")
@click.option("--need", metavar="SIZE", help="Only layouts that give at least so much.")
@click.option("--survive", type=click.IntRange(0, 8), help="Only layouts that survive so many failures.  [default: 1]")
@click.option("--goal", type=click.Choice(["balance", "capacity", "safety", "speed"]), default="balance",
    show_default=True, help="What comes first: the most capacity that is safe enough, or one thing above all.",
)  # fmt: skip
@click.option(
    "--workload", type=click.Choice(["database", "machines", "files", "video", "backup"]),
    help="What it is for: adds advice on the strip size.",
)  # fmt: skip
@click.option("--plot", type=click.Path(path_type=Path), help="Draw capacity against risk into a new PNG file.")
@click.option(
    "--measured", type=click.Path(path_type=Path), help="An fio JSON result to hold against the first layout."
)
@click.option("--explain", type=Level(), metavar="LEVEL", help="Say how a level works, and nothing else.")
@json_option
@click.pass_context
def weigh(ctx: click.Context, /, explain: str | None, as_json: bool, **asked: Any) -> None:
    """Weigh the ways to use some drives: capacity, margin, speed, rebuild time, chance of losing data.

    Arithmetic only; nothing is changed. The figures compare layouts; they do not promise a date.

    \b
    Example:
      fstripe weigh --drives 9 --size 4TB
      fstripe weigh --drives 9 --size 4TB --need 20TB --survive 2 --workload files
      fstripe --at skerry weigh --bays 4-12
      fstripe weigh --explain RAID50
    """
    from ..work import weigh as work
    from .render import show

    if explain:
        found = work.explain(explain)
        if as_json:
            print_json(found)
        else:
            show(_explained(found))
        return
    sizes, assumed, working = _drives(ctx, asked)
    from ..core.units import parse_size

    need = parse_size(asked["need"]) if asked["need"] else None
    weights = work.weigh(sizes, assumed, asked["spares"])
    ranked, why = work.rank(weights, asked["goal"], need, asked["survive"])
    strips = (
        {w.name + str(w.spares): work.strip_for(w, assumed.pace, asked["workload"]) for w in ranked[:1]}
        if asked["workload"]
        else {}
    )
    held = work.compare(asked["measured"], ranked[0], assumed.link, working) if asked["measured"] else []
    if asked["plot"]:
        from .plots import plot_weights

        plot_weights(ranked, [w for w in weights if w not in ranked], asked["plot"], assumed.years)
    if as_json:
        strip = next(iter(strips.values()), None)
        advice = {"strip_bytes": strip[0], "because": strip[1]} if strip else None
        print_json({"why": why, "assumed": asdict(assumed), "strip": advice, "layouts": ranked, "measured": held})
        return
    show([*_parts(ranked, why, assumed), *_strip_lines(ranked[0], strips), *_held_lines(held, ranked[0])])
    if asked["plot"]:
        click.echo(f"Drawn into {asked['plot']}.")


def _drives(ctx: click.Context, asked: dict[str, Any]) -> tuple[list[int], Assumptions, list[str]]:
    """The drives' sizes, what is assumed of them, and work that is running on their server."""
    from ..core.units import parse_duration, parse_size
    from ..work import weigh as work

    ways = [asked["count"] is not None or asked["size"] is not None, bool(asked["sizes"]), bool(asked["bays"])]
    if sum(ways) != 1:
        raise click.UsageError("say which drives: --drives with --size, or --sizes, or --bays with --at")
    media, rpm, working = asked["media"] or "hdd", asked["rpm"], list[str]()
    if asked["bays"]:
        from ..work.survey import survey
        from .words import bay_words, reason_words, use_words, work_words

        named(ctx)
        seen = survey(target(ctx))
        sizes, media, rpm = work.of_server(seen, split_list(asked["bays"]))
        working = [f"{w.volume}: {work_words(w)}" for v in seen.volumes for w in v.work]
        for drive, reasons in work.against(seen, split_list(asked["bays"])):
            why = use_words(drive) if drive.uses else "; ".join(reason_words(r) for r in reasons)
            click.echo(f"Note: {bay_words(drive)}: {why}; it is weighed all the same.", err=True)
    elif asked["sizes"]:
        sizes = [parse_size(text) for text in asked["sizes"].split(",")]
    elif asked["count"] is None or asked["size"] is None:
        raise click.UsageError("--drives and --size go together")
    else:
        sizes = [parse_size(asked["size"])] * asked["count"]
    if not 0 < asked["failing"] < 100 or not 0 <= asked["unreadable"] < 1:
        raise click.UsageError("--failing is per cent of the drives in a year, --unreadable a chance per bit")
    rate = float(parse_size(asked["rate"])) if asked["rate"] else None
    assumed = work.Assumptions(
        pace=work.media_pace(media, rpm, rate, asked["iops"]),
        failing=asked["failing"] / 100,
        unreadable=asked["unreadable"],
        swap_hours=parse_duration(asked["swap"]) / 3600,
        years=asked["years"],
        link=float(parse_size(asked["link"])) if asked["link"] else None,
    )
    return sizes, assumed, working


def _parts(ranked: list[Weight], why: str, assumed: Assumptions) -> list[Part]:
    from ..core.units import chance, decimal_size, duration
    from ..work.weigh import SAFE
    from .render import Cell, Line, Table

    table = Table("", [
        "layout", ">spares?3", ">usable", ">margin", ">read?4", ">write?5", ">small reads?1", ">small writes?2",
        ">rebuild?6", ">loss in a rebuild?7", f">loss in {assumed.years:g} years",
    ])  # fmt: skip
    for w in ranked:
        margin = str(w.margin) if w.best == w.margin else f"{w.margin} to {w.best}"
        rates = [f"{decimal_size(int(rate))}/s" for rate in (w.read, w.write)]
        if w.limited_by_link:
            rates = [f"{rate}*" for rate in rates]
        table.add(
            w.name, str(w.spares or "-"), decimal_size(w.usable), margin, *rates, f"{w.random_reads:.0f}/s",
            f"{w.random_writes:.0f}/s", duration(w.rebuild_hours * 3600), chance(w.loss_during_rebuild),
            Cell(chance(w.loss), "" if w.loss < SAFE else "Warning"),
        )  # fmt: skip
    unequal = max(w.unequal for w in ranked)
    p = assumed.pace
    small = f"{p.reads:.0f} small reads and {p.writes:.0f} small writes a second"
    bad = f"one bit in {1 / assumed.unreadable:.0e}" if assumed.unreadable else "no bit"
    swap = duration(assumed.swap_hours * 3600)
    lines: list[Part] = [
        Line(why + ".", "head"),
        table,
        Line(
            f"Assumed of a drive: {decimal_size(int(p.rate))}/s, {small}, {assumed.failing * 100:g} % fail in a year, "
            f"{bad} cannot be read; without a spare a replacement is fitted after {swap}. "
            "A single sector that can be neither read nor computed counts as lost data.",
            "dim",
        ),
    ]
    if any(w.limited_by_link for w in ranked):
        lines.append(Line(f"* the link carries no more than {decimal_size(int(assumed.link or 0))}/s", "Warning"))
    if unequal:
        lines.append(Line(f"The drives differ in size: up to {decimal_size(unequal)} of them stay unused.", "Warning"))
    return lines


def _strip_lines(first: Weight, strips: dict[str, tuple[int, str]]) -> list[Part]:
    from ..core.units import binary_size
    from .render import Line

    return [
        Line(f"Strip size for {first.name}: {binary_size(strip)}: {because}.") for strip, because in strips.values()
    ]


def _held_lines(held: list[Any], first: Weight) -> list[Part]:
    from .render import Line, Table

    if not held:
        return []
    table = Table("", ["measured", ">result", ">estimate", ">share", "says"])
    for m in held:
        table.add(m.what, f"{m.measured:,.0f}", f"{m.estimate:,.0f}", f"{m.share:.0%}", m.says)
    return [Line(f"Measured, beside the estimate for {first.name}:", "head"), table]


def _explained(found: Explanation) -> list[Part]:
    from .render import Line, Table

    table = Table("", [f">member {m}" for m in range(len(found.drawing[0]))])
    if len(found.drawing[0]) == 1:
        table = Table("", ["members, one after the other"])
    for row in found.drawing:
        table.add(*row)
    parity = any(cell in ("P", "Q") for row in found.drawing for cell in row)
    legend = "Numbers are the volume's strips in order" + ("; P and Q are parity." if parity else ".")
    return [Line(found.level, "head"), *(Line(text) for text in found.sentences), table, Line(legend, "dim")]
