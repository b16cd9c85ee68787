"""A WSGI application listened for over HTTPS, by people who mean well and others.

Connections cost memory, not workers: one that says nothing, half a request, or listens to a stream, keeps nobody
waiting. A request reaches a worker when the whole of it is here; how large it may be the application says.
"""

from __future__ import annotations

import asyncio
import socket
import sys
import tempfile
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import IO, Any

from hypercorn.asyncio import serve
from hypercorn.config import Config

Wsgi = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]
Scope = dict[str, Any]

WORKERS = 8
HEADERS = 64 << 10
"""Bytes of a request's head."""
SILENT, BODY = 15.0, 60.0
"""Seconds that a connection may take for the head of a request, and for the rest of it."""
LEAVING = 3.0
"""Seconds after which those who are still connected are let go without a word when the serving ends."""
PAUSE = 0.1
"""Seconds after which an application that had nothing to say yet (an empty piece, PEP 3333) is asked again."""
IN_MEMORY = 1 << 20
MOST_BYTES = 1 << 20
"""Bytes of a request's body, unless the application says otherwise."""


class Listener:
    """Listens at an address, of which port 0 is a free one; `serve` until `stop` is called from another thread.

    application  has `most_bytes(method, path, headers)` where a body may be larger, or must be smaller, than usual

    Raises OSError where the address cannot be listened at.
    """

    def __init__(self, application: Wsgi, host: str, port: int, certified: Path, key: Path) -> None:
        self.application = application
        self._most = getattr(application, "most_bytes", lambda *_request: MOST_BYTES)
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        self._socket = socket.create_server((host, port), family=family, backlog=512)
        self.address: tuple[str, int] = self._socket.getsockname()[:2]
        self._config = Config()
        self._config.certfile, self._config.keyfile = str(certified), str(key)
        self._config.alpn_protocols = ["http/1.1"]
        self._config.errorlog = self._config.accesslog = None
        self._config.include_server_header = False
        self._config.h11_max_incomplete_size = HEADERS
        self._config.keep_alive_timeout = self._config.ssl_handshake_timeout = SILENT
        self._config.graceful_timeout = self._config.shutdown_timeout = 1.0
        self._asked, self._ended = threading.Event(), threading.Event()
        self._pool = ThreadPoolExecutor(WORKERS, "answer")

    def serve(self) -> None:
        """Answer until somebody stops it."""
        try:
            asyncio.run(self._serve())
        except OSError:
            if not self._asked.is_set():  # else a connection that did not end well when all were ended
                raise
        finally:
            self._ended.set()
            self._pool.shutdown(cancel_futures=True)

    def stop(self) -> None:
        """End serving. What is being answered is answered first."""
        self._asked.set()

    def close(self) -> None:
        """Let go of the address, of a listener that does not serve (any more)."""
        if not self._ended.is_set():
            self._socket.close()

    async def _serve(self) -> None:
        asyncio.get_running_loop().set_exception_handler(self._unwell)
        self._config.bind = [f"fd://{self._socket.detach()}"]
        application: Any = self._answer
        serving = asyncio.ensure_future(serve(application, self._config, mode="asgi", shutdown_trigger=self._stopped))
        await asyncio.wait([serving, asyncio.ensure_future(self._stopped())], return_when=asyncio.FIRST_COMPLETED)
        await asyncio.wait([serving], timeout=LEAVING)
        if not serving.cancel():
            serving.result()

    def _unwell(self, loop: asyncio.AbstractEventLoop, about: dict[str, Any]) -> None:
        """A connection that ended badly, or was ended, is the client's matter; anything else is told."""
        reason = about.get("exception")
        if not (self._asked.is_set() or isinstance(reason, asyncio.CancelledError | OSError)):
            loop.default_exception_handler(about)

    async def _stopped(self) -> None:
        while not self._asked.is_set():
            await asyncio.sleep(0.05)

    async def _answer(self, scope: Scope, receive: Callable[[], Any], send: Callable[[Any], Any]) -> None:
        """The ASGI application (its specification 3.0): one request."""
        if scope["type"] != "http":
            return
        with tempfile.SpooledTemporaryFile(IN_MEMORY) as body:
            refused = await self._take(scope, receive, body)
            if refused:
                await send({"type": "http.response.start", "status": refused, "headers": [(b"connection", b"close")]})
                await send({"type": "http.response.body"})
                return
            await self._pass(environ_of(scope, body), receive, send)

    async def _take(self, scope: Scope, receive: Callable[[], Any], body: IO[bytes]) -> int:
        """Take in a request's body; 0, or the status that refuses it."""
        headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in scope["headers"]}
        most = self._most(scope["method"], scope["path"], headers)
        if headers.get("content-length", "0").isdecimal() and int(headers.get("content-length", "0")[:15]) > most:
            return 413
        size, more = 0, True
        try:
            async with asyncio.timeout(BODY):
                while more:
                    event = await receive()
                    if event["type"] == "http.disconnect":
                        return 400
                    size += len(event.get("body", b""))
                    if size > most:
                        return 413
                    body.write(event.get("body", b""))
                    more = event.get("more_body", False)
        except TimeoutError:
            return 408
        return 0

    async def _pass(self, environ: dict[str, Any], receive: Callable[[], Any], send: Callable[[Any], Any]) -> None:
        """Have the application answer, in a worker, and pass on what it says; until it ends or the client leaves."""
        loop, head = asyncio.get_running_loop(), dict[str, Any]()

        def start_response(status: str, headers: list[tuple[str, str]], _info: Any = None) -> None:
            head["status"] = int(status.split()[0])
            head["headers"] = [(n.lower().encode("latin-1"), v.encode("latin-1")) for n, v in headers]

        answer = await loop.run_in_executor(self._pool, self.application, environ, start_response)
        pieces: Iterator[bytes] = iter(answer)
        left = asyncio.ensure_future(receive())
        begun = False
        try:
            while not (left.done() or self._asked.is_set()) or not begun:
                piece = await loop.run_in_executor(self._pool, next, pieces, None)
                if not begun:
                    await send({"type": "http.response.start", **head})
                    begun = True
                if piece is None:
                    await send({"type": "http.response.body"})
                    return
                if piece:
                    await send({"type": "http.response.body", "body": piece, "more_body": True})
                else:
                    await asyncio.sleep(PAUSE)
        finally:
            left.cancel()
            if hasattr(answer, "close"):
                await loop.run_in_executor(self._pool, answer.close)


