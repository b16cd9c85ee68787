"""The bench in process: what the controller does when drives come and go, and that nothing is lost."""

import os
import random
import sqlite3

import pytest

from faithful_stripe.bench import errors, members, volumes
from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.bench.clock import Clock, iso
from faithful_stripe.bench.description import bay_labels, description_text, read_description
from faithful_stripe.bench.errors import BenchError
from faithful_stripe.bench.events import KINDS
from faithful_stripe.bench.journal import Journal, Record, _append
from faithful_stripe.bench.store import FILE
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.core.arrays.rebuild import check_rows
from faithful_stripe.core.source import read
from faithful_stripe.media.image import ImageFile, TruncatedImage

HOUR = 3600.0
SPARE, BIG, SMALL, SSD = "UV4H30555", "UV6H00377", "PL2P71120", "QR4S2260"


def member(session, position=1):
    return session.controller.volume("tides").members[position]


def volume_extent(session) -> int:
    return session.controller.volume("tides").extent


def ids(session) -> list[str]:
    return [event.message_id.rsplit(".", 1)[1] for event in session.said]


def write(bench: Bench, offset: int, data: bytes) -> None:
    with bench.session() as session:
        volume = session.controller.volume("tides")
        session.controller.before_write(volume)
        session.journal.write(session.controller.array(volume), volume.number, offset, data)


def contents(bench: Bench, offset: int, length: int) -> bytes:
    with bench.session() as session:
        return read(session.controller.array(session.controller.volume("tides")), offset, length)


@pytest.fixture
def filled(bench):
    data = random.Random(7).randbytes(3_000_000)
    write(bench, 1_000_001, data)
    return data


def same(bench, data) -> bool:
    return contents(bench, 1_000_001, len(data)) == data


def test_a_rebuild_goes_on_with_the_clock_and_ends_at_the_right_moment(bench, wall, filled):
    with bench.session() as session:
        session.fail("5")
        assert (
            ids(session) == ["DriveFailure", "VolumeDegraded"]
            and session.controller.margin(session.controller.volume("tides")) == 0
        )
    assert same(bench, filled)
    with bench.session() as session:
        session.pull("5")
        session.seat("5", SPARE)
        assert ids(session) == ["DriveRemoved", "DriveInserted", "RebuildStarted"]
    with bench.session() as session:
        (job,) = session.controller.memory.jobs.values()
    wall.now += 2 * HOUR
    assert same(bench, filled)
    with bench.session() as session:
        done = member(session).done
        assert member(session).state == "rebuilding" and abs(done - 2 * HOUR * job.rate) < 65536
    wall.now += 20 * HOUR
    with bench.session() as session:
        assert ids(session) == ["RebuildDone", "VolumeOK"] and not session.controller.memory.jobs
        ended = job.since + 4_000_719_896_576 / job.rate
        assert session.said[0].time == iso(ended)
        array = session.controller.array(session.controller.volume("tides"))
        assert not [bad for _row, some in check_rows(array, 0, 200) for bad in some]
    with bench.session() as session:  # any other member may go now
        session.pull("7")
    assert same(bench, filled)


def test_writes_during_a_rebuild_are_kept_on_both_sides_of_it(bench, wall, filled):
    with bench.session() as session:
        session.pull("5")
        session.seat("5", SPARE)
    wall.now += 0.01  # about a megabyte
    with bench.session() as session:
        assert 0 < member(session).done < 3_000_000
    data = random.Random(8).randbytes(len(filled))
    write(bench, 1_000_001, data)
    assert same(bench, data)
    wall.now += 20 * HOUR
    with bench.session() as session:
        session.pull("4")
    assert same(bench, data)


def test_a_drive_pulled_by_mistake_comes_back_as_it_was(bench, filled):
    with bench.session() as session:
        session.pull("6")
    with bench.session() as session:
        session.seat("6", "UV4H21007")
        assert ids(session) == ["DriveInserted", "MemberReturned", "VolumeOK"] and not session.controller.memory.jobs
    assert same(bench, filled)


