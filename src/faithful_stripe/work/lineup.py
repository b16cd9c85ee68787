"""Recovery jobs on image files: solve a pile, keep the lineup, open the volume it describes."""

from __future__ import annotations

import secrets
import tomllib
from collections.abc import Iterator, Mapping, Sequence, Set
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from ..core.formats import ddf
from ..core.formats.ddf_volumes import described
from ..core.formats.declared import FormatError
from ..core.lineup.claims.ddf_claim import differences, judge_claims
from ..core.lineup.claims.neighbour_test import Trial, try_claim
from ..core.lineup.document.alternative import Alike, Alternative
from ..core.lineup.document.custody import Fingerprint, NotAsJudged, Part, changed, fingerprint
from ..core.lineup.document.four_verdicts import Reason, Sure, Verdict, Verdicts
from ..core.lineup.document.held import Held
from ..core.lineup.document.known import MISSING, OPEN, Given
from ..core.lineup.document.lineup_document import Claim, Lineup, LineupError, Solution, read_document
from ..core.lineup.document.told_facts import Note, Remark
from ..core.lineup.full_pass.soundness import tested
from ..core.lineup.reading.imaged_twice import imaged_twice
from ..core.lineup.reading.samples import PATIENCE_SECONDS, Effort, Pile, Tell, silent
from ..core.lineup.solving.solve import STOPPED, solve, solve_given, stopped
from ..core.lineup.structures.standing import evidence_map, structures_on
from ..core.ranges import total
from ..core.source import BlockSource, BlockSourceError
from ..media.drive_image import DriveImage
from ..media.forgiving import Forgiving
from ..media.forms import open_drive, whole_images
from ..media.given import text_given, toml_of, why_not
from ..media.image import MediaError
from ..media.remote import address_of
from ..media.whole import write_text
from .places import parts_of
from .tomltext import from_toml, toml_value


def solve_images(
    paths: Sequence[Path], tell: Tell = silent, full: bool = False, given: Given | None = None,
    without: Sequence[Path] = (), stale: Sequence[Path] = (), patience: float = PATIENCE_SECONDS,
) -> Solution:  # fmt: skip
    """Solve the pile of images at these paths, opened read-only. Raises MediaError, LineupError.

    full     whether everything that holds data is read, however much that is
    given    what is known of an array; an order's images by their paths, or by file names where that is enough
    patience  of the processor's time, in seconds, after which what is less likely is not tried
    without  images that take no part; stale: that are out of date, and so take none, but belong to what is found
    """
    names = [str(path) for path in paths]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice:
        raise LineupError(what=f"{twice} is named twice", to_do="name every image once")
    paths, pieces = whole_images(paths)
    left_out, old = ([paths[index_of(paths, str(p))] for p in some] for some in (without, stale))
    paths = [path for path in paths if path not in (*left_out, *old)]
    names = [str(path) for path in paths]
    if given is not None:
        order = tuple(n if n in (OPEN, MISSING) else names[index_of(paths, n)] for n in given.order)
        given = replace(given, order=order)
    with ExitStack() as stack:
        sources = [open_drive_of(stack, path) for path in paths]
        was = [_fingerprint(name, source) for name, source in zip(names, sources, strict=True)]
        pile = Pile(names, sources, effort=Effort(patience))
        known = given is not None and given.anything
        solution = solve_given(pile, given, tell, full) if known and given else solve(pile, tell, full)
        better = None
        if not known and not stopped(solution):
            try:
                better = _as_passes(stack, pile, paths, solution, tell, full)
            except KeyboardInterrupt:
                solution = replace(solution, notes=(*solution.notes, STOPPED))
        if better is not None:
            solution, names, sources = better
            was = [_fingerprint(name, source) for name, source in zip(names, sources, strict=True)]
        for source, print_ in zip(sources, was, strict=True):
            as_judged(source, print_)
        claims = judge_claims(described([_told(source) for source in sources]), solution.arrays, names)
        arrays = tuple(pinned_by(a, claims) for a in solution.arrays)
        arrays = tuple(replace(a, holds=_held(a, dict(zip(names, sources, strict=True)))) for a in arrays)
        arrays = arrays and (replace(arrays[0], stale=(*arrays[0].stale, *map(str, old))), *arrays[1:])
        unused = (*solution.unused, *map(str, left_out), *(() if arrays else map(str, old)))
        notes = solution.notes
        if pieces:
            notes = (*notes, Note(Remark.PIECES, count=len(pieces)))
        return replace(
            solution,
            arrays=arrays,
            unused=unused,
            claims=tuple(claims),
            images=tuple(was),
            notes=notes,
        )


