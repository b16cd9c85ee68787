"""Two things wrong at once, on a bench: what is said and refused where a hasty hand would lose data."""

import json
import re

import pytest

from faithful_stripe.bench.bench import Bench
from faithful_stripe.core.arrays.rebuild import check_rows
from faithful_stripe.core.server.assess import assess
from faithful_stripe.redfish.target import connect
from faithful_stripe.work import build, swap, swapping
from faithful_stripe.work.log import Clocks
from faithful_stripe.work.metrics import Exposition
from faithful_stripe.work.seeing import Tell
from faithful_stripe.work.survey import survey
from faithful_stripe.work.volumes import VolumeWish, add_volumes, plan_volumes
from faithful_stripe.work.watch import Pace, snapshot_of

from .conftest import SERIALS
from .small import SIZE, TEXT

AT = ("--at", "b")


@pytest.fixture
def b(fstripe):
    """A small bench whose work takes half a minute of its clock, with a RAID 5 `v` on bays 1 to 3 when asked."""

    def make(text=TEXT, level="RAID5", bays="1-3", size=SIZE + (30 << 20)):
        (fstripe.folder / "d.toml").write_text(text.replace(f"size = {SIZE}", f"size = {size}"))
        fstripe("bench", "new", "b", "--from", "d.toml")
        if level:
            serials = ",".join(f"D{n}" for n in range(1, 5))[: 3 * (4 if bays == "1-4" else 3) - 1]
            done = fstripe(*AT, "volume", "add", "v", "--level", level, "--bays", bays, "--strip", "4KiB", "--yes",
                           "--expect-serials", serials)  # fmt: skip
            assert done.status == 0, done.err
        return fstripe.folder / "b"

    return make


def guided(folder, wanted, acts, now=False):
    """A guided swap with hands: one act at every pause, then time passes."""
    left = list(acts)

    def hands(_seconds):
        with Bench(folder).session() as session:
            if left:
                act = left.pop(0)
                if act:
                    act(session)
            else:
                session.advance(2.0)

    with connect(str(folder)) as client:
        under_way, costs = swap.begin(client, wanted, now)
        return under_way, costs, list(swapping.run(client, under_way, swapping.Options(), hands))


def test_bad_sectors_of_one_hold_the_other_until_they_are_repaired(fstripe, b):
    b()
    fstripe(*AT, "bench", "load", "v", "full.img", "--yes", "--expect-serials", "D1,D2,D3")
    with Bench(fstripe.folder / "b").session() as s:
        s.spoil("1", 8192, 1024)
        s.predict("2")
    told = fstripe(*AT, "survey")
    assert "bytes have margin 0 only, since sectors of a member cannot be read" in told.out
    assert "fstripe volume check v --repair" in told.out and "margin" in told.out
    no = fstripe(*AT, "swap", "2", "--now")
    assert no.status == 1 and "have no other copy" in no.err and "volume check v --repair" in no.err, no.err
    assert re.search(r"loses 1024 bytes of volume v: bytes \d+ to \d+", no.err), no.err
    (fstripe.folder / "plan.txt").write_text("swap 2 --now\n")
    rehearsed = fstripe("rehearse", "plan.txt", "--like", "b")
    assert rehearsed.status == 1 and "have no other copy" in rehearsed.out
    fstripe(*AT, "volume", "check", "v", "--repair")
    fstripe(*AT, "bench", "advance", "1h")
    with connect(str(fstripe.folder / "b")) as client:
        assert swap.begin(client, "2", now=True)[0].serial == "D2"


def test_what_brings_an_offline_volume_back_is_never_offered_for_replacement(fstripe, b):
    folder = b()
    fstripe(*AT, "bench", "fault", "2")
    with Bench(folder).session() as s:
        s.loosen("1", 1000.0, 900.0)
    told = fstripe(*AT, "survey")
    assert "offline: it cannot be read" in told.out
    assert "reseat the drive of bay 1 (D1), bay 2 (D2), as it was (one of them is enough)" in told.out
    assert "lost" not in told.out and "fstripe swap" not in told.out, told.out
    for bay in ("1", "2", "3"):
        no = fstripe(*AT, "swap", bay)
        assert no.status == 1 and "volume v is offline and returns only with its members" in no.err
    log = fstripe(*AT, "log").out
    assert "v cannot be read: it is offline" in log and "lost data" not in log
    metrics = fstripe(*AT, "watch", "--once", "--metrics", "m.txt")
    text = (folder.parent / "m.txt").read_text()
    assert metrics.status == 3 and re.search(r'fstripe_drive_needed\{bay="1".*\} 1\.0', text)
    assert re.search(r'fstripe_volume_state\{.*state="offline",volume="v"\} 1\.0', text)
    assert re.search(r"fstripe_volume_lost_bytes\{.*\} 0\.0", text)


