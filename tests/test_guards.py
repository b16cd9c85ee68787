"""Guards of the solver that no whole pile is sure to need: each by itself, at its figure."""

from dataclasses import replace

import numpy as np
import pytest

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.four_verdicts import Reason, Sure, Verdict, placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup
from faithful_stripe.core.lineup.evidence.membership import Membership
from faithful_stripe.core.lineup.full_pass.soundness import tested as read_whole
from faithful_stripe.core.lineup.hypotheses import stale_member as outdated
from faithful_stripe.core.lineup.hypotheses import votes as ballots
from faithful_stripe.core.lineup.hypotheses.assignment import Hypothesis
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate, layouts_of
from faithful_stripe.core.lineup.hypotheses.search import Entry, Reader, Shared
from faithful_stripe.core.lineup.solving import start_search
from faithful_stripe.core.lineup.solving.start_search import likely_entries
from faithful_stripe.core.lineup.structures.ground import Ground, read_stock
from faithful_stripe.core.lineup.verdict import missing_slot as gaps
from faithful_stripe.core.lineup.verdict.certainty import standing_of
from faithful_stripe.core.lineup.verdict.finishing import _verdicts, left_out
from faithful_stripe.core.lineup.verdict.missing_slot import Judged, better_in_gaps, exchanges, moved_to_gaps
from faithful_stripe.core.lineup.verdict.volume_reading import read_volume
from faithful_stripe.core.lineup.verdict.volume_start import Begin
from faithful_stripe.core.source import MemorySource
from faithful_stripe.work.lineup import solve_images

from .slicer import Spec
from .slicer import cut as cut_members
from .test_refining import STRIP, laid_out  # noqa: F401


@pytest.fixture
def with_gap(laid_out):  # noqa: F811
    """The truth without one member, and what is read in its volume."""
    table, truth, placed = laid_out
    h = replace(truth, order=(*truth.order[:4], None, truth.order[5]))
    return table, Judged(h, read_volume(h, table.pile, placed, [], []), 100.0), placed


def held(count):
    """So many structures, as (image, offset)."""
    return {(0, STRIP * n) for n in range(count)}


@pytest.mark.parametrize(("gain", "moves"), [(10.0, True), (2.0, False), (-5.0, False)])
def test_beside_a_gap_what_borders_say_decides_where_the_volume_holds_as_much(with_gap, monkeypatch, gain, moves):
    table, best, placed = with_gap
    other = exchanges(best.h)[2]
    monkeypatch.setattr(gaps, "_reproduced", lambda *_args: held(50))
    monkeypatch.setattr(gaps, "_borders", lambda _table, h: gain if h.order == other.order else 0.0)
    monkeypatch.setattr(gaps, "read_volume", lambda *_args: best.findings)
    found = better_in_gaps(table, best, placed, [])
    assert (found[0].h.order == other.order) is moves
    assert found[0].total == best.total + (gain if moves else 0.0)


def test_an_exchange_that_holds_less_is_no_better_however_its_borders_look(with_gap, monkeypatch):
    table, best, placed = with_gap
    monkeypatch.setattr(gaps, "_reproduced", lambda _table, h, _placed: held(50 if h.order == best.h.order else 49))
    monkeypatch.setattr(gaps, "_borders", lambda _table, h: 0.0 if h.order == best.h.order else 90.0)
    assert better_in_gaps(table, best, placed, []) == [best]


@pytest.mark.parametrize(("places", "blamed"), [(4, None), (9, None), (16, 2)])
def test_a_member_is_called_out_of_date_only_by_a_lead_that_is_large_enough(laid_out, monkeypatch, places, blamed):  # noqa: F811
    """Each place speaks for member 2 by three nats: twelve places are needed."""
    table, truth, _placed = laid_out
    pile = table.pile
    offsets = tuple(range(0, places * STRIP * 4, STRIP * 4))

    def said(_likely, held, _differs, _parity, _rare):
        told = np.full(len(held), -3.0)
        told[2] = 0.0
        return told

    monkeypatch.setattr(outdated, "accounts", said)
    monkeypatch.setattr(pile, "stretch", lambda image, _at, length: np.full(length, image, np.uint8))
    group = Membership(tuple(range(6)), "sum", 100, 120, open=offsets)
    stock = read_stock(pile, 12 << 20)
    assert outdated._by_likelihood(pile, stock, truth, group) == blamed


