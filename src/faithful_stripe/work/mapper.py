"""An array as a table of Linux's device mapper, for those who read it there: read-only, whole sets of drives.

One line a device, its name first, in the order in which they must be made: each drive's data area, then what is built
of them. Targets and parameters are those of the kernel's own description (admin-guide/device-mapper: linear, striped,
dm-raid). That the kernel reads what was written is tried by `benchmarks/kernel.py`.
"""

from __future__ import annotations

from collections.abc import Sequence

from ..core.arrays.geometry import Concatenation, Geometry
from ..core.arrays.layout import Layout

SECTOR = 512

PARITY = {
    ("fixed-0", None): "raid4", ("fixed-N", None): "raid5_n",
    ("parity-0", "restart"): "raid5_ra", ("parity-N", "restart"): "raid5_la",
    ("parity-0", "continuation"): "raid5_rs", ("parity-N", "continuation"): "raid5_ls",
}  # fmt: skip
PARITY_TWO = {
    ("parity-0", "restart", "after-p"): "raid6_zr", ("parity-N", "restart", "after-p"): "raid6_nr",
    ("parity-N", "continuation", "before-p"): "raid6_nc",
}  # fmt: skip
"""In these the kernel counts the exponents of Q by the member's position."""


def table(made: Geometry, devices: Sequence[str], name: str) -> str:
    """The lines for a whole array over `devices`, by position; "" where the kernel has no target for it."""
    if isinstance(made, Concatenation):
        return ""
    chosen, strip = made.layout, made.strip_bytes // SECTOR
    area, volume = made.rows * strip, made.volume_bytes // SECTOR
    maps = [
        (f"{name}-{position}", f"0 {area} linear {device} {start // SECTOR}")
        for position, (device, start) in enumerate(zip(devices, made.start_bytes, strict=True))
    ]
    members = [f"/dev/mapper/{mapped}" for mapped, _line in maps]
    if chosen.level in ("RAID50", "RAID60"):
        width = chosen.span_members
        data = width - (2 if chosen.level == "RAID60" else 1)
        inner = _target(chosen, members[:width], strip)
        if not inner:
            return ""
        spans = []
        for span in range(chosen.spans):
            line = f"0 {area * data} {_target(chosen, members[span * width : (span + 1) * width], strip)}"
            maps.append((f"{name}-span-{span}", line))
            spans.append(f"/dev/mapper/{name}-span-{span} 0")
        last = f"striped {chosen.spans} {strip * data} {' '.join(spans)}"
    else:
        last = _target(chosen, members, strip)
    if not last:
        return ""
    maps.append((name, f"0 {volume} {last}"))
    return "".join(f"{mapped} {line}\n" for mapped, line in maps)


def _target(chosen: Layout, members: Sequence[str], strip: int) -> str:
    """One target with its parameters over some members; "" where there is none."""
    if chosen.level == "RAID0":
        return f"striped {len(members)} {strip} {' '.join(f'{m} 0' for m in members)}"
    devices = f"{len(members)} {' '.join(f'- {m}' for m in members)}"
    if chosen.level == "RAID1":
        return f"raid raid1 2 0 nosync {devices}"
    if chosen.level == "RAID10":  # the kernel's own needs its records on the drives; the first of each mirror is enough
        first = members[:: chosen.copies]
        return f"striped {len(first)} {strip} {' '.join(f'{m} 0' for m in first)}"
    kind = PARITY.get((str(chosen.rotation), chosen.data))
    if chosen.q_place:
        place = (str(chosen.rotation), str(chosen.data), chosen.q_place)
        kind = PARITY_TWO.get(place) if chosen.q_exponent == "member-position" else None
    sync = f"1 {strip}" if chosen.q_place else f"2 {strip} nosync"  # of RAID 6 the kernel does not take that word
    return f"raid {kind} {sync} {devices}" if kind else ""
