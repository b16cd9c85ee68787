"""Random recovery cases: an array cut from a real volume, damaged, among strangers, under names that lie."""

from __future__ import annotations

import os
import random
import tempfile
from dataclasses import dataclass, field, replace
from pathlib import Path

from faithful_stripe.core.source import read
from faithful_stripe.media.image import ImageFile

from .slicer import Spec, cut, places, span_parity
from .telling import Told, told

MIB = 1 << 20

ROTATIONS = {
    "RAID4": [("fixed-N", None, None), ("fixed-0", None, None)],
    "RAID5": [(r, d, None) for r in ("parity-N", "parity-0") for d in ("continuation", "restart")],
    "RAID6": [
        ("parity-N", "continuation", "after-p"), ("parity-N", "continuation", "before-p"),
        ("parity-N", "restart", "after-p"), ("parity-0", "restart", "after-p"),
    ],
    "RAID1E": [(None, "adjacent", None), (None, "offset", None)],
}  # fmt: skip
ROTATIONS["RAID50"], ROTATIONS["RAID60"] = ROTATIONS["RAID5"], ROTATIONS["RAID6"]

LEVELS = (
    "RAID0", "RAID1", "RAID1E", "RAID10", "RAID4", "RAID5", "RAID5", "RAID6", "RAID6", "RAID50", "RAID60", "SPAN",
)  # fmt: skip
WHOLE_DAMAGES = ("missing", "stale", "stale beside", "wiped", "unwritten", "bad sectors", "read errors")
PART_DAMAGES = (
    "holes",
    "pattern",
    "cut short",
    "silent end",
    "rebuilt onto",
    "parity rewritten",
    "front wiped",
    "grown",
)
"""To some region of one member, or of the volume."""

PARITY = ("RAID4", "RAID5", "RAID6", "RAID50", "RAID60")
ROUND_STARTS = (65536, MIB, 2 * MIB)
NO_FILE_SYSTEM = ("log", "text", "samples", "stream", "random", "noise", "pages", "luks")

MEETINGS = 8
"""Rows in which strips of the volume meet, of those that hold something, for what they hold to tell their order."""


