"""What little data cannot tell: how many members there are, and whether copies are a mirror; and the largest strips."""

import os
import random
import time
from dataclasses import replace

import numpy as np
import pytest

from faithful_stripe.core.arrays.layout import layout
from faithful_stripe.core.lineup.document.four_verdicts import Reason, Sure
from faithful_stripe.core.lineup.evidence.membership import Membership
from faithful_stripe.core.lineup.evidence.sampled_places import Place
from faithful_stripe.core.lineup.hypotheses import search
from faithful_stripe.core.lineup.hypotheses.assignment import Hypothesis, make_ballot
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate, layouts_of
from faithful_stripe.core.lineup.hypotheses.pile_table import Table
from faithful_stripe.core.lineup.hypotheses.search import Entry, Reader, Shared
from faithful_stripe.core.lineup.hypotheses.standing_facts import held_facts
from faithful_stripe.core.lineup.reading.samples import Effort, Pile, silent
from faithful_stripe.core.lineup.solving.solve import GAVE_UP
from faithful_stripe.core.lineup.solving.span import _joined
from faithful_stripe.core.lineup.solving.span_chain import fits_exactly, journals_only
from faithful_stripe.core.lineup.solving.span_places import Placed, placed_on, placings, unstriped
from faithful_stripe.core.lineup.structures.anchors import Anchors
from faithful_stripe.core.lineup.structures.ground import Ground
from faithful_stripe.core.lineup.verdict.beside_members import gainsaid
from faithful_stripe.core.lineup.verdict.certainty import counted, fits_most, mirrored_within, untold
from faithful_stripe.core.source import MemorySource, read
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images

from .cutting import pile, right
from .slicer import Spec

MIB = 1 << 20


@pytest.mark.parametrize(
    ("content", "spec"),
    [
        # parity that is a copy of the only data there are: it was "RAID 10 of four, one missing", probable
        ("ext4-nocsum", Spec("RAID5", 3, 2 * MIB, "parity-N", "continuation")),
        ("btrfs", Spec("RAID5", 3, 2 * MIB, "parity-N", "continuation")),
        # one row that holds data on two of seventeen: it was "RAID 6 of four", probable, with a lead of 700 nats
        pytest.param(
            "fat12",
            Spec("RAID6", 19, MIB, "parity-N", "continuation", "after-p", "member-position", start=8704),
            marks=pytest.mark.long,
        ),
        ("fat16", Spec("RAID6", 13, MIB, "parity-N", "restart", "after-p", "member-position")),
        ("fat32", Spec("RAID4", 14, 512 << 10, "fixed-0", None, start=MIB)),
    ],
    ids=lambda v: v if isinstance(v, str) else f"{v.level}-{v.members}",
)
def test_a_few_rows_do_not_tell_a_layout(volumes, tmp_path, content, spec):
    case = pile(tmp_path, volumes / f"{content}.img", spec)
    for array in solve_images(case.images).arrays:
        assert array.verdict == "undecided" or right(case, array)
        assert array.verdict != "certain"


@pytest.mark.parametrize("strip", [2, 4])
def test_strips_of_megabytes_are_found(volumes, tmp_path, strip):
    case = pile(tmp_path, volumes / "ntfs.img", Spec("RAID0", 2, strip * MIB))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.geometry.strip_bytes == strip * MIB and array.named


def facts(offsets, distances):
    at = np.array(offsets, np.int64)
    one = np.ones(len(at), np.int64)
    return Anchors(Ground(b"x", "x", 1 << 30), one * 0, at, at + np.array(distances, np.int64), one)


@pytest.mark.parametrize(
    ("beside", "held", "old", "rows", "around", "tells"),
    [(0, 0, 0, 1, 1, True), (5, 9, 0, 1, 9, False), (4, 9, 0, 1, 9, False), (1, 2, 0, 1, 5, True),
     (1, 2, 0, 1, 4, False), (1, 9, 1, 1, 1, True), (5, 9, 0, 2, 1, True)],
)  # fmt: skip
def test_a_relation_counts_the_members_where_nobody_may_be_of_another_span(beside, held, old, rows, around, tells):
    """RAID 60 of 18, all structures in the first row: its first span was "RAID 6 of 6", certain, beside twelve more.
    Structures in the second row tell that there are no more, and an old copy is none. What holds little is none where
    parity came round: RAID 6 of 7 with one that was empty in the three rows there were was certain, of 6."""
    (chosen,) = [one for one in layouts_of("RAID6", 5) if one == layout("RAID6", 5, "parity-N", "restart")]
    columns = tuple((i,) for i in range(5))
    h = Hypothesis(Candidate("RAID6", (chosen,), columns), chosen, MIB, 0, 0, tuple(range(5)), 0.0)
    names = [f"m{i}" for i in range(5 + beside)]
    at = [MIB * (k % around) + 4096 * k for k in range(9)]
    places = [Place(o, frozenset(range(5 + (beside if k < held else 0))), ()) for k, o in enumerate(at)]
    group = Membership((0, 1, 2, 3, 4), "two", 9, 9)
    pile_ = Pile(names, [None] * len(names))
    table = Table(pile_, places, [group], dict.fromkeys(range(5, 5 + old), 0), (), [], [], silent, 0)
    told = facts([0, 4096, MIB][: 1 + rows], [0, 0, 2 * MIB][: 1 + rows])
    assert counted(table, h, [(told, 0)]) is tells


