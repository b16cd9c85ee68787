"""One long story in which every command with --json speaks, some of them in several states: for the schemas."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from importlib import resources
from pathlib import Path
from typing import Any

from .slicer import Spec, cut

Run = Callable[..., Any]
"""Runs the command line in a folder: gives something with `status`, `out`, `err` and `json`."""

SKIPPED = {
    ("demo",): "a lesson for people; its document only says that it went well",
    ("lineup", "serve"): "prints one document, then serves until it is stopped",
    ("bench", "serve"): "prints one document, then serves until it is stopped",
    ("swap",): "waits for a person who takes drives out and puts them in",
}  # fmt: skip
"""Commands that have no schema, and why."""


def story(run: Run, folder: Path, volume: Path) -> Iterator[tuple[tuple[str, ...], Any]]:
    """(command, the document it printed), command after command.

    volume  an image of a small ext file system
    """

    def ask(
        *words: str, name: int = 1, sure: str = "", speed: str = "", at: str = "skerry"
    ) -> tuple[tuple[str, ...], Any]:
        alone = words[:2] == ("bench", "new") or words[0] in ("lineup", "rehearse", "words")
        server = () if alone else ("--at", at)
        more = ("--yes", "--expect-serials", sure) if sure else ()
        done = run(*server, *words, *more, *(("--speed", speed) if speed else ()), "--json")
        assert done.status in (0, 3), (words, done.status, done.err)
        return words[:name], json.loads(done.out)

    yield ask("bench", "new", "skerry", name=2)
    known = run("--at", "skerry", "bays", "--json").json["bays"]
    serial = {d["bay"]: d["serial"] for d in known if d["serial"]}
    four = ",".join(serial[b] for b in "4567")
    yield ask("survey")
    yield ask("bays")
    yield ask("ready")
    yield ask("weigh", "--drives", "4", "--size", "4TB")
    yield ask("words", "margin")
    yield ask("firmware", "show", name=2)
    yield ask("firmware", "show", "--versions", name=2)
    yield ask("firmware", "set", "OldOptionRoms=Enabled", name=2)
    yield ask("firmware", "set", "OldOptionRoms=Disabled", name=2)
    yield ask("controller", "show", name=2)
    yield ask("controller", "set", "--rebuild-rate", "50", name=2)
    yield ask("volume", "add", "tides", "--level", "5", "--bays", "4-7", name=2, sure=four)
    yield ask("volume", "show", "tides", name=2)
    yield ask("volume", "rescue", "tides", name=2)
    yield ask("volume", "set", "tides", "--read-cache", "off", name=2)
    yield ask("bench", "load", "tides", "observatory", name=2)
    yield ask("bench", "dump", "tides", "part.img", "--range", "0:1MiB", name=2)
    yield ask("spare", "add", "13", name=2)
    yield ask("spare", "add", "14", name=2)
    yield ask("spare", "remove", "14", name=2)
    (folder / "sheet.toml").write_text(run("--at", "skerry", "survey", "--as-sheet").out)
    yield ask("build", "sheet.toml", "--check")
    yield ask("bench", "package", "raid.pldm", "--for", "CTRL-1", "--version", "5.4.0", name=2)
    yield ask("firmware", "update", "raid.pldm", "--yes", name=2, speed="60")
    yield ask("boot", "tides")
    yield ask("firmware", "restart", "--yes", name=2, speed="200")
    yield ask("ready")
    yield ask("volume", "check", "tides", name=2)
    yield ask("watch", "--once")
    yield ask("bench", "advance", "2d", name=2)
    yield ask("locate", "5")
    yield ask("locate", "6")
    yield ask("bench", "fault", "5", name=2)
    yield ask("survey")
    yield ask("watch", "--once")
    yield ask("bench", "advance", "2d", name=2)
    yield ask("survey")
    yield ask("bays")
    yield ask("log")
    stock = resources.files("faithful_stripe.bench").joinpath("data", "skerry-stock.csv").read_text("utf-8")
    (folder / "stock.csv").write_text(stock, "utf-8")
    yield ask("stock", "list", name=2)
    yield ask("stock", "match", "5", name=2)
    yield ask("stock", "add", "UV4H99999", "--size", "4TB", "--media", "HDD", "--stock", "mine.csv", name=2)
    yield ask("bench", "pull", "5", name=2)
    yield ask("bench", "seat", "5", "UV4H30555", name=2)
    yield ask("bench", "advance", "2d", name=2)
    yield ask("report")
    yield ask("bench", "cut-power", "--stay-off", name=2)
    yield ask("bench", "lid", "open", name=2)
    yield ask("bench", "lid", "close", name=2)
    yield ask("bench", "power-on", name=2)
    (folder / "script.txt").write_text("survey\n")
    yield ask("rehearse", "script.txt", "--like", "skerry")
    yield from _moved(ask, folder, volume, serial)
    yield from _removing(ask, run, serial)
    yield from _lineups(ask, folder, volume)


def _moved(
    ask: Callable[..., Any], folder: Path, volume: Path, serial: dict[str, str]
) -> Iterator[tuple[tuple[str, ...], Any]]:
    """A volume without a spare loses a member and is rebuilt; it goes to another server and is adopted there."""
    three = ",".join(serial[b] for b in ("9", "10", "11"))
    yield ask("volume", "add", "logs", "--level", "5", "--bays", "9-11", name=2, sure=three)
    yield ask("spare", "remove", "13", name=2)
    yield ask("bench", "load", "logs", str(volume), name=2, sure=three)
    yield ask("bench", "pull", "9", name=2)
    yield ask("bench", "load", "logs", str(volume), name=2, sure=three)
    yield ask("bench", "pull", "10", name=2)
    drives = folder / "skerry" / "drives"
    images = [word for b in ("9", "10", "11") for word in ("--image", f"{b}={drives / serial[b]}.img")]
    yield ask("volume", "rescue", "logs", *images, name=2)
    with (drives / f"{serial['9']}.img").open("r+b") as file:
        file.seek(64 << 10)
        file.write(b"tide" * 2048)
    yield ask("volume", "rescue", "logs", *images, name=2)
    yield ask("bench", "seat", "10", serial["10"], name=2)
    yield ask("bench", "seat", "9", serial["9"], name=2)
    yield ask("bench", "advance", "3d", name=2)
    two = f"{serial['1']},{serial['2']}"
    yield ask("volume", "add", "old", "--level", "1", "--bays", "1,2", name=2, sure=two)
    yield ask("bench", "fault", "9", name=2)
    yield ask("volume", "rebuild", "logs", "--onto", "12", name=2, sure=serial["12"])
    yield ask("bench", "advance", "3d", name=2)
    yield ask("bench", "cut-power", "--stay-off", name=2)
    for bay in ("10", "11", "12", "1", "2"):
        yield ask("bench", "pull", bay, name=2)
    taken = ",".join(serial[b] for b in ("10", "11", "12"))
    old = [serial["1"], serial["2"]]
    takes = [word for one in (*taken.split(","), *old) for word in ("--take", f"skerry:{one}")]
    yield ask("bench", "new", "second", "--from", "skerry-2", *takes, name=2)
    for bay, one in zip("12356", (*taken.split(","), *old), strict=True):
        yield ask("bench", "seat", bay, one, name=2, at="second")
    yield ask("volume", "found", name=2, at="second")
    yield ask("volume", "adopt", "logs", name=2, sure=taken, at="second")
    yield ask("volume", "forget", "old", name=2, sure=",".join(old), at="second")
    yield ask("bench", "power-on", name=2)


def _removing(ask: Callable[..., Any], run: Run, serial: dict[str, str]) -> Iterator[tuple[tuple[str, ...], Any]]:
    shown = run("--at", "skerry", "volume", "show", "tides", "--json").json
    members = ",".join(m["serial"] for m in shown["members"])
    yield ask("volume", "initialize", "tides", name=2, sure=members)
    yield ask("bench", "advance", "3d", name=2)
    yield ask("volume", "remove", "tides", name=2, sure=members)


def _lineups(ask: Callable[..., Any], folder: Path, volume: Path) -> Iterator[tuple[tuple[str, ...], Any]]:
    images = [folder / f"{name}.img" for name in "cadb"]
    cut(volume, Spec("RAID5", 4, 65536, "parity-N", "continuation"), images)
    names = sorted(p.name for p in images)
    yield ask("lineup", "solve", *names, "--out", "found.toml", name=2)
    yield ask("lineup", "solve", *names, "--level", "6", name=2)
    yield ask("lineup", "prove", "found.toml", name=2)
    yield ask("lineup", "compare", "found.toml", "found.toml", name=2)
    yield ask("lineup", "draw", "found.toml", name=2)
    yield ask("lineup", "files", "found.toml", name=2)
    yield ask("lineup", "copy", "found.toml", "ebb-5.txt", "out", name=2)
    yield ask("lineup", "extract", "found.toml", "volume.img", name=2)
    yield ask("lineup", "adopt", "found.toml", "drives", "--doubtful", name=2)
    yield ask("lineup", "adopt", "found.toml", "--seen", "volume.img", name=2)
    yield ask("lineup", "report", "found.toml", "--result", "volume.img", name=2)
    (folder / "c.img").unlink()
    yield ask("lineup", "solve", *(n for n in names if n != "c.img"), name=2)
    for spec in (Spec("RAID1", 2, 65536), Spec("RAID6", 4, 65536, "parity-N", "continuation", "after-p", "data-index")):
        images = [folder / f"{spec.level}-{number}.img" for number in range(spec.members)]
        cut(volume, spec, images)
        yield ask("lineup", "solve", *(path.name for path in images), name=2)
