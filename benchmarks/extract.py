"""Extracting a volume beside a plain read and write of as many bytes, on images it makes itself: the ratio of the two.

Both write a new file and make it durable; both hash what they write with SHA-256, as `lineup extract` does. Images and
copies lie on the same file system, read from its cache.

    python benchmarks/extract.py --mib 512
"""

import argparse
import hashlib
import os
import tempfile
import time
from pathlib import Path

import numpy as np

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.media.image import ImageFile, create_sparse
from faithful_stripe.work.extracting import extract

CHUNK = 4 << 20


def plain(source: Path, target: Path) -> float:
    """Seconds to read a file, hash it and write it to another one."""
    began = time.perf_counter()
    digest = hashlib.sha256()
    with open(source, "rb") as read, open(target, "xb") as write:
        while data := read.read(CHUNK):
            digest.update(data)
            write.write(data)
        write.flush()
        os.fsync(write.fileno())
    return time.perf_counter() - began


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--mib", type=int, default=512)
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    print(f"{'array':>28}{'plain s':>10}{'extract s':>11}{'ratio':>8}")
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        shapes = (
            ("RAID0", 4, 0, {}),
            ("RAID5", 4, 0, {}),
            ("RAID5", 4, 1, {}),
            ("RAID6", 8, 0, {}),
            ("RAID6", 8, 2, {}),
        )
        for level, members, missing, more in shapes:
            layout = {} if level == "RAID0" else {"rotation": "parity-N", "data": "continuation"}
            if level == "RAID6":
                layout |= {"q_place": "before-p", "q_exponent": "data-index"}
            data = members - {"RAID0": 0, "RAID5": 1, "RAID6": 2}[level]
            shape = geometry(
                level, members, 65536, member_bytes=(given.mib << 20) // data // 65536 * 65536, **layout, **more
            )
            paths = [place / f"member-{n}.img" for n in range(members)]
            for path in paths:
                path.unlink(missing_ok=True)
                create_sparse(path, shape.member_bytes[0])
            files = [ImageFile(path, writable=True) for path in paths]
            array = Array(shape, files)
            rng = np.random.default_rng(1)
            for at in range(0, array.size, CHUNK):
                array.write(at, rng.integers(0, 256, min(CHUNK, array.size - at), np.uint8).tobytes())
            array.flush()
            whole = place / "whole"
            extract(array, "first", whole, 0, array.size, lambda *_: None)
            less = Array(shape, [None if n < missing else f for n, f in enumerate(files)])
            seconds: dict[str, list[float]] = {"plain": [], "extract": []}
            for _ in range(given.rounds):  # one after the other, so that both meet the same weather
                out = place / "out"
                seconds["plain"].append(plain(whole, out))
                out.unlink()
                began = time.perf_counter()
                extract(less, "again", out, 0, less.size, lambda *_: None)
                seconds["extract"].append(time.perf_counter() - began)
                out.unlink()
            best = {name: min(values) for name, values in seconds.items()}
            what = f"{level} of {members}" + (f", {missing} missing" if missing else "")
            ratio = best["plain"] / best["extract"]
            print(f"{what:>28}{best['plain']:10.2f}{best['extract']:11.2f}{ratio:8.2f}", flush=True)
            whole.unlink()
            for file in files:
                file.close()


if __name__ == "__main__":
    main()
