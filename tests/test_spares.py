"""Hot spares, copies off failing drives, bad sectors, checks, shared drives: on a small bench with a turned clock."""

import random

import pytest

from faithful_stripe.bench import assemble, errors, jobs, members, volumes
from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.core.arrays.rebuild import check_rows
from faithful_stripe.core.source import BlockSourceError, Unreadable, read

HOUR = 3600.0


class Rig:
    """A bench with one volume, filled, and short words for what the tests do."""

    def __init__(self, folder, wall, wish: Wish) -> None:
        create(folder, now=wall)
        self.bench, self.wall = Bench(folder, wall=wall), wall
        with self.session() as s:
            volumes.create(s.controller, volumes.check(s.controller, wish))
        self.data = random.Random(3).randbytes(2_000_000)
        self.write(0, self.data)

    def session(self):
        return self.bench.session()

    def write(self, offset: int, data: bytes, name: str = "v") -> None:
        with self.session() as s:
            volume = s.controller.volume(name)
            s.controller.before_write(volume)
            s.journal.write(s.controller.array(volume), volume.number, offset, data)

    def intact(self) -> bool:
        with self.session() as s:
            return read(s.controller.array(s.controller.volume("v")), 0, len(self.data)) == self.data

    def margin(self) -> int:
        with self.session() as s:
            return s.controller.margin(s.controller.volume("v"))

    def do(self, action):
        """Run `action` in a session; the events it caused, by their last word."""
        with self.session() as s:
            action(s)
            return [e.message_id.rsplit(".", 1)[1] for e in s.said]

    def wait(self, hours: float):
        self.wall.now += hours * HOUR
        return self.do(lambda s: None)

    def bays(self) -> list[str]:
        with self.session() as s:
            return [m.bay for m in s.controller.volume("v").members]

    def spare(self, bay, *names, revertible=True):
        return self.do(
            lambda s: members.add_spare(s.controller, bay, [s.controller.volume(n) for n in names], revertible)
        )


@pytest.fixture
def rig(tmp_path, wall):
    made = []

    def make(level="RAID5", bays=tuple("4567"), **more) -> Rig:
        made.append(Rig(tmp_path / f"b{len(made)}", wall, Wish("v", level, bays, **more)))
        return made[-1]

    yield make
    for one in made:
        one.bench.close()


def test_a_spare_takes_over_and_stands_by_again(rig):
    r = rig()
    assert r.spare("13") == ["SpareAdded"]
    with r.session() as s:  # it carries the set-up now, and that is nothing left over
        assert assemble.describe(s.controller, s.state.in_bay("13")) == ""
    assert r.do(lambda s: s.fail("5")) == ["DriveFailure", "VolumeDegraded", "RebuildStarted", "SpareTookOver"]
    assert r.bays() == ["4", "13", "6", "7"] and r.intact() and r.margin() == 0
    assert r.wait(20) == ["RebuildDone", "VolumeOK"] and r.margin() == 1
    assert r.do(lambda s: s.pull("5")) == ["DriveRemoved"]
    assert r.do(lambda s: s.seat("5", "UV4H30555")) == ["DriveInserted", "CopyStarted"]
    assert r.margin() == 1  # data return without ever dropping the margin
    r.data = bytes(reversed(r.data))
    r.write(0, r.data)  # writes during the copy reach both
    assert r.wait(20) == ["CopyDone"] and r.bays() == ["4", "5", "6", "7"] and r.intact()
    with r.session() as s:
        assert list(s.controller.memory.spares) == ["UV4H22008"] and not s.controller.memory.in_use("UV4H22008")
    assert "SpareTookOver" in r.do(lambda s: s.pull("7"))


def test_a_spare_that_does_not_revert_stays(rig):
    r = rig()
    r.spare("13", revertible=False)
    r.do(lambda s: s.pull("5"))
    r.wait(20)
    assert r.do(lambda s: s.seat("5", "UV4H30555")) == ["DriveInserted"] and r.bays() == ["4", "13", "6", "7"]
    with r.session() as s:
        assert s.controller.memory.spares == {} and not s.controller.memory.in_use("UV4H30555")


def test_dedicated_before_global_and_the_smallest_that_fits(rig):
    r = rig()
    with r.session() as s:
        volumes.create(s.controller, volumes.check(s.controller, Wish("other", "RAID1", ("8", "9"))))
    r.spare("14")  # global, 6 TB
    r.spare("13", "other")  # dedicated to the other volume
    r.spare("12", "v")  # dedicated to this one
    r.spare("11")
    r.spare("1")  # too small for it
    taken = []
    for bay in ("4", "5", "6"):
        r.do(lambda s, bay=bay: s.pull(bay))
        taken.append(next(b for b in r.bays() if b not in "4567" and b not in taken))
        r.wait(20)
    assert taken == ["12", "11", "14"]
    with r.session() as s, pytest.raises(errors.TooSmall):
        members.add_spare(s.controller, "2", [s.controller.volume("v")], True)


