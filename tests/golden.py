"""What every main output looks like, kept in `tests/golden/`: written anew by `python -m tests.golden`, and read in the
diff."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Iterator
from pathlib import Path

from faithful_stripe.bench.bench import create

from . import cutting
from .conftest import SERIALS, Runner
from .slicer import Spec, cut

KEPT = Path(__file__).parent / "golden"
WIDTHS = (60, 80, 100, 160)
AT = ("--at", "skerry")
SHOWN: dict[str, tuple[str, ...]] = {
    "survey": (*AT, "survey"), "bays": (*AT, "bays"), "log": (*AT, "log"), "ready": (*AT, "ready"),
    "volume-show": (*AT, "volume", "show", "tides"), "firmware-show": (*AT, "firmware", "show"),
    "controller-show": (*AT, "controller", "show"), "weigh": ("weigh", "--drives", "6", "--size", "4TB"),
    "volume-add": (*AT, "volume", "add", "more", "--level", "10", "--bays", "8-11"),
    "stock-match": (*AT, "stock", "match", "5"), "lineup-solve": ("lineup", "solve", "a.img", "b.img", "c.img"),
    "lineup-prove": ("lineup", "prove", "found.toml"), "lineup-draw": ("lineup", "draw", "found.toml"),
    "lineup-files": ("lineup", "files", "found.toml", "."), "words": ("words", "margin"), "help": ("--help",),
    "nothing": ("--at", "nowhere", "survey"), "alone": (),
}  # fmt: skip


def pages(folder: Path, volume: Path) -> Iterator[tuple[str, str]]:
    """(name, what all commands print in all widths, in a pipe): times left out, for the clock runs."""
    run = Runner(folder)
    create(folder / "skerry")
    run(*AT, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials",
        ",".join(SERIALS))  # fmt: skip
    run(*AT, "bench", "fault", "5")
    run(*AT, "bench", "fault", "9", "predicted")
    for serial, size in (("S1", "4TB"), ("S2", "2TB")):
        run("stock", "add", serial, "--size", size, "--media", "HDD", "--protocol", "SAS", "--rpm", "7200",
            "--note", "from the mast hut, ran warm for a summer", "--stock", "stock.csv")  # fmt: skip
    members = [folder / f"{name}.img" for name in "cab"]
    cut(volume, Spec("RAID5", 3, 65536, "parity-N", "restart"), members)
    run("lineup", "solve", "a.img", "b.img", "c.img", "--out", "found.toml")
    for name, words in SHOWN.items():
        text = []
        for width in WIDTHS:
            done = run(*words, FSTRIPE_WIDTH=str(width), COLUMNS=str(width))
            text.append(f"--- {width} columns, exit status {done.status}\n{done.out}")
            text.append(f"--- on standard error\n{done.err}" if done.err else "")
        yield name, steady("".join(text))


def steady(text: str) -> str:
    """Without what differs from run to run: moments and ages, as long as they were."""
    text = re.sub(r"\d{4}-\d\d-\d\d([ T])\d\d:\d\d(:\d\d)?", lambda m: re.sub(r"\d", "0", m[0]), text)
    return re.sub(r"\b[0-9A-Fa-f]{12,}\b", lambda m: "0" * len(m[0]), text)


def main() -> None:
    KEPT.mkdir(exist_ok=True)
    for old in KEPT.glob("*.txt"):
        old.unlink()
    with tempfile.TemporaryDirectory() as place:
        (Path(place) / "volumes").mkdir()
        (Path(place) / "work").mkdir()
        cutting.unpack(Path(place) / "volumes")
        for name, text in pages(Path(place) / "work", Path(place) / "volumes" / "ext4-nocsum.img"):
            (KEPT / f"{name}.txt").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
