"""Rebuilding one member against plain read and write loops over the same files, side by side in one run.

Eight members of 512 MiB, full of random bytes; the survivors are read and one file is written, by
`os.read`/`os.write` loops of 1 MiB and by the rebuild in turn. Peak memory is that of the rebuild's process.

    python benchmarks/rebuild.py [MIB_PER_MEMBER]
"""

import multiprocessing
import os
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.arrays.rebuild import rebuild_rows
from faithful_stripe.media.image import ImageFile, create_sparse

MEMBERS, LOST, STRIP, ROUNDS = 8, 2, 64 << 10, 3


def fill(folder: Path, level: str, size: int) -> list[Path]:
    paths = [folder / f"{level}-{i}.img" for i in range(MEMBERS)]
    for path in paths:
        create_sparse(path, size)
    images = [ImageFile(path, writable=True) for path in paths]
    array = Array(geometry(level, MEMBERS, STRIP, member_bytes=size), images)
    rng = np.random.default_rng(1)
    for at in range(0, array.size, 12 << 20):
        array.write(at, rng.integers(0, 256, min(12 << 20, array.size - at), np.uint8))
    for image in images:
        image.close()
    return paths


def plain(paths: list[Path], target: Path) -> float:
    """Read every survivor and write one file of a member's size."""
    start = time.perf_counter()
    sources = [os.open(p, os.O_RDONLY) for i, p in enumerate(paths) if i != LOST]
    out = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
    while any(pieces := [os.read(fd, 1 << 20) for fd in sources]):
        os.write(out, pieces[0])
    for fd in (*sources, out):
        os.close(fd)
    return time.perf_counter() - start


def peak_memory() -> int:
    """Peak resident memory of this process in MiB (ru_maxrss would inherit the parent's)."""
    status = Path("/proc/self/status").read_text()
    return int(status.split("VmHWM:")[1].split()[0]) >> 10


def rebuild(paths: list[Path], target: Path, level: str, answer) -> None:
    size = paths[0].stat().st_size
    target.unlink(missing_ok=True)
    create_sparse(target, size)
    start = time.perf_counter()
    members = [None if i == LOST else ImageFile(p) for i, p in enumerate(paths)]
    with ImageFile(target, writable=True) as fresh:
        array = Array(geometry(level, MEMBERS, STRIP, member_bytes=size), members)
        for _row in rebuild_rows(array, LOST, fresh, 0, array.geometry.rows):
            pass
    answer.put((time.perf_counter() - start, peak_memory()))


def main() -> None:
    size = int(sys.argv[1] if len(sys.argv) > 1 else 512) << 20
    print(f"{'level':6} {'plain s':>8} {'rebuild s':>10} {'rate of plain':>14} {'peak MiB':>9} {'identical':>10}")
    for level in ("RAID5", "RAID6"):
        with tempfile.TemporaryDirectory() as scratch:
            folder = Path(scratch)
            paths = fill(folder, level, size)
            loops, rebuilds, peak = [], [], 0
            for _ in range(ROUNDS):
                loops.append(plain(paths, folder / "plain"))
                spawn = multiprocessing.get_context("spawn")
                answer = spawn.Queue()
                worker = spawn.Process(target=rebuild, args=(paths, folder / "out", level, answer))
                worker.start()
                taken, memory = answer.get()
                worker.join()
                rebuilds.append(taken)
                peak = max(peak, memory)
            same = (folder / "out").read_bytes() == paths[LOST].read_bytes()
            a, b = statistics.median(loops), statistics.median(rebuilds)
            print(f"{level:6} {a:8.2f} {b:10.2f} {a / b:14.2f} {peak:9} {same!s:>10}")


if __name__ == "__main__":
    main()
