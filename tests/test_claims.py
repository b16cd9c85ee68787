"""Lineups typed by hand: every level and layout handed over, members missing as far as it goes, and drawn."""

import os
import random
import shutil
import signal
import socket
import struct
import subprocess
import sys
import threading
import tomllib
from contextlib import contextmanager

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.arrays.levels import LEVELS
from faithful_stripe.core.arrays.margin import margin
from faithful_stripe.core.lineup.claims.neighbour_test import try_claim
from faithful_stripe.core.lineup.document.four_verdicts import Reason, placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup, Solution
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.lineup.solving import solve as solving
from faithful_stripe.core.lineup.verdict import weighing as judging
from faithful_stripe.core.source import MemorySource, Unreadable
from faithful_stripe.media.image import ImageFile
from faithful_stripe.media.nbd import NbdServer
from faithful_stripe.work.drawing import rows
from faithful_stripe.work.extracting import extract
from faithful_stripe.work.lineup import evidence_of, open_array, prove, save, solve_images, what_is_read

from .conftest import FSTRIPE
from .cutting import one_in

STRIP = 4096
SHAPES = {
    "RAID0": (3, {}), "RAID1": (3, {}), "RAID1E": (5, {}), "RAID10": (6, {"copies": 2}), "RAID4": (4, {}),
    "RAID5": (5, {}), "RAID6": (6, {}), "RAID50": (6, {"spans": 2}), "RAID60": (8, {"spans": 2}), "SPAN": (3, {}),
}  # fmt: skip
LAYOUTS = [
    (level.name, rotation, data, q) for level in LEVELS.values() for rotation, data, q in level.layouts
]  # fmt: skip


def made(level, rotation, data, q, folder):
    """A geometry of this layout, an array full of known bytes, and its members as files with lying names."""
    members, more = SHAPES[level]
    if q:
        more = {**more, "q_place": q, "q_exponent": "data-index"}
    shape = geometry(level, members, STRIP, member_bytes=48 * STRIP, start_bytes=8192, rotation=rotation, data=data,
                     **more)  # fmt: skip
    sources = [MemorySource(60 * STRIP) for _ in range(members)]
    content = np.random.default_rng(417).integers(0, 256, shape.volume_bytes, np.uint8).tobytes()
    array = Array(shape, sources)
    array.write(0, content)
    array.flush()
    names = [f"drive-{n}.img" for n in random.Random(5).sample(range(members), members)]
    for name, source in zip(names, sources, strict=True):
        buffer = bytearray(source.size)
        source.read_into(0, buffer)
        (folder / name).write_bytes(buffer)
    return shape, names, content


@pytest.mark.parametrize(("level", "rotation", "data", "q"), LAYOUTS)
def test_every_layout_is_written_read_and_handed_over_with_members_missing(tmp_path, level, rotation, data, q):
    shape, names, content = made(level, rotation, data, q, tmp_path)
    survives = margin(shape.pattern, []) if level not in ("RAID0", "SPAN") else 0
    for missing in range(survives + 1):
        members = tuple(None if i < missing else name for i, name in enumerate(names))
        path = tmp_path / f"claim-{missing}.toml"
        save(Solution((Lineup(shape, members, placed("probable"), 0.0, 0.0),), ()), path)
        with open_array(path) as (found, sources):
            array = found.opened(sources)
            assert found.geometry == shape and found.members == members
            buffer = bytearray(array.size)
            array.read_into(0, buffer)
            assert bytes(buffer) == content, (level, missing)


