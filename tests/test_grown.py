"""Arrays that were growing when that stopped: both layouts found, said, and read as one volume."""

import random
import shutil
import tomllib
from dataclasses import replace

import numpy as np
import pytest

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.alternative import Alike, Alternative
from faithful_stripe.core.lineup.document.former import Former, without
from faithful_stripe.core.lineup.document.four_verdicts import Sure, placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup, LineupError, Solution, read_document
from faithful_stripe.core.lineup.document.told_facts import Settle, Settles
from faithful_stripe.core.lineup.full_pass import soundness
from faithful_stripe.core.lineup.full_pass.patches import patches
from faithful_stripe.core.lineup.reading.samples import Pile, silent
from faithful_stripe.core.lineup.solving.grown import _as_proven, _Meeting, begun_in_front, with_former
from faithful_stripe.core.ranges import total
from faithful_stripe.core.source import MemorySource, read
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.checked import CheckedVolume
from faithful_stripe.work.lineup import save, solve_images

from .cases import _grown
from .piles import ext, folder_of_files
from .slicer import Spec, cut

STRIP, ROWS = 65536, 240
SHAPES = {
    "RAID0": (3, 4, {}),
    "RAID10": (4, 6, {"copies": 2}),
    "RAID5": (4, 5, {"rotation": "parity-N", "data": "continuation"}),
    "RAID6": (5, 7, {"rotation": "parity-0", "data": "restart", "q_exponent": "member-position"}),
}

MORE = Settles(Settle.MORE_DATA)


def growing(level, border, empty=()):
    """(geometry, members, content): rows before the border are written in the layout with more members."""
    before, after, more = SHAPES[level]
    new, old = (geometry(level, n, STRIP, member_bytes=STRIP * ROWS, **more) for n in (after, before))
    content = np.random.default_rng(border).integers(0, 256, old.volume_bytes, np.uint8)
    for a, b in empty:
        content[a:b] = 0
    members = [MemorySource(STRIP * ROWS, f"m{n}") for n in range(after)]
    Array(old, members[:before]).write(0, content.tobytes())
    copied = new.pattern.strips_within(border) * STRIP
    Array(new, members).write(0, content[:copied].tobytes())
    return new, members, content


def named(made):
    return Lineup(made, tuple(f"m{n}" for n in range(made.members)), placed("certain"), 9.0, 0.0)


def looked_at(members, lineup, unused=()):
    pile = Pile([str(m) for m in members], members)
    return with_former(pile, Solution((lineup,), tuple(unused)), silent)


@pytest.mark.parametrize("level", SHAPES)
@pytest.mark.parametrize("border", [31, 100, 131])
def test_the_border_is_found_and_the_volume_read_in_both_layouts(level, border):
    new, members, content = growing(level, border)
    (array,) = looked_at(members, named(new)).arrays
    assert array.former.row == border and array.volume_bytes == content.size
    made, _read = soundness.tested(array, members)
    assert made.rowmap.open_bytes == 0 and (not new.redundant or made.verdicts.soundness.sure is Sure.CERTAIN)
    assert read(made.opened(members), 0, content.size) == content.tobytes()
    served = CheckedVolume(made, members, lambda ranges: pytest.fail(str(ranges)), "volume")
    at = array.former.border(new)
    assert read(served, at - 3000, 9000) == content[at - 3000 : at + 6000].tobytes()


def test_one_that_was_found_as_it_was_takes_the_member_that_was_added():
    new, members, content = growing("RAID5", 40)
    found = looked_at(members, named(without(new, range(4))), unused=("m4",))
    (array,) = found.arrays
    assert array.members == ("m0", "m1", "m2", "m3", "m4") and array.former.row == 40 and not found.unused
    assert read(array.opened(members), 0, content.size) == content.tobytes()