def test_a_stale_member_is_never_trusted(bench, wall, filled):
    with bench.session() as session:
        session.pull("6")
    data = bytes(reversed(filled))
    write(bench, 1_000_001, data)
    with bench.session() as session:
        session.seat("15", "UV4H21007")  # in another bay even
        assert "RebuildStarted" in ids(session) and member(session, 2).state == "rebuilding"
    assert same(bench, data)
    wall.now += 20 * HOUR
    with bench.session() as session:
        session.pull("4")
    assert same(bench, data)


def test_two_members_gone_is_failed_and_writes_nothing(bench, filled):
    with bench.session() as session:
        session.pull("6")
        session.pull("7")
        assert ids(session)[-1] == "VolumeFailure"
    with pytest.raises(errors.VolumeFailed, match="members 2, 3 are missing"):
        write(bench, 0, b"x")
    with bench.session() as session:
        session.seat("7", SPARE)
        assert ids(session)[-1] == "DriveNotTaken" and "invent data" in session.said[-1].message
        session.pull("7")
        session.seat("7", "UV4H21018")
        session.seat("6", "UV4H21007")
    assert same(bench, filled)


@pytest.mark.parametrize(
    ("serial", "why"),
    [(SMALL, "it holds 2 TB, 4 TB are needed"), (SSD, "it holds 480 GB"), ("UV4H20944", "it has failed")],
)
def test_what_does_not_fit_is_not_taken_and_says_why(bench, serial, why):
    with bench.session() as session:
        session.fail("5")
        session.pull("5")
        session.seat("5", serial)
        assert ids(session)[-1] in ("DriveNotTaken",) and why in session.said[-1].message
        assert member(session).state == "lost" and not session.controller.memory.jobs


def test_a_drive_that_is_not_blank_is_taken_by_hand_only(bench, wall, filled):
    with bench.session() as session:
        session.medium(session.state.drives[SPARE]).write(5_000_000, b"somebody's data")
        session.pull("5")
        session.seat("5", SPARE)
        assert "it is not blank" in session.said[-1].message
        with pytest.raises(errors.UnknownBay):
            members.rebuild_onto(session.controller, session.controller.volume("tides"), "77")
        members.rebuild_onto(session.controller, session.controller.volume("tides"), "5")
    wall.now += 20 * HOUR
    with bench.session() as session:
        session.pull("4")
    assert same(bench, filled)


def test_another_media_is_taken_by_hand_only(bench, wall):
    with bench.session() as session:
        volumes.create(session.controller, volumes.check(session.controller, Wish("system", "RAID1", ("1", "2"))))
        session.pull("2")
        session.seat("2", SMALL)
        assert "it is HDD, the other members are SSD" in session.said[-1].message
        assert "volume rebuild system --onto 2" in session.said[-1].resolution
        members.rebuild_onto(session.controller, session.controller.volume("system"), "2")
    wall.now += 3 * HOUR
    with bench.session() as session:
        assert ids(session) == ["RebuildDone", "VolumeOK"]


def test_a_member_pulled_in_the_middle_of_its_rebuild_is_none_until_it_is_done(bench, wall, filled):
    with bench.session() as session:
        session.pull("5")
        session.seat("5", SPARE)
    wall.now += 0.01
    with bench.session() as session:
        session.pull("5")
        session.seat("5", SPARE)  # the same half-written drive: it must not count as a member
        assert member(session).state == "rebuilding" and member(session).done < volume_extent(session)
    assert same(bench, filled)
    wall.now += 20 * HOUR
    with bench.session() as session:
        session.pull("4")
    assert same(bench, filled)


def test_a_stale_member_waits_while_the_volume_has_failed(bench, wall, filled):
    with bench.session() as session:
        session.pull("6")
    write(bench, 0, b"written while 6 was away")
    with bench.session() as session:
        session.pull("7")
        session.seat("6", "UV4H21007")
        assert ids(session)[-1] == "DriveNotTaken" and "has failed since" in session.said[-1].message
        session.seat("7", "UV4H21018")
        assert ids(session)[-1] == "RebuildStarted" and member(session, 2).state == "rebuilding"
    wall.now += 20 * HOUR
    with bench.session() as session:
        session.pull("4")
    assert same(bench, filled) and contents(bench, 0, 24) == b"written while 6 was away"


