"""Recovery jobs on image files: solve a pile, keep the lineup, open the volume it describes."""

from __future__ import annotations

import hashlib
import tomllib
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from ..core.arrays.engine import Array
from ..core.formats import ddf
from ..core.formats.ddf_volumes import described
from ..core.formats.declared import FormatError
from ..core.lineup.claims import differences, judge_claims
from ..core.lineup.document import Lineup, LineupError, Solution, read_document
from ..core.lineup.samples import Pile, Tell, silent
from ..core.lineup.solve import solve
from ..core.lineup.standing import evidence_map, structures_on
from ..core.lineup.trial import Trial, try_claim
from ..core.source import BlockSource, BlockSourceError, read
from ..media.given import text_given
from ..media.image import ImageFile, MediaError
from ..media.parts import Parts, open_image
from ..media.whole import write_text
from .tomltext import toml_value


def solve_images(paths: Sequence[Path], tell: Tell = silent) -> Solution:
    """Solve the pile of images at these paths, opened read-only. Raises MediaError, LineupError."""
    names = [str(path) for path in paths]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice:
        raise LineupError(what=f"{twice} is named twice", to_do="name every image once")
    with ExitStack() as stack:
        sources = [_open(stack, path) for path in paths]
        solution = solve(Pile(names, sources), tell)
        claims = judge_claims(described([_told(source) for source in sources]), solution.arrays, names)
        return replace(solution, claims=tuple(claims))


def _told(source: BlockSource) -> ddf.Metadata | None:
    """What DDF says on an image; None where there is none, or none that is sound."""
    try:
        return ddf.decode(source)
    except (FormatError, BlockSourceError):
        return None


HEAD_BYTES = 1 << 20


def save(solution: Solution, path: Path) -> None:
    """Write a solution as a lineup document (TOML), a new file only, with the hash of every image's first MiB.

    Raises MediaError.
    """
    document = solution.as_document()
    document["heads"] = [
        {"image": name, "sha256": head_hash(Path(name))}
        for array in solution.arrays
        for name in [*array.members, *array.stale]
        if name is not None
    ]
    write_text(path, to_toml(document))


def head_hash(path: Path) -> str:
    """SHA-256 of an image's first MiB, or of all of a shorter one; "" where that cannot be read."""
    try:
        with open_image(path) as image:
            return hashlib.sha256(read(image, 0, min(HEAD_BYTES, image.size))).hexdigest()
    except (BlockSourceError, MediaError):
        return ""


def load(path: Path) -> Solution:
    """Read a lineup document (TOML). Raises MediaError, LineupError."""
    try:
        document = tomllib.loads(text_given(Path(path)))
    except (OSError, UnicodeDecodeError) as reason:
        raise MediaError(path=path, what=f"cannot be read ({reason})", to_do="name a lineup file") from reason
    except tomllib.TOMLDecodeError as reason:
        raise LineupError(
            what=f"{path}: not TOML: {reason}", to_do="name a file that `lineup solve --out` wrote"
        ) from reason
    return read_document(document, str(path))


@contextmanager
def open_array(path: Path, number: int = 1, among: Sequence[Path] = ()) -> Iterator[tuple[Lineup, Array]]:
    """The numbered array (from 1) of a lineup file over its images, opened read-only.

    among  where images are looked up first, by file name
    """
    given = {image.name: image for image in among}
    arrays = load(path).arrays
    if number > len(arrays):
        raise LineupError(what=f"{path}: there is no array {number}", to_do=f"it has {len(arrays)}")
    found = arrays[number - 1]
    with ExitStack() as stack:
        members: list[ImageFile | Parts | None] = [
            None if name is None else _open(stack, given.get(Path(name).name) or _locate(name, path))
            for name in found.members
        ]
        for position, (image, start, size) in enumerate(
            zip(members, found.geometry.start_bytes, found.geometry.member_bytes, strict=True)
        ):
            if image is not None and image.size < start + size:
                raise MediaError(
                    path=image.path,
                    what=f"member {position}: expected at least {start + size} bytes, found {image.size}",
                    to_do="it was cut short, or is not the image that the lineup means",
                )
        yield found, Array(found.geometry, members, name=f"volume of {path.name}")