def test_a_spare_is_no_member_and_can_be_let_go(rig):
    r = rig()
    r.spare("13")
    for wish in (Wish("x", "RAID1", ("12", "13")), Wish("x", "RAID1", ("4", "13"))):
        with pytest.raises((errors.DriveIsSpare, errors.DriveInUse)), r.session() as s:
            volumes.check(s.controller, wish)
    with pytest.raises(errors.NoSpare), r.session() as s:
        members.remove_spare(s.controller, "12")
    assert r.do(lambda s: members.remove_spare(s.controller, "13")) == ["SpareRemoved"]
    assert r.do(lambda s: s.fail("5"))[-1] == "VolumeDegraded"
    assert r.spare("13") == ["SpareAdded", "RebuildStarted", "SpareTookOver"]  # late, but at once


def test_a_drive_that_predicts_its_failure_is_copied_off_without_dropping_the_margin(rig):
    r = rig()
    r.spare("13")
    assert r.do(lambda s: s.predict("6")) == ["DrivePredictiveFailure", "CopyStarted"] and r.margin() == 1
    r.data = bytes(reversed(r.data))
    r.write(0, r.data)
    assert r.margin() == 1 and r.wait(20) == ["CopyDone"]
    assert r.bays() == ["4", "5", "13", "7"] and r.margin() == 1 and r.intact()
    r.do(lambda s: s.pull("6"))
    assert r.do(lambda s: s.seat("6", "UV4H30555"))[-1] == "CopyStarted"
    r.wait(20)
    assert r.bays() == ["4", "5", "6", "7"] and r.intact()


def test_a_drive_that_dies_while_it_is_copied_costs_only_the_rest(rig):
    r = rig()
    r.spare("13")
    r.do(lambda s: s.predict("6"))
    r.wall.now += 1.0  # some 120 MB are copied, all that holds data among them
    assert r.do(lambda s: s.fail("6"))[:3] == ["DriveFailure", "RebuildStarted", "VolumeDegraded"]
    with r.session() as s:
        assert s.controller.volume("v").members[2].done > 100_000_000
    assert r.intact() and r.wait(20) == ["RebuildDone", "VolumeOK"] and r.intact()


def test_the_target_of_a_copy_pulled_changes_nothing(rig):
    r = rig()
    r.spare("13")
    r.do(lambda s: s.predict("6"))
    assert "CopyStopped" in r.do(lambda s: s.pull("13")) and r.margin() == 1 and r.bays() == list("4567")
    assert r.intact()


def test_two_spares_for_two_failures_of_raid6_and_a_third_during_the_rebuild(rig):
    r = rig("RAID6", tuple("45678"))
    assert r.margin() == 2
    r.spare("13")
    r.do(lambda s: s.pull("4"))
    r.do(lambda s: s.pull("6"))
    assert r.margin() == 0 and r.intact()
    r.wall.now += HOUR
    r.do(lambda s: s.seat("6", "UV4H30555"))
    assert r.intact()
    assert r.do(lambda s: s.pull("8"))[-1] == "VolumeFailure" and r.margin() == -1
    # it comes back unchanged; the rebuilds, which had to stop, begin again and end
    back = r.do(lambda s: s.seat("8", "UV4H21166"))
    assert "MemberReturned" in back and r.margin() == 0
    r.wait(60)
    assert r.margin() == 2 and r.intact()


def test_unreadable_sectors_are_computed_named_and_mended_by_a_check(rig):
    r = rig()
    assert r.do(lambda s: s.spoil("6", 10_000, 100)) == ["SectorsUnreadable"]
    with r.session() as s:
        medium = s.medium(s.state.drives["UV4H21007"])
        assert s.state.drives["UV4H21007"].unreadable == [[9728, 512]]
        with pytest.raises(Unreadable):
            read(medium, 8192, 4096)
    assert r.intact()
    r.data = bytes(reversed(r.data))
    r.write(0, r.data)  # a write over them mends them
    with r.session() as s:
        assert s.state.drives["UV4H21007"].unreadable == []
    assert r.intact()


