"""Images that an answer left out: seated where they hold what the redundancy says of a missing member, and else not."""

import os
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest

from faithful_stripe.core.arrays.layout import layout
from faithful_stripe.core.lineup.document.four_verdicts import Reason
from faithful_stripe.core.lineup.evidence.field_algebra import Relation
from faithful_stripe.core.lineup.evidence.membership import Membership
from faithful_stripe.core.lineup.evidence.outdated_copies import look_alikes
from faithful_stripe.core.lineup.evidence.sampled_places import Place, Survey
from faithful_stripe.core.lineup.hypotheses.assignment import Hypothesis
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate, candidates
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.verdict.beside_members import parity_beside
from faithful_stripe.core.lineup.verdict.finishing import members_only
from faithful_stripe.core.lineup.verdict.unseated import seated, unseated
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images

from .cutting import pile, right
from .slicer import Spec

SPECS = [
    Spec("RAID5", 4, 16384, "parity-N", "restart", start=65536),
    Spec("RAID4", 3, 8192, "fixed-N", None),
    Spec("RAID6", 5, 65536, "parity-0", "restart", "after-p", "member-position"),
    Spec("RAID1E", 3, 8192, data="offset"),
    Spec("RAID1E", 5, 32768, data="adjacent"),
    Spec("RAID50", 6, 16384, "parity-N", "continuation", spans=2),
]


def taken(names, spec, gone):
    """A table with all images, and the true hypothesis with the members `gone` not seated; closed by the stack."""
    stack = ExitStack()
    sources = [stack.enter_context(ImageFile(name)) for name in names]
    made = layout(
        spec.level, spec.members, spec.rotation, spec.data, spans=spec.spans if spec.spans > 1 else None,
        q_place=spec.q_place, q_exponent=spec.q_exponent,
    )  # fmt: skip
    there = [m for m in range(spec.members) if m not in gone]
    order = tuple(there.index(m) if m in there else None for m in range(spec.members))
    candidate = Candidate(spec.level, (made,), tuple((m,) for m in there))
    table = SimpleNamespace(pile=Pile(names, sources), outdated={}, fits_as_well=set(), note=lambda *_words: None)
    return stack, table, Hypothesis(candidate, made, spec.strip, spec.start, 0, order, 0.0)


@pytest.mark.parametrize("spec", SPECS, ids=lambda s: f"{s.level}-{s.data}")
def test_a_member_is_known_by_what_the_others_say_it_holds(volumes, tmp_path, spec):
    """In the pile beside a stranger; and not where a tenth or more of what it holds is something else."""
    case = pile(tmp_path, volumes / "ntfs.img", spec, strangers=1)
    names = [*case.names, *(str(i) for i in case.images if str(i) not in case.names)]
    gone = spec.members - 1
    stack, table, h = taken(names, spec, (gone,))
    with stack:
        (fit,) = unseated(table, h)
        assert (fit.image, fit.position, fit.other) == (gone, gone, 0)
        whole = seated(h, fit)
        assert not whole.candidate.missing and unseated(table, whole) == []
        assert whole.candidate.columns[whole.order[gone]] == (gone,)
        # one that the candidate holds, but had no seat for, is not in it twice
        spare = replace(h, candidate=replace(h.candidate, columns=(*h.candidate.columns, (gone,))))
        again = seated(spare, fit)
        assert (
            again.candidate.columns == spare.candidate.columns and again.order[gone] == len(spare.candidate.columns) - 1
        )
    rng = np.random.default_rng(7)
    with open(names[gone], "r+b") as image:
        size = image.seek(0, 2)
        for at in range(spec.start, size - 4096, 4096):
            if rng.random() < 0.3:
                image.seek(at)
                image.write(rng.integers(0, 256, 4096, np.uint8).tobytes())
    stack, table, h = taken(names, spec, (gone,))
    with stack:
        assert unseated(table, h) == []


