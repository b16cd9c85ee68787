"""A block source served read-only over NBD, the open network block device protocol (newstyle, fixed handshake).

Any NBD client reads it: so a volume of 40 TB needs no second 40 TB. Writes are refused; what cannot be read is an
error of its range, and the connection goes on. Clients that ask are told where the volume holds nothing (structured
replies and the context base:allocation), so that they need not read it.

Source: the NBD project's protocol description (doc/proto.md).
"""

from __future__ import annotations

import errno
import socket
import socketserver
import struct
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from itertools import islice
from typing import Any

from ..core.errors import StripeError
from ..core.source import BlockSource

HELLO, OPTION, REPLY = b"NBDMAGIC", b"IHAVEOPT", 0x3E889045565A9
REQUEST, ANSWER = 0x25609513, 0x67446698
FIXED_NEWSTYLE, NO_ZEROES = 1, 2
EXPORT_NAME, ABORT, LIST, INFO, GO, STRUCTURED, LIST_CONTEXTS, SET_CONTEXTS = 1, 2, 3, 6, 7, 8, 9, 10
ACK, SERVER, INFORMATION, CONTEXT = 1, 2, 3, 4
UNSUPPORTED, INVALID, UNKNOWN = 0x80000001, 0x80000003, 0x80000006
HAS_FLAGS, READ_ONLY, MAY_NOT_SPLIT, MULTI_CONN = 1, 2, 1 << 7, 1 << 8
READ, WRITE, DISC, FLUSH, BLOCK_STATUS = 0, 1, 2, 3, 7
ONE_EXTENT = 1 << 3
"""Flag of a question for the status: only the first range is wanted."""
CHUNK, DONE = 0x668E33EF, 1
NOTHING, DATA, STATUS, FAILED = 0, 1, 5, 0x8001
"""Kinds of chunks of a structured reply."""
ALLOCATION, ALLOCATION_ID = b"base:allocation", 1
HOLE_AND_ZERO = 3
MOST_EXTENTS, MOST_QUERIES = 1024, 64
EPERM, EIO, EINVAL = 1, 5, 22

MOST_BYTES = 32 << 20
"""Of one request; clients are told."""

IN_FLIGHT = 128 << 20
"""Bytes of answers, of all clients together, that are read and not yet taken."""
GREETING, TAKING, IDLE = 30.0, 60.0, 3600.0
"""Seconds that a client may take for its next option, to take an answer, and between two requests."""
MOST_CLIENTS = 64
PAUSE = 0.1
"""Seconds that are waited where the machine has no descriptor left for a client."""

MOST_OPTION = 4096 + 64
"""Of an option's data: names have at most 4096 bytes."""


class NbdServer(socketserver.ThreadingTCPServer):
    """Serves one source, under the empty name and under `name`, to any number of clients.

    Raises OSError where the address is taken.
    """

    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, source: BlockSource, name: str, host: str = "127.0.0.1", port: int = 10809) -> None:
        self.source, self.name, self.lock = source, name, threading.Lock()
        self.in_flight, self.clients, self._changed = 0, 0, threading.Condition()
        super().__init__((host, port), _Connection)

    @property
    def port(self) -> int:
        return int(self.server_address[1])

    def get_request(self) -> tuple[socket.socket, Any]:
        try:
            return super().get_request()
        except OSError as reason:
            if reason.errno in (errno.EMFILE, errno.ENFILE, errno.ENOBUFS, errno.ENOMEM):
                time.sleep(PAUSE)  # somebody may leave meanwhile
            raise

    def verify_request(self, _request: Any, _address: Any) -> bool:
        return self.clients < MOST_CLIENTS

    @contextmanager
    def answering(self, length: int) -> Iterator[None]:
        """Hold so many bytes of an answer: waits while others hold too many."""
        with self._changed:
            self._changed.wait_for(lambda: self.in_flight == 0 or self.in_flight + length <= IN_FLIGHT)
            self.in_flight += length
        try:
            yield
        finally:
            with self._changed:
                self.in_flight -= length
                self._changed.notify_all()

    @contextmanager
    def connected(self) -> Iterator[None]:
        with self._changed:
            self.clients += 1
        try:
            yield
        finally:
            with self._changed:
                self.clients -= 1


