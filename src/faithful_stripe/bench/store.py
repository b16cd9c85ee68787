"""The bench's memory on disk: one SQLite file, one transaction per request, nothing half-written."""

from __future__ import annotations

import json
import os
import re
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict
from pathlib import Path
from typing import Any

from .errors import BenchError
from .rows import event_of, from_rows, to_rows
from .state import Event, State

FILE = "state.db"
SCHEMA = 4
WAIT_SECONDS = 60.0

_TABLES = """
CREATE TABLE item (kind TEXT, key TEXT, value TEXT NOT NULL, PRIMARY KEY (kind, key)) WITHOUT ROWID;
CREATE TABLE event (number INTEGER PRIMARY KEY AUTOINCREMENT, value TEXT NOT NULL);
"""


class Store:
    """The state file of one bench. Raises BenchError when it is not one, is busy or cannot be written."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._db: sqlite3.Connection | None = None
        self._rows: dict[tuple[str, str], str] = {}

    @classmethod
    def create(cls, folder: Path, state: State) -> None:
        """Make the state file of a new bench."""
        store = cls(folder)
        with store._explained():
            db = sqlite3.connect(folder / FILE, isolation_level=None)
            try:
                db.executescript(_TABLES)
                db.execute(f"PRAGMA user_version = {SCHEMA}")
            finally:
                db.close()
        try:
            with store.transaction():
                store.save(state, [])
        finally:
            store.close()

    def close(self) -> None:
        if self._db is not None:
            self._db.close()
            self._db = None

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """Hold the bench: others wait. What was saved is kept only when the block ends well."""
        with self._explained():
            db = self._connect()
            db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            if db.in_transaction:
                with suppress(sqlite3.Error):  # whoever opens it next does that then
                    db.execute("ROLLBACK")
            self._rows = {}
            raise
        with self._explained():
            db.execute("COMMIT")

    def checkpoint(self) -> None:
        """Keep what was saved so far and go on holding the bench."""
        with self._explained():
            db = self._connect()
            db.execute("COMMIT")
            db.execute("BEGIN IMMEDIATE")

    def load(self) -> State:
        """The state as last saved."""
        with self._explained():
            found = self._connect().execute("SELECT kind, key, value FROM item").fetchall()
            self._rows = {(kind, key): value for kind, key, value in found}
            return from_rows({name: json.loads(value) for name, value in self._rows.items()})

    def save(self, state: State, events: list[Event]) -> None:
        """Store what differs from the last load or save, and append events (numbering them)."""
        rows = {name: json.dumps(value, sort_keys=True, default=vars) for name, value in to_rows(state).items()}
        changed = [(*name, value) for name, value in rows.items() if self._rows.get(name) != value]
        with self._explained():
            db = self._connect()
            db.executemany("INSERT OR REPLACE INTO item VALUES (?, ?, ?)", changed)
            gone = [name for name in self._rows if name not in rows]
            db.executemany("DELETE FROM item WHERE kind = ? AND key = ?", gone)
            for event in events:
                event.number = (
                    db.execute("INSERT INTO event (value) VALUES (?)", (json.dumps(asdict(event)),)).lastrowid or 0
                )
        self._rows = rows

    def events(self, after: int = 0) -> list[Event]:
        """The log, oldest first, from the entry after number `after` on."""
        with self._explained():
            found = self._connect().execute(
                "SELECT number, value FROM event WHERE number > ? ORDER BY number", (after,)
            )
            return [event_of(json.loads(value), number) for number, value in found]

    def _connect(self) -> sqlite3.Connection:
        if self._db is None:
            path = self.folder / FILE
            if not path.is_file():
                raise _not_a_bench(self.folder)
            if not (os.access(self.folder, os.W_OK) and os.access(path, os.W_OK)):
                raise _read_only(self.folder)
            # requests to a served bench arrive on many threads, one at a time
            db = sqlite3.connect(path, timeout=WAIT_SECONDS, isolation_level=None, check_same_thread=False)
            version = db.execute("PRAGMA user_version").fetchone()[0]
            if version != SCHEMA:
                db.close()
                raise BenchError(
                    bench=self.folder,
                    what=f"its state has version {version}, this program knows version {SCHEMA}",
                    to_do="use the version of fstripe that created it",
                )
            db.execute("PRAGMA synchronous = FULL")
            self._db = db
        return self._db

    @contextmanager
    def _explained(self) -> Iterator[Any]:
        """Foreign errors become ours here."""
        try:
            yield
        except sqlite3.OperationalError as reason:
            kind = reason.sqlite_errorname.removeprefix("SQLITE_").partition("_")[0]
            if kind in ("READONLY", "CANTOPEN", "PERM"):
                raise _read_only(self.folder) from reason
            what, to_do = _TROUBLES.get(kind, (f"its state file cannot be used ({reason})", "see that file"))
            raise BenchError(bench=self.folder, what=what, to_do=to_do) from reason
        except (sqlite3.DatabaseError, ValueError, TypeError, RecursionError) as reason:
            what = f"its state file {FILE} is damaged ({reason})"
            raise BenchError(
                bench=self.folder, what=what, to_do="restore it from a copy; the drives in `drives/` are as they were"
            ) from reason


_TROUBLES = {
    "BUSY": ("another fstripe is at work on it", "wait until that one is done, or stop it"),
    "LOCKED": ("another fstripe is at work on it", "wait until that one is done, or stop it"),
    "FULL": ("there is no space left for its state", "free some space and try again; what was acknowledged is kept"),
    "IOERR": (
        "its state file could not be read or written (an input/output error of this machine's storage)",
        "see to that storage and try again; what was acknowledged is kept",
    ),
}
"""By SQLite's name of the error: what it is, and what to do."""


def _read_only(folder: Path) -> BenchError:
    to_do = "its clock, log and state live there: allow writing, or copy the bench to a place that is"
    return BenchError(bench=folder, what="its folder cannot be written", to_do=to_do)


ADDRESS = re.compile(r"\d+(\.\d+){3}(:\d+)?|\[?[0-9a-fA-F:]+:[0-9a-fA-F:]*\]?|[\w-]+(\.[\w-]+){2,}")
"""What people write who mean a server: an address, or a name with two dots."""


def _not_a_bench(folder: Path) -> BenchError:
    if not folder.exists() and ADDRESS.fullmatch(str(folder)):
        to_do = f"a server's address is written https://{folder}; a bench is a folder here"
        return BenchError(bench=folder, what="there is no such folder", to_do=to_do)
    if not folder.exists():
        return BenchError(bench=folder, what="there is no such folder", to_do=f"create it: fstripe bench new {folder}")
    return BenchError(
        bench=folder,
        what=f"this is not a bench (no {FILE} in it)",
        to_do="name a folder that `fstripe bench new` created",
    )
