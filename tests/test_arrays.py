"""The array core: the map against the drawn layouts, and the laws of reading, writing and rebuilding."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_stripe.core.arrays.engine import Array, DataLost
from faithful_stripe.core.arrays.geometry import Geometry, geometry
from faithful_stripe.core.arrays.layout import P_CELL, UNUSED, layout
from faithful_stripe.core.arrays.levels import LEVELS, GeometryError
from faithful_stripe.core.arrays.margin import margin
from faithful_stripe.core.arrays.rebuild import NotRecoverable, check_rows, rebuild_rows
from faithful_stripe.core.source import MemorySource, OutOfBounds, Unreadable, read

# The definitions, drawn: rows of members, P for parity, numbers for the volume's strips in order.
DRAWN = {
    ("RAID0", None, None): "0 1 2 / 3 4 5",
    ("RAID1", None, None): "0 0 0 / 1 1 1",
    ("RAID5", "parity-0", "restart"): "P 0 1 2 / 3 P 4 5 / 6 7 P 8 / 9 10 11 P / P 12 13 14",
    ("RAID5", "parity-0", "continuation"): "P 0 1 2 / 5 P 3 4 / 7 8 P 6 / 9 10 11 P / P 12 13 14",
    ("RAID5", "parity-N", "restart"): "0 1 2 P / 3 4 P 5 / 6 P 7 8 / P 9 10 11 / 12 13 14 P",
    ("RAID5", "parity-N", "continuation"): "0 1 2 P / 4 5 P 3 / 8 P 6 7 / P 9 10 11 / 12 13 14 P",
}


@pytest.mark.parametrize("chosen", DRAWN, ids=str)
def test_the_map_agrees_with_the_drawing(chosen):
    rows = [row.split() for row in DRAWN[chosen].split("/")]
    strip, start = 4096, 512
    g = geometry(
        chosen[0],
        len(rows[0]),
        strip,
        rotation=chosen[1],
        data=chosen[2],
        start_bytes=start,
        member_bytes=len(rows) * strip + 100,
    )
    seen = set()
    for r, row in enumerate(rows):
        for member, cell in enumerate(row):
            at = start + r * strip + 7
            found = int(g.to_volume(member, at))
            assert found == (P_CELL if cell == "P" else int(cell) * strip + 7), (r, member)
            seen |= {int(cell)} if cell != "P" else set()
    assert g.volume_bytes == len(seen) * strip
    assert g.to_volume([0, 0], [start - 1, start + len(rows) * strip]).tolist() == [UNUSED, UNUSED]


@st.composite
def geometries(draw) -> Geometry:
    level = draw(st.sampled_from(list(LEVELS.values())))
    members = draw(st.integers(level.least, 9))
    rotation, data, _q = draw(st.sampled_from(level.rotations))
    strip = draw(st.sampled_from([4096, 8192]))
    rows = draw(st.integers(1, 2 * members + 1))
    sizes = tuple(rows * strip + draw(st.integers(0, 3 * strip)) for _ in range(members))
    starts = tuple(draw(st.sampled_from([0, 512, 4096])) for _ in range(members))
    return geometry(level.name, members, strip, rotation=rotation, data=data, member_bytes=sizes, start_bytes=starts)


def members_for(g: Geometry) -> list[MemorySource]:
    return [
        MemorySource(s + n, f"member {i}") for i, (s, n) in enumerate(zip(g.start_bytes, g.member_bytes, strict=True))
    ]


def contents(size: int, seed: int) -> bytes:
    return np.random.default_rng(seed).integers(0, 256, size, np.uint8).tobytes()


@given(geometries())
def test_the_map_is_a_bijection(g):
    volume = np.arange(0, g.volume_bytes, 512)
    places = set()
    for copy in range(len(g.pattern.places)):
        member, offset = g.to_member(volume, copy)
        assert (g.to_volume(member, offset) == volume).all()
        places |= set(zip(member.tolist(), offset.tolist(), strict=True))
    assert len(places) == len(volume) * len(g.pattern.places)


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


@settings(deadline=None)
@given(geometries(), st.data())
def test_write_then_read_is_the_identity_whole_and_degraded(g, data):
    members = members_for(g)
    array = Array(g, members)
    model = bytearray(g.volume_bytes)
    gone = data.draw(st.one_of(st.none(), st.integers(0, g.members - 1)))
    tolerant = g.layout.level != "RAID0"
    for n in range(data.draw(st.integers(1, 6))):
        if n == 2 and tolerant and gone is not None:
            array.members[gone] = None
        start = data.draw(st.integers(0, g.volume_bytes - 1))
        piece = contents(data.draw(st.integers(1, g.volume_bytes - start)), n)
        array.write(start, piece)
        model[start : start + len(piece)] = piece
    assert read(array, 0, array.size) == model
    if tolerant:
        for lost in range(g.members) if gone is None else [gone]:
            without = [m if i != lost else None for i, m in enumerate(members)]
            assert read(Array(g, without), 0, g.volume_bytes) == model
    if array.members == members:
        assert [bad for _row, found in check_rows(array, 0, g.rows // g.pattern.unit_rows) for bad in found] == []


@settings(deadline=None)
@given(geometries().filter(lambda g: g.layout.level != "RAID0"), st.data())
def test_a_rebuilt_member_is_byte_for_byte_the_lost_one(g, data):
    members = members_for(g)
    array = Array(g, members)
    for n in range(3):
        start = data.draw(st.integers(0, g.volume_bytes - 1))
        array.write(start, contents(min(20_000, g.volume_bytes - start), n))
    lost = data.draw(st.integers(0, g.members - 1))
    size = g.start_bytes[lost] + g.rows * g.strip_bytes
    before = read(members[lost], 0, size)
    fresh = MemorySource(members[lost].size)
    fresh.write(g.start_bytes[lost], b"\xaa" * g.rows * g.strip_bytes)  # an old drive: its bytes must go
    array.members[lost] = fresh
    array.trusted[lost] = 0
    assert list(rebuild_rows(array, lost, fresh, 0, g.rows))[-1] == g.rows
    assert read(fresh, g.start_bytes[lost], g.rows * g.strip_bytes) == before[g.start_bytes[lost] :]


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
        ({"strip_bytes": 3000}, "a strip of 3000 bytes"),
        ({"member_bytes": 100}, "smaller than one strip"),
        ({"member_bytes": (9999,)}, "1 sizes for 4 members"),
    ],
)
def test_a_wrong_geometry_says_what_is_wrong(wrong, words):
    with pytest.raises(GeometryError, match=words):
        geometry(**{"level": "RAID5", "members": 4, "strip_bytes": 4096, "member_bytes": 1 << 20} | wrong)