def environ_of(scope: Scope, body: IO[bytes]) -> dict[str, Any]:
    """A request as WSGI (PEP 3333) has it, of one as ASGI has it; the body is the whole of it, at its end."""
    host, port = scope.get("server") or ("localhost", 443)
    environ: dict[str, Any] = {
        "REQUEST_METHOD": scope["method"],
        "SCRIPT_NAME": "",
        "PATH_INFO": scope["path"].encode("utf-8", "replace").decode("latin-1"),
        "QUERY_STRING": scope["query_string"].decode("latin-1"),
        "SERVER_NAME": host,
        "SERVER_PORT": str(port),
        "SERVER_PROTOCOL": f"HTTP/{scope['http_version']}",
        "REMOTE_ADDR": (scope.get("client") or ("",))[0],
        "wsgi.version": (1, 0),
        "wsgi.url_scheme": "https",
        "wsgi.input": body,
        "wsgi.errors": sys.stderr,
        "wsgi.multithread": True,
        "wsgi.multiprocess": False,
        "wsgi.run_once": False,
    }
    for name, value in scope["headers"]:
        key = name.decode("latin-1").upper().replace("-", "_")
        text = value.decode("latin-1")
        key = key if key in ("CONTENT_LENGTH", "CONTENT_TYPE") else "HTTP_" + key
        environ[key] = f"{environ[key]},{text}" if key in environ else text
    environ["CONTENT_LENGTH"] = str(body.tell())
    body.seek(0)
    return environ
