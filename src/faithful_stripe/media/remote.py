"""Drive images elsewhere: behind an NBD server, or a web server that gives ranges; read-only, nothing is copied first.

So images need not leave the machine that took them. What a server cannot give is unreadable, and the rest goes on.
"""

from __future__ import annotations

import re
import socket
import struct
import threading
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import unquote, urlsplit

import httpx

from ..core.ranges import Range
from ..core.source import Buffer, Unreadable, check_bounds
from .image import MediaError
from .nbd import (
    ACK,
    ANSWER,
    FIXED_NEWSTYLE,
    GO,
    HAS_FLAGS,
    HELLO,
    INFORMATION,
    MOST_BYTES,
    NO_ZEROES,
    OPTION,
    READ,
    REPLY,
    REQUEST,
)  # fmt: skip

ADDRESS = re.compile(r"^(nbd|http|https):/+")
"""How an address begins; a path takes one of its two slashes away."""
PATIENCE = 30.0
"""Seconds that a server may take for one answer."""
PIECE, KEPT = 1 << 20, 32
"""Bytes of one question, and how many answers are kept: small reads would each be a journey."""


class AnotherOne(MediaError):
    """What is behind an address is not what was opened: no sector of it is one of that drive."""

    template = "{path}: another image is behind it than when it was opened: {what}"
    remedy = "see that the server gives the same drive all along, then begin anew"


def address_of(path: Path) -> str | None:
    """The address that a person wrote where a path is expected; None where it is a path."""
    found = ADDRESS.match(str(path))
    return None if found is None else f"{found[1]}://{str(path)[found.end() :]}"


def open_remote(path: Path) -> Remote:
    """The image at an address. Raises MediaError."""
    address = address_of(path)
    assert address is not None
    try:
        return NbdImage(path, address) if address.startswith("nbd:") else WebImage(path, address)
    except (OSError, httpx.HTTPError, ValueError, EOFError) as reason:
        what = str(reason) or "no answer"
        raise MediaError(
            path=Path(address), what=f"it cannot be reached ({what})", to_do="check the address"
        ) from reason


class Remote:
    """What both have in common: an image whose holes are not known, and which is told by its address."""

    def __init__(self, path: Path, address: str) -> None:
        self.path, self.address = path, address
        self._size = 0
        self._lock = threading.Lock()
        self._kept: OrderedDict[int, bytes] = OrderedDict()

    def __str__(self) -> str:
        return self.address

    @property
    def size(self) -> int:
        return self._size

    @property
    def identity(self) -> str:
        return self.address

    @property
    def written(self) -> int:
        return 0  # nobody tells

    @property
    def serial(self) -> str:
        return ""

    def close(self) -> None:
        raise NotImplementedError

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self._size, offset, len(view))
        with self._lock:
            try:
                self._fill(offset, view)
            except (OSError, httpx.HTTPError, EOFError) as reason:
                raise Unreadable(source=self, offset=offset, length=len(view)) from reason

    def _fill(self, offset: int, view: memoryview) -> None:
        """Bytes from `offset`, out of pieces that are kept: nothing travels twice."""
        at = 0
        while at < len(view):
            number, inner = divmod(offset + at, PIECE)
            count = min(PIECE - inner, len(view) - at)
            part = view[at : at + count]
            try:
                part[:] = self._piece(number)[inner : inner + count]
            except (OSError, httpx.HTTPError, EOFError):  # somewhere in the piece: what was asked for may be given
                self._ask(offset + at, part)
            at += count

    def _piece(self, number: int) -> bytes:
        if number not in self._kept:
            data = bytearray(min(PIECE, self._size - number * PIECE))
            self._ask(number * PIECE, memoryview(data))
            self._kept[number] = bytes(data)
            if len(self._kept) > KEPT:
                self._kept.popitem(last=False)
        self._kept.move_to_end(number)
        return self._kept[number]

    def _ask(self, offset: int, view: memoryview) -> None:
        """Bytes from `offset` from the server. Raises OSError, EOFError or httpx.HTTPError."""
        raise NotImplementedError

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self._size if end is None else min(end, self._size)
        if start < stop:
            yield start, stop