def test_watch_weigh_and_survey_give_one_chance(fstripe, skerry):
    at = ("--at", "skerry")
    fstripe(*at, "volume", "add", "v", "--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials",
            ",".join(SERIALS))  # fmt: skip
    fstripe(*at, "bench", "pull", "5")
    fstripe(*at, "bench", "seat", "5", "UV4H30555")
    seen = fstripe(*at, "survey", "--json").json["volumes"][0]["chance_of_loss"]
    watched = fstripe(*at, "watch", "--once", "--json").json["progress"][0]["chance"]
    layouts = fstripe("weigh", "--drives", "4", "--size", "4TB", "--spares", "0", "--json").json["layouts"]
    weighed = next(w["loss_during_rebuild"] for w in layouts if w["level"] == "RAID5")
    assert 0.05 < seen < 0.12 and watched == pytest.approx(seen, rel=0.02) == pytest.approx(weighed, rel=0.02)


def test_a_mismatch_stays_open_until_it_is_repaired_or_accepted(fstripe, b):
    folder = b()
    with Bench(folder).session() as s:
        s.corrupt("1", 4096, 512)
    fstripe(*AT, "volume", "check", "v")
    fstripe(*AT, "bench", "advance", "10m")
    told = fstripe(*AT, "survey", "--json").json
    (found,) = [f for f in told["findings"] if f["code"] == "volume-inconsistent"]
    assert "8192 bytes" in found["what"] and told["volumes"][0]["margin"] == 0 and told["volumes"][0]["inconsistent"]
    no = fstripe(*AT, "swap", "3", "--now")
    assert no.status == 1 and "volume check v --repair" in no.err
    fstripe(*AT, "bench", "advance", "100h")
    assert fstripe(*AT, "volume", "show", "v").status == 3  # it does not go away by itself
    accepted = fstripe(*AT, "volume", "check", "v", "--accept")
    assert accepted.status == 0 and "what the check found is accepted" in accepted.out
    assert fstripe(*AT, "survey").status == 0
    assert fstripe(*AT, "volume", "check", "v", "--accept").status == 0
    fstripe(*AT, "volume", "check", "v", "--repair")
    fstripe(*AT, "bench", "advance", "10m")
    log = fstripe(*AT, "log").out
    assert "parity was written anew from the data as they stand, right or not" in log
    assert not fstripe(*AT, "survey", "--json").json["volumes"][0]["inconsistent"]
    none = fstripe(*AT, "volume", "check", "v", "--accept")
    assert none.status == 1 and "no check has found anything" in none.err


def test_one_swap_at_a_time_with_a_way_on_and_a_way_out(fstripe, b):
    folder = b()
    fstripe(*AT, "bench", "fault", "2")
    with connect(str(folder)) as client:
        swap.begin(client, "2")[0].keep()
    no = fstripe(*AT, "swap", "3")
    assert (
        no.status == 1 and "a swap of bay 2 is under way" in no.err and "--resume" in no.err and "--give-up" in no.err
    )
    given = fstripe(*AT, "swap", "--give-up")
    assert given.status == 0 and "nothing on small-1 was changed" in given.out
    assert "no swap is under way" in fstripe(*AT, "swap", "--resume").err
    assert fstripe(*AT, "swap", "2", "--resume").status == 2


def test_a_chassis_without_hot_swap_is_switched_off_first(fstripe, b):
    folder = b(TEXT.replace('panel = ["1-6"]', 'panel = ["1-6"]\nhot_swap = false'))
    fstripe(*AT, "bench", "fault", "2")
    acts = [None, lambda s: s.shut_down(), None, lambda s: s.pull("2"), None, lambda s: s.seat("2", "S1"), None,
            lambda s: s.power_on(), None, None]  # fmt: skip
    under_way, costs, told = guided(folder, "2", acts)
    codes = [t.code for t in told]
    assert under_way.stage == "away" and [c.code.value for c in costs] == ["power-off-first"]
    order = [
        Tell.POWER_OFF,
        Tell.TAKE_OUT,
        Tell.HAS_LEFT,
        Tell.SEAT_NEW,
        Tell.POWER_ON,
        Tell.HOLDS_NOW,
        Tell.WHOLE_AGAIN,
    ]
    assert [c for c in codes if c in order] == order


