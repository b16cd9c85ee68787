"""Who belongs: images that hold little, copies of a part of the volume, and pairs that are neighbours of a chain."""

from contextlib import ExitStack
from types import SimpleNamespace

import numpy as np
import pytest

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.four_verdicts import placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup, Solution
from faithful_stripe.core.lineup.document.told_facts import Note, Remark
from faithful_stripe.core.lineup.evidence.membership import Membership
from faithful_stripe.core.lineup.hypotheses.candidate import candidates, with_unseen
from faithful_stripe.core.lineup.hypotheses.pile_table import lay_out, loose_images
from faithful_stripe.core.lineup.reading.samples import Pile, silent
from faithful_stripe.core.lineup.solving import part_copies, second_looks
from faithful_stripe.core.lineup.solving import solve as solving
from faithful_stripe.core.lineup.solving.cluster import Cluster, Way
from faithful_stripe.core.lineup.solving.part_copies import copied_from_others
from faithful_stripe.core.lineup.solving.solve import STOPPED, STOPPED_EARLY
from faithful_stripe.core.lineup.verdict.beside_members import others_filled
from faithful_stripe.core.source import MemorySource
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images

from .cutting import pile, right
from .slicer import Spec, cut

MIB = 1 << 20


@pytest.mark.parametrize("block", [0, 1, 15])
def test_images_with_a_block_here_and_there_may_belong_wherever_in_a_piece_it_stands(block):
    """With short strips many members hold nothing where the pieces begin that are read: they were left out."""
    images = [MemorySource(4 * MIB) for _ in range(3)]
    for number, image in enumerate(images):
        for piece in range(0, 64, 16):
            word = b"%07d\n" % (1000 * number + piece)
            image.write(piece * 65536 + block * 4096, word * 512)
    table = lay_out(Pile(["a", "b", "c"], images), silent)
    assert loose_images(table, set()) == [0, 1, 2]


def test_beside_an_answer_of_nobody_whatever_holds_something_does():
    """The median of nothing is no number, and nothing is more than that."""
    places = [SimpleNamespace(filled={0, 1})]
    table = SimpleNamespace(places=places, pile=[0, 1], outdated={})
    assert others_filled(table, set()) and not others_filled(table, {0, 1})


def copy_of(volume, path, first, size, length):
    """A drive with a copy of a part of a volume, and nothing else."""
    with path.open("wb") as file:
        file.write(volume.read_bytes()[first : first + length])
        file.truncate(size)
    return path


@pytest.mark.parametrize(("spec", "gone"), [(Spec("RAID5", 4, 16384, "parity-0", "restart"), (1,)),
                                            (Spec("RAID0", 3, 65536), ())])  # fmt: skip
def test_a_copy_of_a_part_of_the_volume_is_no_member_and_is_named(volumes, tmp_path, spec, gone):
    volume = volumes / "ntfs.img"
    case = pile(tmp_path, volume, spec, gone=gone)
    copy = copy_of(volume, tmp_path / "old.img", 2 * MIB, case.images[0].stat().st_size, 6 * MIB)
    found = solve_images([*case.images, copy])
    (array,) = found.arrays
    assert right(case, array) and found.unused == (str(copy),)
    assert Note(Remark.PART_COPY, (str(copy),), 2 * MIB) in found.notes


def test_what_became_of_a_copy_since_takes_nothing_from_that_it_is_one_unless_it_is_much(volumes, tmp_path):
    volume = volumes / "ntfs.img"
    case = pile(tmp_path, volume, Spec("RAID0", 3, 65536))
    copy = copy_of(volume, tmp_path / "old.img", 0, case.images[0].stat().st_size, 8 * MIB)
    whole = np.fromfile(copy, np.uint8)
    held = np.flatnonzero(whole.reshape(-1, 4096).any(axis=1))
    for every, is_one in ((16, True), (2, False)):
        data = whole.copy().reshape(-1, 4096)
        data[held[::every]] = np.random.default_rng(every).integers(0, 256, (len(held[::every]), 4096), np.uint8)
        data.tofile(copy)
        found = solve_images([*case.images, copy])
        assert any(str(copy) in note.images for note in found.notes) is is_one, every


