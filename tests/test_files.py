"""The files on a recovered volume: listed, tested, copied out and sampled; and two lineups compared."""

import hashlib
import importlib
import random
import re
import shutil
import subprocess

import pytest
from blake3 import blake3

from faithful_stripe.media import library_files

from .slicer import Spec, cut

SPEC = Spec("RAID5", 4, 65536, "parity-N", "continuation")


@pytest.fixture
def solved(fstripe, tmp_path, volumes):
    """An array of an ext4 volume full of files, and its lineup."""
    images = [tmp_path / f"m{n}.img" for n in range(4)]
    cut(volumes / "ext4-nocsum.img", SPEC, images)
    fstripe("lineup", "solve", *images, "--out", tmp_path / "found.toml")
    return tmp_path / "found.toml"


def listed(fstripe, *words):
    done = fstripe("lineup", "files", *words, "--json")
    return done.status, {f["path"]: f for f in done.json["files"]}


def test_everything_is_copied_as_a_general_tool_reads_it(fstripe, solved, volumes, tmp_path):
    if shutil.which("debugfs") is None:
        pytest.skip("debugfs is not installed on this machine")
    done = fstripe("lineup", "copy", solved, ".", tmp_path / "out", "--json")
    assert done.status == 0
    theirs = tmp_path / "theirs"
    theirs.mkdir()
    subprocess.run(["debugfs", "-R", f"rdump / {theirs}", volumes / "ext4-nocsum.img"], check=True, capture_output=True)
    sums = [
        {p.relative_to(top): hashlib.sha256(p.read_bytes()).hexdigest() for p in top.rglob("*") if p.is_file()}
        for top in (tmp_path / "out", theirs)
    ]
    assert len(sums[0]) > 20 and sums[0] == sums[1]
    one = done.json["files"][0]
    assert one["tested"] and one["blake3"] and (tmp_path / "out" / one["path"]).stat().st_size == one["bytes"]


def test_a_listing_says_what_is_sound(fstripe, solved):
    status, found = listed(fstripe, solved)
    assert status == 0 and found["calibration0"]["kind"] == "folder"
    files = [f for f in found.values() if f["kind"] == "file"]
    assert files and all(f["tested"] and f["testable"] and not f["wrong_bytes"] for f in files)
    text = fstripe("lineup", "files", solved)
    assert "sound" in text.out and "calibration0/" in text.out


def test_without_redundancy_nothing_is_called_sound(fstripe, solved):
    less = solved.with_name("less.toml")
    text = solved.read_text()
    member = next(w for w in text.split('"') if w.endswith("m3.img"))
    less.write_text(text.replace(f'"{member}"]]', '""]]'))
    status, found = listed(fstripe, less, "--check")
    assert status == 0
    assert all(f["tested"] and not f["testable"] for f in found.values() if f["kind"] == "file")
    assert "read, not testable" in fstripe("lineup", "files", less, "--check").out


def test_files_on_rows_that_do_not_match_are_named(fstripe, solved, tmp_path):
    """Parity spoilt over a part: nobody can tell which member is at fault, and the files there are said."""
    image = tmp_path / "m3.img"
    rng = random.Random(4)
    data = bytearray(image.read_bytes())
    at = next(i for i in range(65536 * 2, len(data), 65536) if any(data[i : i + 65536]))
    data[at : at + 65536] = rng.randbytes(65536)
    image.write_bytes(data)
    again = tmp_path / "again.toml"
    fstripe("lineup", "solve", *sorted(tmp_path.glob("m?.img")), "--out", again)
    status, found = listed(fstripe, again, "--damaged")
    if status == 3:
        assert found and all(f["wrong_bytes"] or f["lost_bytes"] for f in found.values())
        assert "may be wrong" in fstripe("lineup", "files", again, "--damaged").out
    else:  # what was spoilt is the member's that is computed from the others
        assert not found


def test_unreadable_places_are_lost_and_the_file_is_not_given_as_whole(fstripe, volumes, tmp_path):
    """A striped volume with a hole that its copier could not read."""
    images = [tmp_path / f"s{n}.img" for n in range(2)]
    cut(volumes / "ext4-nocsum.img", Spec("RAID0", 2, 65536), images)
    lineup = tmp_path / "striped.toml"
    fstripe("lineup", "solve", *images, "--out", lineup)
    whole = listed(fstripe, lineup, "--all", "--check")[1]
    size = images[1].stat().st_size
    half = size // 4
    (tmp_path / "s1.img.map").write_text(f"0x0 ?\n0x0 {half:#x} +\n{half:#x} {size - half:#x} -\n")
    text = lineup.read_text()
    lineup.write_text("\n".join(x for x in text.splitlines() if not x.startswith("images")) + "\n")
    status, found = listed(fstripe, lineup, "--all", "--check")
    lost = {p for p, f in found.items() if f["lost_bytes"]}
    assert status == 3 and lost
    assert all(whole[p]["lost_bytes"] == 0 for p in lost if p in whole)
    copied = fstripe("lineup", "copy", lineup, ".", tmp_path / "out")
    assert copied.status == 3 and "Not to be relied on" in copied.out


