"""What a person knows, fixed in the search: told as given, and held against what the images say by themselves."""

import tomllib

import numpy as np
import pytest

from faithful_stripe.core.lineup.document.known import Given
from faithful_stripe.core.lineup.hypotheses.assignment import FORBIDDEN, assign
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate, layouts_of
from faithful_stripe.core.lineup.hypotheses.fixed_points import candidates_given

from .slicer import Spec, cut

SPEC = Spec("RAID5", 4, 65536, "parity-N", "continuation")


@pytest.fixture
def pile(tmp_path, volumes):
    members = [tmp_path / f"{name}.img" for name in "cadb"]
    cut(volumes / "xfs.img", SPEC, members)
    return tmp_path


def solve(fstripe, pile, *words):
    told = fstripe("lineup", "solve", *sorted(pile.glob("*.img")), *words, "--json")
    return told.status, told.json


def test_what_is_known_and_right_is_said_to_agree(fstripe, pile):
    status, found = solve(fstripe, pile, "--level", "5", "--strip", "64KiB", "--order", "c,?,d.img,?", "--start", "0")
    assert status == 0
    assert found["given"] == {
        "level": "RAID5", "strip_bytes": 65536, "start_bytes": 0,
        "order": [str(pile / "c.img"), "?", str(pile / "d.img"), "?"],
    }  # fmt: skip
    assert "differences" not in found
    text = fstripe("lineup", "solve", *sorted(pile.glob("*.img")), "--level", "5")
    assert "The images say the same by themselves." in text.out


@pytest.mark.parametrize(
    ("words", "what", "given", "found"),
    [
        (("--level", "4"), "level", "RAID4", "RAID5"),
        pytest.param(("--strip", "128KiB"), "strip", "131072", "65536", marks=pytest.mark.long),
        pytest.param(("--members", "5"), "members", "5", "4", marks=pytest.mark.long),
    ],
)
def test_what_is_known_and_wrong_is_contradicted_aloud(fstripe, pile, words, what, given, found):
    status, document = solve(fstripe, pile, *words)
    assert status == 3
    assert {"what": what, "given": given, "found": found} in document["differences"]
    assert document["arrays"][0]["verdict"] != "certain"


def test_an_order_that_is_given_is_kept_and_is_no_surer_than_the_one_who_gave_it(fstripe, pile):
    status, document = solve(fstripe, pile, "--order", "a,c,?,?")
    array = document["arrays"][0]
    assert status == 3
    assert array["spans"][0][:2] == [str(pile / "a.img"), str(pile / "c.img")]
    assert array["verdicts"]["order"]["verdict"] in ("probable", "undecided")
    assert [d["what"] for d in document["differences"]] == ["position 0", "position 1"]


def test_an_image_that_takes_no_part_and_one_that_is_out_of_date(fstripe, pile):
    _status, document = solve(fstripe, pile, "--not", pile / "d.img")
    assert document["unused"] == [str(pile / "d.img")]
    assert document["arrays"][0]["spans"] == [[str(pile / "c.img"), str(pile / "a.img"), None, str(pile / "b.img")]]
    out = pile / "found.toml"
    fstripe("lineup", "solve", *sorted(pile.glob("*.img")), "--stale", pile / "d.img", "--out", out)
    array = tomllib.loads(out.read_text())["arrays"][0]
    assert array["stale"] == [str(pile / "d.img")] and array["spans"][0][2] == ""


def test_an_order_without_an_open_place_leaves_the_rest_out(fstripe, pile):
    _status, document = solve(fstripe, pile, "--order", "c,a,-,b")
    assert document["unused"] == [str(pile / "d.img")]
    assert document["arrays"][0]["spans"] == [[str(pile / "c.img"), str(pile / "a.img"), None, str(pile / "b.img")]]


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("--order", "c,a,zz,b"), 1, "zz is none of the images"),
        (("--order", "c,a,d", "--members", "4"), 2, "--order names 3 positions, --members 4"),
        (("--strip", "many"), 2, "'many' is not a size"),
        (("--stop-after", "0s"), 2, "longer than 0 s"),
        (("--stop-after", "soon"), 2, "'soon' is not a duration"),
        (("--not", "zz.img"), 1, "zz.img is none of the images"),
    ],
)
def test_what_cannot_be_meant_is_one_line(fstripe, pile, words, status, said):
    told = fstripe("lineup", "solve", *sorted(pile.glob("*.img")), *words)
    assert told.status == status
    assert said in told.err and len(told.err.strip().splitlines()) == 1


