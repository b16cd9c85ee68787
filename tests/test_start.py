"""Where a volume begins: a claim of its own, pinned only by what states it."""

import random
import struct
import zlib
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import Geometry
from faithful_stripe.core.arrays.layout import layout
from faithful_stripe.core.lineup.document.four_verdicts import Reason, Sure
from faithful_stripe.core.lineup.evidence.field_algebra import P_ROLE, Q_ROLE, Relation
from faithful_stripe.core.lineup.evidence.parity_groups import _border
from faithful_stripe.core.lineup.evidence.sampled_places import Place, places_of, survey
from faithful_stripe.core.lineup.hypotheses.assignment import Ballot, Hypothesis, _role_table
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate, layouts_of
from faithful_stripe.core.lineup.hypotheses.equivalence import volume_map
from faithful_stripe.core.lineup.hypotheses.member_tails import without_tail
from faithful_stripe.core.lineup.hypotheses.pile_table import lay_out
from faithful_stripe.core.lineup.hypotheses.search import Entry, Reader, Shared, _by_votes
from faithful_stripe.core.lineup.hypotheses.votes import moved_starts
from faithful_stripe.core.lineup.reading.samples import Pile, silent
from faithful_stripe.core.lineup.solving import one_array
from faithful_stripe.core.lineup.structures import ntfs_anchors as ntfs
from faithful_stripe.core.lineup.structures import partition_tables as table
from faithful_stripe.core.lineup.structures import volume_labels as labels
from faithful_stripe.core.lineup.structures.ground import read_stock
from faithful_stripe.core.lineup.verdict import weighing
from faithful_stripe.core.lineup.verdict.volume_start import _closes, begin_of, begins_elsewhere, shifted
from faithful_stripe.core.lineup.verdict.weighing import conclude
from faithful_stripe.core.source import MemorySource
from faithful_stripe.work.lineup import solve_images

from .cutting import pile, right
from .slicer import Spec

MIB = 1 << 20
RAID5 = Spec("RAID5", 5, 16384, "parity-N", "continuation")


layouts = st.sampled_from([
    chosen for level, n in (("RAID0", 4), ("RAID4", 4), ("RAID5", 5), ("RAID6", 6), ("RAID1E", 5))
    for chosen in layouts_of(level, n)
] + list(layouts_of("RAID50", 6, 2)))  # fmt: skip


@given(layouts, st.integers(-12, 12), st.integers(0, 1 << 30))
def test_a_shifted_hypothesis_puts_the_same_bytes_after_one_another(chosen, rows, seed):
    n, strip = chosen.members, 8192
    order = list(range(n))
    random.Random(seed).shuffle(order)
    candidate = Candidate(chosen.level, (chosen,), tuple((i,) for i in range(n)))
    h = Hypothesis(candidate, chosen, strip, 16 * strip, 0, tuple(order), 0.0)
    moved = shifted(h, rows)
    if moved is None:
        assert rows % chosen.pattern().rows or chosen.q_exponent == "member-position"
        return
    other, ahead = moved
    assert other.start == h.start - rows * strip
    assert begins_elsewhere(h, other) is bool(rows)
    assert not begins_elsewhere(h, replace(other, order=(*other.order[1:], other.order[0]))) or chosen.level == "RAID4"
    at = np.arange(max(0, -ahead), max(0, -ahead) + 60 * strip, 4096, dtype=np.int64)
    assert (volume_map(h, at) == volume_map(other, at + ahead)).all()


