"""The levels as data: what each needs, tolerates and is called.

Adding a level means a row here and, when its strips stand in a new way, a rule in `layout.py`.
"""

from __future__ import annotations

from dataclasses import dataclass

from ..errors import StripeError


class GeometryError(StripeError):
    template = "{what}"
    remedy = "{to_do}"


@dataclass(frozen=True)
class Level:
    """Facts of one level.

    name            as in commands, files and Redfish `RAIDType`
    least           fewest members of one span
    parity          strips per row that hold no data (P, Q)
    nested          several spans, striped row by row
    mirrored        every strip stands more than once
    rotations       allowed (rotation, data, q place) triples, the default first
    words           one plain sentence for a person who is choosing
    """

    name: str
    least: int
    parity: int
    nested: bool
    mirrored: bool
    rotations: tuple[tuple[str | None, str | None, str | None], ...]
    words: str


_PLAIN: tuple[tuple[str | None, str | None, str | None], ...] = ((None, None, None),)
_RAID5 = (
    ("parity-N", "continuation", None),
    ("parity-N", "restart", None),
    ("parity-0", "restart", None),
    ("parity-0", "continuation", None),
)

LEVELS: dict[str, Level] = {
    level.name: level
    for level in (
        Level("RAID0", 1, 0, False, False, _PLAIN, "striped, no redundancy: any failure loses the volume"),
        Level("RAID1", 2, 0, False, True, _PLAIN, "mirrored: every member holds everything"),
        Level("RAID5", 3, 1, False, False, _RAID5, "striped with one parity: survives any one failure"),
    )
}


def level_named(name: str) -> Level:
    """The level called `name`, in any case and with or without a blank or dash (raid5, RAID-5).

    Raises GeometryError naming the known ones.
    """
    key = name.upper().replace(" ", "").replace("-", "")
    if key not in LEVELS:
        raise GeometryError(what=f"{name!r} is not a level", to_do="known levels: " + ", ".join(LEVELS))
    return LEVELS[key]