def test_an_old_drive_that_holds_the_only_copy_of_something_is_kept(fstripe, b):
    folder = b()
    with Bench(folder).session() as s:
        s.predict("2")
        start = s.controller.volume("v").start
    acts = [lambda s: s.pull("2"), lambda s: s.seat("2", "S1"), lambda s: s.spoil("1", start + (20 << 20), 4096)]
    under_way, _costs, told = guided(folder, "2", acts, now=True)
    (alarm,) = [t for t in told if t.code is Tell.BYTES_LOST]
    assert under_way.holds_only_copy and alarm.facts["serial"] == "D2" and alarm.facts["bytes"] == 4096
    survey_now = fstripe(*AT, "survey", "--json").json
    assert survey_now["volumes"][0]["state"] == "lost" and survey_now["volumes"][0]["margin"] == 0


def test_leds_that_blink_elsewhere_are_named(fstripe, b):
    folder = b()
    fstripe(*AT, "locate", "4")
    fstripe(*AT, "bench", "fault", "2")
    acts = [lambda s: s.pull("2"), lambda s: s.seat("2", "S1")]
    _swap, _costs, told = guided(folder, "2", acts)
    assert next(t.facts["bays"] for t in told if t.code is Tell.LED_ELSEWHERE) == ("4",)


def test_the_way_back_after_a_wrong_pull_whose_place_a_spare_has_taken(fstripe, b):
    folder = b(level="RAID6", bays="1-4")
    with Bench(folder).session() as s:
        s.seat("5", "S1")
    fstripe(*AT, "spare", "add", "5")
    with Bench(folder).session() as s:
        s.pull("3")
        s.advance(600)
        s.seat("3", "D3")
    told = fstripe(*AT, "survey", "--json").json
    (found,) = [f for f in told["findings"] if f["code"] == "stood-in-for"]
    assert found["to_do"] == "copy back onto it: fstripe volume rebuild v --onto 3"
    done = fstripe(*AT, "volume", "rebuild", "v", "--onto", "3", "--yes", "--expect-serials", "D3")
    assert done.status == 0, done.err
    fstripe(*AT, "bench", "advance", "10m")
    after = fstripe(*AT, "survey", "--json").json
    assert [m["bay"] for m in after["volumes"][0]["members"]] == ["1", "2", "3", "4"] and after["findings"] == []
    assert next(d["spare"] for d in after["drives"] if d["bay"] == "5") == "global"


def test_an_interrupted_rebuild_onto_a_good_drive_goes_on(fstripe, b):
    folder = b()
    with Bench(folder).session() as s:
        s.pull("2")
        s.seat("2", "S1")
        s.advance(5)
        volume = s.controller.volume("v")
        assert volume.members[1].state == "rebuilding"
        s.controller.memory.jobs.clear()  # a controller that forgot what it was doing
    told = fstripe(*AT, "survey", "--json").json
    (found,) = [f for f in told["findings"] if f["code"] == "volume-unfinished"]
    assert "the rebuild of bay 2 (S1) was interrupted" in found["what"]
    with connect(str(folder)) as client:
        made, costs = swap.begin(client, "2")
    assert made.stage == "rebuild" and costs == ()


def test_a_rebuild_whose_drive_was_away_for_a_moment_goes_on_where_it_was(fstripe, b):
    folder = b()
    (fstripe.folder / "i.img").write_bytes(b"tide" * 1024)

    def do(*acts):
        with Bench(folder).session() as session:
            for act in acts:
                act(session)
            one = session.controller.volume("v").members[1]
            return one.state, one.done

    do(lambda s: s.pull("2"), lambda s: s.seat("2", "S1"))
    state, reached = do(lambda s: s.advance(20))
    assert state == "rebuilding" and reached > 0
    assert do(lambda s: s.pull("2"))[0] == "lost"
    state, on = do(lambda s: s.seat("2", "S1"))
    assert state == "rebuilding" and on >= reached
    do(lambda s: s.pull("2"))
    assert fstripe(*AT, "bench", "load", "v", "i.img", "--yes", "--expect-serials", "D1,S1,D3").status == 0
    state, again = do(lambda s: s.seat("2", "S1"))
    assert state == "rebuilding" and again < reached  # the volume was written meanwhile
    assert do(lambda s: s.advance(600))[0] == "active"
    with Bench(folder).session() as s:
        volume = s.controller.volume("v")
        assert all(not found for _row, found in check_rows(s.controller.array(volume), 0, volume.geometry.rows))


