"""What an order and a start need to be certain: each doubt by itself keeps them from it."""

import random
import tomllib
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document import calibration
from faithful_stripe.core.lineup.document.four_verdicts import Reason, Sure, Verdict, Verdicts, placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup
from faithful_stripe.core.lineup.document.told_facts import Evidence, Settle, Settles, What
from faithful_stripe.core.lineup.evidence.row_tests import CopyTest
from faithful_stripe.core.lineup.hypotheses.standing_facts import fits
from faithful_stripe.core.lineup.hypotheses.votes import chosen
from faithful_stripe.core.lineup.reading.samples import Effort, Pile
from faithful_stripe.core.lineup.solving import rare
from faithful_stripe.core.lineup.solving.sureness import as_measured, refuted, surer
from faithful_stripe.core.lineup.structures.anchors import Anchors
from faithful_stripe.core.lineup.structures.volume_walk import Proof
from faithful_stripe.core.lineup.verdict import beside_answers, finishing, weighing
from faithful_stripe.core.lineup.verdict.certainty import LEAST_STATED, standing_of
from faithful_stripe.core.lineup.verdict.missing_slot import Judged
from faithful_stripe.core.lineup.verdict.volume_reading import read_volume
from faithful_stripe.core.lineup.verdict.volume_start import Begin

from .test_refining import laid_out  # noqa: F401


@pytest.fixture
def judged(laid_out):  # noqa: F811
    """Verdicts of the truth, with something changed: the lead over the next answer, what was found, the start."""
    table, truth, grounds = laid_out
    found = read_volume(truth, table.pile, grounds, [], [])
    pinned = Begin(truth, 0, Verdict(Sure.CERTAIN, Reason.HEAD), True)

    def verdicts(lead=40.0, total=400.0, h=truth, findings=found, other=None, begin=pinned, unsure=(), facts=grounds):
        best = Judged(h, findings, total)
        rival = Judged(replace(truth, order=truth.order[::-1]), other or replace(found), total - lead)
        begin, standing = replace(begin, h=h), standing_of(h, facts)
        return finishing._verdicts(table, [best, rival], grounds, lead, unsure, begin, standing)

    verdicts.found, verdicts.truth, verdicts.begin = found, truth, pinned
    return verdicts


@pytest.mark.parametrize(
    ("lead", "sure"),
    [(12.5, Sure.CERTAIN), (11.5, Sure.PROBABLE), (5.0, Sure.PROBABLE), (3.5, Sure.UNDECIDED), (-1.0, Sure.UNDECIDED)],
)
def test_a_certain_order_needs_its_lead(judged, lead, sure):
    made = judged(lead=lead)
    assert made.order.sure is sure
    assert made.order.reason is (Reason.PROVEN if sure is Sure.CERTAIN else Reason.RIVAL)
    assert made.start.sure is sure  # the start of a volume with these members is no surer than they are


def test_a_certain_order_needs_evidence_in_all(judged):
    assert judged(total=24.0, lead=20.0).order.reason is Reason.FEW
    assert judged(total=26.0, lead=20.0).order.sure is Sure.CERTAIN


@pytest.fixture
def standing(laid_out):  # noqa: F811
    """The structures of its file system that stand where they say."""
    _table, truth, ((anchors, base), *_more) = laid_out
    return chosen(anchors, fits(truth, anchors.image, anchors.offset, anchors.address + base))


def test_where_nothing_was_kept_out_many_structures_that_all_stand_are_a_proof(judged, standing):
    bare = replace(judged.found, proof=Proof(), held=0, tested=0, files=0, wrapped=0, linked=0, copies=CopyTest(50))
    assert not bare.holds

    def reason(lead=61.0, facts=standing, **against):
        return judged(findings=replace(bare, **against), lead=lead, facts=[(facts, 0)]).order.reason

    assert reason() is Reason.PROVEN and reason(lead=59.0) is Reason.FEW
    for against, value in (("tested", 1), ("copies", CopyTest(50, broken=1)), ("unlinked", 1)):
        assert reason(**{against: value}) is Reason.FEW, against
    few = chosen(standing, np.arange(LEAST_STATED - 1))
    assert reason(facts=few) is Reason.FEW


