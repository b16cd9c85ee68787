"""What the tests share: the installed `fstripe`, run as a person runs it, and benches of its own."""

from __future__ import annotations

import fcntl
import io
import json
import os
import signal
import subprocess
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from faithful_stripe.bench import volumes
from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.bench.observatory import unpack
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.cli import main

from . import cutting

settings.register_profile("suite", max_examples=60, deadline=None, derandomize=True)
settings.load_profile("suite")

FSTRIPE = Path(sys.executable).with_name("fstripe")
SERIALS = ("UV4H20931", "UV4H20944", "UV4H21007", "UV4H21018")
"""The drives in bays 4 to 7 of the shipped bench."""


# a background shell, or one that goes on when its terminal closes: what is started here would ignore them, too
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)
if signal.getsignal(signal.SIGHUP) is signal.SIG_IGN:
    signal.signal(signal.SIGHUP, signal.SIG_DFL)

LONGEST = 300
"""Seconds that one command may take."""


@dataclass
class Result:
    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


class Runner:
    """Runs the command line in a folder: in this process, which takes a tenth of the time, or as the installed command.

    process  a process of its own for every command; threads always get one, since a process has one folder only
    """

    def __init__(self, folder: Path, process: bool = False) -> None:
        self.folder, self.process = folder, process

    def __call__(self, *words: object, stdin: str = "", **env: str) -> Result:
        alone = threading.current_thread() is threading.main_thread()
        state = {"XDG_STATE_HOME": str(self.folder / ".state")}
        if self.process or not alone:
            done = subprocess.run(
                [FSTRIPE, *map(str, words)], cwd=self.folder, input=stdin, capture_output=True, text=True,
                env={k: v for k, v in os.environ.items() if k != "FSTRIPE_AT"} | state | env, check=False,
                timeout=LONGEST,
            )  # fmt: skip
            assert "Traceback" not in done.stderr, done.stderr
            return Result(done.returncode, done.stdout, done.stderr)
        return self._here([str(w) for w in words], stdin, state | env)

    def _here(self, words: list[str], stdin: str, env: dict[str, str]) -> Result:
        streams = [io.TextIOWrapper(io.BytesIO(), "utf-8", write_through=True) for _ in range(2)]
        before = sys.argv, sys.stdin, sys.stdout, sys.stderr, Path.cwd(), dict(os.environ)
        sys.argv, sys.stdin = ["fstripe", *words], io.TextIOWrapper(io.BytesIO(stdin.encode()), "utf-8")
        sys.stdout, sys.stderr = streams
        os.environ.pop("FSTRIPE_AT", None)
        os.environ.update(env)
        os.chdir(self.folder)
        main.called.clear()
        status: object = 0
        try:
            main.run()
        except SystemExit as end:
            status = end.code
        finally:
            sys.argv, sys.stdin, sys.stdout, sys.stderr, folder, variables = before
            os.chdir(folder)
            os.environ.clear()
            os.environ.update(variables)
        out, err = (s.buffer.getvalue().decode() for s in streams)  # type: ignore[attr-defined]
        return Result(int(status or 0), out, err)  # type: ignore[call-overload]


def until(so, seconds=60.0):
    """Wait until something is so."""
    end = time.monotonic() + seconds
    while not so():
        assert time.monotonic() < end, "it does not happen"
        time.sleep(0.1)


def seen_on(bench, what):
    with bench.session() as session:
        return what(session)


@pytest.fixture(autouse=True)
def _own_memory(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is remembered of servers is kept apart from the person's own."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / ".state"))


@pytest.fixture
def fstripe(tmp_path: Path) -> Runner:
    """The command line, in this process."""
    return Runner(tmp_path)


@pytest.fixture
def installed(tmp_path: Path) -> Runner:
    """The installed command, a process each time."""
    return Runner(tmp_path, process=True)


@pytest.fixture
def skerry(tmp_path: Path) -> Path:
    """A new bench."""
    create(tmp_path / "skerry")
    return tmp_path / "skerry"


class Wall:
    """A wall clock that the test turns."""

    def __init__(self, start: float = 1_800_000_000.0) -> None:
        self.now = start

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def wall() -> Wall:
    return Wall()


@pytest.fixture
def bench(tmp_path: Path, wall: Wall):
    """A bench in process with a RAID 5 `tides` on bays 4 to 7, and a clock that the test turns."""
    create(tmp_path / "skerry", now=wall)
    made = Bench(tmp_path / "skerry", wall=wall)
    with made.session() as session:
        volumes.create(session.controller, volumes.check(session.controller, Wish("tides", "RAID5", tuple("4567"))))
    yield made
    made.close()


@pytest.fixture(scope="session")
def observatory(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The shipped file-system image, unpacked."""
    path = tmp_path_factory.mktemp("image") / "observatory.img"
    unpack(path)
    return path


@pytest.fixture(scope="session", name="volumes")
def _volumes(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The small file systems of `tests/data` and some contents without one: unpacked once, for all workers."""
    place = tmp_path_factory.getbasetemp()
    place = (place.parent if "PYTEST_XDIST_WORKER" in os.environ else place) / "volumes"
    place.mkdir(exist_ok=True)
    with (place / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (place / "whole").exists():
            cutting.unpack(place)
            (place / "whole").touch()
    return place
