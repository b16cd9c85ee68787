"""Alternatives: what the evidence cannot tell from an answer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from ...arrays.layout import Layout, layout


class Alike(StrEnum):
    """What fits as well."""

    LAYOUT = "layout"
    """Another layout, or the same one from another start: `shape`."""
    ANY_ORDER = "any-order"
    """A mirror's members in any order."""
    ANY_LAYOUT = "any-layout"
    """Any order, strip and rotation of these members."""
    OTHER_IMAGES = "other-images"
    """Other images of a span, or these in another order."""
    MATES = "mates-of-a-mirror"
    """What was imaged twice may be two mates."""


@dataclass(frozen=True)
class Shape:
    """An array as it could be as well: its layout, strip and start in bytes, and its images by position."""

    layout: Layout
    strip_bytes: int
    start_bytes: int
    members: tuple[str | None, ...]


@dataclass(frozen=True)
class Alternative:
    """What the evidence cannot tell from an answer."""

    what: Alike
    shape: Shape | None = None

    def as_document(self) -> dict[str, Any]:
        if self.shape is None:
            return {"what": str(self.what)}
        made = self.shape.layout
        optional = {
            "rotation": made.rotation,
            "data": made.data,
            "spans": made.spans if made.spans > 1 else None,
            "copies": made.copies if made.level == "RAID10" else None,
            "q_place": made.q_place,
            "q_exponent": made.q_exponent,
            "turn_rows": made.turn_rows if made.turn_rows > 1 else None,
            "spare": made.spare,
            "outer": made.outer if made.outer != "row" else None,
        }
        return {
            "what": str(self.what),
            "level": made.level,
            "strip_bytes": self.shape.strip_bytes,
            "start_bytes": self.shape.start_bytes,
            "members": [name or "" for name in self.shape.members],
            **{key: value for key, value in optional.items() if value},
        }

    @classmethod
    def from_document(cls, told: dict[str, Any]) -> Alternative:
        """Raises KeyError, TypeError, ValueError or GeometryError where it is not one."""
        what = Alike(told["what"])
        if what is not Alike.LAYOUT:
            return cls(what)
        members: Sequence[Any] = told["members"]
        names = ("rotation", "data", "spans", "copies", "q_place", "q_exponent", "turn_rows", "spare", "outer")
        made = layout(str(told["level"]), len(members), **{name: told[name] for name in names if name in told})
        shape = Shape(made, int(told["strip_bytes"]), int(told["start_bytes"]), tuple(m or None for m in members))
        return cls(what, shape)
