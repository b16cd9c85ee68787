"""Several arrays on the same images, one behind the other: each found by itself, and never an array cut in two."""

from __future__ import annotations

import pytest

from faithful_stripe.core.lineup.solving.slices import Between
from faithful_stripe.core.source import MemorySource, read
from faithful_stripe.media.image import ImageFile, create_sparse

from .slicer import Spec, cut

MIB = 1 << 20


def slices(folder, names, size, parts):
    """Images of `size` bytes that hold the members of several arrays: (volume, spec, where on the images it begins)."""
    for name in names:
        create_sparse(folder / name, size)
    for number, (volume, spec, start) in enumerate(parts):
        members = [folder / f"part-{number}-{name}" for name in names]
        cut(volume, spec, members)
        for member, name in zip(members, names, strict=True):
            with ImageFile(member) as source, ImageFile(folder / name, writable=True) as image:
                for a, b in source.data_ranges():
                    image.write(start + a, read(source, a, b - a))
            member.unlink()


PAIRS = {
    "mirrors-then-parity": (
        Spec("RAID10", 4, 65536, copies=2), Spec("RAID6", 4, 16384, "parity-0", "restart", "after-p", "data-index")
    ),
    "parity-then-parity": (
        Spec("RAID5", 4, 65536, "parity-N", "restart"), Spec("RAID5", 4, 16384, "parity-0", "continuation")
    ),
}  # fmt: skip
"""Rows of the second pair add up throughout: only what stands on the first says where it ends."""


@pytest.mark.long
@pytest.mark.parametrize("which", PAIRS)
def test_both_arrays_are_found_and_handed_over(which, fstripe, observatory, volumes):
    first, second = PAIRS[which]
    names = [f"ebb-{n}.img" for n in range(4)]
    xfs = volumes / "xfs.img"
    slices(fstripe.folder, names, 320 * MIB, [(observatory, first, 0), (xfs, second, 144 * MIB)])
    solved = fstripe("lineup", "solve", *names, "--out", "found.toml", "--json")
    one, other = solved.json["arrays"]
    assert (one["level"], other["level"]) == (first.level, second.level)
    assert one["verdicts"]["order"]["verdict"] == one["verdicts"]["soundness"]["verdict"] == "certain"
    assert (
        other["verdicts"]["start"]["verdict"] == "probable" and other["start_bytes"] == one["until_bytes"] == 144 * MIB
    )
    for number, volume in ((1, observatory), (2, xfs)):
        fstripe("lineup", "extract", "found.toml", f"{number}.img", "--array", number)
        with ImageFile(fstripe.folder / f"{number}.img") as got, ImageFile(volume) as true:
            assert all(read(got, a, b - a) == read(true, a, b - a) for a, b in true.data_ranges())
        proven = fstripe("lineup", "prove", "found.toml", "--array", number)
        assert proven.status in (0, 3) and "wrong" not in proven.out.split("\n\n")[-1]


def test_what_is_seen_between_two_places():
    source = MemorySource(4096)
    source.write(0, bytes(range(256)) * 16)
    part = Between(source, 1000, 3000)
    assert part.size == 3000 and list(part.data_ranges()) == [(1000, 3000)]
    assert read(part, 900, 200) == bytes(100) + read(source, 1000, 100)
    assert read(part, 0, 900) == bytes(900) and read(part, 2000, 1000) == read(source, 2000, 1000)
