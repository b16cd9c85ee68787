"""Build sheets: complaints that name the line, plans carried out and gone on with, and never more lost than agreed."""

import json
import os
import signal
import subprocess
import time
import tomllib

import pytest
from jsonschema import Draft202012Validator

from faithful_stripe.bench import volumes
from faithful_stripe.bench.bench import create
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.target import connect
from faithful_stripe.work import apply
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.plan import plan_build
from faithful_stripe.work.sheet import line_of, read_sheet
from faithful_stripe.work.survey import survey

from .conftest import FSTRIPE

AT = ("--at", "skerry")
HEAD = 'format = "faithful-stripe/sheet/1"\n'
WHOLE = """format = "faithful-stripe/sheet/1"
server = "skerry-1"
boot = "system"

[firmware]
"storage mode" = "RAID"
"boot mode" = "UEFI"
"legacy support" = "Disabled"
Slot1Width = "x16"

[controller.CTRL-1]
rebuild_rate = 40

[[volume]]
name = "system"
level = "RAID1"
drives = ["1", "2"]

[[volume]]
name = "gauges"
level = "RAID50"
spans = [["4", "5", "6"], ["7", "UV4H21166", "9"]]
strip = "256KiB"
initialize = "background"
write_cache = "protected-back"

[[single]]
name = "spool"
drives = ["3"]

[[spare]]
drive = "13"
for = ["gauges"]

[[spare]]
drive = "14"
revertible = false
"""


@pytest.fixture
def sheet(fstripe):
    """Writes a sheet and gives its name."""

    def write(text: str, name: str = "s.toml") -> str:
        (fstripe.folder / name).write_text(text)
        return name

    return write


@pytest.mark.parametrize(
    ("text", "line", "complaint"),
    [
        ('format = "other"\n', 1, "format: expected 'faithful-stripe/sheet/1', found 'other'"),
        (HEAD + 'colour = "red"\n', 2, "colour: not a key; known: format, server, boot, others"),
        (HEAD + 'others = "burn"\n', 2, "others: expected one of keep, remove, found 'burn'"),
        (WHOLE.replace('"RAID1"', '"RAID7"'), 16, "volume.1.level: expected one of RAID0, RAID1,"),
        (WHOLE.replace('strip = "256KiB"', 'strip = "many"'), 23, "volume.2.strip: expected a size such as 64KiB"),
        (WHOLE.replace("rebuild_rate = 40", "rebuild_rate = 400"), 12, "rebuild_rate: expected 1 to 100, found 400"),
        (WHOLE.replace('name = "gauges"\n', ""), 19, "volume.2: the key name is missing"),
        (WHOLE.replace('drives = ["1", "2"]', ""), 14, "volume.1: give either drives, or spans"),
        (WHOLE.replace('drives = ["1", "2"]', "drives = [1, 2]"), 17, "volume.1.drives.1: expected text, found 1"),
        (WHOLE.replace('"gauges"\nlevel', '"system"\nlevel'), 15, "the name 'system' is there twice"),
        (WHOLE.replace('boot = "system"', 'boot = "data"'), 3, "expected one of the volumes system, gauges, spool-3"),
        (WHOLE.replace('for = ["gauges"]', 'for = ["tides"]'), 33, "expected volumes of this sheet"),
        (WHOLE.replace('"9"]]', ']]'), 22, "every span needs as many drives"),
        (HEAD + "boot = \n", 2, "not TOML"),
    ],
)  # fmt: skip
def test_complaints_name_file_line_key_and_what_is_allowed(fstripe, skerry, sheet, text, line, complaint):
    told = fstripe(*AT, "build", sheet(text), "--check")
    assert told.status == 1 and complaint in told.err, told.err
    assert f"line {line}" in told.err and "s.toml" in told.err and told.err.count("\n") == 1


def test_lines_are_found_in_tables_and_lists():
    assert line_of(WHOLE, ["volume", 1, "strip"]) == 23
    assert line_of(WHOLE, ["controller", "CTRL-1", "rebuild_rate"]) == 12
    assert line_of(WHOLE, ["firmware", "boot mode"]) == 7
    assert line_of(WHOLE, ["nothing"]) == 1


