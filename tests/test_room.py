"""The machine room: links that come and go, slow and hot drives, the lid, no hot swap, several controllers."""

import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_stripe.bench import assemble, errors, jobs, members, ondisk, volumes
from faithful_stripe.bench import settings as settings_of
from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.bench.errors import BenchError
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.core.formats import ddf
from faithful_stripe.core.source import read

from .small import TEXT

TWO = TEXT.replace(
    'bays = "1-6"\nrebuild_rate', 'bays = "1,2,5"\nrebuild_rate'
).replace("[model.small]", """[[controller]]
id = "CTRL-2"
maker = "Veskarn"
model = "RC4"
serial = "L2"
firmware = "1"
bays = "3,4,6"
rebuild_rate = 50
[model.small]""")  # fmt: skip


@pytest.fixture
def small(tmp_path, wall):
    """A small bench with a RAID 5 of all its seated drives, filled."""
    (tmp_path / "d.toml").write_text(TEXT)
    create(tmp_path / "b", tmp_path / "d.toml", now=wall)
    bench = Bench(tmp_path / "b", wall=wall)
    with bench.session() as s:
        made = volumes.create(s.controller, volumes.check(s.controller, Wish("v", "RAID5", tuple("1234"), 4096)))
        bench.data = random.Random(4).randbytes(made.geometry.volume_bytes)
        s.journal.write(s.controller.array(made), made.number, 0, bench.data)
    yield bench
    bench.close()


def told(bench, action=lambda s: None):
    with bench.session() as s:
        action(s)
        return [e.message_id.rsplit(".", 1)[1] for e in s.said]


def test_a_link_that_comes_and_goes_is_given_up_and_cured_by_reseating(small, wall):
    lost = ["DriveOffline", "VolumeDegraded"]
    back = ["DriveOfflineCleared", "MemberReturned", "VolumeOK"]
    assert told(small, lambda s: s.loosen("2", 600, 30)) == lost
    wall.now += 31
    assert told(small) == back
    wall.now += 600
    assert told(small) == lost + back
    wall.now += 7200  # a third time within the hour, and not once more
    assert told(small) == [*lost, "DriveGivenUp"]
    assert told(small, lambda s: s.pull("2")) == ["DriveRemoved"]
    assert told(small, lambda s: s.seat("2", "D2")) == ["DriveInserted", *back[1:]]
    wall.now += 7200
    assert told(small) == []
    with pytest.raises(BenchError, match="never comes back"):
        told(small, lambda s: s.loosen("2", 10, 10))


def test_a_member_whose_link_was_down_during_a_write_is_rebuilt(small, wall):
    told(small, lambda s: s.loosen("2", 600, 30))
    with small.session() as s:
        volume = s.controller.volume("v")
        s.controller.before_write(volume)
        s.journal.write(s.controller.array(volume), volume.number, 0, bytes(5000))
    wall.now += 40
    assert told(small)[:2] == ["DriveOfflineCleared", "RebuildStarted"]
    with small.session() as s:
        assert read(s.controller.array(s.controller.volume("v")), 0, 5000) == bytes(5000)


def test_work_goes_on_at_the_pace_of_the_slowest_drive_and_at_the_rate_that_is_set(small, wall):
    def rate():
        with small.session() as s:
            (job,) = s.controller.memory.jobs.values()
            return job.rate, jobs.done(s.controller, job)

    told(small, lambda s: jobs.start_check(s.controller, s.controller.volume("v"), False))
    assert rate()[0] == 600_000
    wall.now += 1.0
    told(small, lambda s: s.slow("3", 10))
    assert rate()[0] == 60_000 and 580_000 <= rate()[1] <= 600_000  # what was done stays done
    told(small, lambda s: settings_of.change(s.controller, {"check_rate": 100}))
    assert rate()[0] == 100_000
    wall.now += 7.0
    assert told(small) == ["CheckDone"]
    for name, value in (("check_rate", 0), ("check_rate", "fast"), ("replacement", "never"), ("rebuild_rate", True)):
        with pytest.raises(errors.BadSetting, match=name):
            told(small, lambda s, name=name, value=value: settings_of.change(s.controller, {name: value}))