@dataclass
class Case:
    """What was cut and what was done to it; `names` gives each position's image, None where it is missing."""

    content: str
    spec: Spec
    damages: tuple[str, ...]
    strangers: int
    names: list[str | None] = field(default_factory=list)
    stale: str = ""
    aged: int | None = None
    """The position that an old copy beside its member is of."""

    only_old: int | None = None
    images: list[Path] = field(default_factory=list)
    unreadable: dict[str, list[tuple[int, int]]] = field(default_factory=dict)
    """Byte ranges of images whose reading fails."""
    other: str = ""
    """The level of another array in the pile."""

    beside: Case | None = None
    """That array: what was cut for it, and its members by position."""

    headed: bool = False
    """Whether everything that describes the file system stands in its first MiB."""

    labelled: bool = False
    """Whether something stands in front of the data on a member."""

    bare: bool = False
    """Whether some member of a SPAN holds next to nothing."""

    volume: Path | None = None
    """What was cut."""

    rows: int = 0
    """Rows in which two strips or more of the volume hold something."""

    reached: frozenset[int] = frozenset()
    """Positions on which data of the volume hold something."""

    told: Told = field(default_factory=Told)
    """What of the volume states its own address, by member and row."""

    optional: set[str] = field(default_factory=set)
    """Images of members that an answer may use or leave out: they are out of date, or hold a part only."""

    @property
    def damage(self) -> str:
        """All that was done to it, in words."""
        return " + ".join(self.damages) or "none"

    @property
    def enough(self) -> bool:
        """Whether the evidence can carry an answer, by what was cut and done alone, whatever the solver says:

        something else than noise, and nothing lost for good. Where all members' heads are wiped, only what states an
        address tells where the data began; where the volume's own front is, and a table stood there, nothing does, nor
        where what states none begins rows behind the members' heads, which are empty, or at no round place; nor where
        data at no round place, with nothing in front of them, are rows behind a round one. Of
        all members but one (of a pair, of a pair's both) something states where it stands, in two rows or more, and no
        other layout that is usual has all of it stand there as well; or the members' contents meet in as many as
        `MEETINGS`, or Q tells their order.
        """
        if not self.bears_enough:
            return False
        spec = self.spec
        if spec.level in ("RAID1", "SPAN") or self._q_tells:
            return True
        copies = 2 if spec.level == "RAID10" else 1
        placed = len(self.told.positions) >= spec.members - copies and len(self.told.rows) > 1
        if placed and self.told.rival is None:
            return True
        return self.rows >= MEETINGS and len(self.reached) >= spec.members - copies

    @property
    def _q_tells(self) -> bool:
        reached = len(self.reached) >= self.spec.members - 1 and self.rows > 1
        return self.spec.level == "RAID6" and reached and not set(self.damages) & {"missing", "stale", "stale beside"}

    @property
    def bears_enough(self) -> bool:
        """Whether nothing that would have to be known is gone, however little of it there is."""
        plain = self.content in NO_FILE_SYSTEM
        if "wiped" in self.damages and (plain or self.headed):
            return False
        if "front wiped" in self.damages and (plain or self.headed or "@" in self.content):
            return False
        if self.content.partition("@")[2] in ("unknown store", "zeroed table", "wiped front"):
            return False  # nothing states where the volume begins
        spec = self.spec
        if plain and spec.start >= spec.strip and not (self.labelled and spec.start in ROUND_STARTS):
            return False  # nor here: it could begin rows earlier, with zeros
        if not self.labelled and _may_begin_earlier(spec):
            return False
        if spec.level == "SPAN" and plain:
            return False  # a junction or two, and nothing that states a place
        if self.bare:
            return False  # a member of a SPAN that holds nothing is like any other blank image
        if set(self.damages) & {"cut short", "silent end", "rebuilt onto"} and self.spec.level not in PARITY:
            return False
        if {"missing", "stale"} <= set(self.damages) and self.spec.level not in ("RAID6", "RAID60"):
            return False
        return self.content not in ("random", "noise", "luks") or self.spec.level == "RAID1" or self._q_tells

    def words(self) -> str:
        s = self.spec
        facts = [s.level, f"n={s.members}", f"{s.strip >> 10}K", s.rotation, s.data, s.q_place, s.q_exponent]
        facts += [f"spans={s.spans}" if s.spans > 1 else None, f"start={s.start}" if s.start else None]
        facts += [f"turn={s.turn_rows}" if s.turn_rows > 1 else None, f"spare={s.spare}" if s.spare else None]
        facts += [f"outer={s.outer}" if s.outer != "row" else None]
        facts += [self.content, self.damage, f"+{self.strangers}", f"+{self.other}" if self.other else None]
        return " ".join(str(f) for f in facts if f)


def _may_begin_earlier(spec: Spec) -> bool:
    """Whether data that start at a place of no custom, with nothing in front of them, are whole rows behind one of
    custom; those of a mirror are any sectors."""
    row = 512 if spec.level == "RAID1" else spec.strip
    custom = (0, *ROUND_STARTS)
    return spec.start not in custom and any(s < spec.start and (spec.start - s) % row == 0 for s in custom)