@dataclass(frozen=True)
class EvidenceMap:
    """How many structures of each image would stand right at each position: int64 (images, positions)."""

    images: tuple[str, ...]
    counts: npt.NDArray[np.int64]


def evidence_of(path: Path, number: int = 1, tell: Tell = silent) -> EvidenceMap:
    """The evidence of the numbered array of a lineup file, by image and position."""
    with open_array(path, number) as (found, array):
        there = [(n, m) for n, m in zip(found.members, array.members, strict=True) if n is not None and m is not None]
        names = [name for name, _member in there]
        pile = Pile(names, [member for _name, member in there])
        order = [names.index(n) if n is not None else None for n in found.members]
        counts = evidence_map(found.geometry, order, len(names), structures_on(pile, tell))
    return EvidenceMap(tuple(names), counts)


def what_is_read(found: Lineup, array: Array) -> str:
    """Which volume this is, in words: the geometry and the images it is read from, with their sizes."""
    sizes = [member.size if member is not None else 0 for member in array.members]
    return f"{found.geometry} {found.members} {sizes}"


def prove(path: Path, number: int = 1, tell: Tell = silent, against: Sequence[Path] = ()) -> tuple[Lineup, Trial]:
    """Test the numbered array of a lineup file, a claim like any other, against its images.

    against  images to test it with: members are looked up among them by file name first, and each one that it does not
             name is tried in every member's place
    """
    with open_array(path, number, against) as (found, array), ExitStack() as stack:
        named = {Path(name).name for name in found.members if name is not None}
        spare = [(str(image), _open(stack, image)) for image in against if image.name not in named]
        trial = try_claim(found, array.members, tell, spare)
        if trial.verdict in ("undecided", "wrong") and trial.claim.refused and not trial.sure:
            there = [(n, m) for n, m in zip(found.members, array.members, strict=True) if n is not None]
            trial = _solved_instead(found, trial, [*there, *spare], tell)
        return found, trial


def _solved_instead(
    claim: Lineup, trial: Trial, images: Sequence[tuple[str, BlockSource | None]], tell: Tell
) -> Trial:  # fmt: skip
    """The trial of a claim that is perhaps wrong in more than one thing: the images are asked for their own lineup, and
    the claim is held against that."""
    pile = [(name, image) for name, image in images if image is not None]
    found = solve(Pile([name for name, _i in pile], [image for _n, image in pile]), tell).arrays
    named = {name for name in claim.members if name is not None}
    best = max(found, key=lambda a: len(named & {m for m in a.members if m is not None}), default=None)
    if best is None or best.verdict == "undecided":
        return trial
    wrong = differences(claim, best)
    if not wrong or (trial.verdict == "wrong" and len(wrong) == 1):
        return trial
    says = f"it does not hold; the images themselves say ({best.verdict})"
    return replace(trial, verdict="wrong", says=says, wrong=tuple(wrong))


def _open(stack: ExitStack, path: Path) -> ImageFile | Parts:
    """An image, read-only, closed with the stack."""
    image = open_image(path)
    stack.callback(image.close)
    return image


def _locate(name: str, lineup: Path) -> Path:
    beside = lineup.parent / name
    return beside if not Path(name).exists() and beside.exists() else Path(name)


def to_toml(document: dict[str, Any]) -> str:
    """A lineup document as TOML; missing members are empty strings, absent values are left out."""
    lines = [f"{key} = {toml_value(value)}" for key, value in document.items() if key != "arrays"]
    for array in document["arrays"]:
        lines += ["", "[[arrays]]"]
        lines += [f"{key} = {toml_value(value)}" for key, value in array.items() if value is not None]
    return "\n".join(lines) + "\n"