@pytest.mark.parametrize("spec", [SPECS[0], SPECS[2]], ids=lambda s: s.level)
def test_where_what_is_computed_cannot_be_relied_on_it_says_nothing(volumes, tmp_path, spec):
    """Rows that were never written whole, where another equation tells; and all behind the place at which somebody who
    is there fell silent. Half of what the member holds was told against it."""
    names = pile(tmp_path, volumes / "ntfs.img", spec).names
    gone, rng, sizes = spec.members - 1, np.random.default_rng(5), [Path(n).stat().st_size for n in names]
    half = spec.start + (min(sizes) - spec.start) // 2 // spec.strip * spec.strip
    for number, name in enumerate(names):
        with open(name, "r+b") as image:
            image.seek(half)
            if spec.level == "RAID6":
                image.write(rng.integers(0, 256, sizes[number] - half, np.uint8).tobytes())
            elif number == 0:
                image.write(bytes(sizes[number] - half))
    stack, table, h = taken(names, spec, (gone,))
    with stack:
        (fit,) = unseated(table, h)
        assert (fit.image, fit.position, fit.other) == (gone, gone, 0) and fit.same > 1


def test_a_member_that_holds_a_single_block_is_known_by_it(volumes, tmp_path):
    """What it holds is what the others compute, and it holds nothing else; zeros, or one byte over and over, anybody
    may hold."""
    spec = SPECS[2]
    names = pile(tmp_path, volumes / "ntfs.img", spec).names
    gone, size = spec.members - 1, Path(names[spec.members - 1]).stat().st_size
    held = Path(names[gone]).read_bytes()
    at = next(a for a in range(spec.start, size - 4096, 4096) if len(set(held[a : a + 4096])) > 99)
    for block, fits in ((held[at : at + 4096], 1), (held[at + 1 : at + 4097], 0)):
        Path(names[gone]).write_bytes(bytes(at) + block + bytes(size - at - 4096))
        stack, table, h = taken(names, spec, (gone,))
        with stack:
            assert len(unseated(table, h)) == fits


def test_parity_that_lies_beside_a_stripe_keeps_it_undecided():
    """An image that adds up with the members of a "RAID 0" is their parity, wherever it ends; one that is like them
    here and there was cut from the same volume in another way."""
    chosen = layout("RAID0", 2)
    h = Hypothesis(Candidate("RAID0", (chosen,), ((0,), (1,))), chosen, 65536, 0, 0, (0, 1), 50.0)

    def beside(mates, apart=(), outdated=()):
        relations = [(Relation((m, 2), np.ones((1, 2), np.uint8)),) for m in mates] + [()] * len(apart)
        places = [
            Place(n * 4096, frozenset({m, 2}), related)
            for n, (m, related) in enumerate(zip([*mates, *apart], relations, strict=True))
        ]
        places = [*places[len(mates) :], *places[: len(mates)]]
        table = SimpleNamespace(places=places, pile=range(3), outdated=dict.fromkeys(outdated, 0))
        return [parity_beside(table, one) for one in (h, replace(h, candidate=replace(h.candidate, level="RAID5")))]

    assert beside([0, 1] * 3) == beside([0, 1] * 3, [0, 1]) == [True, False]
    few, one, here_and_there, old = [0, 1] * 2, [0] * 9, ([0, 1] * 3, [0, 1, 0]), ([0, 1] * 3, (), (2,))
    assert all(not any(beside(*case)) for case in ((few,), (one,), here_and_there, old))


def test_a_member_that_says_little_itself_is_not_left_out(volumes, tmp_path):
    """RAID 1E of three among strangers: two of them hold every byte, and the third one was called unrelated."""
    case = pile(tmp_path, volumes / "exfat.img", Spec("RAID1E", 3, 8192, data="offset"), strangers=2)
    (array,) = solve_images(case.images).arrays
    assert right(case, array) and None not in array.members and array.verdict == "certain"


def test_no_array_is_tried_that_cannot_be():
    """Six alike beside twenty others: more mirrors than a span has members."""
    tried = candidates(range(26), [Membership(tuple(range(6)), "copies", 40, 40)])
    assert tried and all(candidate.positions * candidate.copies <= 32 for candidate in tried)


