"""The solver's finer evidence: ends of files, rows that tell little, copies, parity of almost empty rows, spans."""

import random
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from faithful_stripe.core.lineup.document.four_verdicts import Reason
from faithful_stripe.core.lineup.evidence.membership import Membership
from faithful_stripe.core.lineup.hypotheses.assignment import Hypothesis
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate, layouts_of
from faithful_stripe.core.lineup.hypotheses.stale_member import culprit
from faithful_stripe.core.lineup.hypotheses.standing_facts import held_facts
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.solving import solve as solving
from faithful_stripe.core.lineup.structures import ext_anchors as ext
from faithful_stripe.core.lineup.structures import ntfs_anchors
from faithful_stripe.core.lineup.structures.anchors import facts_of, find_anchors
from faithful_stripe.core.lineup.structures.ground import END, Ground, read_stock
from faithful_stripe.core.lineup.structures.volume_walk import linked_directories
from faithful_stripe.core.lineup.verdict.volume_reading import Findings
from faithful_stripe.core.source import MemorySource
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images

from .cutting import CONTENTS, one_in, pile, right
from .slicer import Spec


@pytest.mark.parametrize("content", [c for c in CONTENTS if c not in ("gpt", "fat12")])
def test_ends_of_files_are_told_by_how_far_their_blocks_are_filled(volumes, content):
    """Blocks of plain contents that end as a file does stand where the metadata put that file's end."""
    with ImageFile(volumes / f"{content}.img") as source:
        best = find_anchors(read_stock(Pile([content], [source]), 256 << 20))[0]
    ends = [(o, a) for kind, _image, o, a in best.ground.found if kind == END]
    offset, address = (np.concatenate(part) for part in zip(*ends, strict=True))
    assert len(offset) >= 20 and (offset == address).mean() > 0.95
    assert best.ground.bound() == {0} and END in best.ground.weak  # any file system's data may end so


@pytest.mark.long
def test_members_without_structures_are_placed_by_the_files_on_them(volumes, tmp_path):
    """Few file tides on few members, and one member is missing: no parity can be tested, and little else states an
    address."""
    case = pile(tmp_path, volumes / "ntfs.img", Spec("RAID5", 5, 16384, "parity-N", "restart"), gone=(4,))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.named


def test_rows_that_do_not_tell_the_roles_leave_the_strip_open(volumes, tmp_path):
    """RAID 6 of four without a member: in some rows three are a plain sum, and the borders beside them are not seen."""
    spec = Spec("RAID6", 4, 8192, "parity-0", "restart", "after-p", "member-position", start=8704)
    case = pile(tmp_path, volumes / "xfs.img", spec, gone=(1,))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.geometry.strip_bytes == 8192 and array.verdict != "undecided"


def test_a_chain_in_two_pieces_is_one_array(volumes, tmp_path):
    case = pile(tmp_path, volumes / "ext2.img", Spec("RAID1E", 7, 65536, data="adjacent"), gone=(2,))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.named


@pytest.mark.parametrize(("content", "strip"), [("ext2", 16384), ("btrfs", 131072)])
def test_mirror_sets_are_proved_by_files_where_few_structures_are(volumes, content, strip, tmp_path):
    case = pile(tmp_path, volumes / f"{content}.img", Spec("RAID10", 8, strip, copies=2))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdict == "certain"


def test_lists_of_blocks_that_a_file_system_owns_are_not_another_one(volumes, tmp_path):
    """Superblocks on one mirror set only: the lists of blocks on the other sets are its own."""
    volume = tmp_path / "with-lists.img"
    data = bytearray((volumes / "ext2.img").read_bytes())
    for first in (9000, 11000, 12500, 13000, 14000, 15000):
        data[(first - 1) * 1024 : first * 1024] = np.arange(first, first + 256, dtype="<u4").tobytes()
    volume.write_bytes(data)
    with ImageFile(volume) as source:
        grounds = find_anchors(read_stock(Pile(["one"], [source]), 64 << 20))
    assert [a.ground.words for a in grounds if not a.ground.table] == ["ext"]
    assert grounds[0].ground.kinds["indirect block"] >= 6


@pytest.mark.long
def test_spans_of_packed_data_are_not_put_in_an_order(volumes, tmp_path):
    """P and Q tell the order within a span; nothing tells which span is the first, and the answer says so."""
    spec = Spec("RAID60", 8, 16384, "parity-N", "restart", "after-p", "data-index", spans=2)
    case = pile(tmp_path, volumes / "noise.img", spec)
    (array,) = solve_images(case.images).arrays
    assert array.verdict == "undecided" and array.alternatives and set(array.members) == set(case.names)


def test_sectors_lost_from_one_copy_do_not_refute_a_mirror(volumes, tmp_path):
    case = pile(tmp_path, volumes / "log.img", Spec("RAID1E", 5, 262144, data="offset"))
    for member in range(5):
        with Path(str(case.names[member])).open("r+b") as file:
            for at in range(member * 131072, 2 << 20, 5 * 131072):
                file.seek(at)
                file.write(bytes(3584))
                file.seek(at + 65536)
                file.write(bytes(512))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdict == "probable"


