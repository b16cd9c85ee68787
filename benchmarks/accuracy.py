"""The solver on random piles: how often it is right, undecided, wrong, and which of its verdicts are certain and wrong.

Piles come from the independent slicer and real file systems in `tests`, some of them mounted and used by a kernel (as
root); an answer is right when every strip of the volume stands where the slicer put it and, with P and Q, Q is counted
by the slicer's rule. Each of the four verdicts is held against what was done; soundness against the bytes themselves.
The frozen corpus holds seeds 2, 461, 462 and 471 of the small draw, 100 cases each.

    python benchmarks/accuracy.py --seed 1 --cases 200
    python benchmarks/accuracy.py --small --seed 2 --cases 100 --against benchmarks/corpus-small.jsonl
"""

import argparse
import filecmp
import json
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
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

import numpy as np
from tests import cutting, used
from tests.cases import Case, draw, make, truth
from tests.piles import MIB, ext, folder_of_files, make_volumes
from tests.slicer import Spec

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.lineup.document.ledger import Ledger
from faithful_stripe.core.lineup.document.lineup_document import Lineup, Solution
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.solving.solve import solve
from faithful_stripe.core.ranges import clip, union
from faithful_stripe.core.source import BlockSource, BlockSourceError, Unreadable, read
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import prove, save, solve_images

VERDICTS = ("order", "start", "currency", "soundness")


Written = tuple[str, float, int, int]


@dataclass(frozen=True)
class Judged:
    """An answer held against what was cut.

    result  "right", "undecided" or "wrong": of order and start together
    said    its own verdicts, by name
    false   those of them that say "certain" and are wrong
    placed  whether order and start are right, however sure; signs: what it stands on
    ledger  its entries as (kind, nats, agree, contrary); rival: those of the next different answer
    """

    result: str
    said: dict[str, str]
    false: tuple[str, ...]
    lead: float
    placed: bool = False
    signs: tuple[float, ...] = ()
    ledger: tuple[Written, ...] = ()
    rival: tuple[Written, ...] = ()


def _written(ledger: Ledger) -> tuple[Written, ...]:
    return tuple((e.kind.name, round(e.nats, 1), e.agree, e.contrary) for e in ledger)


def as_named(case: Case, array: Lineup) -> Lineup:
    """An answer with what it takes for two passes over one drive called by the one of them that is a member."""

    def one(name: str | None) -> str | None:
        parts = name.split("+") if name and "+" in name else [name]
        return next((part for part in parts if part in case.names), parts[0])

    return replace(array, members=tuple(one(name) for name in array.members))


def judge(case: Case, arrays: tuple[Lineup, ...]) -> Judged:
    """What an answer is worth."""
    arrays = tuple(as_named(case, a) for a in arrays)
    mine = {n for n in case.names if n} | ({case.stale} if case.only_old is not None else set())
    chosen = [a for a in arrays if mine & {m for m in a.members if m}]
    strange = [part for a in arrays if a not in chosen for part in _of_others(case, a)]
    if not chosen:
        return Judged("undecided", dict.fromkeys(VERDICTS, "none"), tuple(dict.fromkeys(strange)), 0.0)
    best = max(chosen, key=lambda a: len(mine & {m for m in a.members if m}))
    judged = _judge_one(case, best)
    # of a part of them that is called an array of its own, what is certain is false as well
    parts = [part for a in chosen if a is not best for part in _judge_one(case, a).false]
    return replace(judged, false=tuple(dict.fromkeys([*judged.false, *parts, *strange])))


def _of_others(case: Case, answer: Lineup) -> tuple[str, ...]:
    """What is certain and false of an answer about images that are no members: of the other array in the pile, or of
    strangers, which are no array, unless they are copies of one another."""
    names = [str(m) for m in answer.members if m]
    if case.beside and set(names) & set(case.beside.names):
        other = replace(case.beside, images=case.images)
        return tuple(f"other {name}" for name in _judge_one(other, answer).false)
    alike = len(names) > 1 and all(filecmp.cmp(names[0], name, shallow=False) for name in names[1:])
    return ("order of strangers",) if said_by(answer)["order"] == "certain" and not alike else ()


