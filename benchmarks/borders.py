"""Everything foreign that the commands read, made wrong: files that people name, what this machine remembers, and the
answers of servers. Nothing may end in anything but an answer or one clear line, and all soon.

    python benchmarks/borders.py --seed 1 --count 2000 --lane files
"""

from __future__ import annotations

import argparse
import base64
import io
import itertools
import json
import os
import random
import shutil
import signal
import sqlite3
import struct
import subprocess
import sys
import tempfile
import time
import traceback
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tests.standard import at_https, tree
from werkzeug import test as http

from faithful_stripe.bench.bench import Bench
from faithful_stripe.bench.updating import package_for
from faithful_stripe.cli import main as command_line
from faithful_stripe.redfish import exchange
from faithful_stripe.redfish.manners import Paged
from faithful_stripe.redfish.service import Service
from faithful_stripe.redfish.serving import Sessions
from faithful_stripe.redfish.streaming import EventStream

from . import mutants

LONGEST = 20
"""Seconds that one command may take."""

SHIPPED = Path(command_line.__file__).parents[1] / "bench" / "data"


class Hung(BaseException):
    """A command took too long."""


@dataclass
class Tally:
    """What came of the commands: how many ended well, in one line, and otherwise."""

    said: Counter[str] = field(default_factory=Counter)
    troubles: list[str] = field(default_factory=list)

    def add(self, lane: str, words: list[str], number: int, trouble: str) -> None:
        self.said[f"{lane}: {trouble.splitlines()[-1].split(':')[0] if trouble else 'fine'}"] += 1
        if trouble:
            self.troubles.append(f"{lane} {number}: fstripe {' '.join(words)}\n{trouble}")


def called_aloud(words: list[str], folder: Path, environment: dict[str, str] | None = None) -> tuple[int, str, str]:
    """Run a command in this process; its exit status, output and errors. Raises whatever it lets through."""
    streams = [io.TextIOWrapper(io.BytesIO(), "utf-8", write_through=True) for _ in range(2)]
    before = sys.argv, sys.stdout, sys.stderr, sys.stdin, Path.cwd(), dict(os.environ)
    sys.argv, sys.stdin = ["fstripe", *words], io.StringIO("")
    sys.stdout, sys.stderr = streams
    os.environ.update({"XDG_STATE_HOME": str(folder / ".state"), "HOME": str(folder), **(environment or {})})
    os.environ.pop("FSTRIPE_AT", None)
    os.chdir(folder)
    command_line.called.clear()
    status: object = None
    try:
        command_line.run()
    except SystemExit as end:
        status = end.code
    finally:
        sys.argv, sys.stdout, sys.stderr, sys.stdin, place, variables = before
        os.chdir(place)
        os.environ.clear()
        os.environ.update(variables)
    out, err = (s.buffer.getvalue().decode("utf-8", "replace") for s in streams)  # type: ignore[attr-defined]
    return int(status or 0), out, err  # type: ignore[call-overload]


def called(words: list[str], folder: Path, environment: dict[str, str] | None = None, usual: bool = False) -> str:
    """Run a command in this process; what is wrong with how it ended, "" where nothing is.

    usual  whether nothing was made wrong: then it is no wrong usage
    """

    def stop(_number: int, _frame: object) -> None:
        raise Hung(f"more than {LONGEST} s")

    signal.signal(signal.SIGALRM, stop)
    signal.setitimer(signal.ITIMER_REAL, LONGEST)
    try:
        status, _out, err = called_aloud(words, folder, environment)
    except BaseException:
        return traceback.format_exc()
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
    lines = [line for line in err.splitlines() if line.startswith("fstripe: ")]
    if "fstripe: stopped;" in err and usual:
        return f"{err}\na question that was not meant: {words}"
    if status == 1 and len(lines) != 1 and words[0] != "rehearse":  # that one tells which step fails
        return f"{err}\nnot one line: {len(lines)}"
    if usual and status == 2:
        return f"{err}\nwrong usage: {words}"
    return "" if status in (0, 1, 2, 3) else f"{err}\nstatus: {status}"