def test_settings_change_while_work_has_lost_all_its_drives(small, wall):
    told(small, lambda s: jobs.start_check(s.controller, s.controller.volume("v"), False))
    with small.session() as s:
        for serial in ("D1", "D2", "D3", "D4"):
            s.pull(serial)
        assert [e.message_id.rsplit(".", 1)[1] for e in s.said].count("CheckStopped") == 1
        settings_of.change(s.controller, {"check_rate": 20})
    wall.now += 60
    assert told(small) == []


def test_a_volume_that_has_lost_a_member_is_not_checked(small, wall):
    told(small, lambda s: s.pull("2"))
    with pytest.raises(errors.NotWhole, match="rebuild it first"):
        told(small, lambda s: jobs.start_check(s.controller, s.controller.volume("v"), False))
    wall.now += 60
    assert told(small) == []
    told(small, lambda s: s.seat("2", "D2"))
    told(small, lambda s: jobs.start_check(s.controller, s.controller.volume("v"), False))
    wall.now += 60
    assert told(small) == ["CheckDone"]


def test_a_replacement_waits_for_a_word_where_the_controller_is_set_so(small):
    told(small, lambda s: settings_of.change(s.controller, {"replacement": "by-hand"}))
    told(small, lambda s: s.pull("2"))
    assert told(small, lambda s: s.seat("2", "S1")) == ["DriveInserted", "DriveNotTaken"]
    told(small, lambda s: members.rebuild_onto(s.controller, s.controller.volume("v"), "2"))
    with small.session() as s:
        assert s.controller.volume("v").members[1].state == "rebuilding"
    told(small, lambda s: settings_of.change(s.controller, {"copy_on_prediction": False}))
    told(small, lambda s: s.seat("5", "S2"))
    told(small, lambda s: members.add_spare(s.controller, "5", [], True))
    assert told(small, lambda s: s.predict("3")) == ["DrivePredictiveFailure"]  # and no copy


def test_temperature_and_lid_are_told_when_they_change(small):
    assert told(small, lambda s: s.heat("1", 58)) == ["TemperatureWarning"]
    assert told(small, lambda s: s.heat("1", 59)) == []
    assert told(small, lambda s: s.heat("1", 70)) == ["TemperatureCritical"]
    assert told(small, lambda s: s.heat("1", 40)) == ["TemperatureNormal"]
    assert told(small, lambda s: s.lid(True)) == ["LidOpened"] and told(small, lambda s: s.lid(True)) == []
    assert told(small, lambda s: s.lid(False)) == ["LidClosed"]


def test_random_bad_sectors_fall_where_data_is(small):
    told(small, lambda s: s.spoil_some("1", 9, random.Random(1)))
    with small.session() as s:
        bad = s.state.drives["D1"].unreadable
        assert 1 <= len(bad) <= 9 and all(n % 512 == 0 and a % 512 == 0 for a, n in bad)
        volume = s.controller.volume("v")
        assert read(s.controller.array(volume), 0, len(small.data)) == small.data and not s.controller.lost_ranges(
            volume
        )


def test_sectors_that_two_members_cannot_read_are_lost_only_where_they_meet(small, wall):
    told(small, lambda s: s.spoil("1", 0, 1024))
    told(small, lambda s: s.spoil("2", 512, 1024))
    with small.session() as s:
        volume = s.controller.volume("v")
        assert s.controller.lost_ranges(volume) == [(512, 1024), (4096 + 512, 4096 + 1024)]
        jobs.start_check(s.controller, volume, True)
    wall.now += 60
    assert told(small) == ["RowUnreadable"] * 2 + ["StripLost"] * 2 + ["CheckFound"]
    with small.session() as s:
        assert s.state.drives["D1"].unreadable == [[512, 512]] and s.state.drives["D2"].unreadable == [[512, 512]]


def test_an_initialization_goes_on_past_rows_that_cannot_be_read(small, wall):
    told(small, lambda s: s.spoil("1", 0, 512))
    told(small, lambda s: s.spoil("2", 0, 512))
    told(small, lambda s: volumes.initialize(s.controller, s.controller.volume("v"), "background"))
    wall.now += 60
    assert told(small) == ["InitializeDone"]
    with small.session() as s:
        volume = s.controller.volume("v")
        assert s.controller.lost_ranges(volume) == [(0, 512), (4096, 4608)]  # still named, and the rest still there
        assert read(s.controller.array(volume), 8192, 4096) == small.data[8192:12288]