def _judge_one(case: Case, best: Lineup) -> Judged:
    said = said_by(best)
    started = placed_right(case, best)
    ordered = (started or placed_right(case, best, apart=True)) and (counted_right(case, best) or _adds_up(best))
    behind = case.optional | {case.stale}
    if _nothing_written(case):
        behind.add(case.names[case.aged or 0] or "")
    truth = {
        "order": ordered,
        "start": started or set(best.geometry.start_bytes) == {case.spec.start},
        "currency": (case.stale not in best.members or _nothing_written(case)) and set(best.stale) <= behind,
        "soundness": said["soundness"] != "certain" or sound(case, best),
    }
    false = tuple(name for name in VERDICTS if said[name] == "certain" and not truth[name])
    least = {said["order"], said["start"]}
    right = ordered and started
    result = "right" if right and "undecided" not in least else "undecided" if "undecided" in least else "wrong"
    signs = getattr(best, "signs", None)
    ledgers = (_written(getattr(best, which, ())) for which in ("ledger", "rival"))
    figures = tuple(signs.as_list()) if signs else ()
    return Judged(result, said, false, best.best - best.next, right, figures, *ledgers)


def _adds_up(answer: Lineup) -> bool:
    """Whether every row that holds data was read, and no member is at fault in any: P and Q are where it has them."""
    return answer.rowmap is not None and not answer.rowmap.open and not answer.rowmap.faults


def _nothing_written(case: Case) -> bool:
    """Whether an old copy beside its member holds just what that does: what it lacks was wiped, or never written."""
    fresh = None if case.aged is None else case.names[case.aged]
    return bool(fresh) and filecmp.cmp(case.stale, str(fresh), shallow=False)


def said_by(answer: Lineup) -> dict[str, str]:
    """The verdicts of an answer; of one that knew a single verdict, that one for all."""
    verdicts = getattr(answer, "verdicts", None)
    if verdicts is None:
        return dict.fromkeys(VERDICTS, answer.verdict)
    return {name: str(getattr(verdicts, name).sure) for name in VERDICTS}


def sound(case: Case, answer: Lineup) -> bool:
    """Whether what would be handed over is the volume that was cut, byte for byte."""
    assert case.volume is not None
    with ExitStack() as stack:
        paths = {str(p): p for p in case.images}
        members = [stack.enter_context(ImageFile(paths[m])) if m else None for m in answer.members]
        given = handed_over(answer, members)
        source = stack.enter_context(case.volume.open("rb"))
        step = 4 << 20
        for at in range(0, case.volume.stat().st_size, step):
            want = source.read(step)
            size = min(len(want), max(0, given.size - at))
            try:
                if read(given, at, size) != want[:size] or want[size:].strip(b"\0"):
                    return False
            except BlockSourceError:
                return False
    return True


def handed_over(answer: Lineup, members: Sequence[Any]) -> BlockSource:
    """The volume as `lineup extract` writes it."""
    made = getattr(answer, "opened", None)
    return made(members) if made is not None else Array(answer.geometry, members)


def placed_right(case: Case, answer: Lineup, apart: bool = False) -> bool:
    """Whether the answer puts every strip where it belongs, or where the same bytes stand: members that hold one value
    throughout, or data and a copy of it as parity, have no order that anything could tell."""
    return _stands_right(case, answer, apart) or (not apart and not case.unreadable and sound(case, answer))


def _stands_right(case: Case, answer: Lineup, apart: bool = False) -> bool:
    """Whether the answer puts every strip where the slicer did; missing members' places do not count twice. An old copy
    in its member's own seat stands where it should: that it is old is a matter of currency.

    apart  the volume may begin elsewhere, so long as everything follows as it should
    """
    made, copies = answer.geometry, answer.geometry.pattern.places.shape[0]
    later = _moved(case, answer) if apart else 0
    seated = seats_of(case, answer)
    twins = twins_of(case, answer) if case.spec.level == "RAID1" else set()
    for strip, cells in truth_for(case, answer).items():
        at = strip * case.spec.strip + later
        if at < 0:
            continue
        if at + case.spec.strip > made.volume_bytes:
            return "cut short" in case.damages or at >= filled_to(case) + later
        for inner in (0, case.spec.strip - 512):
            found = set()
            for copy in range(copies):
                member, offset = made.to_member(at + inner, copy)
                found.add((seated[int(member)], int(offset)))
            wanted = {(name, offset + inner) for name, offset in cells}
            named = {f for f in found if f[0] and f[0] not in twins}
            lacking = {w for w in wanted if w[0]} - named
            if not named <= wanted or any(name not in case.optional | set(answer.stale) for name, _at in lacking):
                return False
    return True


