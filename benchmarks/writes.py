"""Every command that writes, killed or failing at every call that changes a file: `crash.py --every-write`.

A small library of our own (failing.c, made with the machine's C compiler and loaded before the others) counts the
calls. Each case is a fresh copy of a folder and one command in a process of its own; at its n-th call that process is
killed, or the call fails with an I/O error, or the disk is full from there on. Afterwards: every bench opens; every
volume reads as it was, with each member left out as well; what was acknowledged is there; each drive is in one bench
only; the stock list, records and what was extracted are whole or not there; and a failure is one line that is true.
"""

from __future__ import annotations

import ctypes
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import traceback
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from tests.small import SIZE, TEXT

from faithful_stripe.bench.bench import Bench
from faithful_stripe.bench.updating import package_for
from faithful_stripe.core.source import read
from faithful_stripe.work.stock import read_stock

from .borders import called_aloud

WAYS = {"killed": 0, "I/O error": 1, "disk full": 2}
LONGEST = 120


@dataclass(frozen=True)
class Case:
    """A command, and what must hold after it: `check(folder, acknowledged)` raises AssertionError."""

    words: tuple[str, ...]
    check: Callable[[Path, bool], None] = lambda _folder, _acknowledged: None


@dataclass
class Tally:
    said: Counter[str] = field(default_factory=Counter)
    troubles: list[str] = field(default_factory=list)


# what must hold ---------------------------------------------------------------------------------


def _content(folder: Path) -> dict[str, bytes]:
    """The volumes of a bench by name, each read whole and with each member left out, which must be the same."""
    found = {}
    bench = Bench(folder)
    try:
        with bench.session() as s:
            for c in s.controllers.values():
                for v in c.memory.volumes.values():
                    if c.margin(v) < 0:
                        found[v.name] = b""  # offline: a member was pulled that it cannot do without
                        continue
                    array = c.array(v)
                    found[v.name] = read(array, 0, array.size)
                    for position in range(len(v.members)):
                        if not v.lost and v.geometry.redundant and not c.jobs_of(v):
                            array = c.array(v)
                            array.members[position] = None
                            assert read(array, 0, array.size) == found[v.name], f"{v.name} without {position}"
    finally:
        bench.close()
    return found


def _drives(folder: Path) -> set[str]:
    bench = Bench(folder)
    try:
        with bench.session() as s:
            for serial, drive in s.state.drives.items():
                s.medium(drive)  # the image is there, of the right size
                for path in (folder / "drives").glob(f"{serial}.img*"):
                    assert path.stat().st_nlink == 1, f"{path} has another name"
            return set(s.state.drives)
    finally:
        bench.close()


def _new(folder: Path, acknowledged: bool) -> None:
    assert (folder / "c").exists() or not acknowledged
    if (folder / "c").exists():
        assert _drives(folder / "c")


def _taken(folder: Path, acknowledged: bool) -> None:
    if acknowledged:
        assert (folder / "c").is_dir(), "acknowledged, and there is no bench"
    order = ["c", "b"] if len(str(folder)) % 2 else ["b", "c"]  # either may be opened first
    found = [serial for name in order if (folder / name).exists() for serial in _drives(folder / name)]
    assert sorted(found) == sorted(set(found)), f"in both: {sorted(found)}"
    assert {"S1", "S2", "D1"} <= set(found), f"lost: {sorted(found)}"
    assert ("S1" in (_drives(folder / "c") if (folder / "c").exists() else ())) is (folder / "c").exists()
    left = [p.name for p in folder.iterdir() if p.name.startswith(".c.new")]
    assert not left, left


def _listed(folder: Path, acknowledged: bool) -> None:
    there = {i.serial for i in read_stock(folder / "stock.csv")}
    assert "OLD1" in there and ("NEW1" in there or not acknowledged), there


def _reported(folder: Path, acknowledged: bool) -> None:
    assert (folder / "out.md").exists() or not acknowledged
    if (folder / "out.md").exists():
        text = (folder / "out.md").read_text()
        assert text.count("\n## ") >= 2 and text.endswith("\n"), "a torn report"


def _extracted(folder: Path, acknowledged: bool) -> None:
    assert (folder / "out.img").exists() or not acknowledged
    if (folder / "out.img").exists():
        assert (folder / "out.img").read_bytes() == (folder / "a.img").read_bytes(), "a torn volume"


