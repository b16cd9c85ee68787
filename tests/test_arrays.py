"""The array core: the map against the drawn layouts, and the laws of reading, writing and rebuilding."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays import codes, gf256
from faithful_stripe.core.arrays.alike import tests_of as alike_of
from faithful_stripe.core.arrays.engine import Array, DataLost
from faithful_stripe.core.arrays.geometry import Geometry, geometry
from faithful_stripe.core.arrays.layout import EXPONENTS, P_CELL, Q_CELL, UNUSED, layout
from faithful_stripe.core.arrays.levels import LEVELS, GeometryError
from faithful_stripe.core.arrays.margin import margin
from faithful_stripe.core.arrays.rebuild import NotRecoverable, check_rows, rebuild_rows
from faithful_stripe.core.source import MemorySource, OutOfBounds, Unreadable, read

# The definitions, drawn: rows of members, P for parity, numbers for the volume's strips in order.
DRAWN = {
    ("RAID0", None, None, None): "0 1 2 / 3 4 5",
    ("RAID1", None, None, None): "0 0 0 / 1 1 1",
    ("RAID10", None, None, None): "0 0 1 1 / 2 2 3 3",
    ("RAID1E", None, "adjacent", None): "0 0 1 / 1 2 2 / 3 3 4 / 4 5 5",
    ("RAID1E", None, "offset", None): "0 1 2 / 2 0 1 / 3 4 5 / 5 3 4",
    ("RAID4", "fixed-N", None, None): "0 1 2 P / 3 4 5 P",
    ("RAID4", "fixed-0", None, None): "P 0 1 2 / P 3 4 5",
    ("RAID5", "parity-0", "restart", None): "P 0 1 2 / 3 P 4 5 / 6 7 P 8 / 9 10 11 P / P 12 13 14",
    ("RAID5", "parity-0", "continuation", None): "P 0 1 2 / 5 P 3 4 / 7 8 P 6 / 9 10 11 P / P 12 13 14",
    ("RAID5", "parity-N", "restart", None): "0 1 2 P / 3 4 P 5 / 6 P 7 8 / P 9 10 11 / 12 13 14 P",
    ("RAID5", "parity-N", "continuation", None): "0 1 2 P / 4 5 P 3 / 8 P 6 7 / P 9 10 11 / 12 13 14 P",
    ("RAID6", "parity-0", "restart", "after-p"):
        "P Q 0 1 2 / 3 P Q 4 5 / 6 7 P Q 8 / 9 10 11 P Q / Q 12 13 14 P / P Q 15 16 17",
    ("RAID6", "parity-N", "restart", "after-p"):
        "0 1 2 P Q / 3 4 P Q 5 / 6 P Q 7 8 / P Q 9 10 11 / Q 12 13 14 P / 15 16 17 P Q",
    ("RAID6", "parity-N", "continuation", "before-p"):
        "0 1 2 Q P / 4 5 Q P 3 / 8 Q P 6 7 / Q P 9 10 11 / P 12 13 14 Q / 15 16 17 Q P",
    ("RAID6", "parity-N", "continuation", "after-p"):
        "Q 0 1 2 P / 3 4 5 P Q / 7 8 P Q 6 / 11 P Q 9 10 / P Q 12 13 14 / Q 15 16 17 P",
    ("RAID50", "parity-N", "continuation", None):
        "0 1 P 2 3 P / 5 P 4 7 P 6 / P 8 9 P 10 11 / 12 13 P 14 15 P",
    ("RAID60", "parity-0", "restart", "after-p"):
        "P Q 0 1 P Q 2 3 / 4 P Q 5 6 P Q 7 / 8 9 P Q 10 11 P Q / Q 12 13 P Q 14 15 P / P Q 16 17 P Q 18 19",
}  # fmt: skip


RARE = {
    ("RAID5", "parity-N", "continuation", ("turn_rows", 2)): "0 1 P / 2 3 P / 5 P 4 / 7 P 6 / P 8 9 / P 10 11",
    ("RAID5", "parity-0", "restart", ("turn_rows", 2)): "P 0 1 / P 2 3 / 4 P 5 / 6 P 7 / 8 9 P / 10 11 P / P 12 13",
    ("RAID5", "parity-N", "continuation", ("spare", "after-p")): "S 0 1 P / 2 3 P S / 5 P S 4 / P S 6 7 / S 8 9 P",
    ("RAID5", "parity-N", "restart", ("spare", "before-p")): "0 1 S P / 2 S P 3 / S P 4 5 / P 6 7 S / 8 9 S P",
    ("RAID50", "parity-N", "continuation", ("outer", "strip")):
        "0 2 P 1 3 P / 6 P 4 7 P 5 / P 8 10 P 9 11 / 12 14 P 13 15 P",
}  # fmt: skip
"""Layouts that are found, and not made here."""


@pytest.mark.parametrize("chosen", [*DRAWN, *RARE], ids=str)
def test_the_map_agrees_with_the_drawing(chosen):
    level, rotation, data, q_place = chosen
    rare = {q_place[0]: q_place[1]} if isinstance(q_place, tuple) else {"q_place": q_place}
    rows = [row.split() for row in (DRAWN | RARE)[chosen].split("/")]
    strip, start = 4096, 512
    g = geometry(
        level, len(rows[0]), strip, rotation=rotation, data=data, **rare,
        start_bytes=start, member_bytes=len(rows) * strip + 100,
    )  # fmt: skip
    seen = set()
    for r, row in enumerate(rows):
        for member, cell in enumerate(row):
            at = start + r * strip + 7
            found = int(g.to_volume(member, at))
            wanted = {"P": P_CELL, "Q": Q_CELL, "S": UNUSED}.get(cell)
            assert found == (int(cell) * strip + 7 if wanted is None else wanted), (r, member)
            seen |= {int(cell)} if wanted is None else set()
    assert g.volume_bytes == len(seen) * strip
    assert g.to_volume([0, 0], [start - 1, start + len(rows) * strip]).tolist() == [UNUSED, UNUSED]


@st.composite
def geometries(draw, levels=tuple(LEVELS)) -> Geometry:
    level = LEVELS[draw(st.sampled_from(levels))]
    spans = draw(st.integers(2, 3)) if level.inner else 1
    copies = draw(st.integers(2, 3)) if level.name == "RAID10" else None
    members = draw(st.integers(level.least, 9 if spans == 1 else 5)) * spans
    members = copies * draw(st.integers(2, 4)) if copies else members
    rotation, data, q_place = draw(st.sampled_from(level.layouts))
    exponent = draw(st.sampled_from(EXPONENTS)) if level.parity == 2 else None
    strip = draw(st.sampled_from([4096, 8192]))
    rows = draw(st.integers(2, 2 * members // spans + 1))
    sizes = tuple(rows * strip + draw(st.integers(0, 3 * strip)) for _ in range(members))
    starts = tuple(draw(st.sampled_from([0, 512, 4096])) for _ in range(members))
    rare = {"turn_rows": draw(st.sampled_from([1, 1, 2, 4]))} if rotation in ("parity-0", "parity-N") else {}
    if level.name == "RAID5" and members > 3:
        rare["spare"] = draw(st.sampled_from([None, None, "after-p", "before-p"]))
    return geometry(
        level.name, members, strip, rotation=rotation, data=data, member_bytes=sizes, start_bytes=starts,
        spans=spans, copies=copies, q_place=q_place, q_exponent=exponent, **rare,
    )  # fmt: skip


PLAIN = ("RAID0", "SPAN")
REDUNDANT = tuple(name for name in LEVELS if name not in PLAIN)


def losses(g: Geometry, most: int):
    """Every set of at most `most` members that the array survives."""
    for count in range(1, most + 1):
        for lost in itertools.combinations(range(g.members), count):
            if margin(g.pattern, lost) >= 0:
                yield lost


def members_for(g: Geometry) -> list[MemorySource]:
    return [
        MemorySource(s + n, f"member {i}") for i, (s, n) in enumerate(zip(g.start_bytes, g.member_bytes, strict=True))
    ]


def contents(size: int, seed: int) -> bytes:
    return np.random.default_rng(seed).integers(0, 256, size, np.uint8).tobytes()


@given(geometries(REDUNDANT), st.integers(0, 40), st.integers(1, 30), st.data())
def test_groups_that_are_tested_together_ask_what_each_asks(g, first, count, data):
    pattern, unit = g.pattern, g.pattern.unit_rows
    gone = frozenset(data.draw(st.lists(st.integers(0, g.members - 1), max_size=2)))
    first, count = first * unit, count * unit
    asked = {}
    for alike in alike_of(pattern, gone):
        for rows in alike.rows(first, count):
            for row in rows:
                columns = [(first + row + behind, who) for behind, who in alike.cells]
                asked[first + row, alike.group(first + row)] = [
                    {cell: k for cell, k in zip(columns, check, strict=True) if k} for check in alike.checks
                ]
    for row in range(first, first + count):
        for number, group in enumerate(pattern.groups):
            begins = min(r for r, _who in group.cells)
            if row % pattern.rows == begins:
                erased = frozenset(c for c, (_r, who) in enumerate(group.cells) if who in gone)
                cells = [(row - begins + r, who) for r, who in group.cells]
                assert asked.pop((row, number)) == [
                    {cell: k for cell, k in zip(cells, check, strict=True) if k}
                    for check in codes.remaining(group.checks, erased)
                ]
    assert not asked


@given(geometries())
def test_the_map_is_a_bijection(g):
    volume = np.arange(0, g.volume_bytes, 512)
    places = set()
    copies = len(g.pattern.places)
    for copy in range(copies):
        member, offset = g.to_member(volume, copy)
        assert (g.to_volume(member, offset) == volume).all()
        places |= set(zip(member.tolist(), offset.tolist(), strict=True))
    assert len(places) == len(volume) * copies


@given(geometries(), st.data())
def test_runs_cover_a_range_once_and_in_order(g, data):
    start = data.draw(st.integers(0, g.volume_bytes))
    length = data.draw(st.integers(0, g.volume_bytes - start))
    runs = g.runs(start, length)
    assert int(runs.length.sum()) == length
    assert (runs.volume == start + np.concatenate([[0], np.cumsum(runs.length)[:-1]])[: len(runs.volume)]).all()
    assert (g.to_volume(runs.member, runs.offset) == runs.volume).all()
    assert (
        runs.offset + runs.length <= np.array(g.start_bytes)[runs.member] + np.array(g.member_bytes)[runs.member]
    ).all()


@given(geometries(), st.data())
def test_write_then_read_is_the_identity_whole_and_degraded(g, data):
    members = members_for(g)
    array = Array(g, members)
    model = bytearray(g.volume_bytes)
    survivable = list(losses(g, 2)) if g.redundant else []
    gone = data.draw(st.sampled_from(survivable)) if survivable and data.draw(st.booleans()) else ()
    for n in range(data.draw(st.integers(1, 6))):
        if n == 2:
            for lost in gone:
                array.members[lost] = None
        start = data.draw(st.integers(0, g.volume_bytes - 1))
        piece = contents(data.draw(st.integers(1, g.volume_bytes - start)), n)
        array.write(start, piece)
        model[start : start + len(piece)] = piece
    assert read(array, 0, array.size) == model
    if array.members == members:
        assert [bad for _row, found in check_rows(array, 0, g.rows if g.redundant else 0) for bad in found] == []
        for lost in data.draw(st.lists(st.sampled_from(survivable), max_size=4)) if survivable else []:
            without = [None if i in lost else m for i, m in enumerate(members)]
            assert read(Array(g, without), 0, g.volume_bytes) == model, lost


@given(geometries(REDUNDANT), st.data())
def test_a_rebuilt_member_is_byte_for_byte_the_lost_one(g, data):
    members = members_for(g)
    array = Array(g, members)
    for n in range(3):
        start = data.draw(st.integers(0, g.volume_bytes - 1))
        array.write(start, contents(min(20_000, g.volume_bytes - start), n))
    gone = data.draw(st.sampled_from(list(losses(g, 2))))
    lost, rest = gone[0], gone[1:]
    size = g.start_bytes[lost] + g.rows * g.strip_bytes
    before = read(members[lost], 0, size)
    fresh = MemorySource(members[lost].size)
    fresh.write(g.start_bytes[lost], b"\xaa" * g.rows * g.strip_bytes)  # an old drive: its bytes must go
    array.members[lost] = fresh
    array.trusted[lost] = 0
    for other in rest:
        array.members[other] = None
    assert list(rebuild_rows(array, lost, fresh, 0, g.rows))[-1] == g.rows
    assert read(fresh, g.start_bytes[lost], g.rows * g.strip_bytes) == before[g.start_bytes[lost] :]


@pytest.mark.parametrize("level", ["RAID6", "RAID60"])
@pytest.mark.parametrize("exponent", EXPONENTS)
def test_every_pair_of_lost_members_is_solved(level, exponent):
    for rotation, data, q_place in LEVELS[level].layouts:
        g = geometry(
            level, 6 if level == "RAID6" else 8, 4096, member_bytes=7 * 4096,
            rotation=rotation, data=data, q_place=q_place, q_exponent=exponent,
        )  # fmt: skip
        members = members_for(g)
        array = Array(g, members)
        model = contents(g.volume_bytes, 5)
        array.write(0, model)
        pairs = list(itertools.combinations(range(g.members), 2))
        assert len([p for p in losses(g, 2) if len(p) == 2]) == len(pairs)
        for lost in pairs:
            assert read(Array(g, [None if i in lost else m for i, m in enumerate(members)]), 0, array.size) == model


# Worked by hand from the definition (Anvin): Q = D0 + 2*D1 + 4*D2, all sums XOR, 2*x = x<<1, and 0x1D added
# when a bit falls out. D = 0x80, 0x80, 0x01: 2*0x80 = 0x100 -> 0x00 ^ 0x1D = 0x1D; 4*0x01 = 0x04;
# Q = 0x80 ^ 0x1D ^ 0x04 = 0x99; P = 0x80 ^ 0x80 ^ 0x01 = 0x01. By position in row 0 of parity-0 restart data
# stand on members 2, 3, 4: Q = 4*0x80 ^ 8*0x80 ^ 16*0x01 with 4*0x80 = 2*0x1D = 0x3A, 8*0x80 = 0x74: 0x5E.
WORKED = [
    ("data-index", (0x80, 0x80, 0x01), 0x01, 0x99),
    ("member-position", (0x80, 0x80, 0x01), 0x01, 0x5E),
    ("data-index", (0x01, 0x00, 0x00), 0x01, 0x01),
    ("data-index", (0x00, 0x01, 0x00), 0x01, 0x02),
    ("data-index", (0x00, 0x00, 0xFF), 0xFF, 0xDB),  # 2*0xFF = 0xFE^0x1D = 0xE3; 4*0xFF = 0xC6^0x1D = 0xDB
    ("data-index", (0x53, 0xCA, 0x0F), 0x96, 0xE6),  # 2*0xCA = 0x94^0x1D = 0x89; 4*0x0F = 0x3C; 53^89^3C = E6
]


@pytest.mark.parametrize(("exponent", "data", "p", "q"), WORKED)
def test_p_and_q_worked_by_hand(exponent, data, p, q):
    g = geometry(
        "RAID6", 5, 4096, member_bytes=4096, rotation="parity-0", data="restart", q_place="after-p", q_exponent=exponent
    )
    members = members_for(g)
    Array(g, members).write(0, b"".join(bytes([value]) * 4096 for value in data))
    assert [set(read(m, 0, 4096)) for m in members] == [{p}, {q}, *({value} for value in data)]


def test_the_field():
    assert [gf256.multiply(a, gf256.inverse(a)) for a in range(1, 256)] == [1] * 255
    assert all(gf256.multiply(a, 2) == (a << 1 ^ (gf256.POLYNOMIAL if a & 128 else 0)) for a in range(256))
    assert sorted(gf256.power(e) for e in range(255)) == list(range(1, 256))
    with pytest.raises(ZeroDivisionError):
        gf256.inverse(0)


def test_members_of_unlike_size_one_after_the_other():
    g = geometry("SPAN", 3, 4096, member_bytes=(5000, 70_000, 9_000), start_bytes=(0, 512, 0))
    members = members_for(g)
    array = Array(g, members)
    model = contents(g.volume_bytes, 1)
    array.write(0, model)
    assert g.volume_bytes == 84_000 and read(array, 0, 84_000) == model
    assert read(members[1], 512, 70_000) == model[5000:75_000]
    with pytest.raises(DataLost, match="members \\[1\\]"):
        read(Array(g, [members[0], None, members[2]]), 0, 84_000)


def test_a_member_half_rebuilt_counts_only_up_to_its_progress():
    g = geometry("RAID5", 3, 4096, member_bytes=8 * 4096)
    members = members_for(g)
    array = Array(g, members)
    array.write(0, contents(g.volume_bytes, 1))
    wanted = read(array, 0, array.size)
    members[1].write(4 * 4096, b"\x55" * 4 * 4096)
    array.trusted[1] = 4 * 4096
    assert read(array, 0, array.size) == wanted
    array.write(5 * 8192, b"x" * 3000)  # a host write beyond the progress still reaches the member
    array.members[0] = None
    with pytest.raises(DataLost) as lost:
        read(array, 0, array.size)
    assert lost.value.facts["offset"] == 4 * 8192 + 4096 and lost.value.facts["members"] == [0, 1]


class Scratched(MemorySource):
    """A member with one unreadable sector."""

    def __init__(self, size: int, bad: int) -> None:
        super().__init__(size, "scratched")
        self.bad = bad

    def read_into(self, offset, buffer):
        length = memoryview(buffer).nbytes
        if offset < self.bad + 512 and self.bad < offset + length:
            raise Unreadable(source=self, offset=offset, length=length)
        super().read_into(offset, buffer)


def test_an_unreadable_sector_is_computed_and_stops_a_rebuild_only_where_it_is():
    g = geometry("RAID5", 4, 4096, member_bytes=600 * 4096)
    members = members_for(g)
    members[2] = Scratched(600 * 4096, 77 * 4096 + 512)
    array = Array(g, members)
    array.write(0, contents(g.volume_bytes, 2))
    assert read(array, 0, array.size) == contents(g.volume_bytes, 2)
    fresh = MemorySource(600 * 4096)
    array.members[0], array.trusted[0] = fresh, 0
    with pytest.raises(NotRecoverable) as lost:
        list(rebuild_rows(array, 0, fresh, 0, g.rows))
    assert lost.value.facts["members"] == [0, 2] and lost.value.facts["offset"] == 77 * 4096


def test_a_failed_write_changes_nothing():
    g = geometry("RAID5", 3, 4096, member_bytes=8 * 4096)
    members = members_for(g)
    array = Array(g, [members[0], None, None])
    with pytest.raises(DataLost):
        array.write(100, b"x" * 9000)
    assert list(members[0].data_ranges()) == []
    with pytest.raises(OutOfBounds):
        array.write(array.size - 1, b"xx")


def test_a_spoilt_byte_is_found_where_it_is():
    g = geometry("RAID5", 5, 4096, member_bytes=64 * 4096)
    members = members_for(g)
    array = Array(g, members)
    array.write(0, contents(g.volume_bytes, 3))
    byte = bytearray(read(members[3], 40 * 4096 + 9, 1))
    byte[0] ^= 4
    members[3].write(40 * 4096 + 9, byte)
    found = [bad for _row, some in check_rows(array, 0, g.rows) for bad in some]
    assert [(bad.row, bad.first_byte, bad.bytes) for bad in found] == [(40, 9, 1)]


def test_discard_gives_the_space_back_and_keeps_the_rest():
    g = geometry("RAID5", 4, 4096, member_bytes=64 * 4096)
    members = members_for(g)
    array = Array(g, members)
    model = bytearray(contents(g.volume_bytes, 4))
    array.write(0, model)
    array.discard(5000, 400_000)
    model[5000:405_000] = bytes(400_000)
    assert read(array, 0, array.size) == model
    assert sum(b - a for a, b in members[0].data_ranges()) < 40 * 4096
    assert not [bad for _row, some in check_rows(array, 0, g.rows) for bad in some]


def test_holes_of_the_members_are_holes_of_the_volume():
    g = geometry("RAID5", 4, 65536, member_bytes=1 << 40)
    array = Array(g, members_for(g))
    array.write(10**12, b"here")
    assert [(a <= 10**12 < b, b - a) for a, b in array.data_ranges()] == [(True, 3 * 65536)]


@pytest.mark.parametrize(
    ("level", "lost", "left"),
    [
        ("RAID0", [], 0),
        ("RAID0", [1], -1),
        ("RAID1", [], 3),
        ("RAID1", [0, 2], 1),
        ("RAID5", [3], 0),
        ("RAID5", [0, 1], -1),
    ],
)
def test_margin(level, lost, left):
    assert margin(layout(level, 4).pattern(), lost) == left


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"level": "RAID7"}, "'RAID7' is not a level"),
        ({"level": "RAID5", "members": 2}, "needs at least 3 drives, got 2"),
        ({"level": "RAID5", "rotation": "parity-X"}, "has no layout parity-X"),
        ({"level": "RAID50", "members": 7}, "7 drives do not divide into 2 equal spans"),
        ({"level": "RAID50", "members": 9, "spans": 9}, "RAID50 needs at least 27 drives"),
        ({"level": "RAID50", "members": 27, "spans": 9}, "RAID50 of 9 spans"),
        ({"level": "RAID5", "spans": 2}, "RAID5 has one span, not 2"),
        ({"level": "RAID5", "members": 33}, "33 drives in one span"),
        ({"level": "RAID10", "members": 5}, "5 drives do not divide into two or more mirrors of 2"),
        ({"level": "RAID6", "q_exponent": "odd"}, "RAID6 has no layout odd"),
        ({"level": "RAID5", "q_place": "after-p"}, "RAID5 has no layout after-p"),
        ({"strip_bytes": 3000}, "a strip of 3000 bytes"),
        ({"member_bytes": 100}, "smaller than one strip"),
        ({"member_bytes": (9999,)}, "1 sizes for 4 members"),
    ],
)
def test_a_wrong_geometry_says_what_is_wrong(wrong, words):
    with pytest.raises(GeometryError, match=words):
        geometry(**{"level": "RAID5", "members": 4, "strip_bytes": 4096, "member_bytes": 1 << 20} | wrong)
