"""The solver over every level and over real file systems, cut by the independent slicer; its parts on their own."""

import lzma
import os
import random
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.gf256 import power
from faithful_stripe.core.lineup.document.lineup_document import Solution
from faithful_stripe.core.lineup.document.row_map import State, Why
from faithful_stripe.core.lineup.document.told_facts import Settle, Settles
from faithful_stripe.core.lineup.evidence.field_algebra import (
    P_ROLE,
    Q_ROLE,
    TIMES,
    inside,
    null_spaces,
    relations,
    roles,
)
from faithful_stripe.core.lineup.evidence.seam_model import Continuity
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.solving import solve as solving
from faithful_stripe.core.lineup.structures import partition_tables as table
from faithful_stripe.core.lineup.structures.anchors import find_anchors
from faithful_stripe.core.lineup.structures.ground import END, Piece, Stock, read_stock
from faithful_stripe.core.source import MemorySource
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images

from . import piles
from .cutting import CONTENTS, DATA, one_in, pile, right
from .slicer import Spec, cut


@pytest.mark.parametrize("content", one_in(2, CONTENTS, single=True))
def test_every_file_system_is_solved_as_raid5_and_proved(volumes, content, tmp_path):
    case = pile(tmp_path, volumes / f"{content}.img", Spec("RAID5", 4, 16384, "parity-N", "restart"))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdict != "undecided" and array.best > array.next + 12


def test_a_first_look_leaves_time_for_more_reading(monkeypatch):
    """On a volume of 8 GiB, it spent all the time on layouts that are less likely, and too little was read."""
    shares, pile = list[float](), Pile(["a", "b"], [MemorySource(1 << 20), MemorySource(1 << 20)])
    for source in pile.sources:
        source.write(0, bytes(range(256)) * 4096)

    def doubtful(pile, tell, budget, moved_already=False):
        shares.append(pile.effort.share)
        pile.effort.gave_up = len(shares) == 1  # the first one ended early
        return Solution((), tuple(pile.names))

    monkeypatch.setattr(solving, "STOCK_BYTES", 1 << 20)
    monkeypatch.setattr(solving, "solve_within", doubtful)
    found = solving.find_arrays(pile)
    assert shares == [solving.FIRST_SHARE, 1.0] and not pile.effort.gave_up and not found.notes


LEVELS = [
    ("xfs", Spec("RAID6", 5, 65536, "parity-0", "restart", "after-p", "member-position"), ()),
    ("xfs", Spec("RAID6", 6, 16384, "parity-N", "continuation", "before-p", "data-index"), (2,)),
    ("ext2", Spec("RAID6", 6, 16384, "parity-N", "continuation", "after-p", "data-index"), (0, 3)),
    ("xfs", Spec("RAID50", 6, 16384, "parity-N", "continuation", spans=2), ()),
    ("ext4-nocsum", Spec("RAID60", 10, 8192, "parity-N", "restart", "after-p", "data-index", spans=2), (7,)),
    ("ntfs", Spec("RAID10", 6, 32768, copies=2), (1,)),
    ("btrfs", Spec("RAID1E", 5, 32768, data="adjacent"), ()),
    ("ntfs", Spec("RAID1E", 4, 16384, data="offset"), ()),
    ("fat32", Spec("RAID0", 3, 65536), ()),
    ("ext2", Spec("RAID4", 4, 8192, "fixed-0"), (2,)),
    ("fat12", Spec("RAID0", 3, 16384, start=8704), ()),
    ("btrfs", Spec("RAID5", 4, 4096, "parity-N", "continuation"), ()),
    ("gpt", Spec("RAID5", 5, 32768, "parity-0", "restart", start=65536), (1,)),
    ("xfs", Spec("SPAN", 3, 4096, start=65536, sizes=(70 << 20, 90 << 20, 150 << 20)), ()),
    ("ext2", Spec("RAID5", 5, 24576, "parity-0", "continuation"), ()),
    ("xfs", Spec("RAID6", 6, 16384, "parity-N", "continuation", "before-p", "member-position"), (1, 4)),
    ("log", Spec("RAID1E", 6, 4096, data="offset", start=8704), (0,)),
    ("log", Spec("RAID50", 8, 4096, "parity-N", "restart", spans=2), (3,)),
    ("log", Spec("RAID0", 4, 16384), ()),
    ("pages", Spec("RAID0", 6, 4096), ()),
    ("pages", Spec("RAID5", 4, 8192, "parity-0", "continuation"), ()),
    ("stream", Spec("RAID5", 7, 16384, "parity-0", "continuation", start=8704), (5,)),
    ("log", Spec("RAID5", 4, 16384, "parity-N", "continuation"), (1,)),
    ("pages", Spec("RAID5", 3, 16384, "parity-0", "restart"), ()),
    ("noise", Spec("RAID6", 5, 16384, "parity-N", "continuation", "after-p", "data-index"), ()),
]


