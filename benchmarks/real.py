"""Large volumes of real files, as a kernel leaves them, cut into arrays and damaged as real ones are.

The files are this machine's own (/usr), copied in rounds with deleting and rewriting between; mounting needs root. Each
case prints its four verdicts beside the truth, processor seconds, MiB read, and, with --extract, what `lineup extract`
took beside `cp --sparse=always` of the same bytes, side by side, and whether every byte is as it was.

    python benchmarks/real.py --gib 1 --extract
    python benchmarks/real.py --gib 4 --only plain
"""

import argparse
import random
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests import used
from tests.cases import MIB, Case, _grown, _rewritten
from tests.slicer import Spec, cut

from benchmarks.accuracy import VERDICTS, placed_right, said_by
from faithful_stripe.core.lineup.document.lineup_document import Lineup, Solution
from faithful_stripe.work.extracting import extract
from faithful_stripe.work.lineup import open_array, save, solve_images, what_is_read

KINDS = ("ext4", "xfs", "btrfs", "ntfs", "fat32")
RAID5 = Spec("RAID5", 5, 65536, "parity-N", "continuation")
RARE = [
    ("parity moves every 4 rows", replace(RAID5, turn_rows=4)),
    ("parity moves every 16 rows", replace(RAID5, turn_rows=16)),
    ("spare space in every row", replace(RAID5, spare="after-p")),
    ("RAID 50 by single strips", Spec("RAID50", 6, 65536, "parity-N", "continuation", spans=2, outer="strip")),
]
"""Arrays in the layouts that are rare."""

RAID6 = Spec("RAID6", 6, 65536, "parity-N", "continuation", "after-p", "data-index")

Damage = Callable[[list[Path], Spec, random.Random, Path], None]


@dataclass
class Try:
    """A case: what is cut from which volume, what is done to it, and what must come out.

    want  verdicts that are expected, by name: those that are not named may be anything but certain and wrong
    """

    name: str
    content: str
    spec: Spec
    damage: Damage | None = None
    gone: tuple[int, ...] = ()
    stale: int | None = None
    want: dict[str, str] = field(default_factory=dict)


