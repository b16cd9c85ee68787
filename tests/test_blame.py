"""Who is at fault where one equation does not hold: the chain, what bytes say, and members damaged at random."""

from __future__ import annotations

import random
from dataclasses import replace
from itertools import product
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from benchmarks import blame
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.lineup.document.row_map import Why
from faithful_stripe.core.lineup.evidence.byte_pairs import best_pairs
from faithful_stripe.core.lineup.full_pass import blame as judging
from faithful_stripe.core.lineup.full_pass import fault_chain
from faithful_stripe.core.lineup.full_pass.fault_chain import SEVERAL_SHARE, Link, posteriors
from faithful_stripe.core.lineup.full_pass.fault_likelihood import accounts
from faithful_stripe.core.source import MemorySource, Unreadable

NATS = st.floats(-6, 6)


@given(st.lists(st.tuples(NATS, NATS, NATS, st.sampled_from((0.0005, 0.01, 1.0))), min_size=1, max_size=5))
def test_a_chain_sums_over_every_way_through_it(pieces):
    chain = [Link(np.array([a, b, c]), turn) for a, b, c, turn in pieces]
    share = np.array([0.7, 0.28, 0.02])
    told = np.exp(fault_chain._through(chain, share, 0.0))
    ways = np.zeros_like(told)
    for way in product(range(3), repeat=len(chain)):
        chance = share[way[0]] * np.exp(chain[0].nats[way[0]])
        for before, now, link in zip(way, way[1:], chain[1:], strict=False):
            chance *= ((1 - link.turn) * (before == now) + link.turn * share[now]) * np.exp(link.nats[now])
        for i, who in enumerate(way):
            ways[i, who] += chance
    assert np.allclose(told, ways / ways.sum(axis=1, keepdims=True), atol=1e-9)


def chain_of(*said, several=-2.0):
    """Stretches of one piece each, of which each says so many nats of three members."""
    return [Link(np.array([*nats, several]), 1.0) for nats in said]


def test_what_was_at_fault_elsewhere_tips_the_scales_and_no_more():
    torn = (4.0, 4.0, 0.0)  # data and parity of one strip: either may be the older
    alone = posteriors([chain_of(torn)], np.zeros(3))[0][0]
    assert alone[0, 0] == pytest.approx(alone[0, 1])
    beside = posteriors([chain_of(torn, *[(9.0, 0.0, 0.0)] * 20)], np.zeros(3))[0][0]
    assert beside[0, 0] - beside[0, 1] > 4
    known = posteriors([chain_of(torn)], np.array([0.0, 8.0, 0.0]))[0][0]
    assert known[0, 1] - known[0, 0] > 7
    # what says nothing of anybody is nobody's, however often one was at fault: not as surely as what speaks for itself
    flat = posteriors([chain_of((0.0, 0.0, 0.0), *[(9.0, 0.0, 0.0)] * 2000)], np.zeros(3))[0][0]
    assert flat[0, 0] - np.sort(flat[0])[-2] < np.log(fault_chain.MOST_COUNTED / fault_chain.FEW) + 0.1


def test_two_drives_that_are_hurt_all_over_are_told_apart_piece_by_piece():
    near = fault_chain.TURN_NEAR
    mixed = [Link(np.array([*((5.0, 0.0) if i % 2 else (0.0, 5.0)), 0.0, -2.0]), near if i else 1.0) for i in range(40)]
    starts = chain_of(*[(9.0, 0.0, 0.0), (0.0, 9.0, 0.0)] * 20)
    told = posteriors([[*starts, *mixed]], np.zeros(3))[0][0][len(starts) :]
    assert [int(piece.argmax()) for piece in told] == [0 if i % 2 else 1 for i in range(40)]


def test_several_at_once_are_seen_where_both_are_blank():
    told = posteriors([[Link(np.array([6.0, 6.0, 0.0, 10.0]), 1.0)]], np.zeros(3))[0][0]
    assert told[0].argmax() == 3 and SEVERAL_SHARE < 0.5


def test_several_at_once_are_seen_though_one_alone_is_at_fault_elsewhere():
    both = [Link(np.array([6.0, 6.0, 0.0, 15.0]), 1.0)]
    told = posteriors([both, *[chain_of((9.0, 0.0, 0.0))] * 50], np.zeros(3))[0][0]
    assert told[0].argmax() == 3


