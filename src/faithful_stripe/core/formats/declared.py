"""Disk structures declared once: offset, name, type, unit, meaning. Readers and pages come from the table."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from ..errors import StripeError


class FormatError(StripeError):
    template = "{what}"
    remedy = "{to_do}"


@dataclass(frozen=True)
class Field:
    """One field: `code` as in the `struct` module (B H I Q, or "16s" for bytes), without byte order."""

    offset: int
    name: str
    code: str
    unit: str = ""
    meaning: str = ""


@dataclass(frozen=True)
class Layout:
    """A structure of `size` bytes in byte order `order` ("<" or ">").

    Raises ValueError at import when two fields overlap or one reaches past the end.
    """

    name: str
    size: int
    order: str
    fields: tuple[Field, ...]

    def __post_init__(self) -> None:
        end = 0
        for field in sorted(self.fields, key=lambda f: f.offset):
            if field.offset < end:
                raise ValueError(f"{self.name}: {field.name} at byte {field.offset} overlaps the field before it")
            end = field.offset + struct.calcsize(self.order + field.code)
        if end > self.size:
            raise ValueError(f"{self.name}: fields reach to byte {end}, the structure has {self.size}")

    def read(self, data: bytes, at: int = 0, where: str = "") -> dict[str, Any]:
        """The fields' values by name. Raises FormatError when `data` ends too early."""
        if len(data) - at < self.size:
            raise FormatError(
                what=f"{where or self.name}: {self.name} at byte {at}: expected {self.size} bytes, "
                f"found {max(0, len(data) - at)} (it ends there)",
                to_do="the image is cut short",
            )
        return {f.name: struct.unpack_from(self.order + f.code, data, at + f.offset)[0] for f in self.fields}

    def write(self, values: Mapping[str, Any]) -> bytes:
        """The structure's bytes; fields that are not given are zero. Raises KeyError for unknown names."""
        out, known = bytearray(self.size), {f.name: f for f in self.fields}
        for name, value in values.items():
            struct.pack_into(self.order + known[name].code, out, known[name].offset, value)
        return bytes(out)

    @cached_property
    def dtype(self) -> np.dtype[Any]:
        """The same structure for NumPy, to read many at once."""
        kinds = {"B": "u1", "H": "u2", "I": "u4", "Q": "u8"}
        formats = [self.order + kinds[f.code] if f.code in kinds else f"S{f.code[:-1]}" for f in self.fields]
        names, offsets = [f.name for f in self.fields], [f.offset for f in self.fields]
        return np.dtype({"names": names, "formats": formats, "offsets": offsets, "itemsize": self.size})