def holes(members: list[Path], spec: Spec, rng: random.Random, _volume: Path) -> None:
    """80 holes of 64 KiB on one member: what a copy could not read."""
    for _ in range(80):
        _write(members[1], rng.randrange(members[1].stat().st_size // 4096 - 16) * 4096, bytes(65536))


def behind(members: list[Path], spec: Spec, rng: random.Random, _volume: Path) -> None:
    """One member lacks what was written last, a few MiB."""
    path = members[2]
    for _ in range(40):
        at = rng.randrange(path.stat().st_size // 65536 - 2) * 65536
        with path.open("r+b") as file:
            file.seek(max(0, at - (16 << 20)))
            old = file.read(65536)
        _write(path, at, old)


def rewritten(members: list[Path], spec: Spec, _rng: random.Random, _volume: Path) -> None:
    """The array was made anew in another order, and parity was written over a twentieth."""
    _rewritten(members, spec, members[0].stat().st_size // spec.strip)


def grown(members: list[Path], spec: Spec, _rng: random.Random, volume: Path) -> None:
    """The array was growing to five members, and stopped late."""
    _grown(volume, spec, members, random.Random(3))


def half(members: list[Path], _spec: Spec, _rng: random.Random, _volume: Path) -> None:
    """One image is half as long as the others."""
    with members[3].open("r+b") as file:
        file.truncate(members[3].stat().st_size // 2 // 512 * 512)


def silent(members: list[Path], _spec: Spec, _rng: random.Random, _volume: Path) -> None:
    """One image is zero after 30 %."""
    size = members[3].stat().st_size
    with members[3].open("r+b") as file:
        file.truncate(size * 3 // 10 // 512 * 512)
        file.truncate(size)


def onto_stranger(members: list[Path], _spec: Spec, rng: random.Random, _volume: Path) -> None:
    """A fifth of one member was rebuilt onto a drive that held something else."""
    size = members[3].stat().st_size
    for at in range(size // 5 // MIB * MIB, size - MIB, 8 * MIB):
        _write(members[3], at, rng.randbytes(MIB))


def _read(path: Path, at: int, length: int) -> bytes:
    with path.open("rb") as file:
        file.seek(at)
        return file.read(length)


def _write(path: Path, at: int, data: bytes) -> None:
    with path.open("r+b") as file:
        file.seek(at)
        file.write(data)


def tries() -> list[Try]:
    both = {"order": "certain", "start": "certain"}
    sound = {**both, "currency": "certain", "soundness": "certain"}
    found = [Try(f"plain {kind}", kind, RAID5, want=sound) for kind in KINDS]
    found += [Try(f"plain {kind}, RAID 6", kind, RAID6, want=sound) for kind in ("ext4", "ntfs")]
    for around in used.AROUND:
        known = around in ("gpt", "mbr", "mbr-odd", "logical", "gpt4096", "lvm")
        found.append(Try(f"ext4 behind {around}", f"ext4@{around}", RAID5, want=sound if known else {}))
    found += [
        Try("holes, RAID 5", "ext4", RAID5, holes, want={**both, "soundness": "probable"}),
        Try("holes, RAID 6", "ext4", RAID6, holes, want={**both, "soundness": "certain"}),
        Try("behind, RAID 5", "ext4", RAID5, behind, stale=2, want=both),
        Try("behind, RAID 6", "ext4", RAID6, behind, stale=2, want={**both, "soundness": "certain"}),
        Try("behind, one missing", "ext4", RAID5, behind, (0,), 2, {**both, "currency": "not testable"}),
        Try("parity rewritten, RAID 5", "ext4", RAID5, rewritten, want=both),
        Try("parity rewritten, RAID 6", "ext4", RAID6, rewritten, want=both),
        Try("growth stopped at 90 %", "ext4", RAID5, grown),
        Try("RAID 0, one old", "ext4", Spec("RAID0", 4, 65536), behind, stale=2),
        Try("half an image", "ext4", RAID5, half, want=both),
        Try("zero after 30 %", "ext4", RAID5, silent, want=both),
        Try("a fifth onto a stranger", "ext4", RAID5, onto_stranger, want=both),
        Try("reversed Q", "ext4", replace(RAID6, q_exponent="data-index-reversed"), want=sound),
        Try("reversed Q, missing", "ext4", replace(RAID6, q_exponent="member-position-reversed"), gone=(2,), want=both),
    ]  # fmt: skip
    for kind in ("ext4", "xfs", "ntfs"):
        for words, rare in RARE:
            found.append(Try(f"{words}, {kind}", kind, rare, want=sound))
    return found


def run(one: Try, volume: Path, place: Path, extracting: bool) -> bool:
    """Cut, damage, solve, print a line; whether every verdict is true and as it should be."""
    place.mkdir()
    spec, rng = one.spec, random.Random(one.name)
    cutting = one.spec
    members = [place / f"m{m}" for m in range(spec.members)]
    cut(volume, cutting, members)
    if one.damage:
        one.damage(members, spec, rng, volume)
    for m in one.gone:
        members[m].unlink()
    alive = [path for m, path in enumerate(members) if m not in one.gone]
    names = {path: place / f"d{rng.randrange(1 << 30):08x}.img" for path in alive}
    for path, name in names.items():
        path.rename(name)
    case = Case(one.content, spec, (), 0, [str(names[p]) if p in names else None for p in members])
    case.volume, case.images = volume, sorted(names.values())
    case.optional = {case.names[3] or ""} if one.damage in (half, silent, onto_stranger) else set()
    case.optional |= {case.names[one.stale] or ""} if one.stale is not None else set()
    case.stale = case.names[one.stale] or "" if one.stale is not None else ""
    start = time.process_time()
    solution = solve_images(case.images)
    seconds = time.process_time() - start
    best: Lineup | None = max(solution.arrays, key=lambda a: sum(m is not None for m in a.members), default=None)
    said = said_by(best) if best else dict.fromkeys(VERDICTS, "none")
    right = best is not None and placed_right(case, best)
    line = f"{one.name:32} {'right' if right else 'WRONG':6} {' '.join(f'{said[v]:12}' for v in VERDICTS)}"
    line += f" {seconds:6.1f} s {solution.bytes_read / MIB:7.0f} MiB"
    good = right or said["order"] != "certain" or said["start"] != "certain"
    if extracting and best is not None and said["order"] != "undecided":
        words, after = handed_over(replace(solution, arrays=(replace(best, rowmap=None),)), volume, place)
        said.update(after)
        line += f" | currency {said['currency']}, soundness {said['soundness']}; {words}"
        good &= not (said["soundness"] == "certain" and "differ" in words)
        good &= not (said["currency"] == "certain" and one.stale is not None)
    expected = all(said[name] == sure for name, sure in one.want.items() if extracting or name in ("order", "start"))
    print(line + ("" if good and expected else "   <- NOT AS IT SHOULD BE"), flush=True)
    shutil.rmtree(place)
    return good and expected


def handed_over(solution: Solution, volume: Path, place: Path) -> tuple[str, dict[str, str]]:
    """Extract the only array of a solution: how long beside `cp` of the same bytes, and how many bytes differ."""
    save(solution, place / "found.toml")
    subprocess.run(["cp", "--sparse=always", volume, place / "warm"], check=True)
    (place / "warm").unlink()
    start = time.perf_counter()
    subprocess.run(["cp", "--sparse=always", volume, place / "copy"], check=True)
    plain = time.perf_counter() - start
    (place / "copy").unlink()
    with open_array(place / "found.toml") as (found, sources):
        length = min(volume.stat().st_size, found.volume_bytes)
        start = time.perf_counter()
        made, tested = extract(found, sources, what_is_read(found, sources), place / "out", 0, length)
        took = time.perf_counter() - start
    differ = 0
    with ExitStack() as stack:
        a, b = (stack.enter_context(path.open("rb")) for path in (volume, place / "out"))
        while block := a.read(4 * MIB):
            other = b.read(4 * MIB)
            if block != other:
                differ += sum(block[i : i + 4096] != other[i : i + 4096] for i in range(0, len(block), 4096)) * 4096
    said = said_by(tested)
    disk = (place / "out").stat().st_blocks / max(1, volume.stat().st_blocks)
    words = f"extract {took:.1f} s, cp {plain:.1f} s ({plain / took:.2f}), {disk:.2f} of its disk space; "
    words += f"computed {sum(n for _a, n in made.computed)}, open {sum(n for _a, n in made.open)}"
    return words + (f", {differ} bytes differ" if differ else ""), said


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--gib", type=float, default=1.0)
    parser.add_argument("--only", default="", help="cases whose name begins so, with commas")
    parser.add_argument("--extract", action="store_true", help="hand each volume over, compare it, and time it")
    parser.add_argument("--scratch", default="", help="where volumes are kept from run to run")
    given = parser.parse_args()
    if not used.usable():
        sys.exit("file systems cannot be mounted here: this needs root and loop devices")
    scratch = Path(given.scratch or tempfile.mkdtemp())
    scratch.mkdir(exist_ok=True)
    files = used.files_of(Path("/usr"), 32 * MIB)
    random.Random(5).shuffle(files)
    good = True
    print(f"{'case':32} {'':6} {' '.join(f'{v:12}' for v in VERDICTS)}")
    for number, one in enumerate(t for t in tries() if t.name.startswith(tuple(given.only.split(",")))):
        kind, _at, around = one.content.partition("@")
        volume = scratch / f"{kind}-{given.gib}.img"
        if not volume.exists():
            used.made_and_used(volume, kind, int(given.gib * (1 << 30)), files, random.Random(kind))
        if around:
            whole = scratch / f"{kind}@{around}-{given.gib}.img"
            if not whole.exists():
                used.around(whole, around, volume, random.Random(around))
            volume = whole
        good &= run(one, volume, scratch / f"case-{number}", given.extract)
    print(f"most memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB")
    if not given.scratch:
        shutil.rmtree(scratch)
    sys.exit(0 if good else 1)


if __name__ == "__main__":
    main()
