"""Keeping a server: the LED, the stock, the guided swap with hands that err, the log, the watch and its metrics."""

import re
import threading
import time
from pathlib import Path

import httpx
import pytest

from faithful_stripe.bench.bench import Bench
from faithful_stripe.cli.telling import told_words
from faithful_stripe.cli.words import fit_words
from faithful_stripe.core.server.assess import assess
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.redfish.target import connect
from faithful_stripe.work import log as log_work
from faithful_stripe.work import stock, swap, swapping
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.log import Entry, grouped
from faithful_stripe.work.metrics import Door, Exposition, serve_pages
from faithful_stripe.work.survey import survey
from faithful_stripe.work.watch import Pace, snapshot_of

from .conftest import SERIALS, seen_on, until
from .small import SIZE, TEXT
from .test_https import login, served  # noqa: F401

AT = ("--at", "skerry")
CUPBOARD = """serial,parts,model,size,media,protocol,rpm,sector,condition,from,note
EXACT,UL-H4-A,H4,4000787030016,HDD,SAS,7200,512,new,shop,
EXACT-OLD,UL-H4-A X,H4,4000787030016,HDD,SAS,7200,512,used,shop,
EQUAL,OTHER-1,Deep,4000787030016,HDD,SAS,7200,512,new,shop,
LARGER,OTHER-2,Deep,6TB,HDD,SAS,7200,512,new,shop,
FASTER,OTHER-3,Deep,4000787030016,HDD,SAS,10000,512,new,shop,
SLOWER,OTHER-4,Deep,4000787030016,HDD,SAS,5400,512,new,shop,
SMALLER,OTHER-5,Deep,2TB,HDD,SAS,7200,512,new,shop,
SSD,OTHER-6,Deep,8TB,SSD,SAS,,512,new,shop,
SECTORS,OTHER-7,Deep,4TB,HDD,SAS,7200,4096,new,shop,
BAD,UL-H4-A,H4,4000787030016,HDD,SAS,7200,512,bad,shop,dropped
FAILED,UL-H4-A,H4,4000787030016,HDD,SAS,7200,512,new,shop,
"""


def test_the_led_blinks_where_it_is_told_and_says_where_that_is(fstripe, skerry):
    lit = fstripe(*AT, "locate", "UV4H21204")
    assert lit.status == 0 and "Bay 9 (row 2 from the top, number 1 from the left of 8)" in lit.out
    assert "The identify LED of bay 9 blinks" in fstripe(*AT, "bays").out
    assert fstripe(*AT, "locate", "9", "--off", "--json").json["on"] is False
    assert "bay 16 is empty" in fstripe(*AT, "locate", "16").err
    assert "no bay 99" in fstripe(*AT, "locate", "99").err
    fstripe(*AT, "bench", "fault", "4")
    assert fstripe(*AT, "locate", "4").status == 0  # a dead drive's bay has an LED all the same


def test_what_fits_is_ranked_and_what_cannot_is_never_offered(tmp_path, bench):
    (tmp_path / "stock.csv").write_text(CUPBOARD)
    items = stock.read_stock(tmp_path / "stock.csv")
    with connect(str(bench.folder)) as client:
        needed = stock.need(survey(client), "5")
    found = stock.match(needed, items, {"FAILED": "it did not answer"})
    assert [(m.grade, m.item.serial) for m in found if m.grade != "cannot"] == [
        ("exact", "EXACT"), ("exact", "EXACT-OLD"), ("equal", "EQUAL"), ("better", "FASTER"), ("better", "LARGER"),
        ("worse", "SLOWER"),
    ]  # fmt: skip
    says = {m.item.serial: "; ".join(fit_words(m.fit)) for m in found}
    assert "2 TB of it stay unused" in says["LARGER"] and "holds the whole array back" in says["SLOWER"]
    assert "too small: 2 TB are missing" in says["SMALLER"] and "SSD, the others are HDD" in says["SSD"]
    assert "sectors of 4096" in says["SECTORS"] and says["BAD"] == "bad: dropped"
    assert says["FAILED"] == "known to have failed: it did not answer"