def _named(name: str, there: bool) -> Callable[[Path, bool], None]:
    def check(folder: Path, acknowledged: bool) -> None:
        assert not acknowledged or (name in _content(folder / "b")) is there, f"acknowledged: {name}"

    return check


_AT = ("--at", "b")
CASES: dict[str, Case] = {
    "bench new": Case(("bench", "new", "c", "--from", "c.toml"), _new),
    "bench new --take": Case(("bench", "new", "c", "--from", "c.toml", "--take", "b:S1"), _taken),
    "stock add": Case(("stock", "add", "NEW1", "--size", "4TB", "--media", "HDD", "--stock", "stock.csv"), _listed),
    "report": Case((*_AT, "report", "out.md"), _reported),
    "lineup extract": Case(("lineup", "extract", "found.toml", "out.img"), _extracted),
    "swap": Case((*_AT, "swap", "2", "--detach")),
    "build": Case((*_AT, "build", "sheet.toml", "--yes", "--expect-serials", "E5,E6"), _named("w", True)),
    "firmware update": Case((*_AT, "firmware", "update", "r.pldm", "--yes", "--speed", "3600")),
    "volume add": Case((*_AT, "volume", "add", "w", "--level", "RAID1", "--bays", "5,6", "--yes",
                        "--expect-serials", "E5,E6"), _named("w", True)),
    "volume remove": Case((*_AT, "volume", "remove", "x", "--yes", "--expect-serials", "D1,D2,D3"), _named("x", False)),
    "bench seat": Case((*_AT, "bench", "seat", "7", "S1")),
    "bench pull": Case((*_AT, "bench", "pull", "1")),
    "bench advance": Case((*_AT, "bench", "advance", "1h")),
    "spare add": Case((*_AT, "spare", "add", "5")),
}  # fmt: skip


def prepared(folder: Path) -> None:
    """A bench with a filled volume and an empty one, another's description, a stock list, a package, a lineup."""
    text = TEXT.replace(f"size = {SIZE}", f"size = {SIZE + (1 << 20)}").replace("rate = 1", "rate = 100")
    text = text.replace('"1-6"', '"1-7"').replace("[[stock]]", "5 = { model = \"small\", serial = \"E5\" }\n"
                                                "6 = { model = \"small\", serial = \"E6\" }\n[[stock]]", 1)  # fmt: skip
    (folder / "d.toml").write_text(text)
    (folder / "c.toml").write_text(text.replace('serial = "', 'serial = "C').replace("small-1", "small-2"))
    rng = random.Random(1)
    (folder / "v.img").write_bytes(rng.randbytes(700_000))
    (folder / "a.img").write_bytes(b"\xeb\x3c\x90" + rng.randbytes((1 << 20) - 3))
    shutil.copy(folder / "a.img", folder / "b.img")
    (folder / "sheet.toml").write_text(
        'format = "faithful-stripe/sheet/1"\nserver = "small-1"\n[[volume]]\nname = "w"\nlevel = "RAID1"\n'
        'drives = ["5", "6"]\n'
    )
    for words in (
        ["bench", "new", "b", "--from", "d.toml"],
        [*_AT, "volume", "add", "v", "--level", "RAID5", "--bays", "1-3", "--size", "1MB", "--strip", "4KiB", "--yes",
         "--expect-serials", "D1,D2,D3"],
        [*_AT, "volume", "add", "x", "--level", "RAID0", "--bays", "1-3", "--strip", "4KiB", "--yes",
         "--expect-serials", "D1,D2,D3"],
        [*_AT, "bench", "load", "v", "v.img"],
        ["stock", "add", "OLD1", "--size", "4TB", "--media", "HDD", "--stock", "stock.csv"],
        ["lineup", "solve", "a.img", "b.img", "--out", "found.toml"],
        [*_AT, "report", "out.md"],
    ):  # fmt: skip
        status, _out, err = called_aloud(words, folder)
        assert status in (0, 3), (words, status, err)
    (folder / "out.md").unlink()
    bench = Bench(folder / "b")
    with bench.session() as s:
        (folder / "r.pldm").write_bytes(package_for(s.state, "CTRL-1", "7.9"))
    bench.close()


