"""From what `--at` names to a client: a bench folder in process, an https address over the network."""

from __future__ import annotations

import hashlib
import netrc
import os
import ssl
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from urllib.parse import urlsplit

import httpx

from ..bench.bench import Bench
from ..media.given import why_not
from .address import TargetError, check_address
from .client import Client
from .exchange import Credentials
from .service import Service

WIDTH = 6
"""Reads that are under way at one server at the same time: management controllers answer slowly, and few at once."""


class _BenchTransport(httpx.WSGITransport):
    """httpx's in-process transport over a bench, which it closes with the client."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(Service(bench))
        self._bench = bench

    def close(self) -> None:
        self._bench.close()


@dataclass(frozen=True)
class Access:
    """How to reach a real server.

    ca      a file of certificates that are trusted besides the system's
    trust   the SHA-256 fingerprint of the server's own certificate, as a person has checked it
    ask     asks a person for user and password; None where nobody can be asked
    system  which one is meant of several systems behind one address; "" for all
    told    hears from when to when a certificate is valid that is trusted by its fingerprint, where that is not now
    """

    ca: Path | None = None
    trust: str | None = None
    ask: Callable[[str], Credentials | None] | None = None
    told: Callable[[datetime, datetime], None] = lambda _first, _last: None
    system: str = ""


def connect(at: str, speed: float = 1.0, access: Access | None = None) -> Client:
    """A client for a bench folder or an `https://` address.

    speed  bench seconds per second; a real server's clock cannot be hurried (TargetError)
    """
    if "://" not in at:
        transport = _BenchTransport(Bench(Path(at), speed=speed))
        inside = Client(at, httpx.Client(transport=transport, base_url="http://bench"))
        inside.system = access.system if access else ""
        return inside
    check_address(at)
    if not at.startswith("https://"):
        raise TargetError(at=at, what="only https addresses are spoken to", to_do="write https://ADDRESS")
    if speed != 1.0:
        raise TargetError(at=at, what="--speed is for benches", to_do="leave it out; a real server keeps real time")
    chosen = access or Access()
    http = httpx.Client(
        base_url=at.rstrip("/"),
        timeout=httpx.Timeout(60.0, connect=15.0),
        limits=httpx.Limits(max_connections=WIDTH + 2, max_keepalive_connections=WIDTH + 2),
        headers={"OData-Version": "4.0"},
        verify=tls(at, chosen),
        trust_env=False,
    )
    client = Client(
        at, http, lambda: credentials(at, chosen), lambda reason: _unverified(at, reason), width=WIDTH,
        early=credentials(at, replace(chosen, ask=None)) is not None,
    )  # fmt: skip
    client.system = chosen.system
    return client


def _unverified(at: str, reason: httpx.HTTPError) -> TargetError | None:
    """What to do about a certificate that cannot be verified: its fingerprint, to be held against the console's."""
    if "CERTIFICATE_VERIFY_FAILED" not in str(reason):
        return None
    shown, _pem = fingerprint(at)
    what = f"its certificate cannot be verified; its fingerprint is sha256:{shown}"
    to_do = f"hold it against the one on the server's own console; if it is the same: --trust sha256:{shown}"
    return TargetError(at=at, what=what, to_do=to_do)


def credentials(at: str, access: Access) -> Credentials | None:
    """User and password: from the environment, from netrc, or from whoever can be asked. Never from arguments."""
    user, password = os.environ.get("FSTRIPE_USER"), os.environ.get("FSTRIPE_PASSWORD")
    if user and password:
        return user, password
    try:
        entry = netrc.netrc(os.environ.get("NETRC")).authenticators(urlsplit(at).hostname or "")
    except (OSError, UnicodeDecodeError, netrc.NetrcParseError):
        entry = None
    if entry and entry[2]:
        return entry[0] or entry[1] or "", entry[2]
    return access.ask(at) if access.ask else None


NO_CHECK_TIME = ssl.VerifyFlags(0x200000)
"""X509_V_FLAG_NO_CHECK_TIME of OpenSSL's x509_vfy.h, which Python has no name for."""


def _dates(pem: str) -> tuple[datetime, datetime]:
    """From when to when a certificate is valid."""
    from cryptography import x509  # noqa: PLC0415  # takes longer to load than a look at a server, and is seldom needed

    made = x509.load_pem_x509_certificate(pem.encode("ascii"))
    return made.not_valid_before_utc, made.not_valid_after_utc


def tls(at: str, access: Access) -> ssl.SSLContext:
    """Verified TLS: by the system's certificates, those of `ca`, or the one certificate whose fingerprint is trusted.

    Raises TargetError when the server's certificate has another fingerprint, or the file cannot be used.
    """
    if not access.trust:
        return _verified(access.ca)
    shown, pem = fingerprint(at)
    if access.trust.lower().removeprefix("sha256:").replace(":", "") != shown:
        to_do = "somebody may be in between, or its certificate was renewed: check it at the server's own console"
        raise TargetError(at=at, what=f"its certificate's fingerprint is sha256:{shown}, another one", to_do=to_do)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.load_verify_locations(cadata=pem)
    context.check_hostname = False  # this one certificate is trusted, whatever name it was made for
    context.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN
    context.verify_flags |= NO_CHECK_TIME  # a person has checked this one, and devices seldom renew theirs
    first, last = _dates(pem)
    if not first <= datetime.now(UTC) <= last:
        access.told(first, last)
    return context


@lru_cache
def _verified(ca: Path | None) -> ssl.SSLContext:
    """A context that verifies by the system's certificates and those of a file; made once, since reading the
    system's takes longer than a whole survey."""
    context = ssl.create_default_context()
    try:
        if ca:
            context.load_verify_locations(ca)
    except (OSError, ssl.SSLError) as reason:
        raise TargetError(
            at=str(ca), what=f"no certificates there: {why_not(reason)}", to_do="give a PEM file"
        ) from reason
    return context


def fingerprint(at: str) -> tuple[str, str]:
    """SHA-256 of the certificate that a server shows, in hexadecimal, and the certificate itself (PEM).

    Raises TargetError when it shows none.
    """
    parts = urlsplit(at)
    try:
        pem = ssl.get_server_certificate((parts.hostname or "", parts.port or 443), timeout=15.0)
    except (OSError, ValueError) as reason:
        raise TargetError(at=at, what=f"no answer ({reason})", to_do="check the address and the network") from reason
    return hashlib.sha256(ssl.PEM_cert_to_DER_cert(pem)).hexdigest(), pem
