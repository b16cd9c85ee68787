"""Extracting a volume, every row tested, beside `cp` of the same bytes: what part of its speed that is.

Both write a new sparse file on the same file system and read from its cache; the second ratio counts `sync` for `cp`,
as `extract` makes durable what it wrote. `extract` also reads the file back for its BLAKE3. A third is holes.

    python benchmarks/extract.py --mib 512
"""

import argparse
import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.four_verdicts import placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup
from faithful_stripe.media.image import ImageFile, create_sparse
from faithful_stripe.work.extracting import extract

CHUNK = 4 << 20


def copied(source: Path, target: Path, durable: bool) -> float:
    """Seconds of `cp --sparse=always`, and of making the copy durable."""
    began = time.perf_counter()
    subprocess.run(["cp", "--sparse=always", source, target], check=True)
    if durable:
        subprocess.run(["sync", target], check=True)
    seconds = time.perf_counter() - began
    target.unlink()
    return seconds


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--mib", type=int, default=512)
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    print(f"{'array':>28}{'cp s':>8}{'cp, sync s':>12}{'extract s':>11}{'of cp':>8}{'of cp, sync':>13}")
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        for level, members, missing in (("RAID0", 4, 0), ("RAID5", 4, 0), ("RAID5", 4, 1), ("RAID6", 8, 0)):
            layout = {} if level == "RAID0" else {"rotation": "parity-N", "data": "continuation"}
            if level == "RAID6":
                layout |= {"q_place": "before-p", "q_exponent": "data-index"}
            data = members - {"RAID0": 0, "RAID5": 1, "RAID6": 2}[level]
            size = (given.mib << 20) // data // 65536 * 65536
            shape = geometry(level, members, 65536, member_bytes=size, **layout)
            paths = [place / f"{level}-{missing}-{n}.img" for n in range(members)]
            for path in paths:
                create_sparse(path, shape.member_bytes[0])
            files = [ImageFile(path, writable=True) for path in paths]
            array = Array(shape, files)
            rng = np.random.default_rng(1)
            whole = place / "whole"
            create_sparse(whole, array.size)
            with ImageFile(whole, writable=True) as image:
                for number, at in enumerate(range(0, array.size, CHUNK)):
                    if number % 3:
                        block = rng.integers(0, 256, min(CHUNK, array.size - at), np.uint8).tobytes()
                        array.write(at, block)
                        image.write(at, block)
            array.flush()
            there = [None if n < missing else f for n, f in enumerate(files)]
            found = Lineup(shape, tuple(None if f is None else str(f) for f in there), placed("certain"), 9.0, 0.0)
            seconds: dict[str, list[float]] = {"cp": [], "sync": [], "extract": []}
            out = place / "out"
            for _ in range(given.rounds):  # one after the other, so that all meet the same weather
                seconds["cp"].append(copied(whole, out, False))
                seconds["sync"].append(copied(whole, out, True))
                began = time.perf_counter()
                extract(found, there, "again", out, 0, array.size)
                seconds["extract"].append(time.perf_counter() - began)
                if subprocess.run(["cmp", "-s", whole, out], check=False).returncode:
                    raise SystemExit(f"{level}: what was extracted is not what was written")
                out.unlink()
            plain, durable, ours = (min(seconds[k]) for k in ("cp", "sync", "extract"))
            what = f"{level} of {members}" + (f", {missing} missing" if missing else "")
            print(f"{what:>28}{plain:8.2f}{durable:12.2f}{ours:11.2f}{plain / ours:8.2f}{durable / ours:13.2f}")
            for file in files:
                file.close()
            for path in [*paths, whole]:
                path.unlink()


if __name__ == "__main__":
    main()
