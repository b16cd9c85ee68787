"""Volumes assembled from the drives themselves: at power-on, moved, stale, contradicting, found."""

import random

import pytest

from faithful_stripe.bench import assemble, errors, jobs, members, takeover, volumes
from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.bench.errors import BenchError
from faithful_stripe.bench.journal import Record, _append
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.core.arrays.rebuild import check_rows
from faithful_stripe.core.source import read

from .small import SIZE, TEXT

LEVELS = [
    Wish("v", "RAID0", tuple("1234"), 4096),
    Wish("v", "RAID1", tuple("12"), 4096),
    Wish("v", "RAID1E", tuple("123"), 4096, data="offset"),
    Wish("v", "RAID10", tuple("1234"), 8192),
    Wish("v", "RAID4", tuple("1234"), 4096, rotation="fixed-0"),
    Wish("v", "RAID5", tuple("1234"), 4096, rotation="parity-0", data="continuation"),
    Wish("v", "RAID5", tuple("1234"), 4096, rotation="parity-N", data="restart", size=300_000),
    Wish("v", "RAID6", tuple("1234"), 4096, q_place="after-p", q_exponent="member-position"),
    Wish("v", "SPAN", tuple("1234"), 4096),
]


class Room:
    """Two small benches and one volume with known bytes on the first."""

    def __init__(self, folder, wall, wish=LEVELS[5], more=0) -> None:
        text = TEXT.replace(f"size = {SIZE}", f"size = {SIZE + more}")
        (folder / "a.toml").write_text(text)
        empty = TEXT[: TEXT.index("[seated]")].replace('serial = "L"', 'serial = "OTHER"').replace("small-1", "small-2")
        (folder / "b.toml").write_text(empty)
        self.folder, self.wall = folder, wall
        create(folder / "a", folder / "a.toml", now=wall)
        self.a = Bench(folder / "a", wall=wall)
        with self.a.session() as s:
            made = volumes.create(s.controller, volumes.check(s.controller, wish))
            self.data = random.Random(1).randbytes(made.geometry.volume_bytes)
        self.write(self.a, 0, self.data)

    def write(self, bench, at, data):
        with bench.session() as s:
            volume = s.controller.volume("v")
            s.controller.before_write(volume)
            s.journal.write(s.controller.array(volume), volume.number, at, data)

    def bytes(self, bench, name="v"):
        with bench.session() as s:
            volume = s.controller.volume(name)
            return read(s.controller.array(volume), 0, len(self.data))

    def off(self, bench):
        with bench.session(power_cut=random.Random(2), stay_off=True):
            pass

    def on(self, bench):
        with bench.session() as s:
            s.power_on()
            return [e.message_id.rsplit(".", 1)[1] for e in s.said]

    def move(self, *serials):
        """Pull drives on the first bench and seat them in a new second one, the other way round."""
        with self.a.session() as s:
            for serial in serials:
                if s.state.drives[serial].bay:
                    s.pull(serial)
        create(self.folder / "b", self.folder / "b.toml", now=self.wall, take=[(self.folder / "a", x) for x in serials])
        bench = Bench(self.folder / "b", wall=self.wall)
        with bench.session() as s:
            for bay, serial in zip("654321", serials, strict=False):
                s.seat(bay, serial)
        return bench


@pytest.fixture
def room(tmp_path, wall):
    return Room(tmp_path, wall)


@pytest.mark.parametrize("wish", LEVELS, ids=lambda w: f"{w.level} {w.rotation} {w.data}")
def test_every_level_is_assembled_from_its_drives_alone(tmp_path, wall, wish):
    """No memory, other bays, another controller: only what stands on the drives."""
    room = Room(tmp_path, wall, wish)
    b = room.move(*(f"D{bay}" for bay in wish.bays))
    with b.session() as s:
        (found,) = assemble.found_volumes(s.controller)
        assert found.trouble is None and found.product == "RC4" and found.volume.level == wish.level
        takeover.adopt(s.controller, "v")
    assert room.bytes(b) == room.data
    with b.session() as s:
        s.controller.memory.volumes.clear()  # and once more by the controller that has lost its memory
        s.controller.memory.setup = {"mark": "?", "sequence": 0}
        s.state.power = False
    room.on(b)
    assert room.bytes(b) == room.data
    b.close()


