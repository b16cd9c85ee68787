"""The bench clock: bench time from wall time, faster when asked, never backwards."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime


class Clock:
    """Seconds of bench time since 1970, UTC.

    mark   (bench seconds, wall seconds) of a moment both are known for
    speed  bench seconds per wall second
    wall   where wall time comes from (tests hand in their own)
    """

    def __init__(self, mark: tuple[float, float], speed: float = 1.0, wall: Callable[[], float] = time.time) -> None:
        self.mark, self.speed, self.wall = mark, speed, wall

    def now(self) -> float:
        """The bench time now; a wall clock that was set back only halts it."""
        return self.mark[0] + max(0.0, self.wall() - self.mark[1]) * self.speed

    def set_mark(self, bench: float) -> tuple[float, float]:
        """From this moment on the bench time is `bench`; the mark is what the state keeps."""
        self.mark = (max(bench, self.mark[0]), self.wall())
        return self.mark


def iso(seconds: float) -> str:
    """A bench time as ISO 8601 in UTC, to the second.

    >>> iso(1794000000.7)
    '2026-11-06T20:00:00+00:00'
    """
    return datetime.fromtimestamp(int(seconds), UTC).isoformat()