@pytest.mark.parametrize(
    ("content", "spec", "gone"), one_in(3, LEVELS), ids=[f"{s.level}-{c}-{len(g)}" for c, s, g in LEVELS]
)
def test_every_level_is_solved(volumes, content, spec, gone, tmp_path):
    case = pile(tmp_path, volumes / f"{content}.img", spec, gone, strangers=1)
    arrays = solve_images(case.images).arrays
    (array,) = [a for a in arrays if {m for m in a.members if m} & {n for n in case.names if n}]
    assert right(case, array) and array.named
    assert array.geometry.volume_bytes >= (volumes / f"{content}.img").stat().st_size
    assert array.verdict != "certain" or content not in ("log", "noise")  # nothing there proves where it begins


@pytest.mark.parametrize(
    ("content", "spec", "gone"),
    [
        ("ext4-nocsum", Spec("RAID0", 7, 8192), ()),
        ("log", Spec("RAID5", 4, 16384, "parity-N", "continuation"), (1,)),
        ("gpt", Spec("RAID6", 5, 16384, "parity-0", "restart", "after-p", "data-index"), (2,)),
    ],
    ids=lambda v: getattr(v, "level", str(v)),
)
def test_images_say_the_same_in_whatever_order_they_are_named(volumes, content, spec, gone, tmp_path):
    """Which structure of a block came first, and what continuity was taught on, hung on it: now certain, now not."""
    case = pile(tmp_path, volumes / f"{content}.img", spec, gone, strangers=1)
    told = set()
    for way in (case.images, case.images[::-1], case.images[2:] + case.images[:2]):
        array = max(solve_images(way).arrays, key=lambda a: len(a.seated))
        told.add((array.seated, array.best, array.next, tuple(array.signs.as_list()), str(array.verdicts)))
    assert len(told) == 1


@pytest.mark.parametrize("exponent", ["data-index", "member-position"])
def test_p_is_not_taken_for_q_nor_one_rule_of_q_for_the_other(volumes, exponent, tmp_path):
    spec = Spec("RAID6", 5, 16384, "parity-N", "continuation", "before-p", exponent)
    case = pile(tmp_path, volumes / "xfs.img", spec)
    (array,) = solve_images(case.images).arrays
    pattern = array.geometry.pattern
    assert array.geometry.layout.q_exponent == exponent
    for row in range(10):
        wanted = {case.names[m]: kind for m, (kind, _k) in enumerate(spec.row(row)) if kind in "PQ"}
        index = pattern.index[row % pattern.rows].tolist()
        assert {array.members[m]: "?PQ"[-v] for m, v in enumerate(index) if v < 0} == wanted


def test_what_was_written_while_a_member_was_away_is_missing_on_it(volumes, tmp_path):
    """Packed data tell nothing by their bytes; but nothing else in them is empty."""
    case = pile(tmp_path, volumes / "stream.img", Spec("RAID5", 5, 16384, "parity-N", "restart"))
    with Path(str(case.names[2])).open("r+b") as file:
        for at in (65536, 327680, 655360, 1064960):
            file.seek(at)
            file.write(bytes(40960))
    (array,) = solve_images(case.images).arrays
    assert array.members == tuple(case.names) and not array.stale
    assert array.rowmap.of(2) == [(at, at + 40960) for at in (65536, 327680, 655360, 1064960)]
    assert array.rowmap.blamed() == {2: {Why.BLANK: 4 * 40960}} and not array.rowmap.open
    assert array.verdicts.soundness.sure == "probable"  # one equation does not prove who is at fault


def test_sectors_that_could_not_be_read_make_nobody_outdated(volumes, tmp_path):
    case = pile(tmp_path, volumes / "stream.img", Spec("RAID5", 5, 16384, "parity-N", "restart"))
    with Path(str(case.names[2])).open("r+b") as file:
        for at in range(65536, 1200000, 90112):
            for apart in (0, 5120):
                file.seek(at + apart)
                file.write(bytes(3584))
    (array,) = solve_images(case.images).arrays
    assert not array.stale and array.members == tuple(case.names)