@pytest.mark.long
def test_parity_of_almost_empty_rows_is_not_taken_for_the_member_that_is_missing(volumes, tmp_path):
    """Large strips: in most rows one member alone holds data, and parity is a copy of it. What it holds of the missing
    member is for parity, too: only where it is not a copy do the two differ."""
    case = pile(tmp_path, volumes / "ext4-nocsum.img", Spec("RAID4", 5, 262144, "fixed-N"), gone=(0,))
    for array in solve_images(case.images).arrays:
        assert array.verdict != "certain" or right(case, array)


@pytest.mark.long
def test_the_sum_of_an_odd_number_of_pages_is_no_page(volumes, tmp_path):
    """Five pages' marks add up to the mark, and every other sum of their numbers is one of them: parity looks like the
    member that is missing in half of the rows. That is not certain."""
    case = pile(tmp_path, volumes / "pages.img", Spec("RAID4", 6, 8192, "fixed-N"), gone=(0,))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) or array.verdict != "certain"


@pytest.mark.long
@pytest.mark.parametrize(
    ("content", "spec"),
    [
        ("ext2", Spec("RAID5", 5, 65536, "parity-N", "continuation")),
        ("gpt", Spec("RAID6", 6, 65536, "parity-N", "continuation", "after-p", "data-index")),
        ("xfs", Spec("RAID50", 6, 65536, "parity-N", "continuation", spans=2)),
    ],
)
def test_a_copy_of_a_part_of_the_volume_is_no_member(volumes, content, spec, tmp_path):
    """Somebody tried to copy it before: the same file system stands on one image more than there are members."""
    case = pile(tmp_path, volumes / f"{content}.img", spec)
    copy = tmp_path / "disk-9.img"
    with (volumes / f"{content}.img").open("rb") as volume:
        copy.write_bytes(volume.read(16 << 20))
    found = solve_images([*case.images, copy])
    (array,) = found.arrays
    assert right(case, array) and array.verdict != "undecided" and found.unused == (str(copy),)


def test_what_only_counts_up_is_not_certain_where_parity_cannot_be_tested(volumes, tmp_path):
    spec = Spec("RAID5", 5, 65536, "parity-N", "restart")
    (whole,) = solve_images(pile(tmp_path, volumes / "pages.img", spec).images).arrays
    (tmp_path / "less").mkdir()
    less = pile(tmp_path / "less", volumes / "pages.img", spec, gone=(3,))
    (array,) = solve_images(less.images).arrays
    assert whole.verdict == "certain" and right(less, array) and array.verdict == "probable"