def test_a_folder_that_cannot_be_read_is_not_passed_over_in_silence(fstripe, volumes, tmp_path):
    """The blocks of a folder are unreadable: what is in it is not seen, and that is said."""
    images = [tmp_path / f"s{n}.img" for n in range(2)]
    cut(volumes / "ext4-nocsum.img", Spec("RAID0", 2, 65536), images)
    lineup = tmp_path / "striped.toml"
    fstripe("lineup", "solve", *images, "--out", lineup)
    whole = fstripe("lineup", "files", lineup, "--all", "--json").json
    assert whole["structures_hurt_bytes"] == 0
    text = lineup.read_text()
    lineup.write_text("\n".join(x for x in text.splitlines() if not x.startswith("images")) + "\n")
    size = images[0].stat().st_size
    hurt = None
    for at in range(65536, size, 65536):  # the first strip without which something is missing from the list
        rest = size - at - 65536
        (tmp_path / "s0.img.map").write_text(f"0x0 ?\n0x0 {at:#x} +\n{at:#x} 0x10000 -\n{at + 65536:#x} {rest:#x} +\n")
        done = fstripe("lineup", "files", lineup, "--all", "--json")
        if done.status == 3 and len(done.json["files"]) < len(whole["files"]):
            hurt = done.json
            break
    assert hurt is not None and hurt["structures_hurt_bytes"] > 0
    assert "files and folders may be missing here" in fstripe("lineup", "files", lineup, "--all").out


def test_a_sample_of_files_that_prove_themselves(fstripe, solved):
    done = fstripe("lineup", "files", solved, "--sample", "4", "--json")
    assert done.status == 0 and done.json["whole"] == done.json["opened"] == 4
    # a member that is not theirs in the place of one: what stands on it is broken
    image = solved.with_name("m1.img")
    size = image.stat().st_size
    lines = solved.read_text().splitlines()
    solved.write_text("\n".join(x for x in lines if not x.startswith(("images", "seals", "map"))) + "\n")
    spans = next(x for x in lines if x.startswith("spans"))
    missing = next(w for w in spans.split('"') if w.endswith("m3.img"))
    solved.write_text(solved.read_text().replace(missing, ""))  # nothing is left to compute it from
    data = bytearray(image.read_bytes())
    for at in range(65536 * 3, size, 4096):
        if any(data[at : at + 4096]):
            data[at + 100 : at + 900] = bytes(800)
    image.write_bytes(data)
    wrong = fstripe("lineup", "files", solved, "--sample", "30", "--json")
    assert wrong.status == 3 and any(f["proof"] == "broken" for f in wrong.json["files"])


def test_nothing_that_is_there_is_replaced(fstripe, solved, tmp_path):
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "ebb-5.txt").write_text("mine")
    done = fstripe("lineup", "copy", solved, "ebb-5.txt", tmp_path / "out")
    assert done.status == 3 and "it exists already" in done.out
    assert (tmp_path / "out" / "ebb-5.txt").read_text() == "mine"
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == ["ebb-5.txt"]


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("nothere",), 1, "there is no nothere in it"),
        (("../etc",), 2, "leads out of the file system"),
        ((".", "--partition", "3"), 1, "there is no partition 3"),
    ],
)
def test_what_is_not_there_is_one_line(fstripe, solved, words, status, said):
    told = fstripe("lineup", "files", solved, *words)
    assert told.status == status and said in told.err and len(told.err.strip().splitlines()) == 1


def test_a_file_system_that_is_not_read_is_named(fstripe, solved, tmp_path, volumes, monkeypatch):
    images = [tmp_path / f"x{n}.img" for n in range(4)]
    cut(volumes / "log.img", SPEC, images)
    solution = fstripe("lineup", "solve", *images, "--level", "RAID5", "--out", tmp_path / "x.toml")
    assert solution.status in (0, 3)
    told = fstripe("lineup", "files", tmp_path / "x.toml")
    assert told.status == 1 and "holds data: that is not read here: ext, XFS, btrfs, NTFS, FAT" in told.err

    load = importlib.import_module

    def gone(name, *more):
        if name == "pytsk3":
            raise ImportError(name)
        return load(name, *more)

    monkeypatch.setattr(library_files.importlib, "import_module", gone)
    told = fstripe("lineup", "files", solved)
    assert told.status == 1 and "pip install 'faithful-stripe[files]'" in told.err


