"""Claims that the members themselves carry: a set-up written on them, held against what the data say.

A set-up is what a controller believed when it last wrote it; somebody may have made the array anew with another order,
or taken the drives from somewhere else. It is never evidence for a lineup; what it has wrong is named.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...arrays.geometry import Geometry, geometry
from ...arrays.levels import GeometryError
from ...formats.ddf_volumes import Described
from ..document.lineup_document import Claim, Lineup

COMPARED_STRIPS = 4096


def judge_claims(claims: Sequence[Described], arrays: Sequence[Lineup], names: Sequence[str]) -> list[Claim]:
    """Hold DDF set-ups against the arrays that were found. names: of the images that the records count."""
    return [_judged(one, arrays, names) for one in claims]


def _judged(one: Described, arrays: Sequence[Lineup], names: Sequence[str]) -> Claim:
    members = [None if n is None else names[n] for n in one.positions]
    stated = {m for m in members if m}
    carriers = tuple(names[n] for n in one.carriers)
    chosen = one.layout
    words = [chosen["rotation"], chosen["data"]]
    order = ", ".join(m or "(not here)" for m in members)
    states = f"{chosen['level']} of {len(members)}, strip {one.strip >> 10} KiB, "
    states += "".join(f"{w}, " for w in words if w) + f"data from byte {min(one.starts, default=0)}: {order}"
    found = max(arrays, key=lambda a: len(stated & _held(a)), default=None)
    if found is None or not stated & _held(found) or not found.named:
        return Claim("DDF", one.name, carriers, "untested", (), states)
    wrong = _differences(one, members, found)
    return Claim("DDF", one.name, carriers, "wrong" if wrong else "holds", tuple(wrong), states)


def differences(claim: Lineup, found: Lineup) -> list[str]:
    """What a lineup typed by hand has wrong, by what was found over the same images; nothing where both put every strip
    in the same place."""
    made = claim.geometry
    chosen = {
        key: getattr(made.layout, key)
        for key in ("level", "rotation", "data", "spans", "copies", "q_place", "q_exponent", *RARE)
    }  # fmt: skip
    here = tuple(n if name is not None else None for n, name in enumerate(claim.members))
    stated = Described("claim", made.strip_bytes, made.start_bytes, min(made.member_bytes), chosen, here, (), ())
    wrong = _differences(stated, claim.members, found)
    if not wrong and claim.former != found.former:
        rows = [
            f"in its former layout from row {former.row} on" if former else "in one layout"
            for former in (found.former, claim.former)
        ]
        wrong.append(f"growth: it stands {rows[0]}, it states {rows[1]}")
    return wrong


RARE = ("turn_rows", "spare", "outer")
DEFAULT = {"turn_rows": 1, "spare": "none", "outer": "row"}
"""What records do not state, and a lineup may; and what holds where it is not stated."""


def _held(array: Lineup) -> set[str]:
    return {m for m in (*array.members, *array.stale) if m is not None}


def _differences(one: Described, members: Sequence[str | None], found: Lineup) -> list[str]:
    """What a set-up has wrong; nothing where it puts every strip where the data do, whatever it calls that."""
    made, chosen = found.geometry, one.layout
    wrong = []
    strangers = [m for m in members if m is not None and m not in _held(found)]
    strangers += [f"{m}, which is out of date" for m in members if m in found.stale]
    absent = [m for m in found.members if m is not None and m not in members]
    if strangers:
        wrong.append(f"members: it counts {', '.join(strangers)}")
    if absent:
        wrong.append(f"members: it leaves out {', '.join(absent)}")
    claimed = _geometry(one, made)
    if not wrong and claimed is not None and _same_places(claimed, members, made, found.members):
        return []
    if chosen["level"] != made.layout.level or len(members) != made.members:
        wrong.append(f"level: {made.layout.level} of {made.members}, it states {chosen['level']} of {len(members)}")
    if one.strip != made.strip_bytes and chosen["level"] != "RAID1":
        wrong.append(f"strip size: {made.strip_bytes >> 10} KiB, it states {one.strip >> 10} KiB")
    stated, real = (chosen["rotation"], chosen["data"]), (made.layout.rotation, made.layout.data)
    rare = tuple((getattr(made.layout, key) or "none", chosen.get(key) or DEFAULT[key]) for key in RARE)
    if chosen["level"] == made.layout.level and (stated != real or any(a != b for a, b in rare)):
        beside = [tuple(f"{key} {told[side]}" for key, told in zip(RARE, rare, strict=True) if told[0] != told[1])
                  for side in (0, 1)]  # fmt: skip
        wrong.append(f"layout: {_joined((*real, *beside[0]))}, it states {_joined((*stated, *beside[1]))}")
    starts = set(one.starts) - set(made.start_bytes)
    if starts:
        wrong.append(f"start: byte {made.start_bytes[0]}, it states {min(starts)}")
    moved = [
        f"position {p} holds {real_name}, it states {name}"
        for p, (name, real_name) in enumerate(zip(members, found.members, strict=False))
        if name is not None and real_name is not None and name != real_name
    ]  # fmt: skip
    mirrored = made.layout.level == "RAID1"
    if moved and not mirrored:
        wrong.append("order: " + "; ".join(moved[:6]) + (f"; and {len(moved) - 6} more" if len(moved) > 6 else ""))
    return wrong


def _joined(words: tuple[str | None, ...]) -> str:
    return " ".join(w for w in words if w) or "plain"


def _geometry(one: Described, like: Geometry) -> Geometry | None:
    """The geometry that a set-up states, where DDF says nothing of Q as the data have it."""
    chosen = one.layout
    same = chosen["level"] == like.layout.level
    try:
        return geometry(
            chosen["level"], len(one.positions), one.strip, member_bytes=one.extent, start_bytes=one.starts,
            rotation=chosen["rotation"], data=chosen["data"],
            spans=chosen["spans"] if chosen["spans"] > 1 else None,
            copies=chosen["copies"] if chosen["level"] == "RAID10" else None,
            q_place=chosen["q_place"], q_exponent=like.layout.q_exponent if same else chosen["q_exponent"],
            **{key: chosen[key] for key in RARE if key in chosen},
        )  # fmt: skip
    except GeometryError:
        return None


def _same_places(
    a: Geometry, names: Sequence[str | None], b: Geometry, others: Sequence[str | None]
) -> bool:  # fmt: skip
    """Whether two lineups put the volume's first strips in the same places."""
    size = min(a.volume_bytes, b.volume_bytes)
    step = min(a.strip_bytes, b.strip_bytes)
    at = np.arange(0, min(size, COMPARED_STRIPS * step), step, dtype=np.int64)
    known = {name: n for n, name in enumerate([*names, *others]) if name is not None}
    placed = []
    for made, who in ((a, names), (b, others)):
        number = np.array([-1 if name is None else known[name] for name in who], np.int64)
        copies = []
        for copy in range(made.pattern.places.shape[0]):
            member, offset = made.to_member(at, copy)
            copies.append(np.where(number[member] < 0, -1, number[member] + 4096 * offset))
        placed.append(np.sort(np.stack(copies), axis=0))
    if placed[0].shape != placed[1].shape:
        return False
    differ = (placed[0] != placed[1]) & (placed[0] >= 0) & (placed[1] >= 0)
    return not bool(differ.any())
