"""The solver on random piles: how often it is right, undecided, wrong, and wrong though it says certain.

Piles come from the independent slicer and real file systems in `tests`; an answer is right when every strip of the
volume stands where the slicer put it and, with P and Q, Q is counted by the slicer's rule.

    python benchmarks/accuracy.py --seed 1 --cases 200
"""

import argparse
import os
import random
import shutil
import sys
import tempfile
import time
import traceback
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.cases import Case, draw, make, truth
from tests.piles import make_volumes
from tests.slicer import Spec

from faithful_stripe.core.lineup.document import Lineup, Solution
from faithful_stripe.core.lineup.samples import Pile
from faithful_stripe.core.lineup.solve import solve
from faithful_stripe.core.source import Unreadable
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images


def verdict_of(case: Case, arrays: tuple[Lineup, ...]) -> tuple[str, str]:
    """("right", "undecided", "wrong" or "wrong and certain", the answer's own verdict)."""
    mine = {n for n in case.names if n}
    chosen = [a for a in arrays if mine & {m for m in a.members if m}]
    if not chosen:
        return "undecided", "none"
    best = max(chosen, key=lambda a: len(mine & {m for m in a.members if m}))
    right = placed_right(case, best) and counted_right(case, best)
    if best.verdict == "undecided":
        return "undecided", best.verdict
    if not right and case.damage == "stale" and best.verdict == "probable" and "out of date" in best.settle:
        return "undecided", best.verdict  # it says that a member may be out of date, but not which one
    if right:
        return "right", best.verdict
    return ("wrong and certain" if best.verdict == "certain" else "wrong"), best.verdict


def placed_right(case: Case, answer: Lineup) -> bool:
    """Whether the answer puts every strip where the slicer did; missing members' places do not count twice."""
    made, copies = answer.geometry, answer.geometry.pattern.places.shape[0]
    for strip, cells in truth(case).items():
        at = strip * case.spec.strip
        if at >= made.volume_bytes:
            break
        for inner in (0, case.spec.strip - 512):
            found = set()
            for copy in range(copies):
                member, offset = made.to_member(at + inner, copy)
                found.add((answer.members[int(member)], int(offset)))
            wanted = {(name, offset + inner) for name, offset in cells}
            if {f for f in found if f[0]} != {w for w in wanted if w[0]}:
                return False
    return True


def counted_right(case: Case, answer: Lineup) -> bool:
    """Whether P and Q stand, and Q counts each member, as the slicer wrote them; asked of an answer whose strips stand
    right. The answer's rule is put into the slicer's words, and both spell the equations of the first rows."""
    spec, layout = case.spec, answer.geometry.layout
    if spec.level not in ("RAID6", "RAID60"):
        return True
    said = replace(
        spec, strip=answer.geometry.strip_bytes, rotation=layout.rotation, data=layout.data, q_place=layout.q_place,
        q_exponent=layout.q_exponent,
    )  # fmt: skip
    at = spec.start
    while at < spec.start + 2 * spec.members * spec.strip:
        mine, row = _equation(spec, case.names, at), (at - spec.start) // said.strip
        if mine != _equation(said, answer.members, spec.start + row * said.strip):
            return False
        at += min(spec.strip, said.strip)
    return True