def test_a_larger_drive_is_taken(bench):
    with bench.session() as session:
        session.pull("5")
        session.seat("5", BIG)
        assert member(session).state == "rebuilding"
        session.pull("5")
        assert (
            ids(session)[-1] == "RebuildStopped"
            and member(session).state == "lost"
            and not session.controller.memory.jobs
        )


@pytest.mark.parametrize(
    ("wish", "error"),
    [
        (("tides", "RAID5", ("8", "9", "10")), errors.NameTaken),
        (("a b", "RAID5", ("8", "9", "10")), errors.BadName),
        (("new", "RAID5", ("4", "9", "10")), errors.DriveInUse),
        (("new", "RAID5", ("8", "8", "10")), errors.NamedTwice),
        (("new", "RAID5", ("8", "9", "15")), errors.EmptyBay),
        (("new", "RAID5", ("8", "9", "17")), errors.UnknownBay),
        (("new", "RAID5", ("3", "9", "10")), errors.UnlikeDrives),
    ],
)
def test_the_controller_refuses(bench, wish, error):
    with bench.session() as session:
        with pytest.raises(error):
            volumes.check(session.controller, Wish(*wish))
        session.fail("13")
        with pytest.raises(errors.DriveFailed):
            volumes.check(session.controller, Wish("new", "RAID1", ("12", "13")))
        assert len(session.controller.memory.volumes) == 1


def test_an_error_in_a_session_changes_nothing(bench):
    with pytest.raises(RuntimeError), bench.session() as session:
        session.fail("5")
        raise RuntimeError
    with bench.session() as session:
        assert session.state.drives["UV4H20944"].fault == "" and member(session).state == "active"


def test_the_journal_replays_what_a_kill_interrupted(bench, filled):
    with bench.session() as session:
        session.pull("5")  # degraded: a torn write would change the missing strip
    with bench.session() as session:
        volume = session.controller.volume("tides")
        array = session.controller.array(volume)
        session.controller.before_write(volume)
        (step,) = array.plan_writes(1_050_000, b"T" * 1000)
        assert step.guarded
        payload = b"".join(piece.tobytes() for _m, _o, piece in step.pieces)
        pieces = tuple((m, o, len(piece)) for m, o, piece in step.pieces)
        record = Record("content", volume.number, pieces, payload)
        with open(bench.folder / "nvram.journal", "wb", buffering=0) as file:
            _append(file.fileno(), record)
            file.write(b'{"kind": "content", "torn')  # a record that was never finished
        m, o, piece = step.pieces[0]
        session.medium(session.state.drives[volume.members[m].serial]).write(o, piece)  # and half of it done
    wanted = filled[:49_999] + b"T" * 1000 + filled[50_999:]
    assert same(bench, wanted)
    assert list(Journal(bench.folder).records()) == []


def test_an_interrupted_write_of_whole_rows_leaves_true_parity(bench, filled):
    with bench.session() as session:
        volume = session.controller.volume("tides")
        with open(bench.folder / "nvram.journal", "wb", buffering=0) as file:
            _append(file.fileno(), Record("intent", volume.number, ((0, 0, 4 << 20),), b""))
        session.medium(session.state.drives["UV4H20931"]).write(7 * 65536, b"new data, old parity")
    with bench.session() as session:
        array = session.controller.array(session.controller.volume("tides"))
        assert not [bad for _row, some in check_rows(array, 0, 100) for bad in some]


def test_a_torn_write_to_a_mirror_leaves_equal_copies(bench):
    with bench.session() as session:
        made = volumes.create(
            session.controller, volumes.check(session.controller, Wish("system", "RAID1", ("1", "2")))
        )
        session.journal.write(session.controller.array(made), made.number, 0, b"old" * 3000)
    with bench.session() as session:
        with open(bench.folder / "nvram.journal", "wb", buffering=0) as file:
            _append(file.fileno(), Record("intent", made.number, ((0, 100, 500),), b""))
        session.medium(session.state.drives["QR4S1107"]).write(100, b"new" * 100)  # only one copy was reached
    with bench.session() as session:
        copies = [read(session.medium(session.state.drives[s]), 0, 9000) for s in ("QR4S1107", "QR4S1132")]
        assert copies[0] == copies[1]