@pytest.mark.long
def test_from_the_factory_to_what_the_sheet_says_and_back_to_a_sheet(fstripe, sheet):
    fstripe("bench", "new", "skerry", "--from", "skerry-new")
    name = sheet(WHOLE)
    plan = fstripe(*AT, "build", name, "--check", "--json")
    assert plan.status == 3
    kinds = [s["kind"] for s in plan.json["steps"]]
    assert kinds == ["settings", "restart", "controller", "make", "make", "make", "spare", "spare", "restart", "boot"]
    assert "after the restart controllers will offer volumes" in plan.json["steps"][0]["lines"]
    assert fstripe(*AT, "build", name, stdin="other\n").status == 1  # not confirmed
    assert fstripe(*AT, "build", name, "--check", "--json").json["steps"] == plan.json["steps"]  # nothing was changed
    built = fstripe(*AT, "build", name, "--speed", "300", stdin="skerry-1\n")
    assert built.status == 0 and "skerry-1 is as the sheet says" in built.out, built.out + built.err
    again = fstripe(*AT, "build", name)
    assert again.status == 0 and "nothing to do" in again.out
    seen = fstripe(*AT, "survey", "--json").json
    made = {v["name"]: v for v in seen["volumes"]}
    assert all(v["found"] and v["found_size"] == v["size"] for v in made.values())
    assert made["system"]["boots"] and made["gauges"]["write_cache"] == "protected-back"
    assert [m["bay"] for m in made["gauges"]["members"]] == ["4", "5", "6", "7", "8", "9"]
    assert {d["bay"]: d["spare"] for d in seen["drives"] if d["spare"]} == {
        "13": "dedicated to gauges", "14": "global, not revertible",
    }  # fmt: skip
    written = fstripe(*AT, "survey", "--as-sheet").out
    Draft202012Validator(fstripe("build", "--schema").json).validate(tomllib.loads(written))
    same = fstripe(*AT, "build", sheet(written, "again.toml"), "--check")
    assert same.status == 0 and "nothing to do" in same.out, same.out
    create(fstripe.folder / "second")  # the sheet of one server builds another one of the kind
    other = sheet(written.replace('server = "skerry-1"\n', ""), "other.toml")
    named = ["1", "2", "3", "4", "5", "6", "7", "8", "9", "13", "14"]
    serials = ",".join(d["serial"] for d in seen["drives"] if d["bay"] in named)
    twin = fstripe("--at", "second", "build", other, "--speed", "300", "--yes", "--expect-serials", serials, "--json")
    assert twin.status == 0 and twin.json["as_the_sheet_says"], twin.err


RECORDS = "UV4H20931,UV4H20944,UV4H21007,UV4H21018"


@pytest.fixture
def tides(fstripe, skerry):
    """A RAID 5 on bays 4 to 7."""
    words = ("--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials", RECORDS)
    assert fstripe(*AT, "volume", "add", "tides", *words).status == 0


def test_a_volume_that_is_another_one_stays_unless_it_is_named(fstripe, tides, sheet):
    small = HEAD + '[[volume]]\nname = "tides"\nlevel = "RAID6"\ndrives = ["4", "5", "6", "7"]\n'
    told = fstripe(*AT, "build", sheet(small), "--yes", "--expect-serials", "")
    assert told.status == 3 and "level RAID5, not RAID6" in told.out and "restart" not in told.err
    assert "--replace tides, which loses what it holds" in told.out
    assert fstripe(*AT, "survey", "--json").json["volumes"][0]["level"] == "RAID5"
    refused = fstripe(*AT, "build", "s.toml", "--replace", "tides", "--yes", "--expect-serials", "UV4H20931")
    assert refused.status == 1 and "the drives are UV4H20931, UV4H20944" in refused.err
    assert "WILL BE LOST:" in refused.err and "volume tides, RAID5, 12 TB" in refused.err
    done = fstripe(*AT, "build", "s.toml", "--replace", "tides", "--yes", "--expect-serials", RECORDS, "--speed", "300")
    assert done.status == 0, done.err
    assert fstripe(*AT, "survey", "--json").json["volumes"][0]["level"] == "RAID6"