def test_a_rebuild_meets_unreadable_sectors_names_the_strip_and_goes_on(rig):
    r = rig()
    r.do(lambda s: s.spoil("6", 3 * 65536 + 512, 512))
    r.do(lambda s: s.pull("5"))
    r.do(lambda s: s.seat("5", "UV4H30555"))
    events = r.wait(20)
    assert events.count("StripLost") == 1 and events[-2:] == ["RebuildDone", "VolumeDamaged"]
    with r.session() as s:
        (lost,) = [e for e in s.events() if e.message_id.endswith("StripLost")]
        array = s.controller.array(s.controller.volume("v"))
        ranges = [
            tuple(map(int, part.split(" to "))) for part in lost.message.split("bytes ")[1].rstrip(".").split(", ")
        ]
        assert [b - a for a, b in ranges] == [512, 512]  # on the bad drive and on the new one: not a byte more
        assert s.controller.lost_ranges(s.controller.volume("v")) == sorted(ranges)
        for at in range(0, len(r.data), 512):
            gone = any(a <= at < b for a, b in ranges)
            size = min(512, len(r.data) - at)
            if gone:
                with pytest.raises(BlockSourceError):
                    read(array, at, size)
            else:
                assert read(array, at, size) == r.data[at : at + size], at
    r.write(0, r.data)  # restored from a backup: whole again
    assert r.intact()


def test_raid6_solves_unreadable_sectors_during_a_rebuild(rig):
    r = rig("RAID6", tuple("45678"))
    r.do(lambda s: s.spoil("6", 3 * 65536 + 512, 512))
    r.do(lambda s: s.pull("5"))
    r.do(lambda s: s.seat("5", "UV4H30555"))
    assert "StripLost" not in r.wait(20) and r.intact()


def check(r, repair):
    return r.do(lambda s: jobs.start_check(s.controller, s.controller.volume("v"), repair)) + r.wait(20)


def test_a_check_reports_twice_changes_nothing_and_repairs_when_asked(rig):
    r = rig("RAID6", tuple("45678"))
    assert check(r, False) == ["CheckStarted", "CheckDone"]
    for bay, at in (("5", 70_000), ("7", 200_000), ("8", 400_000)):
        r.do(lambda s, bay=bay, at=at: s.corrupt(bay, at, 100))
    for _ in range(2):
        assert check(r, False) == ["CheckStarted", "Mismatch", "Mismatch", "Mismatch", "CheckFound"]
    with r.session() as s:
        told = [e.message for e in s.events() if e.message_id.endswith("Mismatch")][-3:]
    assert [m.split("member ")[1][0] for m in told] == ["1", "3", "4"]  # it names the one that lies
    assert check(r, True)[-1] == "CheckFound" and check(r, False) == ["CheckStarted", "CheckDone"] and r.intact()


def test_without_a_second_equation_the_liar_cannot_be_told(rig):
    r = rig()
    r.do(lambda s: s.corrupt("5", 70_000, 100))
    check(r, True)
    with r.session() as s:
        (told,) = [e.message for e in s.events() if e.message_id.endswith("Mismatch")]
        array = s.controller.array(s.controller.volume("v"))
        assert "cannot be told" in told
        assert not [bad for _row, some in check_rows(array, 0, 100) for bad in some]


def test_volumes_that_share_drives_are_rebuilt_one_after_the_other(rig, wall):
    r = rig(size=100 << 30)
    with r.session() as s:
        second = volumes.check(s.controller, Wish("second", "RAID5", tuple("7654")))
        assert second.start >= s.controller.volume("v").end
        volumes.create(s.controller, second)
        with pytest.raises(errors.DriveInUse):
            volumes.check(s.controller, Wish("third", "RAID5", ("4", "5", "8")))
        with pytest.raises(errors.NoRoom):
            volumes.check(s.controller, Wish("third", "RAID5", ("8", "9", "10"), size=90 * 10**12))
    other = random.Random(9).randbytes(500_000)
    r.write(0, other, "second")
    assert r.do(lambda s: s.pull("5")) == ["DriveRemoved", "VolumeDegraded", "VolumeDegraded"]
    assert r.do(lambda s: s.seat("5", "UV4H30555")) == ["DriveInserted", "RebuildStarted", "RebuildStarted"]
    r.wall.now += 60
    with r.session() as s:
        first, waiting = s.controller.memory.jobs.values()
        assert jobs.done(s.controller, first) > 0 and jobs.done(s.controller, waiting) == 0 and waiting.since is None
    assert r.wait(20) == ["RebuildDone", "VolumeOK", "RebuildDone", "VolumeOK"]
    r.do(lambda s: s.pull("7"))
    with r.session() as s:
        assert read(s.controller.array(s.controller.volume("second")), 0, len(other)) == other
        volumes.delete(s.controller, s.controller.volume("second"))
    assert r.intact()