def _equation(spec: Spec, names: Sequence[str | None], at: int) -> list[list[tuple[str, str, int]]]:
    """Per span, what each member is in the row at `at` and how Q counts it, by name; a missing one has no name."""
    cells, n = spec.row((at - spec.start) // spec.strip), spec.members // spec.spans
    return [
        sorted(
            (names[span * n + m] or "", cells[span * n + m][0], factor)
            for m, factor in enumerate(spec.coefficients(cells, span))
        )
        for span in range(spec.spans)
    ]


class Failing:
    """An image of which some ranges cannot be read."""

    def __init__(self, source: ImageFile, bad: list[tuple[int, int]]) -> None:
        self.source, self.bad = source, bad

    def __getattr__(self, name: str) -> Any:
        return getattr(self.source, name)

    def read_into(self, offset: int, buffer: Any) -> None:
        end = offset + memoryview(buffer).nbytes
        if any(a < end and offset < b for a, b in self.bad):
            raise Unreadable(source=self.source.path, length=end - offset, offset=offset)
        self.source.read_into(offset, buffer)


def solved(case: Case) -> Solution:
    """What the solver makes of a case; where reading is to fail, it does."""
    if not case.unreadable:
        return solve_images(case.images)
    with ExitStack() as stack:
        images = [stack.enter_context(ImageFile(path)) for path in case.images]
        names = [str(path) for path in case.images]
        return solve(Pile(names, [Failing(i, case.unreadable.get(n, [])) for i, n in zip(images, names, strict=True)]))


def one(job: tuple[int, int, dict[str, str], str, str]) -> dict[str, object]:
    seed, number, volumes, scratch, keep = job
    rng = random.Random(f"{seed}/{number}")
    case = draw(rng, sorted(n for n in volumes if n != "foreign"))
    place = Path(scratch) / f"case-{seed}-{number}"
    try:
        make(case, rng, Path(volumes[case.content]), Path(volumes["foreign"]), place)
        start = time.perf_counter()
        try:
            solution = solved(case)
            result, said = verdict_of(case, solution.arrays)
        except Exception:
            traceback.print_exc()
            result, said, solution = "crash", "-", None
        seconds = time.perf_counter() - start
        settle = (
            "; ".join(f"{a.geometry.layout.level} of {a.geometry.members}: {a.settle}" for a in solution.arrays)
            if solution
            else ""
        )
        return {
            "number": number, "words": case.words(), "result": result, "said": said, "seconds": seconds,
            "enough": case.enough, "level": case.spec.level, "content": case.content, "damage": case.damage,
            "settle": settle, "read": solution.bytes_read if solution else 0,
        }  # fmt: skip
    finally:
        if keep != str(number):
            shutil.rmtree(place, ignore_errors=True)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--cases", type=int, default=200)
    parser.add_argument("--only", default="", help="case numbers, with commas")
    parser.add_argument("--keep", default="", help="the case whose images stay in --scratch")
    parser.add_argument("--scratch", default="")
    parser.add_argument("--volumes", default="", help="a folder of volumes made before")
    parser.add_argument("--verbose", action="store_true")
    given = parser.parse_args()
    scratch = given.scratch or tempfile.mkdtemp()
    made = Path(given.volumes or f"{scratch}/volumes-{given.seed}")
    if not (made / "ext4.img").exists():
        make_volumes(made, given.seed)
        make_volumes(made / "other", given.seed + 1000, 12, only="ext4")
    volumes = {p.stem: str(p) for p in made.glob("*.img")} | {"foreign": str(made / "other" / "ext4.img")}
    numbers = [int(n) for n in given.only.split(",")] if given.only else range(given.cases)
    jobs = [(given.seed, n, volumes, scratch, given.keep) for n in numbers]
    rows = []
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for row in pool.map(one, jobs):
            rows.append(row)
            if given.verbose or row["result"] in ("wrong and certain", "crash"):
                what = f"{row['number']:4} {row['result']:17} {row['said']:9} {row['seconds']:5.1f} s  {row['words']}"
                print(f"{what}  | {row['settle']}", flush=True)
    for title in ("level", "content", "damage"):
        print_table(title, rows)
    enough = [r for r in rows if r["enough"]]
    solved = sum(r["result"] == "right" for r in enough)
    certain = sum(r["result"] == "right" and r["said"] == "certain" for r in enough)
    times = sorted(float(str(r["seconds"])) for r in rows)
    false = sum(r["result"] == "wrong and certain" for r in rows)
    print(
        f"\nseed {given.seed}: {len(rows)} cases; of {len(enough)} with enough evidence {solved} solved "
        f"({solved / max(1, len(enough)):.1%}), {certain} of them certain; wrong and certain: {false}; "
        f"seconds: median {times[len(times) // 2]:.1f}, most {times[-1]:.1f}"
    )
    if not given.scratch:
        shutil.rmtree(scratch)


def print_table(title: str, rows: list[dict[str, object]]) -> None:
    kinds = ("right", "undecided", "wrong", "wrong and certain")
    print(f"\n{title:14}{'cases':>7}" + "".join(f"{k:>19}" for k in kinds))
    counts = Counter((r[title], r["result"]) for r in rows)
    for name in sorted({r[title] for r in rows}):  # type: ignore[type-var]
        print(
            f"{name!s:14}{sum(c for (n, _r), c in counts.items() if n == name):7}"
            + "".join(f"{counts[name, k]:19}" for k in kinds)
        )


if __name__ == "__main__":
    main()