def test_wiped_heads_leave_the_start_open(volumes, tmp_path):
    case = pile(tmp_path, volumes / "log.img", Spec("RAID5", 4, 16384, "parity-N", "continuation", start=65536))
    for path in case.images:
        with path.open("r+b") as file:
            file.write(bytes(1 << 20))
    (array,) = solve_images(case.images).arrays
    assert set(array.members) == set(case.names) and array.geometry.strip_bytes == 16384
    assert array.verdict == "undecided" and any(a.shape and a.shape.start_bytes for a in array.alternatives)


def test_lists_of_blocks_tell_their_place_when_all_superblocks_are_gone(volumes):
    image = MemorySource(32 << 20)
    firsts = [400, 1800, 2600, 4100, 6000]
    for first in firsts:
        image.write((first - 1) * 4096, np.arange(first, first + 600, dtype="<u4").tobytes())
    (found,) = find_anchors(read_stock(Pile(["lists"], [image]), 64 << 20))
    assert "superblocks lost" in found.ground.words and found.ground.guessed
    assert sorted((found.address - found.offset).tolist()) == [0] * len(firsts)
    with ImageFile(volumes / "fat32.img") as fat:  # whose table looks like such lists
        grounds = find_anchors(read_stock(Pile(["fat"], [fat]), 64 << 20))
    assert grounds and not any("superblocks lost" in a.ground.words for a in grounds)


def test_noise_without_roles_is_undecided(volumes, tmp_path):
    case = pile(tmp_path, volumes / "noise.img", Spec("RAID5", 4, 16384, "parity-N", "restart"))
    (array,) = solve_images(case.images).arrays
    assert array.verdict == "undecided" and set(array.members) == set(case.names) and array.settle


def test_an_outdated_copy_beside_its_member_is_told_apart(volumes, tmp_path):
    case = pile(tmp_path, volumes / "xfs.img", Spec("RAID5", 4, 16384, "parity-N", "restart"))
    present = Path(str(case.names[1]))
    old = tmp_path / "disk-99.img"
    data = bytearray(present.read_bytes())
    filled = [at for at in range(0, len(data), 4096) if any(data[at : at + 4096])]
    for at in filled[::3]:
        data[at : at + 64] = random.Random(at).randbytes(64)
    old.write_bytes(data)
    (array,) = solve_images([*case.images, old]).arrays
    assert right(case, array) and array.stale == (str(old),)


@given(st.integers(2, 5), st.integers(2, 5), st.integers(0, 10**6))
def test_a_groups_own_relations_are_found_in_a_larger_one(first, second, seed):
    """Two groups with parity that hold a block in common are one part; each one's sum is still in it, and no more."""
    rng = random.Random(seed)
    blocks = [np.frombuffer(rng.randbytes(64), np.uint8) for _ in range(first + second)]
    blocks[first] = blocks[0]
    a, b = blocks[:first], blocks[first:]
    rows = np.array([*a, np.bitwise_xor.reduce(a), *b, np.bitwise_xor.reduce(b)])
    (space,) = null_spaces(rows[None])
    (whole,) = relations(space, ~rows.any(axis=1))
    assert len(whole.images) == first + second + 2 and len(whole.basis) == 3
    for group in (frozenset(range(first + 1)), frozenset(range(first + 1, first + second + 2))):
        (own,) = inside(whole, group)
        assert own.plain and set(own.images) == group
    assert not inside(whole, frozenset({1, first + 1}))


@given(st.integers(4, 9), st.integers(0, 3), st.booleans(), st.integers(0, 10**6))
def test_relations_spell_the_roles_of_raid6(members, lost, by_position, seed):
    """On random data the null space names P, Q and every exponent, with one member missing too."""
    order, rng = list(range(members)), random.Random(seed)
    rng.shuffle(order)  # order[image] is the position that it holds
    p, q = 0, 1
    data = np.frombuffer(rng.randbytes((members - 2) * 64), np.uint8).reshape(members - 2, 64)
    exponents = [position if by_position else i for i, position in enumerate(range(2, members))]
    at = {p: np.bitwise_xor.reduce(data), q: np.zeros(64, np.uint8)}
    for i, position in enumerate(range(2, members)):
        at[position] = data[i]
        at[q] = at[q] ^ TIMES[power(exponents[i])][data[i]]
    present = [position for position in order if lost == 0 or position != order[lost]]  # 0: none is missing
    sketches = np.array([at[position] for position in present])
    if members - (lost > 0) < 4:
        return
    (space,) = null_spaces(sketches[None])
    found = relations(space, ~sketches.any(axis=1))
    wanted = {i: {p: P_ROLE, q: Q_ROLE}.get(c, c if by_position else c - 2) for i, c in enumerate(present)}
    if lost and order[lost] == q:  # what is left is a plain sum, which tells no roles
        assert all(r.plain for r in found)
    else:
        assert wanted in roles(found[0], members)