def test_drives_moved_between_bays_while_it_was_off_still_assemble(room):
    room.off(room.a)
    with pytest.raises(errors.PoweredOff), room.a.session() as s:
        s.require_power()
    with room.a.session() as s:
        for serial in ("D1", "D2", "D3", "D4"):
            s.pull(serial)
        for bay, serial in zip("6521", ("D1", "D2", "D3", "D4"), strict=True):
            s.seat(bay, serial)
    assert "VolumeDegraded" not in room.on(room.a) and room.bytes(room.a) == room.data
    with room.a.session() as s:
        assert [m.bay for m in s.controller.volume("v").members] == ["6", "5", "2", "1"]


def test_a_member_away_while_the_volume_was_written_is_out_of_date_after_a_power_cycle(room):
    with room.a.session() as s:
        s.pull("D2")
    room.write(room.a, 0, bytes(5000))
    room.off(room.a)
    with room.a.session() as s:
        s.seat("2", "D2")
    assert room.on(room.a).count("RebuildStarted") == 1
    assert room.bytes(room.a)[:5000] == bytes(5000)
    room.wall.now += 60
    with room.a.session() as s:
        volume = s.controller.volume("v")
        assert not volume.lost
        assert not [bad for _r, some in check_rows(s.controller.array(volume), 0, volume.geometry.rows) for bad in some]


def test_nothing_older_than_the_memory_is_trusted_even_when_nothing_newer_is_there(tmp_path, wall):
    room = Room(tmp_path, wall, LEVELS[1])
    with room.a.session() as s:
        s.pull("D1")
    room.write(room.a, 0, bytes(5000))
    room.off(room.a)
    with room.a.session() as s:
        s.pull("D2")
        s.seat("1", "D1")
    assert "VolumeFailure" in room.on(room.a)  # a mirror's old half alone: its bytes would look sound
    room.off(room.a)
    with room.a.session() as s:
        s.seat("2", "D2")
    room.on(room.a)
    assert room.bytes(room.a)[:5000] == bytes(5000)


def test_a_rebuild_goes_on_where_it_was_after_a_cut_of_power(room):
    with room.a.session() as s:
        s.pull("D2")
    room.write(room.a, 0, bytes(5000))
    with room.a.session() as s:
        s.seat("2", "D2")
    room.wall.now += 1.0  # of two: the small drives are slow
    with room.a.session() as s:
        before = s.controller.volume("v").members[1].done
    room.off(room.a)
    room.wall.now += 100.0  # nothing goes on while the power is off
    room.on(room.a)
    with room.a.session() as s:
        member = s.controller.volume("v").members[1]
        assert member.state == "rebuilding" and 0 < before <= member.done < s.controller.volume("v").extent


def test_mirror_halves_written_apart_contradict_each_other(tmp_path, wall):
    """Each half was written alone, by another controller: both say that the other one was away."""
    room = Room(tmp_path, wall, LEVELS[1])
    with room.a.session() as s:
        s.pull("D2")
    room.write(room.a, 0, b"a" * 5000)
    b = room.move("D2")
    with b.session() as s:
        takeover.adopt(s.controller, "v")
    room.write(b, 0, b"b" * 5000)
    with b.session() as s:
        s.pull("D2")
    with room.a.session() as s:
        s.pull("D1")
    b.close()
    third = room.folder / "c"
    create(third, room.folder / "b.toml", now=wall, take=[(room.folder / "a", "D1"), (room.folder / "b", "D2")])
    with Bench(third, wall=wall).session() as s:
        s.seat("1", "D1")
        s.seat("2", "D2")
        (found,) = assemble.found_volumes(s.controller)
        assert found.trouble and "contradict each other: D1 (bay 1), D2 (bay 2)" in found.trouble[0]
        with pytest.raises(errors.FoundUnfit, match="contradict"):
            takeover.adopt(s.controller, "v")
        s.pull("D2")
        takeover.adopt(s.controller, "v")
        volume = s.controller.volume("v")
        assert volume.lost == [1] and read(s.controller.array(volume), 0, 5000) == b"a" * 5000


