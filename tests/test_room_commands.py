"""The machine room from the command line: found volumes, power, faults, two controllers, kills of `bench new`."""

import signal
import subprocess
import time

import pytest

from .conftest import FSTRIPE, SERIALS
from .test_room import TWO

YES = ("--yes", "--expect-serials", ",".join(SERIALS))


def test_drives_of_a_dead_server_are_taken_over_by_another(fstripe, observatory):
    """The whole way: pulled, moved, found, not taken unasked, adopted, read."""
    a, b = ("--at", "a"), ("--at", "b")
    fstripe("bench", "new", "a")
    fstripe(*a, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", *YES)
    digest = fstripe(*a, "bench", "load", "tides", observatory, "--json").json["sha256"]
    fstripe(*a, "bench", "cut-power", "--stay-off")
    off = fstripe(*a, "survey")
    assert off.status == 3 and "the server is off" in off.out
    assert "the server is off; restore the power" in fstripe(*a, "volume", "check", "tides").err
    for serial in SERIALS:
        fstripe(*a, "bench", "pull", serial)
    takes = [word for serial in SERIALS for word in ("--take", f"a:{serial}")]
    assert fstripe("bench", "new", "b", "--from", "skerry-2", *takes).status == 0
    for bay, serial in enumerate(reversed(SERIALS), 1):
        assert fstripe(*b, "bench", "seat", bay, serial).status == 0
    seen = fstripe(*b, "survey")
    assert seen.status == 3 and "a set-up this controller does not know: volume tides, RAID5, 12 TB" in seen.out
    assert "4 of 4 members usable" in seen.out and "volume adopt tides" in seen.out
    refused = fstripe(*b, "volume", "add", "new", "--level", "RAID0", "--bays", "1-4")
    assert refused.status == 1 and "bay 1: drive UV4H21018 belongs to volume tides of another controller" in refused.err
    refused = fstripe(*b, "volume", "add", "new", "--level", "RAID0", "--bays", "1-4", "--over-found", stdin="no\n")
    assert refused.status == 1 and refused.err.count("DDF set-up of another controller (RC8)") >= 4
    assert fstripe(*b, "spare", "add", "1", stdin="\n").status == 1
    shown = fstripe(*b, "volume", "found", "--json").json["found"]
    assert [m["serial"] for m in shown[0]["members"]] == list(SERIALS)
    assert [m["bay"] for m in shown[0]["members"]] == ["4", "3", "2", "1"]
    assert fstripe(*b, "volume", "adopt", "tides", stdin="\n").status == 1
    taken = fstripe(*b, "volume", "adopt", "tides", "--as", "rescued", *YES)
    assert taken.status == 0 and "Volume rescued is adopted" in taken.out
    copy = fstripe(*b, "bench", "dump", "rescued", "copy.img", "--range", "0:256MiB", "--json").json
    assert copy["sha256"] == digest
    assert fstripe(*b, "survey").status == 0


def test_a_foreign_set_up_is_cleared_after_its_name_was_typed(fstripe):
    a, b = ("--at", "a"), ("--at", "b")
    fstripe("bench", "new", "a")
    fstripe(*a, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", *YES)
    for serial in SERIALS[:2]:
        fstripe(*a, "bench", "pull", serial)
    fstripe("bench", "new", "b", "--from", "skerry-2", "--take", f"a:{SERIALS[0]}", "--take", f"a:{SERIALS[1]}")
    fstripe(*b, "bench", "seat", 1, SERIALS[0])
    fstripe(*b, "bench", "seat", 2, SERIALS[1])
    short = fstripe(*b, "volume", "adopt", "tides", *YES)
    assert short.status == 1 and f"members 2 ({SERIALS[2]}), 3 ({SERIALS[3]}) are not here" in short.err
    asked = fstripe(*b, "volume", "forget", "tides", stdin="record\n")
    assert asked.status == 1 and "WILL BE LOST: volume tides (RAID5)" in asked.err
    assert fstripe(*b, "volume", "forget", "tides", stdin="tides\n").status == 0
    assert fstripe(*b, "volume", "found").out.startswith("No seated drive carries a set-up")
    wrong = fstripe(*b, "volume", "adopt", "tides", *YES)
    assert wrong.status == 1 and "no seated drive describes a volume tides" in wrong.err


def test_several_controllers_are_named_everywhere_and_never_guessed(fstripe):
    (fstripe.folder / "two.toml").write_text(TWO)
    fstripe("bench", "new", "b", "--from", "two.toml")
    at = ("--at", "b")
    for bays, serials in (("1,2", "D1,D2"), ("3,4", "D3,D4")):
        made = fstripe(
            *at, "volume", "add", "v", "--level", "RAID1", "--bays", bays, "--strip", "4KiB", "--yes",
            "--expect-serials", serials,
        )  # fmt: skip
        assert made.status == 0, made.err
    for words in (
        ("volume", "show", "v"),
        ("volume", "check", "v"),
        ("controller", "show"),
        ("bench", "dump", "v", "x"),
    ):
        which = fstripe(*at, *words)
        assert which.status == 1 and "CTRL-1, CTRL-2" in which.err and "--controller ID" in which.err, words
    for bay, serial in (("5", "S1"), ("6", "S2")):
        fstripe(*at, "bench", "seat", bay, serial)
    assert "at controller CTRL-2" in fstripe(*at, "volume", "add", "w", "--level", "RAID0", "--bays", "6").err
    mixed = fstripe(*at, "volume", "add", "w", "--level", "RAID1", "--bays", "5,6")
    assert mixed.status == 1 and "these bays belong to CTRL-1 and CTRL-2: bay 5 at CTRL-1, bay 6 at CTRL-2" in mixed.err
    other = fstripe(*at, "volume", "add", "w", "--level", "RAID0", "--bays", "6", "--controller", "CTRL-1")
    assert other.status == 1 and "these bays are not CTRL-1's" in other.err
    shown = fstripe(*at, "volume", "show", "v", "--controller", "CTRL-2", "--json").json
    assert shown["controller"] == "CTRL-2" and [m["bay"] for m in shown["members"]] == ["3", "4"]
    rates = fstripe(*at, "controller", "set", "--controller", "CTRL-2", "--rebuild-rate", "20", "--json").json
    assert rates["rebuild_rate"] == 20 and rates["id"] == "CTRL-2"
    fstripe(*at, "bench", "fault", "4")
    seen = fstripe(*at, "survey")
    assert "volume v (CTRL-2): degraded" in seen.out and "volume v (CTRL-1)" not in seen.out
    gone = fstripe(*at, "controller", "show", "--controller", "CTRL-9")
    assert gone.status == 1 and "controllers here: CTRL-1, CTRL-2" in gone.err
    assert fstripe(*at, "watch", "--once").out.count("v (CTRL-2) (degraded, margin 0)") == 1


def test_faults_as_commands_are_seen_in_the_survey(fstripe, skerry):
    at = ("--at", "skerry")
    assert fstripe(*at, "bench", "fault", "8", "temperature", "--celsius", "58").status == 0
    assert fstripe(*at, "bench", "lid", "open").status == 0
    assert fstripe(*at, "bench", "fault", "9", "link", "--every", "10m", "--down", "1m").status == 0
    assert "one part in 8" in fstripe(*at, "bench", "fault", "10", "slow", "--factor", "8").out
    assert (
        "5 unreadable sectors" in fstripe(*at, "bench", "fault", "11", "unreadable", "--random", "5", "--seed", "1").out
    )
    seen = fstripe(*at, "survey").out
    for said in ("the drive is 58 °C warm", "the chassis is open", "its link is down", "2560 unreadable bytes"):
        assert said in seen, said
    for words, said in (
        (("fault", "8", "slow"), "slow needs --factor"),
        (("fault", "8", "unreadable"), "unreadable needs --range or --random"),
        (("fault", "8", "dead", "--range", "0:1"), "--range goes with"),
        (("new", "x", "--take", "UV4H20931"), "expected BENCH:SERIAL"),
    ):
        wrong = fstripe(*at, "bench", *words)
        assert wrong.status == 2 and said in wrong.err, wrong.err
    assert fstripe(*at, "bench", "power-on").out.startswith("The server was on already")


@pytest.mark.parametrize("delay", [0.15 + 0.025 * i for i in range(10)])
def test_a_bench_whose_making_was_killed_is_whole_or_not_there(fstripe, delay):
    process = subprocess.Popen([FSTRIPE, "bench", "new", "b"], cwd=fstripe.folder, stdout=-3, stderr=-3)
    time.sleep(delay)
    process.send_signal(signal.SIGKILL)
    process.wait()
    if not (fstripe.folder / "b").exists():
        assert fstripe("bench", "new", "b").status == 0
        assert [p.name for p in fstripe.folder.iterdir()] == ["b"]  # what the killed one left is swept away
    assert fstripe("--at", "b", "survey").status == 0
