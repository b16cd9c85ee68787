"""An exchange that would explain what fails is found, and an answer that it would explain is never certain."""

from dataclasses import replace

import numpy as np
import pytest

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.arrays.layout import layout
from faithful_stripe.core.formats import ext4
from faithful_stripe.core.lineup.hypotheses.as_volume import rebuilt
from faithful_stripe.core.lineup.hypotheses.assignment import Hypothesis
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate, layouts_of
from faithful_stripe.core.lineup.hypotheses.pile_table import lay_out
from faithful_stripe.core.lineup.reading.samples import Pile, silent
from faithful_stripe.core.lineup.verdict import certainty
from faithful_stripe.core.lineup.verdict.certainty import unsure, untold
from faithful_stripe.core.lineup.verdict.finishing import q_holds
from faithful_stripe.core.lineup.verdict.missing_slot import Judged
from faithful_stripe.core.lineup.verdict.refining import explained, refined
from faithful_stripe.core.lineup.verdict.volume_reading import Findings, read_volume
from faithful_stripe.core.source import MemorySource
from faithful_stripe.media.image import ImageFile
from faithful_stripe.media.whole import copy_data

MEMBERS, STRIP = 6, 16384


def cut_over_six(observatory, level, **rules):
    """The observatory's ext4 over six members, the true hypothesis, and where its file system starts."""
    with ImageFile(observatory) as file:
        shape = geometry(level, MEMBERS, STRIP, member_bytes=64 << 20, **rules)
        members = [MemorySource(64 << 20, f"m{i}") for i in range(MEMBERS)]
        copy_data(file, 0, min(file.size, shape.volume_bytes), Array(shape, members))
    table = lay_out(Pile([f"m{i}" for i in range(MEMBERS)], members), silent)
    chosen = next(c for c in layouts_of(level, MEMBERS) if c == layout(level, MEMBERS, **rules))
    candidate = Candidate(level, (chosen,), tuple((i,) for i in range(MEMBERS)))
    truth = Hypothesis(candidate, chosen, STRIP, 0, 0, tuple(range(MEMBERS)), 100.0, 95.0)
    return table, truth, [(a, 0) for a in table.anchors if not a.ground.guessed]


@pytest.fixture(scope="module")
def laid_out(observatory):
    return cut_over_six(observatory, "RAID5", rotation="parity-N", data="continuation")


def copied(pile):
    """A pile of the same bytes that a test may hurt."""
    made = Pile(pile.names, [MemorySource(s.size, s.name) for s in pile.sources])
    for copy, source in zip(made.sources, pile.sources, strict=True):
        copy_data(source, 0, source.size, copy)
    return made


def test_nothing_fails_under_the_truth_and_nothing_is_to_be_explained(laid_out):
    table, truth, placed = laid_out
    found = read_volume(truth, table.pile, placed, [], [])
    assert found.proof.passes > 500 and not found.proof.failures and not explained(table, truth, found)


@pytest.mark.parametrize("pair", [(1, 4), (0, 5), (2, 3)])
def test_what_stands_on_the_other_member_explains_what_fails(laid_out, pair):
    table, truth, placed = laid_out
    a, b = pair
    order = list(truth.order)
    order[a], order[b] = order[b], order[a]
    wrong = replace(truth, order=tuple(order))
    found = read_volume(wrong, table.pile, placed, [], [])
    assert found.proof.failures
    assert set(explained(table, wrong, found)) & {(a, b), (b, a)}
    judged = Judged(wrong, found, wrong.score + found.nats)
    assert refined(table, judged, placed, []).h.order == truth.order


def test_what_fails_in_rows_that_do_not_match_says_nothing_of_the_order(laid_out):
    """One structure of eight overwritten: the checksums there fail under any order. Under a wrong order they fail
    where rows match."""
    table, truth, placed = laid_out
    found = read_volume(truth, table.pile, placed, [], [])
    pile = copied(table.pile)
    inodes = [(i, o) for k, image, at, _a in placed[0][0].ground.found if k == "inode"
              for i, o in zip(image.tolist(), at.tolist(), strict=True)]  # fmt: skip
    for number, (image, offset) in enumerate(inodes[::8]):
        pile.sources[image].write(offset + 64, number.to_bytes(8, "little"))
    hurt = read_volume(truth, pile, placed, [], [])
    assert hurt.excused > 0.03 * found.proof.passes  # more than a walk may fail
    assert not hurt.contradicted and not hurt.failures and not hurt.proof.wrong
    assert any(e.kind == "silent" and e.count == hurt.excused for e in hurt.evidence())
    wrong = replace(truth, order=(*truth.order[1:], truth.order[0]))
    assert read_volume(wrong, table.pile, placed, [], []).contradicted