@given(st.binary(min_size=64, max_size=2048), st.integers(0, 12), st.integers(0, 400))
def test_mutated_structures_never_break_the_search(data, which, place):
    """A real file system's head with bytes changed: anchors or none, never an error."""
    name = CONTENTS[which % len(CONTENTS)]
    image = bytearray(HEADS[name])
    at = place * 512 % (len(image) - len(data))
    image[at : at + len(data)] = data
    source = MemorySource(1 << 20)
    source.write(0, bytes(image))
    mutated = Pile(["mutated"], [source])
    stock = Stock(mutated, [Piece(0, 0, np.frombuffer(bytes(image[: 80 << 10]), np.uint8))])
    for anchors in find_anchors(stock):
        assert len(anchors.image) == len(anchors.offset) == len(anchors.address)


HEADS = {
    name: lzma.LZMADecompressor().decompress((DATA / f"{name}.img.xz").read_bytes(), 256 << 10) for name in CONTENTS
}


@pytest.mark.parametrize("content", [c for c in CONTENTS if c != "gpt"])
def test_uncut_file_systems_state_their_own_addresses(volumes, content):
    """In the volume itself nearly every structure stands where it says; those with copies have one that does."""
    with ImageFile(volumes / f"{content}.img") as source:
        stock = read_stock(Pile([content], [source]), 256 << 20)
        best = find_anchors(stock)[0]
    right_places = np.unique(best.address[best.offset == best.address])
    elsewhere = best.address[(best.offset != best.address) & ~np.isin(best.address, right_places)]
    assert len(right_places) >= 4 and (len(elsewhere) <= 0.5 * len(best) or best.ground.words.startswith("FAT"))


@pytest.mark.long
def test_members_whose_data_start_at_different_places_are_told_by_their_structures(volumes, tmp_path):
    case = pile(tmp_path, volumes / "ntfs.img", Spec("RAID5", 4, 16384, "parity-N", "continuation"))
    later = {1: 1 << 20, 3: 3 * 65536}
    for member, more in later.items():
        path = Path(str(case.names[member]))
        data = path.read_bytes()
        with path.open("wb") as file:
            file.truncate(more + len(data))
            for at in range(0, len(data), 65536):
                if data[at : at + 65536].strip(b"\0"):
                    file.seek(more + at)
                    file.write(data[at : at + 65536])
    (array,) = solve_images(case.images).arrays
    assert array.members == tuple(case.names) and array.verdict != "undecided"
    assert array.geometry.start_bytes == (0, 1 << 20, 0, 3 * 65536)


def test_a_swap_area_is_named_by_its_first_page(volumes):
    with ImageFile(volumes / "gpt.img") as source:
        grounds = find_anchors(read_stock(Pile(["gpt"], [source]), 64 << 20))
    (swap,) = [a for a in grounds if a.ground.words == "swap"]
    assert swap.ground.size == 2 << 20 and (swap.offset - swap.address).tolist() == [1 << 20]


def test_a_span_that_lacks_a_member_is_never_probable(volumes, tmp_path):
    spec = Spec("SPAN", 3, 4096, sizes=(70 << 20, 90 << 20, 150 << 20))
    case = pile(tmp_path, volumes / "xfs.img", spec, gone=(1,))
    (array,) = solve_images(case.images).arrays
    assert array.verdict == "undecided" and array.geometry.layout.level == "SPAN"
    assert array.members == (case.names[0], None, case.names[2]) and array.settle == Settles(Settle.SPAN_LACKS)