def filled_to(case: Case) -> int:
    """Where the data of the volume that was cut end, in bytes."""
    assert case.volume is not None
    data = np.memmap(case.volume, np.uint8, "r")
    for end in range(len(data), 0, -MIB):
        held = np.flatnonzero(data[max(0, end - MIB) : end])
        if len(held):
            return max(0, end - MIB) + int(held[-1]) + 1
    return 0


def seats_of(case: Case, answer: Lineup) -> list[str | None]:
    """The images by position, an old copy by the name of the member that it is one of."""
    fresh = None if case.aged is None else case.names[case.aged]
    return [fresh if m == case.stale and fresh and fresh not in answer.members else m for m in answer.members]


TWIN_SHARE = 0.999
"""Of the volume's bytes, those that a stranger must hold to be as good as a member: the rest may be unreadable."""


def twins_of(case: Case, answer: Lineup) -> set[str]:
    """Strangers in a mirror that hold its volume, all of it: nothing on them tells that they were no members."""
    found = set[str]()
    assert case.volume is not None
    volume = np.fromfile(case.volume, np.uint8)
    for name, start in zip(answer.members, answer.geometry.start_bytes, strict=True):
        if name and name not in case.names:
            held = np.fromfile(name, np.uint8, len(volume), offset=start)
            if len(held) == len(volume) and (held == volume).mean() >= TWIN_SHARE:
                found.add(name)
    return found