@pytest.mark.parametrize(("apart", "rows", "tells"), [(0, 2, False), (64 << 10, 2, True), (64 << 10, 1, False)])
def test_who_bears_the_same_file_system_is_counted_only_where_a_mate_would_bear_it(apart, rows, tells):
    """Three images whose rows are told one after the other, and one beside them with much of it: at the same places it
    may be a member's mate, and the array a striped mirror; elsewhere it was cut from the volume in another way."""
    (chosen,) = layouts_of("RAID0", 3)
    h = Hypothesis(Candidate("RAID0", (chosen,), ((0,), (1,), (2,))), chosen, MIB, 0, 0, (0, 1, 2), 0.0)
    places = [Place(4096 * k, frozenset(range(4)), ()) for k in range(9)]
    table = Table(Pile(list("abcd"), [None] * 4), places, [], {}, (), [], [], silent, 0)
    offset = np.array([0, 4096, MIB, apart, apart + 4096])
    address = np.array([0, 4096, 3 * MIB, 0, 4096]) if rows == 2 else np.array([0, 4096, 7, 0, 4096])
    image = np.array([0, 0, 0, 3, 3])
    ground = Ground(b"x", "x", 1 << 30, found=[("inode", image, offset, address)])
    told = Anchors(ground, image, offset, address, np.ones(5, np.int64))
    assert counted(table, h, [(told, 0)]) is tells


@pytest.mark.parametrize(
    ("same", "other", "missing", "refused"),
    [(0, 3, 0, True), (3, 3, 0, False), (0, 2, 0, False), (9, 2, 0, False), (2, 5, 0, True), (0, 3, 1, False)],
)
@pytest.mark.parametrize("kind", ["inode", "page"])
def test_who_bears_the_same_file_system_and_contradicts_the_volume_was_left_out(same, other, missing, refused, kind):
    """RAID 5 of 8 without relations, for they all were broken: a stripe of seven of them was certain. What was cut from
    the volume in another way holds what the volume holds."""
    (chosen,) = layouts_of("RAID0", 3)
    order = (0, 1, 2) if not missing else (0, 1, None)
    columns = ((0,), (1,), (2,))[: 3 - missing]
    h = Hypothesis(Candidate("RAID0", (chosen,), columns), chosen, 65536, 0, 0, order, 0.0)
    data = np.random.default_rng(4).integers(0, 255, (4, 12 * 65536), np.uint8)
    members = [MemorySource(12 * 65536, name) for name in "abcd"]
    for member, held in zip(members, data, strict=True):
        member.write(0, held)
    offset = np.arange(same + other) * 65536
    address = 3 * offset + 2 * 65536  # of rows' third strips, that member 2 holds
    for at, ok in zip(offset.tolist(), [True] * same + [False] * other, strict=True):
        members[3].write(at, data[2 if ok else 1][at : at + 512])
    image = np.full(same + other, 3)
    ground = Ground(b"x", "x", 1 << 30, found=[(kind, image, offset, address)], weak=("page",), guessed=kind == "page")
    told = Anchors(ground, image, offset, address, np.ones(same + other, np.int64))
    table = Table(Pile(list("abcd"), members), [], [], {}, (), [], [], silent, 0)
    assert gainsaid(table, h, [(told, 0)]) is refused