def test_a_mirror_beside_empty_images_may_be_the_first_strip_of_more(volumes, tmp_path):
    """All data of a volume in one strip, and its parity a copy of it: only the empty images beside them tell."""
    spec = Spec("RAID5", 4, 1 << 20, "parity-N", "restart")
    case = pile(tmp_path, volumes / "fat16.img", spec)
    assert (volumes / "fat16.img").stat().st_blocks * 512 < 1 << 20  # it does stand in one strip
    for image in case.images:
        os.truncate(image, 24 << 20)  # larger than the file system
    (array,) = solve_images(case.images).arrays
    assert array.verdict == "undecided" and array.verdicts.order.reason is Reason.UNCOUNTED
    pair = [i for i in case.images if str(i) in array.members]
    (alone,) = solve_images(pair).arrays
    assert alone.geometry.layout.level == "RAID1" and alone.verdict == "certain"


def test_what_does_not_add_up_to_a_span_does_not_hide_the_array():
    """Four of five that add up as P and Q do, one missing, and a fifth that holds structures of the same file system:
    RAID 6 of five is tried. All five were called RAID 6 of seven without two."""
    tried = candidates(range(5), [Membership((0, 1, 2, 3), "two less one", 86, 86)])
    assert [(c.level, c.positions, c.missing) for c in tried] == [("RAID6", 5, 1)]
    spans = [Membership((0, 1, 2, 3), "sum", 80, 80), Membership((4, 5, 6, 7), "sum", 80, 80)]
    assert {(c.level, c.positions, c.missing) for c in candidates(range(10), spans)} >= {("RAID50", 8, 0)}


@pytest.mark.parametrize(("bytes_", "sure"), [(16 << 20, "certain"), (32 << 20, "undecided")])
def test_a_mirror_holds_no_file_system_that_is_larger_than_it(volumes, tmp_path, bytes_, sure):
    pair = [tmp_path / "a.img", tmp_path / "b.img"]
    source = (volumes / "ext4-nocsum.img").read_bytes()[:bytes_]
    head = bytearray(source)
    if sure == "undecided":
        blocks = int.from_bytes(head[1028:1032], "little")
        head[1028:1032] = (blocks * 4).to_bytes(4, "little")
    for path in pair:
        path.write_bytes(bytes(head))
    (array,) = solve_images(pair).arrays
    assert array.geometry.layout.level == "RAID1" and array.verdicts.order.sure == sure
    assert (array.verdicts.start.sure == "certain") is (sure == "certain")


def test_what_has_no_layout_of_so_many_members_ends_in_no_crash():
    assert members_only(SimpleNamespace(pile=None), Membership(tuple(range(3)), "two", 40, 40)) is None
    assert members_only(SimpleNamespace(pile=None), Membership(tuple(range(40)), "sum", 40, 40)) is None


def test_beside_a_member_that_was_left_out_its_old_copy_is_kept_in_mind(volumes, tmp_path):
    """Both hold what the missing member must, but for a few blocks of one: who was seated need not be the member."""
    spec, gone = SPECS[2], 3
    names = pile(tmp_path, volumes / "ntfs.img", spec).names
    old = tmp_path / "old.img"
    data = bytearray(Path(names[gone]).read_bytes())
    filled = [at for at in range(spec.start, len(data) - 4096, 4096) if any(data[at : at + 4096])]
    for at in filled[::30]:
        data[at : at + 4096] = bytes(reversed(data[at : at + 4096]))
    old.write_bytes(data)
    stack, table, h = taken([*names, str(old)], spec, (gone,))
    with stack:
        assert [fit.image for fit in unseated(table, h)] == [gone]
        assert table.fits_as_well == {len(names)}


def test_images_filled_with_one_word_are_no_copies_of_one_another():
    rng = np.random.default_rng(3)
    own = rng.integers(1, 256, (60, 6, 64), np.uint8)
    alike = np.broadcast_to(rng.integers(1, 256, (60, 1, 64), np.uint8), (60, 6, 64)).copy()
    pair = own.copy()
    pair[:, 1] = pair[:, 0]
    offsets, noise = np.arange(60, dtype=np.int64) * 4096, np.zeros((60, 6), bool)
    assert look_alikes(Survey(offsets, alike, noise)) == []
    assert look_alikes(Survey(offsets, pair, noise)) == [(0, 1)]
