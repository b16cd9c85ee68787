"""The live view of `watch`, and its lines of text."""

from __future__ import annotations

from types import TracebackType
from typing import Any

from ..core.server.condition import State
from ..core.server.model import Server
from ..core.server.unknown import UNKNOWN, known
from ..core.units import decimal_size, duration
from ..work.watch import Progress, Snapshot, until_all_done
from .render import STYLES
from .words import size, volume_words, work_words


def progress_line(p: Progress, seen: Server | None = None) -> str:
    """One piece of work as a line: per cent, amount, rate, time left, margin."""
    done = "progress not known" if p.work.percent is UNKNOWN else f"{p.work.percent:5.1f} %"
    parts = [f"{_name(p, seen)}: {work_words(p.work)} {done}"]
    if p.work.done is not UNKNOWN and p.work.total is not UNKNOWN:
        parts.append(f"{decimal_size(p.work.done)} of {decimal_size(p.work.total)}")
    parts += rate_and_left(p)
    if p.margin is not None:
        parts.append(f"margin now {p.margin}")
    return ", ".join([*parts, *surroundings(p)])


def _name(p: Progress, seen: Server | None) -> str:
    volume = seen.volume_at(p.work.volume_path) if seen else None
    return volume_words(seen, volume) if seen and volume else p.work.volume


def rate_and_left(p: Progress) -> list[str]:
    """Rate and time left, or that they are being measured, or that it waits."""
    if p.work.waits is True:
        return ["waits for the work on its drives"]
    if p.left is None:
        return ["rate being measured"]
    rate = [f"{decimal_size(int(p.rate))}/s"] if p.rate else []
    left = f"{duration(p.left)} left"
    if p.spread and p.spread[1] - p.spread[0] > 0.1 * p.left:
        left += f" ({duration(p.spread[0])} to {duration(p.spread[1])})"
    return [*rate, left]


def surroundings(p: Progress) -> list[str]:
    """The warmest drive, and the chance of losing data meanwhile."""
    from ..core.units import chance as odds

    warm = [f"bay {p.warmest[1]} is the warmest, {p.warmest[0]:.0f} °C"] if p.warmest else []
    return warm + ([f"chance of losing data meanwhile {odds(p.chance)}"] if p.chance is not None else [])


def unfinished_line(snapshot: Snapshot) -> str:
    """That drives are back but arrays are not, and what that means; "" where it is not so."""
    if not snapshot.unfinished:
        return ""
    names = ", ".join(snapshot.unfinished)
    return f"All drives of {names} answer, but it is not whole yet: measure nothing, restart nothing, pull nothing."


def closing_line(snapshot: Snapshot) -> str:
    """What there is to say when no work is left."""
    seen = snapshot.judged.server
    if not snapshot.judged.all_read:
        return "not all volumes could be read: what they do is not known"
    if not snapshot.volumes:
        return "no work is running; there are no volumes"
    if snapshot.healthy:
        margins = ", ".join(f"{volume_words(seen, j.volume)} margin {j.margin}" for j in snapshot.volumes)
        return f"no work is running; all volumes are healthy ({margins})"
    bad = ", ".join(
        f"{volume_words(seen, j.volume)} ({j.state.value}{'' if j.margin < 0 else f', margin {j.margin}'})"
        for j in snapshot.volumes
        if j.state is not State.OK
    )
    return f"no work is running, but not healthy: {bad}"


def whole_line(snapshot: Snapshot) -> str:
    """How long until what waits is done, too; "" where nothing waits, or that is not known."""
    left = until_all_done(snapshot.progress)
    return "" if left is None else f"About {duration(left)} until all of it is done, what waits included."


class LiveView:
    """Progress bars that stay in place on a terminal."""

    def __enter__(self) -> LiveView:
        from rich.console import Console
        from rich.live import Live

        self._live: Any = Live(console=Console(highlight=False), refresh_per_second=8)
        self._live.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._live.stop()

    def __call__(self, snapshot: Snapshot) -> None:
        from rich.console import Group
        from rich.progress_bar import ProgressBar
        from rich.table import Table
        from rich.text import Text

        when = Text(f"{snapshot.time[:19].replace('T', ' ')} (server's clock)", STYLES["dim"])
        if not snapshot.progress:
            style = STYLES["good" if snapshot.healthy else "Critical"]
            self._live.update(Group(when, Text(closing_line(snapshot), style)), refresh=True)
            return
        table = Table.grid(padding=(0, 2))
        for p in snapshot.progress:
            told = p.work.total is not UNKNOWN and p.work.done is not UNKNOWN
            done = f"{size(p.work.done)} of {size(p.work.total)}" if told else ""
            percent = known(p.work.percent, 0.0)
            style = STYLES["Critical" if p.margin == 0 else "Warning"]
            table.add_row(
                Text(f"{_name(p, snapshot.judged.server)}: {work_words(p.work)}"),
                ProgressBar(total=100, completed=percent, width=24, complete_style=STYLES["bar"]),
                Text("?" if p.work.percent is UNKNOWN else f"{percent:5.1f} %"),
                Text(done),
                Text(", ".join(rate_and_left(p))),
                Text("" if p.margin is None else f"margin now {p.margin}", style),
            )
        around = [
            Text(f"{p.work.volume}: {'; '.join(surroundings(p))}", STYLES["dim"])
            for p in snapshot.progress
            if surroundings(p)
        ]
        pending = [Text(whole_line(snapshot))] if whole_line(snapshot) else []
        pending += [Text(unfinished_line(snapshot), STYLES["Warning"])] if snapshot.unfinished else []
        hint = Text(
            "Ctrl-C stops watching; the work continues. Pull nothing, restart nothing until it is done.", STYLES["dim"]
        )
        self._live.update(Group(when, table, *around, *pending, hint), refresh=True)
