"""The solver's time and bytes read against a plain read of the same data, side by side in one run.

RAID 5 over sparse members of 1 TiB, holding the shipped file-system image.

    python benchmarks/lineup.py
"""

import random
import tempfile
import time
from pathlib import Path

from faithful_stripe.bench.observatory import unpack
from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.samples import Pile
from faithful_stripe.core.lineup.solve import solve
from faithful_stripe.core.source import read
from faithful_stripe.media.image import ImageFile, create_sparse
from faithful_stripe.media.whole import copy_data

TIB = 1 << 40


def main() -> None:
    print(
        f"{'members':>8} {'verdict':>9} {'right':>6} {'solve s':>8} {'MiB read':>9} "
        f"{'plain read s':>13} {'data MiB':>9}"
    )
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        unpack(place / "image")
        for members in (4, 8, 16, 24):
            case(place, members)


def case(place: Path, members: int) -> None:
    folder = place / str(members)
    folder.mkdir()
    paths = [folder / f"{i}.img" for i in range(members)]
    for path in paths:
        create_sparse(path, TIB)
    images = [ImageFile(path, writable=True) for path in paths]
    with ImageFile(place / "image") as source:
        array = Array(geometry("RAID5", members, 65536, member_bytes=TIB), images)
        copy_data(source, 0, source.size, array)
    order = list(range(members))
    random.Random(members).shuffle(order)
    pile = Pile([f"{i}" for i in order], [images[i] for i in order])
    start = time.perf_counter()
    (found,) = solve(pile).arrays
    solved = time.perf_counter() - start
    start, size = time.perf_counter(), 0
    for image in images:
        for a, b in image.data_ranges():
            read(image, a, b - a)
            size += b - a
    plain = time.perf_counter() - start
    right = list(found.members) == [str(i) for i in range(members)]
    print(
        f"{members:8} {found.verdict:>9} {right!s:>6} {solved:8.2f} {pile.bytes_read / 2**20:9.1f} "
        f"{plain:13.3f} {size / 2**20:9.1f}"
    )
    for image in images:
        image.close()


if __name__ == "__main__":
    main()
