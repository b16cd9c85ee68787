"""The installed command, run as a person runs it: outputs, exit statuses, and one clear line for every mistake."""

import ctypes
import json
import os
import pty
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import click
import pytest

from faithful_stripe.bench.bench import Bench
from faithful_stripe.cli.demo_lesson import CHAPTERS
from faithful_stripe.cli.main import COMMANDS
from faithful_stripe.cli.main import fstripe as root
from faithful_stripe.core.arrays.rebuild import check_rows
from faithful_stripe.core.source import read
from faithful_stripe.media.image import ImageFile

from .conftest import FSTRIPE, SERIALS

AT = ("--at", "skerry")
ADD = (*AT, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7")
YES = ("--yes", "--expect-serials", ",".join(SERIALS))


@pytest.fixture
def tides(fstripe, skerry):
    """A bench with the volume `tides`."""
    assert fstripe(*ADD, *YES).status == 0
    return skerry


def every_command(group=root, path=("fstripe",)):
    ctx = click.Context(group, info_name=path[-1])
    for name in group.list_commands(ctx):
        command = group.get_command(ctx, name)
        yield (*path, name), command
        if isinstance(command, click.Group):
            yield from every_command(command, (*path, name))


@pytest.mark.parametrize(
    ("path", "command"), list(every_command()), ids=lambda v: " ".join(v) if isinstance(v, tuple) else ""
)
def test_every_command_has_help_with_an_example_and_json(path, command):
    text = command.get_help(click.Context(command, info_name=" ".join(path)))
    assert "Example" in text and text.split("Example")[1].split("fstripe")[1:], path
    if not isinstance(command, click.Group):
        assert "--json" in text
        assert all(getattr(p, "help", "") for p in command.params if isinstance(p, click.Option)), path
    if len(path) == 2:
        assert COMMANDS[path[1]].help.split()[0].rstrip(".") and COMMANDS[path[1]].stage


def test_help_needs_no_numbers_library(fstripe):
    code = (
        "import sys; from faithful_stripe.cli import main; sys.argv = ['fstripe', '--help']\n"
        "try: main.run()\nexcept SystemExit: pass\n"
        "print(sorted({m.split('.')[0] for m in sys.modules} & {'numpy', 'scipy', 'matplotlib', 'rich', 'httpx'}))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]" and "Recover:" in done.stdout


def test_completion_knows_the_commands(fstripe):
    done = fstripe(_FSTRIPE_COMPLETE="bash_complete", COMP_WORDS="fstripe volume ", COMP_CWORD="2")
    known = {"add", "adopt", "check", "forget", "found", "initialize", "remove", "rebuild", "rescue", "set", "show"}
    assert {f"plain,{name}" for name in known} == set(done.out.split())
    assert "complete" in fstripe(_FSTRIPE_COMPLETE="bash_source").out


def test_from_an_empty_server_to_a_rebuilt_volume(fstripe, tmp_path, observatory):
    assert "16 bays, 14 drives seated" in fstripe("bench", "new", "skerry").out
    empty = fstripe(*AT, "survey")
    assert empty.status == 0 and "Volumes: none yet" in empty.out and "Nothing needs attention" in empty.out
    made = fstripe(*ADD, "--strip", "64KiB", stdin="tides\n")
    assert made.status == 0 and "12 TB (12002159689728 bytes), strip 64 KiB" in made.out
    assert "Nothing will be lost" in made.err and "UV4H20944" in made.err
    loaded = fstripe(*AT, "bench", "load", "tides", observatory, "--json").json
    assert loaded["image_bytes"] == 256 << 20

    def dumped(name):
        return fstripe(*AT, "bench", "dump", "tides", name, "--range", "0:256MiB", "--json").json["sha256"]

    assert dumped("a.img") == loaded["sha256"]
    assert (tmp_path / "a.img").stat().st_blocks * 512 < 32 << 20
    assert "Margin left: 0" in fstripe(*AT, "bench", "fault", "5").out
    hurt = fstripe(*AT, "survey")
    assert hurt.status == 3 and "Critical  volume tides: degraded, margin 0" in hurt.out and "4 (5) 6 7" in hurt.out
    assert fstripe(*AT, "log", "--bay", "5").out.count("Critical") == 1
    assert dumped("b.img") == loaded["sha256"]
    fstripe(*AT, "bench", "pull", "UV4H20944")
    assert "rebuild of the volume tides" in fstripe(*AT, "bench", "seat", "5", "UV4H30555").out
    once = fstripe(*AT, "watch", "--once")
    assert once.status == 3 and "rate being measured" in once.out
    watched = fstripe(*AT, "watch", "--speed", "8000", "--json")
    lines = [line for line in watched.out.splitlines() if line]
    assert watched.status == 0 and len(lines) >= 3 and '"healthy": true' in lines[-1]
    survey = fstripe(*AT, "survey", "--json")
    assert survey.status == 0 and [m["serial"] for m in survey.json["volumes"][0]["members"]][1] == "UV4H30555"
    assert dumped("c.img") == loaded["sha256"]
    messages = [e["message_id"].split(".")[-1] for e in fstripe(*AT, "log", "--json").json]
    assert messages == ["BenchStarted", "VolumeCreated", "DriveFailure", "VolumeDegraded", "DriveRemoved",
                        "DriveInserted", "RebuildStarted", "RebuildDone", "VolumeOK"]  # fmt: skip


X = (*AT, "volume", "add", "x", "--level")
MISTAKES = [
    ((*X, "RAID5", "--bays", "8,9,99"), 1, "there is no bay 99; bays here: 1"),
    ((*X, "RAID5", "--bays", "4,8,9"), 1, "is member 0 of tides"),
    ((*X, "RAID5", "--bays", "8,9"), 1, "needs at least 3 drives, got 2"),
    ((*X, "RAID5", "--bays", "8,8,9"), 1, "bay 8 is named twice"),
    ((*X, "RAID5", "--bays", "8,9,16"), 1, "bay 16 is empty"),
    ((*X, "RAID5", "--bays", "3,8,9"), 1, "differ in media: bay 3 SSD"),
    ((*X, "RAID9", "--bays", "8,9"), 1, "'RAID9' is not a level"),
    ((*X, "RAID0", "--bays", "8", "--strip", "5KiB"), 1, "powers of two"),
    ((*X, "RAID0", "--bays", "8", "--strip", "big"), 2, "'big' is not a size"),
    ((*AT, "volume", "add", "tides", "--level", "RAID0", "--bays", "8"), 1, "a volume tides already"),
    ((*X, "RAID5", "--bays", "8-10", "--size", "90TB"), 1, "these drives hold about 8 TB as RAID5, 90 TB are wanted"),
    ((*X, "RAID50", "--spans", "8-10/11,12"), 2, "every span needs as many bays"),
    ((*AT, "spare", "remove", "3"), 1, "is not a hot spare"),
    ((*AT, "volume", "show", "other"), 1, "there is no volume other; volumes here: tides"),
    ((*AT, "bench", "pull", "16"), 1, "bay 16 is empty"),
    ((*AT, "bench", "seat", "4", "UV4H30555"), 1, "bay 4 holds drive UV4H20931"),
    ((*AT, "bench", "seat", "15", "NOPE"), 1, "no drive with serial number NOPE"),
    ((*AT, "bench", "load", "tides", "nothing.img"), 1, "no such file"),
    ((*AT, "bench", "advance", "soon"), 2, "'soon' is not a duration"),
    (("--at", ".", "survey"), 1, "this is not a bench"),
    (("--at", "gone", "survey"), 1, "there is no such folder"),
    (("survey",), 2, "Which server?"),
    (("--at", "https://127.0.0.1:9", "bench", "pull", "4"), 1, "a real server has no such hands"),
    (("bench", "new", "skerry"), 1, "it exists already"),
    (("bench", "new", "new", "--from", "none.toml"), 1, "cannot be read"),
    (("volumes",), 2, "No such command"),
]  # fmt: skip


def test_every_mistake_is_one_clear_line_and_changes_nothing(fstripe, tides):
    before = fstripe(*AT, "survey", "--json").json
    for words, status, said in MISTAKES:
        wrong = fstripe(*words)
        assert wrong.status == status and said in wrong.err, (words, wrong.err)
        assert wrong.err.startswith("fstripe: ") and wrong.err.count("\n") == 1 and wrong.out == "", (words, wrong.err)
    after = fstripe(*AT, "survey", "--json").json
    assert after | {"time": ""} == before | {"time": ""}


def test_nothing_is_destroyed_without_the_right_name(fstripe, skerry):
    for stdin, more, said in (
        ("", (), "not confirmed; nothing was changed"),
        ("recods\n", (), "'recods' is not its name; nothing was changed"),
        ("", ("--yes",), "--yes needs --expect-serials"),
        ("", ("--yes", "--expect-serials", "A,B"), "expected A, B; nothing was changed"),
    ):
        asked = fstripe(*ADD, *more, stdin=stdin)
        assert asked.status in (1, 2) and said in asked.err
    assert fstripe(*AT, "survey", "--json").json["volumes"] == []


def test_what_will_be_lost_is_shown_first(fstripe, tides, observatory):
    fstripe(*AT, "bench", "load", "tides", observatory)
    again = fstripe(*AT, "bench", "load", "tides", observatory)
    assert again.status == 1 and "WILL BE LOST: volume tides holds: ext file system 'tide-records'" in again.err
    removed = fstripe(*AT, "volume", "remove", "tides", stdin="tides\n")
    assert removed.status == 0 and "holding ext file system 'tide-records'" in removed.err
    anew = fstripe(*ADD)
    assert "bay 4, UV4H20931: ext file system" in anew.err and "bay 5, UV4H20944: data" in anew.err
    assert fstripe(*AT, "volume", "remove", "tides", stdin="tides\n").status == 1
    free = {d["bay"]: d["content"] for d in fstripe(*AT, "bays", "--json").json["bays"]}
    assert free["4"].startswith("ext") and free["8"] == ""  # removing a volume leaves the bytes as they were


def test_a_replacement_that_does_not_fit_says_so(fstripe, tides):
    fstripe(*AT, "bench", "pull", "5")
    small = fstripe(*AT, "bench", "seat", "5", "PL2P71120")
    assert small.status == 3 and "it holds 2 TB, 4 TB are needed" in small.out
    fstripe(*AT, "bench", "pull", "5")
    larger = fstripe(*AT, "bench", "seat", "5", "UV6H00377")
    assert larger.status == 0 and "rebuild" in larger.out


def test_a_full_disk_is_one_clear_line(fstripe, tides):
    """Files may grow to 4 MiB and no further, as on a disk that is full."""
    random_image(tides.parent / "a.img", 1)
    limit = ["bash", "-c", 'ulimit -f 4096; exec "$0" "$@"', str(FSTRIPE), *AT, "bench", "load", "tides", "a.img"]
    done = subprocess.run(limit, cwd=tides.parent, capture_output=True, text=True, check=False)
    assert done.returncode == 1 and done.stderr.count("\n") == 1 and "larger than this file system" in done.stderr
    assert fstripe(*AT, "survey").status == 0


def test_a_rebuild_by_hand(fstripe, tides):
    fstripe(*AT, "bench", "pull", "5")
    by_hand = fstripe(*AT, "volume", "rebuild", "tides", "--onto", "13", stdin="tides\n")
    assert by_hand.status == 0 and "being rebuilt" in by_hand.out and "UV4H22008" in by_hand.err
    again = fstripe(*AT, "volume", "rebuild", "tides", "--onto", "12", stdin="tides\n")
    assert again.status == 1 and "no member to rebuild" in again.err
    done = fstripe(*AT, "bench", "advance", "12h")
    assert "is complete" in done.out and fstripe(*AT, "volume", "show", "tides").status == 0


def shorten(path):
    os.truncate(path, 5000)


def exchange(path):
    """In place, as `cp` does it."""
    other = path.with_name("UV4H21007.img")
    subprocess.run(["cp", "--sparse=always", other, path], check=True)


@pytest.mark.parametrize(
    ("hurt", "says"),
    [(os.unlink, "is missing"), (shorten, "holds 5000 bytes, not 4000787030016"), (exchange, "was exchanged")],
)
def test_an_image_that_was_changed_behind_the_benchs_back_is_a_drive_that_does_not_answer(fstripe, tides, hurt, says):
    image, other = (tides / "drives" / f"{serial}.img" for serial in ("UV4H20931", "UV4H21166"))
    subprocess.run(["cp", "-a", "--sparse=always", image, tides / "kept"], check=True)
    hurt(image)
    seen = fstripe(*AT, "survey")
    assert seen.status == 3 and "tides: degraded, margin 0" in seen.out and "its image file is missing, cut" in seen.out
    assert f"The image file of the drive at bay 4 {says}" in fstripe(*AT, "log").out
    assert fstripe(*AT, "bench", "dump", "tides", "x.img", "--range", "0:1MiB").status == 0  # from the others
    os.truncate(other, 7000)
    assert "bay 8: drive UV4H21166: its image file is missing, cut" in fstripe(*AT, "survey").out
    os.truncate(tides / "drives" / "UV4H20944.img", 5000)
    dump = fstripe(*AT, "bench", "dump", "tides", "y.img", "--range", "0:1MiB")
    assert dump.status == 1 and dump.err.count("\n") == 1 and not (tides.parent / "y.img").exists()
    os.truncate(
        tides / "drives" / "UV4H20944.img", 4000787030016
    )  # what it held of tides is gone, and so is its set-up
    os.replace(tides / "kept", image)
    assert "volume tides: degraded, margin 0" in fstripe(*AT, "survey").out  # bay 4 answers again
    assert "drive UV4H20931: its image" not in fstripe(*AT, "survey").out


def test_a_copied_bench_is_a_bench(fstripe, tides):
    subprocess.run(["cp", "-a", "--sparse=always", tides, tides.with_name("copy")], check=True)
    assert fstripe("--at", "copy", "survey").status == 0


def no_override() -> None:
    """Give up the superuser's right to ignore permissions (CAP_DAC_OVERRIDE), where the test runs as root."""
    ctypes.CDLL(None).prctl(24, 1, 0, 0, 0)


def test_a_read_only_folder_is_one_clear_line(tides):
    for path in (tides, *tides.rglob("*")):
        path.chmod(0o555 if path.is_dir() else 0o444)
    done = subprocess.run(
        [FSTRIPE, "--at", tides, "survey"], capture_output=True, text=True, preexec_fn=no_override, check=False
    )
    tides.chmod(0o755)
    assert done.returncode == 1 and "its folder cannot be written" in done.stderr and done.stderr.count("\n") == 1


def on_a_terminal(folder: Path, *words: str, **env: str) -> str:
    """Run a command on a pseudo-terminal of 120 columns; what it printed."""
    pid, fd = pty.fork()
    if pid == 0:
        os.chdir(folder)
        os.environ.update({"COLUMNS": "120", "TERM": "xterm-256color", **env})
        os.execv(FSTRIPE, ["fstripe", *words])
    out = b""
    while True:
        try:
            piece = os.read(fd, 65536)
        except OSError:
            break
        if not piece:
            break
        out += piece
    os.close(fd)
    os.waitpid(pid, 0)
    return out.decode()


def test_colour_on_a_terminal_and_none_when_it_is_not_wanted(fstripe, tides):
    fstripe(*AT, "bench", "fault", "5")
    assert "\x1b[1;38;5;167m" in on_a_terminal(tides.parent, *AT, "survey")
    plain = on_a_terminal(tides.parent, *AT, "bays", NO_COLOR="1")
    assert "[31m" not in plain and "31m" not in plain and "failed" in plain
    assert "\x1b" not in fstripe(*AT, "survey").out


def test_interrupting_a_watch_loses_nothing(fstripe, tides):
    image = random_image(tides.parent / "a.img", 1)
    fstripe(*AT, "bench", "load", "tides", image)
    fstripe(*AT, "bench", "pull", "5")
    fstripe(*AT, "bench", "seat", "5", "UV4H30555")
    process = subprocess.Popen(
        [FSTRIPE, *AT, "watch", "--speed", "2000"], cwd=tides.parent, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        text=True,
    )  # fmt: skip
    assert process.stdout is not None
    process.stdout.readline()
    time.sleep(0.4)
    process.send_signal(signal.SIGINT)
    _out, err = process.communicate(timeout=20)
    assert process.returncode == 1 and "stopped watching; the work continues (tides rebuild of bay 5" in err
    assert err.count("\n") == 1
    assert fstripe(*AT, "bench", "advance", "12h").status == 0
    healthy(tides, image)


def healthy(folder: Path, image: Path) -> None:
    """The volume holds the image and its parity is true everywhere."""
    bench = Bench(folder)
    with bench.session() as session, ImageFile(image) as source:
        array = session.controller.array(session.controller.volume("tides"))
        assert not session.controller.volume("tides").lost
        assert read(array, 0, source.size) == read(source, 0, source.size)
        assert not [bad for _row, some in check_rows(array, 0, array.geometry.rows) for bad in some]
    bench.close()


def random_image(path: Path, seed: int, size: int = 24 << 20) -> Path:
    path.write_bytes(random.Random(seed).randbytes(size))
    return path


@pytest.mark.long
@pytest.mark.parametrize("seed", range(15))
def test_a_kill_at_any_moment_leaves_a_bench_that_opens_and_loses_nothing(fstripe, tides, seed):
    """Loads over a loaded volume, killed at a moment of its own: old or new bytes everywhere, parity true."""
    old, new = (random_image(tides.parent / f"{name}.img", i) for i, name in enumerate(("old", "new")))
    fstripe(*AT, "bench", "load", "tides", old)
    degraded = seed % 3 == 2
    if degraded:
        fstripe(*AT, "bench", "pull", "6")
    process = subprocess.Popen(
        [FSTRIPE, *AT, "bench", "load", "tides", new, *YES], cwd=tides.parent, stdout=-3, stderr=-3
    )
    time.sleep(0.25 + 0.02 * seed)
    process.kill()
    process.wait()
    assert fstripe(*AT, "survey").status == (3 if degraded else 0)
    bench = Bench(tides)
    with bench.session() as session:
        array = session.controller.array(session.controller.volume("tides"))
        was, is_to_be, got = old.read_bytes(), new.read_bytes(), read(array, 0, old.stat().st_size)
        for at in range(0, len(got), 4096):
            assert got[at : at + 4096] in (was[at : at + 4096], is_to_be[at : at + 4096], bytes(4096)), at
        if not degraded:
            assert not [bad for _row, some in check_rows(array, 0, array.geometry.rows) for bad in some]
    bench.close()
    assert fstripe(*AT, "bench", "load", "tides", old, *YES).status == 0
    if degraded:
        fstripe(*AT, "bench", "seat", "6", "UV4H21007")
        assert "is complete" in fstripe(*AT, "bench", "advance", "20h").out
    healthy(tides, old)


@pytest.mark.long
def test_a_kill_during_a_rebuild_goes_on_from_its_checkpoint(fstripe, tides):
    image = random_image(tides.parent / "a.img", 3)
    fstripe(*AT, "bench", "load", "tides", image)
    fstripe(*AT, "bench", "pull", "5")
    fstripe(*AT, "bench", "seat", "5", "UV4H30555")
    percent = 0.0
    for kills in range(60):
        if kills >= 4 and percent > 1:
            break
        words = [FSTRIPE, *AT, "watch", "--speed", "3000", "--json"]
        process = subprocess.Popen(words, cwd=tides.parent, stdout=subprocess.PIPE, stderr=-3, text=True)
        for line in process.stdout:  # killed as soon as it has come further
            work = json.loads(line)["progress"]
            if not work or work[0]["work"]["percent"] > percent:
                break
        process.kill()
        process.communicate()
        percent = fstripe(*AT, "watch", "--once", "--json").json["progress"][0]["work"]["percent"]
    assert 1 < percent < 100
    assert "is complete" in fstripe(*AT, "bench", "advance", "12h").out
    healthy(tides, image)


@pytest.mark.long
@pytest.mark.parametrize("chapter", CHAPTERS)
def test_each_chapter_of_the_lesson_can_be_run_alone(installed, chapter):
    told = installed("demo", chapter, "--keep", "d", "--speed", "40000")
    assert told.status == 0, told.err
    assert (
        f"(demo {chapter}) ==" in told.out and told.out.count("\n$ fstripe ") >= 2 and (installed.folder / "d").is_dir()
    )
    assert "commands in" in told.out and "Any key" not in told.out  # nobody is waited for where nobody is
    assert installed("demo", chapter, "--keep", "d").status == 1


@pytest.mark.long
def test_the_demo_tells_its_story(fstripe):
    told = fstripe("demo", "all", "--speed", "40000", "--json")
    assert told.status == 0
    summary = told.json
    assert [s["stage"] for s in summary["stages"]] == [
        "healthy", "degraded", "written while degraded", "rebuilding", "rebuilt", "recovered from the pile",
        "RAID 50, healthy", "two rebuilds, power cut", "on both spares", "returned from the spares",
    ]  # fmt: skip
    assert len({s["sha256"] for s in summary["stages"]}) == 2 and summary["lineup"]["verdict"] == "certain"


@pytest.mark.parametrize(
    "words",
    [
        ("watch", "--speed", "1e18"), ("watch", "--speed", "inf"), ("watch", "--speed", "nan"),
        ("bench", "advance", "999999999999d"), ("bench", "fault", "5", "slow", "--factor", "nan"),
        ("weigh", "--drives", "4", "--size", "4TB", "--years", "nan"),
        ("stock", "add", "X", "--size", "4TB", "--media", "HDD", "--rpm", "-5"),
    ],
)  # fmt: skip
def test_numbers_that_nobody_can_mean_are_refused_and_the_bench_lives_on(fstripe, tides, words):
    refused = fstripe(*AT, *words)
    assert refused.status == 2 and refused.err.count("\n") == 1, refused.err
    assert fstripe(*AT, "survey").status == 0 and not (fstripe.folder / "stock.csv").exists()


def test_pipes_folders_and_devices_are_refused_at_once(fstripe, skerry):
    os.mkfifo(fstripe.folder / "pipe")
    (fstripe.folder / "empty").mkdir()
    for name in ("pipe", "empty", "/dev/zero"):
        for words in (
            ("stock", "list", "--stock", name), (*AT, "build", name, "--check"), ("rehearse", name, "--like", "skerry"),
            (*AT, "firmware", "update", name), (*AT, "firmware", "show", "--roles", name), ("lineup", "draw", name),
            ("weigh", "--drives", "4", "--size", "4TB", "--measured", name), ("bench", "new", "x", "--from", name),
            (*AT, "report", "--json", "--advisories", name), ("lineup", "solve", name, name),
            (*AT, "ready", "--installer", name, "--drivers", name),
        ):  # fmt: skip
            refused = fstripe(*words)
            assert refused.status in (1, 2, 3) and refused.err.count("\n") <= 1, (words, refused.err)


def test_a_roll_up_that_a_part_explains_is_no_finding_of_its_own(fstripe, tides):
    """A spare is used: what the failed drive says of itself weighs less then, but it is why the server is unwell."""
    for words in (("spare", "add", "13"), ("bench", "fault", "5"), ("bench", "advance", "48h")):
        fstripe(*AT, *words)
    seen = fstripe(*AT, "survey")
    assert "bay 13 is used in its place" in seen.out and "Critical" in seen.out
    assert "no part of it that was read says why" not in seen.out