class NbdImage(Remote):
    """An export of an NBD server: nbd://HOST[:PORT][/NAME]."""

    def __init__(self, path: Path, address: str) -> None:
        super().__init__(path, address)
        self._opened = False
        told = urlsplit(address)
        self._host, self._port = told.hostname or "127.0.0.1", told.port or 10809
        self._name = unquote(told.path.lstrip("/")).encode()
        self._handle = 0
        self._socket = self._connected()
        self._opened = True

    def close(self) -> None:
        self._socket.close()

    def _connected(self) -> socket.socket:
        made = socket.create_connection((self._host, self._port), timeout=PATIENCE)
        made.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        try:
            self._greet(made)
        except BaseException:
            made.close()
            raise
        return made

    def _greet(self, made: socket.socket) -> None:
        if _take(made, 16) != HELLO + OPTION:
            raise OSError("it speaks no NBD")
        (flags,) = struct.unpack(">H", _take(made, 2))
        if not flags & FIXED_NEWSTYLE:
            raise OSError("it speaks an NBD of before 2011")
        made.sendall(struct.pack(">I", flags & (FIXED_NEWSTYLE | NO_ZEROES)))
        data = struct.pack(">I", len(self._name)) + self._name + bytes(2)
        made.sendall(OPTION + struct.pack(">II", GO, len(data)) + data)
        while True:
            magic, _option, kind, length = struct.unpack(">QIII", _take(made, 20))
            body = _take(made, min(length, MOST_BYTES))
            if magic != REPLY or kind >> 31:
                raise OSError(f"it has no export {self._name.decode('utf-8', 'replace')!r}")
            if kind == INFORMATION and body[:2] == b"\0\0":
                _kind, size, export = struct.unpack(">HQH", body[:12])
                if self._opened and size != self._size:
                    raise AnotherOne(path=self.address, what=f"{size} bytes, and it had {self._size}")
                self._size = size
                if not export & HAS_FLAGS:
                    raise OSError("it tells nothing of the export")
            if kind == ACK:
                return

    def _ask(self, offset: int, view: memoryview) -> None:
        try:
            self._ask_once(offset, view)
        except (EOFError, ConnectionError, TimeoutError):
            self._socket.close()
            self._socket = self._connected()  # once: it may have been restarted
            self._ask_once(offset, view)

    def _ask_once(self, offset: int, part: memoryview) -> None:
        self._handle += 1
        self._socket.sendall(struct.pack(">IHHQQI", REQUEST, 0, READ, self._handle, offset, len(part)))
        magic, error, handle = struct.unpack(">IIQ", _take(self._socket, 16))
        if magic != ANSWER or handle != self._handle:
            raise ConnectionError("another answer than to what was asked")
        if error:
            raise OSError(error, "the server refuses these bytes")
        at = 0
        while at < len(part):
            count = self._socket.recv_into(part[at:])
            if not count:
                raise EOFError("the server ended the connection")
            at += count


class WebImage(Remote):
    """A file of a web server that gives ranges."""

    def __init__(self, path: Path, address: str) -> None:
        super().__init__(path, address)
        self._client = httpx.Client(timeout=PATIENCE, follow_redirects=True, headers={"Accept-Encoding": "identity"})
        self._version = ""
        try:
            answer = self._client.get(address, headers={"Range": "bytes=0-0"})
            size = answer.headers.get("Content-Range", "").rpartition("/")[2]
            if answer.status_code != 206 or not size.isdecimal():
                raise OSError(f"it answers {answer.status_code} and gives no ranges")
        except BaseException:
            self._client.close()
            raise
        self._size = int(size)
        self._version = answer.headers.get("ETag", "") or answer.headers.get("Last-Modified", "")

    @property
    def identity(self) -> str:
        return f"{self.address} {self._version}".strip()

    def close(self) -> None:
        self._client.close()

    def _ask(self, offset: int, view: memoryview) -> None:
        last = offset + len(view) - 1
        answer = self._client.get(self.address, headers={"Range": f"bytes={offset}-{last}"})
        version = answer.headers.get("ETag", "") or answer.headers.get("Last-Modified", "")
        if answer.status_code != 206 or len(answer.content) != len(view):
            raise OSError(f"it answers {answer.status_code} to a range")
        if version != self._version:
            raise AnotherOne(path=self.address, what="the file was written since")
        view[:] = answer.content


def _take(made: socket.socket, count: int) -> bytes:
    data = bytearray()
    while len(data) < count:
        piece = made.recv(count - len(data))
        if not piece:
            raise EOFError("the server ended the connection")
        data += piece
    return bytes(data)
