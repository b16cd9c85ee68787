"""A search that continues from an earlier lineup: what is certain stays, the rest is looked for again."""

import tomllib

import pytest

from faithful_stripe.core.lineup.document.lineup_document import Solution
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work import searching_on
from faithful_stripe.work.lineup import load, save

from .slicer import Spec, cut


@pytest.fixture
def pile(fstripe, volumes):
    """A RAID 5 and a RAID 0, and the lineup of what was there when one of the second's images was not."""
    for names, volume, spec in (
        ("cadb", "ntfs", Spec("RAID5", 4, 65536, "parity-N", "restart")), ("fe", "fat32", Spec("RAID0", 2, 65536))
    ):  # fmt: skip
        cut(volumes / f"{volume}.img", spec, [fstripe.folder / f"{n}.img" for n in names])
    first = fstripe("lineup", "solve", *(f"{n}.img" for n in "abcde"), "--out", "found.toml", "--json").json
    (certain,) = [a for a in first["arrays"] if a["verdict"] == "certain"]
    return certain


EVERY = [f"{n}.img" for n in "abcdef"]


def test_what_is_certain_is_kept_and_the_rest_is_found(fstripe, pile):
    certain = pile
    more = fstripe("lineup", "solve", *EVERY, "--from", "found.toml", "--out", "more.toml", "--json").json
    one, other = more["arrays"]
    assert {**one, "holds": certain["holds"]} == certain
    assert other["level"] == "RAID0" and other["spans"] == [["f.img", "e.img"]] and not more["unused"]
    whole = fstripe("lineup", "solve", *EVERY, "--json").json
    assert more["bytes_read"] < whole["bytes_read"]
    assert fstripe("lineup", "extract", "more.toml", "one.img", "--array", 1).status == 0
    assert fstripe("lineup", "prove", "more.toml", "--array", 2).status in (0, 3)
    assert {i["image"] for i in tomllib.loads((fstripe.folder / "more.toml").read_text())["images"]} == set(EVERY)


def test_a_changed_or_absent_image_of_a_certain_array_is_refused(fstripe, pile):
    absent = fstripe("lineup", "solve", "a.img", "b.img", "c.img", "e.img", "f.img", "--from", "found.toml")
    assert absent.status == 1 and "d.img belongs to an array that is certain" in absent.err
    with ImageFile(fstripe.folder / "d.img", writable=True) as image:
        image.write(0, b"\xee" * 512)
    changed = fstripe("lineup", "solve", *EVERY, "--from", "found.toml")
    assert changed.status == 1 and "d.img" in changed.err and "first MiB" in changed.err
    assert fstripe("lineup", "solve", *EVERY, "--from", "found.toml", "--level", "5").status == 2


def test_a_doubtful_answer_stays_where_nothing_surer_is_found(fstripe, pile, monkeypatch):
    found = load(fstripe.folder / "found.toml")
    (certain,) = [a for a in found.arrays if a.verdict == "certain"]
    doubtful = certain.__class__(
        certain.geometry, ("f.img", "e.img", None, None), certain.verdicts.__class__.from_document(
            {**certain.verdicts.as_document(), "order": {"verdict": "probable", "reason": "few-facts"}}
        ), 9.0, 0.0,
    )  # fmt: skip
    save(Solution((certain, doubtful), (), images=found.images), fstripe.folder / "two.toml")
    asked = []

    def nothing(paths, *_more, **named):
        asked.append((sorted(p.name for p in paths), named["patience"]))
        return Solution((), tuple(map(str, paths)))

    monkeypatch.setattr(searching_on, "solve_images", nothing)
    kept = fstripe("lineup", "solve", *EVERY, "--from", "two.toml", "--json").json
    assert [a["spans"] for a in kept["arrays"]] == [certain._spans(), [["f.img", "e.img", None, None]]]
    assert asked == [(["e.img", "f.img"], float("inf"))] and not kept["unused"]
