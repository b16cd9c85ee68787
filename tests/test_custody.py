"""Custody: nothing is handed over that is not from the images that were judged, nor from any others."""

import errno
import os
import random
import shutil
import subprocess

import pytest

from faithful_stripe.core.lineup.document.custody import PLACE_BYTES, PLACES, NotAsJudged, Part, changed, fingerprint
from faithful_stripe.core.source import MemorySource, read
from faithful_stripe.media.image import ImageFile, MediaError
from faithful_stripe.media.whole import give_name
from faithful_stripe.work.checked import CheckedVolume
from faithful_stripe.work.extracting import extract
from faithful_stripe.work.lineup import load, open_array, what_is_read

from .conftest import Runner
from .slicer import Spec, cut

STRIP = 16384
SPEC = Spec("RAID5", 4, STRIP, "parity-N", "continuation")
COMMANDS = (("extract", "found.toml", "out.img"), ("prove", "found.toml"), ("draw", "found.toml", "--map", "rows.png"))


@pytest.fixture(scope="module")
def solved_once(observatory, tmp_path_factory):
    """A solved pile."""
    folder = tmp_path_factory.mktemp("solved")
    images = [folder / f"{'dbea'[m]}.img" for m in range(SPEC.members)]
    cut(observatory, SPEC, images)
    assert Runner(folder)("lineup", "solve", *sorted(p.name for p in images), "--out", "found.toml").status == 0
    return folder


@pytest.fixture
def solved(fstripe, solved_once):
    """A solved pile in the test's folder, by position."""
    for path in solved_once.glob("*.*"):
        subprocess.run(["cp", "--sparse=always", path, fstripe.folder], check=True)
    return [fstripe.folder / f"{'dbea'[m]}.img" for m in range(SPEC.members)]


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
    flipped(solved[1], unseen_place(solved[1], prints["b.img"]))
    got = fstripe("lineup", "extract", "found.toml", "out.img")
    assert got.status == 1 and "b.img: not the image that was judged: bytes " in got.err
    assert not (fstripe.folder / "out.img").exists()
    assert fstripe("lineup", "solve", "a.img", "b.img", "d.img", "e.img", "--out", "anew.toml").status == 3
    assert fstripe("lineup", "extract", "anew.toml", "out.img").status == 3  # one equation: open, and said


def flipped(path, at):
    """One bit of a file changed."""
    with path.open("r+b") as file:
        file.seek(at)
        old = file.read(1)
        file.seek(at)
        file.write(bytes([old[0] ^ 1]))


def unseen_place(path, prints):
    """A byte among the data of an image that its fingerprint does not cover."""
    with ImageFile(path) as image:
        data = [a for a, b in image.data_ranges(2 << 20) for a in range(a, b - PLACE_BYTES, PLACE_BYTES)]
    return next(a for a in data if a not in prints.places and a < path.stat().st_size - (2 << 20)) + 17


def test_what_is_served_is_held_against_its_seals_before_any_byte_is_given(fstripe, solved):
    found = load(fstripe.folder / "found.toml")
    flipped(solved[1], unseen_place(solved[1], {p.image: p for p in found.images}["b.img"]))
    with open_array(fstripe.folder / "found.toml", among=solved) as (lineup, members):
        volume = CheckedVolume(lineup, members, lambda _ranges: None, "v")
        with pytest.raises(NotAsJudged, match=r"b\.img: not the image that was judged: bytes "):
            volume.read_into(0, bytearray(4096))


def test_an_image_that_somebody_writes_to_while_it_is_read_gives_nothing(fstripe, solved):
    with open_array(fstripe.folder / "found.toml", among=solved) as (lineup, members):
        volume = CheckedVolume(lineup, members, lambda _ranges: None, "v")
        volume.read_into(0, bytearray(4096))
        os.utime(solved[2], ns=(1, 1))
        with pytest.raises(NotAsJudged, match="somebody wrote to it while it was read"):
            volume.read_into(volume.size - 4096, bytearray(4096))

        def touch(*_progress):
            os.utime(solved[2], ns=(2, 2))

        with pytest.raises(NotAsJudged, match=r"\.img: .*somebody wrote to it"):
            extract(lineup, members, "x", fstripe.folder / "out.img", 0, volume.size, touch)
    assert not (fstripe.folder / "out.img").exists()


def test_members_that_stand_one_after_the_other_are_sealed_too(fstripe, volumes):
    """A span of three unequal parts, each with data: a byte changed anywhere in it is found when it is read."""
    data = (volumes / "xfs.img").read_bytes()
    edges = (0, len(data) // 3 // 512 * 512, len(data) * 2 // 3 // 4096 * 4096, len(data))
    images = [fstripe.folder / f"{'cab'[i]}.img" for i in range(3)]
    for path, a, b in zip(images, edges, edges[1:], strict=False):
        path.write_bytes(data[a:b])
    got = fstripe("lineup", "solve", "a.img", "b.img", "c.img", "--full", "--out", "found.toml")
    found = load(fstripe.folder / "found.toml")
    assert found.arrays and found.arrays[0].geometry.layout.level == "SPAN" and found.arrays[0].seals, got
    assert fstripe("lineup", "extract", "found.toml", "good.img").status in (0, 3)
    assert (fstripe.folder / "good.img").read_bytes() == data
    flipped(images[1], unseen_place(images[1], {p.image: p for p in found.images}["a.img"]))
    got = fstripe("lineup", "extract", "found.toml", "out.img")
    assert got.status == 1 and "a.img: not the image that was judged: bytes " in got.err


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
