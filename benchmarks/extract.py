"""Extracting a volume, every row tested, beside `cp` of the same bytes: what part of its speed that is.

Both write a new sparse file on the same file system. Warm: what they read is in the cache, and the second ratio counts
`sync` for `cp`, as `extract` makes durable what it wrote. Cold: they read from the disk, as drives and their images are
read, and `sync` counts. `extract` also reads the members' parity, and the file back for its BLAKE3. A third is holes.

    python benchmarks/extract.py --mib 512
"""

import argparse
import os
import subprocess
import tempfile
import time
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

import numpy as np

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.four_verdicts import placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup
from faithful_stripe.core.source import BlockSource
from faithful_stripe.media.image import ImageFile, create_sparse
from faithful_stripe.work.extracting import extract

CHUNK = 4 << 20


def forget(paths: Sequence[Path]) -> None:
    """Have the kernel drop what it keeps of files: the next read of them is from the disk."""
    for path in paths:
        fd = os.open(path, os.O_RDONLY)
        os.fsync(fd)
        os.posix_fadvise(fd, 0, 0, os.POSIX_FADV_DONTNEED)
        os.close(fd)


def copied(source: Path, target: Path, durable: bool) -> None:
    """`cp --sparse=always`, and making the copy durable."""
    subprocess.run(["cp", "--sparse=always", source, target], check=True)
    if durable:
        subprocess.run(["sync", target], check=True)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--mib", type=int, default=512)
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    warm_words = f"{'warm: cp':>10}{'cp, sync':>10}{'extract':>10}{'of cp':>8}{'of sync':>9}"
    print(f"{'seconds, ratios':>24}{warm_words}{'cold: cp':>10}{'extract':>9}{'of cp':>8}")
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
            there: list[BlockSource | None] = [None if n < missing else f for n, f in enumerate(files)]
            found = Lineup(shape, tuple(None if f is None else str(f) for f in there), placed("certain"), 9.0, 0.0)
            seconds: dict[str, list[float]] = {}
            out = place / "out"

            def timed(word: str, run: Callable[[], object], times: dict[str, list[float]] = seconds) -> None:
                began = time.perf_counter()
                run()
                times.setdefault(word, []).append(time.perf_counter() - began)

            def ours(
                found: Lineup = found, there: list[BlockSource | None] = there, size: int = array.size, out: Path = out
            ) -> None:
                extract(found, there, "again", out, 0, size)

            for _ in range(given.rounds):  # one after the other, so that all meet the same weather
                for cold in (False, True):
                    for word, run in (("cp", partial(copied, whole, out, cold)), ("extract", ours)):
                        if cold:
                            forget([*paths, whole])
                        timed(f"{word} {cold}", run)
                        if word == "extract" and subprocess.run(["cmp", "-s", whole, out], check=False).returncode:
                            raise SystemExit(f"{level}: what was extracted is not what was written")
                        out.unlink()
                timed("sync", partial(copied, whole, out, True))
                out.unlink()
            plain, durable, warm, far, cold_ours = (
                min(seconds[k]) for k in ("cp False", "sync", "extract False", "cp True", "extract True")
            )
            what = f"{level} of {members}" + (f", {missing} missing" if missing else "")
            print(
                f"{what:>24}{plain:10.2f}{durable:10.2f}{warm:10.2f}{plain / warm:8.2f}{durable / warm:9.2f}"
                f"{far:10.2f}{cold_ours:9.2f}{far / cold_ours:8.2f}"
            )
            for file in files:
                file.close()
            for path in [*paths, whole]:
                path.unlink()


if __name__ == "__main__":
    main()