@pytest.mark.parametrize("copied", [True, False])
def test_q_is_a_copy_of_something_that_stands_on_another_member(copied):
    """Structures where a member holds Q, and on nobody else: "RAID 6 of 6" was certain, of an array of seven."""
    chosen = layout("RAID6", 4, "parity-N", "restart", q_place="after-p", q_exponent="data-index")
    columns = tuple((i,) for i in range(4))
    h = Hypothesis(Candidate("RAID6", (chosen,), columns), chosen, MIB, 0, 0, (0, 1, 2, 3), 0.0)
    index, inner = chosen.pattern().index, np.arange(3) * 4096
    row = int(np.flatnonzero(index[:, 3] == -2)[0])  # where member 3 holds Q, and the first strip of the row
    data = int(np.flatnonzero(index[row] == 2 * row)[0])
    whole = {p: [r for r in range(4) if r != row and index[r, p] >= 0] for p in range(4)}
    who = np.concatenate([np.full(len(rows), p) for p, rows in whole.items()])
    at = np.concatenate([np.array(rows) * MIB for rows in whole.values()])
    says = np.concatenate([index[rows, p] * MIB for p, rows in whole.items()])
    for image in (3, data) if copied else (3,):
        who = np.concatenate([who, np.full(3, image)])
        at, says = np.concatenate([at, row * MIB + inner]), np.concatenate([says, 2 * row * MIB + inner])
    told = Anchors(Ground(b"x", "x", 1 << 30), who, at, says, np.ones(len(who), np.int64))
    assert fits_most(h, [(told, 0)]) is copied


@pytest.mark.parametrize(("copies", "level", "count"), [(3, "RAID0", 3), (0, "RAID0", 0), (3, "RAID5", 0)])
def test_a_stripe_without_redundancy_holds_nothing_twice_at_one_place(copies, level, count):
    """Parity of sparse rows, in the seat of the data member that was cut short: a stripe of four was certain."""
    chosen = layouts_of(level, 3)[0]
    h = Hypothesis(Candidate(level, (chosen,), ((0,), (1,), (2,))), chosen, MIB, 0, 0, (0, 1, 2), 0.0)
    at = np.arange(5) * 4096
    who = np.concatenate([np.zeros(5, np.int64), np.full(copies, 2)])
    offset = np.concatenate([at, at[:copies]])
    told = Anchors(Ground(b"x", "x", 1 << 30), who, offset, offset, np.ones(len(who), np.int64))
    assert mirrored_within(h, [(told, 0)]) == count


def test_that_mates_are_equal_does_not_say_where_they_belong():
    """A mirror set whose only structure contradicts its place: the order of all seven was certain, and wrong."""
    chosen = layouts_of("RAID10", 2)[0]
    h = Hypothesis(Candidate("RAID10", (chosen,), ((0, 1), (2, 3)), (), 2), chosen, MIB, 0, 0, (0, 1), 0.0)
    groups = [Membership((0, 1), "copies", 9, 9), Membership((2, 3), "copies", 9, 9)]
    table = Table(Pile(list("abcd"), [None] * 4), [], groups, {}, (), [], [], silent, 0)
    image, offset = np.array([0, 1, 2, 3]), np.array([4096, 4096, 4096, 4096])
    for address, left in ((np.array([4096, 4096, MIB + 4096, MIB + 4096]), []), (np.array([4096, 4096, 0, 0]), [[1]])):
        told = Anchors(Ground(b"x", "x", 1 << 30), image, offset, address, np.ones(4, np.int64))
        assert untold(table, h, [(told, 0)]) == left


def test_what_stands_in_one_strip_is_not_taken_for_unstriped():
    near, far = [0, 2 * MIB, 3 * MIB], [0, 2 * MIB, 9 * MIB]
    assert unstriped([facts(near, [0] * 3)], {0}) == set()
    assert unstriped([facts(far, [0] * 3)], {0}) == {0}


def test_of_structures_with_two_addresses_nearly_all_must_agree():
    """Six of ten places agree: enough where each has one address, and chance where each has two."""
    single = facts(range(0, 100 * MIB, 10 * MIB), [0] * 6 + [MIB, 3 * MIB, 5 * MIB, 7 * MIB])
    assert placed_on(single, 0) is not None
    twice = facts(
        [*single.offset, *single.offset], [*(single.address - single.offset), *range(10 * MIB, 20 * MIB, MIB)]
    )
    assert placed_on(twice, 0) is None


def test_copies_in_a_journal_do_not_unplace_a_member_of_a_span():
    """Two structures of the member's own, and eight copies of others where the journal is."""
    told = facts(range(0, 10 * MIB, MIB), [0, 0, *range(20 * MIB, 28 * MIB, MIB)])
    assert placed_on(told, 0) is None
    told.ground.silent = ((2 * MIB, 10 * MIB),)
    placed = placed_on(told, 0)
    assert placed is not None and placed.distance == 0


def test_a_lone_superblock_may_be_that_of_any_group():
    lone = facts([4096] * 3, [0, 64 * MIB, 128 * MIB])
    assert [one.distance for one in placings(lone, 0)] == [128 * MIB, 64 * MIB, 0]


