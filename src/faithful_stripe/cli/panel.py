"""The front panel drawn in text: bays as a person standing before the server sees them."""

from __future__ import annotations

import os
import sys
import textwrap
from typing import TYPE_CHECKING

from ..core.server.redundancy import failed, health_of
from ..core.server.things import Health
from ..core.server.unknown import UNKNOWN, known
from .words import said, short_use, size

if TYPE_CHECKING:
    from ..core.server.assess import Assessment
    from ..core.server.model import Server
    from ..core.server.things import Drive
    from .render import Table

LED_WORDS = {
    "OK": "normal",
    "Fail": "fail",
    "Rebuild": "rebuild",
    "PredictiveFailureAnalysis": "predicted failure",
    "Hotspare": "hot spare",
    "InACriticalArray": "critical array",
    "InAFailedArray": "failed array",
}
"""SFF-8489 (IBPI) patterns by their Redfish names, in words."""

SHORT_BELOW = 10
SHORT = {
    "rebuild": "rebld", "predicted failure": "predict", "hot spare": "spare", "critical array": "crit.",
    "failed array": "failed", "identify": "ident.",
}  # fmt: skip
"""The patterns where a bay has less than so many characters."""

LEAST, MOST = 9, 20
"""Width of a bay in characters, border included on one side."""


def show_panel(found: Assessment) -> None:
    """Print the panel, as wide as the terminal allows, and a line for each bay that needs attention."""
    from .attention import finding_lines
    from .render import Line, show, width_of

    seen = found.server
    show([Line(f"{seen.server}, front", "head")])
    width = min(100, width_of(sys.stdout)) if not sys.stdout.isatty() else width_of(sys.stdout)
    columns = max((len(row) for row in seen.panel), default=1)
    if (width - 1) // columns < LEAST or os.environ.get("TERM") == "dumb":
        show([_listed(seen), *finding_lines(found)])
        return
    cell = min(MOST, (width - 1) // columns)
    waiting = list(seen.drives)
    for row in seen.panel:
        drives = [_take(waiting, bay) for bay in row]
        _print([*draw_row(drives, cell), counted(len(row), cell)])
    show(
        [Line("Below each row: the place from the left. * LED pattern, where it is not the normal one", "dim"), Line()]
    )
    blinking = [d for d in seen.drives if d.located is True]
    show([Line(f"The identify LED of bay {d.bay} blinks: {position(seen, d.bay)}.", "head") for d in blinking])
    show(finding_lines(found))


def _listed(seen: Server) -> Table:
    """The panel as a list: for narrow terminals, and for those who hear it read out."""
    from .render import Cell, Table

    table = Table("", [">bay", "place", "drive", "used for", "state", "LED"])
    waiting = list(seen.drives)
    for row, bays in enumerate(seen.panel, 1):
        for place, bay in enumerate(bays, 1):
            (kind, _plain), (use, _as), (state, style), *led = bay_text(_take(waiting, bay), SHORT_BELOW - 1)
            where = f"row {row}, {place} of {len(bays)}" if len(seen.panel) > 1 else f"{place} of {len(bays)}"
            pattern = " ".join(text for text, _style in led if text).removeprefix("*")
            table.add(bay, where, kind, use, Cell(state, style), pattern)
    return table


def _take(waiting: list[Drive], label: str) -> Drive:
    """The next bay with this label: in two enclosures there may be two of them."""
    found = next(d for d in waiting if d.bay == label)
    waiting.remove(found)
    return found


def position(seen: Server, bay: str) -> str:
    """Where a bay is for a person standing before the panel: its row, and its place counted from the left."""
    for row, bays in enumerate(seen.panel, 1):
        if bay in bays:
            place = f"number {bays.index(bay) + 1} from the left of {len(bays)}"
            return f"row {row} from the top, {place}" if len(seen.panel) > 1 else place
    return "not on the panel"


Piece = tuple[str, str]
"""A piece of a drawn line and its style."""


def draw_row(drives: list[Drive], cell: int) -> list[list[Piece]]:
    """One row of bays as lines of pieces; `cell` is a bay's width with its left border."""
    inner = cell - 1
    top = [("┌", "")]
    for i, d in enumerate(drives):
        head = f" {d.bay} "
        top += [(head, "head"), ("─" * (inner - len(head)) + ("┐" if i == len(drives) - 1 else "┬"), "")]
    lines = [top]
    texts = [bay_text(d, inner - 1) for d in drives]
    for row in range(5):
        line = [("│", "")]
        for text in texts:
            line += [(f" {text[row][0]}"[:inner].ljust(inner), text[row][1]), ("│", "")]
        lines.append(line)
    lines.append([("└" + "┴".join("─" * inner for _ in drives) + "┘", "")])
    return lines


def counted(bays: int, cell: int) -> list[Piece]:
    """The line under a row: each bay's place counted from the left, whatever its label says."""
    return [("".join(f"  {number} of {bays}"[:cell].ljust(cell) for number in range(1, bays + 1)).rstrip(), "dim")]


def bay_text(d: Drive, width: int) -> list[Piece]:
    """Five short lines for a bay, each with its style: size and media, use, state, LED pattern on two."""
    if not d.seated:
        return [("empty", "dim"), *[("", "")] * 4]
    state = ("OK", "")
    if failed(d):
        state = ("failed", "Critical")
    elif d.state == "Updating":
        state = ("rebuilding", "Warning")
    elif health_of(d) is Health.WARNING or d.predicted is True:
        state = ("Warning", "Warning")
    elif health_of(d) is UNKNOWN:
        state = ("not known", "Warning")
    led = known(d.indicator, "")
    led = LED_WORDS.get(led, led)
    if d.located is True:
        led = "identify"
    led = SHORT.get(led, led) if width < SHORT_BELOW else led
    pattern = [] if led in ("normal", "") else textwrap.wrap(f"*{led}", width, break_long_words=False)
    kind = f"{size(d.size, '?').replace(' ', '')} {said(d.media, '?')}"
    lines = [(kind if len(kind) <= width else kind.split(" ")[0], ""), (short_use(d), ""), state]
    return [*lines, *((text, "Warning") for text in pattern), ("", ""), ("", "")][:5]


def _print(lines: list[list[Piece]]) -> None:
    if not sys.stdout.isatty():
        sys.stdout.write("\n".join("".join(text for text, _ in line) for line in lines) + "\n")
        return
    from rich.console import Console
    from rich.text import Text

    from .render import STYLES

    console = Console(highlight=False)
    for line in lines:
        console.print(Text.assemble(*((text, STYLES.get(style, "")) for text, style in line)), soft_wrap=True)