def test_a_chassis_without_hot_swap(tmp_path, wall):
    (tmp_path / "d.toml").write_text(TEXT.replace("[server]", "[server]\nhot_swap = false"))
    create(tmp_path / "b", tmp_path / "d.toml", now=wall)
    bench = Bench(tmp_path / "b", wall=wall)
    for act in (lambda s: s.pull("1"), lambda s: s.seat("5", "S1")):
        with pytest.raises(errors.NotHot, match="no hot swap, and the server is on"):
            told(bench, act)
    with bench.session(power_cut=random.Random(1), stay_off=True) as s:
        s.pull("1")
        s.seat("1", "S1")
        s.power_on()
        assert s.state.drives["S1"].bay == "1" and s.state.drives["D1"].place == "pulled"
    bench.close()


def test_two_controllers_keep_to_their_own_bays(tmp_path, wall):
    (tmp_path / "d.toml").write_text(TWO)
    create(tmp_path / "b", tmp_path / "d.toml", now=wall)
    bench = Bench(tmp_path / "b", wall=wall)
    with bench.session() as s:
        one, two = s.controllers["CTRL-1"], s.controllers["CTRL-2"]
        for c, bays in ((one, "12"), (two, "34")):
            volumes.create(c, volumes.check(c, Wish("v", "RAID1", tuple(bays), 4096)))
        with pytest.raises(errors.UnknownBay, match="no bay 3 at controller CTRL-1"):
            volumes.check(one, Wish("x", "RAID0", ("1", "3")))
        with pytest.raises(errors.WhichController, match="CTRL-1, CTRL-2 have a volume v each"):
            s.volume("v")
        with pytest.raises(errors.UnknownController):
            s.volume("v", "CTRL-3")
        with pytest.raises(errors.UnknownController, match="CTRL-1, CTRL-2"):
            s.controller  # noqa: B018
        assert s.volume("v", "CTRL-2")[0] is two
        s.seat("5", "S1")
        members.add_spare(one, "5", [], True)
    assert told(bench, lambda s: s.fail("3")) == ["DriveFailure", "VolumeDegraded"]  # the spare is the other one's
    assert "SpareTookOver" in told(bench, lambda s: s.fail("1"))
    told(bench, lambda s: s.pull("2"))
    assert told(bench, lambda s: s.seat("6", "D2")) == ["DriveInserted"]  # a bay of the other controller
    with bench.session() as s:
        (found,) = assemble.found_volumes(s.controllers["CTRL-2"])
        assert found.volume.name == "v" and s.volume("v", "CTRL-1")[1].lost == [0, 1]
    bench.close()


@settings(max_examples=300)
@given(st.data())
def test_no_record_under_a_right_checksum_crashes_the_reader_of_set_ups(tmp_path_factory, data):
    """Values that no controller writes: what cannot be is said, and never a crash."""
    bench = _shared(tmp_path_factory)
    with bench.session() as s:
        made = ondisk.metadata(s.controller, s.state.drives["D1"])
        config = made.configs[0]
        name = data.draw(
            st.sampled_from(["elements", "strip", "level", "qualifier", "spans", "span", "extent", "size"])
        )
        width = {"elements": 4, "extent": 2**63, "size": 2**63}.get(name, 255)
        fields = config.fields | {name: data.draw(st.integers(0, width))}
        if data.draw(st.booleans()):
            fields["scratch"] = data.draw(st.binary(min_size=32, max_size=32))
        starts = tuple(data.draw(st.lists(st.integers(0, 2**63), min_size=4, max_size=4)))
        spoilt = ddf.Config(fields, config.references, starts if data.draw(st.booleans()) else config.starts)
        seen = {"D1": ddf.Metadata(made.header, made.controller, made.drives, made.volumes, (spoilt,), (), made.drive)}
        for found in assemble.volumes_on(s.controller, seen):
            assert found.trouble is not None or found.volume.geometry.volume_bytes > 0


def _shared(factory, made=[]):  # noqa: B006
    if not made:
        folder = factory.mktemp("shared")
        (folder / "d.toml").write_text(TEXT)
        create(folder / "b", folder / "d.toml")
        bench = Bench(folder / "b")
        with bench.session() as s:
            volumes.create(s.controller, volumes.check(s.controller, Wish("v", "RAID6", tuple("1234"), 4096)))
        made.append(bench)
    return made[0]