def test_a_plan_on_a_failed_volume_says_what_each_step_changes(fstripe, b):
    b()
    for bay in ("1", "2"):
        fstripe(*AT, "bench", "pull", bay)
    (fstripe.folder / "plan.txt").write_text("bench seat 2 D2\nbench seat 1 D1\n")
    told = fstripe("rehearse", "plan.txt", "--like", "b", "--json")
    assert told.status in (0, 1), told.out
    fstripe(*AT, "bench", "seat", "2", "D2")
    (fstripe.folder / "plan.txt").write_text("swap 1\nswap 3\n")
    whole = fstripe("rehearse", "plan.txt", "--like", "b", "--stock", "stock.csv")
    (fstripe.folder / "stock.csv").write_text(
        "serial,parts,model,size,media,protocol,rpm,sector,condition,from,note\n"
        + "".join(f"{s},D,Drop,{SIZE + (30 << 20)} B,HDD,SAS,7200,512,new,shop,\n" for s in ("S1", "S2"))
    )
    whole = fstripe("rehearse", "plan.txt", "--like", "b")
    assert whole.status == 0 and "2 steps, nothing is lost" in whole.out, whole.out + whole.err
    assert "(before: degraded" in whole.out


def test_a_sheet_knows_missing_members_and_what_is_beyond_it(fstripe, b):
    b()
    fstripe(*AT, "spare", "add", "4", "--for", "v")
    fstripe(*AT, "firmware", "restart", "--yes", "--speed", "600")
    (fstripe.folder / "s.toml").write_text(fstripe(*AT, "survey", "--as-sheet").out)
    assert fstripe(*AT, "build", "s.toml", "--check").status == 0
    (fstripe.folder / "other.toml").write_text(
        (fstripe.folder / "s.toml").read_text().replace('strip = "4KiB"', 'strip = "8KiB"')
    )
    plan = fstripe(*AT, "build", "other.toml", "--check", "--replace", "v", "--json").json
    assert [s["kind"] for s in plan["steps"]][:3] == ["remove", "make", "spare"], plan
    unnamed = (fstripe.folder / "other.toml").read_text().partition("[[spare]]")[0]
    (fstripe.folder / "other.toml").write_text(unnamed)
    plan = fstripe(*AT, "build", "other.toml", "--check", "--replace", "v", "--json").json
    assert [s["kind"] for s in plan["steps"]][:3] == ["remove", "make", "spare"]  # it was dedicated: it is so again
    preview = fstripe(*AT, "volume", "remove", "v")
    assert "Bay 4 (D4) is a hot spare no more" in preview.err
    fstripe(*AT, "bench", "pull", "4")
    fstripe(*AT, "bench", "pull", "2")
    told = fstripe(*AT, "build", "s.toml", "--check")
    assert told.status == 3 and "volume v is degraded, margin 0, without its member of bay 2 (D2)" in told.out


def test_removing_a_volume_says_whether_it_boots_and_what_shares_its_drives(fstripe, b):
    b(level=None)
    words = ("--level", "RAID5", "--bays", "1-3", "--strip", "4KiB", "--yes", "--expect-serials", "D1,D2,D3")
    fstripe(*AT, "volume", "add", "a", "--size", "10MiB", *words)
    second = fstripe(*AT, "volume", "add", "w", *words, "--json")
    assert second.status == 0, second.err
    third = fstripe(*AT, "volume", "add", "x", *words)
    assert third.status == 1  # nothing is left
    with connect(str(fstripe.folder / "b")) as client:
        wishes = [VolumeWish(n, "RAID5", ("1", "2", "3"), 4096, size=s) for n, s in (("p", 10 << 20), ("q", None))]
        build.remove_volume(client, survey(client).volume("w"))
        build.remove_volume(client, survey(client).volume("a"))
        first, rest = plan_volumes(client, wishes)
        assert first.size == 10 << 20 and rest.size <= first.drives[0].size * 2 - first.size
        made = add_volumes(client, [first, rest])
        taken = [v.size for v in made]
        assert abs(rest.size - taken[1]) < 140 << 20  # but for what the controller keeps for itself
        for v in made:
            build.remove_volume(client, survey(client).volume(v.path))
    for name, size in (("a", ("--size", "10MiB")), ("w", ())):
        fstripe(*AT, "volume", "add", name, *size, *words)
    preview = fstripe(*AT, "volume", "remove", "a")
    assert (
        "The server starts from this volume" in preview.err
        and "Its drives carry other volumes, which stay: w" in preview.err
    )