@pytest.mark.parametrize(("places", "nats"), [(0, 0.0), (3, 6.0), (8, 16.0), (50, 16.0)])
def test_data_before_the_start_speak_against_it(laid_out, monkeypatch, places, nats):  # noqa: F811
    table, truth, placed = laid_out
    grounds = [anchors for anchors, _base in placed]
    scores = []
    for count in (0, places):
        monkeypatch.setattr(ballots, "before", lambda _table, _h, found=count: found)
        scores.append(ballots.with_prior(table, truth, grounds, (), (0,)).score)
    assert scores[0] - scores[1] == pytest.approx(nats)


def test_an_image_that_was_left_out_although_it_adds_up_is_named(laid_out, monkeypatch):  # noqa: F811
    table, truth, _placed = laid_out
    candidate = replace(truth.candidate, columns=tuple((i,) for i in range(5)))
    h = replace(truth, candidate=candidate, order=(0, 1, 2, 3, 4, None))
    assert left_out(table, h) == 5
    assert left_out(table, truth) is None
    monkeypatch.setattr(table, "outdated", {5: 0})
    assert left_out(table, h) is None


@pytest.mark.parametrize(("beyond", "sure"), [(0, Sure.CERTAIN), (64 << 10, Sure.CERTAIN), (12 << 20, Sure.PROBABLE)])
def test_much_data_behind_the_arrays_end_is_no_proof_that_it_ends_there(beyond, sure):
    shape = geometry("RAID1", 2, STRIP, member_bytes=16 << 20)
    data = np.random.default_rng(1).bytes(16 << 20)
    members = [MemorySource(32 << 20, name) for name in "ab"]
    for member in members:
        member.write(0, data)
        member.write(16 << 20, data[:beyond])
    made, _read = read_whole(Lineup(shape, ("a", "b"), placed("certain"), 9.0, 0.0), members)
    assert made.verdicts.soundness.sure is sure
    assert (made.verdicts.soundness.reason is Reason.BEYOND) is (sure is Sure.PROBABLE)


def test_numbers_that_no_disk_can_hold_stand_nowhere():
    """A damaged record may tell any number: what it tells is then no place, and no trouble."""
    ground = Ground(b"k", "NTFS", size=1 << 30)
    ground.add_ends(0, [4096, 1 << 80, -(1 << 70)])
    ground.add("file record", 0, [512, 1024], [1 << 77, 2048])
    (ends,) = ground.ends
    assert ends.address.tolist() == [4096] and ground.arrays()[2].tolist() == [-1, 2048]


def test_another_level_over_the_same_columns_is_looked_at_again_with_a_new_base():
    """RAID 5 behind a wiped table, cut short on one member: until the file system's place in the volume was known, a
    RAID 4 led, and was then called certain (seed 401, case 48 of the widened draw)."""
    columns = ((0,), (1,), (2,), (3,))
    made = [Candidate(level, layouts_of(level, 4), columns) for level in ("RAID5", "RAID4")]
    apart = Candidate("RAID0", layouts_of("RAID0", 2), ((4,), (5,)))
    entries = [Entry(Reader(None, None, (), candidate, Shared()), None) for candidate in (*made, apart)]
    led = Hypothesis(made[1], made[1].layouts[0], 65536, 0, 0, (0, 1, 2, 3), 500.0)
    behind = Hypothesis(apart, apart.layouts[0], 65536, 0, 0, (0, 1), 100.0)
    assert [e.reader.candidate for e in likely_entries(entries, [led, behind])] == made


