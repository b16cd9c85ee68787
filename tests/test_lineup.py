"""The solver: piles cut by an independent slicer, solved, proved, and honest where they cannot be."""

import json
import random
import tomllib

import numpy as np
import pytest

from faithful_stripe.core.lineup.document.alternative import Alike, Alternative
from faithful_stripe.core.lineup.document.lineup_document import LineupError, read_document
from faithful_stripe.core.lineup.document.told_facts import Remark
from faithful_stripe.core.lineup.evidence.field_algebra import TIMES, sketch
from faithful_stripe.core.lineup.evidence.parity_groups import memberships
from faithful_stripe.core.lineup.evidence.sampled_places import places_of, survey
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.solving.solve import solve
from faithful_stripe.core.lineup.structures.partition_starts import partition_starts
from faithful_stripe.core.source import MemorySource, Unreadable, read
from faithful_stripe.media.image import ImageFile

from .cutting import one_in
from .test_arrays import DRAWN


def cut(image, drawing: str, strip: int, start: int = 0, tail: int = 8 * 4096, lead: int = 0) -> list[MemorySource]:
    """Cut a volume by its drawing (rows of one period), cell by cell; shares nothing with core/arrays.

    start  junk bytes before the data on every member; lead: bytes in the volume before the image
    """
    rows = [row.split() for row in drawing.split("/")]
    if drawing.count("P") > len(rows[0]):
        rows = rows[: len(rows[0])]  # the drawings show a row more than the period
    per = len({c for row in rows for c in row if c != "P"})
    where = {int(c): (r, m) for r, row in enumerate(rows) for m, c in enumerate(row) if c != "P"}
    size = image.size + lead
    total = -(-size // (per * strip)) * len(rows) * strip
    members = [MemorySource(start + total + tail, f"m{m}") for m in range(len(rows[0]))]
    for a, b in image.data_ranges():
        at = a
        while at < b:
            number, inner = divmod(at + lead, strip)
            count = min(strip - inner, b - at)
            row, member = where[number % per]
            place = start + (number // per * len(rows) + row) * strip + inner
            data = read(image, at, count)
            for r, line in enumerate(rows):  # every copy, also those in another row
                for m in range(len(line)):
                    if line[m] == rows[row][member]:
                        members[m].write(place + (r - row) * strip, data)
            for m in range(len(rows[0])):
                if rows[row][m] == "P":
                    old = np.frombuffer(read(members[m], place, count), np.uint8)
                    members[m].write(place, (old ^ np.frombuffer(data, np.uint8)).tobytes())
            at += count
    rng = random.Random(start)
    for member in members:
        member.write(member.size - tail, rng.randbytes(1000))  # a controller's metadata: its own on each member,
        member.write(member.size - tail + 4096, b"the same on all" * 200)  # and some that all of them share
        if start:
            member.write(0, rng.randbytes(start))
    return members


def drawn(level, rotation=None, data=None) -> str:
    rows = [row.strip() for row in DRAWN[level, rotation, data, None].split("/")]
    return " / ".join(rows[:4] if level == "RAID5" else rows[:1])


def pile_of(members, seed: int, strangers: int = 1) -> Pile:
    """The members shuffled under names that look ordered and lie, strangers among them."""
    rng = random.Random(seed)
    everyone = list(members)
    for i in range(strangers):
        stranger = MemorySource(max(m.size for m in members), f"stranger {i}")
        stranger.write(0, rng.randbytes(300_000))
        everyone.append(stranger)
    rng.shuffle(everyone)
    return Pile([f"disk{i}.img" for i in range(len(everyone))], everyone)


def truth(pile: Pile, members) -> list[str]:
    return [pile.names[next(i for i, s in enumerate(pile.sources) if s is m)] for m in members]


@pytest.fixture(scope="module")
def image(observatory):
    with ImageFile(observatory) as source:
        yield source


LAYOUTS = [("parity-0", "restart"), ("parity-0", "continuation"), ("parity-N", "restart"), ("parity-N", "continuation")]


@pytest.mark.parametrize(("rotation", "data"), one_in(3, LAYOUTS))
@pytest.mark.parametrize("strip", [4096, 65536])
def test_raid5_is_solved_and_proved(image, rotation, data, strip):
    members = cut(image, drawn("RAID5", rotation, data), strip)
    pile = pile_of(members, seed=strip)
    found = solve(pile)
    (array,) = found.arrays
    layout = array.geometry.layout
    assert (layout.level, array.geometry.strip_bytes, layout.rotation, layout.data) == ("RAID5", strip, rotation, data)
    assert list(array.members) == truth(pile, members)
    assert array.verdict == "certain" and array.best > array.next + 12
    assert found.unused == tuple(n for n in pile.names if n not in array.members)


def test_data_that_start_late_and_a_partition_inside(image):
    disk = MemorySource(image.size + (1 << 20))
    for a, b in image.data_ranges():
        disk.write(a + (1 << 20), read(image, a, b - a))
    disk.write(446, b"\0\0\0\0\x83\0\0\0" + (2048).to_bytes(4, "little") + (image.size // 512).to_bytes(4, "little"))
    disk.write(510, b"\x55\xaa")
    members = cut(disk, drawn("RAID5", "parity-N", "continuation"), 16384, start=3 * 4096)
    pile = pile_of(members, seed=5, strangers=0)
    (array,) = solve(pile).arrays
    assert list(array.members) == truth(pile, members)
    assert array.geometry.start_bytes == (3 * 4096,) * 4 and array.geometry.strip_bytes == 16384


@pytest.mark.long
def test_mirrors_are_found_and_said_to_be_interchangeable(image):
    members = cut(image, "0 0 0", 65536)
    pile = pile_of(members, seed=3)
    (array,) = solve(pile).arrays
    assert array.geometry.layout.level == "RAID1" and set(array.members) == set(truth(pile, members))
    assert array.verdict == "certain" and array.alternatives == (Alternative(Alike.ANY_ORDER),)


@pytest.mark.parametrize(
    "level", one_in(3, [("RAID1E", None, "adjacent"), ("RAID10", None, None), ("RAID4", "fixed-N", None)], single=True)
)
def test_mirrored_and_fixed_levels_are_solved(image, level):
    rows = DRAWN[(*level, None)].split("/")
    members = cut(image, " / ".join(r.strip() for r in rows[: 2 if level[0] == "RAID1E" else 1]), 65536)
    pile = pile_of(members, seed=11)
    (array,) = solve(pile).arrays
    assert array.verdict == "certain" and array.geometry.layout.level == level[0]
    wanted = truth(pile, members)
    same = {frozenset(wanted[i : i + 2]) for i in range(0, len(wanted), 2)} if level[0] == "RAID10" else wanted
    found = array.members
    assert same == (
        {frozenset(found[i : i + 2]) for i in range(0, len(found), 2)} if level[0] == "RAID10" else list(found)
    )


def test_a_missing_member_is_left_out_of_the_right_place(image):
    members = cut(image, drawn("RAID5", "parity-N", "continuation"), 65536)
    pile = pile_of(members[:2] + members[3:], seed=9, strangers=0)
    (array,) = solve(pile).arrays
    wanted = truth(pile, members[:2] + members[3:])
    assert array.members == (wanted[0], wanted[1], None, wanted[2])


def test_raid0_is_never_certain_and_wrong(image):
    members = cut(image, "0 1 2", 65536)
    pile = pile_of(members, seed=1)
    (array,) = solve(pile).arrays
    assert list(array.members) == truth(pile, members) and array.geometry.layout.level == "RAID0"


def test_a_stale_member_is_named_and_left_out(image):
    members = cut(image, drawn("RAID5", "parity-N", "continuation"), 65536)
    for offset in range(0, 1 << 20, 65536):  # the volume was written on while this one was away
        members[1].write(offset, random.Random(offset).randbytes(4096))
    pile = pile_of(members, seed=4, strangers=0)
    (array,) = solve(pile).arrays
    wanted = truth(pile, members)
    assert array.stale == (wanted[1],) and array.members == (wanted[0], None, *wanted[2:])


def test_random_content_gives_membership_and_no_order():
    volume = MemorySource(3 << 20)
    volume.write(0, random.Random(2).randbytes(3 << 20))
    members = cut(volume, drawn("RAID5", "parity-N", "continuation"), 16384)
    pile = pile_of(members, seed=2)
    (array,) = solve(pile).arrays
    assert set(array.members) == set(truth(pile, members)) and array.verdict == "undecided"
    assert array.alternatives == (Alternative(Alike.ANY_LAYOUT),) and array.settle


def test_blank_and_strange_images_are_no_array():
    blank = [MemorySource(1 << 20) for _ in range(3)]
    strange = [MemorySource(1 << 20) for _ in range(3)]
    for i, source in enumerate(strange):
        source.write(0, random.Random(i).randbytes(200_000))
    found = solve(Pile([f"{i}" for i in range(6)], blank + strange))
    assert found.arrays == () and len(found.unused) == 6


class Scratched(MemorySource):
    """An image with unreadable blocks."""

    bad: tuple[int, ...] = ()

    def read_into(self, offset, buffer):
        length = memoryview(buffer).nbytes
        if any(offset < b + 512 and b < offset + length for b in self.bad):
            raise Unreadable(source=self, offset=offset, length=length)
        super().read_into(offset, buffer)


def test_unreadable_sectors_are_evidence_lost_and_no_crash(image):
    members = cut(image, drawn("RAID5", "parity-N", "continuation"), 65536)
    scratched = Scratched(members[0].size, "scratched")
    for a, b in members[0].data_ranges():
        scratched.write(a, read(members[0], a, b - a))
    scratched.bad = tuple(a for a, _b in members[0].data_ranges())[2:4]
    members[0] = scratched
    pile = pile_of(members, seed=8)
    found = solve(pile)
    assert list(found.arrays[0].members) == truth(pile, members) and found.notes[0].what is Remark.UNREADABLE


def test_the_sketch_keeps_sums():
    rng = np.random.default_rng(1)
    a, b = rng.integers(0, 256, (2, 5, 4096), np.uint8)
    assert (sketch(a) ^ sketch(b) == sketch(a ^ b)).all()
    assert (TIMES[29][sketch(a)] == sketch(TIMES[29][a])).all()  # and the relations of Q
    single = np.zeros((4096, 4096), np.uint8)
    np.fill_diagonal(single, 1)
    assert len({row.tobytes() for row in sketch(single)}) == 4096  # every byte is told apart by its place


def test_two_groups_in_one_pile_stay_apart():
    volumes = [MemorySource(2 << 20) for _ in range(2)]
    for i, volume in enumerate(volumes):
        volume.write(0, random.Random(i).randbytes(2 << 20))
    groups = [cut(v, drawn("RAID5", "parity-N", "continuation"), 16384) for v in volumes]
    pile = pile_of(groups[0] + groups[1], seed=6, strangers=2)
    found = {frozenset(pile.names[i] for i in m.images) for m in memberships(places_of(survey(pile)))}
    assert found == {frozenset(truth(pile, g)) for g in groups}


def test_partition_tables_are_read_and_junk_is_not():
    disk = MemorySource(1 << 20)
    disk.write(446 + 4, b"\x83\0\0\0" + (2048).to_bytes(4, "little") + (4096).to_bytes(4, "little"))
    disk.write(510, b"\x55\xaa")
    junk = MemorySource(1 << 20)
    junk.write(0, random.Random(1).randbytes(1 << 19))
    assert partition_starts(Pile(["disk", "junk"], [disk, junk])) == {1 << 20}


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"format": "other"}, "format: expected"),
        ({"arrays": []}, "expected at least one"),
        ({"arrays": [{"spans": [["a"], ["b", "c"]]}]}, "every span needs as many images"),
        ({"arrays": [{"spans": [["a", "a"]]}]}, "a is there twice"),
        ({"arrays": [{"spans": [["a"], []]}]}, "spans: expected one list"),
        ({"arrays": [{"spans": [["a", "b"]], "q": 3}]}, "q: expected place and exponent"),
        ({"arrays": [{"spans": [["a", "b", "c"]], "level": "RAID5"}]}, "strip_bytes: expected int, found None"),
        ({"arrays": [dict.fromkeys(("strip_bytes", "member_bytes", "start_bytes"), 4096) | {"spans": [["a"]],
          "level": "RAID9"}]}, "'RAID9' is not a level"),
        ({"arrays": [{"spans": [["a"]], "level": "RAID0", "strip_bytes": 4096, "member_bytes": "x"}]},
         "member_bytes: expected bytes"),
    ],
)  # fmt: skip
def test_a_wrong_lineup_file_says_where(change, words):
    with pytest.raises(LineupError, match=words):
        read_document({"format": "faithful-stripe/lineup/1"} | change, "found.toml")