@pytest.mark.parametrize(
    ("level", "bays", "more", "margin", "lose"),
    [
        ("RAID10", tuple("4567"), {}, 1, ("4", "6")),
        ("RAID10", ("4", "5", "6", "7", "8", "9"), {"copies": 3}, 2, ("4", "5", "7")),
        ("RAID1E", tuple("456"), {"data": "offset"}, 1, ("5",)),
        ("RAID4", tuple("456"), {"rotation": "fixed-0"}, 1, ("4",)),
        ("RAID50", ("4", "5", "6", "7", "8", "9", "10", "11", "12"), {"spans": 3}, 1, ("4", "8", "12")),
        ("RAID60", ("4", "5", "6", "7", "8", "9", "10", "11"), {"spans": 2}, 2, ("4", "7", "8", "9")),
    ],
)
def test_every_level_survives_what_it_should_and_comes_back(rig, level, bays, more, margin, lose):
    r = rig(level, bays, **more)
    assert r.margin() == margin
    for bay in lose:
        r.do(lambda s, bay=bay: s.pull(bay))
    assert r.margin() >= 0 and r.intact()
    r.data = bytes(reversed(r.data))
    r.write(0, r.data)
    with r.session() as s:
        loose = [d.serial for d in s.state.drives.values() if d.bay is None and d.place == "pulled"]
        for bay, serial in zip(lose, reversed(loose), strict=True):
            s.seat(bay, serial)
    r.wait(100)
    assert r.margin() == margin and r.intact() and check(r, False)[-1] == "CheckDone"


def test_a_background_initialization_is_usable_at_once_and_certain_of_nothing_until_done(rig):
    r = rig()
    with r.session() as s:  # drives with a past
        volumes.delete(s.controller, s.controller.volume("v"))
        for serial in ("UV4H20931", "UV4H20944", "UV4H21007", "UV4H21018"):
            s.medium(s.state.drives[serial]).write(5 << 20, random.Random(serial).randbytes(3 << 20))
        volumes.create(s.controller, volumes.check(s.controller, Wish("v", "RAID5", tuple("4567"))), "background")
        assert s.controller.initializing(s.controller.volume("v")) == "background"
    assert r.margin() == 0
    r.write(1000, r.data)  # what is written is covered, initialized or not
    with r.session() as s:
        array = s.controller.array(s.controller.volume("v"))
        assert [bad for _row, some in check_rows(array, 0, 200) for bad in some]
        array.members[2] = None
        assert read(array, 1000, len(r.data)) == r.data
        with pytest.raises(errors.WorkRunning):
            volumes.initialize(s.controller, s.controller.volume("v"), "fast")
    assert r.wait(20) == ["InitializeDone"] and r.margin() == 1 and check(r, False)[-1] == "CheckDone"
    with r.session() as s:
        assert read(s.controller.array(s.controller.volume("v")), 1000, len(r.data)) == r.data


def test_a_foreground_initialization_clears_and_lets_nobody_in_before(rig):
    r = rig()
    r.do(lambda s: volumes.initialize(s.controller, s.controller.volume("v"), "foreground"))
    with pytest.raises(errors.NotReady):
        r.write(0, b"too early")
    assert r.wait(20) == ["InitializeDone"] and r.margin() == 1
    with r.session() as s:
        assert not any(read(s.controller.array(s.controller.volume("v")), 0, len(r.data)))
        with pytest.raises(errors.NoMethod):
            volumes.initialize(s.controller, s.controller.volume("v"), "quick")
    r.do(lambda s: s.pull("5"))
    with r.session() as s, pytest.raises(errors.NotWhole):
        volumes.initialize(s.controller, s.controller.volume("v"), "fast")


def test_a_member_lost_during_the_initialization_costs_nothing_that_was_written(rig):
    r = rig()
    r.do(lambda s: volumes.initialize(s.controller, s.controller.volume("v"), "background"))
    assert "InitializeStopped" in r.do(lambda s: s.pull("5"))
    assert r.intact()
    r.do(lambda s: s.seat("5", "UV4H30555"))
    r.wait(30)
    assert r.margin() == 1 and r.intact() and check(r, False)[-1] == "CheckDone"


def test_what_a_drive_has_become_is_said(fstripe, skerry):
    """Read back from the drive itself: free, a global spare, one for a volume, free again."""
    at = ("--at", "skerry")
    serials = "UV4H20931,UV4H20944,UV4H21007,UV4H21018"
    fstripe(*at, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials", serials)
    assert "Bay 13: drive UV4H22008 is hot spare, global." in fstripe(*at, "spare", "add", "13").out
    assert "Bay 13: drive UV4H22008 is free." in fstripe(*at, "spare", "remove", "13").out
    assert "is hot spare, dedicated to tides" in fstripe(*at, "spare", "add", "13", "--for", "tides").out
    assert "Bay 13: drive UV4H22008 is free." in fstripe(*at, "spare", "remove", "13").out