# files that people name -------------------------------------------------------------------------


def _files(folder: Path) -> dict[str, tuple[str | bytes, list[list[str]]]]:
    """(content, commands that read it) by name of the file."""
    at = ["--at", "skerry"]
    sheet = (SHIPPED / "skerry-sheet.toml").read_text()
    plan = 'set = "x"\n' + "fstripe --at skerry volume check tides\nfstripe --at skerry locate 5\n# a word\n"
    inf = (
        "[Version]\nSignature=\"$Windows NT$\"\nClass=SCSIAdapter\nDriverVer=01/02/2026,7.3.1.0\n[Manufacturer]\n"
        "%M%=Tide,NTamd64.10.0\n[Tide.NTamd64.10.0]\n%D%=Inst,PCI\\VEN_1D9B&DEV_0C2A\n[Strings]\nM=\"Tide\"\nD=\"Dev\"\n"
    )  # fmt: skip
    lineup = [["lineup", *words] for words in (["draw"], ["extract", "made"], ["prove"])]
    lineup = [[*words[:2], "found.toml", *words[2:]] for words in lineup]
    roles = [[*at, "firmware", "show", "--roles", "roles.toml"], [*at, "ready", "--roles", "roles.toml"]]
    fault = '[[fault]]\nmodel = "RC8"\nfixed_in = "7.2.0"\nwhat = "stops"\n'
    jobs = {
        "jobs": [{"jobname": "read", "read": {"io_bytes": 5, "bw_bytes": 1, "iops": 2.5}, "write": {"io_bytes": 0}}]
    }
    measured = ["weigh", "--drives", "4", "--size", "4TB", "--measured", "jobs.json"]
    return {
        "sheet.toml": (sheet, [[*at, "build", "sheet.toml", "--check"]]),
        "stock.csv": ((SHIPPED / "skerry-stock.csv").read_text(), [["stock", "list"], [*at, "stock", "match", "5"]]),
        "new.toml": ((SHIPPED / "skerry-new.toml").read_text(), [["bench", "new", "made", "--from", "new.toml"]]),
        "whole.toml": ((SHIPPED / "skerry-2.toml").read_text(), [["bench", "new", "made", "--from", "whole.toml"]]),
        "found.toml": ((folder / "found.toml").read_text(), lineup),
        "plan.txt": (plan, [["rehearse", "plan.txt", "--like", "skerry", "--hasty"]]),
        "drivers/tide.inf": (inf, [[*at, "ready", "--drivers", "drivers"]]),
        "roles.toml": ('"storage mode" = "StorageMode"\n"boot mode" = "BootMode"\n', roles),
        "faults.toml": (fault, [[*at, "report", "made.md", "--advisories", "faults.toml"]]),
        "servers.toml": ('servers = ["skerry", "https://127.0.0.1:9"]\n', [["--at", "servers.toml", "survey"]]),
        ".netrc": ("machine 127.0.0.1 login tide password gauge\n", [["--at", "https://127.0.0.1:9", "survey"]]),
        "jobs.json": (json.dumps(jobs), [measured]),
        "new.pldm": (_package(folder), [[*at, "firmware", "update", "new.pldm", "--yes", "--speed", "3600"]]),
    }  # fmt: skip


def _package(folder: Path) -> bytes:
    """Firmware for the bench's controller."""
    bench = Bench(folder / "skerry")
    with bench.session() as session:
        made = package_for(session.state, "CTRL-1", "7.9.0")
    bench.close()
    return made


def _put(path: Path, content: str | bytes) -> None:
    path.write_bytes(content if isinstance(content, bytes) else content.encode())