@pytest.mark.parametrize(
    ("count", "elsewhere", "proof"), [(24, 0, True), (24, 1, False), (120, 2, True), (120, 3, False)]
)
def test_of_structures_that_are_a_proof_hardly_one_stands_elsewhere(laid_out, standing, count, elsewhere, proof):  # noqa: F811
    _table, truth, _grounds = laid_out
    some = chosen(standing, np.arange(len(standing)) < count)
    moved = some.address.copy()
    moved[:elsewhere] += 1 << 20
    told = standing_of(truth, [(Anchors(some.ground, some.image, some.offset, moved, some.count), 0)])
    assert (told.right, told.elsewhere) == (count - elsewhere, elsewhere)
    assert told.nearly_all == proof * (count - elsewhere)


@pytest.mark.parametrize(("lead", "sure"), [(3.9, Sure.UNDECIDED), (11.9, Sure.PROBABLE), (12.1, Sure.CERTAIN)])
def test_an_answer_that_was_found_elsewhere_is_a_rival(lead, sure):
    best, second = (
        Lineup(None, (), placed("certain"), 100.0, 10.0),
        Lineup(None, (), placed("probable"), 100 - lead, 0.0),
    )
    made = beside_answers.beside_another(best, second)
    assert made.verdicts.order.sure is sure and made.verdicts.start.sure is sure and made.next == 100 - lead
    assert (made.settle == Settles(Settle.RIVAL)) is (sure is not Sure.CERTAIN)


@pytest.mark.parametrize(
    ("lead", "usual", "rare_one", "sure"),
    [
        (6.0, 0.0, 0.0, Sure.PROBABLE),  # both leave no row open: "parity moves every 64 rows" was certain, and RAID 4
        (20.0, 0.0, 0.0, Sure.CERTAIN),
        (-50.0, 0.8, 0.1, Sure.CERTAIN),  # rows tell the two apart
        (6.0, 0.3, 0.2, Sure.PROBABLE),  # hardly
    ],
)
def test_a_rare_layout_is_no_surer_than_its_lead_over_the_usual_one(monkeypatch, lead, usual, rare_one, sure):
    other, made = (Lineup(None, (), placed("certain"), best, 10.0) for best in (100.0, 100.0 - lead))
    monkeypatch.setattr(rare, "_broken", lambda _table, array: rare_one if array is other else usual)
    assert rare.beside_usual(None, other, made).verdicts.order.sure is sure


@pytest.mark.parametrize(("patience", "read", "reason"), [(100.0, 3, Reason.RIVAL), (-1.0, 1, Reason.UNTRIED)])
def test_every_place_not_far_behind_is_read_before_an_order_is_certain(monkeypatch, laid_out, patience, read, reason):  # noqa: F811
    """Places of the data and the file system, the third of which reads nearly as well as the first; none where a
    certain one has a rival that was not read."""
    _table, truth, _grounds = laid_out
    totals = {0: 100.0, 4096: 30.0, 8192: 95.0}
    found = [replace(truth, base=base, score=90.0 - n) for n, base in enumerate(totals)]
    asked = []

    def at_one_place(_table, some, *_rest):
        asked.append(some[0].base)
        return Lineup(None, (), placed("certain"), totals[some[0].base], 0.0)

    monkeypatch.setattr(weighing, "_at_one_place", at_one_place)
    monkeypatch.setattr(weighing, "alike", lambda _one, _other: False)
    table = SimpleNamespace(pile=Pile([], [], effort=Effort(patience)))
    made = weighing.conclude(table, found, [], [], [])
    assert len(asked) == read and made.verdicts.order.reason is reason and made.best == 100.0
    assert made.verdicts.order.sure is Sure.PROBABLE