def test_members_of_one_array_are_no_copies_of_what_another_one_with_the_same_volume_holds(
    monkeypatch, volumes, tmp_path
):
    """All that stands on the three stands on the four, too: but in no one piece."""
    monkeypatch.setattr(part_copies, "MORE_THAN_MOST", 0)
    volume = volumes / "ntfs.img"
    images = [tmp_path / f"{n}.img" for n in "abcdefg"]
    four = Spec("RAID5", 4, 16384, "parity-0", "restart")
    cut(volume, Spec("RAID0", 3, 65536), images[:3])
    cut(volume, four, images[3:])
    copy = copy_of(volume, tmp_path / "old.img", MIB, images[0].stat().st_size, 5 * MIB)
    names = [str(path) for path in [*images, copy]]
    made = geometry("RAID5", 4, 16384, member_bytes=images[3].stat().st_size, rotation="parity-0", data="restart")
    array = Lineup(made, tuple(names[3:7]), placed("certain"), 9.0, 0.0)
    with ExitStack() as stack:
        pile = Pile(names, [stack.enter_context(ImageFile(name)) for name in names])
        likely = {one.image: one for one in copied_from_others(pile, silent)}
        shown = {image: part_copies._in_one_piece(pile, array, one) for image, one in likely.items()}
    assert len(shown) > 1 and {image: at for image, at in shown.items() if at is not None} == {7: MIB}


def seen(level, members, found, lost=(), gone=()):
    """From where on an image is shown to be a copy, whose sectors stand a megabyte further on in the volume.

    found  their offsets on the image, of those that are seen there; lost: of those that are not; gone: missing members
    """
    made = geometry(level, members, 65536, member_bytes=64 * MIB)
    where, probes = np.array(found, np.int64), np.array([*found, *lost], np.int64)
    if level == "RAID1":
        position, there = np.zeros(len(where), np.int64), where + MIB
    else:
        position, there = made.to_member(where + MIB)
    names = tuple(None if p in gone else f"m{p}" for p in range(members))
    array = Lineup(made, names, placed("certain"), 9.0, 0.0)
    pile = SimpleNamespace(names=[f"m{p}" for p in range(members)])
    one = part_copies.Copied(9, len(probes), probes, where, position, there)
    return part_copies._in_one_piece(pile, array, one)


@pytest.mark.parametrize(("strips", "shown"), [((0, 2, 4, 6), None), ((0, 1, 4, 6), MIB)])
def test_what_stands_on_one_member_of_a_stripe_is_no_copy_of_the_volume(strips, shown):
    assert seen("RAID0", 2, [strip * 65536 + at for strip in strips for at in range(0, 65536, 4096)]) == shown


@pytest.mark.parametrize(("last", "shown"), [(MIB - 4096, None), (MIB, MIB)])
def test_where_no_strip_tells_a_copy_reaches_over_a_megabyte(last, shown):
    assert seen("RAID1", 2, [*range(0, 24 * 4096, 4096), last]) == shown