def files(folder: Path, rng: random.Random, count: int, tally: Tally) -> None:
    known = _files(folder)
    (folder / "drivers").mkdir(exist_ok=True)
    for name, (given, _commands) in known.items():
        _put(folder / name, given)
    for _given, commands in known.values():
        for words in commands:
            tally.add("files", words, -1, called(words, folder, usual=True))
        _away(folder)
    for number in range(count):
        name = rng.choice(list(known))
        given, commands = known[name]
        _put(folder / name, mutants.data(given if isinstance(given, bytes) else given.encode(), rng))
        words = rng.choice(commands)
        tally.add("files", words, number, called(words, folder))
        _put(folder / name, given)
        _away(folder)


def _away(folder: Path) -> None:
    for made in folder.glob("*made*"):
        shutil.rmtree(made) if made.is_dir() else made.unlink()


# what this machine remembers, and what it is told -----------------------------------------------


def remembered(folder: Path, rng: random.Random, count: int, tally: Tally) -> None:
    """State files of this program, the bench's own, and the environment."""
    looks = [
        ["survey"], ["report", "made.md"], ["log", "--new"], ["firmware", "show"], ["swap", "--resume"],
        ["stock", "match", "5"],
    ]  # fmt: skip
    for words in looks:
        tally.add("remembered", words, -1, called(["--at", "skerry", *words], folder, usual=True))
    _away(folder)
    state = [p for p in (folder / ".state").rglob("*") if p.is_file()]
    state += [p for p in (folder / "skerry").iterdir() if p.is_file() and p.suffix in (".toml", ".json", ".jsonl", "")]
    for number in range(count):
        path, words = rng.choice(state), ["--at", "skerry", *rng.choice(looks)]
        kept = path.read_bytes()
        path.write_bytes(mutants.text(kept.decode("utf-8", "replace"), rng))
        environment = {
            name: rng.choice((*mutants.NUMBERS, *(w for w in mutants.WORDS if "\0" not in w and w.isascii())))
            for name in ("COLUMNS", "FSTRIPE_STOCK", "FSTRIPE_USER", "TZ", "LANG", "NO_COLOR") if rng.random() < 0.1
        }  # fmt: skip
        tally.add("remembered", words, number, called(words, folder, environment))
        path.write_bytes(kept)
        _away(folder)


HANDS = [
    ["survey"], ["volume", "show", "tides"], ["bench", "advance", "1h"], ["bench", "cut-power"], ["log"],
    ["volume", "check", "tides"], ["bench", "pull", "4"], ["bench", "seat", "6", "UV4H22001"], ["report", "made.md"],
    ["bench", "load", "tides", "a.img"], ["volume", "found"], ["firmware", "show"], ["bench", "fault", "5"],
]  # fmt: skip


def state(folder: Path, rng: random.Random, count: int, tally: Tally) -> None:
    """What a bench keeps: rows of its state, the controller's journal, the drives' caches."""
    for number in range(count):
        kind = rng.randrange(5)
        here = folder / "skerry"
        if kind < 3:
            db = sqlite3.connect(here / "state.db")
            rows = db.execute("SELECT kind, key, value FROM item").fetchall()
            name, key, value = rng.choice(rows)
            if kind < 2:
                new = json.dumps(mutants.value(json.loads(value), rng))
            else:
                new = mutants.text(value, rng).decode("utf-8", "replace")
            db.execute("UPDATE item SET value = ? WHERE kind = ? AND key = ?", (new, name, key))
            db.commit()
            db.close()
        elif kind == 3:
            made = _journal(rng)
            (here / rng.choice(("nvram.journal", "nvram.held"))).write_bytes(mutants.data(made, rng))
        else:
            record = struct.pack("<QI?", rng.choice((0, 512, 5, 1 << 40, 1 << 62)), rng.choice((512, 7, 1 << 31)), True)
            image = rng.choice(sorted((here / "drives").glob("*.img")))
            image.with_suffix(".cache").write_bytes(mutants.data(record * 3, rng))
        for words in rng.sample(HANDS, 2):
            tally.add("state", words, number, called(["--at", "skerry", *words], folder))
        _away(folder)
        _skerry(folder)


