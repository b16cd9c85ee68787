"""LVM's logical volumes on a recovered volume: as LVM itself says where they are; a damaged description is none.

`data/lvm-head.xz` is the first MiB of a physical volume that LVM2 made, its group cut into volumes, grown, and one of
them removed; the places below are what `pvs --segments` said of it.
"""

import lzma
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.formats.declared import FormatError
from faithful_stripe.core.formats.lvm import NotRead, parse, physical_volume
from faithful_stripe.core.source import Window
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.places import chosen, parts_of, place_of

from .cutting import DATA
from .slicer import Spec, cut
from .test_extract import source_of

MIB = 1 << 20
TOLD = {"station": [(0, 10)], "gauges": [(10, 5), (21, 7)], "back": [(28, 4)]}
"""Extents of 1 MiB: (first, how many), from the first one at 1 MiB."""


@pytest.fixture(scope="module")
def head():
    return lzma.decompress((DATA / "lvm-head.xz").read_bytes())


def disk(head, size=64 * MIB, at=0):
    data = bytearray(at + size)
    data[at : at + len(head)] = head
    return data


def test_logical_volumes_are_where_lvm_says(head):
    found = physical_volume(source_of(disk(head)))
    assert (found.group, found.sequence) == ("skerry", 9)
    places = {v.name: [((1 + f) * MIB, (1 + f + n) * MIB) for f, n in TOLD.get(v.name, ())] for v in found.volumes}
    assert {v.name: list(v.places) for v in found.volumes} == places
    assert {v.name: v.size // MIB for v in found.volumes} == {
        "station": 10,
        "gauges": 12,
        "wide": 8,
        "far": 4,
        "back": 4,
    }
    assert {v.name for v in found.volumes if v.not_read is NotRead.ELSEWHERE} == {"wide", "far"}


def test_a_volume_is_chosen_by_name_and_what_is_not_in_one_piece_is_said(head):
    source = source_of(disk(head))
    assert place_of(source, None, None, "skerry/station") == (MIB, 10 * MIB) == place_of(source, None, None, "station")
    for name, says in (("gauges", "in 2 pieces"), ("wide", "another physical volume"), ("old", "no logical volume")):
        with pytest.raises(WorkError, match=says):
            place_of(source, None, None, name)
    with pytest.raises(WorkError, match="excludes"):
        place_of(source, "0:4096", None, "station")
    short = source_of(disk(head, 20 * MIB))
    with pytest.raises(WorkError, match="contradicts itself"):
        place_of(short, None, None, "back")  # it ends before that
    assert [p.name for p in parts_of(Window(source, MIB, 4 * MIB))] == [""]


def test_an_inside_file_system_is_found_by_itself(head, volumes):
    data = disk(head)
    inner = (volumes / "ext2.img").read_bytes()[: 10 * MIB]
    data[MIB : MIB + len(inner)] = inner
    parts = parts_of(source_of(data))
    part = chosen(parts, None, None)
    assert part.name == "skerry/station" and "ext" in part.what


def test_the_commands_take_a_logical_volume(fstripe, head, volumes):
    """Cut as RAID 5, solved, and one logical volume handed over and looked into."""
    data = disk(head)
    inner = (volumes / "ext2.img").read_bytes()[: 10 * MIB]
    data[MIB : MIB + len(inner)] = inner
    whole = fstripe.folder / "pv.img"
    whole.write_bytes(data)
    members = [fstripe.folder / f"m{n}.img" for n in range(3)]
    cut(whole, Spec("RAID5", 3, 65536, "parity-N", "restart"), members)
    solved = fstripe("lineup", "solve", *members, "--out", "found.toml", "--full")
    assert solved.status in (0, 3)
    got = fstripe("lineup", "extract", "found.toml", "station.img", "--part", "skerry/station")
    assert got.status in (0, 3) and (fstripe.folder / "station.img").read_bytes() == bytes(data[MIB : 11 * MIB])
    listed = fstripe("lineup", "files", "found.toml", "--part", "station")
    assert "skerry/station" in listed.out
    wrong = fstripe("lineup", "extract", "found.toml", "x.img", "--part", "gauges")
    assert wrong.status == 1 and "11534336:5242880, then 23068672:7340032" in wrong.err
    assert not (fstripe.folder / "x.img").exists()


def test_no_damage_crashes_the_reader(head):
    """Sectors of the head exchanged, cleared and overwritten: what it says is LVM's own, or nothing."""
    true = {v.path: v.places for v in physical_volume(source_of(disk(head))).volumes}
    rng = random.Random(5)
    for _case in range(200):
        data = bytearray(head)
        for _bite in range(rng.randrange(1, 6)):
            at = rng.randrange(0, 32 << 10)
            data[at : at + rng.choice((1, 4, 512))] = rng.randbytes(rng.choice((1, 4, 512)))
        source = source_of(disk(bytes(data[:MIB])))
        try:
            found = physical_volume(source)
        except FormatError:
            continue
        assert found is None or all(v.places in ((), true.get(v.path)) or found.sequence != 9 for v in found.volumes)


@given(st.text(alphabet='ab{}[]=,"\\# \n1', max_size=80))
def test_any_text_is_a_tree_or_an_error(text):
    try:
        assert isinstance(parse(text), dict)
    except FormatError as reason:
        assert reason.what