def test_what_two_have_together_from_row_to_row_counts_for_both():
    """Data and parity of strips of one drive: which is the older is open, but it is no third one."""
    pair, third = (6.0, 6.0, -9.0), (-9.0, -9.0, 9.0)
    told = posteriors([chain_of((4.0, -9.0, 4.0), third, *[pair] * 100)], np.zeros(3))[0][0]
    assert told[0, 0] > told[0, 2]


JUDGE = judging.Judge(
    blame.geometry("RAID5", 5, 4096, member_bytes=4096 * 30, rotation="parity-N", data="continuation"),
    [MemorySource(4096 * 30) for _ in range(5)],
)


@pytest.mark.parametrize(
    ("nats", "told", "shares", "led"),
    [
        ((6.0, 0.0), (-0.001, -9.0), (0.9, 0.01), 0),
        ((6.0, 0.0), (-0.001, -7.0), (0.9, 0.01), None),  # no clear lead
        ((1.0, 0.0), (-0.001, -9.0), (0.9, 0.01), None),  # all but told by what is elsewhere
        ((6.0, 5.0), (-0.001, -9.0), (0.9, 0.1), None),  # a rival that the place speaks for, too
        ((6.0, 5.0), (-0.001, -9.0), (0.97, 0.02), 0),  # one that is hardly ever at fault
        ((6.0, 0.0), (-9.0, -9.0), (0.9, 0.01), None),  # several at once
    ],
)
def test_a_place_is_laid_at_one_that_leads_and_for_which_it_speaks_itself(nats, told, shares, led):
    piece, link = SimpleNamespace(looked=object()), Link(np.array([*nats, 0.0, 0.0, 0.0, -2.0]), 1.0)
    rest = -0.001 if told == (-9.0, -9.0) else -9.0
    chances = np.array([[*told, -9.0, -9.0, -9.0, rest]])
    laid = JUDGE._led([piece], [link], chances, np.zeros(5), np.array([*shares, 0.0, 0.0, 0.0]))
    assert list(laid) == [led]