def test_others_are_kept_or_removed_and_a_sheet_for_another_server_is_refused(fstripe, tides, sheet):
    fstripe(*AT, "spare", "add", "13")
    beyond = fstripe(*AT, "build", sheet(HEAD), "--check", "--json")
    assert beyond.status == 3 and beyond.json["steps"] == []
    assert beyond.json["notes"] == [
        "volume tides is not in the sheet; it stays", "bay 13: the hot spare UV4H22008 is not in the sheet; it stays",
    ]  # fmt: skip
    plan = fstripe(*AT, "build", sheet(HEAD + 'others = "remove"\n'), "--check", "--json").json
    assert [(s["kind"], s["serials"]) for s in plan["steps"]] == [
        ("unspare", ["UV4H22008"]), ("remove", ["UV4H20931", "UV4H20944", "UV4H21007", "UV4H21018"]),
    ]  # fmt: skip
    refused = fstripe(*AT, "build", sheet(HEAD + 'server = "skerry-9"\n'))
    assert refused.status == 1 and "the sheet is for skerry-9, this is skerry-1" in refused.err


def test_a_repaired_volume_is_still_the_one_the_sheet_means(fstripe, skerry, sheet):
    text = HEAD + '[[volume]]\nname = "v"\nlevel = "RAID5"\ndrives = ["4", "5", "6"]\n[[spare]]\ndrive = "13"\n'
    serials = "UV4H20931,UV4H20944,UV4H21007,UV4H22008"
    fstripe(*AT, "build", sheet(text), "--yes", "--expect-serials", serials, "--speed", "300")
    fstripe(*AT, "bench", "fault", "5")
    standing = fstripe(*AT, "build", "s.toml", "--check")
    assert standing.status == 3 and "the hot spare in bay 13 is used in place of bay 5" in standing.out, standing.out
    assert "volume v is rebuilding, margin 0, without its member of bay 13" in standing.out
    by_serial = text.replace('"5"', '"UV4H20944"')
    assert fstripe(*AT, "build", sheet(by_serial), "--check").status == 3


class Breaks:
    """A client whose connection breaks at the n-th change."""

    def __init__(self, inner: Client, after: int) -> None:
        self.inner, self.left = inner, after

    def __getattr__(self, name):
        if name in ("post", "create", "patch", "delete"):
            self.left -= 1
            if self.left < 0:
                raise WorkError(what="the connection is gone", to_do="")
        return getattr(self.inner, name)


@pytest.mark.long
def test_broken_off_after_any_step_the_next_run_goes_on(tmp_path):
    """After 0, 1, 2, ... changes: what stands is whole, and one more run ends where the sheet says."""
    (tmp_path / "s.toml").write_text(WHOLE)
    wanted = read_sheet(tmp_path / "s.toml")
    broken = 0
    for after in range(14):
        folder = tmp_path / f"b{after}"
        create(folder)
        with connect(str(folder), speed=2000.0) as client:
            try:
                breaks = Breaks(client, after)
                apply.build_sheet(breaks, wanted, plan_build(client, wanted), (), lambda _t: None, pause=0.01)
            except WorkError as reason:
                assert "connection is gone" in reason.what
                broken += 1
            done = apply.build_sheet(client, wanted, plan_build(client, wanted), (), lambda _t: None, pause=0.01)
            assert done.left.done, (after, done.left)
            assert [v.name for v in survey(client).volumes] == ["system", "gauges", "spool-3"]
    assert broken > 6


def test_several_volumes_in_one_go_are_all_made_or_none(fstripe, skerry, sheet):
    """The third is refused by the controller only: those before it are removed again."""
    text = HEAD + "".join(
        f'[[volume]]\nname = "{n}"\nlevel = "RAID1"\ndrives = ["{a}", "{b}"]\n' for n, a, b in
        (("a", 4, 5), ("b", 6, 7), ("c", 8, 9))
    )  # fmt: skip
    text = text.replace('drives = ["8", "9"]', 'drives = ["8", "9"]\nwrite_cache = "unprotected-back"')
    done = fstripe(*AT, "build", sheet(text), "--yes", "--expect-serials",
                   "UV4H20931,UV4H20944,UV4H21007,UV4H21018,UV4H21166,UV4H21204")  # fmt: skip
    assert done.status == 1 and "what was created before it in this run was removed again: b, a" in done.err
    assert fstripe(*AT, "survey", "--json").json["volumes"] == []