PASSES_SHARE = 0.5
"""Of the time for a search, what one with two passes as one drive may take after it. Chosen, so that both end within a
minute of the processor's time or little more."""


def _as_passes(
    stack: ExitStack, pile: Pile, paths: Sequence[Path], found: Solution, tell: Tell, full: bool
) -> tuple[Solution, list[str], list[DriveImage]] | None:  # fmt: skip
    """What a pile says when drives that seem to have been imaged twice are taken for that, with the names and images it
    consists of then; None where there are none, or nothing better comes of it.

    Mirrors of which no set but one has its mate are such a pile, and more members are missing in them than need be. A
    second pass that is put aside, as out of date or as a stranger, is better than that where rows do not match.
    """
    undecided = [a for a in found.arrays if a.strength == "undecided"]
    unread = [a for a in found.arrays if None in a.members and a.rowmap is None]
    unmatched = [a for a in found.arrays if a.rowmap is not None and a.rowmap.open]
    untold = unread + [a for a in unmatched if None in a.members or a.stale or found.unused]
    lacking = undecided + untold
    if not lacking or not pile.effort.left():
        return None
    tell("whether a drive was imaged twice")
    seated = [
        {m for m in a.members if m} for a in found.arrays if a not in lacking
    ]  # mates of a mirror are found already
    complete = not undecided and not any(None in a.members for a in lacking)
    groups = [
        group for group in imaged_twice(pile, bool(undecided), complete)
        if not any({pile.names[i] for i in group} <= members for members in seated)
    ]  # fmt: skip
    if not groups:
        return None
    tell("once more, with what was imaged twice as one")
    first = {group[0]: group for group in groups}
    later = {i for group in groups for i in group[1:]}
    chosen = [first.get(i, (i,)) for i in range(len(pile)) if i not in later]
    names = ["+".join(str(paths[i]) for i in group) for group in chosen]
    sources = [open_drive_of(stack, Path(name)) for name in names]
    # a search of its own: with what time is left of the first one, it would only be a doubtful one
    part = Pile(names, sources, effort=Effort(pile.effort.patience * PASSES_SHARE))
    again = solve(part, tell, full)
    joined = {"+".join(str(paths[i]) for i in group) for group in groups}
    mine = next((a for a in again.arrays if joined & set(a.members)), None)
    sure = ("undecided", "probable", "certain")
    worst = min((sure.index(a.strength) for a in lacking), default=0)
    if mine is None or sure.index(mine.strength) < max(1, worst) or _mates_rather(mine, joined):
        return None
    if not undecided and unmatched and (mine.rowmap is None or _open_bytes([mine]) > _open_bytes(unmatched)):
        return None
    notes = (*again.notes, Note(Remark.IMAGED_TWICE, tuple(sorted(joined))))
    arrays = tuple(
        replace(a, alternatives=(*a.alternatives, Alternative(Alike.MATES)))
        if joined & set(a.members) and a.geometry.layout.level == "RAID0"
        else a
        for a in again.arrays
    )
    return replace(again, arrays=arrays, notes=notes, bytes_read=pile.bytes_read + part.bytes_read), names, sources


def _open_bytes(arrays: Sequence[Lineup]) -> int:
    """Bytes of volumes that do not match, as far as they were read."""
    return sum(total(a.rowmap.open) for a in arrays if a.rowmap is not None)


def _mates_rather(array: Lineup, joined: Set[str]) -> bool:
    """Whether an image that was put together of two has no mate in a mirror of which other sets have theirs: then the
    two are mates, of which one is not whole, and nobody is missing."""
    copies = array.geometry.layout.copies
    sets = [array.members[at : at + copies] for at in range(0, array.geometry.members, copies)]
    lacking = [bool(joined & set(mates)) for mates in sets if None in mates]
    return copies > 1 and any(lacking) and len(lacking) < len(sets)


def _held(array: Lineup, images: Mapping[str, BlockSource]) -> tuple[Held, ...]:
    """What stands on a volume; nothing where it is not known where it begins, or which image stands where."""
    if array.verdicts.placing == "undecided":
        return ()
    volume = array.opened([None if name is None else images.get(name) for name in array.seated])
    return tuple(parts_of(Forgiving(volume)))


def index_of(paths: Sequence[Path], name: str) -> int:
    """Which of the images a person means: by its path, or by its file name where only one is called so."""
    exact = [i for i, path in enumerate(paths) if str(path) == name or path == Path(name)]
    found = exact or [i for i, path in enumerate(paths) if path.name == name or path.stem == name]
    if len(found) != 1:
        what = f"{name} is none of the images" if not found else f"{name} may be any of {len(found)} images"
        raise LineupError(what=what, to_do="name one of those that are to be solved, by its path")
    return found[0]