@pytest.mark.parametrize(("share", "laid"), [(0.98, True), (0.9, False)])
def test_a_place_that_was_not_looked_at_is_laid_at_one_alone_who_is_nearly_always_at_fault(monkeypatch, share, laid):
    """Before it a member is at fault, and behind it nobody can be told."""
    strip, judge = 4096, judging.Judge(JUDGE.made, [MemorySource(4096 * 30) for _ in range(5)])
    judge.members[1].write(0, random.Random(1).randbytes(strip * 30))
    runs = [judging.Run(row, 0, 0, 512, frozenset()) for row in (0, 5, 10)]
    monkeypatch.setattr(judge, "_sampled", lambda near: ([[runs[0], runs[2]]], [(runs[1], runs[0], runs[2])]))
    monkeypatch.setattr(judge, "_led", lambda chain, *_: [1 if piece.run.row == 0 else None for piece in chain])
    shares = np.array([1 - share, share, 0.0, 0.0, 0.0])
    monkeypatch.setattr(
        judging, "posteriors", lambda links, known: ([np.zeros((len(one), 6)) for one in links], shares)
    )
    faults, left = judge.decide(runs)
    assert {fault.start // strip for fault in faults} == ({0, 5} if laid else {0})
    assert {run.row for run in left} == ({10} if laid else {5, 10})


@pytest.mark.parametrize(("blank", "why"), [(9, Why.BLANK), (7, Why.OUT_OF_DATE)])
def test_what_is_blank_for_the_most_part_is_called_so(blank, why):
    run, everybody = judging.Run(2, 2, 0, 512 * 10, frozenset()), tuple(range(5))
    pieces = [
        judging.Piece(replace(run, start=a * 512, end=b * 512), None, 0, 0, (), everybody, empty)
        for a, b, empty in [(0, blank, frozenset({1})), (blank, 10, frozenset())]
    ]
    faults: list = []
    assert JUDGE._as_laid(pieces, 1, faults) == (1, why)
    assert [(f.member, f.end - f.start, f.why) for f in faults] == [(1, 5120, why)]


def text(rng: random.Random, length: int = 4096) -> np.ndarray:
    made = b"".join(
        b"tide at skerry %05d cm, gauge %03d; wind %02d\n"
        % (rng.randrange(99999), rng.randrange(999), rng.randrange(99))
        for _ in range(length // 40)
    )
    return np.frombuffer((made * 2)[:length], np.uint8)


def row(data: list[np.ndarray]) -> np.ndarray:
    return np.stack([*data, np.bitwise_xor.reduce(np.stack(data))])


def told(rng: random.Random, cells: np.ndarray, noise: float = 0.001) -> np.ndarray:
    likely = best_pairs(np.stack([text(rng) for _ in range(40)]), np.stack([text(rng) for _ in range(40)]), 4096)
    blank = np.array([not c.any() for c in cells])
    parity = np.array([False] * (len(cells) - 1) + [True])
    return accounts(likely, cells, np.bitwise_xor.reduce(cells), parity, blank, float(np.log(noise)))


def test_bytes_speak_for_the_member_of_which_something_like_the_rest_is_due():
    rng = random.Random(1)
    cells = row([text(rng), text(rng), text(rng)])
    cells[1] = 0
    said = told(rng, cells)
    assert said[1] == 0 and said[0] < -20 and said[2] < -20


def test_of_a_strip_and_its_parity_the_bytes_do_not_say_which_is_the_older():
    rng = random.Random(2)
    cells = row([text(rng), text(rng), text(rng)])
    cells[1] = text(rng)
    said = told(rng, cells)
    assert said[1] == said[3] == 0 and said[0] < -20 and said[2] < -20


def test_noise_on_a_member_is_nothing_against_it_where_another_is_blank():
    """Compressed data are rare, and a member that holds some is not at fault for it."""
    rng = random.Random(3)
    packed = [np.frombuffer(rng.randbytes(4096), np.uint8) for _ in range(2)]
    cells = row([text(rng), *packed])
    cells[2] = 0
    said = told(rng, cells)
    assert said[1] - said[2] < 5 and said[3] - said[2] < 5


def test_a_strip_that_is_like_its_neighbour_is_not_taken_for_what_is_due_of_that():
    """What two records of one kind differ by is likelier than either."""
    rng = random.Random(4)
    first = text(rng)
    alike = first.copy()
    alike[::97] ^= 1
    cells = row([first, alike, text(rng)])
    cells[1] = 0
    said = told(rng, cells)
    assert said[1] >= said[0] - 1


def volume(path: Path, seed: int) -> Path:
    """Files of text, of noise, and records of one kind, with holes between."""
    rng = random.Random(seed)
    with path.open("wb") as file:
        while file.tell() < 12 << 20:
            length = rng.choice((4096, 16384, 65536, 262144))
            kind = rng.randrange(5)
            if kind < 2:
                file.write(text(rng, length).tobytes())
            elif kind == 2:
                file.write(rng.randbytes(length))
            elif kind == 3:
                file.write(b"".join(i.to_bytes(4, "little") + b"\1\0\7\0" + bytes(8) for i in range(length // 16)))
            else:
                file.seek(length, 1)
        file.write(b"end")
    return path


def test_what_is_laid_at_a_member_is_that_ones_fault(tmp_path):
    volumes = [volume(tmp_path / f"{seed}.img", seed) for seed in (1, 2)]
    one, two = blame.Told(), blame.Told()
    for number in range(24):
        place = tmp_path / str(number)
        place.mkdir()
        words, _kind, found = blame.case(random.Random(f"test/{number}"), volumes, place)
        into = one if words.endswith("on 1") else two
        for name, count in vars(found).items():
            setattr(into, name, getattr(into, name) + count)
    assert one.wrong == 0 and one.sound == 0 and one.right > 8 * one.open, one
    assert two.right > 1500 and two.wrong < 0.02 * two.right, two  # hurt all over, one drive as the other


def test_holes_that_end_with_their_strips_are_laid_at_the_drive_that_is_full_of_holes(tmp_path):
    """The copy of one drive has holes of 64 KiB in many places; a few begin and end where strips do."""
    path = volume(tmp_path / "volume.img", 3)
    spec = blame.Spec("RAID5", 5, 65536, "parity-N", "continuation")
    paths = [tmp_path / f"{m}.img" for m in range(5)]
    size = blame.cut(path, spec, paths)
    rng = random.Random(5)
    held = np.fromfile(paths[1], np.uint8)
    data = np.flatnonzero(held.reshape(-1, 4096).any(axis=1)) * 4096
    places = [int(rng.choice(data)) for _ in range(14)] + [int(rng.choice(data)) // 65536 * 65536 for _ in range(3)]
    was = held.copy()
    for at in places:
        held[at : at + 65536] = 0
    held.tofile(paths[1])
    made = blame.geometry("RAID5", 5, 65536, member_bytes=size, rotation="parity-N", data="continuation")
    laid = blame.laid_in(made, paths)
    changed = (was != held).reshape(-1, 512).any(axis=1)
    assert not laid[[0, 2, 3, 4]].any()
    assert (changed & laid[1]).sum() > 0.9 * changed.sum()


@pytest.mark.parametrize("looked_at", [1 << 13, 240])
def test_a_drive_that_is_wrong_all_over_is_told_by_a_part_of_its_places(tmp_path, monkeypatch, looked_at):
    monkeypatch.setattr(judging, "MOST_WEIGHED", looked_at)
    path = volume(tmp_path / "volume.img", 5)
    spec = blame.Spec("RAID5", 4, 16384, "parity-N", "continuation")
    paths = [tmp_path / f"{m}.img" for m in range(4)]
    size = blame.cut(path, spec, paths)
    held = np.fromfile(paths[2], np.uint8)
    rng, was = random.Random(6), held.copy()
    blocks = (np.flatnonzero(held.reshape(-1, 4096).any(axis=1)) * 4096).tolist()
    for at in rng.sample(blocks, len(blocks) // 3):
        other = rng.choice(blocks)
        held[at : at + 4096] = was[other : other + 4096]
    held.tofile(paths[2])
    made = blame.geometry("RAID5", 4, 16384, member_bytes=size, rotation="parity-N", data="continuation")
    laid = blame.laid_in(made, paths)
    changed = (was != held).reshape(-1, 512).any(axis=1)
    assert not laid[[0, 1, 3]].any() and (changed & laid[2]).sum() > 0.4 * changed.sum()


def test_a_place_that_was_not_looked_at_is_not_laid_at_a_member_that_is_missing_there(monkeypatch):
    """With P and Q, and one member unreadable at a place that does not match: somebody else is wrong there."""
    strip, rows = 4096, 400
    made = blame.geometry("RAID6", 5, strip, member_bytes=strip * rows, rotation="parity-N", data="continuation",
                          q_place="after-p", q_exponent="data-index")  # fmt: skip
    monkeypatch.setattr(judging, "MOST_WEIGHED", 100)
    judge = judging.Judge(made, [MemorySource(strip * rows) for _ in range(5)], {2: 20.0})
    monkeypatch.setattr(
        judge, "_led", lambda chain, *_: [2 if 2 in piece.members_of_cells else None for piece in chain]
    )
    monkeypatch.setattr(judge, "_without_apart", lambda chain: [chain])
    for member in judge.members:
        member.write(0, random.Random(member.name).randbytes(strip * rows))
    number = next(n for n, group in enumerate(made.pattern.groups) if group.cells[0][0] == 0)
    group = made.pattern.groups[number]
    cell_of = {who: cell for cell, (_row, who) in enumerate(group.cells)}
    runs = [
        judging.Run(row, number, 0, 512, frozenset({cell_of[2 if row % 10 == 5 else 1]}))
        for row in range(0, rows, made.pattern.rows)
    ]
    faults, left = judge.decide(runs)
    lost = {run.row for run in runs if cell_of[2] in run.erased}
    assert faults and {fault.member for fault in faults} == {2}
    assert not {fault.start // strip for fault in faults} & lost and lost <= {run.row for run in left}


class Unread(MemorySource):
    """A member of which nothing can be read."""

    def read_into(self, offset, buffer):
        raise Unreadable(source=self, offset=offset, length=memoryview(buffer).nbytes)


def test_a_place_at_which_a_member_turns_out_to_be_unreadable_is_judged_by_what_is_left():
    """With P and Q: one member cannot be read when it is looked at, and another one is blank."""
    strip, rows, rng = 4096, 60, random.Random(8)
    made = blame.geometry("RAID6", 5, strip, member_bytes=strip * rows, rotation="parity-N", data="continuation",
                          q_place="after-p", q_exponent="data-index")  # fmt: skip
    members = [MemorySource(strip * rows) for _ in range(5)]
    Array(made, members).write(0, text(rng, made.volume_bytes))
    blank = range(0, rows, 7)
    for row in blank:
        members[3].write(row * strip + 512, bytes(1024))
    judge = judging.Judge(made, [Unread(strip * rows), *members[1:]])
    numbers = {group.cells[0][0]: n for n, group in enumerate(made.pattern.groups)}
    runs = [judging.Run(row, numbers[row % made.pattern.rows], 512, 1536, frozenset()) for row in blank]
    faults, left = judge.decide(runs)
    assert len(faults) + len(left) == len(runs) and {fault.member for fault in faults} <= {3} and faults