def test_what_shows_only_after_the_restart_is_not_lost_unagreed(fstripe, sheet, tmp_path):
    """Controllers that offer no volumes hide one: the plan could not show it, so it is not removed."""
    fstripe("bench", "new", "skerry")
    serials = "UV4H20931,UV4H20944,UV4H21007"
    fstripe(*AT, "volume", "add", "old", "--level", "RAID5", "--bays", "4-6", "--yes", "--expect-serials", serials)
    fstripe(*AT, "firmware", "set", "DiskControllerUse=Direct")
    fstripe(*AT, "firmware", "restart", "--yes", "--speed", "600")
    text = HEAD + 'others = "remove"\n[firmware]\n"storage mode" = "RAID"\n'
    text += '[[volume]]\nname = "new"\nlevel = "RAID5"\ndrives = ["4", "5", "6"]\n'
    done = fstripe(*AT, "build", sheet(text), "--yes", "--expect-serials", serials, "--speed", "600")
    assert done.status == 1 and "after the restart there is more to lose than was agreed: volume old" in done.err
    assert [v["name"] for v in fstripe(*AT, "survey", "--json").json["volumes"]] == ["old"]


def test_a_setting_that_falls_back_stops_the_build_and_ready_remembers_it(fstripe, sheet):
    fstripe("bench", "new", "skerry", "--from", "skerry-new")
    text = HEAD + '[firmware]\n"storage mode" = "RAID"\n"boot mode" = "UEFI"\n'
    done = fstripe(*AT, "build", sheet(text), "--yes", "--speed", "600")
    assert done.status == 1 and "StartupStyle was asked to be Uefi and is Legacy" in done.err
    told = fstripe(*AT, "ready")
    assert "StartupStyle was asked to be Uefi" in told.out and "it fell back" in told.out
    fstripe(*AT, "firmware", "set", "StartupStyle=Legacy")  # let it be
    assert "fell back" not in fstripe(*AT, "ready").out
    other = fstripe(*AT, "ready", XDG_STATE_HOME=str(fstripe.folder / "elsewhere"))
    assert "fell back" not in other.out


@pytest.mark.long
def test_killed_in_the_middle_it_goes_on_where_it_was(fstripe, sheet):
    fstripe("bench", "new", "skerry", "--from", "skerry-new")
    name = sheet(WHOLE)
    serials = "UV4H20931,UV4H20944,UV4H21007,UV4H21018,UV4H21204,QR4S1107,QR4S1132,QR9S0021,UV4H21166"
    serials += ",UV4H22008,UV6H00312"
    words = [FSTRIPE, *AT, "build", name, "--yes", "--expect-serials", serials, "--speed", "40"]
    env = os.environ | {"XDG_STATE_HOME": str(fstripe.folder / ".state")}
    process = subprocess.Popen(words, cwd=fstripe.folder, stderr=subprocess.PIPE, text=True, env=env)
    assert process.stderr is not None
    for line in process.stderr:
        if line.startswith("  make volume gauges"):
            break
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stderr.close()
    time.sleep(0.1)
    done = fstripe(*words[1:])
    assert done.status == 0 and "is as the sheet says" in done.out, done.err


