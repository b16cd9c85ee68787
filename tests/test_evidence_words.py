"""Every fact that an answer may tell has words, and survives the document in which it is written."""

import string

import pytest

from faithful_stripe.cli.evidence_words import ALIKE, REMARKS, SAYS, SETTLES, alike, remark, says, settles
from faithful_stripe.core.arrays.layout import layout
from faithful_stripe.core.lineup.document.alternative import Alike, Alternative, Shape
from faithful_stripe.core.lineup.document.told_facts import Evidence, Note, Remark, Settle, Settles, What

NAMES = {
    What: (SAYS, {"of", "name", "images", "row"}),
    Settle: (SETTLES, {"images"}),
    Remark: (REMARKS, {"images", "count", "kib"}),
}


@pytest.mark.parametrize("kind", NAMES)
def test_every_fact_has_words_of_its_own_that_name_what_it_has(kind):
    words, known = NAMES[kind]
    assert set(words) == set(kind) and len(set(words.values())) == len(words)
    for text in words.values():
        assert {name for _text, name, _spec, _how in string.Formatter().parse(text) if name} <= known


@pytest.mark.parametrize("what", [None, *What])
def test_evidence_is_the_same_after_it_was_written(what):
    told = Evidence("proof", 7, what, of=9, name="two", images=4, row=12)
    assert Evidence.from_document(told.as_document()) == told
    assert (says(told) == "") is (what is None)


def test_numbers_and_names_are_in_the_words():
    told = Evidence("membership", 7, What.RELATED, of=9, name="two", images=4)
    assert says(told) == "places at which 4 images are related as members of one group with P and Q, of 9"
    left = Settles(Settle.ELIMINATION, ("a.img", "b.img"))
    assert Settles.from_document(left.as_document()) == left
    assert settles(left) == "nothing on a.img, b.img says where it belongs: it stands where a place was left"
    assert settles(None) == "" and remark(Note(Remark.UNREADABLE, count=3)) == "3 blocks could not be read"


SHAPES = [
    layout("RAID5", 3, "parity-N", "restart", turn_rows=4),
    layout("RAID6", 4, "parity-0", "restart", q_place="after-p", q_exponent="data-index"),
    layout("RAID60", 8, "parity-N", "continuation", spans=2, q_place="before-p", q_exponent="member-position"),
    layout("RAID10", 6, copies=3),
    layout("RAID1E", 5, data="offset"),
    layout("RAID0", 3),
    layout("RAID5", 5, "parity-N", "restart", spare="after-p"),
]


@pytest.mark.parametrize("made", SHAPES, ids=lambda made: made.level)
def test_what_fits_as_well_is_the_same_after_it_was_written(made):
    names = (None, *(f"{n}.img" for n in range(1, made.members)))
    told = Alternative(Alike.LAYOUT, Shape(made, 65536, 8704, names))
    assert Alternative.from_document(told.as_document()) == told
    assert alike(told).startswith(f"{made.level}, strip 64 KiB") and "data from byte 8704: missing, 1.img" in alike(
        told
    )


def test_what_is_no_layout_has_words_of_its_own():
    assert set(ALIKE) == set(Alike) - {Alike.LAYOUT}
    for what, words in ALIKE.items():
        told = Alternative(what)
        assert Alternative.from_document(told.as_document()) == told and alike(told) == words
