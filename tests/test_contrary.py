"""What a structure says against a seat: where it would stand among the data, and does not belong."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.layout import Layout, layout
from faithful_stripe.core.lineup.hypotheses.assignment import Ballot, hypotheses
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate
from faithful_stripe.core.lineup.hypotheses.placement import CELL_BYTES, CONTRARY_NATS, Facts, locate

STRIP = 64 << 10
LAYOUTS = (
    layout("RAID0", 4), layout("RAID5", 4, "parity-0", "restart"), layout("RAID5", 4, "parity-N", "continuation"),
    layout("RAID6", 5, "parity-N", "restart", q_place="after-p", q_exponent="data-index"),
    layout("RAID4", 4, "fixed-N"),
    layout("RAID50", 6, "parity-N", "restart", spans=2), layout("RAID1E", 5, data="adjacent"),
)  # fmt: skip


def stated(
    chosen: Layout, addresses: list[int], start: int, base: int, quiet: tuple[tuple[int, int], ...] = ()
) -> Facts:
    """A structure at each address of the ground, each on the column of its position in an array of this layout."""
    address = np.array(addresses, np.int64)
    who, offset = locate(chosen, STRIP, address + base)
    one = np.ones(len(address), np.int64)
    return Facts(who, offset + start, address, one, np.array(quiet, np.int64).reshape(-1, 2))


cells = st.lists(st.integers(0, 400), min_size=1, max_size=40, unique=True)


@given(st.sampled_from(LAYOUTS), cells, st.integers(0, 9), st.integers(0, 9))
def test_nothing_speaks_against_the_seats_that_structures_were_written_by(chosen, numbers, rows, strips):
    start, base = rows * STRIP, strips * STRIP
    facts = stated(chosen, [n * CELL_BYTES for n in numbers], start, base)
    told = facts.contrary(chosen.members, chosen, STRIP, start, base)
    assert not np.diagonal(told).any()


@given(st.sampled_from(LAYOUTS), cells, st.integers(1, 9))
def test_elsewhere_each_speaks_against_the_seat_unless_that_holds_parity(chosen, numbers, rows):
    start = rows * STRIP
    facts = stated(chosen, [n * CELL_BYTES for n in numbers], start, 0)
    told = facts.contrary(chosen.members, chosen, STRIP, start, 0)
    index = chosen.pattern().index
    for column in range(chosen.members):
        for position in range(chosen.members):
            phase = (facts.offset[facts.who == column] - start) // STRIP % len(index)
            data = index[phase, position] >= 0
            same = index[phase, position] == index[phase, column]  # itself, or the other copy of it
            assert told[column, position] == CONTRARY_NATS * (data & ~same).sum()


def test_in_a_journal_and_before_the_start_it_says_nothing():
    chosen = LAYOUTS[0]
    facts = stated(chosen, [0, STRIP, 2 * STRIP], 0, 0)
    assert facts.contrary(4, chosen, STRIP, 0, 0).sum() == 9 * CONTRARY_NATS
    assert not stated(chosen, [0, STRIP, 2 * STRIP], 0, 0, ((0, 4 * STRIP),)).contrary(4, chosen, STRIP, 0, 0).any()
    assert not facts.contrary(4, chosen, STRIP, STRIP, 0).any()


def test_one_that_may_belong_at_several_addresses_is_right_at_any_of_them():
    who, offset = np.array([1, 1], np.int64), np.zeros(2, np.int64)
    both = Facts(who, offset, np.array([9 * STRIP, STRIP]), offset + 1, np.empty((0, 2), np.int64))
    told = both.contrary(4, LAYOUTS[0], STRIP, 0, 0)
    assert told[1].tolist() == [CONTRARY_NATS, 0.0, CONTRARY_NATS, CONTRARY_NATS]


def test_what_stands_everywhere_right_wins_over_what_has_more_that_is_right_and_much_that_is_wrong():
    """The sum of an odd number of inode records looks like one: parity states addresses, too, and by chance those suit
    another rotation better."""
    truth, other = LAYOUTS[1], LAYOUTS[2]
    right = stated(truth, [n * STRIP for n in range(18)], 0, 0)
    parity = truth.pattern().index < 0
    sums = stated(other, [n * STRIP for n in range(400)], 0, 0)
    mimics = np.flatnonzero(parity[sums.offset // STRIP % len(parity), sums.who])[:24]
    none, no_weight, quiet = np.empty(0, np.int64), np.empty(0, np.float64), np.empty((0, 2), np.int64)
    parts = [
        np.concatenate([getattr(right, name), getattr(sums, name)[mimics]])
        for name in ("who", "offset", "address", "count")
    ]
    ballot = Ballot(4, *parts, none, none, none, no_weight, none, none, none, quiet)
    candidate = Candidate("RAID5", (truth, other), ((0,), (1,), (2,), (3,)))
    best = hypotheses(candidate, ballot, [0], [0], [STRIP])[0]
    assert best.layout == truth and best.order == (0, 1, 2, 3)