def draw(rng: random.Random, contents: list[str]) -> Case:
    """A case, at random."""
    level = rng.choice(LEVELS)
    strip = 4096 << rng.choice((0, 1, 2, 3, 4, 4, 4, 5, 6, 6, 7, 8))
    if rng.random() < 0.05:
        strip = 4096 * rng.choice((3, 6, 12, 20, 24, 48, 80))
    spans, copies = 1, 1
    least = {"RAID0": 2, "RAID1": 2, "RAID10": 4, "RAID6": 4, "RAID60": 4}.get(level, 3)
    n = rng.randrange(least, rng.choice((least + 3, 10, 16, 33)))
    if level == "RAID1":
        n = rng.choice((2, 2, 3))
    if level == "RAID10":
        copies = rng.choice((2, 2, 2, 3))
        n = copies * rng.randrange(2, 8)
    if level in ("RAID50", "RAID60"):
        spans = rng.choice((2, 2, 3))
        n = spans * rng.randrange(least, least + rng.choice((3, 4, 6)))
    rotation, data, q_place = rng.choice(ROTATIONS.get(level, [(None, None, None)]))
    exponent = rng.choice(("data-index", "member-position")) if q_place else None
    start = rng.choice((0, 0, 0, 0, 0, 65536, MIB, 17 * 512, 512 * rng.randrange(1, 4000)))
    if level == "SPAN":
        n, strip = rng.randrange(2, 6), 4096
    spec = Spec(level, n, strip, rotation, data, q_place, exponent, spans, copies, start)
    count = rng.choice((0, 0, 1, 1, 1, 1, 2, 2, 3))
    wanted = rng.sample(WHOLE_DAMAGES, (count + 1) // 2) + rng.sample(PART_DAMAGES, count // 2 if count != 1 else 0)
    if count == 1 and rng.random() < 0.5:
        wanted = [rng.choice(PART_DAMAGES)]
    other = rng.choice(("RAID5", "RAID1", "RAID0")) if rng.random() < 0.1 else ""
    content = rng.choice(contents)
    damages = tuple(d for d in WHOLE_DAMAGES + PART_DAMAGES if d in wanted and _possible(d, wanted, spec))
    return Case(content, spec, damages, rng.choice((0, 0, 1, 2, 3)), other=other)


def _possible(damage: str, others: list[str], spec: Spec) -> bool:
    """Whether a damage can be done to an array, beside others."""
    if damage == "missing":
        return spec.level not in ("RAID0", "SPAN")
    if damage == "stale":
        return spec.level in PARITY and "stale beside" not in others
    if damage == "stale beside":
        return spec.level in PARITY
    if damage == "unwritten":
        return spec.level not in ("RAID0", "RAID1", "SPAN")
    if damage == "grown":
        return spec.level == "RAID5" and spec.members > 3
    if damage == "parity rewritten":
        return spec.level in ("RAID5", "RAID6") and "grown" not in others
    return True


def _other_array(case: Case, rng: random.Random, volume: Path, place: Path) -> list[Path]:
    """The members of another array, with a file system of its own; that is noted at the case."""
    n = 2 if case.other == "RAID1" else 3
    largest = max(p.stat().st_size for p in place.iterdir())
    rotation, data, _q = ROTATIONS["RAID5"][0] if case.other == "RAID5" else (None, None, None)
    paths = [place / f"other-{m}" for m in range(n)]
    spec = Spec(case.other, n, 65536, rotation, data)
    cut(volume, spec, paths)
    case.beside = Case(volume.stem, spec, (), 0, [str(p) for p in paths], volume=volume)
    for path in paths:  # images of drives of one make are of one size
        if case.strangers % 2 and path.stat().st_size < largest:
            os.truncate(path, largest)
    return paths


def make(case: Case, rng: random.Random, volume: Path, foreign: Path, place: Path) -> Case:
    """Cut the case into images in `place`."""
    place.mkdir(parents=True)
    if case.spec.level == "SPAN":
        case.spec = replace(case.spec, sizes=_pieces(volume.stat().st_size, case.spec.members, rng))
    spec = case.spec
    n = spec.members
    members = [place / f"member-{m}" for m in range(n)]
    tail = rng.choice((0, 0, 4096, 33 * 512, MIB))
    case.headed = _headed(volume)
    if "front wiped" in case.damages:
        volume = _front_wiped(volume, place)
    case.volume = volume
    area = cut(volume, spec, members, tail)
    if "grown" in case.damages:
        _grown(volume, spec, members, rng)
    case.rows, case.reached = held_by(volume, spec)
    case.told = told(volume, spec, MIB if "wiped" in case.damages else 0)
    case.bare = spec.level == "SPAN" and any(path.stat().st_blocks * 512 < 1 << 20 for path in members)
    rows = area // spec.strip
    labelled = set[Path]()
    for m, path in enumerate(members):
        with path.open("r+b") as file:
            if spec.start and rng.random() < 0.5:
                file.write(rng.randbytes(min(spec.start, 4096)))  # something before the data
                labelled.add(path)
            end = spec.start + (spec.sizes[m] if spec.sizes else area)
            if tail:
                file.seek(end)
                file.write(rng.randbytes(512))
                larger = m * 8 if rng.random() < 0.3 and not spec.sizes else 0
                file.truncate(end + tail + 512 * larger)
    alive: list[Path | None] = list(members)
    if "unwritten" in case.damages:
        _unwritten(members, spec, rows, rng)
    if "stale" in case.damages or "stale beside" in case.damages:
        old = rng.randrange(n)
        _outdate(members[old], spec, area, rng, place, beside="stale beside" in case.damages)
        case.stale = str(old)
    if "parity rewritten" in case.damages:
        _rewritten(members, spec, rows)
    if "wiped" in case.damages:
        for path in members:
            with path.open("r+b") as file:
                file.write(bytes(min(MIB, path.stat().st_size)))
    bad: dict[Path, list[tuple[int, int]]] = {path: [] for path in members}
    if set(case.damages) & {"bad sectors", "read errors"}:
        for path in members:
            with path.open("r+b") as file:
                for _ in range(rng.randrange(1, 12)):
                    at = rng.randrange(path.stat().st_size // 512 - 8) * 512
                    length = 512 * rng.randrange(1, 8)
                    file.seek(at)
                    file.write(bytes(length))
                    bad[path].append((at, at + length))
    partly: list[Path] = []
    for damage in ("holes", "pattern", "cut short", "silent end", "rebuilt onto"):
        if damage in case.damages:
            hurt = members[rng.randrange(n)]
            _hurt(hurt, damage, spec, area, rng)
            partly.append(hurt)
    if "grown" in case.damages:
        partly.append(members[-1])
    if "missing" in case.damages:
        alive = _lose(alive, spec, rng, 1 if case.stale else 0)
    case.labelled = "wiped" not in case.damages and any(path in labelled for path in alive)
    before = list(alive)
    _shuffle(case, alive, rng, foreign, place, area)
    case.optional |= {name for path, name in zip(before, case.names, strict=True) if path in partly and name}
    if spec.level not in ("RAID0", "SPAN"):  # whose volume is the same with a member that holds nothing as without it
        case.optional |= {name for name in case.names if name and _blank(Path(name), spec.start, area)}
    if "read errors" in case.damages:
        case.unreadable = {str(n): bad[p] for p, n in zip(before, case.names, strict=True) if p and n}
    return case


def _blank(image: Path, start: int, area: int) -> bool:
    """Whether an image holds nothing where members hold the volume: then nothing tells that it is one."""
    with ImageFile(image) as source:
        return not any(
            any(read(source, a, b - a)) for a, b in source.data_ranges(start, min(start + area, source.size))
        )


def held_by(volume: Path, spec: Spec) -> tuple[int, frozenset[int]]:
    """In how many rows two strips or more of the volume hold something: what is told of the members' order is told
    there; and the positions on which something stands."""
    if spec.level == "SPAN":
        return 0, frozenset()
    row, rows, reached = 0, 0, set[int]()
    with volume.open("rb") as file:
        while True:
            cells = spec.row(row)
            numbers = sorted({number for kind, number in cells if kind == "D"})
            file.seek(numbers[0] * spec.strip)
            data = file.read(len(numbers) * spec.strip)
            if not data:
                return rows, frozenset(reached)
            held = {k for i, k in enumerate(numbers) if any(data[i * spec.strip : (i + 1) * spec.strip])}
            rows += len(held) > 1
            reached |= {m for m, (kind, k) in enumerate(cells) if kind == "D" and k in held}
            row += 1


def _front_wiped(volume: Path, place: Path) -> Path:
    """A copy of a volume whose first MiB was overwritten while the array was whole."""
    made = Path(tempfile.mkdtemp(dir=place.parent)) / volume.name
    with volume.open("rb") as source, made.open("xb") as out:
        out.truncate(volume.stat().st_size)
        at = 0
        while block := source.read(MIB):
            if at and block.strip(b"\0"):
                out.seek(at)
                out.write(block)
            at += len(block)
    return made


def _grown(volume: Path, spec: Spec, members: list[Path], rng: random.Random) -> None:
    """The array was growing by its last member when that stopped: behind a row everything stands as it did before."""
    with tempfile.TemporaryDirectory(dir=members[0].parent.parent) as scratch:
        old = [Path(scratch) / str(m) for m in range(spec.members - 1)]
        cut(volume, replace(spec, members=spec.members - 1), old)
        rows = members[0].stat().st_size // spec.strip
        border = spec.start + int(rows * rng.choice((0.4, 0.7, 0.9, 0.985))) * spec.strip
        for m, path in enumerate(members):
            rest = _read(old[m], border, old[m].stat().st_size) if m < len(old) else b""
            with path.open("r+b") as file:
                size = path.stat().st_size
                file.truncate(border)
                file.truncate(max(size, border + len(rest)))
                file.seek(border)
                if rest.strip(b"\0"):
                    file.write(rest)
        longest = max(path.stat().st_size for path in members)
        for path in members:
            os.truncate(path, longest)


def _rewritten(members: list[Path], spec: Spec, rows: int) -> None:
    """Somebody made the array anew with the members in another order, and its parity was written over a twentieth."""
    order = [*range(1, spec.members), 0]
    if spec.level == "RAID5":
        order = order[:-1]  # with all of them in any order a single parity stays what it was
    other = replace(spec, members=len(order))
    for row in range(max(1, rows // 20)):
        at = spec.start + row * spec.strip
        cells = other.row(row)
        content = [_read(members[m], at, spec.strip).ljust(spec.strip, b"\0") for m in order]
        if not any(c.strip(b"\0") for c in content):
            continue
        for m, made in span_parity(other, cells, content).items():
            with members[order[m]].open("r+b") as file:
                file.seek(at)
                file.write(made)


def _hurt(path: Path, damage: str, spec: Spec, area: int, rng: random.Random) -> None:
    """A region of one member."""
    size = path.stat().st_size
    border = spec.start + int(area * rng.choice((0.2, 0.3, 0.5, 0.7))) // 512 * 512
    with path.open("r+b") as file:
        if damage in ("holes", "pattern"):
            for _ in range(rng.choice((3, 20, 80))):
                at = rng.randrange(max(1, (area - 65536) // 512)) * 512 + spec.start
                length = min(65536, size - at)
                file.seek(at)
                word = b"\0" if damage == "holes" else b"UNREADABLE AREA "
                file.write((word * length)[:length])
        elif damage == "cut short":
            file.truncate(border)
        elif damage == "silent end":
            file.truncate(border)
            file.truncate(size)
        else:  # the rest is what was on the drive before
            file.seek(border)
            file.write(rng.randbytes(min(16 * MIB, max(0, size - border))))


def _headed(volume: Path) -> bool:
    """Whether a volume is a FAT, an exFAT, an ext of a single group, which has no copy of its superblock, or behind an
    MBR, of which there is no copy either: with it goes what tells where the volume began."""
    head = _read(volume, 0, 2048)
    if head[510:512] == b"\x55\xaa" and head[446:447] in (b"\0", b"\x80") and head[450] not in (0, 0xEE):
        return True
    if head[1080:1082] == b"\x53\xef":
        blocks, per_group = (int.from_bytes(head[1024 + at : 1028 + at], "little") for at in (4, 32))
        return blocks <= per_group
    return head[3:11] == b"EXFAT   " or head[54:57] == b"FAT" or head[82:85] == b"FAT"


def _pieces(size: int, count: int, rng: random.Random) -> tuple[int, ...]:
    """Unequal sizes of members that hold a volume one after the other, whole blocks of 4 KiB, with some room left."""
    shares = [rng.uniform(0.6, 1.4) for _ in range(count)]
    blocks = -(-size // 4096) + rng.randrange(64)
    sizes = [int(blocks * s / sum(shares)) for s in shares]
    sizes[-1] += blocks - sum(sizes)
    return tuple(4096 * s for s in sizes)


def _lose(alive: list[Path | None], spec: Spec, rng: random.Random, spared: int = 0) -> list[Path | None]:
    """Some members gone, as many as the level survives; spared: so many fewer, where more is wrong."""
    most = max(1, {"RAID6": 2, "RAID60": 2}.get(spec.level, 1) - spared)
    if spec.level == "RAID1" and spec.members == 2:
        return alive
    groups = [
        list(range(s * (spec.members // spec.spans), (s + 1) * (spec.members // spec.spans))) for s in range(spec.spans)
    ]
    if spec.level == "RAID10":
        groups = [list(range(m, m + spec.copies)) for m in range(0, spec.members, spec.copies)]
    for number, group in enumerate(groups):
        if number == 0 or rng.random() < 0.4:
            for m in rng.sample(group, rng.randrange(1, most + 1)):
                path = alive[m]
                assert path is not None
                path.unlink()
                alive[m] = None
    return alive


def _outdate(path: Path, spec: Spec, area: int, rng: random.Random, place: Path, beside: bool) -> None:
    """A member as it was before the last writes: in some stretches it holds what stood there then (zeros, or other
    records of the same kind); beside: the current one stays in the pile as well."""
    target = path
    if beside:
        target = place / "outdated"
        target.write_bytes(b"")
        with path.open("rb") as source, target.open("r+b") as out:
            out.truncate(path.stat().st_size)
            at = 0
            while block := source.read(MIB):
                if block.strip(b"\0"):
                    out.seek(at)
                    out.write(block)
                at += len(block)
    with target.open("r+b") as file:
        changed_bytes = tries = 0
        wanted = rng.randrange(4, 12)
        while (changed_bytes < 64 << 10 or wanted > 0) and tries < 400:
            tries, wanted = tries + 1, wanted - 1
            length = 4096 * rng.randrange(4, 64)
            at = spec.start + rng.randrange(max(1, (area - length) // 4096)) * 4096
            file.seek(at)
            old = file.read(length)
            if not old.strip(b"\0"):
                continue  # what was never written is not older or newer
            kind = rng.randrange(3)
            if kind == 0:
                new = bytes(len(old))
            elif kind == 1:
                file.seek(spec.start + rng.randrange(max(1, (area - length) // 4096)) * 4096)
                new = file.read(len(old)).ljust(len(old), b"\0")
            else:
                changed = bytearray(old)
                for i in range(0, len(changed), 4096):
                    changed[i + 100 : i + 108] = rng.randbytes(8)
                new = bytes(changed) if old.strip(b"\0") else old
            changed_bytes += sum(a != b for a, b in zip(old[::64], new[::64], strict=True)) * 64
            file.seek(at)
            file.write(new)


def _unwritten(members: list[Path], spec: Spec, rows: int, rng: random.Random) -> None:
    """Rows that were never written hold what the drives held before: noise and old text, a different one on each."""
    empty = []
    for row in range(rows):
        at = spec.start + row * spec.strip
        if all(not _read(p, at, spec.strip).strip(b"\0") for p in members):
            empty.append(row)
    if not empty:
        return
    first = rng.randrange(len(empty))
    chosen = empty[first : first + max(1, min(len(empty) // 3, 8 * MIB // spec.strip))]
    for path in members:
        with path.open("r+b") as file:
            for row in chosen:
                file.seek(spec.start + row * spec.strip)
                file.write(rng.randbytes(spec.strip))


def _read(path: Path, at: int, length: int) -> bytes:
    with path.open("rb") as file:
        file.seek(at)
        return file.read(length)


def _shuffle(case: Case, alive: list[Path | None], rng: random.Random, foreign: Path, place: Path, area: int) -> Case:
    strangers: list[Path] = []
    for i in range(case.strangers):
        path = place / f"stranger-{i}"
        kind = rng.randrange(5 if case.volume else 3)
        size = max(case.spec.start + area, 1 << 20)
        if case.spec.sizes:  # a member that no structure places is told by its size alone
            size = int(size * rng.uniform(0.6, 1.6)) // 4096 * 4096
        with path.open("xb") as file:
            if kind == 1:
                file.write(rng.randbytes(min(size, 4 * MIB)))
            elif kind == 2:
                file.write(_read(foreign, rng.randrange(8) * MIB, 16 * MIB)[:size])
            elif kind == 3:  # a part of the same volume, copied in one piece
                assert case.volume is not None
                file.write(_read(case.volume, rng.randrange(8) * MIB, 8 * MIB)[:size])
            file.truncate(size)
        strangers.append(path)
    if case.other:
        strangers += _other_array(case, rng, foreign, place)
    outdated = place / "outdated"
    everyone = [p for p in alive if p] + strangers + ([outdated] if outdated.exists() else [])
    rng.shuffle(everyone)
    new = {old: place / f"disk-{i:02}.img" for i, old in enumerate(everyone)}
    for old, name in new.items():
        os.rename(old, name)
    case.names = [str(new[p]) if p else None for p in alive]
    if case.beside:
        case.beside.names = [str(new[Path(str(name))]) for name in case.beside.names]
    if "stale" in case.damages:
        case.stale = case.names[int(case.stale)] or ""
        case.optional.add(case.stale)
    elif outdated in new:
        aged = int(case.stale)
        case.stale, case.aged = str(new[outdated]), aged
        if case.names[aged] is None:  # only its old copy is left of this member: that one's seat is no wrong order
            case.only_old = aged
            case.optional.add(case.stale)
    case.images = sorted(new.values())
    return case


def truth(case: Case, strips: int = 3000) -> dict[int, set[tuple[str | None, int]]]:
    """Where each of the volume's first strips stands, by image name (None on the missing member)."""
    spec, names = case.spec, list(case.names)
    if case.only_old is not None:
        names[case.only_old] = case.stale
    if spec.sizes:  # all of it, here and there: the borders are what matters
        return {k: {(names[m], at) for m, at in c} for k, c in places(spec, 1 << 30).items() if k % 16 == 0}
    return {k: {(names[m], at) for m, at in cells} for k, cells in places(spec, strips).items()}