@pytest.mark.parametrize(("level", "rotation", "data", "q"), [one for one in LAYOUTS if one[0] != "SPAN"])
def test_what_is_drawn_is_what_stands_there(tmp_path, level, rotation, data, q):
    """Every numbered cell holds just that strip of the volume; every P of a single parity is the XOR of its row."""
    shape, names, content = made(level, rotation, data, q, tmp_path)
    members = [(tmp_path / name).read_bytes() for name in names]
    drawn = rows(Lineup(shape, tuple(names), placed("certain"), 0.0, 0.0), 0, 48)
    assert [r.number for r in drawn] == list(range(shape.rows))
    seen = set()
    for row in drawn:
        cells = [m[row.offset : row.offset + STRIP] for m in members]
        for word, cell in zip(row.cells, cells, strict=True):
            if word.isdecimal():
                seen.add(int(word))
                assert cell == content[int(word) * STRIP : (int(word) + 1) * STRIP], (row.number, word)
        if level in ("RAID4", "RAID5"):
            parts = np.array([np.frombuffer(cell, np.uint8) for cell in cells])
            assert row.cells.count("P") == 1 and not np.bitwise_xor.reduce(parts).any()
    assert seen == set(range(shape.volume_bytes // STRIP))


def test_a_claim_of_a_raid_60_as_commands(fstripe):
    shape, names, content = made("RAID60", "parity-N", "continuation", "after-p", fstripe.folder)
    spans = [[names[0], "", *names[2:4]], ["", *names[5:7], ""]]
    text = f"""format = "faithful-stripe/lineup/1"
[[arrays]]
level = "RAID60"
spans = {spans}
strip_bytes = {STRIP}
rotation = "parity-N"
data = "continuation"
q = {{ place = "after-p", exponent = "data-index" }}
start_bytes = 8192
member_bytes = {48 * STRIP}
"""
    (fstripe.folder / "claim.toml").write_text(text)
    assert tomllib.loads(text)["arrays"][0]["spans"] == spans
    shown = fstripe("lineup", "draw", "claim.toml", "--rows", "4")
    assert shown.status == 0 and "(missing)" in shown.out, shown.err
    drawn = fstripe("lineup", "draw", "claim.toml", "--json").json
    assert drawn["images"] == [n or None for span in spans for n in span]
    assert all(row["cells"].count("P") == row["cells"].count("Q") == 2 for row in drawn["rows"])
    out = fstripe("lineup", "extract", "claim.toml", "volume.img")
    assert out.status == 3 and "not certain" in out.err  # a claim is not a proof
    assert (fstripe.folder / "volume.img").read_bytes() == content
    assert "there is no array 2" in fstripe("lineup", "draw", "claim.toml", "--array", "2").err
    assert shape.volume_bytes == len(content)


def test_images_are_opened_for_reading_only_by_every_lineup_command(tmp_path):
    """Every opening of a file in this process is watched while a pile is solved, proven, drawn, and extracted."""
    shape, names, content = made("RAID5", "parity-N", "continuation", None, tmp_path)
    images = [tmp_path / name for name in names]
    claim = Lineup(shape, tuple(map(str, images)), placed("probable"), 0.0, 0.0)
    save(Solution((claim,), ()), tmp_path / "c.toml")
    before = [(p.read_bytes(), p.stat().st_mtime_ns) for p in images]
    opened, watching = [], [True]

    def watch(event, arguments):
        if watching and event == "open" and str(arguments[0]).endswith(".img") and "drive-" in str(arguments[0]):
            opened.append(arguments[2] & os.O_ACCMODE)

    sys.addaudithook(watch)
    try:
        solve_images(images)
        prove(tmp_path / "c.toml", against=images[:1])
        evidence_of(tmp_path / "c.toml")
        with open_array(tmp_path / "c.toml") as (found, members):
            extract(found, members, what_is_read(found, members), tmp_path / "out", 0, shape.volume_bytes)
    finally:
        watching.clear()
    assert len(opened) >= 4 * len(images)
    assert set(opened) == {os.O_RDONLY}
    assert [(p.read_bytes(), p.stat().st_mtime_ns) for p in images] == before
    assert (tmp_path / "out").read_bytes() == content


@pytest.mark.parametrize("interrupted", ["lay_out", "clusters"])
def test_a_search_stopped_by_hand_says_what_is_known(tmp_path, monkeypatch, interrupted):
    _shape, names, _content = made("RAID5", "parity-N", "continuation", None, tmp_path)

    def stop(*_arguments):
        raise KeyboardInterrupt

    monkeypatch.setattr(f"faithful_stripe.core.lineup.solving.solve.{interrupted}", stop)
    solution = solve_images([tmp_path / name for name in names])
    assert not solution.arrays and len(solution.unused) == len(names)
    assert {solving.STOPPED, solving.STOPPED_EARLY} & set(solution.notes)


def test_the_best_answer_so_far_is_given_when_the_search_is_stopped(tmp_path, monkeypatch, observatory):
    found, sources = sliced(observatory, "RAID5", 4, start=0)
    real, calls = judging.read_volume, []

    def stop(*arguments):
        calls.append(1)
        if len(calls) == 2:
            raise KeyboardInterrupt
        return real(*arguments)

    monkeypatch.setattr(judging, "read_volume", stop)
    solution = solving.solve(Pile([f"d{i}" for i in range(4)], sources))
    (array,) = solution.arrays
    assert array.members == found.members and solving.STOPPED in solution.notes
    assert array.verdict == "undecided" and array.verdicts.order.reason is Reason.STOPPED
    assert sum(e.count for e in array.evidence if e.kind == "proof") > 500


@pytest.mark.parametrize("where", ["lay_out", "clusters"])
def test_what_a_first_part_told_is_kept_when_more_is_read_and_stopped(tmp_path, monkeypatch, where):
    """Nobody is told that nothing is known while an answer was there."""
    _shape, names, _content = made("RAID5", "parity-N", "continuation", None, tmp_path)
    for name, value in (("FIRST_BYTES", 1 << 22), ("STOCK_BYTES", 1 << 10), ("_certain", lambda _found: False)):
        monkeypatch.setattr(solving, name, value)
    known, calls = solve_images([tmp_path / name for name in names]), []
    real = getattr(solving, where)

    def stop(*arguments):
        calls.append(1)
        if len(calls) == 2:
            raise KeyboardInterrupt
        return real(*arguments)

    monkeypatch.setattr(solving, where, stop)
    solution = solve_images([tmp_path / name for name in names])
    assert [a.members for a in solution.arrays] and solving.STOPPED in solution.notes
    assert solving.STOPPED_EARLY not in solution.notes and known.arrays


# the network block device -----------------------------------------------------------------------


class Damaged(MemorySource):
    """A source with a place that cannot be read."""

    def read_into(self, offset, buffer):
        if offset <= 5000 < offset + len(buffer):
            raise Unreadable(source=self, offset=5000, length=512)
        super().read_into(offset, buffer)


@contextmanager
def serving(source, port=0):
    with NbdServer(source, "volume", port=port) as server:
        thread = threading.Thread(target=server.serve_forever, args=(0.01,))
        thread.start()
        try:
            yield server
        finally:
            server.shutdown()
            thread.join()


class NbdClient:
    """A client after the protocol's own description, sharing nothing with the server."""

    def __init__(self, port, flags=3):
        self.s = socket.create_connection(("127.0.0.1", port), timeout=10)
        assert self.take(16) == b"NBDMAGICIHAVEOPT" and self.take(2) == b"\x00\x03"
        self.s.sendall(struct.pack(">I", flags))

    def __enter__(self):
        return self

    def __exit__(self, *_details):
        self.s.close()

    def take(self, count):
        data = b""
        while len(data) < count:
            piece = self.s.recv(count - len(data))
            if not piece:
                raise EOFError
            data += piece
        return data

    def option(self, number, data=b""):
        self.s.sendall(b"IHAVEOPT" + struct.pack(">II", number, len(data)) + data)
        found = []
        while True:
            magic, option, kind, length = struct.unpack(">QIII", self.take(20))
            assert (magic, option) == (0x3E889045565A9, number)
            found.append((kind, self.take(length)))
            if kind == 1 or kind >> 31:
                return found

    def go(self, name=b""):
        return self.option(7, struct.pack(">I", len(name)) + name + b"\0\0")

    def ask(self, kind, offset, length, payload=b""):
        self.s.sendall(struct.pack(">IHHQQI", 0x25609513, 0, kind, 77, offset, length) + payload)
        magic, error, handle = struct.unpack(">IIQ", self.take(16))
        assert (magic, handle) == (0x67446698, 77)
        return error, self.take(length) if kind == 0 and not error else b""


def test_any_client_reads_and_none_writes():
    source = Damaged(1 << 20)
    source.write(0, bytes(range(256)) * 4096)
    with serving(source) as server:
        client = NbdClient(server.port)
        assert client.option(3) == [(2, struct.pack(">I", 6) + b"volume"), (1, b"")]
        assert client.option(5) == [(0x80000001, b"")]  # TLS is not offered
        assert client.go(b"other") == [(0x80000006, b"")] and client.option(7, b"\0")[0][0] == 0x80000003
        (kind, told), (_block, sizes), (last, _empty) = client.go(b"volume")
        assert (kind, last) == (3, 1) and struct.unpack(">HQH", told) == (0, 1 << 20, 0x103)
        assert struct.unpack(">HIII", sizes)[1:] == (1, 65536, 32 << 20)
        assert client.ask(0, 8192, 1000) == (0, (bytes(range(256)) * 4)[:1000])
        assert client.ask(0, 4096, 4096) == (5, b"")  # it cannot be read; the connection goes on
        assert client.ask(1, 0, 3, b"abc") == (1, b"") and client.ask(3, 0, 0) == (0, b"")
        assert client.ask(0, (1 << 20) - 1, 2)[0] == 22 and client.ask(0, 0, 33 << 20)[0] == 22
        assert client.ask(9, 0, 0)[0] == 22 and client.ask(0, 0, 256) == (0, bytes(range(256)))
        client.s.sendall(struct.pack(">IHHQQI", 0x25609513, 0, 2, 1, 0, 0))
        assert client.s.recv(1) == b""
        client.s.close()
        with NbdClient(server.port, flags=0) as old:  # the oldest way in: no reply to the name, padding
            old.s.sendall(b"IHAVEOPT" + struct.pack(">II", 1, 0))
            assert old.take(10) == struct.pack(">QH", 1 << 20, 0x103) and old.take(124) == bytes(124)
            assert old.ask(0, 0, 16) == (0, bytes(range(16)))


CONTEXT = struct.pack(">I", 6) + b"volume" + struct.pack(">II", 1, 15) + b"base:allocation"


def chunk(client):
    """One structured reply of one chunk: its kind and what it holds."""
    magic, flags, kind, handle, length = struct.unpack(">IHHQI", client.take(20))
    assert (magic, flags, handle) == (0x668E33EF, 1, 77)
    return kind, client.take(length)


def request(client, kind, offset, length, flags=0):
    client.s.sendall(struct.pack(">IHHQQI", 0x25609513, flags, kind, 77, offset, length))
    return chunk(client)


@given(st.sets(st.integers(0, 255), max_size=40), st.integers(0, 1 << 20), st.integers(1, 1 << 20))
@settings(max_examples=30)
def test_a_client_is_told_where_the_volume_holds_nothing(pages, offset, length):
    """The ranges told follow one another from where it asked; what is called zeros reads as zeros."""
    source = MemorySource(1 << 20)
    for page in pages:
        source.write(page * 4096, b"tide" * 1024)
    length = min(length, (1 << 20) - offset)
    with serving(source) as server, NbdClient(server.port) as client:
        assert client.option(10, CONTEXT) == [(0x80000003, b"")]  # structured replies come first
        assert client.option(8) == [(1, b"")]
        assert client.option(9, CONTEXT[:10] + bytes(4)) == [(4, b"\0\0\0\1base:allocation"), (1, b"")]
        assert client.option(10, CONTEXT)[0] == (4, b"\0\0\0\1base:allocation") and client.go()[-1][0] == 1
        if not length:
            assert request(client, 7, offset, 0)[0] == 0x8001
            return
        kind, told = request(client, 7, offset, length)
        assert kind == 5 and told[:4] == b"\0\0\0\1"
        at = offset
        for size, flags in struct.iter_unpack(">II", told[4:]):
            kind, data = request(client, 0, at, size)
            assert kind == 1 and data[:8] == struct.pack(">Q", at) and len(data) == 8 + size
            assert flags in (0, 3) and (flags == 0 or not any(data[8:]))
            at += size
        assert at == offset + length
        assert len(request(client, 7, offset, length, 8)[1]) == 12  # one range, where one was asked for
        assert request(client, 7, (1 << 20) - 1, 2) == (0x8001, struct.pack(">IH", 22, 0))


def test_what_cannot_be_read_is_an_error_in_structured_words_too():
    with serving(Damaged(1 << 20)) as server, NbdClient(server.port) as client:
        client.option(8)
        client.go()
        assert request(client, 0, 4096, 4096) == (0x8001, struct.pack(">IH", 5, 0))
        assert request(client, 7, 0, 512) == (0x8001, struct.pack(">IH", 22, 0))  # nobody agreed on a context
        for data in (b"", CONTEXT[:-1], CONTEXT + b"x", struct.pack(">I", 1 << 30)):
            with NbdClient(server.port) as other:
                other.option(8)
                assert other.option(10, data)[-1][0] == 0x80000003


@given(st.binary(max_size=200))
@settings(max_examples=40)
def test_noise_ends_the_connection_and_nothing_else(noise):
    with serving(MemorySource(1 << 16)) as server:
        stranger = socket.create_connection(("127.0.0.1", server.port), timeout=10)
        stranger.sendall(noise)
        stranger.close()
        with NbdClient(server.port) as client:
            assert client.go()[-1][0] == 1 and client.ask(0, 0, 512) == (0, bytes(512))


def test_a_volume_with_missing_members_is_served_as_a_command(fstripe):
    shape, names, content = made("RAID6", "parity-N", "continuation", "after-p", fstripe.folder)
    members = (None, *names[1:4], None, names[5])
    save(Solution((Lineup(shape, members, placed("certain"), 9.0, 0.0),), ()), fstripe.folder / "found.toml")
    process = subprocess.Popen(
        [FSTRIPE, "lineup", "serve", "found.toml", "--port", "0"], cwd=fstripe.folder, stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert process.stdout is not None
    try:
        at = process.stdout.readline().split(" at ")[1].split(";")[0]
        with NbdClient(int(at.split(":")[2].split("/")[0])) as client:
            assert client.go(b"found")[-1][0] == 1
            assert b"".join(client.ask(0, o, STRIP)[1] for o in range(0, len(content), STRIP)) == content
        if shutil.which("nbdcopy"):
            subprocess.run(["nbdcopy", at, fstripe.folder / "copy.img"], check=True, timeout=60)
            assert (fstripe.folder / "copy.img").read_bytes() == content
        if shutil.which("nbdinfo"):
            told = subprocess.run(
                ["nbdinfo", "--json", at], check=True, timeout=60, capture_output=True, text=True
            ).stdout
            assert "base:allocation" in told
        if shutil.which("qemu-img"):
            words = ["qemu-img", "convert", "-f", "raw", "-O", "raw", at, fstripe.folder / "other.img"]
            subprocess.run(words, check=True, timeout=60)
            assert (fstripe.folder / "other.img").read_bytes()[: len(content)] == content
        taken = fstripe("lineup", "serve", "found.toml", "--port", at.split(":")[2].split("/")[0])
        assert taken.status == 1 and "cannot be listened at" in taken.err
    finally:
        process.send_signal(signal.SIGINT)
        _out, err = process.communicate(timeout=20)
    assert process.returncode == 0 and "nothing was changed" in err


# proving ----------------------------------------------------------------------------------------


def sliced(image, level, members, start=1 << 20, **more):
    """A lineup over memory that holds a file system, strips of 64 KiB, data from the second MiB on."""
    with ImageFile(image) as file:
        per = geometry(level, members, 65536, member_bytes=64 << 20, **more)
        extent = (file.size * (64 << 20) // per.volume_bytes // (1 << 20) + 4) << 20
        shape = geometry(level, members, 65536, member_bytes=extent, start_bytes=start, **more)
        sources = [MemorySource(extent + (2 << 20)) for _ in range(members)]
        array = Array(shape, sources)
        for a, b in file.data_ranges():
            for at in range(a, b, 1 << 20):
                buffer = bytearray(min(1 << 20, b - at))
                file.read_into(at, buffer)
                array.write(at, buffer)
    return Lineup(shape, tuple(f"d{i}" for i in range(members)), placed("probable"), 0.0, 0.0), sources


def claimed(found, sources, order=None, **changed):
    """The trial of a claim that differs from the truth."""
    made, chosen = found.geometry, found.geometry.layout
    facts = {
        "rotation": chosen.rotation, "data": chosen.data, "q_place": chosen.q_place,
        "spans": chosen.spans if chosen.spans > 1 else None, "member_bytes": made.member_bytes[0] - 65536,
        "copies": chosen.copies if chosen.level == "RAID10" else None, "start_bytes": made.start_bytes[0],
    } | changed  # fmt: skip
    strip = facts.pop("strip", made.strip_bytes)
    shape = geometry(chosen.level, made.members, strip, **facts)
    mine = [sources[i] for i in order] if order else sources
    return try_claim(Lineup(shape, found.members, placed("probable"), 0.0, 0.0), mine)


@pytest.mark.long
def test_a_right_claim_is_certain_and_a_wrong_one_is_told_what_is_wrong_in_it(observatory):
    found, sources = sliced(observatory, "RAID6", 5)
    right = try_claim(found, sources)
    assert right.verdict == "certain" and right.claim.broken == 0 and right.claim.rows > 30, right.says
    assert all(o.refused for o in right.others) and len(right.others) > 12
    for wrong, words in (
        ({"order": [0, 3, 2, 1, 4]}, "members 1 and 3 exchanged"), ({"strip": 32768}, "strips of 64 KiB"),
        ({"data": "restart"}, "parity-N, continuation, Q after-p instead"),
        ({"start_bytes": (1 << 20) + 65536}, "data start 64 KiB earlier"),
    ):  # fmt: skip
        trial = claimed(found, sources, **wrong)
        assert trial.verdict == "wrong" and trial.says == f"it does not hold; this does: {words}", (wrong, trial.says)
    two_wrong = claimed(found, sources, order=[1, 0, 3, 2, 4])
    assert two_wrong.verdict == "undecided" and "nothing that differs in one thing is right" in two_wrong.says


@pytest.mark.parametrize(
    ("level", "members", "missing", "more"),
    one_in(3, [("RAID6", 5, (0, 3), {}), ("RAID5", 4, (2,), {}), ("RAID10", 6, (1, 4), {"copies": 2}),
               ("RAID50", 6, (0, 5), {"spans": 2}), ("RAID0", 3, (), {}), ("RAID1E", 5, (2,), {"data": "offset"})]),
)  # fmt: skip
def test_claims_with_members_missing_are_proven_by_what_they_hold(observatory, level, members, missing, more):
    found, sources = sliced(observatory, level, members, **more)
    trial = try_claim(found, [None if i in missing else s for i, s in enumerate(sources)])
    assert trial.verdict == "certain", trial.says
    order = list(range(members))
    here = [i for i in order if i not in missing]
    first, last = here[0], here[-1]
    order[first], order[last] = last, first
    wrong = try_claim(found, [None if i in missing else sources[order[i]] for i in range(members)])
    assert wrong.verdict == "wrong" and f"members {first} and {last} exchanged" in wrong.says, wrong.says


def test_nothing_is_claimed_of_what_cannot_be_tested():
    found = Lineup(geometry("RAID0", 3, 65536, member_bytes=8 << 20), ("a", "b", "c"), placed("probable"), 0.0, 0.0)
    sources = [MemorySource(8 << 20) for _ in range(3)]
    rng = np.random.default_rng(3)
    for source in sources:
        source.write(0, rng.integers(0, 256, 1 << 20, np.uint8).tobytes())
    trial = try_claim(found, sources)
    assert trial.verdict == "undecided" and "nothing on it can be tested" in trial.says


@pytest.mark.long
def test_a_solved_pile_is_proven_as_a_command(fstripe, observatory):
    found, sources = sliced(observatory, "RAID5", 3, start=0)
    for name, source in zip(found.members, sources, strict=True):
        with open(fstripe.folder / name, "wb") as file:
            file.truncate(source.size)
            for a, b in source.data_ranges():
                buffer = bytearray(b - a)
                source.read_into(a, buffer)
                file.seek(a)
                file.write(buffer)
    save(Solution((found,), ()), fstripe.folder / "claim.toml")
    told = fstripe("lineup", "prove", "claim.toml")
    assert told.status == 0 and "Verdict: CERTAIN: it holds, and all 9 lineups next to it fail" in told.out, told.out
    assert told.out.count("fails") == 9 and "tells nothing" not in told.out
    text = (fstripe.folder / "claim.toml").read_text().replace('"d0", "d1"', '"d1", "d0"')
    (fstripe.folder / "wrong.toml").write_text(text)
    wrong = fstripe("lineup", "prove", "wrong.toml", "--json")
    assert wrong.status == 3 and wrong.json["verdict"] == "wrong"
    assert wrong.json["wrong"] == ["order: position 0 holds d0, it states d1; position 1 holds d1, it states d0"]
    text = text.replace('"d1", "d0", "d2"', '"d1", "d2", "d0"').replace("strip_bytes = 65536", "strip_bytes = 32768")
    (fstripe.folder / "worse.toml").write_text(text)
    worse = fstripe("lineup", "prove", "worse.toml")
    assert worse.status == 3 and "WRONG: the images themselves say another lineup:" in worse.out
    assert (
        "wrong: strip size: 64 KiB, it states 32 KiB" in worse.out and "wrong: order: position 0 holds d0" in worse.out
    )