def test_spares_that_fit_nothing_are_refused_and_named(fstripe, b):
    tiny = '[model.tiny]\nvendor = "Ulvane"\nmodel = "Chip"\npart = "C"\nsize = 67200000\nmedia = "HDD"\n'
    tiny += 'protocol = "SAS"\nrpm = 5400\nsector = 512\nrate = 1\nfirmware = "1"\n'
    text = TEXT.replace("[seated]", tiny + '[seated]\n5 = { model = "tiny", serial = "T1" }')
    b(text)
    for words in (("spare", "add", "5"), ("spare", "add", "5", "--for", "v")):
        no = fstripe(*AT, *words)
        assert no.status == 1 and "bay 5 (T1) cannot serve volume v: too small" in no.err, no.err
    notes = fstripe(*AT, "weigh", "--bays", "2-5", "--json").err
    assert "bay 2 (D2): member 1 of v" in notes
    fstripe(*AT, "bench", "fault", "4", "predicted")
    assert "bay 4 (D4): it predicts its own failure" in fstripe(*AT, "weigh", "--bays", "4,5", "--json").err


def test_a_link_that_comes_and_goes_is_a_finding_and_one_line_of_the_log(fstripe, b):
    folder = b(level="RAID6", bays="1-4")
    with Bench(folder).session() as s:
        s.loosen("2", 2400.0, 30.0)
        s.advance(86000)
    told = fstripe(*AT, "survey", "--json").json
    (found,) = [f for f in told["findings"] if f["code"] == "drive-flapping"]
    assert re.search(r"was lost 3\d times within a day", found["what"])
    lines = [x for x in fstripe(*AT, "log").out.splitlines() if "its link is down" in x]
    assert len(lines) == 1 and re.search(r"\(3\d times, last 20", lines[0]), lines
    assert len([e for e in fstripe(*AT, "log", "--json").json if e["message_id"].endswith("DriveOffline")]) > 30


def test_a_slow_member_and_an_open_lid_are_findings(fstripe, b):
    folder = b()
    with Bench(folder).session() as s:
        s.slow("2", 10.0)
        s.lid(True)
        s.heat("3", 58)
    told = {f["code"]: f["what"] for f in fstripe(*AT, "survey", "--json").json["findings"]}
    assert "works at a tenth of its pace" in told["drive-slow"]
    assert "drives are warming up: bay 3 (D3)" in told["lid-open"]


def test_a_silent_server_is_told_at_once_and_its_metrics_are_gone(b):
    folder = b()
    made = Exposition("b", now=lambda: 1000.0)
    with connect(str(folder)) as client:
        made.take(snapshot_of(assess(survey(client)), Pace()))
    assert 'fstripe_up{server="small-1"} 1.0' in made.text() and "fstripe_volume_margin{" in made.text()
    made.silent()
    text = made.text()
    assert 'fstripe_up{server="small-1"} 0.0' in text and "fstripe_volume_margin{" not in text
    assert 'fstripe_last_contact_timestamp_seconds{server="small-1"} 1000.0' in text


def test_waiting_is_advised_before_a_restart_and_what_ctrl_c_does_is_said(fstripe, b):
    b()
    fstripe(*AT, "bench", "pull", "2")
    fstripe(*AT, "bench", "seat", "2", "S1")
    told = fstripe(*AT, "firmware", "restart", "--yes", "--speed", "100")
    before = told.err.index("WAIT FIRST"), told.err.index("Ctrl-C stops the waiting, not the restart")
    assert max(before) < told.err.index("power on"), told.err


def test_a_clock_that_jumps_moves_nothing_that_happened_before(fstripe, b):
    clocks = Clocks(((1000.0, 1000.0, 0.0), (5000.0, 2000.0, 3000.0), (6000.0, 3000.0, 3000.0)))
    assert [clocks.at(t) for t in (900.0, 1500.0, 2500.0, 5500.0)] == [0.0, 0.0, 3000.0, 3000.0]
    back = Clocks(((5000.0, 2000.0, 3000.0), (2500.0, 2500.0, 0.0)))
    assert back.at(5400.0) == 3000.0 and back.at(2600.0) == 3000.0  # its own words cannot be told apart
    b()
    fstripe(*AT, "report", "--begin")
    fstripe(*AT, "bench", "fault", "2")
    events = fstripe(*AT, "report", "--json").json["events"]
    fstripe(*AT, "bench", "advance", "5h")
    later = fstripe(*AT, "report", "--json").json["events"]
    here = {e["number"]: e["here"] for e in later}
    assert all(here[e["number"]][:16] == e["here"][:16] for e in events) and json.dumps(later)