@pytest.mark.parametrize(("silent", "fits"), [(((10 * MIB, 20 * MIB),), True), (((30 * MIB, 40 * MIB),), False)])
def test_a_member_with_a_journal_alone_is_placed_by_size_where_the_journal_is(silent, fits):
    """Image 0 has no place by what it states, and would stand in the volume from 10 MiB on."""
    told = facts(range(0, 9 * MIB, MIB), range(50 * MIB, 59 * MIB, MIB))
    told.ground.silent = silent
    assert journals_only([(told, 0)], [(1, 10 * MIB), (0, 10 * MIB)], {1}, 0) is fits


@pytest.mark.parametrize(("image", "counts"), [(1, True), (5, False)])
def test_a_table_that_is_on_none_of_the_members_is_of_another_array(image, counts):
    """Partitions start at 1 MiB everywhere: such a table would have made the start of this span certain."""
    members, ground = [Placed(0, 0, 2, 20.0, 9 * MIB)], (facts([0], [0]), MIB)
    at = np.array([33 * 512], np.int64)
    table = Anchors(
        Ground(b"t", "GPT", 90 * MIB, table=True, starts={MIB}), at * 0 + image, at, at + 60 * MIB, at * 0 + 1
    )
    joined, grounds = _joined(members, ground, [ground[0]], [table], {0, 1})
    assert grounds == ([ground, (table, 0)] if counts else [ground])
    assert [one.image for one in joined] == ([0, 1] if counts else [0])


def test_drives_of_one_size_fill_any_place():
    chain, same, other = [(0, 10), (1, 10), (2, 10)], [10, 10, 10], [10, 11, 10]
    assert not fits_exactly(chain, same, {0, 2}) and fits_exactly(chain, other, {0, 2})
    assert not fits_exactly(chain, [10, 11, 12], {0})  # nor is what comes before it, behind all that is placed
    assert not fits_exactly(chain, other, {0, 1})  # the last one's end is where the volume ends, not where it must be


@pytest.mark.parametrize("patience", [40.0, -1.0])
def test_with_no_time_nothing_is_certain_and_a_search_comes_to_an_end(volumes, tmp_path, patience):
    """What could be as good and was not tried is unknown, however clear the answer; and that is said."""
    for content, spec, sure in (
        ("ntfs", Spec("RAID5", 4, 16384, "parity-N", "restart"), "certain"),
        ("fat12", Spec("RAID5", 5, 65536, "parity-N", "restart"), "probable"),
    ):
        (tmp_path / content).mkdir()
        case = pile(tmp_path / content, volumes / f"{content}.img", spec)
        solution = solve_images(case.images, patience=patience)
        (array,) = solution.arrays
        assert array.verdicts.placing == (sure if patience > 0 else "probable") and right(case, array)
        assert (array.verdicts.order.reason is Reason.UNTRIED) is (patience < 0 and sure == "certain")
        assert (GAVE_UP in solution.notes) is (patience < 0)


def test_a_mirror_that_its_file_system_fills_is_one_whatever_lies_beside(volumes, tmp_path):
    """Little data, and images of the same size beside: the file system is as large as the members. It was "RAID 10 of
    four, one missing"."""
    case = pile(tmp_path, volumes / "exfat.img", Spec("RAID1", 2, 131072), strangers=3)
    size = max(image.stat().st_size for image in case.images)
    for image in case.images:
        os.truncate(image, size)
    mirror = next(a for a in solve_images(case.images).arrays if a.geometry.layout.level == "RAID1")
    assert set(mirror.members) == set(case.names) and mirror.verdict == "certain"


@pytest.mark.parametrize("start", [0, 8704, 235008])
def test_a_mirror_loses_nothing_at_its_end(volumes, tmp_path, start):
    """Whatever its start, what a controller wrote behind it, and if one copy lacks what stands there: NTFS keeps a copy
    of its boot sector. The volume was cut by a strip of 64 KiB, though a mirror has none, and its order was certain."""
    case = pile(tmp_path, volumes / "ntfs.img", Spec("RAID1", 2, 131072, start=start))
    volume = (volumes / "ntfs.img").read_bytes()
    for number, image in enumerate(case.images):
        os.truncate(image, start + len(volume))
        with image.open("r+b") as file:  # what differs from member to member
            file.seek(start + len(volume) - 512 * (not number))
            file.write(random.Random(number).randbytes(2048) + bytes(1 << 14))
    (array,) = solve_images(case.images).arrays
    assert array.verdicts.order.sure is not Sure.UNDECIDED and array.geometry.start_bytes == (start, start)
    assert array.geometry.volume_bytes >= len(volume)
    whole = array.members.index(str(case.images[1]))
    with ImageFile(case.images[1]) as image:
        mirrored = array.opened([image if p == whole else None for p in range(2)])
        assert read(mirrored, 0, len(volume)) == volume


