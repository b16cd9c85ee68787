"""What the solver's tests share: small real file systems, cut into images under names that lie."""

from __future__ import annotations

import lzma
import random
from pathlib import Path

import numpy as np
import pytest

from . import piles
from .cases import Case, _shuffle, truth
from .slicer import Spec, cut

DATA = Path(__file__).parent / "data"
CONTENTS = sorted(p.name.removesuffix(".img.xz") for p in DATA.glob("*.img.xz"))


def one_in(every: int, cases, single: bool = False) -> list:
    """Cases of a sweep as parameters: each `every`-th in the fast lane, all of them in `make check`."""
    long = {"marks": pytest.mark.long}
    return [pytest.param(*((c,) if single else c), **({} if i % every == 0 else long)) for i, c in enumerate(cases)]


def unpack(place: Path) -> Path:
    """The small file systems, unpacked as sparse files, and three contents without a file system."""
    for name in CONTENTS:
        data = lzma.decompress((DATA / f"{name}.img.xz").read_bytes())
        with (place / f"{name}.img").open("wb") as file:
            file.truncate(len(data))
            words = np.frombuffer(data, np.uint8)
            for block in np.flatnonzero(words.reshape(-1, 4096).any(axis=1)).tolist():
                file.seek(block * 4096)
                file.write(data[block * 4096 : block * 4096 + 4096])
    rng = random.Random(3)
    (place / "log.img").write_bytes(piles.log(rng, 6 << 20))
    (place / "pages.img").write_bytes(piles.pages(rng, 4 << 20))
    (place / "noise.img").write_bytes(rng.randbytes(4 << 20))
    (place / "stream.img").write_bytes(piles.stream(rng, 6 << 20))
    return place


def pile(place: Path, volume: Path, spec: Spec, gone=(), strangers=0, seed=1) -> Case:
    """A volume cut into images under names that lie, some of them gone."""
    members = [place / f"m{m}" for m in range(spec.members)]
    area = cut(volume, spec, members)
    alive = [None if m in gone else path for m, path in enumerate(members)]
    case = Case(volume.stem, spec, (), strangers)
    return _shuffle(case, alive, random.Random(seed), volume, place, area)


def right(case: Case, answer) -> bool:
    """Whether every strip stands where the slicer put it."""
    made = answer.geometry
    for strip, cells in truth(case, 400).items():
        found = [made.to_member(strip * case.spec.strip, copy) for copy in range(made.pattern.places.shape[0])]
        named = {(answer.members[int(member)], int(offset)) for member, offset in found}
        if {n for n in named if n[0]} != {c for c in cells if c[0]}:
            return False
    return True
