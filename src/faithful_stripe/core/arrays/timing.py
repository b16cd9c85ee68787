"""How fast a layout can be at best: throughput, small writes, rebuild time.

Source: P. M. Chen, E. K. Lee, G. A. Gibson, R. H. Katz, D. A. Patterson, "RAID: High-Performance, Reliable Secondary
Storage", ACM Computing Surveys 26(2), 1994, section 4.1: small writes of a parity array cost two accesses per data
strip and per parity (4 for RAID 5, 6 for RAID 6), never more than writing its whole group; large writes lose the
parity's share. Large reads are counted without the parity's share too: a spinning drive passes over it.
"""

from __future__ import annotations

from dataclasses import dataclass

from .layout import Layout

REBUILD_SHARE = 0.6
"""Of the slowest drive's rate, for a rebuild while the server goes on working."""


@dataclass(frozen=True)
class Pace:
    """What one drive does: bytes per second in sequence, random accesses of 4 KiB per second."""

    rate: float
    reads: float
    writes: float


@dataclass(frozen=True)
class Speed:
    """What a layout does at best: bytes per second, accesses of 4 KiB per second, seconds.

    penalty  accesses that one small write costs
    limited  whether the link is narrower than the drives
    """

    read: float
    write: float
    random_reads: float
    random_writes: float
    penalty: int
    rebuild: float
    limited: bool


SEEK_SECONDS = 0.0085
"""An average seek of a large spinning drive."""

PACES = {"ssd": Pace(510e6, 90_000, 35_000), "nvme": Pace(3.2e9, 600_000, 150_000)}
"""Assumptions for drives without a spindle: a SATA SSD at its link's rate, an NVMe one on four lanes of the third
generation; random writes as they are once a drive is full."""


def spinning(rpm: int, rate: float = 215e6) -> Pace:
    """A spinning drive: a seek and half a turn for each random access."""
    each = 1.0 / (SEEK_SECONDS + 30.0 / rpm)
    return Pace(rate, each, each)


def speed(chosen: Layout, pace: Pace, member_bytes: int, link: float | None = None) -> Speed:
    """The speed of a layout over drives of one pace, of `member_bytes` each; `link` in bytes per second."""
    n, pattern = chosen.members, chosen.pattern()
    share = pattern.strips / (pattern.rows * n)
    mirrored = chosen.level in ("RAID1", "RAID10", "RAID1E")
    penalty = _penalty(chosen)
    read = n * pace.rate * (1.0 if mirrored else share)
    write = n * pace.rate * share
    if chosen.level == "SPAN":
        read = write = pace.rate
    wide = max(read, write)
    limit = link if link is not None else float("inf")
    return Speed(
        read=min(read, limit),
        write=min(write, limit),
        random_reads=min(n * pace.reads, limit / 4096),
        random_writes=min(n * pace.writes / penalty, limit / 4096),
        penalty=penalty,
        rebuild=member_bytes / (pace.rate * REBUILD_SHARE),
        limited=wide > limit,
    )


def _penalty(chosen: Layout) -> int:
    if chosen.level in ("RAID0", "SPAN"):
        return 1
    if chosen.level == "RAID1":
        return chosen.members
    if chosen.level in ("RAID10", "RAID1E"):
        return max(2, chosen.copies)
    parity = 2 if chosen.level in ("RAID6", "RAID60") else 1
    return min(2 + 2 * parity, chosen.span_members)


# strip size -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Workload:
    """What a volume is used for: requests at a time, bytes of one, whether it is mostly written in sequence."""

    words: str
    at_once: int
    request: int
    sequential_writes: bool = False


WORKLOADS = {
    "database": Workload("many small accesses at a time", 32, 16 << 10),
    "machines": Workload("the disks of virtual machines", 32, 32 << 10),
    "files": Workload("files of all sizes, several people", 8, 64 << 10),
    "video": Workload("few large streams", 2, 1 << 20),
    "backup": Workload("one long stream, mostly written", 1, 1 << 20, sequential_writes=True),
}

STRIP_LEAST, STRIP_MOST = 16 << 10, 1 << 20


def strip_advice(chosen: Layout, pace: Pace, workload: Workload) -> tuple[int, str]:
    """A strip size in bytes, and the reason in one sentence.

    Source: P. M. Chen, D. A. Patterson, "Maximizing Performance in a Striped Disk Array", ISCA 1990: a quarter of
    (positioning time * transfer rate) for each further request at a time, so that a request keeps few drives busy
    when many requests wait. Rounded to a power of two from 16 KiB to 1 MiB. A stream that is written in sequence to
    parity wants whole rows per request instead: they are written without reading anything first.
    """
    data = max(1, chosen.pattern().strips // chosen.pattern().rows)
    if workload.sequential_writes and chosen.level in ("RAID5", "RAID6", "RAID50", "RAID60"):
        data = max(1, data // chosen.spans)
        strip = _power(workload.request / data, down=True)
        return strip, f"{data} data strips are one request of 1 MiB: rows are written whole, nothing is read first"
    if workload.at_once == 1:
        strip = _power(workload.request / data, down=True)
        return strip, "every request is spread over all drives, since none waits behind it"
    unit = 0.25 * pace.rate / pace.reads * (workload.at_once - 1) + 512
    strip = max(_power(unit, down=False), _power(workload.request, down=False))
    return strip, f"with {workload.at_once} requests at a time each should keep one drive busy, not all of them"


def _power(size: float, down: bool) -> int:
    exponent = int(size).bit_length() - 1
    power = 1 << (exponent if down or size == 1 << exponent else exponent + 1)
    return min(STRIP_MOST, max(STRIP_LEAST, power))
