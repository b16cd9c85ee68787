"""Who is at fault: members of arrays with one parity are damaged in places, and what a full pass lays at whom is held
against the truth.

One equation says that somebody is wrong, not who. Each case damages one member, or two, at random places: holes
of a copy that could not read, patterns, what stood there before, what a foreign drive holds. Counted are the sectors
that were damaged and laid at the right member, those laid at another one, and those left open, by kind of damage. Ends
with 1 where more than a few in a thousand are laid at the wrong one.

    python benchmarks/blame.py --volumes FOLDER --seed 1 --cases 60
    python benchmarks/blame.py --seed 1 --cases 60
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
from collections import Counter
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.slicer import Spec, cut

from benchmarks.accuracy import small_volumes
from faithful_stripe.core.arrays.geometry import Geometry, geometry
from faithful_stripe.core.lineup.full_pass.row_pass import full_pass
from faithful_stripe.media.image import ImageFile

SECTOR = 512
MOST_WRONG = 0.002
"""Of the sectors that are laid at somebody, the share that may be laid at the wrong member."""

Bytes = npt.NDArray[np.uint8]
Fill = Callable[[random.Random, Bytes, int, int], bytes]


def zeros(_rng: random.Random, _held: Bytes, _at: int, length: int) -> bytes:
    return bytes(length)


def pattern(_rng: random.Random, _held: Bytes, _at: int, length: int) -> bytes:
    return b"\xde\xad\xbe\xef" * (length // 4)


def before(rng: random.Random, held: Bytes, at: int, length: int) -> bytes:
    """What stands elsewhere on the same member, as an older state of it would be like."""
    other = rng.randrange(max(1, (len(held) - length) // 4096)) * 4096
    return held[other : other + length].tobytes()


def foreign(rng: random.Random, _held: Bytes, _at: int, length: int) -> bytes:
    return rng.randbytes(length)


KINDS: dict[str, tuple[Fill, tuple[int, ...], int]] = {
    "holes": (zeros, (4096, 65536, 65536, 262144), 4096),
    "holes by sector": (zeros, (512, 4096, 32768), 512),
    "pattern": (pattern, (4096, 65536, 262144), 4096),
    "before, by strip": (before, (0,), 0),
    "before, by block": (before, (4096, 16384), 4096),
    "foreign": (foreign, (65536, 262144), 4096),
}
"""By name: what is written, lengths that one piece has and what it is aligned to, in bytes; 0 for the strip."""


@dataclass
class Told:
    """Sectors that were damaged: laid at the right member, laid at another, left open; and sound ones not used."""

    right: int = 0
    wrong: int = 0
    open: int = 0
    sound: int = 0


def damaged(rng: random.Random, held: Bytes, kind: str, strip: int, pieces: int) -> npt.NDArray[np.bool_]:
    """Damage a member in place; which of its sectors differ now."""
    fill, lengths, unit = KINDS[kind]
    was = held.copy()
    data = np.flatnonzero(held.reshape(-1, 4096).any(axis=1)) * 4096  # most blocks of a drive were never written
    for _ in range(pieces):
        length, step = rng.choice(lengths) or strip, unit or strip
        at = min(int(rng.choice(data)) + rng.randrange(4096) // step * step, len(held) - length) // step * step
        held[at : at + length] = np.frombuffer(fill(rng, was, at, length), np.uint8)
    changed: npt.NDArray[np.bool_] = (was != held).reshape(-1, SECTOR).any(axis=1)
    return changed


def laid_in(made: Geometry, paths: list[Path]) -> npt.NDArray[np.bool_]:
    """Which sectors of each member a full pass does not use: bool (members, sectors)."""
    with ExitStack() as stack:
        found = full_pass(made, [stack.enter_context(ImageFile(path)) for path in paths])
    laid = np.zeros((len(paths), made.member_bytes[0] // SECTOR), bool)
    for fault in found.faults:
        laid[fault.member, fault.start // SECTOR : -(-fault.end // SECTOR)] = True
    return laid


def case(rng: random.Random, volumes: list[Path], place: Path) -> tuple[str, str, Told]:
    """Cut, damage, read: words for the case, the kind of damage, and what was told."""
    volume = rng.choice(volumes)
    members = rng.choice((3, 4, 5, 6, 8, 12))
    spec = Spec("RAID5", members, rng.choice((4, 16, 64, 64, 128, 256)) << 10, "parity-N", "continuation")
    kind, pieces = rng.choice(sorted(KINDS)), rng.choice((1, 2, 5, 20, 80))
    hurt = rng.sample(range(members), rng.choice((1, 1, 1, 2)))
    paths = [place / f"{m}.img" for m in range(members)]
    size = cut(volume, spec, paths)
    changed = {}
    for m in hurt:
        held = np.fromfile(paths[m], np.uint8)
        changed[m] = damaged(rng, held, kind, spec.strip, pieces)
        held.tofile(paths[m])
    made = geometry("RAID5", members, spec.strip, member_bytes=size, rotation=spec.rotation, data=spec.data)
    laid = laid_in(made, paths)
    several = sum(c.astype(int) for c in changed.values()) > 1
    told = Told()
    for m, where in changed.items():
        others = np.delete(laid, m, axis=0).any(axis=0)
        told.right += int((where & laid[m] & ~several).sum())
        told.wrong += int((where & ~laid[m] & others & ~several).sum())
        told.open += int((where & ~laid[m] & ~others).sum())
    told.sound = int((laid.any(axis=0) & ~sum(changed.values()).astype(bool)).sum())
    for path in paths:
        path.unlink()
    words = f"{members} x {spec.strip >> 10}K {volume.stem} {kind}, {pieces} on {len(hurt)}"
    return words, kind, told


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--volumes", default="", help="a folder of file-system images; else small ones are made")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--cases", type=int, default=60)
    parser.add_argument("--each", action="store_true", help="print every case")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        if given.volumes:
            volumes = sorted(Path(given.volumes).glob("*.img"))
        else:
            volumes = [p for _name, p in sorted(small_volumes(Path(scratch) / "volumes").items())]
        sums: dict[str, Counter[str]] = {}
        for number in range(given.cases):
            place = Path(scratch) / f"case-{number}"
            place.mkdir()
            words, kind, told = case(random.Random(f"{given.seed}/{number}"), volumes, place)
            sums.setdefault(kind, Counter()).update(vars(told))
            if given.each:
                print(f"{number:4} {words:60} {told}", flush=True)
    print(f"{'damage':20} {'right':>9} {'wrong':>9} {'open':>9} {'sound, not used':>16}")
    whole: Counter[str] = Counter()
    for kind, count in sorted(sums.items()):
        whole.update(count)
        print(f"{kind:20} {count['right']:9} {count['wrong']:9} {count['open']:9} {count['sound']:16}")
    wrong = whole["wrong"] / max(1, whole["wrong"] + whole["right"])
    print(f"{'all':20} {whole['right']:9} {whole['wrong']:9} {whole['open']:9} {whole['sound']:16}")
    print(f"laid at the wrong member: {wrong:.4%} of what is laid at somebody")
    sys.exit(1 if wrong > MOST_WRONG else 0)


if __name__ == "__main__":
    main()
