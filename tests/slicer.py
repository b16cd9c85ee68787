"""An independent slicer: cuts a volume into members cell by cell, from the drawn definitions alone.

It shares no code with `core/arrays`: every rule is written out again, one cell at a time, so that a mistake in one
of the two shows as a difference.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

import numpy as np

Cell = tuple[str, int]
"""("D", number of the strip in the volume), or ("P" or "Q", span)."""


def _table() -> np.ndarray:
    """Products in GF(2^8), polynomial 0x11D, by shifting and adding."""
    table = np.zeros((256, 256), np.uint8)
    for a in range(256):
        for b in range(256):
            product, x, y = 0, a, b
            while y:
                if y & 1:
                    product ^= x
                x <<= 1
                if x & 0x100:
                    x ^= 0x11D
                y >>= 1
            table[a, b] = product
    return table


TIMES = _table()


def power(exponent: int) -> int:
    value = 1
    for _ in range(exponent):
        value = int(TIMES[value, 2])
    return value


@dataclass(frozen=True)
class Spec:
    """An array to cut: the terms are those of the lineup document; sizes in bytes."""

    level: str
    members: int
    strip: int
    rotation: str | None = None
    data: str | None = None
    q_place: str | None = None
    q_exponent: str | None = None
    spans: int = 1
    copies: int = 1
    start: int = 0
    sizes: tuple[int, ...] = ()
    """Of a SPAN: the bytes of data on each member."""
    turn_rows: int = 1
    spare: str | None = None
    outer: str = "row"

    def row(self, row: int) -> list[Cell]:
        """What stands on each member in a row."""
        n = self.members
        if self.level == "RAID0":
            return [("D", row * n + m) for m in range(n)]
        if self.level == "RAID1":
            return [("D", row)] * n
        if self.level == "RAID10":
            return [("D", row * (n // self.copies) + m // self.copies) for m in range(n)]
        if self.level == "RAID1E" and self.data == "adjacent":
            return [("D", (row * n + m) // 2) for m in range(n)]
        if self.level == "RAID1E":
            return [("D", row // 2 * n + (m if row % 2 == 0 else (m - 1) % n)) for m in range(n)]
        cells: list[Cell] = []
        inner = n // self.spans
        for span in range(self.spans):
            cells += self._span_row(row, inner, span)
        return cells

    def _span_row(self, row: int, n: int, span: int) -> list[Cell]:
        parities = 2 if self.level in ("RAID6", "RAID60") else 1
        if self.rotation == "fixed-N":
            p = n - 1
        elif self.rotation == "fixed-0":
            p = 0
        elif self.rotation == "parity-0":
            p = row // self.turn_rows % n
        elif self.q_place == "after-p" and self.data == "restart":
            p = n - 1 - (row // self.turn_rows + 1) % n
        else:
            p = n - 1 - row // self.turn_rows % n
        cells: list[Cell | None] = [None] * n
        cells[p] = ("P", span)
        step = 1
        if parities == 2:
            q = (p + 1) % n if self.q_place == "after-p" else (p - 1) % n
            cells[q] = ("Q", span)
            step = 2 if self.q_place == "after-p" else 1
        if self.spare == "after-p":
            cells[(p + 1) % n], step = ("S", span), 2
        elif self.spare == "before-p":
            cells[(p - 1) % n] = ("S", span)
        count = n - parities - (self.spare is not None)
        first = (row * self.spans + span) * count
        if self.data == "continuation":
            for d in range(count):
                cells[(p + step + d) % n] = ("D", first + d)
        else:
            for d, m in enumerate(m for m in range(n) if cells[m] is None):
                cells[m] = ("D", first + d)
        assert None not in cells
        if self.outer == "strip":  # the volume's strips go round the spans one by one
            inner = row * count
            cells = [
                ("D", (inner + c[1] - first) * self.spans + span) if c and c[0] == "D" else c for c in cells
            ]  # fmt: skip
        return cells  # type: ignore[return-value]

    def strips_per_row(self) -> int:
        """Twice the data strips per row over two rows (RAID 1E puts half-odd numbers in one)."""
        return len({k for r in (0, 1) for kind, k in self.row(r) if kind == "D"})

    def coefficients(self, cells: list[Cell], span: int) -> list[int]:
        """Per member of the span, the coefficient of Q; 0 where no data strip stands."""
        n = self.members // self.spans
        data = sorted((k, m) for m, (kind, k) in enumerate(cells[span * n : span * n + n]) if kind == "D")
        found = [0] * n
        for index, (_k, m) in enumerate(data):
            found[m] = power(
                {
                    "member-position": m,
                    "data-index-reversed": len(data) - 1 - index,
                    "member-position-reversed": n - 1 - m,
                }.get(str(self.q_exponent), index)
            )
        return found


def cut(volume: Path, spec: Spec, outputs: list[Path], tail: int = 0) -> int:
    """Cut a sparse volume file into member files; returns the bytes of data area on each. Rows that hold only zeros
    stay holes."""
    size = volume.stat().st_size
    if spec.level == "SPAN":
        return _cut_one_by_one(volume, spec, outputs, tail)
    strip, n = spec.strip, spec.members
    rows = -(-size * 2 // (spec.strips_per_row() * strip))
    rows += (-rows) % (2 * n * spec.turn_rows)
    source = os.open(volume, os.O_RDONLY)
    files = [os.open(p, os.O_RDWR | os.O_CREAT | os.O_EXCL) for p in outputs]
    for f in files:
        os.ftruncate(f, spec.start + rows * strip + tail)
    zero = bytes(strip)
    for row in _rows_with_data(source, size, spec):
        cells = spec.row(row)
        content: list[bytes] = [zero] * n
        for m, (kind, k) in enumerate(cells):
            if kind == "D":
                content[m] = os.pread(source, strip, k * strip).ljust(strip, b"\0")
        if any(kind == "P" for kind, _ in cells):
            for m, made in span_parity(spec, cells, content).items():
                content[m] = made
        for m in range(n):
            if content[m] != zero:
                os.pwrite(files[m], content[m], spec.start + row * strip)
    for f in [source, *files]:
        os.close(f)
    return rows * strip


def span_parity(spec: Spec, cells: list[Cell], content: list[bytes]) -> dict[int, bytes]:
    """P and Q of one row, by member, from what stands on the others."""
    inner = spec.members // spec.spans
    found = {}
    for span in range(spec.spans):
        p = np.zeros(len(content[0]), np.uint8)
        q = np.zeros(len(content[0]), np.uint8)
        factors = spec.coefficients(cells, span)
        for m in range(inner):
            if cells[span * inner + m][0] == "D":
                block = np.frombuffer(content[span * inner + m], np.uint8)
                p ^= block
                if spec.level in ("RAID6", "RAID60"):
                    q ^= TIMES[factors[m]][block]
        for m in range(inner):
            kind = cells[span * inner + m][0]
            if kind in "PQ":
                found[span * inner + m] = (p if kind == "P" else q).tobytes()
    return found


def _cut_one_by_one(volume: Path, spec: Spec, outputs: list[Path], tail: int) -> int:
    """SPAN: the volume's bytes on one member after the other; returns the least member's."""
    step, at = 64 << 10, 0
    with volume.open("rb") as source:
        for path, size in zip(outputs, spec.sizes, strict=True):
            with path.open("xb") as out:
                out.truncate(spec.start + size + tail)
                for done in range(0, size, step):
                    source.seek(at + done)
                    block = source.read(min(step, size - done))
                    if block.strip(b"\0"):
                        out.seek(spec.start + done)
                        out.write(block)
            at += size
    return min(spec.sizes)


def _rows_with_data(source: int, size: int, spec: Spec) -> list[int]:
    per = spec.strips_per_row() * spec.strip  # of two rows
    found: set[int] = set()
    at = 0
    while at < size:
        try:
            first = os.lseek(source, at, os.SEEK_DATA)
        except OSError:
            break
        at = os.lseek(source, first, os.SEEK_HOLE)
        found.update(range(max(0, first * 2 // per - 2), -(-at * 2 // per) + 2))
    return sorted(found)


def places(spec: Spec, strips: int) -> dict[int, set[tuple[int, int]]]:
    """For each of the first strips of the volume: where it stands, as (member, offset on it)."""
    found: dict[int, set[tuple[int, int]]] = {}
    row = edge = 0
    for m, size in enumerate(spec.sizes):
        for k in range(-(-edge // spec.strip), min(strips, -(-(edge + size) // spec.strip))):
            found[k] = {(m, spec.start + k * spec.strip - edge)}
        edge += size
    if spec.sizes:
        return found
    while True:
        cells = spec.row(row)
        if min(k for kind, k in cells if kind == "D") >= strips and row % 2 == 0:
            return found
        for m, (kind, k) in enumerate(cells):
            if kind == "D" and k < strips:
                found.setdefault(k, set()).add((m, spec.start + row * spec.strip))
        row += 1