def _journal(rng: random.Random) -> bytes:
    payload = rng.randbytes(rng.choice((0, 512, 5000)))
    head = {
        "kind": rng.choice(("content", "intent")), "volume": rng.choice((1, 1, 1, 7)),
        "pieces": [[rng.choice((0, 1, 9, -1)), rng.choice((0, 4096, 1 << 50)), len(payload)]],
        "length": len(payload), "crc": zlib.crc32(payload),
    }  # fmt: skip
    return json.dumps(head).encode() + b"\n" + payload


# answers of a server ----------------------------------------------------------------------------

SERIALS = "UV4H21166,UV4H21204"
"""The drives in bays 8 and 9 of the shipped bench."""

READ = [
    ["survey"], ["survey", "--json"], ["bays"], ["log"], ["ready"], ["firmware", "show"],
    ["volume", "show", "tides"], ["stock", "match", "5"], ["report", "made.html"], ["report", "made.json"],
    ["weigh", "--bays", "4-7"], ["build", "sheet.toml", "--check"], ["locate", "5"], ["spare", "add", "10"],
    ["volume", "check", "tides"], ["volume", "add", "made", "--level", "RAID1", "--bays", "8,9", "--yes",
     "--expect-serials", SERIALS],
    ["controller", "set", "--rebuild-rate", "40"], ["firmware", "set", "BootMode=UEFI"],
    ["boot", "system"], ["swap", "--give-up"], ["watch", "--speed", "1000000"],
    ["bench", "new", "made", "--like", "skerry"],
]  # fmt: skip


@contextmanager
def tampered(rng: random.Random, share: float) -> Iterator[None]:
    """Answers of which some hold something else than the server said."""
    plain = exchange.told  # type: ignore[attr-defined]

    def wrong(answer: Any) -> Any:
        return plain(mutants.value(answer, rng)) if rng.random() < share else plain(answer)

    exchange.told = wrong  # type: ignore[attr-defined]
    try:
        yield
    finally:
        exchange.told = plain  # type: ignore[attr-defined]


def standard(folder: Path, rng: random.Random, count: int, tally: Tally) -> None:
    """Servers that tell standard properties only, of many spellings, and wrongly at times."""
    looks = [
             ["survey"], ["bays"], ["log"], ["ready"], ["volume", "show"], ["report", "made.md"], ["locate", "1"],
             ["stock", "match", "1"], ["firmware", "show"], ["volume", "check", "data"], ["survey", "--json"],
    ]  # fmt: skip
    shutil.copy(SHIPPED / "skerry-stock.csv", folder / "stock.csv")
    number = 0
    while number < count:
        made = tree(
            rng.randrange(2, 7), rng.choice([("RAIDType", "RAID5"), ("VolumeType", "Mirrored"), None]),
            rng.choice(("both", "volume", "drive")), rng.choice(((), (1,), (0, 1))), rng.choice(("OK", "Warning")),
        )  # fmt: skip
        with at_https(made, folder / "tls") as at:
            for _ in range(min(20, count - number)):
                number += 1
                words = [*at, *rng.choice(looks)]
                with tampered(rng, rng.choice((0.0, 0.02, 0.2))):
                    tally.add("standard", words, number, called(words, folder))
                _away(folder)


def answers(folder: Path, rng: random.Random, count: int, tally: Tally) -> None:
    for name in ("sheet.toml", "stock.csv"):
        shutil.copy(SHIPPED / f"skerry-{name}", folder / name)
    for words in READ:
        tally.add("answers", words, -1, called(["--at", "skerry", *words], folder, usual=True))
    _away(folder)
    _skerry(folder)
    for number in range(count):
        words = ["--at", "skerry", *rng.choice(READ)]
        with tampered(rng, rng.choice((0.02, 0.1, 0.5))):
            tally.add("answers", words, number, called(words, folder))
        _away(folder)
        if number % 50 == 49:  # what was carried out by a tampered answer is not to be the next one's trouble
            _skerry(folder)


