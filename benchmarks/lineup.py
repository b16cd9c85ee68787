"""The solver's time and bytes read against a plain read of the same data, side by side in one run.

RAID 5 over sparse members of 1 TiB, holding the shipped file-system image; RAID 60 of 24 with four strangers; a log
without a file system over 24 members. With --mib a new ext4 holds about so many MiB of files (needs mke2fs).

    python benchmarks/lineup.py --mib 1024
"""

import argparse
import os
import random
import resource
import shutil
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.piles import ext, folder_of_files

from faithful_stripe.bench.observatory import unpack
from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.solving.solve import solve
from faithful_stripe.core.source import read
from faithful_stripe.media.image import ImageFile, create_sparse
from faithful_stripe.media.whole import copy_data

TIB = 1 << 40


class Counted:
    """An image that counts what is read of it, by whoever reads."""

    def __init__(self, source: ImageFile) -> None:
        self.source, self.read = source, 0

    def __getattr__(self, name: str) -> Any:
        return getattr(self.source, name)

    def read_into(self, offset: int, buffer: Any) -> None:
        self.read += memoryview(buffer).nbytes
        self.source.read_into(offset, buffer)


def filled(place: Path, mib: int) -> Path:
    """An ext4 image with about so many MiB of files, none of which is another one's copy."""
    few = folder_of_files(random.Random(2), place / "few", 32 << 20)
    for number in range(-(-mib // 32)):
        for path in [p for p in few.rglob("*") if p.is_file()]:
            new = place / "many" / str(number) / path.relative_to(few)
            new.parent.mkdir(parents=True, exist_ok=True)
            new.write_bytes(b"copy %d of %s\n" % (number, path.name.encode()) + path.read_bytes())
    ext(place / "filled", 2 * mib << 20, place / "many", "ext4")
    shutil.rmtree(place / "many")
    return place / "filled"


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--mib", type=int, default=0)
    parser.add_argument("--members", type=int, nargs="*", help="RAID 5 of so many only")
    given = parser.parse_args()
    print(
        f"{'what':>22} {'verdict':>9} {'right':>6} {'solve s':>8} {'MiB read':>9} {'plain read s':>13} {'data MiB':>9}"
    )
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        if given.mib:
            filled(place, given.mib).rename(place / "image")
        else:
            unpack(place / "image")
        rng = random.Random(1)
        lines = (b"%d gauge level=%.3f m\n" % (1_772_000_000 + 7 * i, rng.gauss(3, 1)) for i in range(1_500_000))
        (place / "log").write_bytes(b"".join(lines))
        good = True
        for members in given.members or (4, 8, 16, 24, 32):
            good &= case(place, f"RAID 5 of {members}", "image", "RAID5", members)
        if not given.members:
            good &= case(place, "RAID 60 of 24 + 4", "image", "RAID60", 24, strangers=4)
            good &= case(place, "log, RAID 5 of 24", "log", "RAID5", 24)
    print(f"most memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB")
    sys.exit(0 if good else 1)


def case(place: Path, what: str, content: str, level: str, members: int, strangers: int = 0) -> bool:
    """Make a pile, solve it, read it plainly, print one line; whether the order is right."""
    folder = place / what
    folder.mkdir()
    paths = [folder / f"{i}.img" for i in range(members + strangers)]
    for path in paths:
        create_sparse(path, TIB)
    images = [ImageFile(path, writable=True) for path in paths]
    with ImageFile(place / content) as source:
        array = Array(geometry(level, members, 65536, member_bytes=TIB), images[:members])
        copy_data(source, 0, source.size, array)
    rng = random.Random(members)
    for image in images[members:]:
        image.write(0, rng.randbytes(8 << 20))
    order = list(range(len(images)))
    rng.shuffle(order)
    os.sync()  # what was just made is still being written: that is not the solver's time
    counted = [Counted(images[i]) for i in order]
    pile = Pile([f"{i}" for i in order], counted)
    start = time.perf_counter()
    found = solve(pile).arrays
    solved = time.perf_counter() - start
    start, size = time.perf_counter(), 0
    for image in images:
        for a, b in image.data_ranges():
            read(image, a, b - a)
            size += b - a
    plain = time.perf_counter() - start
    right = bool(found) and list(found[0].members) == [str(i) for i in range(members)]
    mib = sum(c.read for c in counted) / 2**20
    print(
        f"{what:>22} {found[0].verdicts.order.sure if found else '-':>9} {right!s:>6} {solved:8.2f} {mib:9.1f} "
        f"{plain:13.3f} {size / 2**20:9.1f}"
    )
    for image in images:
        image.close()
    shutil.rmtree(folder)
    return right


if __name__ == "__main__":
    main()