def truth_for(case: Case, answer: Lineup) -> dict[int, set[tuple[str | None, int]]]:
    """The places of as many of the first strips that some lie behind where the answer has the data begin."""
    before = max(0, *answer.geometry.start_bytes) - case.spec.start
    return truth(case, 3000 + max(0, before) // case.spec.strip * case.spec.members)


def _moved(case: Case, answer: Lineup) -> int:
    """By how many bytes later than in the volume that was cut its first strips stand in the answer's."""
    seats = {name: p for p, name in enumerate(seats_of(case, answer)) if name}
    for strip, cells in truth_for(case, answer).items():
        for name, offset in cells:
            if strip and name in seats:
                at = int(answer.geometry.to_volume(seats[name], offset))
                if at >= 0:
                    return at - strip * case.spec.strip
    return 0


def counted_right(case: Case, answer: Lineup) -> bool:
    """Whether P and Q stand, and Q counts each member, as the slicer wrote them; asked of an answer whose strips stand
    right. The answer's rule is put into the slicer's words, and both spell the equations of the first rows."""
    spec, layout = case.spec, answer.geometry.layout
    if spec.level not in ("RAID6", "RAID60"):
        return True
    if layout.members != spec.members:  # it reads alike, over a part of them
        return False
    said = replace(
        spec, strip=answer.geometry.strip_bytes, rotation=layout.rotation, data=layout.data, q_place=layout.q_place,
        q_exponent=layout.q_exponent, turn_rows=layout.turn_rows, spare=layout.spare, outer=layout.outer,
    )  # fmt: skip
    at = spec.start
    told = [case.stale if m == case.only_old else n for m, n in enumerate(case.names)]
    names = [None if n in case.optional and n not in seats_of(case, answer) else n for n in told]
    while at < spec.start + 2 * spec.members * spec.strip:
        mine, row = _equation(spec, names, at), (at - answer.geometry.start_bytes[0]) // said.strip
        if mine != _equation(said, seats_of(case, answer), spec.start + row * said.strip):
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


Row = dict[str, Any]


class Failing:
    """An image of which some ranges cannot be read."""

    def __init__(self, source: ImageFile, bad: list[tuple[int, int]]) -> None:
        self.source, self.bad = source, bad

    def __getattr__(self, name: str) -> Any:
        return getattr(self.source, name)

    def data_ranges(self, start: int = 0, end: int | None = None) -> list[tuple[int, int]]:
        """What holds data or cannot be read: neither can be taken for zeros."""
        stop = self.source.size if end is None else end
        return union([*self.source.data_ranges(start, stop), *clip(self.bad, start, stop)])

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


def proven_alike(case: Case, solution: Solution, place: Path) -> str:
    """Whether `prove`, given each array of an answer and the whole pile, says what `solve` said of it: "", or how not.

    Of several answers that are equally good, `prove` may find another one first: it certifies neither.
    """
    save(solution, place / "answer.toml")
    found = []
    for number, array in enumerate(solution.arrays, 1):
        _claim, proof = prove(place / "answer.toml", number, against=case.images)
        if proof.verdicts is None:
            if said_by(array)["order"] != "undecided":
                found.append(f"array {number}: solve says {said_by(array)['order']}, prove says another lineup")
            continue
        for name in VERDICTS[:2]:
            mine, theirs = said_by(array)[name], str(getattr(proof.verdicts, name).sure)
            if mine != theirs:
                found.append(f"array {number}: {name} is {mine} for solve, {theirs} for prove")
    return "; ".join(found)


def turned_alike(case: Case, solution: Solution) -> str:
    """Whether the same images in another order give the same answer, where it is probable at least: "", or how not."""
    again = solve_images(case.images[::-1])
    sure = [{_seats(a): a for a in s.arrays if said_by(a)["order"] != "undecided"} for s in (solution, again)]
    for seated in sure[0].keys() ^ sure[1].keys():
        first = seated in sure[0]
        one = sure[0 if first else 1][seated]
        if placed_right(case, as_named(case, one)):
            continue  # the same bytes in the same places
        words = ", ".join(Path(m).name if m else "-" for m in seated)
        return f"only {'in' if first else 'against'} the images' order: {one.geometry.layout.level} {words}"
    return ""


def _seats(found: Lineup) -> tuple[str, ...]:
    """The images by position; copies of one another have no order."""
    copies = len(found.seated) if found.geometry.layout.level == "RAID1" else found.geometry.layout.copies
    names = [name or "" for name in found.seated]
    return tuple(n for i in range(0, len(names), copies) for n in sorted(names[i : i + copies]))


def asked_again(case: Case, solution: Solution, place: Path, prove_it: bool, turn: bool) -> str:
    """What `prove`, and the same images in another order, make of an answer where they differ from it."""
    try:
        told = [proven_alike(case, solution, place) if prove_it else "", turned_alike(case, solution) if turn else ""]
    except Exception:
        return traceback.format_exc().splitlines()[-1]
    return "; ".join(t for t in told if t)


def rarer(rng: random.Random, spec: Spec) -> Spec:
    """An array of a rare layout instead, where its level has one."""
    if spec.rotation not in ("parity-0", "parity-N"):
        return spec
    kinds = ["turn"] * 2 + ["spare"] * (spec.level == "RAID5" and spec.members > 3) + ["outer"] * 2 * (spec.spans > 1)
    match rng.choice(kinds):
        case "turn":
            return replace(spec, turn_rows=rng.choice((2, 4, 8, 16)))
        case "spare":
            return replace(spec, spare=rng.choice(("after-p", "before-p")))
        case _:
            return replace(spec, outer="strip")


def one(job: tuple[int, int, dict[str, str], str, str, int, int, bool]) -> Row:
    seed, number, volumes, scratch, keep, prove_each, turn_each, rare = job
    rng = random.Random(f"{seed}/{number}")
    case = draw(rng, sorted(n for n in volumes if n != "foreign"))
    if rare:
        case.spec = rarer(random.Random(f"rare/{seed}/{number}"), case.spec)
    place = Path(scratch) / f"case-{seed}-{number}"
    try:
        make(case, rng, Path(volumes[case.content]), Path(volumes["foreign"]), place)
        start, solution = time.process_time(), None
        try:
            solution = solved(case)
            seconds = time.process_time() - start
            judged = judge(case, solution.arrays)
        except Exception:
            traceback.print_exc()
            judged, seconds = Judged("crash", dict.fromkeys(VERDICTS, "-"), (), 0.0), 0.0
        alike = ""
        if solution and not case.unreadable:
            prove_it, turn = (each and number % each == 0 for each in (prove_each, turn_each))
            alike = asked_again(case, solution, place, bool(prove_it), bool(turn))
        found = solution.arrays if solution else ()
        shapes = [f"{a.geometry.layout.level} of {a.geometry.members}" for a in found]
        settle = "; ".join(f"{one}: {a.settle.what if a.settle else ''}" for one, a in zip(shapes, found, strict=True))
        return {
            "seed": seed, "number": number, "words": case.words(), "result": judged.result, "said": judged.said,
            "false": list(judged.false), "seconds": round(seconds, 2), "lead": round(judged.lead, 1),
            "enough": case.enough, "level": case.spec.level, "content": case.content, "damages": list(case.damages),
            "rows": case.rows, "placed": judged.placed, "signs": list(judged.signs), "settle": settle,
            "ledger": judged.ledger, "rival": judged.rival, "alike": alike,
            "read": solution.bytes_read if solution else 0,
        }  # fmt: skip
    finally:
        if keep != str(number):
            shutil.rmtree(place, ignore_errors=True)
            if case.volume is not None and case.volume.parent.name.startswith("tmp"):
                shutil.rmtree(case.volume.parent, ignore_errors=True)


def small_volumes(made: Path) -> dict[str, Path]:
    """The volumes that come with the tests: always the same, so that a case is the same wherever it is run."""
    made.mkdir(parents=True, exist_ok=True)
    if not (made / "log.img").exists():
        cutting.unpack(made)
    volumes = {p.stem: p for p in made.glob("*.img")}
    return volumes | {"foreign": made / "ext4-nocsum.img"}


def all_volumes(made: Path, seed: int) -> None:
    """Volumes from the tools that make file systems, ones that a kernel has used, and what stands around them."""
    make_volumes(made, seed)
    make_volumes(made / "other", seed + 1000, 12, only="ext4")
    (made / "small.img").unlink(missing_ok=True)
    ext(made / "small.img", 6 * MIB, folder_of_files(random.Random(seed), made / "a-few", MIB), "ext4", "-b", "1024")
    if not used.usable():
        print("no kernel-made volumes: they need root and loop devices", file=sys.stderr)
        return
    rng = random.Random(f"used/{seed}")
    files = used.files_of(made / "files") + used.files_of(Path("/usr/share"), 256 << 10)[:4000]
    rng.shuffle(files)
    for kind in used.MAKERS:
        used.made_and_used(made / f"{kind}-used.img", kind, 64 * MIB, files, rng)
    inner = ["ext4-used", "xfs-used", "btrfs-used", "ntfs-used", "fat32-used", "ext4-1k"]
    for around in used.AROUND:
        for name in rng.sample(inner, 2):
            used.around(made / f"{name}@{around}.img", around, made / f"{name}.img", rng)
    used.locked(made / "luks.img", 24 * MIB, rng)
    used.two_swaps(made / "ext4-used@two swaps.img", made / "ext4-used.img")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--cases", type=int, default=200)
    parser.add_argument("--only", default="", help="case numbers, with commas")
    parser.add_argument("--keep", default="", help="the case whose images stay in --scratch")
    parser.add_argument("--scratch", default="")
    parser.add_argument("--volumes", default="", help="a folder of volumes made before")
    parser.add_argument("--small", action="store_true", help="the tests' own small volumes: the same everywhere")
    parser.add_argument("--write", type=Path, help="keep every answer in this file, a line each")
    parser.add_argument("--against", type=Path, help="print what changed since the run that is kept in this file")
    parser.add_argument("--jobs", type=int, default=0, help="cases at a time; one for each core without it")
    parser.add_argument("--prove", type=int, default=0, help="every so many cases, ask `prove`, too")
    parser.add_argument("--turned", type=int, default=0, help="every so many cases, ask of the images turned round")
    parser.add_argument("--rare", action="store_true", help="arrays with parity in the rare layouts")
    parser.add_argument("--verbose", action="store_true")
    given = parser.parse_args()
    scratch = given.scratch or tempfile.mkdtemp()
    made = Path(given.volumes or f"{scratch}/volumes-{given.seed}")
    if given.small:
        volumes = {name: str(path) for name, path in small_volumes(made).items()}
    else:
        if not (made / "small.img").exists():
            all_volumes(made, given.seed)
        volumes = {p.stem: str(p) for p in made.glob("*.img")} | {"foreign": str(made / "other" / "ext4.img")}
    numbers = [int(n) for n in given.only.split(",")] if given.only else range(given.cases)
    jobs = [(given.seed, n, volumes, scratch, given.keep, given.prove, given.turned, given.rare) for n in numbers]
    rows = []
    with ProcessPoolExecutor(given.jobs or os.cpu_count()) as pool, ExitStack() as stack:
        kept = stack.enter_context(given.write.open("w")) if given.write else None
        for row in pool.map(one, jobs):
            rows.append(row)
            if kept:
                print(json.dumps(row), file=kept, flush=True)  # what was measured stays, wherever the run ends
            if given.verbose or row["false"] or row["alike"] or row["result"] == "crash":
                said = " ".join(row["said"].values())  # type: ignore[attr-defined]
                false = f" FALSE {','.join(row['false'])}" if row["false"] else ""  # type: ignore[arg-type]
                what = f"{row['number']:4} {row['result']:9} {said:38}{false} {row['seconds']:5.1f} s  {row['words']}"
                print(f"{what}  | {row['settle']}", flush=True)
                if row["alike"]:
                    print(f"     APART {row['alike']}", flush=True)
    for title in ("level", "content"):
        print_table(title, rows)
    print_table("damage", [{**r, "damage": d} for r in rows for d in (r["damages"] or ["none"])])  # type: ignore[attr-defined]
    failed = print_summary(given.seed, rows)
    if given.against:
        compare([json.loads(line) for line in given.against.read_text().splitlines()], rows)
    if not given.scratch:
        shutil.rmtree(scratch)
    sys.exit(1 if failed else 0)


def print_summary(seed: int, rows: list[Row]) -> bool:
    """Print the counts; whether any answer was certain and wrong, or none."""
    enough = [r for r in rows if r["enough"]]
    solved = sum(r["result"] == "right" for r in enough)
    certain = sum(r["result"] == "right" and r["said"]["order"] == r["said"]["start"] == "certain" for r in enough)
    times = sorted(float(r["seconds"]) for r in rows)
    print("\nenough evidence: decided by what was cut and done alone, by the rule in tests/cases.py, Case.enough")
    print(
        f"seed {seed}: {len(rows)} cases; of {len(enough)} with enough evidence {solved} right "
        f"({solved / max(1, len(enough)):.1%}), {certain} of them certain in order and start; "
        f"processor seconds: median {times[len(times) // 2]:.1f}, most {times[-1]:.1f}"
    )
    for name in VERDICTS:
        words = Counter(r["said"][name] for r in rows)
        false = sum(name in r["false"] for r in rows)
        print(f"  {name:10} certain and wrong: {false};  " + ", ".join(f"{w} {c}" for w, c in words.most_common()))
    apart = sum(bool(r["alike"]) for r in rows)
    print(f"  apart from `prove`, or from the images turned round: {apart}")
    return bool(apart) or any(r["false"] or r["result"] == "crash" for r in rows)


def compare(before: list[Row], now: list[Row]) -> None:
    """What changed, case by case, since a run that was written to a file."""
    known = {(r["seed"], r["number"]): r for r in before}
    changes: dict[str, list[str]] = {"became right": [], "became wrong": [], "surer": [], "less sure": [], "slower": []}
    both = [(known[r["seed"], r["number"]], r) for r in now if (r["seed"], r["number"]) in known]
    for old, new in both:
        if old["words"] != new["words"]:
            print(f"case {new['number']} is another one than in the file: {old['words']}")
            continue
        what = f"{new['number']} ({new['words']})"
        if old["result"] != "right" == new["result"]:
            changes["became right"].append(what)
        if old["result"] == "right" != new["result"] or set(new["false"]) - set(old["false"]):
            changes["became wrong"].append(what)
        sure = [all(r["said"][v] == "certain" for v in ("order", "start")) for r in (old, new)]
        if sure[0] != sure[1]:
            changes["surer" if sure[1] else "less sure"].append(what)
        if new["seconds"] > 2 * old["seconds"] + 1:
            changes["slower"].append(f"{what} {old['seconds']} -> {new['seconds']} s")
    print(f"\nagainst the file, {len(both)} cases:")
    for title, found in changes.items():
        print(f"  {title}: {len(found)}")
        for what in found:
            print(f"    {what}")
    print(f"  certain and wrong: {sum(len(o['false']) for o, _n in both)} -> {sum(len(n['false']) for _o, n in both)}")
    print(f"  processor seconds: {sum(o['seconds'] for o, _ in both):.0f} -> {sum(n['seconds'] for _, n in both):.0f}")


def print_table(title: str, rows: list[Row]) -> None:
    kinds = ("right", "undecided", "wrong")
    print(f"\n{title:26}{'cases':>7}{'enough':>8}" + "".join(f"{k:>11}" for k in kinds) + f"{'certain, wrong':>16}")
    for name in sorted({r[title] for r in rows}):
        mine = [r for r in rows if r[title] == name]
        counts = Counter(r["result"] for r in mine)
        print(
            f"{name!s:26}{len(mine):7}{sum(r['enough'] for r in mine):8}" + "".join(f"{counts[k]:11}" for k in kinds)
            + f"{sum(bool(r['false']) for r in mine):16}"
        )  # fmt: skip


if __name__ == "__main__":
    main()
