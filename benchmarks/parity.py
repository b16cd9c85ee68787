"""Parity rates against a plain copy of the same bytes, side by side in one run.

Eight data strips of 64 KiB in rows, 64 MiB of source bytes in all. Rates are counted in source bytes; each
figure is the median of several rounds in which copy and kernel take turns.

    python benchmarks/parity.py
"""

import statistics
import time

import numpy as np

from faithful_stripe.core.arrays import codes, gf256
from faithful_stripe.core.arrays.parity import combine, combine_many, recover

STRIP, DATA, ROWS, ROUNDS = 64 << 10, 8, 128, 9


def main() -> None:
    rng = np.random.default_rng(1)
    strips = [rng.integers(0, 256, (ROWS, STRIP), np.uint8) for _ in range(DATA)]
    target = [np.empty_like(s) for s in strips]
    p, q = np.empty((ROWS, STRIP), np.uint8), np.empty((ROWS, STRIP), np.uint8)
    checks = ((1,) * (DATA + 1) + (0,), (*(gf256.power(e) for e in range(DATA)), 0, 1))
    kernels = {"copy": lambda: [np.copyto(t, s) for t, s in zip(target, strips, strict=True)]}
    kernels["P (XOR)"] = lambda: combine(p, strips, [1] * DATA)

    kernels["P + Q"] = lambda: combine_many([p, q], strips, [row[:DATA] for row in checks])
    kernels["P + Q"]()
    cells = [*strips, p.copy(), q.copy()]

    def work(pair: tuple[int, int]) -> int:
        plan = codes.stages(checks, frozenset(pair), pair)
        return sum(7 * max(k.bit_length() for k in row) + sum(k.bit_count() for k in row) for row in plan.finish)

    # two lost data strips are the most work; which pair is worst depends on the coefficients
    worst = max(((a, b) for a in range(DATA) for b in range(a + 1, DATA)), key=work)
    plan = codes.stages(checks, frozenset(worst), worst)
    left = [cells[c] for c in plan.cells]
    kernels[f"two lost (data {worst[0]} and {worst[1]}, the worst pair)"] = lambda: recover([p, q], left, plan)
    times: dict[str, list[float]] = {name: [] for name in kernels}
    for _ in range(ROUNDS):
        for name, run in kernels.items():
            start = time.perf_counter()
            run()
            times[name].append(time.perf_counter() - start)
    assert (p == strips[worst[0]]).all() and (q == strips[worst[1]]).all()
    size = STRIP * DATA * ROWS
    base = statistics.median(times["copy"])
    print(f"{'kernel':45} {'GB/s of source':>15} {'of the copy':>12}")
    for name, taken in times.items():
        median = statistics.median(taken)
        print(f"{name:45} {size / median / 1e9:15.2f} {base / median:12.2f}")


if __name__ == "__main__":
    main()