def once(kept: Path, case: Case, way: int, at: int, tally: Tally, name: str, before: dict[str, bytes]) -> int:
    """One run; how many calls it made."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / ("x" * (1 + at % 2))
        subprocess.run(["cp", "-a", "--sparse=always", kept, folder], check=True)
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            _child(folder, case, way, at, writing)
        os.close(writing)
        told = b""
        while piece := os.read(reading, 65536):
            told += piece
        os.close(reading)
        _pid, code = os.waitpid(child, 0)
        said = json.loads(told) if told else {"status": None, "err": "", "count": 0}
        try:
            assert way == 0 or said["status"] is not None, f"ended by {code}"
            after(folder, case, said, before)
            ended = "killed" if said["status"] is None else "done" if said["status"] in (0, 3) else "refused"
            tally.said[f"{name}: {ended}"] += 1
        except BaseException as reason:
            tally.said[f"{name}: TROUBLE"] += 1
            said_of = f"{name}, {next(w for w, n in WAYS.items() if n == way)} at call {at}"
            tally.troubles.append(f"{said_of}: {type(reason).__name__}: {reason}\n  {said['err'].strip()}")
        return int(said["count"])


def after(folder: Path, case: Case, said: dict, before: dict[str, bytes]) -> None:
    """What must hold after any command."""
    status, err = said["status"], said["err"]
    acknowledged = status in (0, 3)
    if status == 1:
        lines = [line for line in err.splitlines() if line.startswith("fstripe: ")]
        assert len(lines) == 1 and "Traceback" not in err, f"not one line: {err}"
        assert "make a new bench" not in err, "a passing error is no reason for a new bench"
    assert status in (None, 0, 1, 3), f"status {status}: {err}"
    case.check(folder, acknowledged)
    content = _content(folder / "b")
    assert content["v"] == before["v"], "the volume differs"
    if status == 1 and "nothing was changed" in err:
        assert set(content) == set(before), "nothing was changed, it said"


def _child(folder: Path, case: Case, way: int, at: int, writing: int) -> None:
    told: dict[str, object] = {}
    library = ctypes.CDLL(os.environ["LD_PRELOAD"])
    try:
        signal.alarm(LONGEST)
        os.chdir(folder)
        os.environ["XDG_STATE_HOME"] = str(folder / ".state")
        (folder / ".state").mkdir(exist_ok=True)
        library.arm(ctypes.c_long(at), way)
        status, _out, err = called_aloud(list(case.words), folder)
        told = {"status": status, "err": err, "count": library.counted()}
    except BaseException:
        told = {"status": 99, "err": traceback.format_exc(), "count": 0}
    finally:
        library.arm(ctypes.c_long(-1), 0)
        os.write(writing, json.dumps(told).encode() if told else b"")
        os._exit(0)


def library(folder: Path) -> Path:
    """Make the library that counts. Raises OSError, CalledProcessError where there is no C compiler."""
    made = folder / "failing.so"
    source = Path(__file__).with_name("failing.c")
    subprocess.run(["cc", "-O1", "-w", "-shared", "-fPIC", "-o", made, source, "-ldl"], check=True, capture_output=True)
    return made


def run(names: list[str], step: int, first: int = 1, ways: list[str] | None = None) -> Tally:
    """Every `step`-th call of each named command, from call `first` on; to be called with the library loaded."""
    tally = Tally()
    with tempfile.TemporaryDirectory() as place:
        kept = Path(place) / "kept"
        kept.mkdir()
        prepared(kept)
        before = _content(kept / "b")
        for name in names:
            case = CASES[name]
            count = once(kept, case, 0, 1 << 40, tally, name, before)
            assert count, f"{name}: {tally.troubles or 'changes no file'}"
            for way in ways or list(WAYS):
                for at in range(first, count + 1, step):
                    once(kept, case, WAYS[way], at, tally, name, before)
    return tally


def main(names: list[str], step: int) -> None:
    if "LD_PRELOAD" not in os.environ:
        with tempfile.TemporaryDirectory() as place:
            environment = os.environ | {"LD_PRELOAD": str(library(Path(place)))}
            words = [sys.executable, "-m", "benchmarks.writes", str(step), *names]
            sys.exit(subprocess.run(words, env=environment, check=False).returncode)
    wrong = 0
    for name in names or CASES:
        tally = run([name], step)
        print("\n".join(tally.troubles), end="\n" if tally.troubles else "")
        print(", ".join(f"{what} {count}" for what, count in sorted(tally.said.items())), flush=True)
        wrong += len(tally.troubles)
    sys.exit(wrong > 0)


if __name__ == "__main__":
    main(sys.argv[2:], int(sys.argv[1]) if len(sys.argv) > 1 else 1)
