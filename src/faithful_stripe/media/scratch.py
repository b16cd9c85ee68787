"""A folder that is gone when its process is, however that ends."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_WATCH = """
import shutil, sys, time
sys.stdin.buffer.read()
for _ in range(600):
    shutil.rmtree(sys.argv[1], ignore_errors=True)
    try:
        open(sys.argv[1] + "/.")
    except IsADirectoryError:
        time.sleep(0.1)
    except OSError:
        break
"""
"""Waits until the pipe from its process closes, then removes the folder; what still runs there may make files anew."""


@contextmanager
def scratch_folder() -> Iterator[Path]:
    """A new folder of one's own. A process beside this one removes it if this one is killed."""
    folder = Path(tempfile.mkdtemp(prefix="fstripe-"))
    watcher = subprocess.Popen(
        [sys.executable, "-I", "-S", "-c", _WATCH, str(folder)], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        assert watcher.stdin is not None
        watcher.stdin.close()
        watcher.wait()