def by_image(anchors):
    """The facts kept out by which image they stand on, as they once were."""
    out = (anchors.offset // (64 << 10) * 7 + anchors.image * 13) % 4 == 0
    return ballots.chosen(anchors, ~out), ballots.chosen(anchors, out)


@pytest.mark.parametrize("order", [(1, 3, 0, 2), (0, 1, 2, 3), (3, 2, 1, 0)])
@pytest.mark.parametrize("unlucky", [False, True])
def test_the_answer_does_not_depend_on_which_image_comes_first(tmp_path, volumes, monkeypatch, order, unlucky):
    """Seven rows of data: with the facts for the proof chosen by the images' place in the pile, an order in which they
    do not stand was certain in all four verdicts. With such an unlucky choice nothing is certain; without it, the
    right order."""
    images = [tmp_path / f"drive-{n}.img" for n in range(4)]
    cut_members(volumes / "xfs.img", Spec("RAID5", 4, 65536, "parity-N", "continuation"), images)
    if unlucky:
        for module in (ballots, start_search):
            monkeypatch.setattr(module, "split", by_image)
    found = solve_images([images[n] for n in order]).arrays[0]
    right = found.members == tuple(map(str, images)) and found.geometry.layout.rotation == "parity-N"
    assert right or (unlucky and found.verdicts.order.sure is not Sure.CERTAIN)
    assert unlucky or found.verdicts.certain


@pytest.mark.parametrize(("ahead", "sure"), [(0.0, Sure.CERTAIN), (4.0, Sure.CERTAIN), (20.0, Sure.PROBABLE)])
def test_what_was_voted_for_another_order_must_be_outweighed_as_well(laid_out, ahead, sure):  # noqa: F811
    """A lead of 30 nats, of which what was read in the volumes makes up for what structures said of another order."""
    table, truth, placed = laid_out
    findings = read_volume(truth, table.pile, placed, [], [])
    best = Judged(replace(truth, score=200.0), findings, 230.0)
    other = Judged(replace(truth, order=truth.order[::-1], score=200.0 + ahead), replace(findings), 200.0)
    begin = Begin(truth, 0, Verdict(Sure.CERTAIN, Reason.HEAD), True)
    made = _verdicts(table, [best, other], placed, 30.0, [], begin, standing_of(best.h, placed))
    assert made.order.sure is sure and (sure is Sure.CERTAIN or made.order.reason is Reason.RIVAL)


@pytest.mark.parametrize(("share", "sure"), [(0.33, Sure.CERTAIN), (0.45, Sure.PROBABLE)])
def test_an_order_is_not_certain_where_most_rows_are_a_mixture(laid_out, share, sure):  # noqa: F811
    table, truth, placed = laid_out
    best = Judged(replace(truth, score=200.0), read_volume(truth, table.pile, placed, [], []), 230.0)
    begin = Begin(truth, 0, Verdict(Sure.CERTAIN, Reason.HEAD), True)
    made = _verdicts(table, [best], placed, 230.0, [], begin, standing_of(best.h, placed), share)
    assert made.order.sure is sure and (sure is Sure.CERTAIN or made.order.reason is Reason.OPEN_ROWS)


@pytest.mark.parametrize(("lost", "rivals"), [(5, False), (1, True)])
def test_what_an_exchange_with_a_gap_leaves_nowhere_speaks_against_it(with_gap, monkeypatch, lost, rivals):
    table, best, placed = with_gap
    monkeypatch.setattr(gaps, "_reproduced", lambda _t, h, _p: held(50 if h.order == best.h.order else 50 - lost))
    monkeypatch.setattr(gaps, "read_volume", lambda *_args: best.findings)
    monkeypatch.setattr(gaps, "role_votes", lambda *_args: np.zeros((8, 8)))
    assert bool(moved_to_gaps(table, best, placed, [])) is rivals


def test_what_q_counts_a_member_by_speaks_against_an_exchange_with_a_gap(with_gap, monkeypatch):
    table, best, placed = with_gap
    votes = np.zeros((8, 8))
    for position, column in enumerate(best.h.order):
        if column is not None:
            votes[column, position] = 20.0
    monkeypatch.setattr(gaps, "_reproduced", lambda *_args: held(50))
    monkeypatch.setattr(gaps, "read_volume", lambda *_args: best.findings)
    monkeypatch.setattr(gaps, "role_votes", lambda *_args: votes)
    assert not moved_to_gaps(table, best, placed, [])


@pytest.mark.parametrize("sure", ["certain", "probable"])
def test_who_is_up_to_date_is_no_surer_than_the_order_that_the_rows_were_read_in(sure):
    """An array made anew in another order writes parity that holds in that, over what was out of date."""
    shape = geometry("RAID1", 2, STRIP, member_bytes=1 << 20)
    members = [MemorySource(1 << 20, name) for name in "ab"]
    for member in members:
        member.write(0, np.random.default_rng(1).bytes(1 << 20))
    told = replace(placed("certain"), order=Verdict(Sure(sure), Reason.PROVEN))
    made, _read = read_whole(Lineup(shape, ("a", "b"), told, 9.0, 0.0), members)
    assert str(made.verdicts.currency.sure) == sure
    assert (made.verdicts.currency.reason is Reason.PLACING) is (sure == "probable")
