"""Every fact that an answer may tell has words, and survives the document in which it is written."""

import string

import pytest

from faithful_stripe.cli.evidence_words import REMARKS, SAYS, SETTLES, remark, says, settles
from faithful_stripe.core.lineup.document.told_facts import Evidence, Note, Remark, Settle, Settles, What

NAMES = {
    What: (SAYS, {"of", "name", "images", "row"}),
    Settle: (SETTLES, {"images"}),
    Remark: (REMARKS, {"images", "count"}),
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
