"""The levels as data: what each needs, tolerates and is called.

Adding a level means a row here and, when its strips stand in a new way, a rule in `layout.py`.
"""

from __future__ import annotations

from dataclasses import dataclass

from ..errors import StripeError


class GeometryError(StripeError):
    template = "{what}"
    remedy = "{to_do}"


Qualifiers = tuple[str | None, str | None, str | None]
"""(rotation, data order, place of Q), each None where the level has no such choice."""


@dataclass(frozen=True)
class Level:
    """Facts of one level.

    name       as in commands, files and Redfish `RAIDType`
    least      fewest members of one span
    layouts    the qualifiers it allows, the default first
    parity     strips per row that hold no data (P, Q)
    inner      for a nested level, the level of each span
    copies     how often each strip stands: 1; 2 or 3 for RAID 10; 0 means on every member
    words      one plain sentence for a person who is choosing
    """

    name: str
    least: int
    layouts: tuple[Qualifiers, ...]
    words: str
    parity: int = 0
    inner: str = ""
    copies: int = 1


_PLAIN: tuple[Qualifiers, ...] = ((None, None, None),)
_RAID5: tuple[Qualifiers, ...] = (
    ("parity-N", "continuation", None),
    ("parity-N", "restart", None),
    ("parity-0", "restart", None),
    ("parity-0", "continuation", None),
)
_RAID6: tuple[Qualifiers, ...] = (
    ("parity-N", "continuation", "after-p"),
    ("parity-N", "continuation", "before-p"),
    ("parity-N", "restart", "after-p"),
    ("parity-0", "restart", "after-p"),
)

LEVELS: dict[str, Level] = {
    level.name: level
    for level in (
        Level("RAID0", 1, _PLAIN, "striped, no redundancy: any failure loses the volume"),
        Level("RAID1", 2, _PLAIN, "mirrored: every member holds everything", copies=0),
        Level("RAID1E", 3, ((None, "adjacent", None), (None, "offset", None)), "mirrored over any number", copies=2),
        Level("RAID10", 4, _PLAIN, "striped over mirrors: survives one failure in each mirror", copies=2),
        Level(
            "RAID4",
            3,
            (("fixed-N", None, None), ("fixed-0", None, None)),
            "striped with one parity on one member: survives any one failure",
            parity=1,
        ),
        Level("RAID5", 3, _RAID5, "striped with one parity: survives any one failure", parity=1),
        Level("RAID6", 4, _RAID6, "striped with two parities: survives any two failures", parity=2),
        Level("RAID50", 3, _RAID5, "striped over RAID 5 spans: one failure in each span", parity=1, inner="RAID5"),
        Level("RAID60", 4, _RAID6, "striped over RAID 6 spans: two failures in each span", parity=2, inner="RAID6"),
        Level("SPAN", 1, _PLAIN, "one after the other, no redundancy: any failure loses the volume"),
    )
}

MOST_MEMBERS, MOST_SPANS = 32, 8
"""Members of one span, and spans of a nested level."""


def level_named(name: str) -> Level:
    """The level called `name`, in any case and with or without a blank or dash (raid5, CTRL-5).

    Raises GeometryError naming the known ones.
    """
    key = name.upper().replace(" ", "").replace("-", "")
    if key not in LEVELS:
        raise GeometryError(what=f"{name!r} is not a level", to_do="known levels: " + ", ".join(LEVELS))
    return LEVELS[key]