@pytest.mark.parametrize("content", ["ntfs", "xfs", "btrfs", "fat12", "fat16", "fat32", "exfat", "ext4-nocsum"])
def test_every_structure_of_a_new_file_system_states_the_place_where_it_stands(volumes, content):
    """Or one of its places: nothing is taken for a structure that is none, nor for another one."""
    with ImageFile(volumes / f"{content}.img") as source:
        grounds = find_anchors(read_stock(Pile([content], [source]), 64 << 20), guess=False)
    for anchors in grounds:
        told: dict[int, set[int]] = {}
        for kind, _image, offsets, addresses in anchors.ground.found if not anchors.ground.guessed else ():
            for offset, address in zip(offsets.tolist(), addresses.tolist(), strict=True) if kind != END else ():
                told.setdefault(offset, set()).add(address)
        assert told and [offset for offset, addresses in told.items() if offset not in addresses] == []


def test_a_member_of_a_span_that_bears_a_tables_copy_alone_is_placed_by_it(volumes, tmp_path):
    """Behind the last file system stands nothing but the second head of the GPT."""
    spec = Spec("SPAN", 3, 4096, sizes=(4 << 20, 7 << 20, (1 << 20) + 65536))
    case = pile(tmp_path, volumes / "gpt.img", spec, strangers=1)
    (array,) = solve_images(case.images).arrays
    assert array.members == tuple(case.names) and array.verdict == "probable"
    assert array.verdicts.start.sure == "certain" and array.settle == Settles(Settle.SPAN_FEW)


def test_partition_tables_are_grounds_of_their_own():
    disk = MemorySource(1 << 20)
    disk.write(446 + 4, b"\x83\0\0\0" + (2048).to_bytes(4, "little") + (4096).to_bytes(4, "little"))
    disk.write(510, b"\x55\xaa")
    (ground,) = table.heads(read_stock(Pile(["disk"], [disk]), 1 << 20))
    assert ground.starts == {1 << 20} and not ground.head  # it may be a link of the chain of another table


def test_continuity_teaches_itself_and_knows_what_it_cannot_judge():
    text = np.frombuffer(piles.prose(random.Random(1), 200 * 4096), np.uint8).reshape(-1, 4096)
    model = Continuity(text)
    other = np.frombuffer(piles.samples(random.Random(2), 20 * 4096), np.uint8).reshape(-1, 4096)
    ends, goes_on = model.side(text[:20, 2048 - 2048 : 2048], False), model.side(text[:20, 2048:], True)
    strange = model.side(other[:, :2048], True)
    assert model.usable
    assert np.diag(model.score(ends, goes_on)).mean() > 1 > 0 > model.score(ends, strange).mean()
    zeros = model.side(np.zeros((3, 2048), np.uint8), True)
    assert not model.score(ends, zeros).any()  # that zeros follow says nothing
    noise = np.random.default_rng(1).integers(0, 256, (100, 4096), np.uint8)
    assert not Continuity(noise).usable


def test_a_mirror_goes_on_where_one_of_its_mates_fell_silent(tmp_path, volumes):
    """What only one of them holds behind that is no controller's writing: it was cut off, with most of the volume."""
    case = pile(tmp_path, volumes / "noise.img", Spec("RAID1", 2, 4096, start=65536))
    silent = Path(case.names[0])
    size = silent.stat().st_size
    os.truncate(silent, 65536 + (1 << 20))
    os.truncate(silent, size)
    (array,) = solve_images(case.images).arrays
    assert array.geometry.volume_bytes >= (volumes / "noise.img").stat().st_size
    assert array.rowmap.rows[State.MENDED] and not array.rowmap.open


@pytest.mark.long  # two large piles that stay undecided: a minute each
def test_an_answer_with_members_missing_is_not_filled_up_with_another_file_systems_images(volumes, tmp_path):
    """Little NTFS in the first strips of a large array, and a RAID 0 of ext beside: whichever images were named first
    took the empty places, and the RAID 0 was not found at all where those were its own."""
    first, second = tmp_path / "first", tmp_path / "second"
    first.mkdir()
    second.mkdir()
    large = [first / f"m{n}.img" for n in range(8)]
    cut(volumes / "ntfs.img", Spec("RAID1E", 8, 524288, data="adjacent", start=1 << 20), large)
    striped = [second / f"s{n}.img" for n in range(3)]
    cut(volumes / "ext2.img", Spec("RAID0", 3, 65536), striped)
    for path in (*large, *striped):
        os.truncate(path, 24 << 20)
    for images in ([*striped, *large], [*large, *striped]):
        found = [a for a in solve_images(images).arrays if set(a.members) & {str(p) for p in striped}]
        assert [a.members for a in found] == [tuple(map(str, striped))] and found[0].verdicts.placing == "certain"
