"""The map of rows as commands show, write, draw and serve it: holes on one image, a member behind, a doubtful claim."""

import random
import tomllib

import pytest

from faithful_stripe.core.lineup.document.row_map import RowMap
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import load

from .slicer import Spec, cut

STRIP = 16384
SPECS = {
    "RAID5": Spec("RAID5", 4, STRIP, "parity-N", "continuation"),
    "RAID6": Spec("RAID6", 5, STRIP, "parity-N", "continuation", "after-p", "data-index"),
}


@pytest.fixture
def array(fstripe, observatory):
    """Cut the observatory into images in the test's folder, some holes made in the second one."""

    def make(level, holes=()):
        spec = SPECS[level]
        images = [fstripe.folder / f"{'dbeac'[m]}.img" for m in range(spec.members)]
        cut(observatory, spec, images)
        with images[1].open("r+b") as file:
            for at, length in holes:
                file.seek(at)
                file.write(bytes(length))
        return sorted(p.name for p in images), [p.name for p in images]

    return make


def filled(path, size=4096):
    """Where a file holds data for so many bytes and more, one place after the other."""
    with ImageFile(path) as image:
        for a, b in image.data_ranges():
            for at in range(a, b - 8 * size, 8 * size):
                piece = bytearray(8 * size)
                image.read_into(at, piece)
                if all(any(piece[i : i + 512]) for i in range(0, len(piece), 512)):
                    yield at + 1024


def test_holes_are_mended_and_everything_is_said(fstripe, array, observatory):
    names, _order = array("RAID6")
    places = list(filled(fstripe.folder / "b.img"))[::3][:6]
    with (fstripe.folder / "b.img").open("r+b") as file:
        for at in places:
            file.seek(at)
            file.write(bytes(20480))
    solved = fstripe("lineup", "solve", *names, "--out", "found.toml")
    # two equations prove what is computed; whether the member is up to date there, nothing
    assert solved.status == 3, solved.out
    assert "are blank there and not used" in " ".join(solved.out.split()), solved.out[:1500]
    assert "of b.img not used: it is blank there" in solved.out and "computed in part" in solved.out
    got = fstripe("lineup", "extract", "found.toml", "out.img", "--json")
    assert got.status == 3 and got.json["verdicts"]["currency"] == {
        "verdict": "probable", "reason": "blank", "images": ["b.img"], "count": 20480 * len(places)
    }  # fmt: skip
    assert got.json["verdicts"]["soundness"] == {
        "verdict": "certain", "reason": "computed", "images": ["b.img"], "count": 20480 * len(places)
    }  # fmt: skip
    with observatory.open("rb") as truth, (fstripe.folder / "out.img").open("rb") as out:
        while block := truth.read(1 << 20):
            assert out.read(len(block)) == block
    assert (fstripe.folder / "out.img").stat().st_blocks * 512 < (fstripe.folder / "out.img").stat().st_size / 2
    rows = [line.split("\t") for line in (fstripe.folder / "out.img.map.txt").read_text().splitlines()]
    listed = [row for row in rows if row[0] == "image"]
    assert listed and all(row[1] == "b.img" and row[4] == "blank" for row in listed)
    assert sum(int(row[3]) for row in listed) == 20480 * len(places)
    kept = load(fstripe.folder / "found.toml").arrays[0].rowmap
    assert isinstance(kept, RowMap) and kept.mended_bytes(1) == 20480 * len(places)
    drawn = fstripe("lineup", "draw", "found.toml", "--map", "rows.png")
    assert drawn.status == 0 and (fstripe.folder / "rows.png").read_bytes()[:4] == b"\x89PNG"
    again = fstripe("lineup", "draw", "found.toml", "--map", "rows.png")
    assert again.status == 1 and "exists already" in again.err


def test_what_nothing_tells_is_handed_over_with_its_bytes_named(fstripe, array):
    """Noise on one of four: somebody is at fault, and one equation does not tell who."""
    names, order = array("RAID5")
    at = next(filled(fstripe.folder / "b.img"))
    with (fstripe.folder / "b.img").open("r+b") as file:
        file.seek(at)
        file.write(random.Random(1).randbytes(1024))
    solved = fstripe("lineup", "solve", *names, "--out", "found.toml", "--json")
    assert solved.status == 3 and solved.json["arrays"][0]["spans"] == [order]
    verdicts = solved.json["arrays"][0]["verdicts"]
    assert verdicts["order"]["verdict"] == verdicts["start"]["verdict"] == "certain"
    assert verdicts["soundness"]["verdict"] != "certain" and verdicts["currency"]["verdict"] != "certain"
    got = fstripe("lineup", "extract", "found.toml", "out.img")
    assert got.status == 3
    document = tomllib.loads((fstripe.folder / "found.toml").read_text())["arrays"][0]["map"]
    assert document["open"]
    assert "may be wrong: the rows do not match" in got.out and "out.img.map.txt" in got.out
    assert "\nopen\t" in (fstripe.folder / "out.img.map.txt").read_text()


def test_an_image_of_another_size_than_when_it_was_solved_is_refused(fstripe, array):
    names, _order = array("RAID5")
    assert fstripe("lineup", "solve", *names, "--out", "found.toml").status == 0
    size = (fstripe.folder / "b.img").stat().st_size
    for change in (4096, -4096):
        with (fstripe.folder / "b.img").open("r+b") as file:
            file.truncate(size + change)
        refused = fstripe("lineup", "extract", "found.toml", "out.img")
        assert refused.status == 1 and f"held {size} bytes then, and holds {size + change} now" in refused.err
    assert not (fstripe.folder / "out.img").exists()


def test_only_what_was_read_whole_is_certain(fstripe, array, monkeypatch):
    names, _order = array("RAID5")
    monkeypatch.setattr("faithful_stripe.core.lineup.solving.solve.FULL_BYTES", 0)
    sampled = fstripe("lineup", "solve", *names)
    assert sampled.status == 3 and sampled.out.count("NOT TESTED") == 2 and "--full" in sampled.out
    assert fstripe("lineup", "solve", *names, "--full").status == 0