@pytest.mark.parametrize(("found", "shown"), [(8, None), (9, MIB)])
def test_of_a_copy_three_of_ten_sectors_are_seen_whoever_is_missing(found, shown):
    """Of thirty sectors: what is not seen stands where members are missing, and could be anything."""
    there = [65536 * (4 * (n // 2) + n % 2) for n in range(found)]
    lost = [65536 * (4 * (n // 2) + 2 + n % 2) for n in range(30 - found)]
    assert seen("RAID0", 4, there, lost, gone=(2, 3)) == shown


def test_a_search_without_copies_leaves_time_for_one_with_them(monkeypatch):
    pile = Pile(["a", "b", "c"], [MemorySource(MIB, name) for name in "abc"])
    none = np.empty(0, np.int64)
    monkeypatch.setattr(
        part_copies, "copied_from_others", lambda *_: [part_copies.Copied(2, 0, none, none, none, none)]
    )
    shares = []

    def search(part):
        shares.append(part.effort.share)
        return Solution((), tuple(part.names))

    assert part_copies.without_part_copies(pile, search, lambda _found: False, silent) is None
    assert shares == [part_copies.HALF] and pile.effort.share == 1.0


def test_a_second_look_leaves_time_for_what_comes_after_it(monkeypatch):
    monkeypatch.setattr(second_looks, "ways_left", lambda *_: iter(Way))
    pile, looks = Pile(["a"], [MemorySource(MIB, "a")]), []
    table = SimpleNamespace(pile=pile, tell=silent)
    made = Lineup(None, ("a",), placed("undecided"), 9.0, 0.0)

    def solve(cluster):
        looks.append((cluster.way, pile.effort.share))

    assert second_looks.looked_again(Cluster(table, {0}, (), set()), made, [], solve) is None
    assert looks == [(way, second_looks.LESS_LIKELY) for way in Way] and pile.effort.share == 1.0
    assert second_looks.looked_again(Cluster(table, {0}, (), set(), way=Way.ODD), made, [], solve) is None
    assert len(looks) == len(Way)  # one that looks again itself does not look further


def test_a_pile_that_holds_much_is_not_read_for_copies(monkeypatch, volumes, tmp_path):
    case = pile(tmp_path, volumes / "ntfs.img", Spec("RAID0", 3, 65536))
    monkeypatch.setattr(part_copies, "LOOK_BYTES", MIB)
    with ExitStack() as stack:
        sources = [stack.enter_context(ImageFile(path)) for path in case.images]
        assert copied_from_others(Pile(["a", "b", "c"], sources), silent) == []


@pytest.mark.parametrize(("where", "note"), [("copied_from_others", STOPPED_EARLY), ("_by_samples", STOPPED)])
def test_who_stops_the_search_without_copies_is_not_made_to_wait_for_another(
    monkeypatch, volumes, tmp_path, where, note
):
    volume = volumes / "ntfs.img"
    case = pile(tmp_path, volume, Spec("RAID0", 3, 65536))
    copy = copy_of(volume, tmp_path / "old.img", 2 * MIB, case.images[0].stat().st_size, 6 * MIB)
    searched = []

    def stop(*_given):
        raise KeyboardInterrupt

    def once(part, _tell):
        searched.append(len(part))
        return Solution((), tuple(part.names), 0, (STOPPED,))

    monkeypatch.setattr(part_copies if where == "copied_from_others" else solving, where,
                        stop if where == "copied_from_others" else once)  # fmt: skip
    names = [str(path) for path in (*case.images, copy)]
    with ExitStack() as stack:
        found = solving.find_arrays(Pile(names, [stack.enter_context(ImageFile(name)) for name in names]))
    assert found.notes == (note,) and not found.arrays and searched == ([3] if where == "_by_samples" else [])
    assert set(found.unused) == set(names)


@pytest.mark.parametrize(("closing", "chained"), [(44, True), (86, False)])
def test_a_pair_that_is_equal_in_a_part_of_the_rows_may_be_neighbours_of_a_chain(closing, chained):
    """RAID 1E of three: of one with holes the others are not seen to be its neighbours."""
    found = candidates({0, 1, 2}, [Membership((1, 2), "copies", closing, 86)])
    assert any(c.level == "RAID1E" and c.positions == 3 and not c.missing for c in found) is chained
    assert any(c.level == "RAID10" for c in found)


def test_neighbours_of_one_that_is_full_of_holes_are_in_order(volumes, tmp_path):
    case = pile(tmp_path, volumes / "ext2.img", Spec("RAID1E", 3, 4096, data="adjacent"))
    hurt = next(path for path in case.images if str(path) == case.names[0])
    data = np.fromfile(hurt, np.uint8)
    for block in range(1, data.size // 4096, 2):
        data[block * 4096 : (block + 1) * 4096] = 0
    data.tofile(hurt)
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdict != "undecided"


@pytest.mark.parametrize(
    ("kind", "shown", "made"),
    [
        ("two", 6, {("RAID6", 7, 1), ("RAID6", 8, 2)}),
        ("two less one", 6, {("RAID6", 8, 2), ("RAID6", 9, 3)}),
        ("sum", 3, {("RAID5", 4, 1), ("RAID5", 5, 2), ("RAID4", 4, 1), ("RAID4", 5, 2)}),
        ("copies", 2, set()),
    ],
)
def test_a_relation_may_lack_members_that_hold_nothing(kind, shown, made):
    group = Membership(tuple(range(shown)), kind, 40, 40)
    assert {(c.level, c.positions, c.missing) for c in with_unseen([group])} == made
    assert with_unseen([group, Membership((20, 21, 22), "sum", 40, 40)]) == []


def test_members_that_are_gone_and_held_nothing_where_the_others_do_are_counted(volumes, tmp_path):
    """Six of eight of a RAID 6 matched by themselves, as six of seven: no order was found."""
    spec = Spec("RAID6", 8, 65536, "parity-N", "restart", "after-p", "data-index")
    case = pile(tmp_path, volumes / "xfs.img", spec, gone=(0, 4))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdict != "undecided"