def test_a_search_that_is_stopped_says_so(fstripe, pile):
    told = fstripe("lineup", "solve", *sorted(pile.glob("*.img")), "--stop-after", "0.001s")
    assert told.status != 0
    assert "stopped" in told.out + told.err or "interrupted" in told.err.lower()


def test_seats_that_are_given_are_held_whatever_is_voted():
    candidate = Candidate("RAID5", layouts_of("RAID5", 4), ((0,), (1,), (2,)), seats=(-1, 2, -2, -1))
    votes = np.zeros((3, 4))
    votes[2, 0] = votes[0, 2] = votes[1, 1] = 100.0
    order, score = assign(votes, candidate)
    assert order[1] == 2 and order[2] is None and score > FORBIDDEN / 2


def test_casts_are_made_for_what_is_given_where_there_are_none():
    made = candidates_given(Given(level="RAID6", members=6), [], {0, 1, 2, 3}, [], ["a", "b", "c", "d"])
    assert {(c.level, c.positions, c.missing) for c in made} == {("RAID6", 6, 2)}
    seated = candidates_given(Given(level="RAID0", order=("b", "?", "a")), [], {0, 1, 2}, [], ["a", "b", "c"])
    assert [c.seats for c in seated] == [(1, -1, 0)]


@pytest.mark.long
def test_a_layout_of_several_that_fit_equally_is_not_headlined(fstripe, pile):
    """RAID 6 of four, of an array that is RAID 5: nothing tells one such layout from another."""
    told = fstripe("lineup", "solve", *sorted(pile.glob("*.img")), "--level", "6")
    assert "images that may belong together; their layout is undecided" in told.out
    assert "RAID6 of 4" not in told.out and "POSITION" not in told.out  # it would be read as an order
    assert "The nearest is a guess, right in " in told.out and all(path.name in told.out for path in pile.glob("*.img"))
    more = ("--level", "6", "--explain", "--out", "guess.toml")
    at_length = fstripe("lineup", "solve", *sorted(pile.glob("*.img")), *more)
    assert "One layout that fits, of several: RAID6 of 4" in at_length.out and "POSITION" in at_length.out
    assert "Written to guess.toml: no order in it is decided" in at_length.out


@pytest.mark.parametrize(
    ("start", "ahead"),
    [
        ("0", 0),
        pytest.param("1MiB", 1 << 20, marks=pytest.mark.long),
        pytest.param("17MiB", 17 << 20, marks=pytest.mark.long),
    ],
)
def test_a_start_that_nothing_states_is_settled_by_who_knows_it(fstripe, volumes, tmp_path, start, ahead):
    """A mirror behind an empty front: it may begin anywhere before the file system's head, and does where it is said
    to; a start behind the head is none."""
    copies = [tmp_path / f"{name}.img" for name in "ab"]
    for copy in copies:
        copy.write_bytes(bytes(17 << 20) + (volumes / "xfs.img").read_bytes())
    open_, given, behind = (
        fstripe("lineup", "solve", *copies, *words, "--json").json["arrays"][0]
        for words in ((), ("--start", start), ("--start", "18MiB"))
    )
    assert (open_["verdicts"]["start"]["verdict"], open_["start_bytes"]) == ("undecided", 17 << 20)
    assert given["start_bytes"] == ahead
    assert given["verdicts"]["start"]["verdict"] == "probable" and given["verdicts"]["start"]["reason"] == "given"
    assert behind["start_bytes"] == 17 << 20 and behind["verdicts"]["start"]["verdict"] == "undecided"