@given(st.integers(0, 1 << 30), st.integers(1, 4), st.booleans())
def test_answers_are_alike_where_the_same_bytes_follow_one_another(seed, periods, other):
    """So many turns of parity earlier the same order is the same answer; two members exchanged are another."""
    names = random.Random(seed).sample(["a", "b", "c", "d", "e"], 5)
    late = geometry(
        "RAID5", 5, 65536, rotation="parity-N", data="restart", member_bytes=1 << 24, start_bytes=20 * 65536
    )
    early = replace(late, start_bytes=tuple(s - periods * 5 * 65536 for s in late.start_bytes))
    swapped = [names[1], names[0], *names[2:]]
    one, two = (
        Lineup(g, tuple(n), placed("certain"), 9.0, 0.0)
        for g, n in ((late, names), (early, swapped if other else names))
    )
    assert beside_answers.alike(one, two) is not other and beside_answers.alike(two, one) is not other


@pytest.mark.parametrize(("held", "linked", "proven"), [(8, 0, True), (7, 0, False), (7, 8, True)])
def test_an_order_under_which_many_kept_facts_stand_elsewhere_is_not_certain(judged, held, linked, proven):
    """Of ten; not though the file system's checksums hold, unless its directories are where their inodes say."""
    found = replace(judged.found, held=held, tested=10, linked=linked, unlinked=0)
    assert found.holds and (judged(findings=found).order.reason is Reason.PROVEN) is proven


def test_there_is_no_volume_where_more_is_missing_than_it_survives(judged):
    order = (None, None, *judged.truth.order[2:])
    made = judged(h=replace(judged.truth, order=order))
    assert made.order.sure is Sure.UNDECIDED is made.start.sure


def test_an_answer_that_another_one_outdoes_is_never_certain(judged):
    worse = replace(judged.found, proof=replace(judged.found.proof, failed={"inodes": 2}))
    assert judged(findings=worse, other=judged.found).order.reason is Reason.FAILING
    assert judged(findings=worse, other=worse).order.sure is Sure.CERTAIN  # damage, under any answer


def test_what_is_left_over_and_what_turns_with_the_start_is_not_certain(judged):
    assert judged(unsure=("m3",)).order.reason is Reason.ELIMINATION
    turning = replace(judged.begin, verdict=Verdict(Sure.PROBABLE, Reason.NOTHING_SAYS), settled=False)
    made = judged(begin=turning)
    assert (made.order.sure, made.order.reason) == (Sure.PROBABLE, Reason.SHIFT)
    assert made.strength == "certain"  # nothing that could be read would tell


def test_checksums_that_fail_in_a_part_contradict_and_a_few_do_not(judged):
    many = replace(judged.found, proof=replace(judged.found.proof, failed={"inodes": 900}))
    assert judged(findings=many, other=many).order.sure is Sure.UNDECIDED
    few = replace(judged.found, files=1, broken=9)  # programs change files, and file systems scatter them
    assert judged(findings=few, other=few).order.sure is Sure.CERTAIN


@pytest.mark.parametrize(
    ("evidence", "doubted"),
    [
        ((("proof", 3, None), ("against", 5, None)), True),
        ((("proof", 6, None), ("against", 5, None)), False),
        ((("proof", 3, None), ("failing", 5, None)), True),
        ((("against", 4, None),), False),
        ((("proof", 1, What.FILES), ("against", 5, What.FILES_FAIL), ("proof", 9, None)), True),
        ((("proof", 2, What.FILES), ("against", 5, What.FILES_FAIL), ("proof", 9, None)), False),
    ],
)
def test_an_answer_that_more_speaks_against_is_refuted_unless_it_is_certain(judged, evidence, doubted):
    found = [Evidence(*e) for e in evidence]
    for word in ("probable", "certain"):
        made = Lineup(None, (), placed(word), 0.0, 0.0, tuple(found))
        assert refuted(made) is (doubted and word == "probable")