def test_two_lineups_compared(fstripe, solved, tmp_path):
    same = fstripe("lineup", "compare", solved, solved, "--json")
    assert same.status == 0 and same.json["same"]
    other = tmp_path / "other.toml"
    text = solved.read_text()
    other.write_text(text.replace('m0.img", ', "?").replace("m1.img", "m0.img").replace("?", 'm1.img", '))
    spans = next(x for x in other.read_text().splitlines() if x.startswith("spans"))
    assert spans.index("m1.img") < spans.index("m0.img")
    told = fstripe("lineup", "compare", solved, other, "--json")
    assert told.status == 3
    assert {d["what"] for d in told.json["differences"]} == {"position 0", "position 1"}
    # of four rows, three hold data on each of the two: half of the volume's strips stand elsewhere
    assert told.json["differ_bytes"] == told.json["compared_bytes"] // 2
    assert told.json["standing"][0] > told.json["standing"][1]
    text = fstripe("lineup", "compare", solved, other)
    assert "More speaks for found.toml" in text.out


def test_the_record_of_a_recovery_says_what_was_done_and_what_was_not(fstripe, solved, tmp_path):
    handed = fstripe("lineup", "extract", solved, tmp_path / "volume.img")
    page, text = tmp_path / "recovery.html", tmp_path / "recovery.md"
    done = fstripe(
        "lineup", "report", solved, page, text, "--result", tmp_path / "volume.img", "--hash-images", "--technician",
        "I. <Maddery>",
    )  # fmt: skip
    assert done.status == handed.status  # as sure as the lineup is
    told = text.read_text()
    for image in sorted(tmp_path.glob("m?.img")):
        assert f"| {image.name} | member | {image.stat().st_size} | {blake3(image.read_bytes()).hexdigest()} |" in told
    assert blake3((tmp_path / "volume.img").read_bytes()).hexdigest() in told
    assert (
        "Nothing was left out." in told and "proved whole" in told and "structures that state their own address" in told
    )
    html = page.read_text()
    assert "I. &lt;Maddery&gt;" in html and html.count("data:image/png;base64,") == 2
    less = fstripe("lineup", "report", solved, "--sample", "0", "--json").json
    assert less["not_done"] == ["hashes", "result", "sample"]
    assert less["files"]["damaged"] == [] and less["result"] is None


def test_the_record_says_how_many_answers_like_an_unproven_one_were_right(fstripe, solved, tmp_path):
    doubtful = tmp_path / "doubtful.toml"
    text = solved.read_text()
    (verdict,) = {line for line in text.splitlines() if line.startswith("verdicts = ")}
    text = text.replace(verdict, verdict.replace("certain", "probable", 1))
    doubtful.write_text(re.sub(r"chance = [0-9.]+", "chance = 0.914", text))
    assert fstripe("lineup", "report", doubtful, tmp_path / "a.md", tmp_path / "a.html", "--sample", "0").status == 3
    for page in ("a.md", "a.html"):
        assert "Of answers that stand on as much, 91 of 100 were right when measured." in (tmp_path / page).read_text()


def test_a_record_never_replaces_one(fstripe, solved, tmp_path):
    (tmp_path / "a.html").write_text("mine")
    assert fstripe("lineup", "report", solved, tmp_path / "a.html").status == 1
    assert (tmp_path / "a.html").read_text() == "mine"
    assert fstripe("lineup", "report", solved).status == 2
    assert fstripe("lineup", "report", solved, tmp_path / "a.pdf").status == 2


@pytest.mark.parametrize("content", ["ntfs", "fat16"])
def test_of_other_file_systems_a_persons_files_are_copied_and_no_others(fstripe, tmp_path, volumes, content):
    images = [tmp_path / f"m{n}.img" for n in range(4)]
    cut(volumes / f"{content}.img", SPEC, images)
    fstripe("lineup", "solve", *images, "--out", tmp_path / "found.toml")
    done = fstripe("lineup", "copy", tmp_path / "found.toml", ".", tmp_path / "out", "--json")
    assert done.status == 0 and len(done.json["files"]) >= 5
    assert all(not one["trouble"] and not one["path"].startswith("$") for one in done.json["files"])