def _fingerprint(name: str, image: DriveImage) -> Fingerprint:
    return fingerprint(image, name, secrets.randbits(32), image.identity, image.serial)


def as_judged(image: BlockSource, was: Fingerprint) -> None:
    """Raises NotAsJudged."""
    where = changed(image, was)
    if where is not None:
        raise NotAsJudged(image=was.image, where=_WHERE[where].format(was.size, image.size))


_WHERE = {
    Part.SIZE: "it held {} bytes then, and holds {} now",
    Part.HEAD: "its first MiB holds something else",
    Part.TAIL: "its last MiB holds something else",
    Part.PLACES: "some of its data are others",
}


def _told(source: BlockSource) -> ddf.Metadata | None:
    """What DDF says on an image; None where there is none, or none that is sound."""
    try:
        return ddf.decode(source)
    except (FormatError, BlockSourceError):
        return None


def pinned_by(array: Lineup, claims: Sequence[Claim]) -> Lineup:
    """A lineup of which nothing but the controller's own set-up states where the volume begins, where the data agree
    with that in everything."""
    members = {m for m in array.seated if m is not None}
    agreed = any(c.verdict == "holds" and set(c.images) & members for c in claims)
    verdicts = array.verdicts
    if not agreed or verdicts.start.sure is not Sure.PROBABLE:
        return array
    order = verdicts.order
    if order.reason is Reason.SHIFT:
        order = Verdict(Sure.CERTAIN, Reason.PROVEN)
    return replace(array, verdicts=replace(verdicts, order=order, start=Verdict(Sure.CERTAIN, Reason.DDF)))


def save(solution: Solution, path: Path) -> None:
    """Write a solution as a lineup document (TOML), a new file only. Raises MediaError."""
    write_text(path, to_toml(solution.as_document()))


def load(path: Path) -> Solution:
    """Read a lineup document (TOML). Raises MediaError, LineupError."""
    try:
        document = toml_of(text_given(Path(path)))
    except (OSError, UnicodeDecodeError) as reason:
        raise MediaError(path=path, what=f"cannot be read: {why_not(reason)}", to_do="name a lineup file") from reason
    except tomllib.TOMLDecodeError as reason:
        raise LineupError(
            what=f"{path}: not TOML: {reason}", to_do="name a file that `lineup solve --out` wrote"
        ) from reason
    return read_document(from_toml(document), str(path))


Members = list[BlockSource | None]


@contextmanager
def open_array(path: Path, number: int = 1, among: Sequence[Path] = ()) -> Iterator[tuple[Lineup, Members]]:
    """The numbered array (from 1) of a lineup file, and its images by position, opened read-only.

    among  where images are looked up first, by file name
    """
    given = {image.name: image for image in among}
    solution = load(path)
    arrays, prints = solution.arrays, {image.image: image for image in solution.images}
    if number > len(arrays):
        raise LineupError(what=f"{path}: there is no array {number}", to_do=f"it has {len(arrays)}")
    found = arrays[number - 1]
    with ExitStack() as stack:
        members: Members = []
        for position, name in enumerate(found.seated):
            image = None if name is None else open_drive_of(stack, _among(given, name) or locate(name, path))
            members.append(image)
            least = found.geometry.start_bytes[position] + found.geometry.member_bytes[position]
            if image is None:
                continue
            if str(name) in prints:
                as_judged(image, prints[str(name)])
            elif image.size < least:
                raise MediaError(
                    path=image.path, what=f"member {position}: expected at least {least} bytes, found {image.size}",
                    to_do="it was cut short, or is not the image that the lineup means",
                )  # fmt: skip
        yield found, members


@dataclass(frozen=True)
class EvidenceMap:
    """How many structures of each image would stand right at each position: int64 (images, positions)."""

    images: tuple[str, ...]
    counts: npt.NDArray[np.int64]


def evidence_of(path: Path, number: int = 1, tell: Tell = silent) -> EvidenceMap:
    """The evidence of the numbered array of a lineup file, by image and position."""
    with open_array(path, number) as (found, members):
        there = [(n, m) for n, m in zip(found.members, members, strict=True) if n is not None and m is not None]
        names = [name for name, _member in there]
        pile = Pile(names, [member for _name, member in there])
        order = [names.index(n) if n is not None else None for n in found.members]
        counts = evidence_map(found.geometry, order, len(names), structures_on(pile, tell))
    return EvidenceMap(tuple(names), counts)


