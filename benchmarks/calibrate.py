"""How often an answer that stands on such signs is right: fitted to answers whose truth is known, held against others.

    python benchmarks/accuracy.py --small --seed 471 --cases 200 --write 471.jsonl    # and others
    python benchmarks/calibrate.py 471.jsonl 472.jsonl 473.jsonl --hold 473 --picture reliability.png
    python benchmarks/calibrate.py 471.jsonl 472.jsonl 473.jsonl --hold 473 --write

The seeds that are held out are not fitted to; what is printed of them is what a stranger's piles would show. It fails
where, of those, fewer than 95 in 100 of the answers that would be called probable are right.
"""

import argparse
import datetime
import json
import math
import sys
from itertools import pairwise
from pathlib import Path
from typing import Any

import matplotlib
import numpy as np
from matplotlib import pyplot as plt
from scipy.optimize import minimize

from faithful_stripe.core.lineup.calibration import FILE, PROBABLE, Signs

matplotlib.use("Agg")

PENALTY = 0.5
"""Of the square of each weight but the first: figures that hardly vary in the sample say hardly anything."""

BINS = (0.0, 0.2, 0.4, 0.6, 0.8, 0.9, 0.95, 0.98, 1.0)

NAMES = (
    "constant", "log(1 + lead)", "log(1 + total / members)", "missing / members", "log(1 + beside)", "log(1 + rows)",
    "eliminated / members", "log(1 + failing)", "closing", "counted", "pinned", "parity",
)  # fmt: skip


def terms_of(rows: list[dict[str, Any]]) -> tuple[np.ndarray, np.ndarray]:
    """(answers, terms) float64, and bool (answers,): whether each was right."""
    terms = np.array([Signs.from_list(row["signs"]).terms for row in rows])
    return terms, np.array([row["placed"] for row in rows], bool)


def fitted(terms: np.ndarray, right: np.ndarray) -> np.ndarray:
    """Weights of the terms, float64: those under which the answers are likeliest, less the penalty."""
    sign = np.where(right, 1.0, -1.0)

    def loss(weights: np.ndarray) -> tuple[float, np.ndarray]:
        told = sign * (terms @ weights)
        short = 1 / (1 + np.exp(np.clip(told, -40, 40)))
        slope = -(terms * (sign * short)[:, None]).sum(axis=0)
        penalty = PENALTY * np.r_[0.0, weights[1:]]
        return float(np.logaddexp(0, -told).sum() + (penalty * weights).sum() / 2), slope + penalty

    return np.asarray(minimize(loss, np.zeros(terms.shape[1]), jac=True, method="L-BFGS-B").x)


def said(terms: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """The probability that each answer is right."""
    return np.asarray(1 / (1 + np.exp(-np.clip(terms @ weights, -40, 40))))


def told(title: str, chances: np.ndarray, right: np.ndarray) -> tuple[int, int]:
    """Print how well probabilities hold; of those called probable: how many are right, and how many there are."""
    clipped = np.clip(chances, 1e-6, 1 - 1e-6)
    loss = -np.where(right, np.log(clipped), np.log(1 - clipped)).mean()
    share = float(right.mean())
    plain = -(share * math.log(share) + (1 - share) * math.log(1 - share)) if 0 < share < 1 else 0.0
    probable = chances >= PROBABLE
    print(f"{title}: {len(right)} answers, {int(right.sum())} right; log-loss {loss:.3f} ({plain:.3f} for their share)")
    for low, high in pairwise(BINS):
        here = (chances >= low) & ((chances < high) | (high == 1.0))
        if here.any():
            print(f"   said {low:.2f} to {high:.2f}: {int(right[here].sum()):4} of {int(here.sum()):4} right")
    print(f"   probable, {PROBABLE} or more: {int(right[probable].sum())} of {int(probable.sum())} right")
    return int(right[probable].sum()), int(probable.sum())


def drawn(path: Path, sets: dict[str, tuple[np.ndarray, np.ndarray]]) -> None:
    """The reliability diagram: what was said, and what share was right."""
    figure, axes = plt.subplots(figsize=(6.4, 6.0), layout="constrained")
    axes.plot([0, 1], [0, 1], color="0.7", linewidth=1)
    for (title, (chances, right)), mark in zip(sets.items(), "os", strict=False):
        points = []
        for low, high in pairwise(BINS):
            here = (chances >= low) & ((chances < high) | (high == 1.0))
            if here.any():
                points.append((float(chances[here].mean()), float(right[here].mean()), int(here.sum())))
        x, y, counts = zip(*points, strict=True)
        spread = [math.sqrt(max(p * (1 - p), 0.25 / n) / n) for p, n in zip(y, counts, strict=True)]
        axes.errorbar(x, y, yerr=spread, fmt=mark, capsize=3, label=f"{title} ({len(right)} answers)")
        for at, share, count in points:
            axes.annotate(str(count), (at, share), textcoords="offset points", xytext=(7, -11), fontsize=8)
    axes.set(xlabel="probability said", ylabel="share that was right", xlim=(-0.02, 1.04), ylim=(-0.05, 1.1))
    axes.legend(loc="upper left", frameon=False)
    figure.savefig(path, dpi=120)


def written(weights: np.ndarray, seeds: list[int], held: list[int], count: int) -> str:
    """The file that comes with the package."""
    listed = "".join(f"    {w:8.4f},  # {name}\n" for w, name in zip(weights, NAMES, strict=True))
    return (
        "# Weights of what answers stand on, see calibration.py. Made by benchmarks/calibrate.py; not to be edited.\n"
        f'date = "{datetime.date.today().isoformat()}"\nanswers = {count}\nseeds = {seeds}\nheld_out = {held}\n'
        f"weights = [\n{listed}]\n"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("files", nargs="+", type=Path, help="what `accuracy.py --write` wrote")
    parser.add_argument("--hold", nargs="*", type=int, default=[], help="seeds that are not fitted to")
    parser.add_argument("--write", action="store_true", help="write the weights into the package")
    parser.add_argument("--picture", type=Path, help="draw the reliability diagram")
    given = parser.parse_args()
    rows = [json.loads(line) for path in given.files for line in path.read_text().splitlines()]
    rows = [row for row in rows if row.get("signs")]
    for_fit = [row for row in rows if row["seed"] not in given.hold]
    terms, right = terms_of(for_fit)
    weights = fitted(terms, right)
    for name, weight in zip(NAMES, weights, strict=True):
        print(f"   {weight:8.3f}  {name}")
    sets = {"fitted to": (said(terms, weights), right)}
    held = [row for row in rows if row["seed"] in given.hold]
    if held:
        other, truth = terms_of(held)
        sets["held out"] = (said(other, weights), truth)
    counts = {title: told(title, *pair) for title, pair in sets.items()}
    if given.picture:
        drawn(given.picture, sets)
    if given.write:
        FILE.write_text(written(weights, sorted({r["seed"] for r in for_fit}), sorted(given.hold), len(for_fit)))
    good, count = counts.get("held out", counts["fitted to"])
    sys.exit(good < PROBABLE * count)


if __name__ == "__main__":
    main()
