"""Mutated images against the solver's readers: every error and the slowest search are reported.

The heads of the small file systems in `tests/data` get bytes, numbers and whole sectors changed, most of them in
places that hold something; each is searched for structures, and every hundredth pair is solved as a pile.

    python benchmarks/fuzz.py --seed 1 --count 100000
"""

import argparse
import lzma
import random
import sys
import time
import traceback
from pathlib import Path

from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.solving.solve import solve
from faithful_stripe.core.lineup.structures.anchors import find_anchors
from faithful_stripe.core.lineup.structures.ground import read_stock
from faithful_stripe.core.source import MemorySource

DATA = Path(__file__).resolve().parents[1] / "tests" / "data"
HEAD = 128 << 10
LOUD = (b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"\x80\0\0\0", b"\1\0\0\0", b"\0\0\0\1")


def mutated(head: bytes, filled: list[int], rng: random.Random) -> bytes:
    """A head with some of its bytes changed."""
    data = bytearray(head)
    for _ in range(rng.randrange(1, 12)):
        at = rng.choice(filled) * 512 + rng.randrange(508)
        kind = rng.randrange(4)
        if kind == 0:
            data[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            data[at : at + 4] = rng.choice(LOUD)
        elif kind == 2:
            data[at : at + 8] = rng.randbytes(8)
        else:
            other = rng.choice(filled) * 512
            data[at // 512 * 512 : at // 512 * 512 + 512] = head[other : other + 512]
    return bytes(data)


def source(data: bytes) -> MemorySource:
    made = MemorySource(1 << 20)
    made.write(0, data)
    return made


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=10_000)
    given = parser.parse_args()
    rng = random.Random(given.seed)
    heads = [lzma.decompress(p.read_bytes())[:HEAD] for p in sorted(DATA.glob("*.img.xz"))]
    places = [[i for i in range(HEAD // 512) if any(h[i * 512 : i * 512 + 512])] for h in heads]
    errors, slowest, last = 0, 0.0, source(heads[0])
    for number in range(given.count):
        which = rng.randrange(len(heads))
        made = source(mutated(heads[which], places[which], rng))
        start = time.perf_counter()
        try:
            find_anchors(read_stock(Pile(["mutated"], [made]), 1 << 20))
            if number % 100 == 0:
                solve(Pile(["a", "b"], [made, last]))
        except Exception:
            errors += 1
            traceback.print_exc()
        slowest = max(slowest, time.perf_counter() - start)
        last = made
    print(f"{given.count} mutated images: {errors} errors, the slowest took {slowest:.2f} s")
    sys.exit(errors > 0)


if __name__ == "__main__":
    main()
