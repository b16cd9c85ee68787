"""What stands on a volume that was found: its partitions and logical volumes, and what their first bytes look like."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ...formats.lvm import NotRead
from ...ranges import Range


@dataclass(frozen=True)
class Held:
    """One part of the volume that may hold a file system: sizes in bytes.

    number  of a partition, from 1; 0 for the whole volume; of a logical volume that of the place its group stands in
    name    of a logical volume, GROUP/NAME
    what    what its first bytes look like; "" where they are empty, or where it cannot be read
    pieces  of a logical volume that is not in one piece: (start, end)
    not_read  why a logical volume cannot be read: its start says nothing then
    """

    number: int
    start: int
    length: int
    what: str
    name: str = ""
    pieces: tuple[Range, ...] = ()
    not_read: NotRead | None = None

    @property
    def ranges(self) -> tuple[Range, ...]:
        """Where it is, in bytes of the volume (start, end), piece by piece."""
        return self.pieces or ((self.start, self.start + self.length),)

    def as_document(self) -> dict[str, Any]:
        return {
            "partition": self.number, "start": self.start, "length": self.length, "what": self.what,
            **({"name": self.name} if self.name else {}),
            **({"not_read": self.not_read.value} if self.not_read else {}),
            **({"pieces": [[a, b - a] for a, b in self.pieces]} if self.pieces else {}),
        }  # fmt: skip
