"""A pile solved once more from what was found before: what is certain is kept, the rest is searched for as long as it
takes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path

from ..core.lineup.document.lineup_document import Lineup, LineupError, Solution
from ..core.lineup.full_pass.soundness import tested
from ..core.lineup.reading.samples import Tell, silent
from .lineup import as_judged, index_of, load, open_drive_of, solve_images

SURE = ("undecided", "probable", "certain")


def solve_from(earlier: Path, paths: Sequence[Path], tell: Tell = silent, full: bool = False) -> Solution:
    """Solve the images at these paths, the arrays of an earlier lineup file that are certain left as they are.

    The others are looked for again with no bound on the time, and stay what they were where nothing surer is found.

    Raises LineupError: an image of a certain array is not among these, or holds something else now; MediaError.
    """
    before = load(earlier)
    kept = [array for array in before.arrays if array.verdicts.placing == "certain"]
    names = {name for array in kept for name in (*array.seated, *array.stale) if name is not None}
    called = {name: str(_same(paths, name, earlier)) for name in names}
    kept = [_renamed(array, called) for array in kept]
    prints = [replace(p, image=called[p.image]) for p in before.images if p.image in called]
    with ExitStack() as stack:
        images = {name: open_drive_of(stack, Path(name)) for name in called.values()}
        for print_ in prints:
            as_judged(images[print_.image], print_)
        if full:
            sources = [[None if n is None else images[n] for n in array.seated] for array in kept]
            kept = [tested(a, some, tell, seal=True)[0] for a, some in zip(kept, sources, strict=True)]
    rest = [path for path in paths if str(path) not in called.values()]
    again = solve_images(rest, tell, full, patience=math.inf) if rest else Solution((), ())
    doubtful = [
        _renamed(array, {name: str(_same(rest, name, earlier)) for name in _named(array)})
        for array in before.arrays if array.verdicts.placing != "certain" and _all_there(rest, array)
    ]  # fmt: skip
    found = list(again.arrays)
    for array in doubtful:
        mine = [a for a in found if _named(a) & _named(array)]
        if all(SURE.index(a.strength) < SURE.index(array.strength) for a in mine):
            found = [*(a for a in found if a not in mine), array]
    arrays = (*kept, *found)
    used = {name for array in arrays for name in _named(array)}
    return replace(
        again, arrays=arrays, unused=tuple(str(p) for p in paths if str(p) not in used), images=(*prints, *again.images)
    )


def _named(array: Lineup) -> set[str]:
    return {name for name in (*array.seated, *array.stale) if name is not None}


def _same(paths: Sequence[Path], name: str, earlier: Path) -> Path:
    """The path that is given now for an image of an earlier lineup. Raises LineupError."""
    try:
        return paths[index_of(paths, name if Path(name) in paths else Path(name).name)]
    except LineupError as reason:
        what = f"{earlier}: {name} belongs to an array that is certain, and is not among these images"
        raise LineupError(what=what, to_do="name it, too") from reason


def _all_there(paths: Sequence[Path], array: Lineup) -> bool:
    given = {path.name for path in paths}
    return all(Path(name).name in given for name in _named(array))


def _renamed(array: Lineup, called: dict[str, str]) -> Lineup:
    """A lineup with its images by the names that they are given now."""
    return replace(
        array, members=tuple(None if n is None else called[n] for n in array.members),
        stale=tuple(called[n] for n in array.stale), seats=tuple((called[n], p) for n, p in array.seats),
        seals=tuple(replace(s, image=called[s.image]) for s in array.seals if s.image in called),
    )  # fmt: skip