@pytest.mark.parametrize(
    ("old", "new", "complaint"),
    [
        ("serial,parts", "serial,part", "line 1: no column parts"),
        ("6TB,HDD", "big,HDD", "line 5, size: expected a size such as 4TB, found 'big'"),
        ("6TB,HDD", "6TB,TAPE", "line 5, media: expected HDD or SSD"),
        ("SSD,OTHER", "EXACT,OTHER", "line 9: EXACT is there twice"),
        ("bad,shop", "broken,shop", "line 11, condition: expected one of new, used, suspect, bad, retired"),
        ("7200,4096", "fast,4096", "line 10, rpm: expected turns a minute"),
    ],
)
def test_a_wrong_cupboard_is_told_by_line_and_column(fstripe, old, new, complaint):
    (fstripe.folder / "stock.csv").write_text(CUPBOARD.replace(old, new, 1))
    told = fstripe("stock", "list")
    assert told.status == 1 and complaint in told.err and told.err.count("\n") == 1


def test_the_cupboard_is_kept_by_commands(fstripe, skerry):
    assert "the stock cannot be read" in fstripe("stock", "list").err
    made = fstripe("stock", "add", "A1", "--size", "4TB", "--media", "HDD", "--part", "UL-H4-A", "--rpm", "7200")
    assert made.status == 0 and "A1, HDD, is new" in made.out
    fstripe("stock", "add", "A2", "--like", "A1", "--condition", "suspect", "--note", "a knock")
    assert [(i["serial"], i["condition"]) for i in fstripe("stock", "list", "--json").json] == [
        ("A1", "new"), ("A2", "suspect"),
    ]  # fmt: skip
    assert "there is no A9" in fstripe("stock", "add", "A3", "--like", "A9").err
    assert fstripe("stock", "add", "A3").status == 2
    told = fstripe(*AT, "stock", "match", "5")
    assert told.status == 0 and "For bay 5: A1" in told.out, told.out
    fstripe("stock", "add", "A1", "--condition", "bad")
    assert fstripe(*AT, "stock", "match", "5").status == 3
    assert "no volume lacks a member there" in fstripe(*AT, "stock", "match", "16").err


# the swap ---------------------------------------------------------------------------------------


@pytest.fixture
def small(tmp_path):
    """Writes the description of a small bench whose rebuilds take half a minute, with spare drives in stock."""
    text = TEXT.replace(f"size = {SIZE}", f"size = {SIZE + (30 << 20)}")
    text += '[[stock]]\nmodel = "small"\nserial = "S3"\npredicted = true\n[[stock]]\nmodel = "tiny"\nserial = "T1"\n'
    tiny = f'[model.tiny]\nvendor = "Pellorin"\nmodel = "Chip"\npart = "C"\nsize = {SIZE}\nmedia = "HDD"\n'
    tiny += 'protocol = "SAS"\nrpm = 5400\nsector = 512\nrate = 1\nfirmware = "1"\n'
    text = text.replace("[seated]", tiny + "[seated]")
    (tmp_path / "d.toml").write_text(text)
    return tmp_path / "d.toml"


class Hands:
    """Somebody at the server: one action at every pause of the one who guides."""

    def __init__(self, folder, *acts) -> None:
        self.folder, self.acts = folder, list(acts)

    def __call__(self, _seconds: float) -> None:
        if self.acts:
            act = self.acts.pop(0)
            if act:
                with Bench(self.folder).session() as session:
                    act(session)
        else:
            with Bench(self.folder).session() as session:
                session.advance(10.0)


def made(fstripe, small, level="RAID6", bays="1-4"):
    fstripe("bench", "new", "b", "--from", small)
    serials = ",".join(f"D{n}" for n in range(1, 5)[: len(bays) + 1])
    done = fstripe("--at", "b", "volume", "add", "v", "--level", level, "--bays", bays, "--strip", "4KiB", "--yes",
                   "--expect-serials", serials if bays == "1-4" else "D1,D2,D3")  # fmt: skip
    assert done.status == 0, done.err
    return fstripe.folder / "b"


def told_by(folder, wanted, hands, **options):
    with connect(str(folder)) as client:
        under_way, _costs = swap.begin(client, wanted, now=True)
        told = list(swapping.run(client, under_way, swapping.Options(**options), hands))
    return under_way, [(t.kind, told_words(t)[0]) for t in told]