def test_a_foreign_set_up_comes_with_what_shares_its_drives_and_a_stale_member_is_rebuilt(tmp_path, wall):
    room = Room(tmp_path, wall, LEVELS[6], more=2 << 20)
    with room.a.session() as s:
        second = Wish("w", "RAID0", tuple("1234"), 4096)
        volumes.create(s.controller, volumes.check(s.controller, second))
        s.seat("5", "S1")
        members.add_spare(s.controller, "5", [s.controller.volume("v")], True)
        members.remove_spare(s.controller, "5")
    with room.a.session() as s:
        s.pull("D3")
    room.write(room.a, 0, bytes(9000))
    b = room.move("D1", "D2", "D3", "D4")
    with b.session() as s:
        names = {f.volume.name: f for f in assemble.found_volumes(s.controller)}
        assert names["v"].stale == ["D3"] and names["w"].trouble is None  # w was not written meanwhile
        with pytest.raises(errors.NothingFound, match="no set-up here describes a volume x"):
            takeover.adopt(s.controller, "x")
        takeover.adopt(s.controller, "v", "tides")
        assert sorted(v.name for v in s.controller.memory.volumes.values()) == ["tides", "w"]
        assert [j.kind for j in s.controller.memory.jobs.values()] == ["rebuild"]
    wall.now += 60
    assert room.bytes(b, "tides") == bytes(9000) + room.data[9000:]
    b.close()


def test_a_foreign_set_up_is_cleared_only_when_asked(room):
    b = room.move("D1", "D2", "D3", "D4")
    with b.session() as s:
        assert len(assemble.told_by(s.controller)) == 4
        assert sorted(takeover.forget(s.controller, "v")) == ["D1", "D2", "D3", "D4"]
        assert assemble.found_volumes(s.controller) == [] and assemble.told_by(s.controller) == {}
        with pytest.raises(errors.NothingFound):
            takeover.forget(s.controller, "v")
    b.close()


def test_too_few_members_are_named_and_not_taken_over(room):
    b = room.move("D1", "D4")
    with b.session() as s, pytest.raises(errors.FoundUnfit, match=r"members 1 \(D2\), 2 \(D3\) are not here"):
        takeover.adopt(s.controller, "v")
    b.close()


def test_a_drive_that_was_changed_elsewhere_is_no_member_when_it_returns(room):
    with room.a.session() as s:
        s.pull("D2")
        medium = s.medium(s.state.drives["D2"])
        medium.discard(medium.size - 512, 512)  # its set-up was wiped on another machine
        s.seat("2", "D2")
        assert [e.message_id.rsplit(".", 1)[1] for e in s.said][-2:] == ["DriveInserted", "DriveNotTaken"]
        assert s.controller.volume("v").members[1].state == "lost"


