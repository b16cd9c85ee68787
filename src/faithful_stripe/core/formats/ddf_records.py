"""A volume's DDF records, made from its layout; and the places on a drive where a set-up stands.

One record per span; a RAID 10 is stripes over spans that are mirrors. What DDF has no field for (a rotation without a
qualifier, where Q stands and how its exponents count) is put into the record's vendor scratch, and read from there.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from . import ddf

SETUP_BYTES = 64 << 20
"""What is kept free for the set-up at the end of a drive."""

PRIMARY_BYTES, SECONDARY_BYTES = 32 << 20, 16 << 20
"""How far before the end of the drive the two copies start."""

SCRATCH = struct.Struct(">4s6BIII")
"""Signature, version, rotation, data order, Q place, Q exponent, mirror copies; then as bits of the span's members:
away, incomplete; then a mark of the moment at which the generation last counted up."""

SCRATCH_SIGNATURE = b"FSTR"
WORDS: tuple[tuple[str | None, ...], ...] = (
    (None, "parity-0", "parity-N", "fixed-0", "fixed-N"),
    (None, "restart", "continuation", "adjacent", "offset"),
    (None, "after-p", "before-p"),
    (None, "data-index", "member-position"),
)
"""Rotation, data order, Q place and Q exponent by the numbers that the scratch has for them."""

NESTED = {"RAID1": "RAID10", "RAID5": "RAID50", "RAID6": "RAID60"}
INNER = {outer: inner for inner, outer in NESTED.items()}
NO_QUALIFIER = 0xFF
"""For a layout that DDF has no number for; then only the scratch tells."""


@dataclass(frozen=True)
class Stated:
    """A volume as its records are to state it: sizes in bytes.

    start, extent  the members' data area, whole rows
    size           of the volume
    copies         members of one mirror (RAID 10); spans: of a nested level of parity; else 1
    usual          whether its layout is one that arrays are made in here
    """

    level: str
    members: int
    strip: int
    start: int
    extent: int
    size: int
    rotation: str | None = None
    data: str | None = None
    q_place: str | None = None
    q_exponent: str | None = None
    spans: int = 1
    copies: int = 1
    usual: bool = True

    @property
    def width(self) -> int:
        """Members of one record."""
        return self.copies if self.level == "RAID10" else self.members // self.spans

    @property
    def why_not(self) -> str:
        """What of it DDF's fields cannot hold, in words; "" where they hold it."""
        if INNER.get(self.level, self.level) not in ddf.LEVELS or self.level == "SPAN":
            return f"{self.level} has no record there whose members differ in size"
        if self.strip % ddf.SECTOR or (sectors := self.strip // ddf.SECTOR) & (sectors - 1):
            return f"strips of {self.strip} bytes are no power of two of sectors"
        if not self.usual:
            return "its parity, its spare space or its outer stripe stands where no record of ours says"
        return ""


def configs(
    of: Stated, references: Sequence[int], told: dict[str, Any], away: Sequence[int] = (),
    incomplete: Sequence[int] = (), branch: int = 0,
) -> list[ddf.Config]:  # fmt: skip
    """The configuration records of a volume, one per span.

    references        of its drives, by position
    told              guid, timestamp, sequence and cache, as `ddf.CONFIG` has them
    away, incomplete  positions whose content does not count, or does not count yet
    branch            the mark of the moment at which the sequence last counted up
    """
    width = of.width
    spans, level = of.members // width, INNER.get(of.level, of.level)
    plain = 0 if level in ("RAID0", "RAID1") else NO_QUALIFIER
    fields = {
        "elements": width,
        "strip": (of.strip // ddf.SECTOR).bit_length() - 1,
        "level": ddf.LEVELS[level],
        "qualifier": ddf.QUALIFIERS.get((level, of.rotation, of.data), plain),
        "spans": spans,
        "extent": of.extent // ddf.SECTOR,
        "size": of.size // ddf.SECTOR,
        "block": ddf.SECTOR,
    }
    words = [known.index(w) for known, w in zip(WORDS, (of.rotation, of.data, of.q_place, of.q_exponent), strict=True)]
    records = []
    for span in range(spans):
        here = range(span * width, (span + 1) * width)
        bits = [sum(1 << i for i, position in enumerate(here) if position in some) for some in (away, incomplete)]
        scratch = SCRATCH.pack(SCRATCH_SIGNATURE, 1, *words, of.copies, *bits, branch)
        mine = tuple(references[position] for position in here)
        starts = (of.start // ddf.SECTOR,) * width
        records.append(ddf.Config({**told, **fields, "span": span, "scratch": scratch}, mine, starts))
    return records


def scratch_of(config: ddf.Config) -> tuple[Any, ...] | None:
    """The vendor scratch of a record, as `SCRATCH` has it, where it is ours."""
    values = SCRATCH.unpack_from(config.fields["scratch"])
    words_known = all(number < len(words) for number, words in zip(values[2:6], WORDS, strict=True))
    return values if values[:2] == (SCRATCH_SIGNATURE, 1) and words_known else None


def layout_of(spans: Sequence[ddf.Config]) -> dict[str, Any]:
    """Level, rotation, data, q_place, q_exponent, copies and spans that a volume's records state, one per span.

    DDF has no word for the place and exponent of Q beyond its qualifiers: those of its own layouts are taken.
    """
    first = spans[0].fields
    inner = next((name for name, code in ddf.LEVELS.items() if code == first["level"]), "unknown")
    level = NESTED.get(inner, inner) if first["spans"] > 1 else inner
    wanted = (first["level"], first["qualifier"])
    plain = next((k for k, code in ddf.QUALIFIERS.items() if (ddf.LEVELS[k[0]], code) == wanted), (inner, None, None))
    rotation, data = plain[1:]
    q_place = q_exponent = None
    if inner == "RAID6":
        q_place, q_exponent = "before-p" if data == "continuation" else "after-p", "data-index"
    return {
        "level": level, "rotation": rotation, "data": data, "q_place": q_place, "q_exponent": q_exponent,
        "copies": first["elements"] if inner == "RAID1" and first["spans"] > 1 else 1,
        "spans": first["spans"] if level in ("RAID50", "RAID60") else 1,
    }  # fmt: skip


def stated_layout(spans: Sequence[ddf.Config]) -> dict[str, Any]:
    """What `layout_of` gives of a volume's records, with what DDF has no field for where the scratch tells it."""
    told = layout_of(spans)
    ours = scratch_of(spans[0])
    if ours:
        words = (w[n] for w, n in zip(WORDS, ours[2:6], strict=True))
        told |= dict(zip(("rotation", "data", "q_place", "q_exponent"), words, strict=True)) | {"copies": ours[6]}
    return told


def places(size: int) -> dict[str, int]:
    """Where on a drive of that size, in bytes, the header says that everything stands; in sectors."""
    last, primary = size // ddf.SECTOR - 1, (size - PRIMARY_BYTES) // ddf.SECTOR
    return {
        "primary_lba": primary,
        "secondary_lba": (size - SECONDARY_BYTES) // ddf.SECTOR,
        "workspace_lba": primary,
        "workspace_length": last - primary,
    }


def pieces(made: ddf.Metadata, size: int) -> list[tuple[int, bytes]]:
    """What is written where on a drive of `size` bytes, in this order: while one copy is written the other is sound."""
    copies = [
        (made.header[place] * ddf.SECTOR, ddf.encode(made, kind))
        for kind, place in ((1, "primary_lba"), (2, "secondary_lba"))
    ]
    anchor = size // ddf.SECTOR * ddf.SECTOR - ddf.SECTOR
    return [*copies, (anchor, ddf.encode(made, 0)[: ddf.SECTOR])]


def drive_guid(vendor: str, serial: str) -> bytes:
    """A drive's GUID: eight characters of its maker, sixteen of its serial number (or a CRC of a longer one)."""
    short = serial if len(serial) <= 16 else serial[:8] + f"{zlib.crc32(serial.encode()):08x}"
    return vendor.encode("ascii", "replace")[:8].ljust(8) + short.encode().ljust(16)


def reference(vendor: str, serial: str) -> int:
    """A drive's reference in configuration records, never the value for unused."""
    return zlib.crc32(f"{vendor} {serial}".encode()) & 0xFFFFFFFE


def guid_of(kind: str, text: str) -> bytes:
    """A GUID: the maker's T10-style name, what it is, and a number from the text, 24 bytes of ASCII."""
    return (b"FSTRIPE " + kind.encode().ljust(4) + f"{zlib.crc32(text.encode()):08x}".encode()).ljust(24)