@pytest.mark.parametrize(
    ("other", "made", "more", "better"),
    [("certain", "probable", -99, True), ("probable", "certain", 13, True), ("probable", "undecided", 11, False),
     ("undecided", "undecided", 13, True), ("undecided", "undecided", 11, False), ("undecided", "probable", 99, False)],
)  # fmt: skip
def test_of_two_searches_the_surer_answer_stands_or_of_two_doubtful_ones_that_with_more(other, made, more, better):
    """An odd strip under which everything fits was passed over for a usual one under which nothing did."""
    first, second = (Lineup(None, (), placed(word), best, 0.0) for word, best in ((other, 100.0 + more), (made, 100.0)))
    assert surer(first, second) is better


def test_one_word_for_all_four_is_certain_only_if_all_are():
    sure, weak = Verdict(Sure.CERTAIN, Reason.PROVEN), Verdict(Sure.UNTESTED, Reason.SAMPLED)
    assert Verdicts(sure, sure, sure, sure).whole == "certain" and Verdicts(sure, sure, sure, sure).certain
    for number in range(4):
        one = [sure] * 4
        one[number] = weak
        assert Verdicts(*one).whole != "certain" and not Verdicts(*one).certain
    assert Verdicts(sure, sure, weak, weak).whole == "probable"


@pytest.mark.parametrize(("doubt", "why"), [("shape_open", Reason.UNCOUNTED), ("strangely_related", Reason.OPEN_ROWS)])
def test_what_is_undecided_never_says_that_it_is_proven(judged, monkeypatch, doubt, why):
    monkeypatch.setattr(finishing, doubt, lambda *_args: True)
    made = judged().order
    assert made.sure is Sure.UNDECIDED and made.reason is why


@pytest.mark.parametrize(
    ("order", "chance", "sure"),
    [
        (Sure.PROBABLE, -0.01, Sure.UNDECIDED),
        (Sure.PROBABLE, 0.01, Sure.PROBABLE),
        (Sure.PROBABLE, None, Sure.PROBABLE),
        (Sure.CERTAIN, -0.3, Sure.CERTAIN),  # what is proven needs no measure
        (Sure.UNDECIDED, 0.1, Sure.UNDECIDED),
    ],
)  # fmt: skip
def test_an_answer_is_probable_only_where_enough_of_such_ones_were_right(order, chance, sure):
    """chance: beyond the least that is enough."""
    shape = geometry("RAID0", 2, 4096, member_bytes=8192)
    told = None if chance is None else calibration.measured().least + chance
    found = Lineup(shape, ("a", "b"), placed(order.value), 9.0, 0.0, chance=told)
    made = as_measured(found).verdicts
    assert made.order.sure is sure and (made.start.sure is Sure.UNDECIDED) is (sure is Sure.UNDECIDED)


@given(st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=2), st.integers(1, 32), st.integers(0, 30), st.booleans())
def test_a_measured_share_is_one_whatever_the_figures(nats, members, others, told):
    signs = calibration.Signs(
        nats[0], nats[1], members, 0, others, others, 0, others, 0.5, told, told, told, told
    )  # fmt: skip
    assert 0 <= calibration.chance(signs) <= 1
    assert calibration.Signs.from_list(signs.as_list()).terms == pytest.approx(signs.terms, abs=0.02)


def test_the_weights_say_what_they_were_fitted_to_and_held_against():
    told = tomllib.loads(calibration.FILE.read_text())
    assert told["answers"] >= 300 and not set(told["seeds"]) & set(told["held_out"]) and told["held_out"]
    blank = calibration.Signs(0, 0, 4, 0, 0, 0, 0, 0, 0, False, False, True, False)
    assert len(told["weights"]) == len(blank.terms) and 0.5 <= told["least"] < 1
    plain = replace(blank, lead=90.0, total=900.0, rows=60, closing=1.0, counted=True, pinned=True, likely=True)
    poor = replace(blank, lead=4.5, total=9.0, rows=1, missing=2, beside=5)
    assert calibration.chance(plain) > told["least"] > calibration.chance(poor)
