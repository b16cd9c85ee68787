"""Custody: nothing is handed over that is not from the images that were judged, nor from any others."""

import errno
import os
import random
import shutil

import pytest

from faithful_stripe.core.lineup.custody import PLACE_BYTES, PLACES, Part, changed, fingerprint
from faithful_stripe.core.source import MemorySource, read
from faithful_stripe.media.image import ImageFile, MediaError
from faithful_stripe.media.whole import give_name
from faithful_stripe.work.lineup import load, open_array, what_is_read

from .slicer import Spec, cut

STRIP = 16384
SPEC = Spec("RAID5", 4, STRIP, "parity-N", "continuation")
COMMANDS = (("extract", "found.toml", "out.img"), ("prove", "found.toml"), ("draw", "found.toml", "--map", "rows.png"))


@pytest.fixture
def solved(fstripe, observatory):
    """A solved pile in the test's folder, by position."""
    images = [fstripe.folder / f"{'dbea'[m]}.img" for m in range(SPEC.members)]
    cut(observatory, SPEC, images)
    names = sorted(p.name for p in images)
    assert fstripe("lineup", "solve", *names, "--out", "found.toml").status == 0
    return images


def refused(fstripe, words, name, where):
    got = fstripe("lineup", *words)
    assert got.status == 1 and got.out == "", got
    assert got.err == (
        f"fstripe: {name}: not the image that was judged: {where}; name the images of that time, or solve these anew\n"
    )
    assert not (fstripe.folder / words[-1]).exists() or words[-1] == "found.toml"


@pytest.mark.parametrize("words", COMMANDS, ids=lambda w: w[0])
def test_images_exchanged_after_the_solve_are_refused(fstripe, solved, words):
    os.rename(solved[0], "other")
    os.rename(solved[1], solved[0])
    os.rename("other", solved[1])
    text = (fstripe.folder / "found.toml").read_text()
    if words[0] == "draw":  # it has the map already, unless somebody took it out
        (fstripe.folder / "found.toml").write_text("\n".join(x for x in text.splitlines() if not x.startswith("map")))
    refused(fstripe, words, "d.img", "its first MiB holds something else")


def test_any_byte_that_was_changed_since_is_found_when_all_is_read(fstripe, solved):
    prints = {p.image: p for p in load(fstripe.folder / "found.toml").images}
    places = prints["b.img"].places
    with ImageFile(solved[1]) as image:
        data = [a for a, b in image.data_ranges(2 << 20) for a in range(a, b - PLACE_BYTES, PLACE_BYTES)]
    at = next(a for a in data if a not in places and a < solved[1].stat().st_size - (2 << 20))
    with solved[1].open("r+b") as file:
        file.seek(at + 17)
        old = file.read(1)
        file.seek(at + 17)
        file.write(bytes([old[0] ^ 1]))
    got = fstripe("lineup", "extract", "found.toml", "out.img")
    assert got.status == 1 and "b.img: not the image that was judged: bytes " in got.err
    assert not (fstripe.folder / "out.img").exists()
    assert fstripe("lineup", "solve", "a.img", "b.img", "d.img", "e.img", "--out", "anew.toml").status == 3
    assert fstripe("lineup", "extract", "anew.toml", "out.img").status == 3  # one equation: open, and said


def test_a_member_taken_out_by_hand_breaks_no_seal(fstripe, solved):
    text = (fstripe.folder / "found.toml").read_text()
    spans = next(line for line in text.splitlines() if line.startswith("spans"))
    (fstripe.folder / "less.toml").write_text(text.replace(spans, spans.replace('"b.img"', '""')))
    got = fstripe("lineup", "extract", "less.toml", "out.img", "--range", "0:64MiB", "--json")
    assert got.status == 3 and got.json["verdicts"]["currency"]["verdict"] == "not testable"


def test_a_densely_copied_image_is_the_same_image(fstripe, solved):
    dense = solved[1].read_bytes()
    solved[1].unlink()
    solved[1].write_bytes(dense)
    assert fstripe("lineup", "extract", "found.toml", "out.img").status == 0


