"""Which images belong together where volumes are nearly empty: parity is then a copy of the only data there are."""

import random
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from benchmarks.accuracy import small_volumes

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.four_verdicts import Sure
from faithful_stripe.core.lineup.evidence.outdated_copies import without_outdated
from faithful_stripe.core.lineup.evidence.sampled_places import survey
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images

from .cases import draw, make
from .cutting import pile, right
from .slicer import Spec, cut

STRIP = 65536

ROWS, PATTERNED = 60, [n for row in range(0, 60, 4) for n in (3 * row, 3 * row + 1)]
"""Rows of the volumes; strips of one that are filled with one word, as maps of what is in use are."""


def members(folder, spec, filled, patterned=()):
    """The members of an array of whose volume few strips hold something: words, none like another, or one alone."""
    rng, volume = np.random.default_rng(1), folder / "volume"
    data = spec.members - spec.spans * (2 if spec.level.startswith("RAID6") else 1)
    with volume.open("wb") as made:
        for number in {*filled, *patterned}:
            made.seek(number * spec.strip)
            word = b"\xff" * spec.strip
            made.write(word if number in patterned else rng.integers(97, 123, spec.strip, np.uint8).tobytes())
        made.truncate(ROWS * data * spec.strip)
    images = [folder / f"drive-{n}.img" for n in range(spec.members)]
    cut(volume, spec, images)
    return images


def grouped(images):
    """(groups as (images, kind, until), outdated) of a pile."""
    with ExitStack() as stack:
        sources = [stack.enter_context(ImageFile(path)) for path in images]
        drives = Pile([str(path) for path in images], sources)
        _places, groups, outdated = without_outdated(drives, survey(drives))
    return sorted((g.images, g.kind, g.until) for g in groups), outdated


SIX = Spec("RAID6", 5, STRIP, "parity-N", "continuation", "after-p", "data-index")


def mostly_first(rows, data, rng):
    """The first strip of every row, and now and then another one."""
    return [row * data for row in range(rows)] + [
        row * data + 1 + int(rng.integers(data - 1)) for row in range(0, rows, 7)
    ]


def test_members_that_hold_the_same_where_rows_are_nearly_empty_are_no_copies_of_one_another(tmp_path):
    images = members(tmp_path, SIX, mostly_first(60, 3, np.random.default_rng(2)))
    assert grouped(images) == ([((0, 1, 2, 3, 4), "two", 0)], {})


@pytest.mark.parametrize("level", ["RAID6", "RAID5"])
@pytest.mark.parametrize("beside", ["nothing", "noise", "an old copy", "nothing but at one place"])
def test_a_member_that_holds_something_at_one_place_is_one(tmp_path, level, beside):
    """The others close everywhere else without it, and were taken for all: orders of nine drives of ten."""
    spec = SIX if level == "RAID6" else Spec("RAID5", 5, STRIP, "parity-N", "continuation")
    volume, path, images = np.zeros((30, STRIP), np.uint8), tmp_path / "volume", [tmp_path / n for n in "abcde"]
    more = {"q_place": spec.q_place, "q_exponent": spec.q_exponent} if level == "RAID6" else {}
    made = geometry(level, 5, STRIP, member_bytes=10 * STRIP, rotation=spec.rotation, data=spec.data, **more)
    rng = np.random.default_rng(3)
    told = [p for p, g in enumerate(made.pattern.index[: made.pattern.rows]) if g[1] >= 0][:2]  # of data on "b"
    for row in told:
        for member in (0, 2, 3, 4):
            if made.pattern.index[row, member] >= 0:
                volume[made.pattern.index[row, member]] = rng.integers(97, 123, STRIP, np.uint8)
    volume[made.pattern.index[told[1], 1], 8192:12288] = rng.integers(97, 123, 4096, np.uint8)
    for member in (0, 2, 3, 4) if level == "RAID6" else (0, 2):  # little else stands where it does
        if (number := made.pattern.index[told[1], member]) >= 0:
            volume[number, 8192:12288] = 0
    volume.tofile(path)
    cut(path, spec, images)
    stranger = np.zeros(images[0].stat().st_size, np.uint8)
    if beside == "noise":
        stranger[:] = rng.integers(0, 256, stranger.size, np.uint8)
    elif beside == "an old copy":
        stranger[:] = np.fromfile(images[0], np.uint8)
        stranger[told[1] * STRIP + 8192 :] = 0
        stranger[told[0] * STRIP + 4096 : told[0] * STRIP + 12288] = ord("t")
    elif beside != "nothing":
        stranger[told[0] * STRIP : told[0] * STRIP + 4096] = rng.integers(97, 123, 4096, np.uint8)
    stranger.tofile(tmp_path / "f")
    groups, _outdated = grouped([*images, tmp_path / "f"])
    assert [g for g, _kind, _until in groups] == [(0, 1, 2, 3, 4)]