def test_a_write_interrupted_by_the_cut_waits_until_the_volume_can_take_it(room):
    """The journal's record of a volume that has failed is held, and not lost by other volumes' writes."""
    with room.a.session() as s:
        volume = s.controller.volume("v")
        step = next(s.controller.array(volume).plan_writes(0, b"x" * 4096))
        payload = b"".join(piece.tobytes() for _m, _o, piece in step.pieces)
        pieces = tuple((m, o, len(piece)) for m, o, piece in step.pieces)
        with open(room.folder / "a" / "nvram.journal", "wb", buffering=0) as file:
            _append(file.fileno(), Record("content", volume.number, pieces, payload))
        s.state.power = False
        for serial in ("D1", "D2"):
            s.pull(serial)
    assert "VolumeFailure" in room.on(room.a)
    with room.a.session() as s:
        assert not s.journal.empty and s.controller.margin(s.controller.volume("v")) == -1
    for bay, serial in (("1", "D1"), ("2", "D2")):
        with room.a.session() as s:
            s.seat(bay, serial)
    assert room.bytes(room.a)[:4096] == b"x" * 4096
    room.wall.now += 60
    with room.a.session() as s:
        assert s.journal.empty
        volume = s.controller.volume("v")
        assert not volume.lost
        assert not [bad for _r, some in check_rows(s.controller.array(volume), 0, volume.geometry.rows) for bad in some]


def test_drives_are_taken_only_where_they_lie_loose(room):
    def new(serial):
        create(room.folder / "b", room.folder / "b.toml", now=room.wall, take=[(room.folder / "a", serial)])

    for serial, said in (("D1", "drive D1 is in bay 1; pull it first"), ("D9", "there is no drive D9")):
        with pytest.raises(BenchError, match=said):
            new(serial)
        assert not (room.folder / "b").exists()
    new("S1")
    with room.a.session() as s:
        assert "S1" not in s.state.drives and not (room.folder / "a" / "drives" / "S1.img").exists()
    assert (room.folder / "b" / "drives" / "S1.img").stat().st_nlink == 1


def test_work_is_dropped_at_power_on_where_its_drives_are_gone(room):
    with room.a.session() as s:
        s.seat("5", "S1")
        members.add_spare(s.controller, "5", [], True)
        members.predict_failure(s.controller, s.state.drives["D1"])
        assert [j.kind for j in s.controller.memory.jobs.values()] == ["copy"]
    room.off(room.a)
    with room.a.session() as s:
        s.pull("S1")
    room.on(room.a)
    with room.a.session() as s:
        assert not s.controller.memory.jobs and jobs.next_end(s.controller) == float("inf")
    assert room.bytes(room.a) == room.data


def test_a_bench_whose_drives_went_to_another_while_it_was_off_opens_again(fstripe, skerry):
    """Members and a hot spare: the controller finds them missing when it starts, and takes the members back."""
    first = ("--at", "skerry")
    fstripe(*first, "volume", "add", "tides", "--level", "5", "--bays", "4-6", stdin="tides\n")
    fstripe(*first, "spare", "add", "13")
    serial = {d["bay"]: d["serial"] for d in fstripe(*first, "bays", "--json").json["bays"] if d["serial"]}
    fstripe(*first, "bench", "cut-power", "--stay-off")
    away = ("4", "5", "6", "13")
    for bay in away:
        assert fstripe(*first, "bench", "pull", bay).status in (0, 3)
    takes = [word for bay in away for word in ("--take", f"skerry:{serial[bay]}")]
    assert fstripe("bench", "new", "second", "--from", "skerry-2", *takes).status == 0
    assert fstripe(*first, "bench", "power-on").status in (0, 3)
    seen = fstripe(*first, "survey", "--json")
    assert seen.status == 3 and [v["state"] for v in seen.json["volumes"]] == ["offline"]
    assert fstripe(*first, "spare", "add", "12").status == 0  # it works on, and is written and read again
    # and back: the giver has the drives again, and its volume is as it was
    takes = [word for bay in away for word in ("--take", f"second:{serial[bay]}")]
    assert fstripe("bench", "new", "third", "--from", "skerry-2", *takes).status == 0
    for bay, at in zip(away, "1234", strict=True):
        assert fstripe("--at", "third", "bench", "seat", at, serial[bay]).status in (0, 3)
    found = fstripe("--at", "third", "volume", "adopt", "tides", stdin="tides\n")
    assert found.status in (0, 3), found.err
    assert [v["margin"] for v in fstripe("--at", "third", "survey", "--json").json["volumes"]] == [1]