def test_the_clock_moves_forward_only_and_only_this_process_hurries_it(tmp_path, wall):
    create(tmp_path / "b", now=wall)
    wall.now += 100
    fast = Bench(tmp_path / "b", speed=60, wall=wall)
    with fast.session() as session:
        start = session.clock.now()
        assert start == 1_800_000_100
    wall.now += 10
    with fast.session() as session:
        assert session.clock.now() == start + 600
    plain = Bench(tmp_path / "b", wall=wall)
    wall.now -= 1000
    with plain.session() as session:
        assert session.clock.now() == start + 600
        session.advance(3600)
    with fast.session() as session:
        assert session.clock.now() >= start + 4200
    for made in (fast, plain):
        made.close()
    assert Clock((5.0, 10.0), wall=lambda: 12.0).now() == 7.0


def test_a_truncated_image_is_one_clear_error_and_no_change(bench):
    os.truncate(bench.folder / "drives" / f"{SPARE}.img", 1000)
    with pytest.raises(TruncatedImage), bench.session() as session:
        session.pull("5")
        session.seat("5", SPARE)
    with bench.session() as session:
        assert member(session).state == "active"


def test_a_bench_that_is_none_says_so(tmp_path, bench):
    for folder, words in ((tmp_path / "no", "no such folder"), (tmp_path, "not a bench")):
        with pytest.raises(BenchError, match=words), Bench(folder).session():
            pass
    with pytest.raises(BenchError, match="exists already"):
        create(bench.folder)
    bench.close()
    db = sqlite3.connect(bench.folder / FILE)
    db.execute("PRAGMA user_version = 99")
    db.close()
    with pytest.raises(BenchError, match="version 99"), Bench(bench.folder).session():
        pass
    (bench.folder / FILE).write_bytes(b"not a database, but long enough to be taken for one" * 100)
    with pytest.raises(BenchError, match="damaged"), Bench(bench.folder).session():
        pass


def test_a_half_made_bench_leaves_nothing(tmp_path, monkeypatch):
    monkeypatch.setattr("faithful_stripe.bench.bench.Store.create", staticmethod(_no_space))
    with pytest.raises(BenchError, match="cannot be created"):
        create(tmp_path / "b")
    assert list(tmp_path.iterdir()) == []


def _no_space(*_args):
    raise OSError(28, "No space left on device")


@pytest.mark.parametrize(
    ("find", "put", "words"),
    [
        ('format = "faithful-stripe/bench/1"', 'format = "x"', "format: expected"),
        ('bays = "1-16"', "bays = 16", "server.bays: expected str, found 16"),
        ('media = "SSD"', 'media = "TAPE"', "model.quorrel-s48.media: expected SSD or HDD"),
        ('serial = "QR4S1132"', 'serial = "QR4S1107"', "seated.2.serial: QR4S1107 is there twice"),
        ('serial = "QR4S1132"', 'serial = "../../x"', "seated.2.serial: expected 1 to 32 letters"),
        ("[seated]", "[seated]\n99 = 1", "seated.99: expected one of the bays"),
        ("[seated]", "[seated", "not TOML"),
        ('panel = ["1-8", "9-16"]', 'panel = ["1-8"]', "server.panel: expected every bay once"),
        ('model = "quorrel-s48", serial = "QR4S1107"', 'model = "x", serial = "B"', "seated.1.model: expected one"),
        ("size = 480_103_981_056", "size = 1000", "model.quorrel-s48.size"),
    ],
)
def test_a_wrong_description_names_the_place(tmp_path, find, put, words):
    text = description_text(None)[1]
    assert find in text
    (tmp_path / "d.toml").write_text(text.replace(find, put, 1))
    with pytest.raises(BenchError, match=words):
        read_description(tmp_path / "d.toml", 0)


def test_small_things():
    assert bay_labels("1-3, A ,9-8") == ["1", "2", "3", "A", "9-8"]
    assert all(kind.message.endswith(".") and kind.severity in ("OK", "Warning", "Critical") for kind in KINDS.values())


def test_images_stay_sparse_and_full_sized(skerry):
    images = list((skerry / "drives").iterdir())
    assert len(images) == 21 and sum(p.stat().st_blocks for p in images) == 0
    with ImageFile(skerry / "drives" / "UV4H20931.img") as image:
        assert image.size == 4_000_787_030_016