@pytest.mark.parametrize("written", ["over what was there", "where nothing was"])
def test_an_old_copy_of_a_member_is_named(tmp_path, written):
    full = list(range(0, 180, 2)) + list(range(1, 180, 4))
    images = members(tmp_path, SIX, full)
    old = tmp_path / "old.img"
    data = bytearray(images[1].read_bytes())
    for at in range(20 * STRIP, 32 * STRIP, STRIP):
        data[at : at + STRIP] = bytes(STRIP) if written == "where nothing was" else b"low water " * 6553 + bytes(6)
    old.write_bytes(data)
    groups, outdated = grouped([*images, old])
    assert outdated == {5: 1} and groups == [((0, 1, 2, 3, 4), "two", 0)]


def test_two_spans_that_close_by_themselves_stay_apart(tmp_path):
    spec = Spec("RAID60", 8, STRIP, "parity-N", "restart", "after-p", "member-position", spans=2)
    images = members(tmp_path, spec, mostly_first(60, 4, np.random.default_rng(3)))
    assert grouped(images) == ([((0, 1, 2, 3), "two", 0), ((4, 5, 6, 7), "two", 0)], {})


def test_a_stranger_that_shares_a_pattern_takes_no_part(tmp_path):
    images = members(tmp_path, SIX, [n for n in range(180) if n % 2 or n // 3 % 4 == 1], PATTERNED)
    stranger = tmp_path / "stranger.img"
    data = np.random.default_rng(4).integers(97, 123, images[0].stat().st_size, dtype=np.uint8)
    for row in range(0, 60, 4):
        data[row * STRIP : (row + 1) * STRIP] = 0xFF
    data[60 * STRIP :] = 0
    data.tofile(stranger)
    groups, _outdated = grouped([*images, stranger])
    assert groups == [((0, 1, 2, 3, 4), "two", 0)]


@pytest.mark.parametrize("how", ["ends", "goes silent"])
def test_a_member_that_ends_early_takes_an_equation_with_it_and_no_other_member(tmp_path, how):
    images = members(tmp_path, SIX, list(range(180)))
    size = images[2].stat().st_size
    with images[2].open("r+b") as image:
        image.truncate(20 * STRIP)
        if how == "goes silent":
            image.truncate(size)
    ((found, kind, until),), outdated = grouped(images)
    assert (found, kind, outdated) == ((0, 1, 2, 3, 4), "two", {})
    assert (until > 0) is (how == "goes silent")


@pytest.mark.parametrize("unwritten", [False, True])
def test_the_pairs_of_a_chain_make_one_group_whatever_lies_beside_them_or_was_never_written(small, tmp_path, unwritten):
    """Of a RAID 1E of three the first pair holds in every other row: two members, and the third with strangers, it was.
    What drives hold where nobody ever wrote is another thing on each."""
    case = pile(tmp_path, small["ext2"], Spec("RAID1E", 3, 32768, None, "adjacent"), strangers=3)
    rng = random.Random(3)
    for name in case.names if unwritten else ():
        with Path(name).open("r+b") as image:
            image.seek(8 << 20)
            image.write(rng.randbytes(4 << 20))
    seats = sorted([str(path) for path in case.images].index(name) for name in case.names)
    ((found, kind, _until),), outdated = grouped(case.images)
    assert (list(found), kind, outdated) == (seats, "chain", {})


@pytest.fixture(scope="module")
def small(tmp_path_factory):
    return small_volumes(tmp_path_factory.mktemp("small"))


@pytest.mark.parametrize(
    "which",
    [
        "691/4",  # RAID 60, nearly empty: one span and three of the other were "one group of seven"
        pytest.param("691/12", marks=pytest.mark.long),  # RAID 6, one image cut short: "one of 16, which lacks one"
        "802/182",  # RAID 6, one image silent from half of it on: without that one, "which lacks one"
        "692/40",  # RAID 6: a member "an outdated copy" of another
        "802/32",  # RAID 60 likewise
        pytest.param("802/192", marks=pytest.mark.long),  # RAID 6 likewise, where the two differ in empty places alone
    ],
)
def test_the_spans_of_random_piles_are_found(small, tmp_path, which):
    rng = random.Random(which)
    case = draw(rng, sorted(name for name in small if name != "foreign"))
    make(case, rng, small[case.content], small["foreign"], tmp_path / "pile")
    names = [str(path) for path in case.images]
    seats = [names.index(name) for name in case.names if name]
    size = case.spec.members // case.spec.spans
    spans = {tuple(sorted(seats[at : at + size])) for at in range(0, len(seats), size)}
    groups, outdated = grouped(case.images)
    assert groups and not outdated
    for images, kind, _until in groups:  # of nearly empty spans, those who hold something
        assert any(set(images) <= set(span) for span in spans) and (kind == "two" or len(images) < size)


@pytest.mark.parametrize(
    ("content", "other"),
    [
        ("ntfs", Spec("RAID5", 5, 65536, "parity-N", "continuation")),  # was "RAID 5 of 10, one missing", undecided
        ("xfs", Spec("RAID5", 4, 32768, "parity-N", "continuation")),  # each row stands in the other's rows, too
        ("ext4-nocsum", Spec("RAID1", 2, 65536)),  # was "RAID 0 of six", undecided
    ],
    ids=lambda value: getattr(value, "level", str(value)),
)
def test_a_volume_that_was_copied_to_another_array_is_found_on_both(small, tmp_path, content, other):
    first = Spec("RAID5", 4, 65536, "parity-N", "continuation")
    specs = {"a": first, "b": other}
    seats = {name: [tmp_path / f"{name}{n}.img" for n in range(spec.members)] for name, spec in specs.items()}
    for name, spec in specs.items():
        cut(small[content], spec, seats[name])
    found = solve_images([path for images in seats.values() for path in images]).arrays
    assert {a.members for a in found} == {tuple(map(str, images)) for images in seats.values()}
    assert all(a.verdicts.order.sure is Sure.CERTAIN for a in found)


def test_where_other_members_hold_something_in_every_row_all_are_one_group(tmp_path):
    """Of twelve, three to seven strips of a row of ten: no set of images is related twice."""
    rng = random.Random(7)
    rows = {row: rng.sample(range(10), rng.randrange(3, 8)) for row in range(0, 60, 6)}
    spec = replace(SIX, members=12, strip=4096)
    images = members(tmp_path, spec, [10 * row + n for row, some in rows.items() for n in some])
    assert grouped(images)[0] == [(tuple(range(12)), "two", 0)]


@pytest.mark.parametrize("spec", [replace(SIX, members=9), replace(SIX, level="RAID60", members=18, spans=2)])
def test_what_counts_up_in_most_rows_hides_no_group(tmp_path, spec):
    """Blocks of a table that counts up are sums of one another, whoever holds them: three rows in four are such."""
    data, rng = spec.members - 2 * spec.spans, np.random.default_rng(3)
    counted = np.arange(ROWS * data * STRIP // 4, dtype="<u4").view(np.uint8).reshape(ROWS, -1)
    for row in range(0, ROWS, 4):
        counted[row] = rng.integers(97, 123, data * STRIP, np.uint8)
    (tmp_path / "volume").write_bytes(counted.tobytes())
    images = [tmp_path / f"drive-{n}.img" for n in range(spec.members)]
    cut(tmp_path / "volume", spec, images)
    k = spec.members // spec.spans
    assert grouped(images)[0] == [(tuple(range(at, at + k)), "two", 0) for at in range(0, spec.members, k)]


def test_members_that_are_alone_in_the_first_rows_are_no_group_that_ends_there(tmp_path):
    """Two of eight are gone, and nothing adds up; but for the first rows, of which two hold one strip each."""
    spec = replace(SIX, members=8)
    images = members(tmp_path, spec, [0, 6 * 8, *range(6 * 12, 6 * ROWS)])
    left = [image for n, image in enumerate(images) if n not in (3, 5)]
    assert grouped(left)[0] == []


def test_a_table_of_codes_that_is_related_to_itself_leaves_a_striped_order_certain(tmp_path, volumes):
    """NTFS keeps one of 128 KiB, whose blocks are sums of one another: at eight of some forty places, side by side."""
    case = pile(tmp_path, volumes / "ntfs.img", Spec("RAID0", 5, 8192))
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and array.verdicts.order.sure is Sure.CERTAIN


WORD = b"NOT READ AT ALL "


@pytest.mark.parametrize("share", [0.8, 0.3])
def test_what_a_copy_has_where_it_could_not_read_says_nothing_of_who_belongs_together(tmp_path, share):
    """Four of five places of a member filled with a word: the others were a stripe without parity, probable and wrong.
    Words that are data, as maps of what is in use are, still tell of their group."""
    spec = Spec("RAID5", 4, STRIP, "parity-N", "continuation")
    images = members(tmp_path, spec, [n for n in range(180) if n % 3 or n % 4], PATTERNED)
    data, rng = np.fromfile(images[2], np.uint8).reshape(-1, STRIP), np.random.default_rng(5)
    lost = rng.random(ROWS) < share
    data[:ROWS][lost] = np.frombuffer(WORD * (STRIP // len(WORD)), np.uint8)
    data.tofile(images[2])
    assert grouped(images) == ([((0, 1, 2, 3), "sum", 0)], {})


def test_a_word_that_stands_in_rows_which_were_written_in_part_is_no_reason_to_leave_them_out(tmp_path):
    """It is related to what others hold elsewhere: where it is not, the row does not match, and that counts."""
    spec = Spec("RAID5", 4, STRIP, "parity-N", "continuation")
    images = members(tmp_path, spec, list(range(180)), PATTERNED)
    data = np.fromfile(images[0], np.uint8).reshape(-1, STRIP)
    for row in range(4, 36, 4):  # an old member: that many maps were written while it was away
        data[row] = np.random.default_rng(row).integers(97, 123, STRIP, np.uint8)
    data.tofile(images[0])
    with ExitStack() as stack:
        sources = [stack.enter_context(ImageFile(path)) for path in images]
        drives = Pile([str(path) for path in images], sources)
        places, (group,), _outdated = without_outdated(drives, survey(drives))
    assert not any(place.unread for place in places)
    assert {at // STRIP for at in group.open} == set(range(4, 36, 4))


@pytest.mark.parametrize("others", [False, True])
def test_where_one_alone_of_all_the_pile_holds_something_it_says_nothing_of_its_group(tmp_path, others):
    """A fifth rebuilt onto a drive that was another's: in most places that alone holds anything, and a stripe of the
    rest was the answer. Where others hold something as well, it is no group for all that is known."""
    spec = Spec("RAID5", 4, STRIP, "parity-N", "continuation")
    images = members(tmp_path, spec, [*range(3 * 6), *range(3 * 54, 3 * ROWS)])
    if others:
        images.append(tmp_path / "stranger.img")
        images[-1].write_bytes(bytes(images[0].stat().st_size))
    for number in {1, len(images) - 1} if others else {1}:
        data = np.fromfile(images[number], np.uint8).reshape(-1, STRIP)
        data[6:54] = np.random.default_rng(number).integers(97, 123, (48, STRIP), np.uint8)
        data.tofile(images[number])
    assert grouped(images)[0] == ([] if others else [((0, 1, 2, 3), "sum", 0)])