def test_volumes_by_serial_singly_with_spares_and_caches(fstripe, skerry):
    made = fstripe(*AT, "volume", "add", "v", "--level", "RAID5", "--bays", "UV4H20931,5,6", "--spares", "13",
                   "--write-cache", "protected-back", "--read-cache", "adaptive", "--json", "--yes",
                   "--expect-serials", "UV4H20931,UV4H20944,UV4H21007,UV4H22008")  # fmt: skip
    assert made.status == 0, made.err
    assert (made.json["read_cache"], made.json["write_cache"]) == ("adaptive", "protected-back")
    changed = fstripe(*AT, "volume", "set", "v", "--read-cache", "off", "--json").json
    assert (changed["read_cache"], changed["write_cache"]) == ("off", "protected-back")
    assert "say what to set" in fstripe(*AT, "volume", "set", "v").err
    spare = next(d for d in fstripe(*AT, "survey", "--json").json["drives"] if d["bay"] == "13")
    assert spare["spare_for"] == ["v"]
    each = fstripe(*AT, "volume", "add", "spool", "--singly", "--bays", "7,8", "--yes", "--json",
                   "--expect-serials", "UV4H21018,UV4H21166")  # fmt: skip
    assert [v["name"] for v in each.json] == ["spool-7", "spool-8"]
    refused = fstripe(*AT, "volume", "add", "w", "--level", "RAID1", "--bays", "9,10", "--write-cache",
                      "unprotected-back", "--yes", "--expect-serials", "UV4H21204,UV4H21215")  # fmt: skip
    assert refused.status == 1 and "there is no cache policy UnprotectedWriteBack" in refused.err
    fstripe("bench", "new", "second", "--from", "skerry-2")
    fstripe(*AT, "bench", "cut-power", "--stay-off")
    for serial in ("UV4H20931", "UV4H20944", "UV4H21007"):
        fstripe(*AT, "bench", "pull", serial)
    fstripe("bench", "new", "third", "--from", "skerry-2", *(
        word for s in ("UV4H20931", "UV4H20944", "UV4H21007") for word in ("--take", f"skerry:{s}")))  # fmt: skip
    for bay, serial in (("1", "UV4H21007"), ("2", "UV4H20931"), ("3", "UV4H20944")):
        fstripe("--at", "third", "bench", "seat", bay, serial)
    taken = fstripe("--at", "third", "volume", "adopt", "v", "--yes", "--expect-serials",
                    "UV4H20931,UV4H20944,UV4H21007", "--json")  # fmt: skip
    assert taken.status == 0, taken.err
    moved = json.loads(fstripe("--at", "third", "volume", "show", "v", "--json").out)
    assert (moved["read_cache"], moved["write_cache"]) == ("off", "protected-back")  # they are in the DDF


def test_failing_and_foreign_drives_are_taken_only_when_told(fstripe, skerry):
    fstripe(*AT, "bench", "fault", "4", "predicted")
    words = (*AT, "volume", "add", "v", "--level", "RAID1", "--bays", "4,5", "--yes", "--expect-serials",
             "UV4H20931,UV4H20944")  # fmt: skip
    refused = fstripe(*words)
    assert refused.status == 1 and "predicts its failure" in refused.err and "--failing" in refused.err
    taken = fstripe(*words, "--failing")
    assert taken.status == 0 and "bay 4 predicts its failure" in taken.err
    fstripe(*AT, "bench", "pull", "4")
    fstripe(*AT, "bench", "pull", "5")
    fstripe("bench", "new", "second", "--from", "skerry-2", "--take", "skerry:UV4H20931", "--take", "skerry:UV4H20944")
    for bay, serial in (("1", "UV4H20931"), ("2", "UV4H20944")):
        fstripe("--at", "second", "bench", "seat", bay, serial)
    other = ("--at", "second", "volume", "add", "w", "--level", "RAID0", "--bays", "1,2", *words[9:], "--failing")
    refused = fstripe(*other)
    assert (
        refused.status == 1
        and "belongs to volume v of another controller" in refused.err
        and "volume forget v" in refused.err
    )
    assert fstripe(*other, "--over-found").status == 0


def test_a_bench_in_process_sees_volumes_only_after_a_restart(bench):
    """What the firmware found is what stood at the last start, and as large as it was then."""
    with bench.session() as session:
        assert session.state.found == []
        session.shut_down()
        session.power_on()
        assert [d["name"] for d in session.state.found] == ["tides"]
        wish = Wish("slow", "RAID5", ("8", "9", "10"))
        volumes.create(session.controller, volumes.check(session.controller, wish), "foreground")
        session.shut_down()
        session.power_on()
        assert [d["name"] for d in session.state.found] == ["tides"]  # that one cannot be used yet
