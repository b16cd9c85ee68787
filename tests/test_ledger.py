"""The ledger of an answer: its entries add up to its score, say what they are of, and come back from a file."""

import json

import pytest

from faithful_stripe.core.lineup.document.ledger import Entry, Kind, total
from faithful_stripe.core.lineup.document.lineup_document import read_document
from faithful_stripe.work.lineup import solve_images

from .cutting import pile
from .slicer import Spec, cut

CASES = [
    ("xfs", Spec("RAID5", 4, 16384, "parity-N", "continuation"), (), (Kind.ADDRESSES, Kind.KEPT_OUT)),
    ("ext2", Spec("RAID5", 4, 16384, "parity-N", "restart"), (2,), (Kind.ADDRESSES, Kind.MISSING, Kind.DIRECTORIES)),
    ("xfs", Spec("RAID6", 5, 16384, "parity-N", "restart", "after-p", "data-index"), (), (Kind.ADDRESSES, Kind.ROLES)),
    ("stream", Spec("RAID0", 3, 16384), (), (Kind.SEAMS,)),
    ("fat32", Spec("RAID10", 6, 65536, copies=2), (), (Kind.ADDRESSES,)),
]


@pytest.mark.parametrize(
    ("content", "spec", "gone", "kinds"), CASES, ids=lambda v: getattr(v, "level", v if isinstance(v, str) else "")
)
def test_the_entries_are_the_score(volumes, tmp_path, content, spec, gone, kinds):
    """Of the answer and of the next one; and what states no address has no entry that says so."""
    case = pile(tmp_path, volumes / f"{content}.img", spec, gone=gone)
    solution = solve_images(case.images)
    (array,) = solution.arrays
    assert total(array.ledger) == pytest.approx(array.best, abs=0.1)
    assert total(array.rival) == pytest.approx(array.next, abs=0.1) or (array.next == 0 >= total(array.rival))
    weighed = {entry.kind: entry.nats for entry in array.ledger}
    assert set(kinds) <= set(weighed) and (Kind.MISSING in weighed) is bool(gone)
    assert (Kind.ADDRESSES in weighed) is (content != "stream")
    assert all((weighed[kind] < 0) is (kind is Kind.MISSING) for kind in kinds)
    back = read_document(json.loads(json.dumps(solution.as_document())), "a file").arrays[0]
    assert [(e.kind, e.agree, e.contrary) for e in back.ledger] == [(e.kind, e.agree, e.contrary) for e in array.ledger]
    assert total(back.rival) == pytest.approx(total(array.rival), abs=0.1)


def test_members_exchanged_lose_what_stood_right(volumes, tmp_path):
    """The next answer has less of the same kinds: that is what its lead consists of."""
    case = pile(tmp_path, volumes / "xfs.img", Spec("RAID5", 4, 16384, "parity-N", "continuation"))
    (array,) = solve_images(case.images).arrays
    mine, other = ({e.kind: e for e in ledger} for ledger in (array.ledger, array.rival))
    assert mine[Kind.ADDRESSES].agree > other[Kind.ADDRESSES].agree
    assert mine[Kind.KEPT_OUT].nats > other[Kind.KEPT_OUT].nats
    lost = sum(mine[k].nats - (other[k].nats if k in other else 0) for k in mine) - sum(
        e.nats for k, e in other.items() if k not in mine
    )
    assert lost == pytest.approx(array.best - total(array.rival), abs=0.1)


def test_it_is_printed_when_asked_for_and_refused_when_spoilt(fstripe, volumes):
    spec = Spec("RAID5", 4, 16384, "parity-N", "continuation")
    names = [f"ebb-{n}.img" for n in range(4)]
    cut(volumes / "ntfs.img", spec, [fstripe.folder / n for n in names])
    said = fstripe("lineup", "solve", *names, "--explain", "--out", "found.toml").out
    assert "WEIGHED" in said and "structures that state their own address" in said and "all of it" in said
    assert "WEIGHED" not in fstripe("lineup", "solve", *names).out
    text = (fstripe.folder / "found.toml").read_text()
    for was, bad in (('kind = "addresses"', 'kind = "hearsay"'), ("agree = ", 'agree = "x" # ')):
        assert was in text
        (fstripe.folder / "spoilt.toml").write_text(text.replace(was, bad, 1))
        refused = fstripe("lineup", "draw", "spoilt.toml")
        assert refused.status == 1 and refused.err.count("\n") == 1


def test_an_entry_of_an_unknown_kind_is_none():
    with pytest.raises(ValueError, match="hearsay"):
        Entry.from_document({"kind": "hearsay", "nats": 1, "agree": 1, "contrary": 0})
