"""A file offered to a server for fetching: one HTTP address with a name nobody can guess, for as long as it is needed.

For servers that take no pushed file, only the address of one (`SimpleUpdate`).
"""

from __future__ import annotations

import secrets
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import quote, urlsplit


def own_address(at: str) -> str:
    """This machine's address on the way to a server; the loopback one for what is in this machine. Raises OSError."""
    host = urlsplit(at).hostname if "://" in at else None
    if host is None:
        return "127.0.0.1"
    family = socket.getaddrinfo(host, 443, type=socket.SOCK_DGRAM)[0]
    with socket.socket(family[0], socket.SOCK_DGRAM) as way:
        way.connect(family[4])  # nothing is sent: this only chooses the way
        return str(way.getsockname()[0])


@contextmanager
def offered(name: str, data: bytes, address: str) -> Iterator[str]:
    """The URI of `data` while the block runs, at one of this machine's addresses. Raises OSError."""
    path = f"/{secrets.token_urlsafe(12)}/{quote(name)}"

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            if self.path != path:
                self.send_error(404)
                return
            self.send_response(200)
            self.send_header("Content-Type", "application/octet-stream")
            self.send_header("Content-Length", str(len(data)))
            self.end_headers()
            self.wfile.write(data)

        def log_message(self, format: str, *args: Any) -> None:
            """Say nothing: the caller tells what is going on."""

    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    kind = type("Offer", (ThreadingHTTPServer,), {"address_family": family, "daemon_threads": True})
    server = kind((address, 0), Handler)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        host = f"[{address}]" if ":" in address else address
        yield f"http://{host}:{server.server_address[1]}{path}"
    finally:
        server.shutdown()
        server.server_close()
        thread.join()