class _Gone(Exception):
    """The client has left, or speaks something else."""


def _queries(data: bytes) -> tuple[bytes, list[bytes]] | None:
    """(export, contexts asked for) of an option about contexts; None where it is not one."""
    try:
        (length,) = struct.unpack_from(">I", data)
        name, at = data[4 : 4 + length], 8 + length
        (count,) = struct.unpack_from(">I", data, 4 + length)
        if count > MOST_QUERIES:
            return None
        asked = []
        for _ in range(count):
            (length,) = struct.unpack_from(">I", data, at)
            if at + 4 + length > len(data):
                return None
            asked.append(data[at + 4 : at + 4 + length])
            at += 4 + length
    except struct.error:
        return None
    return (name, asked) if at == len(data) else None


class _Connection(socketserver.BaseRequestHandler):
    server: NbdServer

    def handle(self) -> None:
        self.structured = self.asked_status = False
        with suppress(_Gone, OSError), self.server.connected():
            self.request.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)  # a client waits for every answer
            self.request.settimeout(GREETING)
            if self._agree():
                while self._serve():
                    pass

    def _take(self, count: int) -> bytes:
        data = bytearray()
        while len(data) < count:
            piece = self.request.recv(min(count - len(data), 1 << 20))
            if not piece:
                raise _Gone
            data += piece
        return bytes(data)

    def _unpack(self, form: str) -> tuple[Any, ...]:
        return struct.unpack(">" + form, self._take(struct.calcsize(">" + form)))

    # the handshake ------------------------------------------------------------------------------

    def _agree(self) -> bool:
        """Options until the client goes on to reading; False when it leaves before."""
        self.request.sendall(HELLO + OPTION + struct.pack(">H", FIXED_NEWSTYLE | NO_ZEROES))
        (flags,) = self._unpack("I")
        while True:
            magic, option, length = self._unpack("8sII")
            if magic != OPTION or length > MOST_OPTION:
                return False
            data = self._take(length)
            if option == EXPORT_NAME:
                if not self._known(data):
                    return False
                zeroes = b"" if flags & NO_ZEROES else bytes(124)
                self.request.sendall(struct.pack(">QH", self.server.source.size, self._flags()) + zeroes)
                return True
            if option == ABORT:
                self._reply(option, ACK)
                return False
            if option == LIST:
                name = self.server.name.encode()
                self._reply(option, SERVER, struct.pack(">I", len(name)) + name)
                self._reply(option, ACK)
            elif option in (INFO, GO):
                if self._inform(option, data) and option == GO:
                    return True
            elif option == STRUCTURED:
                self.structured = not data
                self._reply(option, ACK if not data else INVALID)
            elif option in (LIST_CONTEXTS, SET_CONTEXTS):
                self._contexts(option, data)
            else:
                self._reply(option, UNSUPPORTED)

    def _known(self, name: bytes) -> bool:
        return name in (b"", self.server.name.encode())

    def _flags(self) -> int:
        return HAS_FLAGS | READ_ONLY | MULTI_CONN | (MAY_NOT_SPLIT if self.structured else 0)

    def _contexts(self, option: int, data: bytes) -> None:
        """What can be told of the volume besides its bytes: where it holds something."""
        queries = _queries(data)
        if queries is None or not self.structured:
            self._reply(option, INVALID)
            return
        name, asked = queries
        if not self._known(name):
            self._reply(option, UNKNOWN)
            return
        every = option == LIST_CONTEXTS and (not asked or b"base:" in asked)
        wanted = every or ALLOCATION in asked
        if option == SET_CONTEXTS:
            self.asked_status = wanted
        if wanted:
            self._reply(option, CONTEXT, struct.pack(">I", ALLOCATION_ID) + ALLOCATION)
        self._reply(option, ACK)

    def _inform(self, option: int, data: bytes) -> bool:
        """Size, flags and block sizes of the export that INFO or GO names; False where it was refused."""
        length = int.from_bytes(data[:4], "big")
        if len(data) < 6 or 4 + length + 2 > len(data):
            self._reply(option, INVALID)
            return False
        if not self._known(data[4 : 4 + length]):
            self._reply(option, UNKNOWN)
            return False
        self._reply(option, INFORMATION, struct.pack(">HQH", 0, self.server.source.size, self._flags()))
        self._reply(option, INFORMATION, struct.pack(">HIII", 3, 1, 65536, MOST_BYTES))
        self._reply(option, ACK)
        return True

    def _reply(self, option: int, kind: int, data: bytes = b"") -> None:
        self.request.sendall(struct.pack(">QIII", REPLY, option, kind, len(data)) + data)

    # reading ------------------------------------------------------------------------------------

    def _serve(self) -> bool:
        """One request; False when the client is done."""
        self.request.settimeout(IDLE)
        magic, flags, kind, handle, offset, length = self._unpack("IHH8sQI")
        if magic != REQUEST or kind == DISC:
            return False
        if kind == WRITE:
            if length > MOST_BYTES:
                return False
            self._take(length)
            self._answer(handle, EPERM)
        elif kind == FLUSH:
            self._answer(handle, 0)
        elif kind == BLOCK_STATUS and self.asked_status:
            self._status(handle, offset, length, bool(flags & ONE_EXTENT))
        elif kind != READ or length > MOST_BYTES or offset + length > self.server.source.size:
            self._refuse(handle, EINVAL)
        else:
            with self.server.answering(length):
                self._read(handle, offset, length)
        return True

    def _read(self, handle: bytes, offset: int, length: int) -> None:
        buffer = bytearray(length)
        try:
            with self.server.lock:
                self.server.source.read_into(offset, buffer)
        except (StripeError, OSError):
            self._refuse(handle, EIO)
            return
        if self.structured:
            self._chunk(handle, DATA, struct.pack(">Q", offset), buffer)
        else:
            self._answer(handle, 0, buffer)

    def _status(self, handle: bytes, offset: int, length: int, one: bool) -> None:
        """Where a part of the volume holds something, and where it is nothing but zeros: as much of it as fits."""
        size = self.server.source.size
        if not length or offset + length > size:
            self._refuse(handle, EINVAL)
            return
        told, at, end = list[tuple[int, int]](), offset, offset + length
        try:
            with self.server.lock:
                for a, b in islice(self.server.source.data_ranges(offset, end), MOST_EXTENTS):
                    told += [(a - at, HOLE_AND_ZERO)] if a > at else []
                    told.append((b - a, 0))
                    at = b
                else:
                    if len(told) < MOST_EXTENTS and at < end:
                        told.append((end - at, HOLE_AND_ZERO))
        except (StripeError, OSError):
            self._refuse(handle, EIO)
            return
        body = b"".join(struct.pack(">II", *extent) for extent in told[: 1 if one else MOST_EXTENTS])
        self._chunk(handle, STATUS, struct.pack(">I", ALLOCATION_ID) + body)

    def _refuse(self, handle: bytes, error: int) -> None:
        if self.structured:
            self._chunk(handle, FAILED, struct.pack(">IH", error, 0))
        else:
            self._answer(handle, error)

    def _chunk(self, handle: bytes, kind: int, head: bytes, data: bytes | bytearray = b"") -> None:
        """A structured reply of one chunk."""
        self.request.settimeout(TAKING)
        size = struct.pack(">I", len(head) + len(data))
        self.request.sendall(struct.pack(">IHH", CHUNK, DONE, kind) + handle + size + head)
        self.request.sendall(data)

    def _answer(self, handle: bytes, error: int, data: bytes | bytearray = b"") -> None:
        self.request.settimeout(TAKING)
        self.request.sendall(struct.pack(">II", ANSWER, error) + handle)
        self.request.sendall(data)