# what a client asks of a served bench ----------------------------------------------------------

_S = "/redfish/v1/Systems/skerry-1"
_C = f"{_S}/Storage/CTRL-1"
_MADE = {
    "RAIDType": "RAID1", "DisplayName": "made", "StripSizeBytes": 65536, "CapacityBytes": 1 << 30,
    "InitializeMethod": "Skip", "ReadCachePolicy": "AdaptiveReadAhead", "MediaSpanCount": 1,
    "Links": {"Drives": [{"@odata.id": f"{_C}/Drives/Bay-{n}"} for n in (8, 9)]},
    "Oem": {"FaithfulStripe": {"MirrorMembers": 2, "AllowUnlikeDrives": True, "Rotation": "parity-N"}},
}  # fmt: skip
ASKED: tuple[tuple[str, str, Any], ...] = (
    ("POST", f"{_C}/Volumes", _MADE),
    ("PATCH", f"{_C}/Volumes/1", {"ReadCachePolicy": "Off", "WriteCachePolicy": "WriteThrough"}),
    ("POST", f"{_C}/Volumes/1/Actions/Volume.CheckConsistency", {"Oem": {"FaithfulStripe": {"Repair": True}}}),
    ("POST", f"{_C}/Volumes/1/Actions/Volume.Initialize", {"InitializeType": "Slow", "InitializeMethod": "Background"}),
    ("POST", f"{_C}/Volumes/1/Actions/Oem/FaithfulStripe.Rebuild", {"Drive": {"@odata.id": f"{_C}/Drives/Bay-10"}}),
    ("POST", f"{_C}/Volumes/1/Actions/Oem/FaithfulStripe.AcceptInconsistent", {}),
    ("POST", f"{_C}/Actions/Oem/FaithfulStripe.Adopt", {"Volume": "x", "NewName": "y"}),
    ("PATCH", f"{_C}/Drives/Bay-10", {"HotspareType": "Dedicated", "HotspareReplacementMode": "Revertible",
                                      "Oem": {"FaithfulStripe": {"SpareFor": [{"@odata.id": f"{_C}/Volumes/1"}]}}}),
    ("PATCH", f"{_C}/Drives/Bay-5", {"LocationIndicatorActive": True}),
    ("PATCH", f"{_C}/Controllers/CTRL-1", {"ControllerRates": {"RebuildRatePercent": 30},
                                           "Oem": {"FaithfulStripe": {"Replacement": "Rebuild"}}}),
    ("PATCH", f"{_S}/Bios/Settings", {"Attributes": {"BootMode": "UEFI", "StartDelay": 3}}),
    ("PATCH", _S, {"Boot": {"BootOrder": ["Network"]}}),
    ("POST", f"{_S}/Actions/ComputerSystem.Reset", {"ResetType": "ForceRestart"}),
    ("POST", "/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate", {"ImageURI": "http://127.0.0.1:9/x"}),
    ("POST", "/redfish/v1/SessionService/Sessions", {"UserName": "technician", "Password": "x"}),
    ("DELETE", f"{_C}/Volumes/9", None),
    ("GET", f"{_S}/LogServices/Events/Entries?$skip=1&$top=2", None),
    ("GET", f"{_S}/LogServices/Events/Entries/1", None),
    ("GET", f"{_C}/Volumes?$expand=.", None), ("GET", f"{_C}/Drives/Bay-5/Metrics", None),
    ("GET", "/redfish/v1/TaskService/Tasks/1", None), ("GET", "/redfish/v1/", None),
)  # fmt: skip