def test_solve_and_extract_as_commands(fstripe, tmp_path, image):
    members = cut(image, drawn("RAID5", "parity-0", "restart"), 65536)
    for i, member in enumerate(members):
        with open(tmp_path / f"{'badc'[i]}.img", "wb") as file:
            file.truncate(member.size)
            for a, b in member.data_ranges():
                file.seek(a)
                file.write(read(member, a, b - a))
    before = {p.name: p.stat().st_mtime_ns for p in tmp_path.glob("*.img")}
    solved = fstripe("lineup", "solve", "a.img", "b.img", "c.img", "d.img", "--out", "found.toml", "--json")
    assert solved.status == 0 and solved.json["arrays"][0]["spans"] == [["b.img", "a.img", "d.img", "c.img"]]
    document = tomllib.loads((tmp_path / "found.toml").read_text())
    assert document["arrays"][0]["score"] == solved.json["arrays"][0]["score"]
    got = fstripe("lineup", "extract", "found.toml", "out.img", "--range", "0:256MiB", "--json")
    with ImageFile(tmp_path / "out.img") as out:
        assert got.status == 0 and read(out, 0, 9 << 20) == read(image, 0, 9 << 20)
    text = fstripe("lineup", "solve", "a.img", "b.img", "c.img", "d.img")
    assert text.out.count("CERTAIN") == 4 and "Verdict:" not in text.out and text.err == ""
    # one member gone: the lineup still extracts, computed from the others
    lineup = (tmp_path / "found.toml").read_text().replace('"a.img"', '""')
    (tmp_path / "less.toml").write_text(lineup)
    less = fstripe("lineup", "extract", "less.toml", "less.img", "--range", "0:256MiB", "--json")
    assert less.json["sha256"] == got.json["sha256"]
    for words, status, said in (
        (("extract", "found.toml", "out.img"), 1, "exists already"),
        (("extract", "found.toml", "new.img", "--array", "2"), 1, "there is no array 2"),
        (("extract", "a.img", "new.img"), 1, "a.img"),
        (("extract", "found.toml", "new.img", "--range", "0:90TB"), 2, "not a part of a volume"),
        (("solve", "a.img", "a.img"), 1, "named twice"),
        (("solve", "none.img"), 1, "no such file"),
        (("solve", "."), 1, "neither a file nor a block device"),
        (("solve", "/dev/full"), 1, "neither a file nor a block device"),
        (("solve", "a.img", "--out", "found.toml"), 1, "exists already"),
    ):
        wrong = fstripe("lineup", *words)
        assert wrong.status == status and said in wrong.err and wrong.err.count("\n") == 1, (words, wrong.err)
    assert not (tmp_path / "new.img").exists()
    assert {n: (tmp_path / n).stat().st_mtime_ns for n in before} == before
    assert json.loads(fstripe("lineup", "extract", "nope.toml", "x.img", "--json").out)["error"]["exit_status"] == 1
