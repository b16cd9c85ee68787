"""Places of a volume that a person may mean: all of it, a range, a partition, a logical volume of LVM."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ..core.formats import gpt, lvm, mbr
from ..core.formats.declared import FormatError
from ..core.formats.in_use import in_use
from ..core.formats.lvm import NotRead
from ..core.formats.probe import describe
from ..core.lineup.document.held import Held
from ..core.ranges import Range, clip, subtract, union
from ..core.source import BlockSource, BlockSourceError, Pieces, Window
from .copying import parse_range
from .errors import WorkError


def partitions(source: BlockSource) -> list[tuple[int, int]]:
    """(start, length) in bytes of the partitions of a volume, in the order of its table; none without one."""
    try:
        found = gpt.table(source)
    except (FormatError, BlockSourceError):
        found = None
    if found is not None:
        return [(p.start, p.length) for p in found.partitions]
    return [(e.start, e.length) for e in mbr.entries(source)]


def parts_of(volume: BlockSource) -> list[Held]:
    """Where file systems may be on a volume: its partitions, or all of it, and the logical volumes in them."""
    found = partitions(volume)
    places = [(n, start, min(length, volume.size - start)) for n, (start, length) in enumerate(found, 1)]
    made = []
    for number, start, length in [p for p in places if p[2] > 0] or [(0, 0, volume.size)]:
        inside = Window(volume, start, length)
        made.append(Held(number, start, length, describe(inside)))
        made += _logical(volume, inside, number, start)
    return made


def _logical(volume: BlockSource, inside: BlockSource, number: int, start: int) -> Iterator[Held]:
    """The logical volumes of a place; none where it is no physical volume, or nothing of it can be read."""
    try:
        found = lvm.physical_volume(inside)
    except (FormatError, BlockSourceError):
        found = None
    for one in found.volumes if found else ():
        pieces = tuple((start + a, start + b) for a, b in one.places)
        if one.not_read or any(b > volume.size for _a, b in pieces):
            yield Held(number, 0, one.size, "", one.path, (), one.not_read or NotRead.BROKEN)
        else:
            what = describe(Window(volume, pieces[0][0], pieces[0][1] - pieces[0][0]))
            yield Held(number, pieces[0][0], one.size, what, one.path, pieces if len(pieces) > 1 else ())


def used_of(volume: BlockSource, wanted: Sequence[Range]) -> list[Range]:
    """What is in use of some ranges of a volume, by the file systems that stand there: of what holds none, all of it.

    Raises WorkError where no file system says what is in use.
    """
    free, told, why = list[Range](), 0, "nothing stands there"
    for part in parts_of(volume):
        if part.not_read or not any(clip(part.ranges, a, b) for a, b in wanted):
            continue
        inside = Pieces(volume, part.ranges)
        try:
            used = in_use(inside)
        except FormatError as reason:
            why = str(reason.what)
            continue
        told += 1
        free += inside.outward(subtract([(0, inside.size)], used))
    if not told:
        raise WorkError(what=why, to_do="extract without --used")
    return union(r for a, b in wanted for r in subtract([(a, b)], union(free)))


def named(parts: Sequence[Held], name: str) -> Held:
    """The logical volume of a name, GROUP/NAME or NAME. Raises WorkError."""
    logical = [p for p in parts if p.name]
    mine = [p for p in logical if name in (p.name, p.name.partition("/")[2])]
    if len(mine) != 1:
        listed = ", ".join(p.name for p in logical) or "none"
        what = f"there is {'more than one' if mine else 'no'} logical volume {name} on the volume"
        raise WorkError(what=what, to_do=f"there are: {listed}")
    (part,) = mine
    if part.not_read:
        why = {
            NotRead.ELSEWHERE: "it needs another physical volume, which is not on this one",
            NotRead.KIND: "its mapping (a mirror, thin, a snapshot) is not read here",
            NotRead.BROKEN: "its description contradicts itself",
        }[part.not_read]
        raise WorkError(what=f"{part.name}: {why}", to_do="extract the whole volume, and give it to LVM itself")
    return part


def chosen(parts: Sequence[Held], partition: int | None, name: str | None) -> Held:
    """The one place that is meant: by a logical volume's name, by a partition's number, else the only one that holds a
    file system. Raises WorkError."""
    if name is not None:
        return named([p for p in parts if partition in (None, p.number)], name)
    if partition is None:
        likely = [p for p in parts if "file system" in p.what] or [p for p in parts if not p.name]
        if len(likely) > 1:
            there = "; ".join(f"{p.name or p.number}: {p.what}" for p in likely)
            several = "logical volumes" if all(p.name for p in likely) else "partitions"
            to_do = f"name one with {'--part' if any(p.name for p in likely) else '--partition'}"
            raise WorkError(what=f"the volume has several {several} ({there})", to_do=to_do)
        return likely[0]
    for part in parts:
        if part.number == partition and not part.name:
            return part
    count = len([p for p in parts if not p.name and p.number])
    raise WorkError(what=f"there is no partition {partition} on the volume", to_do=f"it has {count}")


def place_of(source: BlockSource, wanted: str | None, partition: int | None, name: str | None = None) -> list[Range]:
    """What is wanted, as ranges of the volume (start, end) that follow one another: a range, a partition (from 1), a
    logical volume, or all. Raises WorkError, SizeError."""
    if partition is None and name is None:
        start, length = parse_range(wanted, source.size)
        return [(start, start + length)]
    if wanted is not None:
        raise WorkError(what="--range excludes --partition and --part", to_do="name one of them")
    if name is not None:
        return list(chosen(parts_of(source), partition, name).ranges)
    assert partition is not None
    known = partitions(source)
    if partition > len(known):
        has = f"it has {len(known)}" if known else "it has no partition table"
        raise WorkError(what=f"there is no partition {partition} on the volume", to_do=has)
    start, length = known[partition - 1]
    if start + length > source.size:
        what = f"partition {partition} ends at byte {start + length}, past the volume's {source.size}"
        raise WorkError(what=what, to_do="take what there is of it with --range")
    return [(start, start + length)]
