"""What the recovery commands show of an array: its order, its verdicts, the map of its rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ..core.formats.lvm import NotRead

NOT_READ = {
    NotRead.ELSEWHERE: "not read: it needs another physical volume",
    NotRead.KIND: "not read: a mirror, thin or a snapshot",
    NotRead.BROKEN: "not read: its description contradicts itself",
}

LEAST_SHOWN = 0.5
"""Of answers on such signs, the share that was right, below which an undecided layout is not laid out: a table of
positions is read as an order, whatever stands above it."""

if TYPE_CHECKING:
    from ..core.lineup.document.four_verdicts import Verdicts
    from ..core.lineup.document.lineup_document import Lineup, Solution
    from ..core.lineup.document.other_parity import SecondParity
    from .render import Part


def array_parts(array: Lineup, number: int, explain: bool) -> list[Part]:
    """One array in full."""
    from ..core.lineup.document.four_verdicts import Sure
    from ..core.units import binary_size, decimal_size
    from .evidence_words import alike, says, settles
    from .lineup_words import growing, layout_words, measured, share, strength
    from .render import Line, Table

    made = array.geometry
    layout = "".join(f", {w}" for w in layout_words(made.layout))
    counted = {"other": "not counted as here"}.get(made.layout.q_exponent or "", made.layout.q_exponent)
    q = f", Q {made.layout.q_place} ({counted})" if made.layout.q_place else ""
    spans = f" in {made.layout.spans} spans" if made.layout.spans > 1 else ""
    strip = f"strip {binary_size(made.strip_bytes)}{layout}{q}"
    if made.layout.level == "SPAN":
        strip = "one after the other"
    whole = f"{made.layout.level} of {made.members}{spans}, {strip}"
    head = f"Array {number}: {whole}"
    undecided = array.verdicts.order.sure is Sure.UNDECIDED
    open_ = undecided and (strength(array.best - array.next) == "none" or not array.named)
    if open_:  # others fit as well: none is named as if it were known
        count = sum(name is not None for name in array.members)
        head = f"Array {number}: {count} images that may belong together; their layout is undecided"
    table = Table("", [">position", "image"])
    gone = "(missing, computed from the others)" if made.redundant else "(missing)"
    for position, name in enumerate(array.members):
        table.add(str(position), name or gone)
    seats = dict(array.seats)
    for name in array.stale:
        table.add(f"out of date{f', {seats[name]}' if name in seats else ''}", name)
    evidence = Table("", ["evidence", ">count", "says"])
    for e in array.evidence:
        evidence.add(e.kind, str(e.count), says(e))
    start = f", data from byte {made.start_bytes[0]}" if any(made.start_bytes) else ""
    size = f"volume of {decimal_size(array.volume_bytes)} ({array.volume_bytes} bytes){start}"
    parts: list[Part] = [Line(head, "head")]
    settle = [Line(f"What would settle it: {settles(array.settle)}")] if array.settle else []
    if open_ and not explain and array.chance is not None and array.chance < LEAST_SHOWN:
        guess = f"No layout stands out. The nearest is a guess, right in {share(array.chance)} on such signs"
        parts.append(Line(f"{guess}; --explain shows it.", "Warning"))
        parts.append(Line(f"Images: {', '.join(sorted(name for name in array.members if name))}"))
        return [*parts, *verdict_parts(array.verdicts), *settle, evidence]
    parts += [Line(f"One layout that fits, of several: {whole}; {size}", "Warning")] if open_ else [Line(size)]
    parts += [Line(text, "Warning") for text in growing(array)]
    parts.append(table)
    parts += held_parts(array)
    parts += [*verdict_parts(array.verdicts), *map_parts(array)]
    number_of = f" ({array.best:.0f}, the next answer {array.next:.0f})" if explain else ""
    parts.append(Line(f"Lead over the next different answer: {strength(array.best - array.next)}{number_of}.", "dim"))
    if text := measured(array):
        parts.append(Line(text))
    parts += settle
    parts += [Line(f"Cannot be told apart: {alike(one)}") for one in array.alternatives]
    return [*parts, *(ledger_parts(array) if explain else []), evidence]


def ledger_parts(array: Lineup) -> list[Part]:
    """What the score consists of, beside that of the next answer."""
    from ..core.lineup.document.ledger import total
    from .lineup_words import WEIGHED
    from .render import Table

    mine = {entry.kind: entry for entry in array.ledger}
    next_ = {entry.kind: entry for entry in array.rival}
    if not mine:
        return []
    table = Table("", ["weighed", ">agree", ">against", ">weight", ">next answer's"])
    for kind, words in WEIGHED.items():
        if kind in mine or kind in next_:
            entry, other = mine.get(kind), next_.get(kind)
            counts = [str(n) if n else "-" for n in ((entry.agree, entry.contrary) if entry else (0, 0))]
            table.add(words, *counts, *(f"{e.nats:+.1f}" if e else "-" for e in (entry, other)))
    last = f"{array.best:+.1f}", f"{total(array.rival):+.1f}" if array.rival else "-"
    table.add("all of it", "", "", *last)
    return [table]


def held_parts(array: Lineup) -> list[Part]:
    """What stands on the volume."""
    from ..core.units import binary_size
    from .render import Line, Table

    if len(array.holds) == 1 and not array.holds[0].number:
        what = array.holds[0].what or "zeros at its start"
        hidden = ": what is inside cannot be read without its key" if "encryption" in what else ""
        return [Line(f"It holds: {what}{hidden}.")]
    table = Table("", ["part", ">from byte", ">size", "holds"])
    for one in array.holds:
        part = one.name or (f"partition {one.number}" if one.number else "the volume")
        pieces = f" ({len(one.pieces)} pieces)" if one.pieces else ""
        at = "-" if one.not_read else str(one.start)
        table.add(
            part, at, binary_size(one.length) + pieces, NOT_READ[one.not_read] if one.not_read else one.what or "-"
        )
    return [table] if array.holds else []


SECONDS = {
    "diagonal": "runs along diagonals of the strips, which is not read here",
    "unknown": "is computed in no way that is known here, or is spare space",
}


def second_parity_lines(other: SecondParity) -> list[Part]:
    """An array of which nothing but its parities is known."""
    from ..core.units import binary_size
    from .render import Line

    second = SECONDS.get(other.kind.value, f"is Q over the polynomial {other.polynomial:#x}, and no order was found")
    return [
        Line(f"{len(other.images)} images are one array with two parities; its layout is undecided", "Warning"),
        Line(f"  P matches at {other.matching} of {other.places} places; strips of {binary_size(other.strip)}"),
        Line(f"  the second parity moves by one member each row; it {second}"),
        Line(f"  members round the circle, not known from which on: {', '.join(other.images)}"),
        Line("  What would settle it: the controller's own configuration"),
        Line(),
    ]


def given_parts(solution: Solution) -> list[Part]:
    """What a person knew, held against what the images say."""
    from ..core.units import binary_size
    from .render import Line, Table

    given = solution.given
    if given is None:
        return []
    words = [given.level] if given.level else []
    words += [f"strip {binary_size(given.strip_bytes)}"] if given.strip_bytes is not None else []
    words += [f"start at byte {given.start_bytes}"] if given.start_bytes is not None else []
    words += [f"{given.count} members"] if given.count else []
    words += [f"order {', '.join(Path(name).name for name in given.order)}"] if given.order else []
    head = f"Given: {'; '.join(words)}."
    if not solution.differences:
        return (
            [Line(f"{head} The images say the same by themselves.", "good")]
            if not solution.unmet
            else [Line(f"{head} No array like that was found.", "Critical")]
        )
    table = Table("", ["", "given", "the images say"])
    for one in solution.differences:
        sized = one.what in ("strip", "start") and one.found.isdecimal()
        given_, found = (binary_size(int(word)) if sized else Path(word).name for word in (one.given, one.found))
        table.add(one.what, given_, found)
    if solution.unmet:
        says = "No array like that was found; this is what the images say by themselves."
        return [Line(f"{head} {says}", "Critical"), table]
    return [Line(f"{head} The array above is so; by themselves, the images rather say:", "Critical"), table]


def verdict_parts(verdicts: Verdicts) -> list[Part]:
    """The four verdicts."""
    from .lineup_words import lines
    from .render import Cell, Table

    table = Table("", ["verdict", "", "because"])
    for name, sure, why, style in lines(verdicts):
        table.add(name, Cell(sure, style), why)
    return [table]


def map_parts(array: Lineup) -> list[Part]:
    """The map of rows, summed up; nothing where there is none."""
    from .lineup_words import summary
    from .render import Table

    if array.rowmap is None:
        return []
    table = Table("", [">rows", "state"])
    for count, text in summary(array.rowmap, array.seated):
        table.add(count, text)
    return [table]
