"""Margins of volumes as the client sees them: what a volume would survive if one more drive were gone."""

from __future__ import annotations

from ..core.arrays.layout import Layout, layout
from ..core.arrays.levels import LEVELS, GeometryError
from ..core.arrays.margin import margin
from ..core.server.model import Volume


def layout_of(volume: Volume) -> Layout | None:
    """The volume's layout; None where the server tells too little of it."""
    if volume.level not in LEVELS or not volume.ordered:
        return None
    try:
        return layout(
            volume.level, len(volume.members), spans=volume.spans if volume.spans > 1 else None,
            rotation=volume.rotation, data=volume.data, copies=volume.copies if volume.level == "RAID10" else None,
            q_place=volume.q_place, q_exponent=volume.q_exponent,
        )  # fmt: skip
    except GeometryError:
        return None


def margin_without(volume: Volume, serials: set[str]) -> int | None:
    """The margin once these drives are gone too; None where it cannot be told. -1: data would be lost."""
    here = [m for m in volume.members if m.serial in serials and m.state == "active"]
    if not here:
        return volume.margin
    shape = layout_of(volume)
    initializing = any("initialization" in w.name for w in volume.work)
    if shape is None or initializing:
        return None if volume.margin is None else max(-1, volume.margin - len(here))
    lost = [i for i, m in enumerate(volume.members) if m.state != "active" or m.serial in serials]
    return margin(shape.pattern(), lost)