def test_the_wrong_drive_the_wrong_size_a_sick_one_then_the_right_one(fstripe, small):
    folder = made(fstripe, small)
    fstripe("--at", "b", "bench", "fault", "2")
    hands = Hands(
        folder, None, lambda s: s.pull("3"), lambda s: s.seat("3", "D3"), None, lambda s: s.pull("2"),
        lambda s: s.seat("2", "T1"), None, lambda s: s.pull("2"), None, lambda s: s.seat("5", "S3"), None,
        lambda s: s.pull("5"), lambda s: s.seat("2", "S3"), None, lambda s: s.pull("2"), None,
        lambda s: s.seat("2", "S1"), None, lambda s: s.fail("4"),
    )  # fmt: skip
    under_way, told = told_by(folder, "2", hands)
    alarms = [what for kind, what in told if kind == "alarm"]
    assert alarms[0] == "that was bay 3 (D3), not bay 2"
    assert any(a.startswith("T1 will not do: too small") for a in alarms)
    assert "drive S3 was seated in bay 5, not in bay 2" in alarms
    assert any(a.startswith("S3 will not do: it predicts its own failure") for a in alarms)
    assert any(a.startswith("bay 4: D4 has failed meanwhile (v margin 0)") for a in alarms)
    steps = [what for kind, what in told if kind == "step"]
    assert "bay 3 is back: D3" in steps and "D2 has left bay 2: the right one" in steps
    assert "volume v has its member in bay 2 again: margin 1" in steps and under_way.stage == "away"
    assert ("done", f"bay 2: D2 out, {under_way.incoming} in") in [(k, w.split(", after")[0]) for k, w in told]
    assert under_way.incoming == "S1" and any(k == "check" and "there is no hot spare" in w for k, w in told)
    with connect(str(folder)) as client:
        seen = survey(client)
        assert not seen.bay("2").located and [m.serial for m in seen.volume("v").seats] == ["D1", "S1", "D3", "D4"]
        with pytest.raises(WorkError, match="no swap is under way"):
            swap.resume(client)
        hands = Hands(folder, lambda s: s.pull("4"), lambda s: s.seat("4", "S2"))
        options = swapping.Options(known={"S2": "read errors, 2026-01-05, mast hut"})
        guiding = swapping.run(client, swap.begin(client, "4")[0], options, hands)
        alarm = next(told_words(t)[0] for t in guiding if t.kind == "alarm")
    assert alarm == "S2 will not do: known to have failed: read errors, 2026-01-05, mast hut"


def test_taking_it_out_now_would_lose_data_and_is_refused(fstripe, small):
    folder = made(fstripe, small, "RAID5", "1-3")
    fstripe("--at", "b", "bench", "pull", "2")
    refused = fstripe("--at", "b", "swap", "3")
    assert refused.status == 1 and "taking bay 3 (D3) out now loses volume v: its margin is 0" in refused.err
    fstripe("--at", "b", "bench", "seat", "2", "S1")
    refused = fstripe("--at", "b", "swap", "3")
    assert refused.status == 1 and "wait until this is done: v: rebuild of bay 2" in refused.err
    fstripe("--at", "b", "bench", "advance", "10m")
    fstripe("--at", "b", "spare", "add", "4")
    fstripe("--at", "b", "bench", "fault", "3", "predicted")
    moving = fstripe("--at", "b", "swap", "3", "--now")
    assert moving.status == 1 and "the data of bay 3 are being copied off it" in moving.err
    with connect(str(folder)) as client:
        assert assess(survey(client)).volumes[survey(client).volume("v").path].margin == 1


def test_a_drive_that_still_works_is_copied_off_first(fstripe, small):
    made(fstripe, small, "RAID5", "1-3")
    fstripe("--at", "b", "bench", "fault", "2", "predicted")
    told = fstripe("--at", "b", "swap", "2")
    assert (
        told.status == 1 and "bay 2 (D2) still works: its data can be copied off it, and v keeps its margin" in told.err
    )
    assert "fstripe spare add 4 --for v" in told.err
    with connect(str(fstripe.folder / "b")) as client:
        assert swap.begin(client, "2", now=True)[0].failed


def test_let_go_and_picked_up_while_the_connection_drops_and_the_server_restarts(fstripe, small):
    folder = made(fstripe, small, "RAID5", "1-3")
    fstripe("--at", "b", "bench", "fault", "2")
    under_way, told = told_by(folder, "2", Hands(folder, lambda s: s.pull("2"), lambda s: s.seat("2", "S1")),
                              detach=True)  # fmt: skip
    assert under_way.stage == "rebuild" and told[-1][0] == "done" and "rebuild of bay 2 runs" in told[-1][1]

    def off(session):
        session.shut_down()

    def on(session):
        session.power_on()

    hands = Hands(folder, None, None, off, None, on)
    with connect(str(folder)) as client:
        again = swap.resume(client)
        broken = iter([False, True, True])
        real = client.get

        def get(path):
            if "Systems?" in path and next(broken, False):
                raise RedfishError(what="no answer", to_do="", status=0, message_id="")
            return real(path)

        looking = swapping.run(client, again, swapping.Options(), hands)
        first = [next(looking)]
        client.get = get
        told = [(t.kind, told_words(t)[0]) for t in first + list(looking)]
    says = [what for _kind, what in told]
    assert "the server does not answer" in says and "the server is off" in says
    assert says.count("the server answers again") >= 1 and again.stage == "away"
    assert "volume v has its member in bay 2 again: margin 1" in says