def test_what_is_less_likely_leaves_time_for_what_comes_after_it():
    effort = Effort(1000.0, began=time.process_time() - 700)
    with effort.within(0.6):
        with effort.within(0.9):
            assert not effort.left_for_rivals() and effort.untried
        assert not effort.left()
    assert effort.left_for_rivals() and effort.gave_up


@pytest.mark.parametrize(("content", "ends"), [("ntfs", True), ("log", False)])
def test_what_a_controller_wrote_behind_a_mirror_is_no_open_row(volumes, tmp_path, content, ends):
    """Its record is alike on all copies but for each one's own name: behind the end of a file system that fills them it
    is none of the volume. Behind what states no end, nothing tells."""
    case = pile(tmp_path, volumes / f"{content}.img", Spec("RAID1", 2, 131072))
    size = (volumes / f"{content}.img").stat().st_size
    for number, image in enumerate(case.images):
        os.truncate(image, size)
        with image.open("r+b") as file:
            file.seek(size)
            file.write(
                random.Random(number).randbytes(512) + random.Random("all").randbytes(3584 + 4096) + bytes(24576)
            )
    (array,) = solve_images(case.images, full=True).arrays
    assert (array.geometry.volume_bytes == size) is ends
    assert (array.verdicts.soundness.sure is Sure.CERTAIN) is (array.verdicts.currency.sure is Sure.CERTAIN) is ends


@pytest.mark.long
def test_members_that_nothing_places_may_stand_in_one_anothers_place(volumes, tmp_path):
    """RAID 4 of 22, a few rows: they add up in any order, and four members hold contents of files alone. Two of them
    stood exchanged with the two others, certain."""
    spec = Spec("RAID4", 22, 32768, "fixed-0")
    case = pile(tmp_path, volumes / "gpt.img", spec, strangers=1)
    (array,) = solve_images(case.images).arrays
    assert array.verdicts.order.sure is not Sure.CERTAIN and array.verdicts.order.reason is Reason.ELIMINATION


def test_of_two_addresses_that_something_may_have_the_wrong_one_is_not_against_it():
    """A sector of a file allocation table, as kept out for the proof: the copy's address alone. By the other one, which
    the search used, it stands right."""
    (chosen,) = layouts_of("RAID0", 2)
    h = Hypothesis(Candidate("RAID0", (chosen,), ((0,), (1,))), chosen, 65536, 0, 0, (0, 1), 0.0)
    whole, kept = facts([4096, 4096], [0, 5 * MIB]), facts([4096], [5 * MIB])
    assert held_facts(h, kept, 0, whole) == (0, 0)
    assert held_facts(h, kept, 0) == (0, 1)
    assert held_facts(replace(h, order=(1, 0)), kept, 0, whole) == (0, 1)


@pytest.mark.parametrize("content", ["log", "stream"])
def test_where_nothing_states_a_place_the_borders_tell_which_one_is_missing(volumes, tmp_path, content):
    """An exchange of a member with the missing one was held to be next to as good, whatever its borders said."""
    case = pile(tmp_path, volumes / f"{content}.img", Spec("RAID5", 4, 65536, "parity-N", "continuation"), gone=(1,))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.signs.likely  # probable or not is what was measured
    assert array.verdicts.order.sure is not Sure.CERTAIN and array.best - array.next > 60


@pytest.mark.parametrize(("patience", "tried"), [(1000.0, 3), (-1.0, 0)])
def test_layouts_that_structures_say_nothing_of_are_left_when_it_took_long(monkeypatch, patience, tried):
    layouts = tuple(layout("RAID5", 4, rotation, data) for rotation in ("parity-0", "parity-N")
                    for data in ("restart", "continuation"))  # fmt: skip
    candidate = Candidate("RAID5", layouts, tuple((i,) for i in range(4)))
    reader = Reader(Pile([], [], effort=Effort(patience)), [], [], candidate, Shared())
    climbed = []
    monkeypatch.setattr(search, "_climb", lambda _entry, h: climbed.append(h) or h)
    best = Hypothesis(candidate, layouts[0], 65536, 0, 0, (0, 1, 2, 3), 9.0)
    search._siblings([Entry(reader, make_ballot(candidate, None))], [best])
    assert len(climbed) == tried
