"""The full pass: what it finds in every row, whom it blames, and what is handed over."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.arrays.margin import margin
from faithful_stripe.core.errors import StripeError
from faithful_stripe.core.lineup.document.four_verdicts import NAMES, Reason, Sure, Verdict, Verdicts, placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup
from faithful_stripe.core.lineup.document.row_map import RowMap, State, Why, opened
from faithful_stripe.core.lineup.full_pass import blame, fault_pieces, soundness
from faithful_stripe.core.lineup.full_pass.patches import patches
from faithful_stripe.core.lineup.full_pass.row_pass import full_pass
from faithful_stripe.core.lineup.full_pass.stretch import Stretch
from faithful_stripe.core.lineup.full_pass.taken_back import harmed
from faithful_stripe.core.ranges import clip, union
from faithful_stripe.core.source import MemorySource, Unreadable, read
from faithful_stripe.work.checked import CheckedVolume

STRIP, ROWS = 8192, 24
SECTOR = 512

SHAPES = {
    "RAID0": (4, {}),
    "RAID1": (2, {}),
    "RAID10": (6, {"copies": 3}),
    "RAID1E": (5, {"data": "adjacent"}),
    "RAID4": (4, {}),
    "RAID5": (5, {"rotation": "parity-N", "data": "continuation"}),
    "RAID6": (6, {"rotation": "parity-N", "data": "restart", "q_exponent": "member-position"}),
    "RAID50": (6, {}),
    "RAID60": (8, {}),
}
PROVING = ("RAID10", "RAID6", "RAID60")
"""Levels with two equations for every byte."""


def prose(seed, size):
    """Records like those of a log: what stands there is told from noise."""
    rng = np.random.default_rng(seed)
    lines = [
        b"%d gauge level=%.3f m\n" % (1_700_000_000 + 7 * i, v) for i, v in enumerate(rng.normal(3, 1, size // 28))
    ]
    return np.frombuffer(b"".join(lines)[:size].ljust(size, b"\n"), np.uint8).copy()


def written(level, seed=1, gone=()):
    """A volume of tides, and the members it was written to, some of them gone."""
    count, more = SHAPES[level]
    shape = geometry(level, count, STRIP, member_bytes=STRIP * ROWS, **more)
    members = [MemorySource(STRIP * ROWS, f"m{i}") for i in range(count)]
    content = prose(seed, shape.volume_bytes)
    Array(shape, members).write(0, content)
    return shape, [None if i in gone else m for i, m in enumerate(members)], content


def content_of(source):
    return np.frombuffer(read(source, 0, source.size), np.uint8)


@given(st.integers(0, 3), st.lists(st.integers(0, 9), max_size=5), st.integers(0, 40), st.integers(0, 40))
def test_a_part_of_a_stretch_is_what_lies_between(blocks, sizes, low, high):
    at, content = blocks * 4096, np.arange(sum(sizes), dtype=np.uint8)
    stretch = Stretch(at, np.split(content, np.cumsum(sizes)[:-1]) if sizes else [], full=True)
    part = stretch.within(at + low, at + high)
    assert b"".join(p.tobytes() for p in part.pieces) == content[low:high].tobytes()
    assert part.at == at + low or not part.pieces
    assert not (part.full and part.at % 4096)  # one that begins amid a block was not looked at as such


@pytest.mark.parametrize("level", ["RAID5", "RAID6", "RAID10"])
@pytest.mark.parametrize("gone", [(), (1,)])
def test_a_stretch_is_full_where_no_block_is_empty(level, gone):
    shape, members, content = written(level, gone=gone)
    content[3 * STRIP : 3 * STRIP + 4096] = 0  # in the first rows alone
    Array(shape, members).write(0, content)
    seen = []
    full_pass(shape, members, sink=lambda some: seen.append((some.at, some.end, some.full)))
    for low, high, full in seen:
        assert not full or all(content[at : at + 4096].any() for at in range(low, high, 4096))
    assert not seen[0][2] and shape.volume_bytes == seen[-1][1]


@pytest.mark.parametrize("level", SHAPES)
@given(st.data())
def test_what_a_stale_member_would_spoil_is_what_is_read_wrong_with_it(level, data):
    shape, members, content = written(level)
    stale = data.draw(st.integers(0, shape.members - 1))
    size = STRIP * ROWS // SECTOR
    ranges = data.draw(st.lists(st.tuples(st.integers(0, size - 1), st.integers(1, 40)), min_size=1, max_size=3))
    hurt = union((a * SECTOR, min(size, a + n) * SECTOR) for a, n in ranges)
    faults = [blame.Fault(stale, a, b, Why.OUT_OF_DATE) for a, b in hurt]
    gone = data.draw(st.sets(st.integers(0, shape.members - 1), max_size=2)) - {stale}
    assume(margin(shape.pattern, gone) >= 0)
    for fault in faults:
        held = np.frombuffer(read(members[stale], fault.start, fault.end - fault.start), np.uint8)
        members[stale].write(fault.start, (~held).tobytes())
    used = frozenset(range(shape.members)) - gone
    said = {at for a, b in harmed(shape, faults, used, shape.volume_bytes) for at in range(a, b, SECTOR)}
    array = Array(shape, [m if i in used else None for i, m in enumerate(members)])
    got = np.frombuffer(read(array, 0, array.size), np.uint8).reshape(-1, SECTOR)
    wrong = set((np.flatnonzero((got != content.reshape(-1, SECTOR)).any(axis=1)) * SECTOR).tolist())
    assert wrong <= said
    if level in ("RAID0", "RAID4", "RAID5", "RAID50"):  # one way only to read each byte
        assert said <= wrong
    assert not harmed(shape, faults, used - {stale}, shape.volume_bytes)


@pytest.mark.parametrize("level", SHAPES)
def test_what_is_undamaged_is_sound_and_handed_on_in_order(level):
    shape, members, content = written(level)
    got = np.zeros(shape.volume_bytes, np.uint8)

    def sink(some):
        whole = np.concatenate([piece.copy() for piece in some.pieces])
        got[some.at : some.at + whole.size] = whole

    found = full_pass(shape, members, sink=sink)
    state = State.SOUND if level != "RAID0" else State.UNPROTECTED
    assert found.rows[state] == ROWS == sum(found.rows.values())
    assert not found.faults and not found.open and (got == content).all()
    assert RowMap.from_document(found.as_document()) == RowMap(found.rows, found.faults, found.open, found.stretches)


damage = st.lists(
    st.tuples(st.integers(0, 50), st.integers(0, STRIP * ROWS // SECTOR - 1), st.integers(1, 40), st.integers(0, 2)),
    min_size=1, max_size=4,
)  # fmt: skip


def hurt(members, where, one=None):
    """Overwrite sectors of members (all on one of them, where that is given) with zeros, noise, or older tides."""
    rng = np.random.default_rng(7)
    there = [i for i, m in enumerate(members) if m is not None]
    for who, first, count, kind in where:
        member = members[there[(one if one is not None else who) % len(there)]]
        at, size = first * SECTOR, min(count * SECTOR, member.size - first * SECTOR)
        old = prose(99, member.size)[at : at + size]
        member.write(at, bytes(size) if kind == 0 else rng.bytes(size) if kind == 1 else old)


@given(st.sampled_from(PROVING), st.integers(0, 50), damage)
def test_two_equations_give_back_whatever_one_member_lost(level, who, where):
    shape, members, content = written(level)
    hurt(members, where, who)
    found = full_pass(shape, members)
    assert not found.open and all(f.proven and f.member == who % len(members) for f in found.faults)
    assert (content_of(opened(shape, members, found)) == content).all()


@given(st.sampled_from(sorted(SHAPES)), damage, st.booleans())
def test_what_is_called_sound_is_right_and_what_is_not_is_named(level, where, degraded):
    """The law of the pass: but for what is open, unprotected, or computed without a proof, every byte is as it was."""
    gone = (0,) if degraded and level not in ("RAID0", "RAID1") else ()
    shape, members, content = written(level, gone=gone)
    hurt(members, where)
    found = full_pass(shape, members)
    got = content_of(opened(shape, members, found)) if level != "RAID0" or not gone else content
    wrong = union((int(i), int(i) + 1) for i in np.flatnonzero(got != content))
    unproven = [f for f in found.faults if not f.proven]
    unprotected = [(a, b) for a, b, state in found.stretches if state is State.UNPROTECTED]
    excused = union([*found.open, *shape.row_ranges(unprotected)])
    for fault in unproven:
        row = (fault.start // STRIP, -(-fault.end // STRIP))
        excused = union([*excused, *shape.row_ranges([row])])
    assert all(any(a <= x and y <= b for a, b in excused) for x, y in wrong)


def test_zeros_of_a_rescue_copy_are_laid_at_the_member_that_has_them():
    shape, members, content = written("RAID5")
    holes = [(2 * STRIP, 3 * STRIP + 1024), (9 * STRIP + 512, 10 * STRIP), (15 * STRIP, 17 * STRIP)]
    for a, b in holes:
        members[3].write(a, bytes(b - a))
    found = full_pass(shape, members)
    assert found.blamed() == {3: {Why.BLANK: sum(b - a for a, b in holes)}} and not found.open
    assert (content_of(opened(shape, members, found)) == content).all()
    made, _read = soundness.tested(Lineup(shape, tuple("abcde"), placed("certain"), 9.0, 0.0), members)
    assert (made.verdicts.currency.sure, made.verdicts.soundness.sure) == (Sure.PROBABLE, Sure.PROBABLE)
    assert made.verdicts.soundness.images == ("d",) and made.verdicts.soundness.reason is Reason.COMPUTED


def test_who_is_at_fault_is_decided_by_region(monkeypatch):
    """One member is blank in one region, another one in another: nobody is blamed for all of it."""
    shape, members, content = written("RAID5")
    monkeypatch.setattr(fault_pieces, "REGION_GAP", 2 * STRIP)  # as these members are small
    members[1].write(2 * STRIP + 512, bytes(2 * STRIP))
    members[4].write((ROWS - 3) * STRIP + 1024, bytes(STRIP))
    found = full_pass(shape, members)
    assert set(found.blamed()) == {1, 4}
    assert all(f.start < 5 * STRIP for f in found.faults if f.member == 1)
    assert all(f.start >= (ROWS - 3) * STRIP for f in found.faults if f.member == 4)
    got = content_of(opened(shape, members, found))
    wrong = np.flatnonzero(got != content)
    assert all(any(a <= i < b for a, b in found.open) for i in wrong)


def test_rows_that_add_up_without_a_member_are_of_another_layout():
    """A growth from four to five that stopped: behind a row the fifth is empty, and takes no part."""
    shape, members, _content = written("RAID5")
    less = geometry("RAID5", 4, STRIP, member_bytes=STRIP * ROWS, rotation="parity-N", data="continuation")
    old = [MemorySource(STRIP * ROWS) for _ in range(4)]
    Array(less, old).write(0, prose(5, less.volume_bytes))
    border = (ROWS - 8) * STRIP
    for new, before in zip(members, [*old, MemorySource(STRIP * ROWS)], strict=True):
        new.write(border, read(before, border, 8 * STRIP))
    found = full_pass(shape, members)
    assert found.rows[State.OPEN] >= 5 and found.open
    made, _read = soundness.tested(Lineup(shape, tuple("abcde"), placed("certain"), 9.0, 0.0), members)
    assert made.verdicts.soundness.sure is Sure.UNDECIDED


class Failing(MemorySource):
    """Some sectors cannot be read."""

    bad = ((5 * STRIP, 5 * STRIP + 1024),)

    def read_into(self, offset, buffer):
        if clip(self.bad, offset, offset + memoryview(buffer).nbytes):
            raise Unreadable(source=self, offset=offset, length=512)
        super().read_into(offset, buffer)


@pytest.mark.parametrize(("level", "proven"), [("RAID5", False), ("RAID6", True)])
def test_sectors_that_cannot_be_read_and_an_image_that_ends_early(level, proven):
    shape, members, content = written(level)
    failing = Failing(members[1].size, "failing")
    failing.write(0, read(members[1], 0, members[1].size))
    short = MemorySource(STRIP * (ROWS - 4), "short")
    short.write(0, read(members[2], 0, short.size))
    members[1], members[2] = failing, short
    found = full_pass(shape, members)
    assert found.blamed() == {1: {Why.UNREADABLE: 1024}, 2: {Why.ABSENT: 4 * STRIP}}
    assert all(f.proven is proven for f in found.faults)
    assert (content_of(opened(shape, members, found)) == content).all()


def test_what_cannot_be_computed_either_is_named_byte_by_byte():
    shape, members, content = written("RAID5", gone=(0,))
    failing = Failing(members[1].size, "failing")
    failing.write(0, read(members[1], 0, members[1].size))
    members[1] = failing
    found = full_pass(shape, members)
    lineup = Lineup(shape, tuple("abcdef"), placed("certain"), 9.0, 0.0)
    bad = union(r for p in patches(lineup, members, found, (0, shape.volume_bytes)) for r in p.unreadable)
    got = np.zeros(shape.volume_bytes, np.uint8)
    volume = opened(shape, members, found)
    for at in range(0, shape.volume_bytes, SECTOR):
        if not clip(bad, at, at + SECTOR):
            got[at : at + SECTOR] = np.frombuffer(read(volume, at, SECTOR), np.uint8)
    assert 1024 <= sum(b - a for a, b in bad) <= 2048
    kept = np.ones(shape.volume_bytes, bool)
    for a, b in bad:
        kept[a:b] = False
    assert (got[kept] == content[kept]).all()


@pytest.mark.parametrize(
    ("level", "count"), [(x, c) for x in sorted(SHAPES) if x != "RAID0" for c in (1, 2, 3) if c <= SHAPES[x][0]]
)
def test_what_several_members_cannot_give_is_open_though_zeros_would_match(level, count):
    shape, members, _content = written(level)
    for member in members:
        member.write(5 * STRIP, bytes(STRIP))  # nothing is there, as far as anybody can see
    for number in range(count):
        failing = Failing(members[number].size, f"failing{number}")
        failing.write(0, read(members[number], 0, failing.size))
        members[number] = failing
    found, volume = full_pass(shape, members), Array(shape, members)
    lost = list[tuple[int, int]]()
    for at in range(0, shape.volume_bytes, SECTOR):
        try:
            read(volume, at, SECTOR)
        except StripeError:
            lost.append((at, at + SECTOR))
    assert lost or count < 3
    assert not [sector for sector in lost if not clip(found.open, *sector)]
    assert bool(found.rows[State.OPEN]) is bool(lost)


def test_a_served_volume_mends_and_says_what_may_be_wrong():
    shape, members, content = written("RAID6")
    members[2].write(4 * STRIP, bytes(STRIP))
    rng = np.random.default_rng(1)
    for who in (0, 1, 3):  # more than two equations can tell
        members[who].write(20 * STRIP, rng.bytes(1024))
    told = []
    lineup = Lineup(shape, tuple("abcdef"), placed("certain"), 9.0, 0.0)
    volume = CheckedVolume(lineup, members, told.extend, "volume")
    got = content_of(volume)
    assert told and all(any(a <= i < b for a, b in told) for i in np.flatnonzero(got != content))
    assert (got[: 18 * 4 * STRIP] == content[: 18 * 4 * STRIP]).all()
    before = len(told)
    assert read(volume, 700, 5000) == content[700:5700].tobytes() and len(told) == before


def test_soundness_is_never_certain_where_the_front_is_empty_or_the_order_is_open():
    shape, members, _content = written("RAID6")
    sure = Lineup(shape, tuple("abcdef"), placed("certain"), 9.0, 0.0)
    assert soundness.tested(sure, members)[0].verdicts.certain
    doubtful = Lineup(shape, tuple("abcdef"), placed("probable"), 9.0, 0.0)
    assert soundness.tested(doubtful, members)[0].verdicts.soundness.sure is Sure.PROBABLE
    for member in members:  # whoever wiped them: zeros add up
        member.write(0, bytes(2 * STRIP))
    wiped = soundness.tested(sure, members)[0].verdicts
    assert wiped.soundness.reason is Reason.EMPTY_FRONT and not wiped.certain


def test_nothing_is_tested_where_no_redundancy_is_left():
    for level, gone in (("RAID0", ()), ("RAID5", (1,))):
        shape, members, _content = written(level, gone=gone)
        names = tuple(None if i in gone else str(i) for i in range(shape.members))
        made = soundness.tested(Lineup(shape, names, placed("certain"), 9.0, 0.0), members)[0].verdicts
        assert made.currency.sure is Sure.UNTESTABLE is made.soundness.sure and made.whole == "probable"
    assert Verdicts.from_document(made.as_document()) == made and set(made.as_document()) == set(NAMES)


def test_a_rule_of_q_that_is_not_known_makes_nobody_out_of_date():
    shape, members, _content = written("RAID6")
    rule = geometry("RAID6", 6, STRIP, member_bytes=STRIP * ROWS, rotation="parity-N", data="restart")
    doubted = Verdict(Sure.PROBABLE, Reason.Q_RULE)
    found = Lineup(rule, tuple("abcdef"), Verdicts(doubted, placed("certain").start), 9.0, 0.0)
    made, _read = soundness.tested(found, members)
    assert made.verdicts.currency == Verdict(Sure.UNDECIDED, Reason.Q_RULE)
    assert not made.verdicts.certain and shape != rule


def test_rows_that_were_written_as_a_smaller_array_stay_open():
    """Four of five add up by themselves over a part: somebody made an array of them there. Computed for the fifth, all
    would be zeros, as much of the volume is; it is not at fault."""
    count, more = SHAPES["RAID5"]
    shape = geometry("RAID5", count, STRIP, member_bytes=STRIP * ROWS, **more)
    members = [MemorySource(STRIP * ROWS, f"m{i}") for i in range(count)]
    content = prose(5, shape.volume_bytes).reshape(-1, 4096)
    content[np.random.default_rng(5).random(len(content)) < 0.5] = 0
    Array(shape, members).write(0, content.reshape(-1))
    noise = np.random.default_rng(6)
    for row in range(4, 12):
        parts = [noise.integers(0, 256, STRIP, np.uint8) for _ in range(3)]
        for member, part in zip(members, [*parts, parts[0] ^ parts[1] ^ parts[2]], strict=False):
            member.write(row * STRIP, part.tobytes())
        members[4].write(row * STRIP, prose(row, STRIP).tobytes())
    found = full_pass(shape, members)
    assert found.rows[State.OPEN] == 8 and not found.faults
    assert found.smaller == ((4, 12, 4),) and RowMap.from_document(found.as_document()).smaller == found.smaller