def test_directories_show_that_an_ext_without_checksums_is_read_right(volumes):
    """Each where the inode says that it names as its own; read with two members exchanged, most are not."""
    with ImageFile(volumes / "ext4-nocsum.img") as source:
        facts = find_anchors(read_stock(Pile(["ext"], [source]), 256 << 20))[0].ground.facts
        assert isinstance(facts, ext.Facts) and facts.groups is not None
        numbers = {*facts.listing[0], facts.sb.inodes}  # one that was never used is not counted
        linked, unlinked = linked_directories(source, 0, facts.sb, facts.groups, numbers)
        data = np.zeros(source.size // 131072 * 131072, np.uint8)
        source.read_into(0, data)
    assert linked == len(facts.listing[0]) >= 8 and not unlinked
    wrong = MemorySource(len(data))
    wrong.write(0, data.reshape(-1, 2, 65536)[:, ::-1].tobytes())
    good, _bad = linked_directories(wrong, 0, facts.sb, facts.groups, numbers)
    assert good < 0.5 * linked
    copies = Findings(tested=20, held=1)  # in a journal, the originals of which were not read
    assert copies.contradicted and not replace(copies, linked=linked).contradicted
    assert replace(copies, linked=linked, unlinked=linked).contradicted


def test_a_head_anywhere_is_found_where_only_a_part_is_searched(volumes, tmp_path, monkeypatch):
    """The first MiB of every member is wiped, and of the rest of the heads none stands in what is searched closely."""
    monkeypatch.setattr(solving, "FIRST_BYTES", 1 << 20)
    monkeypatch.setattr(solving, "STOCK_BYTES", 2 << 20)
    case = pile(tmp_path, volumes / "gpt.img", Spec("RAID5", 4, 65536, "parity-N", "restart"))
    for path in case.images:
        with path.open("r+b") as file:
            file.write(bytes(1 << 20))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdicts.placing == "certain"
    assert array.verdicts.soundness.reason is Reason.EMPTY_FRONT  # what stood there is gone


def test_a_structure_that_parity_alone_holds_speaks_for_the_missing_member():
    """A fact that belongs on the missing member and stands at its place on the one with parity holds; elsewhere not."""
    (layout,) = [c for c in layouts_of("RAID4", 4) if c.rotation == "fixed-N"]
    candidate = Candidate("RAID4", (layout,), ((0,), (1,), (2,)))
    h = Hypothesis(candidate, layout, 65536, 4096, 0, (None, 0, 1, 2), 0.0)
    places = {(2, 4096 + 512, 512): True, (2, 4096 + 8192, 512): False, (0, 4096 + 512, 512): False}
    for (image, offset, address), holds in places.items():
        ground = Ground(b"one", "one", 1 << 30)
        ground.add("superblock", image, offset, address)
        assert held_facts(h, facts_of(ground), 0)[0] == int(holds)


def test_rows_that_add_up_in_no_span_blame_nobody_however_the_rest_reads():
    """Never initialized rows are open on every span; a member that is out of date opens those of its own."""
    (layout,) = [c for c in layouts_of("RAID50", 6, 2) if (c.rotation, c.data) == ("parity-N", "continuation")]
    candidate = Candidate("RAID50", (layout,), tuple((i,) for i in range(6)), ((0, 1, 2), (3, 4, 5)))
    h = Hypothesis(candidate, layout, 65536, 0, 0, tuple(range(6)), 0.0)
    empty = Pile([str(i) for i in range(6)], [MemorySource(1 << 20) for _ in range(6)])
    stock, rows = read_stock(empty, 1 << 20), tuple(range(0, 65536, 4096))

    def worth(h: Hypothesis) -> float:
        return 20.0 * (h.order[4] is None)

    spans = [Membership((0, 1, 2), "sum", 100, 116, rows), Membership((3, 4, 5), "sum", 100, 116, rows)]
    assert culprit(empty, stock, [], h, spans, worth) is None
    assert culprit(empty, stock, [], h, [replace(spans[0], open=()), spans[1]], worth) == 4


def test_rows_that_add_up_in_no_span_blame_nobody(volumes, tmp_path):
    """Never initialized rows hold what the drives held before, on all spans alike: no member is out of date there."""
    spec = Spec("RAID50", 6, 32768, "parity-N", "continuation", spans=2)
    case = pile(tmp_path, volumes / "ext4-nocsum.img", spec)
    rng = random.Random(5)
    for name in case.names:
        with Path(str(name)).open("r+b") as file:
            file.seek(3 << 20)
            file.write(rng.randbytes(512 << 10))
    (array,) = solve_images(case.images).arrays
    assert not array.stale and array.members == tuple(case.names) and array.verdict == "probable"


@pytest.mark.parametrize("count", [3, pytest.param(5, marks=pytest.mark.long)])
def test_a_page_is_as_long_as_pages_are_apart(volumes, tmp_path, count):
    """One span of a RAID 50 whose strips hold a page each: counted in pages of half the length, with parity in half
    strips, everything stood right and was certain, though every other row of them held no page."""
    spec = Spec("RAID50", 2 * count, 8192, "parity-0", "continuation", spans=2)
    case = pile(tmp_path, volumes / "pages.img", spec)
    arrays = solve_images([Path(str(name)) for name in case.names[:count]]).arrays
    assert all(array.verdict == "undecided" for array in arrays)
    (whole,) = solve_images(case.images).arrays
    assert right(case, whole) and whole.verdict != "undecided"


@pytest.mark.parametrize(
    ("changed", "grounds"),
    [({72: 0x42}, 1), ({72: 0x42, 73: 1, 75: 9, 78: 7}, 1), (dict.fromkeys(range(72, 80), 85), 2), ({62: 2}, 1)],
)
def test_parity_of_a_head_is_no_other_file_system(volumes, changed, grounds):
    """NTFS: with a few bytes of a serial number changed all records were counted twice; with other fields changed,
    what they say stands outside."""
    head = bytearray((volumes / "ntfs.img").read_bytes()[:512])
    other = bytearray(head)
    for at, value in changed.items():
        other[at] ^= value
    images = [MemorySource(1 << 20) for _ in range(2)]
    for image, sector in zip(images, (head, other), strict=True):
        image.write(0, bytes(sector))
    found = ntfs_anchors.heads(read_stock(Pile(["a", "b"], images), 1 << 20))
    assert len(found) == grounds and sum(len(g.found) for g in found) == 2 * (2 if 62 not in changed else 1)


@pytest.mark.parametrize("position", one_in(3, [4, 0, 5], single=True))
def test_a_member_that_was_not_written_to_is_empty_whatever_its_role(volumes, tmp_path, position):
    """Of P and Q one equation is left where it should hold something: that it is empty there says nothing of whether it
    holds parity. It was put where it would hold none, in the place of another one."""
    spec = Spec("RAID6", 6, 4096, "parity-N", "restart", "after-p", "data-index")
    case = pile(tmp_path, volumes / "log.img", spec)
    size = Path(case.names[position]).stat().st_size
    with open(case.names[position], "r+b") as image:
        image.seek(size // 20)
        image.write(bytes(size - size // 20))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdicts.currency.sure == "contradicted"


def test_strips_of_any_size_are_looked_for_where_most_of_what_states_an_address_stands_elsewhere(volumes, tmp_path):
    """A third of the pages stood right in strips of two thirds the size, with a lead, and nothing else was tried."""
    case = pile(tmp_path, volumes / "pages.img", Spec("RAID10", 4, 192 << 10, copies=2))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.geometry.strip_bytes == 192 << 10
    assert array.verdicts.order.sure == "certain"