def with_map(path: Path, number: int = 1, tell: Tell = silent) -> Lineup:
    """The numbered array of a lineup file with the map of its rows: the one it has, or one made by a full pass."""
    with open_array(path, number) as (found, members):
        return found if found.rowmap is not None else tested(found, members, tell)[0]


def what_is_read(found: Lineup, members: Sequence[BlockSource | None]) -> str:
    """Which volume this is: the geometry, and the images it is read from as they are now."""
    prints = [None if m is None else fingerprint(m, str(n), 0) for n, m in zip(found.seated, members, strict=True)]
    return f"{found.geometry} {prints}"


@dataclass(frozen=True)
class Proof:
    """What became of a claim.

    trial     the claim and all that differs from it in one thing, tried
    verdicts  what the images themselves say, where they say this very lineup
    """

    trial: Trial
    verdicts: Verdicts | None


def prove(path: Path, number: int = 1, tell: Tell = silent, against: Sequence[Path] = ()) -> tuple[Lineup, Proof]:
    """Test the numbered array of a lineup file, a claim like any other, against its images.

    The images are asked for their own lineup, by the one judgement that there is, and the claim is held against that.

    against  images to test it with: members are looked up among them by file name first, and each one that it does not
             name is tried in every member's place
    """
    with open_array(path, number, against) as (found, members), ExitStack() as stack:
        seated = {name for name in found.seated if name is not None}
        named = {Path(part).name for name in seated for part in (name, *name.split("+"))}
        spare = [(str(image), open_drive_of(stack, image)) for image in against if image.name not in named]
        present = [m if n is not None else None for n, m in zip(found.members, members, strict=True)]
        trial = try_claim(found, present, tell, spare)
        there = [(n, m) for n, m in zip(found.seated, members, strict=True) if n is not None and m is not None]
        return found, _held_against(found, trial, [*there, *spare], tell)


def _held_against(claim: Lineup, trial: Trial, images: Sequence[tuple[str, BlockSource]], tell: Tell) -> Proof:
    """The trial of a claim, and what the images say by themselves: no two judgements."""
    found = solve(Pile([name for name, _i in images], [image for _n, image in images]), tell).arrays
    named = {name for name in claim.members if name is not None}
    best = max(
        found, key=lambda a: (len(named & {m for m in a.members if m is not None}), -len(differences(claim, a))),
        default=None,
    )  # fmt: skip
    if best is None or best.strength == "undecided":
        weak = "probable" if trial.verdict == "certain" else trial.verdict
        return Proof(replace(trial, verdict=weak), None)
    known = tuple(m if m in named else None for m in best.members)  # what a claim leaves out is not wrong in it
    wrong = differences(claim, replace(best, members=known))
    if not wrong:
        same = trial.says if trial.claim.holds else "the images themselves say the same"
        return Proof(replace(trial, verdict=best.verdicts.placing, says=same), best.verdicts)
    verdict, says = "wrong", "the images themselves say another lineup"
    if best.strength == "probable" and trial.verdict in ("certain", "probable"):
        verdict, says = "undecided", "the images themselves rather say another lineup"
    return Proof(replace(trial, verdict=verdict, says=says, wrong=tuple(wrong)), None)


def open_drive_of(stack: ExitStack, path: Path) -> DriveImage:
    """An image, read-only, closed with the stack."""
    image = open_drive(path)
    stack.callback(image.close)
    return image


def _among(given: Mapping[str, Path], name: str) -> Path | None:
    """Which of the images given, by file name, one of a lineup is, or which two passes; None where none is."""
    parts = [given.get(Path(part).name) for part in name.split("+")]
    if None in parts:
        return given.get(Path(name).name)
    return Path("+".join(map(str, parts)))


def locate(name: str, lineup: Path) -> Path:
    """Where an image of a lineup file is: from the present folder first, then from the file's. `A+B` has two."""
    if address_of(Path(name)) is not None:
        return Path(name)
    if "+" in name and not Path(name).exists() and not (lineup.parent / name).exists():
        return Path("+".join(str(locate(one, lineup)) for one in name.split("+")))
    beside = lineup.parent / name
    return beside if not Path(name).exists() and beside.exists() else Path(name)


def to_toml(document: dict[str, Any]) -> str:
    """A lineup document as TOML; missing members are empty strings, absent values are left out."""
    lines = [f"{key} = {toml_value(value)}" for key, value in document.items() if key != "arrays"]
    for array in document["arrays"]:
        lines += ["", "[[arrays]]"]
        lines += [f"{key} = {toml_value(value)}" for key, value in array.items() if value is not None]
    return "\n".join(lines) + "\n"
