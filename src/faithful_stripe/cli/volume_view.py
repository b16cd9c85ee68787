"""One volume as a person reads it, and as a JSON document: its layout, its condition as judged, its members."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ..core.server.unknown import UNKNOWN
from .common import print_json

if TYPE_CHECKING:
    from ..core.server.condition import State
    from ..core.server.things import Volume
    from ..redfish.client import Client

MOST_RANGES = 8
"""Lost ranges of a volume that are printed one by one."""


def volume_of(client: Client, found: Volume) -> dict[str, Any]:
    """A volume as a JSON document, judged within its server."""
    from ..core.server.assess import assess
    from ..work.survey import survey
    from .documents import volume_document

    now = assess(survey(client))
    fresh = now.server.volume(found.path)
    return volume_document(fresh, now.of(fresh))


def show_volume(client: Client, found: Volume, as_json: bool, done: str) -> State:
    """Print a volume: what was done with it, its layout, its condition, its members. What state it is in."""
    from ..core.server.assess import assess
    from ..work.survey import survey
    from .documents import volume_document
    from .render import Cell, Line, Table
    from .render import show as show_parts
    from .words import holds_words, margin_line, said, size, state_style, strip

    now = assess(survey(client))
    found = now.server.volume(found.path)
    j = now.of(found)
    if as_json:
        print_json(volume_document(found, j))
        return j.state
    q = f"Q {found.q_place}, {found.q_exponent}" if found.q_place else None
    words = [found.rotation, found.data, q, f"{found.spans} spans" if found.spans > 1 else None]
    layout = "".join(f", {word}" for word in words if word)
    strips = "" if found.strip is UNKNOWN else f", strip {strip(found.strip)}"
    head = f"Volume {found.name}" + (f" is {done}" if done else "")
    nested = [">span"] if found.spans > 1 else []
    table = Table("", [">member", *nested, ">bay", "serial", "WWN?1", "state"])
    for m in found.seats:
        span = [str(m.span)] if nested else []
        drive = now.server.seated_at(m)
        state = Cell(said(m.state, "not known"), "" if m.state == "active" else "Warning")
        table.add(str(m.position), *span, m.bay, said(m.serial, "?"), said(drive.wwn, "?") if drive else "-", state)
    lost = [Line(f"lost: bytes {start} to {end}", "Critical") for start, end in j.lost[:MOST_RANGES]]
    if len(j.lost) > MOST_RANGES:
        lost.append(Line(f"lost: {len(j.lost) - MOST_RANGES} more ranges; --json names them all", "Critical"))
    exact = "" if found.size is UNKNOWN else f" ({found.size} bytes)"
    holds, sector = holds_words(found.content), said(found.sector, "?")
    show_parts(
        [
            Line(f"{head}: {said(found.level, 'level not known')}, {size(found.size)}{exact}{strips}{layout}", "head"),
            Line(f"{j.state.value}, {margin_line(j)}, holds {holds}, controller {found.controller}", state_style(j)),
            Line(f"WWN {said(found.wwn)}, sectors of {sector} bytes"),
            Line(f"cache: reads {said(found.read_cache)}, writes {said(found.write_cache)}"),
            *lost,
            table,
        ]
    )
    return j.state
