"""How often an answer that stands on such signs is right: fitted to answers whose truth is known, held against others.

    python benchmarks/calibrate.py benchmarks/answers.jsonl --hold 483 484 --picture benchmarks/reliability.png
    python benchmarks/accuracy.py --small --seed 481 --cases 200 --write 481.jsonl      # more of them, and then
    python benchmarks/calibrate.py benchmarks/answers.jsonl 481.jsonl --hold 481 --write

The seeds that are held out are not fitted to; what is printed of them is what a stranger's piles would show. It fails
where, of those that would be called probable, fewer than 95 in 100 are right.
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

from faithful_stripe.core.lineup.document.calibration import FILE, Signs

matplotlib.use("Agg")

PENALTY = 0.5
"""Of the square of each weight but the first: figures that hardly vary in the sample say hardly anything."""

RIGHT = 0.95
"""Of the answers called probable, those that must be right: the least probability for it is chosen so. More than that
costs right answers and keeps out hardly a wrong one: those stand on as much as any, and what is wrong is the solver."""

LEAST = tuple(round(0.5 + 0.02 * n, 2) for n in range(25))
"""Probabilities that are tried for it, the least first."""

BINS = (0.0, 0.2, 0.4, 0.6, 0.8, 0.9, 0.95, 0.98, 1.0)

NAMES = (
    "constant", "lead, up to 20", "log(1 + total / members)", "missing / members", "log(1 + beside), untied",
    "rows / members, up to 1", "eliminated / members, untied", "log(1 + failing)", "anything fails", "closing",
    "counted", "pinned", "parity", "likely",
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


def crossed(rows: list[dict[str, Any]]) -> np.ndarray:
    """The probability of each answer by weights that were fitted to the other seeds."""
    seeds = np.array([row["seed"] for row in rows])
    terms, right = terms_of(rows)
    chances = np.zeros(len(rows))
    for seed in np.unique(seeds):
        mine = seeds == seed
        chances[mine] = said(terms[mine], fitted(terms[~mine], right[~mine]))
    return chances


def likely(rows: list[dict[str, Any]]) -> np.ndarray:
    """Which answers the solver holds for likely, but not for proven, and that promise where the volume begins."""
    chosen = [Signs.from_list(r["signs"]).likely and r["said"]["order"] != "certain" and promised(r) for r in rows]
    return np.array(chosen, bool)


def promised(row: dict[str, Any]) -> bool:
    """Whether an answer does not leave open where the volume begins: of one that is undecided in order and start the
    measure of the time may be the reason, and what it would promise without that is not known."""
    return bool(row["said"]["order"] != "probable" or row["said"].get("start") != "undecided")


def least_of(chances: np.ndarray, right: np.ndarray, others: list[bool]) -> float:
    """The least probability from which on so many answers as must be are right.

    others  whether each answer was right that is called probable without one: mirrors, and spans
    """
    for least in LEAST:
        chosen = chances >= least
        if chosen.any() and (right[chosen].sum() + sum(others)) >= RIGHT * (chosen.sum() + len(others)):
            return least
    raise SystemExit("no probability is enough: more answers are needed")


def told(
    title: str, chances: np.ndarray, right: np.ndarray, doubtful: np.ndarray, least: float
) -> tuple[int, int]:  # fmt: skip
    """Print how well probabilities hold; of those called probable: how many are right, and how many there are."""
    clipped = np.clip(chances, 1e-6, 1 - 1e-6)
    loss = -np.where(right, np.log(clipped), np.log(1 - clipped)).mean()
    share = float(right.mean())
    plain = -(share * math.log(share) + (1 - share) * math.log(1 - share)) if 0 < share < 1 else 0.0
    probable = doubtful & (chances >= least)
    print(f"{title}: {len(right)} answers, {int(right.sum())} right; log-loss {loss:.3f} ({plain:.3f} for their share)")
    for low, high in pairwise(BINS):
        here = (chances >= low) & ((chances < high) | (high == 1.0))
        if here.any():
            print(f"   said {low:.2f} to {high:.2f}: {int(right[here].sum()):4} of {int(here.sum()):4} right")
    print(f"   probable, {least} or more: {int(right[probable].sum())} of {int(probable.sum())} right")
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


def written(weights: np.ndarray, least: float, seeds: list[int], held: list[int], count: int) -> str:
    """The file that comes with the package."""
    listed = "".join(f"    {w:8.4f},  # {name}\n" for w, name in zip(weights, NAMES, strict=True))
    return (
        "# Weights of what answers stand on, see calibration.py. Made by benchmarks/calibrate.py; not to be edited.\n"
        f'date = "{datetime.date.today().isoformat()}"\nanswers = {count}\n'
        f"seeds = {seeds}\nheld_out = {held}\nleast = {least}\n"
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
    plain = [r for r in rows if not r["signs"] and r["said"]["order"] == "probable" and promised(r)]
    plain = [r for r in plain if r["seed"] not in given.hold]
    rows = [row for row in rows if row["signs"]]
    for_fit = [row for row in rows if row["seed"] not in given.hold]
    terms, right = terms_of(for_fit)
    weights = fitted(terms, right)
    for name, weight in zip(NAMES, weights, strict=True):
        print(f"   {weight:8.3f}  {name}")
    chances = crossed(for_fit)
    least = least_of(chances[likely(for_fit)], right[likely(for_fit)], [r["placed"] for r in plain])
    sets = {"by the other seeds' weights": (chances, right)}
    doubtful = [likely(for_fit)]
    held = [row for row in rows if row["seed"] in given.hold]
    if held:
        other, truth = terms_of(held)
        sets["held out"] = (said(other, weights), truth)
        doubtful.append(likely(held))
    counts = [told(title, *pair, d, least) for (title, pair), d in zip(sets.items(), doubtful, strict=True)]
    if given.picture:
        drawn(given.picture, sets)
    if given.write:
        FILE.write_text(written(weights, least, sorted({r["seed"] for r in for_fit}), sorted(given.hold), len(for_fit)))
    good, count = counts[-1]
    sys.exit(good < RIGHT * count)


if __name__ == "__main__":
    main()
