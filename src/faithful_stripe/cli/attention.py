"""What needs attention, in words: shared by every view of a server."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .render import Line, Part

if TYPE_CHECKING:
    from ..core.server.model import Server


def finding_lines(seen: Server) -> list[Part]:
    """What needs attention, in words."""
    if not seen.findings:
        return [Line("Nothing needs attention.", "good")]
    lines: list[Part] = []
    for f in seen.findings:
        lines.append(Line(f"{f.severity.upper():8}  {f.where}: {f.what}", f.severity))
        lines.append(Line(f"          to do: {f.to_do}"))
    return lines
