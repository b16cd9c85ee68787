"""The service record, the likeness of a server, and rehearsals on it."""

import json
import os
import re
import subprocess
import threading
import time

import pytest

from faithful_stripe.bench.bench import Bench
from faithful_stripe.work.visits import failed_drives, note, notes

from .conftest import FSTRIPE, SERIALS, seen_on, until

AT = ("--at", "skerry")
MEMBERS = ",".join(SERIALS)


@pytest.fixture
def visited(fstripe, skerry):
    """A server whose bay 5 failed and was replaced in a guided swap, at a hurried clock."""
    fstripe(*AT, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials", MEMBERS)
    fstripe(*AT, "report", "--begin")
    fstripe(*AT, "bench", "fault", "5")
    results = []
    guide = threading.Thread(target=lambda: results.append(fstripe(*AT, "swap", "5", "--speed", "7200")))
    guide.start()
    bench = Bench(skerry)
    until(lambda: seen_on(bench, lambda s: s.state.in_bay("5").indicator))  # it has lit the LED, and waits
    fstripe(*AT, "bench", "pull", "5")
    time.sleep(2.0)  # it looks several times a second
    fstripe(*AT, "bench", "seat", "5", "UV4H30555")
    guide.join(timeout=120)
    assert results[0].status == 3 and "UV4H20944 out, UV4H30555 in" in results[0].out, results[0].out + results[0].err
    return fstripe.folder


def test_the_record_tells_before_after_what_was_done_and_what_is_left(fstripe, visited):
    done = fstripe(
        *AT, "report", "visit.html", "visit.md", "visit.json", "--technician", "I. <Maddery>", "--note", "a & b"
    )
    assert done.status == 0, done.err
    found = json.loads((visited / "visit.json").read_text())
    assert [(v["name"], v["before"], v["now"]) for v in found["volumes"]] == [
        ("tides", {"state": "OK", "margin": 1}, {"state": "OK", "margin": 1})
    ]
    assert found["bays"] == [{"bay": "5", "before": "UV4H20944", "now": "UV4H30555"}]
    assert [(s["bay"], s["out"], s["into"]) for s in found["swaps"]] == [("5", "UV4H20944", "UV4H30555")]
    commands = [d["command"] for d in found["done"]]
    assert commands[0].startswith("fstripe --at skerry volume add tides") and commands[-1].endswith("--speed 7200")
    assert not any("report" in c or "bench" in c for c in commands)  # only what changes a server
    assert [m["margin"] for m in found["margins"]] == [1, 0, 1]
    percents = [p["percent"] for p in found["points"]]
    assert percents == sorted(percents) and len(percents) > 1  # how many is a matter of the machine
    kinds = [e["message_id"].rpartition(".")[2] for e in found["events"]]
    assert "DriveFailure" in kinds and "RebuildDone" in kinds
    assert any("there is no hot spare" in text for text in found["left"])
    page = (visited / "visit.html").read_text()
    assert "I. &lt;Maddery&gt;" in page and "a &amp; b" in page and "data:image/png;base64," in page
    assert not re.search(r'(src|href)="(?!data:)', page)  # nothing is fetched from elsewhere
    text = (visited / "visit.md").read_text()
    assert (
        "I. <Maddery>" in text
        and (
            "| 5 | UV4H20944 (Ulvane H4, part UL-H4-A) | UV4H30555 (Ulvane H4, part UL-H4-A, no hours of use) "
            "| it does not answer |"
        )
        in text
    )
    assert "tides: rebuild of bay 5, followed from" in text
    assert "it exists already" in fstripe(*AT, "report", "visit.html").err
    assert fstripe(*AT, "report", "visit.pdf").status == 2
    later = fstripe(*AT, "report", "--since", "2030-01-01", "--json").json
    assert later["done"] == later["swaps"] == [] and later["events"] == []


def test_a_record_from_a_moment_on_has_no_event_before_it(fstripe, skerry):
    """Also where the state has not changed since, so that nothing was noted after the event."""
    fstripe(*AT, "report", "--begin")
    fstripe(*AT, "bench", "lid", "open")
    kinds = [e["message_id"].rpartition(".")[2] for e in fstripe(*AT, "report", "--json").json["events"]]
    assert "LidOpened" in kinds
    assert fstripe(*AT, "report", "--since", "2030-01-01", "--json").json["events"] == []


def test_notes_survive_a_torn_line_and_tell_failed_drives_of_every_server(tmp_path):
    for name, serial in (("one", "X1"), ("two", "X2")):
        note(str(tmp_path / name), "swap", out=serial, into="N", why="read errors", failed=True, server=name, bay="1")
    note(str(tmp_path / "two"), "swap", out="X3", into="N", why="asked for", failed=False, server="two", bay="2")
    folder = tmp_path / ".state" / "fstripe"
    (path,) = [p for p in folder.iterdir() if '"X2"' in p.read_text()]
    with path.open("a") as file:
        file.write('{"time": "2026')
    assert len(notes(str(tmp_path / "two"))) == 2
    assert sorted(failed_drives(str(tmp_path / "three"))) == ["X1", "X2"]
    assert "read errors" in failed_drives(".")["X1"]


def test_a_bench_like_a_server_has_its_set_up_and_none_of_its_data(fstripe, skerry):
    gauges = ",".join(f"UV4H2{n}" for n in ("1166", "1204", "1215", "1390", "1417", "2008"))
    fstripe(*AT, "volume", "add", "tides", "--level", "RAID6", "--bays", "4-7", "--strip", "128KiB", "--yes",
            "--write-cache", "protected-back", "--expect-serials", MEMBERS)  # fmt: skip
    fstripe(*AT, "volume", "add", "gauges", "--level", "RAID50", "--spans", "8-10/11-13", "--yes",
            "--expect-serials", gauges)  # fmt: skip
    fstripe(*AT, "bench", "load", "tides", "observatory", "--yes", "--expect-serials", MEMBERS)
    fstripe(*AT, "bench", "fault", "5")
    fstripe(*AT, "bench", "pull", "6")
    fstripe(*AT, "bench", "fault", "9", "predicted")
    fstripe(*AT, "firmware", "set", "StartDelay=7")
    fstripe(*AT, "firmware", "restart", "--yes", "--speed", "600")
    made = fstripe("bench", "new", "trial", "--like", "skerry")
    assert made.status == 0, made.err
    mine, other = (fstripe("--at", name, "survey", "--json").json for name in ("skerry", "trial"))
    keys = ("name", "level", "strip", "rotation", "data", "spans", "margin", "health", "write_cache", "size")
    assert [[v[k] for k in keys] for v in other["volumes"]] == [[v[k] for k in keys] for v in mine["volumes"]]
    for v, w in zip(mine["volumes"], other["volumes"], strict=True):
        assert [(m["serial"], m["state"]) for m in v["members"]] == [(m["serial"], m["state"]) for m in w["members"]]
    assert [d["serial"] for d in other["drives"] if d["predicted"]] == ["UV4H21204"]
    assert other["volumes"][0]["content"] in ("", None) and "ext" in mine["volumes"][0]["content"]
    delay = [a for a in fstripe("--at", "trial", "firmware", "show", "--json").json["attributes"]
             if a["name"] == "StartDelay"]  # fmt: skip
    assert delay[0]["value"] == 7
    used = sum(os.stat(p).st_blocks for p in (fstripe.folder / "trial" / "drives").iterdir()) * 512
    assert used < 200 << 20
    assert "--like stands alone" in fstripe("bench", "new", "x", "--like", "skerry", "--from", "skerry-2").err


@pytest.mark.long
def test_a_rehearsal_stops_where_data_would_be_lost_and_leaves_the_server_alone(fstripe, skerry):
    fstripe(*AT, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials", MEMBERS)
    before = fstripe(*AT, "survey", "--as-sheet").out, len(fstripe(*AT, "log", "--json").json)
    script = fstripe.folder / "plan.txt"
    fstripe("stock", "add", "UV4H30555", "--size", "4000787030016 B", "--media", "HDD", "--part", "UL-H4-A")
    script.write_text(
        "# the right drive first\nbench pull 5\nbench seat 5 UV4H30555\nbench advance 12h\nbench pull 6\n"
    )
    good = fstripe("rehearse", "plan.txt", "--like", "skerry", "--json")
    assert good.status == 0, good.err
    assert [s["margins"]["tides"] for s in good.json["steps"]] == [1, 0, 1, 1, 0]  # time passes by itself
    hasty = fstripe("rehearse", "plan.txt", "--like", "skerry", "--hasty", "--json")
    assert [s["margins"]["tides"] for s in hasty.json["steps"]] == [1, 0, 0, 1, 0]
    script.write_text("bench pull 5\nbench pull 6\nbench seat 5 UV4H20944\n")
    bad = fstripe("rehearse", "plan.txt", "--like", "skerry")
    assert bad.status == 3 and "STOP: this step takes data away: tides" in bad.out and "seat" not in bad.out
    script.write_text(f"volume remove tides --yes --expect-serials {MEMBERS}\nsurvey\n")
    assert fstripe("rehearse", "plan.txt", "--like", "skerry", "--json").json["steps"][-1]["lost"] == ["tides"]
    script.write_text("volume show nothing\nsurvey\n")
    failed = fstripe("rehearse", "plan.txt", "--like", "skerry")
    assert failed.status == 1 and "there is no volume nothing" in failed.out
    assert (fstripe(*AT, "survey", "--as-sheet").out, len(fstripe(*AT, "log", "--json").json)) == before


def test_known_faults_are_named_while_the_firmware_still_has_them(fstripe, skerry):
    (fstripe.folder / "faults.toml").write_text(
        '[[fault]]\nmodel = "H4"\nfixed_in = "K412"\nwhat = "forgets its cache"\n'
        '[[fault]]\nmodel = "H6"\nfixed_in = "K412"\nwhat = "computed already"\n'
        '[[fault]]\nmodel = "RC8"\nfixed_in = "5.10.0"\nwhat = "slow after a restart"\n'
    )
    told = fstripe(*AT, "report", "--json", "--advisories", "faults.toml").json["left"]
    where = "bays 4, 5, 6, 7, 8, 9, 10, 11, 12, 13"
    assert f"{where}: H4 has a known fault (forgets its cache), fixed in firmware K412" in told
    assert "CTRL-1: RC8 has a known fault (slow after a restart), fixed in firmware 5.10.0" in told
    assert not any("computed already" in text for text in told)
    assert fstripe(*AT, "report", "--json", FSTRIPE_ADVISORIES="faults.toml").json["left"] == told
    (fstripe.folder / "bad.toml").write_text('[[fault]]\nmodel = "x"\n')
    wrong = fstripe(*AT, "report", "--json", "--advisories", "bad.toml")
    assert wrong.status == 1 and "not a list of known faults ('fixed_in')" in wrong.err


@pytest.mark.parametrize("line", [
    "stock add UV4H30555 --size 4TB --media HDD", "bench new other --take skerry:UV4H20931", "report out.md", "bench",
    "bench dump tides out.img", "lineup solve a.img", "rehearse plan.txt --like skerry", "demo x", "--at s survey",
    "watch --metrics=9100", "weigh --plot out.png --drives 4 --size 4TB", "bench serve", "no-such-command", "''",
])  # fmt: skip
def test_a_plan_changes_nothing_but_the_copy(fstripe, skerry, line):
    script = fstripe.folder / "plan.txt"
    script.write_text(f"survey\n{line}\n")
    before = sorted(p for p in fstripe.folder.iterdir() if p.name != ".state")
    got = fstripe("rehearse", "plan.txt", "--like", "skerry")
    assert got.status == 1 and got.out == "" and "plan.txt, line 2: " in got.err and got.err.count("\n") == 1
    assert sorted(p for p in fstripe.folder.iterdir() if p.name != ".state") == before


def test_a_swap_in_a_plan_leaves_the_real_list_alone(fstripe, skerry):
    fstripe("stock", "add", "UV4H30555", "--size", "4000787030016 B", "--media", "HDD", "--part", "UL-H4-A")
    listed = (fstripe.folder / "stock.csv").read_bytes()
    (fstripe.folder / "plan.txt").write_text("swap 5\nstock list\n")
    assert fstripe("rehearse", "plan.txt", "--like", "skerry").status == 0
    assert (fstripe.folder / "stock.csv").read_bytes() == listed


def test_a_killed_rehearsal_leaves_nothing_behind(installed, skerry, tmp_path):
    place = tmp_path / "temporary"
    place.mkdir()
    (tmp_path / "plan.txt").write_text("bench advance 1h\n" * 200)
    words = [FSTRIPE, "rehearse", "plan.txt", "--like", "skerry"]
    process = subprocess.Popen(words, cwd=tmp_path, env={**os.environ, "TMPDIR": str(place)}, stdout=subprocess.PIPE)
    assert process.stdout is not None
    process.stdout.readline()  # the copy is there
    assert any(place.iterdir())
    process.kill()
    process.wait()
    process.stdout.close()
    for _ in range(600):
        if not any(place.iterdir()):
            return
        threading.Event().wait(0.1)
    raise AssertionError(list(place.iterdir()))