@given(layouts, st.integers(0, 40), st.sampled_from([0, 63 * 512, MIB]), st.integers(0, 1 << 20))
def test_a_head_stays_where_it_is_when_the_volume_begins_before_it(chosen, rows, base, ahead):
    """Whatever stands before a file system, its first byte is at the same offset of some member."""
    n, strip = chosen.members, 16384
    candidate = Candidate(chosen.level, (chosen,), tuple((i,) for i in range(n)))
    h = Hypothesis(candidate, chosen, strip, rows * strip + ahead // 512 * 512, 0, tuple(range(n)), 0.0)
    per = Geometry(chosen, strip, (0,) * n, (1 << 30,) * n)
    if chosen.pattern().strips % chosen.pattern().rows:
        return  # rows are not of one length in the volume
    for start in moved_starts(h, [base]):
        assert start + int(per.to_member(base)[1]) == h.start and start >= 0


def behind(place, inner, ahead, front):
    """A volume with a file system behind so many bytes, of which the first ones are given."""
    path = place / "whole.img"
    with path.open("wb") as out:
        out.write(front)
        out.seek(ahead)
        out.write(inner.read_bytes())
    return path


def solved(case):
    (array,) = [a for a in solve_images(case.images).arrays if set(a.members) & set(case.names)]
    return array


def test_rows_in_front_of_a_file_system_that_add_up_are_rows_of_the_volume(volumes, tmp_path):
    """A store of unknown kind: the file system's head stands on a row's border, but is not the volume's first byte."""
    front = b"".join(struct.pack("<IQ", 0x5EA70DE5, n) + random.Random(n).randbytes(4000) for n in range(256))
    row = 4 * RAID5.strip
    whole = behind(tmp_path, volumes / "xfs.img", 17 * row, front)
    (tmp_path / "pile").mkdir()
    case = pile(tmp_path / "pile", whole, RAID5)
    array = solved(case)
    assert right(case, array) and array.geometry.start_bytes[0] == 0
    assert array.verdicts.start.sure is Sure.CERTAIN and array.verdicts.start.reason is Reason.FIRST_ROW


def test_what_stands_in_front_on_both_copies_is_the_mirrors_too(volumes, tmp_path):
    """The verdict is of the start that is handed over, not of another one."""
    front = b"".join(struct.pack("<IQ", 0x5EA70DE5, n) + random.Random(n).randbytes(4000) for n in range(256))
    whole = behind(tmp_path, volumes / "xfs.img", 3 * MIB + 65536, front)
    (tmp_path / "pile").mkdir()
    array = solved(pile(tmp_path / "pile", whole, Spec("RAID1", 2, 65536)))
    assert array.geometry.start_bytes == (0, 0) and array.verdicts.start.reason is Reason.FIRST_ROW


def test_strangers_that_are_alike_say_nothing_of_the_start():
    """Images 2 and 4 are copies of one another and have no seat: what they hold in front is no row of this volume."""
    (chosen,) = layouts_of("RAID10", 2)
    candidate = Candidate("RAID10", (chosen,), ((0, 1), (2, 4), (3,)))
    h = Hypothesis(candidate, chosen, 16384, 65536, 0, (2, 0), 0.0)
    pair = np.array([[1, 1]], np.uint8)
    stray = Place(4096, frozenset({2, 4}), (Relation((2, 4), pair),))
    mine = Place(4096, frozenset({0, 1}), (Relation((0, 1), pair),))
    assert not _closes(h, stray) and _closes(h, mine)
    made = layouts_of("RAID1", 2)
    mirror = replace(h, candidate=Candidate("RAID1", made, ((0,), (1,))), layout=made[0], order=(0, 1))
    moved = shifted(mirror, 2)
    assert moved is not None and moved[0].order == (0, 1)  # both keep their seats


def test_a_wiped_front_leaves_the_start_open(volumes, tmp_path):
    """Nothing is left in front: the volume may begin with the file system, or before it with the members turned."""
    whole = behind(tmp_path, volumes / "xfs.img", 4 * RAID5.strip * 16, b"")
    (tmp_path / "pile").mkdir()
    array = solved(pile(tmp_path / "pile", whole, RAID5))
    assert array.verdicts.start.sure is not Sure.CERTAIN and array.verdicts.order.sure is not Sure.CERTAIN
    assert array.verdicts.start.reason is Reason.NOTHING_SAYS


def test_a_file_system_on_the_first_bytes_pins_the_start(volumes, tmp_path):
    array = solved(pile(tmp_path, volumes / "xfs.img", RAID5))
    assert array.verdicts.start.reason is Reason.HEAD and array.verdicts.certain


def test_what_fits_no_answer_before_its_start_is_moved_back_speaks_after(volumes, tmp_path, monkeypatch):
    """Roles alone may tell the turn and not the row: no file system stands in a volume that begins behind its head."""

    def late(table_, found, *rest):
        moved = shifted(found[0], -30)
        return conclude(table_, [replace(moved[0], base=0)], *rest) if moved else None

    monkeypatch.setattr(one_array, "conclude", late)
    case = pile(tmp_path, volumes / "xfs.img", RAID5)
    array = solved(case)
    assert right(case, array) and array.verdicts.start.reason is Reason.HEAD and array.verdicts.certain


def test_where_a_table_is_gone_members_of_another_start_are_no_other_order(volumes, tmp_path):
    """Rotations that agree in one row of five put most structures of a small file system right as well: one was
    certain, for its start alone had been searched."""
    whole = behind(tmp_path, volumes / "xfs.img", MIB, b"")
    (tmp_path / "pile").mkdir()
    case = pile(tmp_path / "pile", whole, Spec("RAID5", 5, 65536, "parity-N", "restart", start=594944), seed=3)
    array = solved(case)
    assert right(case, array) and array.verdicts.order.sure is Sure.CERTAIN
    assert array.verdicts.start.sure is not Sure.CERTAIN


def test_a_search_that_finds_nothing_anew_leaves_what_was_found(volumes, tmp_path, monkeypatch):
    """Where blocks are told by nothing but their relations, the last search may have no geometry to climb in."""
    monkeypatch.setattr(weighing, "search", lambda *_a: [])
    case = pile(tmp_path, volumes / "gpt.img", replace(RAID5, start=65536))
    assert right(case, solved(case))


def test_a_table_that_stands_elsewhere_refutes_a_start(volumes, tmp_path):
    """GPT in front: an answer that puts the file system first is never certain, and the table says where it is."""
    case = pile(tmp_path, volumes / "gpt.img", replace(RAID5, start=65536))
    array = solved(case)
    assert right(case, array) and array.verdicts.start.reason is Reason.TABLE


def gpt(sector, first=256):
    """A disk with one partition behind a GPT with sectors of this size."""
    entries = (b"\1" * 16 + b"\2" * 16 + struct.pack("<QQ", first, first + 99)).ljust(128 * 128, b"\0")
    head = struct.pack(
        "<8sIIII4Q16sQIII", b"EFI PART", 0x10000, 92, 0, 0, 1, 4000, 6, 3990, b"g" * 16, 2, 128, 128,
        zlib.crc32(entries),
    )  # fmt: skip
    head = head[:16] + struct.pack("<I", zlib.crc32(head)) + head[20:]
    disk = MemorySource(4 * MIB)
    disk.write(sector, head)
    disk.write(2 * sector, entries)
    return disk


@pytest.mark.parametrize("sector", [512, 4096])
def test_gpt_is_read_with_sectors_of_both_sizes(sector):
    (ground,) = table.heads(read_stock(Pile(["disk"], [gpt(sector)]), 8 * MIB))
    assert ground.starts == {256 * sector} and ground.head
    assert {int(a) for _k, _i, _o, address in ground.found for a in address} == {sector}


def test_a_table_whose_entries_are_elsewhere_is_a_table_of_no_more_than_it_says():
    """The second head stands on a member, its entries on the one before: the sector's size is not known. Taken for a
    file system of eight times the size, it would have refuted every volume."""
    disk = gpt(512)
    disk.write(2 * 512, bytes(128 * 128))
    (ground,) = table.heads(read_stock(Pile(["disk"], [disk]), 8 * MIB))
    assert ground.table and not ground.starts and ground.size == 4001 * 512
    assert {int(a) for _k, _i, _o, address in ground.found for a in address} == {512, 4096}


def record(*entries, code=b"", number=b"\0\0\0\0"):
    rows = b"".join(struct.pack("<B3sB3sII", 0, b"\0\0\0", kind, b"\0\0\0", a, n) for kind, a, n in entries)
    return code.ljust(440, b"\0") + number + b"\0\0" + rows.ljust(64, b"\0") + b"\x55\xaa"


def test_boot_records_of_logical_partitions_are_no_tables():
    disk = MemorySource(8 * MIB)
    disk.write(0, record((0x83, 2048, 1000), (0x05, 4096, 8000), number=b"tide"))
    disk.write(4096 * 512, record((0x83, 2048, 1000), (0x05, 3000, 2000)))
    disk.write(7096 * 512, record((0x83, 63, 1000)))
    (ground,) = table.heads(read_stock(Pile(["disk"], [disk]), 16 * MIB))
    assert ground.head and {2048 * 512, (4096 + 2048) * 512, (4096 + 3000 + 63) * 512} <= ground.starts


def test_apple_and_bsd_labels_say_where_partitions_begin():
    disk = MemorySource(4 * MIB)
    disk.write(0, b"ER" + (512).to_bytes(2, "big"))
    for number, (first, count) in enumerate(((1, 63), (64, 2000)), 1):
        disk.write(512 * number, b"PM\0\0" + struct.pack(">III", 2, first, count))
    bsd = MemorySource(4 * MIB)
    label = bytearray(512)
    label[:4] = label[132:136] = table.BSD_MARK
    label[40:44], label[138:140] = (512).to_bytes(4, "little"), (2).to_bytes(2, "little")
    label[148:156], label[164:172] = struct.pack("<II", 4000, 0), struct.pack("<II", 2000, 128)
    bsd.write(512, bytes(label))
    for source, starts in ((disk, {512, 64 * 512}), (bsd, {128 * 512})):
        (ground,) = table.heads(read_stock(Pile(["disk"], [source]), 8 * MIB))
        assert ground.starts == starts and ground.head


def test_physical_volumes_and_encryption_headers_state_their_place():
    disk = MemorySource(8 * MIB)
    at = struct.pack("<QQQQQQQQ", 8 * MIB, MIB, 0, 0, 0, 4096, MIB - 4096, 0)
    disk.write(512, b"LABELONE" + struct.pack("<QII", 1, 0, 32) + b"LVM2 001" + b"u" * 32 + at)
    text = b"tides {\nseqno = %d\nextent_size = 2048\nphysical_volumes {\n}\nlogical_volumes {\nstripes = [\n"
    text += b'"pv0", %d\n]}}\0'
    disk.write(5 * 512, text % (2, 1))
    disk.write(16 * 512, text % (3, 2))
    (ground,) = labels.heads(read_stock(Pile(["disk"], [disk]), 16 * MIB))
    assert ground.starts == {MIB, MIB + 2 * 2048 * 512} and ground.head and "LVM" in ground.words
    locked = MemorySource(8 * MIB)
    for mark, place in ((b"LUKS\xba\xbe", 0), (b"SKUL\xba\xbe", 0x4000)):
        head = bytearray(mark + b"\0\2" + bytes(504))
        head[168:208], head[256:264] = b"u" * 40, place.to_bytes(8, "big")
        locked.write(place, bytes(head))
    (ground,) = labels.heads(read_stock(Pile(["locked"], [locked]), 16 * MIB))
    assert sorted(int(a) for _k, _i, _o, address in ground.found for a in address) == [0, 0x4000]


def test_a_fixed_record_has_its_bytes_back():
    body = bytearray(random.Random(1).randbytes(1024))
    body[:4], body[4:8] = b"FILE", struct.pack("<HH", 48, 3)
    body[48:54] = b"\7\0" + body[510:512] + body[1022:1024]
    whole = bytes(body)
    body[510:512] = body[1022:1024] = b"\7\0"
    assert ntfs.fixed(bytes(body)) == whole
    assert ntfs.fixed(whole) == whole  # the number is not there: nothing is put back


@pytest.mark.parametrize(
    ("closes", "border"),
    [
        ([True] * 30 + [False] * 30, 30),
        ([True] * 60, 0),
        ([False] * 60, 0),
        ([True, False] * 40, 0),
        ([True] * 11 + [False] * 60, 0),  # too few to tell
        ([True] * 20 + [False] * 3 + [True] * 20 + [False] * 40, 43),
    ],
)
def test_where_a_group_ends_to_close(closes, border):
    assert _border(closes) == border


@pytest.mark.long
@pytest.mark.parametrize(("content", "spec"), [
    ("xfs", Spec("RAID5", 5, 65536, "parity-N", "continuation")),
    ("xfs", Spec("RAID6", 6, 16384, "parity-N", "restart", "after-p", "data-index")),
])  # fmt: skip
@pytest.mark.parametrize("how", ["cut short", "silent", "stranger"])
def test_a_member_that_serves_for_a_part_only_hides_nothing(volumes, tmp_path, content, spec, how):
    case = pile(tmp_path, volumes / f"{content}.img", spec)
    victim = case.images[[str(i) for i in case.images].index(case.names[2])]
    size = victim.stat().st_size
    with victim.open("r+b") as file:
        file.truncate(size // 3 // 512 * 512)
        if how != "cut short":
            file.truncate(size)
        if how == "stranger":
            file.seek(size // 3 // 512 * 512)
            file.write(random.Random(4).randbytes(4 * MIB))
    array = solved(case)
    others = [m for p, m in enumerate(array.members) if p != 2]
    assert others == [m for p, m in enumerate(case.names) if p != 2]
    assert array.members[2] in (case.names[2], None) and array.strength != "undecided"


@pytest.mark.parametrize(
    ("level", "data", "gone"),
    [
        pytest.param("RAID1E", "offset", (), marks=pytest.mark.long),
        ("RAID0", None, (5,)),
        ("RAID5", "continuation", (4,)),
    ],
)
def test_what_stands_in_the_first_rows_alone_counts_no_members(tmp_path, volumes, level, data, gone):
    """However the members turn there: with one more or one less, the first row is the same."""
    rotation = "parity-N" if level == "RAID5" else None
    case = pile(tmp_path, volumes / "fat16.img", Spec(level, 6, 1 << 20, rotation, data), gone=gone)
    for array in solve_images(case.images).arrays:
        assert array.verdicts.order.sure is not Sure.CERTAIN, array


def test_where_a_table_is_gone_a_volume_begins_at_a_usual_place(volumes, tmp_path):
    """A file system at 1 MiB behind zeros: four rows, at 256 KiB of each member. Data do not start there by any custom;
    partitions begin at 1 MiB by one. Nothing states either, so it is not certain."""
    whole = tmp_path / "volume.img"
    whole.write_bytes(bytes(MIB) + (volumes / "xfs.img").read_bytes())
    (tmp_path / "pile").mkdir()
    case = pile(tmp_path / "pile", whole, Spec("RAID5", 5, 65536, "parity-N", "continuation"))
    array = solved(case)
    assert array.geometry.start_bytes[0] == 0 and right(case, array)
    assert array.verdicts.start.sure is not Sure.CERTAIN


@pytest.mark.parametrize(
    ("content", "members", "strip", "sure"),
    [("ntfs", 4, 16384, "probable"), ("xfs", 4, 16384, "probable"), ("fat32", 6, 65536, "undecided")],
)
def test_where_a_table_is_gone_its_partition_need_not_begin_with_a_row(
    volumes, tmp_path, content, members, strip, sure
):
    """1 MiB of zeros is no whole number of rows. A start where data are first seen, with the file system a strip
    further on, puts all in the same places, and by no custom; and one that takes the head for the first strip has
    parity where structures stand: with two rows of data, not enough of it to be the less likely one by far."""
    whole = tmp_path / "volume.img"
    whole.write_bytes(bytes(MIB) + (volumes / f"{content}.img").read_bytes())
    (tmp_path / "pile").mkdir()
    case = pile(tmp_path / "pile", whole, Spec("RAID5", members, strip, "parity-N", "continuation"))
    array = solved(case)
    assert array.geometry.start_bytes[0] == 0 and right(case, array)
    assert array.verdicts.start.sure.value == sure


def labelled(case, label):
    """Something on the first bytes of each image, another one on each: not the volume's."""
    for number, image in enumerate(case.images if label else ()):
        with image.open("r+b") as file:
            file.write(label + bytes([number]))


@pytest.mark.parametrize(
    ("level", "ahead", "start", "label", "sure"),
    [
        ("RAID1", 17 * MIB, 0, b"", Sure.UNDECIDED),  # no place of custom, and one is before it
        ("RAID0", 0, 17 * MIB, b"", Sure.UNDECIDED),  # likewise, a whole number of rows
        ("RAID0", 0, 700 * 512, b"", Sure.PROBABLE),  # none of custom is a whole number of rows before it
        ("RAID1", 700 * 512, 0, b"", Sure.UNDECIDED),  # a mirror's rows are any sectors
        ("RAID1", MIB, 0, b"", Sure.UNDECIDED),  # a partition would begin there, of a volume from the first byte on
        ("RAID1", 0, MIB, b"label ", Sure.PROBABLE),  # something stands in front, and was not wiped
        ("RAID1", 17 * MIB, MIB, b"label ", Sure.UNDECIDED),  # far in front: what was between may have been
        ("RAID1", 0, 65536, b"", Sure.PROBABLE),
    ],
)
def test_a_head_behind_nothing_tells_the_start_unless_one_of_custom_is_before_it(
    volumes, tmp_path, level, ahead, start, label, sure
):
    whole = tmp_path / "volume.img"
    whole.write_bytes(bytes(ahead) + (volumes / "xfs.img").read_bytes())
    (tmp_path / "pile").mkdir()
    case = pile(tmp_path / "pile", whole, Spec(level, 2, 65536, start=start))
    labelled(case, label)
    array = solved(case)
    assert array.verdicts.order.sure is Sure.CERTAIN
    assert array.verdicts.start.sure is sure and array.verdicts.start.reason is Reason.NOTHING_SAYS


def test_what_states_no_start_begins_where_it_is_first_seen_for_all_that_is_known(volumes, tmp_path):
    """A log of records behind a wiped front, at no place of custom: the order is told, the start is not."""
    for name, start, label in (("wiped", 5 * 65536, b""), ("custom", 2 * MIB, b"label")):
        (tmp_path / name).mkdir()
        case = pile(tmp_path / name, volumes / "log.img", Spec("RAID1", 2, 65536, start=start))
        labelled(case, label)
        array = solved(case)
        assert array.geometry.start_bytes[0] == start and array.verdicts.order.sure is not Sure.UNDECIDED
        assert (array.verdicts.start.sure is Sure.UNDECIDED) is (not label)


def test_where_the_heads_are_wiped_a_doubt_of_the_start_is_none_of_the_order(volumes, tmp_path):
    """As good an answer has the same members in the same places, and another first row."""
    case = pile(tmp_path, volumes / "log.img", replace(RAID5, strip=65536))
    for image in case.images:
        with image.open("r+b") as file:
            file.write(bytes(MIB))
    array = solved(case)
    assert array.signs.likely and array.verdicts.order.reason is Reason.FEW  # probable or not is what was measured
    assert array.verdicts.start.sure is Sure.UNDECIDED
    assert array.best - array.next > 20


@pytest.mark.parametrize("gap", [False, True])
def test_rows_at_the_end_that_do_not_match_are_the_volumes_where_they_follow_upon_it(gap):
    """What a controller writes stands apart; data of which one member holds something else go on to the end."""
    strip, rows = 65536, 96
    shape = layouts_of("RAID5", 4)[0]
    members = [MemorySource(strip * rows, f"m{n}") for n in range(4)]
    made = Geometry(shape, strip, (0,) * 4, (strip * rows,) * 4)
    text = np.random.default_rng(1).integers(97, 123, made.volume_bytes, np.uint8)
    Array(made, members).write(0, text)
    for row in range(84, rows):
        members[2].write(row * strip, b"another year's tides " * 3120 + bytes(16))
        if gap and row < 94:
            for member in members:
                member.write(row * strip, bytes(strip))
    pile_ = Pile([f"m{n}" for n in range(4)], members)
    places = places_of(survey(pile_))
    h = Hypothesis(Candidate("RAID5", (shape,), ((0,), (1,), (2,), (3,))), shape, strip, 0, 0, (0, 1, 2, 3), 0.0)
    assert without_tail(made, h, pile_, places, 0).rows == (94 if gap else rows)


def test_roles_tell_the_start_where_all_that_states_an_address_is_a_copy():
    """In a RAID 6 a member's factor tells its place in the row; what is in a journal fits no start, or a wrong one."""
    chosen = layout("RAID6", 5, "parity-N", "restart", q_place="after-p", q_exponent="data-index")
    candidate = Candidate("RAID6", (chosen,), tuple((i,) for i in range(5)))
    seats = _role_table(chosen)[0]
    told = [
        (int(seats[row % len(seats), code]), MIB + row * RAID5.strip, role)
        for row in range(12) for code, role in enumerate((P_ROLE, Q_ROLE, 0, 1, 2))
    ]  # fmt: skip
    who, offset, role = (np.array(part, np.int64) for part in zip(*told, strict=True))
    none, zero = np.empty(0, np.int64), np.zeros(1, np.int64)
    quiet = np.empty((0, 2), np.int64)
    ballot = Ballot(5, zero, zero, zero, zero + 1, who, offset, role, np.ones(len(who)), none, none, none, quiet)
    entry = Entry(Reader(Pile([], []), [], [], candidate, Shared()), ballot)
    best = _by_votes(entry, [0], [0, MIB])[0]
    assert (best.start, best.strip, best.order) == (MIB, RAID5.strip, (0, 1, 2, 3, 4))


def test_a_start_that_moves_to_where_there_is_room_is_not_likely_where_nothing_stands_in_its_first_row():
    """Data stand in front of what was found first, and nothing says where they begin: it was "probable" that they do in
    the earliest row there is room for."""
    strip, first, found = 65536, 9216, 4
    shape = layouts_of("RAID0", 2)[0]
    data = np.random.default_rng(2).integers(1, 255, 16 * strip, np.uint8)
    for empty in (2, 0):  # rows before the data
        members = [MemorySource(first + 16 * strip, f"m{n}") for n in range(2)]
        for number, member in enumerate(members):
            member.write(0, b"label %d" % number)
            for row in range(empty, 8):
                member.write(first + row * strip, data[(2 * row + number) * strip :][:strip])
        pile_ = Pile(["m0", "m1"], members)
        laid_out = lay_out(pile_, silent)
        h = Hypothesis(Candidate("RAID0", (shape,), ((0,), (1,))), shape, strip, first + found * strip, 0, (0, 1), 0.0)
        begin = begin_of(laid_out, h, [])
        assert begin.h.start == first and begin.shift == 2 * found * strip
        assert (begin.verdict.sure is Sure.UNDECIDED) is bool(empty)


@pytest.mark.parametrize(
    ("first", "reason", "sure"), [(16, Reason.NOTHING_SAYS, Sure.UNDECIDED), (0, Reason.FIRST_ROW, Sure.CERTAIN)]
)
def test_a_label_on_one_member_is_no_first_row_where_redundancy_would_tell(first, reason, sure):
    """Data from 64 KiB on, a label at the very front: a volume that begins with it was probable."""
    strip, shape = 4096, next(one for one in layouts_of("RAID5", 3) if one.data == "continuation")
    data = np.random.default_rng(3).integers(1, 255, (2, 64 * strip), np.uint8)
    members = [MemorySource(80 * strip, f"m{n}") for n in range(3)]
    for member, held in zip(members, [*data, data[0] ^ data[1]], strict=True):
        member.write(first * strip, held)
    members[0].write(0, b"label of nothing here")
    if not first:
        members[0].write(0, data[0])
    laid_out = lay_out(Pile(["m0", "m1", "m2"], members), silent)
    h = Hypothesis(Candidate("RAID5", (shape,), ((0,), (1,), (2,))), shape, strip, 0, 0, (0, 1, 2), 0.0)
    verdict = begin_of(laid_out, h, []).verdict
    assert (verdict.sure, verdict.reason) == (sure, reason)


def test_the_second_head_of_a_table_says_where_a_volume_began_whose_front_is_gone(volumes, tmp_path):
    """It states its own place. The start was undecided, and rows before the true one, as early as there was room."""
    data = bytearray((volumes / "gpt.img").read_bytes())
    data[:MIB] = bytes(MIB)
    (tmp_path / "gpt.img").write_bytes(data)
    (tmp_path / "pile").mkdir()
    case = pile(tmp_path / "pile", tmp_path / "gpt.img", replace(RAID5, start=88064))
    array = solved(case)
    assert right(case, array) and array.geometry.start_bytes[0] == 88064
    assert (array.verdicts.start.sure, array.verdicts.start.reason) == (Sure.PROBABLE, Reason.SECOND_TABLE)
    assert array.verdicts.order.sure is not Sure.UNDECIDED