@pytest.mark.long
def test_a_controller_that_waits_for_a_word_and_a_revertible_spare(fstripe, small):
    folder = made(fstripe, small, "RAID5", "1-3")
    fstripe("--at", "b", "controller", "set", "--replacement", "by-hand")
    fstripe("--at", "b", "bench", "fault", "2")
    _swap, told = told_by(folder, "2", Hands(folder, lambda s: s.pull("2"), lambda s: s.seat("2", "S1")))
    assert ("step", "the controller did not begin by itself: the rebuild of v was asked for") in told
    fstripe("--at", "b", "controller", "set", "--replacement", "automatic")
    fstripe("--at", "b", "spare", "add", "4")
    fstripe("--at", "b", "bench", "fault", "3")
    fstripe("--at", "b", "bench", "advance", "10m")
    under_way, told = told_by(folder, "3", Hands(folder, lambda s: s.pull("3"), lambda s: s.seat("3", "S2")))
    assert any("copy from bay 4 to bay 3" in what for kind, what in told if kind == "progress"), told
    assert under_way.stage == "away"
    with connect(str(folder)) as client:
        assert survey(client).bay("4").spare is True


def test_the_command_keeps_the_cupboard_and_the_next_one_knows(fstripe, small):
    made(fstripe, small, "RAID5", "1-3")
    row = "{},D,Ulvane Drop,{},HDD,SAS,7200,512,new,shop,\n"
    size = SIZE + (30 << 20)
    (fstripe.folder / "stock.csv").write_text(CUPBOARD.splitlines()[0] + "\n" + row.format("S1", size)
                                              + row.format("S2", size))  # fmt: skip
    fstripe("--at", "b", "bench", "fault", "2")
    results = []
    guide = threading.Thread(target=lambda: results.append(fstripe("--at", "b", "swap", "2", "--speed", "60")))
    guide.start()
    bench = Bench(fstripe.folder / "b")
    until(lambda: seen_on(bench, lambda s: s.state.in_bay("2").indicator))
    fstripe("--at", "b", "bench", "pull", "2")
    time.sleep(2.0)  # it looks once a second
    fstripe("--at", "b", "bench", "seat", "2", "S1")
    guide.join(timeout=90)
    (done,) = results
    assert done.status == 3 and "the best in stock: S1" in done.out and "bay 2: D2 out, S1 in" in done.out
    assert "there is no hot spare" in done.out
    items = {i["serial"]: i for i in fstripe("stock", "list", "--json").json}
    assert items["S1"]["condition"] == "retired" and items["S1"]["note"] == "in use: small-1 bay 2"
    assert items["D2"]["condition"] == "bad" and "it does not answer" in items["D2"]["note"]
    fstripe("stock", "add", "D2", "--condition", "new")  # somebody puts it back among the good ones
    told = fstripe("--at", "b", "stock", "match", "2")
    assert re.search(r"cannot +D2 .*known to have failed: it does not answer", told.out), told.out


# log and watch ----------------------------------------------------------------------------------


def metric(text: str, name: str, **labels: str) -> float:
    """The one value of a metric that has these labels."""
    lines = [line for line in text.splitlines() if re.match(rf"{name}[{{ ]", line)]
    found = [x for x in lines if all(f'{k}="{v}"' in x for k, v in labels.items())]
    assert len(found) == 1, (name, labels, found)
    return float(found[0].rpartition(" ")[2])


def event(number, second, kind, bay=""):
    return Entry(str(number), f"2026-11-23T10:00:{second:02d}+00:00", "OK", bay, "", "", kind, f"X.1.{kind}", "")


def test_causes_stand_above_what_followed_from_them():
    found = grouped([
        event(1, 0, "LidOpened"), event(2, 5, "DriveRemoved", "5"), event(3, 5, "VolumeDegraded"),
        event(4, 6, "RebuildStarted"), event(5, 30, "LidClosed"), event(6, 40, "DriveFailure", "6"),
        event(7, 41, "VolumeFailure"), event(8, 59, "VolumeOK"),
    ])  # fmt: skip
    assert [(e.number, e.group, e.follows) for e in found] == [
        ("1", 1, False), ("2", 1, True), ("3", 1, True), ("4", 1, True), ("5", 2, False), ("6", 3, False),
        ("7", 3, True), ("8", 4, False),
    ]  # fmt: skip