def test_files_that_fail_where_rows_do_not_match_say_nothing_of_the_order(laid_out):
    """A member that was partly rebuilt onto another drive: files with a checksum of their own failed by the dozen, and
    the right order was "a member may be missing, stale or foreign"."""
    table, truth, placed = laid_out
    pile = copied(table.pile)
    kinds = "files with their own checksum"
    volume = rebuilt(truth, table.pile)
    fs = ext4.Ext4(volume, 0)
    for inode, _right in fs.inodes():  # of each packed file or picture a block on one member, and nothing else
        blocks = [at + n for _logical, count, at in inode.extents if inode.is_file for n in range(count)]
        if not blocks or fs.block(blocks[0])[:2] not in (b"\x1f\x8b", b"\x89P"):
            continue
        places = [volume.geometry.to_member(block * fs.sb.block) for block in blocks]
        for who, offset in [(int(who), int(at)) for who, at in places if who == 2][:1]:
            pile.sources[who].write(offset + 100, b"another drive")
    hurt = read_volume(truth, pile, placed, [], [])
    assert hurt.proof.failed[kinds] >= 4 and hurt.excused == hurt.proof.failed[kinds]
    assert not hurt.failures and not hurt.contradicted and not hurt.proof.broken
    wrong = read_volume(replace(truth, order=(*truth.order[1:], truth.order[0])), pile, placed, [], [])
    assert wrong.failures and wrong.contradicted


def test_what_is_read_in_the_volume_tells_places_that_no_structure_tells(laid_out, monkeypatch):
    """Large volumes: a sample meets structures on none of the members, and yet thousands of checksums hold in the
    volume, and fail where any two are exchanged. It was "by elimination", and sixteen times as much was read."""
    table, truth, placed = laid_out
    none = np.empty(0, np.int64)
    quiet = [(replace(anchors, image=none, offset=none, address=none, count=none), base) for anchors, base in placed]
    judged = Judged(truth, read_volume(truth, table.pile, quiet, [], []), 200.0)
    assert judged.findings.holds and untold(table, truth, quiet) == [list(range(MEMBERS))]
    assert unsure(table, judged, quiet) == []
    assert unsure(table, replace(judged, findings=Findings()), quiet) == list(range(MEMBERS))
    monkeypatch.setattr(certainty, "MOST_EXCHANGES", 14)
    assert unsure(table, judged, quiet) == list(range(MEMBERS))
    monkeypatch.undo()
    # two of which nothing in the volume tells which is which
    once = certainty.read_volume
    monkeypatch.setattr(
        certainty, "read_volume", lambda h, *rest: once(truth if h.order == (0, 2, 1, 3, 4, 5) else h, *rest)
    )
    assert unsure(table, judged, quiet) == [1, 2]


def test_with_most_rows_broken_what_fails_is_not_excused(laid_out):
    """With P and Q hardly a row matches under a wrong order: that is no damage."""
    table, truth, placed = laid_out
    pile = copied(table.pile)
    stranger = pile.sources[2]
    for a, b in stranger.data_ranges():
        stranger.write(a, b"\x5a" * (b - a))
    found = read_volume(truth, pile, placed, [], [])
    assert found.contradicted and not found.excused


def test_with_one_member_missing_what_fails_in_rows_that_do_not_match_says_nothing(observatory):
    """Of P and Q one equation is left: a pattern on one member spoils what is computed of the missing one in every row
    of the array, in part. The right order was "a member may be missing, stale or foreign"."""
    rules = {"rotation": "parity-N", "data": "restart", "q_place": "after-p", "q_exponent": "data-index"}
    table, truth, placed = cut_over_six(observatory, "RAID6", **rules)
    pile, word = copied(table.pile), b"NOT READ AT ALL "
    for a, b in pile.sources[1].data_ranges():
        for at in range(a // STRIP * STRIP, b, STRIP):
            pile.sources[1].write(at + 4096, word * (4096 // len(word)))
    less = replace(truth, order=(0, 1, 2, 3, None, 5))
    hurt = read_volume(less, pile, placed, [], [])
    assert hurt.excused > 20 and not hurt.failures and not hurt.contradicted
    turned = replace(truth, order=(1, 2, 3, 5, None, 0))
    assert read_volume(turned, pile, placed, [], []).contradicted
    # and it tells how Q counts, which is asked where a member is missing, too
    assert q_holds(replace(table, pile=pile), less)
    other = next(
        c
        for c in layouts_of("RAID6", MEMBERS)
        if c == layout("RAID6", MEMBERS, **rules | {"q_exponent": "member-position"})
    )
    assert not q_holds(replace(table, pile=pile), replace(less, layout=other))


def test_damage_is_not_explained_by_an_exchange(laid_out):
    """Wrong checksums in every volume that could be read: none is preferred for them."""
    table, truth, placed = laid_out
    (anchors, _base), *_rest = [p for p in placed if "inode" in p[0].ground.kinds]
    at, image = int(anchors.offset[5]) // STRIP * STRIP, int(anchors.image[5])
    member = table.pile.sources[image]
    before = table.pile.stretch(image, at, STRIP)
    member.write(at, bytes(b ^ 1 for b in before.tobytes()))
    try:
        found = read_volume(truth, table.pile, placed, [], [])
        assert found.proof.failures and not explained(table, truth, found)
    finally:
        member.write(at, before.tobytes())