@pytest.mark.parametrize(
    "empty", [(20 << 20, 26 << 20), (28 << 20, 31 << 20), (29 << 20, 45 << 20), (9 << 20, 29 << 20)]
)
def test_where_the_volume_is_empty_near_the_border_the_same_is_read(empty):
    new, members, content = growing("RAID5", 120, empty=[empty])
    (array,) = looked_at(members, named(new)).arrays
    assert array.former is not None and read(array.opened(members), 0, content.size) == content.tobytes()


@pytest.mark.parametrize("what", ["noise", "one block everywhere", "one strip, then noise", "records that repeat"])
def test_an_array_that_did_not_grow_has_one_layout(what):
    count, _after, more = SHAPES["RAID5"]
    made = geometry("RAID5", count, STRIP, member_bytes=STRIP * ROWS, **more)
    members = [MemorySource(STRIP * ROWS, f"m{n}") for n in range(count)]
    size = made.volume_bytes
    rng = np.random.default_rng(3)
    content = {
        "noise": rng.integers(0, 256, size, np.uint8),
        "one block everywhere": np.resize(rng.integers(0, 256, 4096, np.uint8), size),
        "one strip, then noise": np.concatenate(
            [
                np.resize(rng.integers(0, 256, STRIP, np.uint8), size // 2 // STRIP * STRIP),
                rng.integers(0, 256, size - size // 2 // STRIP * STRIP, np.uint8),
            ]
        ),
        "records that repeat": np.resize(rng.integers(0, 256, 8 * STRIP, np.uint8), size),
    }[what]
    Array(made, members).write(0, content.tobytes())
    assert looked_at(members, named(made)).arrays[0].former is None


@pytest.mark.parametrize(("every", "order"), [(0, "certain"), (12, "undecided"), (3, None)])
def test_a_volume_that_was_written_to_while_it_grew_proves_less(every, order):
    """Of some blocks before the border there is another one in the former layout: the border is told, the order not
    proven by it; of many, nothing is told."""
    new, members, _content = growing("RAID5", 100)
    volume, blocks = Array(new, members), np.random.default_rng(8)
    for at in range(0, new.pattern.strips_within(100) * STRIP, 4096 * every) if every else ():
        volume.write(at, blocks.bytes(4096))
    unknown = Lineup(
        new,
        named(new).members,
        placed("undecided"),
        9.0,
        0.0,
        settle=MORE,
        alternatives=(Alternative(Alike.ANY_ORDER),),
    )
    (array,) = looked_at(members, unknown).arrays
    assert (array.former.row if array.former else None) == (100 if order else None)
    if order == "certain":
        assert array.verdict != "undecided" and array.verdicts.placing == "certain"
        assert not array.settle and not array.alternatives
    else:
        assert array.verdicts.placing == "undecided" and array.settle


def test_what_is_open_in_the_first_row_of_the_former_layout_is_only_what_is_read_there():
    new, members, _content = growing("RAID5", 31)
    (array,) = looked_at(members, named(new)).arrays
    first = array.former.border(new) // STRIP  # a row of three strips, one of which is read in the new layout
    row = first // 3
    member, at = (int(x) for x in array.former.geometry.to_member(row * 3 * STRIP))
    assert row * 3 < first and at == row * STRIP
    members[member].write(at, bytes(range(256)) * 16)
    made, _read = soundness.tested(array, members)
    assert made.rowmap.open == tuple((n * STRIP, n * STRIP + 4096) for n in range(first, row * 3 + 3))


def test_what_a_member_lacks_is_computed_in_its_own_zone():
    """Holes on both sides of the border, and then two members missing."""
    new, members, content = growing("RAID6", 100)
    (array,) = looked_at(members, named(new)).arrays
    for row in (20, 200):
        members[1].write(row * STRIP, bytes(STRIP))
    parts = []
    made, _read = soundness.tested(
        array, members, sink=lambda some: parts.append((some.at, b"".join(p.tobytes() for p in some.pieces)))
    )
    assert {f.member for f in made.rowmap.faults} == {1} and total(made.rowmap.of(1)) == 2 * STRIP
    got = bytearray(content.size)
    for at, some in parts:
        got[at : at + len(some)] = some
    for patch in patches(made, members, made.rowmap, (0, content.size)):
        got[patch.at : patch.end] = patch.data
    assert got == content.tobytes() and read(made.opened(members), 0, content.size) == content.tobytes()


def test_members_that_are_missing_are_computed_in_both_layouts():
    new, members, content = growing("RAID6", 100)
    (array,) = looked_at(members, named(new)).arrays
    present = [None if n in (0, 3) else m for n, m in enumerate(members)]
    assert read(array.opened(present), 0, content.size) == content.tobytes()
    parts = []
    soundness.tested(
        array, present, sink=lambda some: parts.append((some.at, b"".join(p.tobytes() for p in some.pieces)))
    )
    assert b"".join(some for _at, some in sorted(parts)) == content.tobytes()


def test_a_lineup_with_both_layouts_is_kept_and_a_wrong_one_refused(tmp_path):
    new, members, _content = growing("RAID5", 60)
    (array,) = looked_at(members, named(new)).arrays
    save(Solution((array,), ()), tmp_path / "found.toml")
    document = tomllib.loads((tmp_path / "found.toml").read_text())
    document["arrays"][0] = {k: v for k, v in document["arrays"][0].items() if v != ""}
    assert read_document(document, "found.toml").arrays[0].former == array.former
    for key, value in (("positions", [0, 1, 1, 3]), ("positions", [0, 9]), ("first_row", 0), ("first_row", 99999)):
        wrong = {**document["arrays"][0], "former": {**array.former.as_document(), key: value}}
        with pytest.raises(LineupError, match="former"):
            read_document({**document, "arrays": [wrong]}, "found.toml")


@pytest.mark.long
@pytest.mark.skipif(not shutil.which("mke2fs"), reason="needs mke2fs (Debian e2fsprogs), to fill a file system")
def test_as_commands(fstripe, tmp_path):
    """A growth from four to five: solved, drawn, compared, proven, handed over, and not adopted."""
    spec = Spec("RAID5", 5, 16384, "parity-N", "continuation")
    volume, rng = tmp_path / "volume", random.Random(7)
    ext(volume, 48 << 20, folder_of_files(rng, tmp_path / "files", 36 << 20), "ext4")
    names = [f"{name}.img" for name in "deacb"]
    images = [fstripe.folder / name for name in names]
    cut(volume, spec, images)

    class Early:
        @staticmethod
        def choice(_shares):
            return 0.4

    _grown(volume, spec, images, Early())
    solved = fstripe("lineup", "solve", *names, "--out", "found.toml")
    assert "growing from 4 to 5 members" in solved.out and "without b.img" in solved.out and solved.status == 0
    extracted = fstripe("lineup", "extract", "found.toml", "got.img")
    assert extracted.status == 0
    with ImageFile(fstripe.folder / "got.img") as got, ImageFile(volume) as true:
        assert read(got, 0, true.size) == read(true, 0, true.size)
    row = tomllib.loads((fstripe.folder / "found.toml").read_text())["arrays"][0]["former"]["first_row"]
    drawn = fstripe("lineup", "draw", "found.toml", "--from", row - 1, "--rows", 2).out.splitlines()
    before, behind = (next(line.split() for line in drawn if line.split()[:1] == [str(r)]) for r in (row - 1, row))
    assert "-" not in before and behind[-1] == "-" and any(cell.startswith("(") for cell in behind)
    text = (fstripe.folder / "found.toml").read_text()
    (fstripe.folder / "one.toml").write_text("\n".join(x for x in text.splitlines() if not x.startswith("former")))
    compared = fstripe("lineup", "compare", "found.toml", "one.toml", "--json").json
    assert compared["differ"][0][0] == Former(without(spec_of(spec, images), range(4)), (0, 1, 2, 3), row).border(
        spec_of(spec, images)
    )
    proven = fstripe("lineup", "prove", "one.toml")
    assert proven.status == 3 and "growth" in proven.out
    assert fstripe("lineup", "prove", "found.toml").status == 0
    refused = fstripe("lineup", "adopt", "found.toml", "drives", "--name", "tides")
    assert refused.status == 1 and "half grown" in refused.err and not (fstripe.folder / "drives").exists()


def spec_of(spec, images):
    return geometry(
        "RAID5", 5, spec.strip, member_bytes=images[0].stat().st_size, rotation=spec.rotation, data=spec.data
    )


@pytest.mark.parametrize("before", [0, 1 << 20])
def test_a_stranger_with_a_little_at_its_front_is_no_member_that_was_added(volumes, tmp_path, before):
    """All of the array's structures stand right without it, and none only with it."""
    names, volume = [tmp_path / f"{n}.img" for n in "acbd"], tmp_path / "volume"
    volume.write_bytes(bytes(before) + (volumes / "ntfs.img").read_bytes())
    cut(volume, Spec("RAID5", 4, 16384, "parity-N", "restart"), names)
    stranger = tmp_path / "stranger.img"
    stranger.write_bytes(np.random.default_rng(2).bytes(4 * 16384))
    with stranger.open("r+b") as file:
        file.truncate(names[0].stat().st_size)
    (array,) = solve_images([*names, stranger]).arrays
    assert array.former is None and str(stranger) not in array.members
    assert array.members == tuple(map(str, names)) and array.verdicts.placing != "undecided"


@pytest.mark.parametrize(("level", "sure"), [("RAID0", Sure.UNDECIDED), ("RAID5", Sure.PROBABLE)])
def test_data_between_that_nothing_tells_of_leave_the_order_open(level, sure):
    new, _members, _content = growing(level, 60)
    doubt = _as_proven(named(new), _Meeting(60, 9, "", untold=True))
    assert doubt.verdicts.order.sure is sure and named(new).verdicts.order.sure is Sure.CERTAIN


@pytest.mark.parametrize(
    ("gone", "proves", "sure"), [(1, False, Sure.PROBABLE), (1, True, Sure.CERTAIN), (0, False, Sure.CERTAIN)]
)
def test_a_growth_with_a_member_missing_is_no_proof_of_who_was_added(gone, proves, sure):
    """RAID 5 of three that lacks one, beside a copy of a part of the volume: "grown to four", and it was certain."""
    whole = named(growing("RAID5", 60)[0])
    array = replace(whole, members=(*whole.members[:1], *(None,) * gone, *whole.members[1 + gone :]))
    assert _as_proven(array, _Meeting(60, 9, "", proves=proves)).verdicts.order.sure is sure


@pytest.mark.parametrize("large", [STRIP, 8 * STRIP])
def test_a_copy_of_a_part_of_the_volume_is_no_member_that_was_added(large):
    """Where its strips come past those of the wider layout, the two meet on it; on no member that was there before."""
    made = geometry("RAID5", 3, large, member_bytes=large * 40, rotation="parity-N", data="restart")
    members = [MemorySource(large * 40, f"m{n}") for n in range(3)]
    content = np.random.default_rng(4).integers(0, 256, made.volume_bytes, np.uint8).tobytes()
    Array(made, members).write(0, content)
    copy = MemorySource(large * 40, "copy")
    copy.write(0, content[8 * large : 48 * large])
    array = replace(named(made), members=("m0", None, "m2"))
    found = looked_at([members[0], members[2], copy], array, unused=("copy",))
    assert found.arrays[0].former is None and found.unused == ("copy",)


def test_a_front_of_a_level_that_does_not_grow_is_no_growth():
    """An array of spans, sized anew as one without, could not be said at all, and ended the search."""
    _new, members, _content = growing("RAID5", 60)
    pile = Pile([str(m) for m in members], members)
    asked = []

    def search(part):
        asked.append(part.sources[0].size)
        spans = geometry("RAID50", 9, STRIP, member_bytes=STRIP * 60, spans=3)
        return Solution((Lineup(spans, (*part.names, *[None] * 4), placed("certain"), 9.0, 0.0),), ())

    assert begun_in_front(pile, search, silent) is None and asked == [60 * STRIP]
