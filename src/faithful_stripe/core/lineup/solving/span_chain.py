"""How members fill a volume in which they follow one another: those that structures place, and between them images of
the size that is left, or a missing one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice, permutations, product

from ...arrays.engine import Array
from ...arrays.geometry import Concatenation
from ...arrays.layout import layout
from ..hypotheses.pile_table import Table
from ..structures.anchors import Anchors
from ..structures.carved_files import length_if_sound
from .span_places import MOST_FILES, Placed

MOST_TAIL = 2 << 20
"""What a controller may keep at the end of a member."""

USUAL_TAILS = (0, 4096, 33 * 512, 1 << 20)
"""Tried where no two members that structures place stand next to one another."""

MOST_UNPLACED, MOST_WAYS = 3, 60
"""Members in a row that no structure places, and ways to place them that are looked at."""

SILENT_SHARE = 0.9
"""Of what states an address on a member that no structure places: what stands in a journal there, which is copies."""

Ground = tuple[Anchors, int]
"""A file system's structures, and where it starts in the volume, in bytes."""

Chain = list[tuple[int | None, int]]
"""(image, its bytes of data) one after the other; None for a missing one."""


def fits_exactly(chain: Chain, own: Sequence[int], placed: set[int]) -> bool:
    """Whether a place between others is filled to the byte by images of sizes that no placed one has: drives of one
    size would fill any."""
    usual = {own[image] for image in placed}
    last = max(at for at, (image, _size) in enumerate(chain) if image in placed)  # what follows need not fill anything
    inner = [image for image, _size in chain[:last] if image is not None and image not in placed]
    return any(own[image] not in usual for image in inner)


def unplaced(table: Table, grounds: Sequence[Ground], ranked: Sequence[Placed], taken: set[int]) -> list[int]:
    """Images that hold something, that no structure of these file systems places, and that are of no other; on which
    something of theirs stands, those that may hold a journal."""
    mine = [a for a, _base in grounds]
    foreign = [a for a in table.anchors if not any(a is m for m in mine) and not a.ground.table]
    others = {i for a in foreign for i in a.ground.bound()} | {i for g in table.groups for i in g.images}
    out = taken | others | {one.image for one in ranked}
    out |= {int(i) for a in mine if not a.ground.silent for i in a.image}
    return [i for i in range(len(table.pile)) if i not in out and table.pile.data(i)]


def journals_only(grounds: Sequence[Ground], chain: Chain, placed: set[int], start: int) -> bool:
    """Whether what states an address on the members that are placed by their size alone stands in a journal there."""
    edge = 0
    for image, size in chain:
        for anchors, base in grounds if image is not None and image not in placed else ():
            mine = anchors.image == image
            at = anchors.offset[mine] - start + edge - base
            told = (anchors.address[mine] == at) | anchors.ground.in_journal(at)
            if told.sum() < SILENT_SHARE * len(told):
                return False
        edge += size
    return True


def fillings(
    ranked: Sequence[Placed], edges: Sequence[int], end: int, own: Sequence[int], free: Sequence[int], tail: int
) -> Iterator[Chain]:
    """Every way to fill the volume, when members keep `tail` bytes at their end for something else."""
    choices: list[list[Chain]] = []
    for index, one in enumerate(ranked):
        last = index == len(ranked) - 1
        length = (end if last else edges[index + 1]) - edges[index]
        gap = length - (own[one.image] - tail)
        if not last and gap <= 0:
            choices.append([[(one.image, length)]])
            continue
        whole = own[one.image] - tail
        if last and gap <= 0:
            choices.append([[(one.image, whole)]])
            continue
        ways: list[Chain] = []
        for count in range(1, MOST_UNPLACED + 1):
            for some in permutations(free, count):
                sizes = [own[i] - tail for i in some]
                left = sum(sizes) - gap
                if (0 <= left <= MOST_TAIL and left < min(sizes)) if last else left == 0:
                    ways.append([(one.image, whole), *zip(some, sizes, strict=True)])
        choices.append(ways[:MOST_WAYS] or [[(one.image, whole), (None, gap)]])
    for combined in islice(product(*choices), MOST_WAYS):
        chain = [member for part in combined for member in part]
        images = [image for image, _size in chain if image is not None]
        if len(chain) > 1 and len(set(images)) == len(images) and all(size > 0 for _image, size in chain):
            yield chain


def geometry_of(chain: Chain, start: int) -> Concatenation:
    count = len(chain)
    return Concatenation(layout("SPAN", count), 64 << 10, (start,) * count, tuple(size for _image, size in chain))


def files_over_edges(table: Table, made: Concatenation, chain: Chain) -> int:
    """Files with a checksum of their own that lie over the border of two members and hold."""
    count = 0
    sources = table.pile.sources
    volume = Array(made, [None if i is None else sources[i] for i, _size in chain], name="rebuilt volume")
    position = {image: p for p, (image, _size) in enumerate(chain) if image is not None}
    near = [
        c for c in table.carved
        if c.image in position and made.start_bytes[0] + made.member_bytes[position[c.image]] - c.offset < 4 << 20
    ]  # fmt: skip
    for one in near[-MOST_FILES:]:
        at = int(made.to_volume(position[one.image], one.offset))
        length = length_if_sound(volume, at, one.kind) if at >= 0 else 0
        count += bool(length) and int(made.to_member(at + length - 1)[0]) != position[one.image]
    return count