def test_an_unfinished_extract_of_another_pile_is_not_gone_on_with(fstripe, solved, monkeypatch):
    """The same names and sizes in another folder, and other bytes."""
    other = fstripe.folder / "other"
    other.mkdir()
    for path in [*solved, fstripe.folder / "found.toml"]:
        shutil.copy(path, other / path.name)
    with open_array(fstripe.folder / "found.toml") as (found, members):
        one = what_is_read(found, members)
    with (other / "e.img").open("r+b") as file:
        file.write(b"another tide")
    text = (other / "found.toml").read_text().splitlines()
    (other / "found.toml").write_text("\n".join(x for x in text if not x.startswith("images")))
    monkeypatch.chdir(other)
    with open_array(other / "found.toml") as (found, members):
        assert what_is_read(found, members) != one


def test_the_place_of_the_answer_is_tried_first(fstripe, solved):
    for out, says in (("none/found.toml", "there is no such file"), ("a.img/found.toml", "not a folder")):
        got = fstripe("lineup", "solve", "a.img", "b.img", "d.img", "e.img", "--out", out)
        assert got.status == 1 and got.out == "" and says in got.err


def test_an_answer_that_cannot_be_kept_is_printed(fstripe, solved, monkeypatch):
    def full(_solution, path):
        raise MediaError(path=path, what="no space left there", to_do="free some space")

    monkeypatch.setattr("faithful_stripe.work.lineup.save", full)
    got = fstripe("lineup", "solve", "a.img", "b.img", "d.img", "e.img", "--out", "again.toml")
    assert got.status == 1 and "no space left" in got.err
    assert "Array 1: RAID5 of 4" in got.out and "Written to" not in got.out


def test_names_that_are_no_utf8_are_kept_and_shown(fstripe, solved):
    odd = os.fsencode(fstripe.folder) + b"/tide-\xff.img"
    os.rename(solved[2], odd)
    names = ["a.img", "b.img", "d.img", os.fsdecode(b"tide-\xff.img")]
    got = fstripe("lineup", "solve", *names, "--out", "odd.toml")
    assert got.status == 0, got
    assert "tide-\\udcff.img" in got.out
    assert fstripe("lineup", "extract", "odd.toml", "out.img", "--range", "0:4MiB").status == 0
    assert fstripe("lineup", "prove", "odd.toml").status == 0
    assert {p.image for p in load(fstripe.folder / "odd.toml").images} == set(names)


def test_where_an_image_differs_is_told():
    image = MemorySource(8 << 20)
    for at in range(0, 8 << 20, 1 << 20):
        image.write(at, random.Random(at).randbytes(256 << 10))
    was = fingerprint(image, "tide", 5)
    assert changed(image, was) is None and len(was.places) <= PLACES
    assert all(any(read(image, at, PLACE_BYTES)) for at in was.places)
    for at, part in ((0, Part.HEAD), ((8 << 20) - 1, Part.TAIL), (was.places[len(was.places) // 2], Part.PLACES)):
        old = read(image, at, 1)
        image.write(at, bytes([old[0] ^ 255]))
        assert changed(image, was) is part
        image.write(at, old)
    assert changed(MemorySource(1 << 20), was) is Part.SIZE


@pytest.mark.parametrize("links", [True, False])
def test_a_name_is_given_once(tmp_path, monkeypatch, links):
    """Also on a file system that knows no links, such as on a stick."""
    if not links:

        def refuse(*_args, **_words):
            raise OSError(errno.EPERM, "no links here")

        monkeypatch.setattr(os, "link", refuse)
    ours, taken, free = tmp_path / "ours", tmp_path / "taken", tmp_path / "free"
    ours.write_text("ours")
    taken.write_text("theirs")
    with pytest.raises(FileExistsError):
        give_name(ours, taken)
    assert taken.read_text() == "theirs" and ours.read_text() == "ours"
    give_name(ours, free)
    assert free.read_text() == "ours" and not ours.exists()