def requests(folder: Path, rng: random.Random, count: int, tally: Tally) -> None:
    """Requests to the service, in process, so that nothing hides what goes wrong there."""
    bench = Bench(folder / "skerry")
    door = http.Client(
        Sessions(EventStream(Paged(Service(bench))), "technician", "gauge", clock=itertools.count(0, 99).__next__)
    )
    for number in range(count):
        method, path, wish = rng.choice(ASKED)
        changed = rng.choice((0, 0, 1, 2, 3))
        if changed == 1:
            path = mutants.text(path, rng).decode("utf-8", "replace")
        if changed == 2:
            method = rng.choice(("GET", "POST", "PATCH", "DELETE", "PUT", "HEAD", "OPTIONS", "TRACE", "x"))
        data = b"" if wish is None else json.dumps(mutants.value(wish, rng) if changed == 0 else wish).encode()
        if changed == 3:
            data = mutants.data(data, rng)
        headers = {"Authorization": "Basic " + base64.b64encode(b"technician:gauge").decode()}
        for name in ("If-Match", "OData-Version", "Content-Type", "If-None-Match", "X-Auth-Token", "Authorization"):
            if rng.random() < 0.05:
                headers[name] = "".join(c for c in rng.choice((*mutants.WORDS, *mutants.NUMBERS)) if 32 <= ord(c) < 256)
        trouble = ""
        try:
            with door.open(path, method=method, data=data, headers=headers, base_url="https://h") as reply:
                if reply.status_code >= 500 and reply.status_code not in (501, 503):
                    trouble = f"{reply.get_data(as_text=True)[:500]}\nstatus: {reply.status_code}"
        except Exception:
            trouble = traceback.format_exc()
        tally.add("requests", [method, path, repr(data[:200])], number, trouble)
        if number % 50 == 49:
            bench.close()
            _skerry(folder)
    bench.close()


LANES: dict[str, Callable[[Path, random.Random, int, Tally], None]] = {
    "files": files, "remembered": remembered, "state": state, "answers": answers, "standard": standard,
    "requests": requests,
}  # fmt: skip


def _skerry(folder: Path) -> None:
    shutil.rmtree(folder / "skerry", ignore_errors=True)
    subprocess.run(["cp", "-a", "--sparse=always", folder / "kept", folder / "skerry"], check=True)


def prepared(folder: Path) -> Path:
    """A folder with a bench that has volumes, and a lineup of two images."""
    members = "UV4H20931,UV4H20944,UV4H21007,UV4H21018"
    for words in (
        ["bench", "new", "skerry"],
        ["--at", "skerry", "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes",
         "--expect-serials", members],
        ["--at", "skerry", "spare", "add", "13"], ["--at", "skerry", "bench", "fault", "6"],
        ["--at", "skerry", "bench", "advance", "48h"],
    ):  # fmt: skip
        trouble = called(words, folder, usual=True)
        assert not trouble, trouble
    os.rename(folder / "skerry", folder / "kept")
    _skerry(folder)
    image = random.Random(1).randbytes(1 << 20) + bytes(1 << 20)
    for name in ("a.img", "b.img"):
        (folder / name).write_bytes(image)
    called(["lineup", "solve", "a.img", "b.img", "--out", "found.toml"], folder)
    return folder


def run(lane: str, seed: int, count: int) -> Tally:
    """A lane with a seed; what came of it."""
    tally = Tally()
    with tempfile.TemporaryDirectory() as place:
        LANES[lane](prepared(Path(place)), random.Random(f"{lane}/{seed}"), count, tally)
    return tally


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=300)
    parser.add_argument("--lane", choices=LANES)
    given = parser.parse_args()
    wrong = 0
    for lane in [given.lane] if given.lane else LANES:
        began = time.perf_counter()
        tally = run(lane, given.seed, given.count)
        for trouble in tally.troubles:
            print(trouble, end="\n\n")
        print(f"seed {given.seed}, {given.count} {lane}, {time.perf_counter() - began:.0f} s: {dict(tally.said)}")
        wrong += len(tally.troubles)
    sys.exit(wrong > 0)


if __name__ == "__main__":
    main()