def test_the_log_tells_what_is_new_since_when_and_whose_clock(fstripe, skerry):
    words = ("--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials", ",".join(SERIALS))
    fstripe(*AT, "volume", "add", "v", *words)
    assert len(fstripe(*AT, "log", "--new", "--json").json) == 2
    assert fstripe(*AT, "log", "--new", "--json").json == []
    fstripe(*AT, "bench", "fault", "5")
    fresh = fstripe(*AT, "log", "--new", "--json").json
    assert [(e["follows"], e["message_id"].rpartition(".")[2]) for e in fresh] == [
        (False, "DriveFailure"), (True, "VolumeDegraded"),
    ]  # fmt: skip
    assert fresh[0]["plain"] == "the drive in bay 5 has failed"
    assert "ahead of" not in fstripe(*AT, "log").out
    fstripe(*AT, "bench", "advance", "3h")
    told = fstripe(*AT, "log")
    assert "The server's clock is 3 h" in told.out and "ahead of this machine's" in told.out
    assert "  then: The volume v" in told.out
    assert len(fstripe(*AT, "log", "--since", "4h", "--json").json) == 4
    assert fstripe(*AT, "log", "--since", "1h", "--json").json == []
    assert fstripe(*AT, "log", "--since", "soon").status == 2


@pytest.mark.parametrize("streamed", [True, False])
def test_events_are_followed_as_they_happen(tmp_path, login, streamed):  # noqa: F811
    with served(tmp_path, text=TEXT, streamed=streamed) as (at, _door, access), connect(at, access=access) as client:
        assert bool(log_work._stream(client)) == streamed
        following = log_work.follow(client, 0.1)
        found = []
        reader = threading.Thread(target=lambda: found.extend(next(following)))
        reader.start()
        time.sleep(1.0)
        with Bench(tmp_path / "b").session() as session:
            session.fail("2")
        reader.join(timeout=20)
        assert [e.message_id.rpartition(".")[2] for e in found] == ["DriveFailure"]
        following.close()


def test_the_watch_tells_spread_warmth_and_chance_and_exposes_metrics(fstripe, skerry):
    words = ("--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials", ",".join(SERIALS))
    fstripe(*AT, "volume", "add", "v", *words)
    fstripe(*AT, "bench", "fault", "6", "temperature", "--celsius", "58")
    fstripe(*AT, "bench", "pull", "5")
    fstripe(*AT, "bench", "seat", "5", "UV4H30555")
    done = fstripe(*AT, "watch", "--speed", "7200", "--metrics", "m.txt")
    assert done.status in (0, 3) and re.search(r"chance of losing data meanwhile 1 in [\d ]+", done.out)
    assert "bay 6 is the warmest, 58 °C" in done.out
    text = (fstripe.folder / "m.txt").read_text()
    assert text.endswith("# EOF\n") and metric(text, "fstripe_volume_margin", volume="v") == 1
    assert metric(text, "fstripe_drive_celsius", bay="6", serial="UV4H21007") == 58
    assert metric(text, "fstripe_hot_spares", server="skerry-1") == 0 and metric(text, "fstripe_up") == 1
    lines = fstripe(*AT, "watch", "--once", "--json")
    assert lines.json["progress"] == [] and lines.json["margins"] == {"v": 1}


def test_metrics_are_served_at_a_port(bench):
    with connect(str(bench.folder)) as client:
        exposition = Exposition()
        exposition.take(snapshot_of(assess(survey(client)), Pace()))
        port = serve_pages(exposition.page, Door()).split(":")[2].split("/")[0]
        answer = httpx.get(f"http://127.0.0.1:{port}/metrics")
        assert (
            answer.status_code == 200
            and metric(answer.text, "fstripe_volume_margin", volume="tides", server="skerry-1") == 1
        )
        with pytest.raises(WorkError, match=f"port {port} .Address already in use"):
            serve_pages(Exposition().page, Door(port=int(port)))


def test_the_alert_rules_name_metrics_that_there_are(bench):
    rules = (Path(__file__).parent.parent / "docs" / "alerts.yml").read_text()
    with connect(str(bench.folder)) as client:
        exposition = Exposition()
        exposition.take(snapshot_of(assess(survey(client)), Pace()))
    known = {m.name for m in exposition.collect()}
    named = set(re.findall(r"fstripe_[a-z_]+", "\n".join(re.findall(r"expr: (.*)", rules))))
    assert len(named) > 4 and named <= known
