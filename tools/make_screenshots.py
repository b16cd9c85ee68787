"""Make the pictures in docs/screenshots: each main command in a real terminal window, on the demo data.

Needs Debian's xvfb, xterm, imagemagick and fonts-dejavu-core:

    python tools/make_screenshots.py docs/screenshots [NAME ...]
"""

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

FSTRIPE = Path(sys.executable).with_name("fstripe")
DATA = Path(__file__).parent.parent / "src" / "faithful_stripe" / "bench" / "data"
DISPLAY = ":97"
GROUND = "#1c1c1c"
SERIALS = "UV4H20931,UV4H20944,UV4H21007,UV4H21018"
AT = ["--at", "skerry"]
GAUGES = "UV4H21166,UV4H21204,UV4H21215,UV4H21390,UV4H21417,UV4H22008"
MADE = [
    ["bench", "new", "skerry"],
    [*AT, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials", SERIALS],
    [*AT, "bench", "load", "tides", "observatory"],
]
FAILED = [*MADE, [*AT, "bench", "fault", "5"]]
REBUILDING = [*FAILED, [*AT, "bench", "pull", "5"], [*AT, "bench", "seat", "5", "UV4H30555"]]
REBUILT = [*REBUILDING, [*AT, "bench", "advance", "10h"]]
NESTED = [
    *MADE,
    [*AT, "volume", "add", "gauges", "--level", "RAID50", "--spans", "8-10/11-13", "--yes", "--expect-serials", GAUGES],
    [*AT, "bench", "seat", "15", "UV6H00377"],
    [*AT, "spare", "add", "14", "--for", "gauges"],
    [*AT, "spare", "add", "15"],
    [*AT, "bench", "load", "gauges", "observatory"],
]
SPARED = [
    *NESTED, [*AT, "bench", "fault", "9"], [*AT, "bench", "advance", "3h"], [*AT, "bench", "fault", "6", "predicted"],
]  # fmt: skip

MOVED = [
    *MADE,
    [*AT, "bench", "pull", "5"],
    [*AT, "bench", "load", "tides", "observatory", "--yes", "--expect-serials", SERIALS],
    *([*AT, "bench", "pull", bay] for bay in "467"),
    [
        "bench",
        "new",
        "second",
        "--from",
        "skerry-2",
        *(w for s in SERIALS.split(",") for w in ("--take", f"skerry:{s}")),
    ],
    *(["--at", "second", "bench", "seat", str(8 - i), serial] for i, serial in enumerate(SERIALS.split(","))),
]

RAW = [["bench", "new", "raw", "--from", "skerry-new"]]
ASKED = [*RAW, ["--at", "raw", "firmware", "set", "DiskControllerUse=Raid", "StartupStyle=Uefi", "Slot1Width=x8"]]

# name: (what happens first, what is shown, seconds until the picture)
SCENES = {
    "survey": (SPARED, "fstripe --at skerry survey", 2.5),
    "bays": (SPARED, "fstripe --at skerry bays", 2.5),
    "ready": (RAW, "fstripe --at raw ready", 3.0),
    "firmware": (
        ASKED, "fstripe --at raw firmware show; fstripe --at raw firmware restart --yes --speed 200", 6.0,
    ),
    "build": ([*RAW, "sheet"], "fstripe --at raw build sheet.toml", 3.0),
    "weigh": ([], "fstripe weigh --drives 9 --size 4TB --workload files; fstripe weigh --explain RAID50", 3.0),
    "volume-add": (
        MADE[:1], "fstripe --at skerry volume add gauges --level RAID50 --spans 8-10/11,12,14 --strip 256KiB", 2.5,
    ),
    "watch": (SPARED, "fstripe --at skerry watch --speed 1800", 8.0),
    "log": (SPARED, "fstripe --at skerry log", 2.5),
    "swap": ([*FAILED, "stock", "hands"], "fstripe --at skerry swap 5 --speed 3600", 26.0),
    "stock": (
        [*FAILED, "stock"], "fstripe --at skerry stock match 5; fstripe stock list", 3.0,
    ),
    "rehearse": (
        [*FAILED, "stock", "script"], "cat plan.txt; fstripe rehearse plan.txt --like skerry --hasty", 9.0,
    ),
    "lineup-solve": ([*REBUILT, "shuffle"], "fstripe lineup solve pile/*.img --out found.toml", 6.0),
    "lineup-prove": ([*MADE, "claim"], "fstripe lineup prove claim.toml; fstripe lineup draw claim.toml", 16.0),
    "found": (
        MOVED, "fstripe --at second survey; fstripe --at second volume adopt tides", 4.0,
    ),
}  # fmt: skip


def prepare(place: Path, steps: list) -> None:
    for step in steps:
        if step == "shuffle":
            (place / "pile").mkdir()
            drives = ("UV4H21018", "UV4H20931", "UV4H22008", "UV4H21007", "UV4H30555")
            for number, serial in enumerate(drives):
                source, target = place / "skerry" / "drives" / f"{serial}.img", place / "pile" / f"disk-{number}.img"
                subprocess.run(["cp", "--sparse=always", source, target], check=True)
        elif step == "stock":
            shutil.copy(DATA / "skerry-stock.csv", place / "stock.csv")
        elif step == "claim":  # bays 4 to 7 as somebody remembers them, two of them exchanged
            names = ", ".join(f'"skerry/drives/UV4H{n}.img"' for n in (20931, 21007, 20944, 21018))
            (place / "claim.toml").write_text(
                f'format = "faithful-stripe/lineup/1"\n[[arrays]]\nlevel = "RAID5"\nspans = [[{names}]]\n'
                'strip_bytes = 65536\nrotation = "parity-N"\ndata = "continuation"\nstart_bytes = 0\n'
                "member_bytes = 4000719896576\n"
            )
        elif step == "script":
            (place / "plan.txt").write_text("bench pull 5\nbench seat 5 UV4H30555\nbench pull 6\n")
        elif step == "hands":
            acts = (
                "sleep 6; {0} pull 6; sleep 3; {0} seat 6 UV4H21007; sleep 3; {0} pull 5; sleep 3; {0} seat 5 UV4H30555"
            )
            hands = acts.format(f"{FSTRIPE} --at skerry bench")
            subprocess.Popen(["bash", "-c", hands], cwd=place, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        elif step == "sheet":
            shutil.copy(DATA / "skerry-sheet.toml", place / "sheet.toml")
        else:
            subprocess.run(
                [FSTRIPE, *step], cwd=place, check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )


def shoot(name: str, folder: Path) -> None:
    steps, command, wait = SCENES[name]
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        prepare(place, steps)
        hidden = "printf '\\033[?25l'"  # the cursor
        shown = f"{hidden}; clear; echo '$ '{shlex.quote(command)}; {command}; {hidden}; sleep 60"
        env = os.environ | {"DISPLAY": DISPLAY, "PATH": f"{FSTRIPE.parent}:{os.environ['PATH']}"}
        terminal = subprocess.Popen(
            ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "157x47+0+0", "-bg", GROUND,
             "-fg", "#e4e4e4", "-xrm", "xterm*colorBD: #ffffff", "-e", "bash", "-c", shown],
            cwd=place,
            env=env,
        )  # fmt: skip
        time.sleep(wait)
        shot = folder / f"{name}.png"
        subprocess.run(["import", "-window", "root", shot], env=env, check=True)
        terminal.kill()
        terminal.wait()
        # only what the command printed, with a rim: the rest of the window says nothing
        subprocess.run(
            ["convert", shot, "-fuzz", "3%", "-fill", GROUND, "-opaque", "black", "-trim", "+repage", "-bordercolor",
             GROUND, "-border", "14", shot], check=True,
        )  # fmt: skip


def page(folder: Path) -> None:
    """The service record of a swap as a browser shows it; left out where there is no chromium."""
    browser = shutil.which("chromium")
    if browser is None:
        print("report.png is left as it is: there is no chromium")
        return
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        prepare(place, [*MADE, [*AT, "report", "--begin"], [*AT, "bench", "fault", "5"], "hands"])
        for words in (["swap", "5", "--speed", "7200"], ["report", "visit.html", "--technician", "I. Maddery"]):
            subprocess.run([FSTRIPE, *AT, *words], cwd=place, check=False, stdout=subprocess.DEVNULL)
        shot = folder.resolve() / "report.png"
        subprocess.run(
            [browser, "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--window-size=1000,1250",
             f"--screenshot={shot}", f"file://{place}/visit.html"], check=False, stderr=subprocess.DEVNULL,
        )  # fmt: skip


def record(folder: Path) -> None:
    """The record of a recovery as a browser shows it: with the rows, the evidence, and the map."""
    browser = shutil.which("chromium")
    if browser is None:
        print("recovery-record.png is left as it is: there is no chromium")
        return
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        prepare(place, [*REBUILT, "shuffle"])
        images = sorted(str(p) for p in (place / "pile").iterdir())
        page = ["report", "found.toml", "record.html", "--technician", "I. Maddery"]
        for words in (["solve", *images, "--full", "--out", "found.toml"], page):
            subprocess.run([FSTRIPE, "lineup", *words], cwd=place, check=False, stdout=subprocess.DEVNULL)
        subprocess.run(
            [browser, "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--window-size=900,2300",
             f"--screenshot={folder / 'recovery-record.png'}", f"file://{place}/record.html"], check=False,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip


def lineup_map(folder: Path) -> None:
    """The map of a mended volume: holes that a copy could not read on one image, and a blank stretch on another."""
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch)
        levelled = ["RAID6" if word == "RAID5" else word for word in MADE[1]]
        prepare(place, [MADE[0], levelled, MADE[2]])
        images = [place / f"disk-{number}.img" for number in range(4)]
        for image, number in zip(images, (21018, 20931, 21007, 20944), strict=True):
            drive = place / "skerry" / "drives" / f"UV4H{number}.img"
            subprocess.run(["cp", "--sparse=always", drive, image], check=True)
        for image, holes in ((images[0], range(8654848, 10300000, 180224)), (images[3], (10891264, 67137536))):
            with image.open("r+b") as file:
                for at in holes:
                    file.seek(at)
                    file.write(bytes(40960))
        picture = folder / "lineup-map.png"
        picture.unlink(missing_ok=True)
        for words in (["solve", *images, "--out", "found.toml"], ["draw", "found.toml", "--map", picture]):
            subprocess.run([FSTRIPE, "lineup", *words], cwd=place, check=False, stdout=subprocess.DEVNULL)


def weigh_plot(folder: Path) -> None:
    plot = folder / "weigh-plot.png"
    plot.unlink(missing_ok=True)
    words = ["weigh", "--drives", "9", "--size", "4TB", "--plot", plot]
    subprocess.run([FSTRIPE, *words], check=True, stdout=subprocess.DEVNULL)


def main() -> None:
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp()  # the person's own notes are left alone
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1)
        drawn = {"report": page, "recovery-record": record, "lineup-map": lineup_map, "weigh-plot": weigh_plot}
        for name in sys.argv[2:] or [*SCENES, *drawn]:
            drawn[name](folder.resolve()) if name in drawn else shoot(name, folder.resolve())
            print(folder / f"{name}.png")
    finally:
        screen.kill()
        screen.wait()


if __name__ == "__main__":
    main()
