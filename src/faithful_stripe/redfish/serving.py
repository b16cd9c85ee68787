"""A bench served over HTTPS: who may ask, and the certificate it shows."""

from __future__ import annotations

import hmac
import json
import math
import secrets
import threading
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from werkzeug.datastructures import Authorization
from werkzeug.test import run_wsgi_app
from werkzeug.wrappers import Request, Response

from . import documents, names
from .listening import MOST_BYTES
from .names import Body, link
from .updates import MOST_BYTES as MOST_PACKAGE

Wsgi = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]
SERVICE = names.ROOT + "SessionService"
SESSIONS = SERVICE + "/Sessions"
OPEN = ("/redfish", "/redfish/v1", "/redfish/v1/", "/redfish/v1/odata", "/redfish/v1/$metadata")
"""What can be read without a login."""

MOST_SESSIONS = 16
SESSION_SECONDS = 30 * 60.0
"""After which a session ends that nobody used."""
TRIES, TRY_SECONDS = 10, 60.0
"""Logins that may fail from one address within so many seconds; the next waits."""
UPLOADS = (names.ROOT + "UpdateService/push",)
OF_STRANGERS = 16 << 10
"""Bytes of a request of somebody who has not logged in."""


@dataclass
class Session:
    """One session: its number, and when it was last used, by a clock that does not jump."""

    number: str
    used: float


class Sessions:
    """A WSGI layer that asks for a login: one user, tokens in memory only."""

    def __init__(self, inner: Wsgi, user: str, password: str, clock: Callable[[], float] = time.monotonic) -> None:
        self.inner, self.user, self._password, self._clock = inner, user, password, clock
        self._tokens: dict[str, Session] = {}
        self._failed: dict[str, list[float]] = {}
        self._lock = threading.Lock()

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        answer = self._answer(Request(environ))
        return (answer or self.inner)(environ, start_response)

    def most_bytes(self, method: str, path: str, headers: Mapping[str, str]) -> int:
        """How many bytes the body of a request may have, by who sends it and where to."""
        given = Authorization.from_header(headers.get("authorization"))
        with self._lock:
            known = self._used(headers.get("x-auth-token", "")) is not None
        if not (known or (given and self._right(given.username or "", given.password or ""))):
            return OF_STRANGERS
        return MOST_PACKAGE if path.rstrip("/") in UPLOADS and method == "POST" else MOST_BYTES

    def _answer(self, request: Request) -> Response | None:
        path = request.path.rstrip("/")
        if path in (SESSIONS, SESSIONS + "/Members") and request.method == "POST":
            return self._begin(request)
        if path in OPEN and request.method in ("GET", "HEAD"):
            return self._root(request) if path.endswith("v1") else None
        with self._lock:
            known = self._used(request.headers.get("X-Auth-Token", "")) is not None
        if not known and (refusal := self._basic(request)):
            return refusal
        with self._lock:
            return self._about_sessions(request, path)

    def _about_sessions(self, request: Request, path: str) -> Response | None:
        """The answer where a request is about sessions."""
        there = {session.number for session in self._tokens.values()}
        if path.startswith(SESSIONS + "/") and path.rpartition("/")[2] in there:
            if request.method != "DELETE":
                return _json(200, self._session(path.rpartition("/")[2]))
            self._tokens = {t: s for t, s in self._tokens.items() if s.number != path.rpartition("/")[2]}
            return Response(status=204)
        if path == SERVICE:
            return _json(200, {
                "@odata.id": SERVICE, "@odata.type": "#SessionService.v1_1_9.SessionService", "Id": "SessionService",
                "Name": "Sessions", "ServiceEnabled": True, "SessionTimeout": int(SESSION_SECONDS),
                "Sessions": link(SESSIONS),
            })  # fmt: skip
        if path == SESSIONS:
            members = [link(f"{SESSIONS}/{session.number}") for session in self._tokens.values()]
            return _json(200, names.collection(SESSIONS, "SessionCollection", "Sessions", members))
        return None

    def _used(self, token: str) -> Session | None:
        """The session of a token, used now; those that nobody used for long end."""
        now = self._clock()
        self._tokens = {t: s for t, s in self._tokens.items() if now - s.used < SESSION_SECONDS}
        if session := self._tokens.get(token):
            session.used = now
        return session

    def _basic(self, request: Request) -> Response | None:
        """The refusal, unless the request carries user and password itself."""
        given = request.authorization
        if not (given and given.type == "basic"):
            return _refusal(401, "NoValidSession", "there is no valid session: log in first")
        return self._try(request, given.username or "", given.password or "")

    def _try(self, request: Request, user: str, password: str) -> Response | None:
        """The refusal of a login, or None. Whoever fails often has to wait, with the right password, too: else it
        could be found by trying."""
        address, now = request.remote_addr or "", self._clock()
        with self._lock:
            self._failed = {a: times for a, times in self._failed.items() if now - times[-1] < TRY_SECONDS}
            failed = [t for t in self._failed.get(address, []) if now - t < TRY_SECONDS]
            if len(failed) >= TRIES:
                wait = math.ceil(failed[0] + TRY_SECONDS - now)
                refusal = _refusal(429, "GeneralError", f"too many logins failed: try again in {wait} s")
                refusal.headers["Retry-After"] = str(wait)
                return refusal
            if self._right(user, password):
                self._failed.pop(address, None)
                return None
            self._failed[address] = [*failed, now]
        return _refusal(401, "NoValidSession", "user or password is wrong")

    def _right(self, user: str, password: str) -> bool:
        told, known = [[w.encode("utf-8", "surrogatepass") for w in pair] for pair in
                       ((user, password), (self.user, self._password))]  # fmt: skip
        right = hmac.compare_digest(told[0], known[0])
        return hmac.compare_digest(told[1], known[1]) and right

    def _root(self, request: Request) -> Response:
        """The service root, with the way to the sessions."""
        data, status, headers = run_wsgi_app(self.inner, request.environ)
        body = json.loads(b"".join(data) or b"{}")
        body["SessionService"] = link(SERVICE)
        body["Links"] = {**body.get("Links", {}), "Sessions": link(SESSIONS)}
        kept = {k: v for k, v in headers.items() if k.lower() not in ("content-length", "content-type", "etag")}
        return _json(int(status.split()[0]), body, kept)

    def _begin(self, request: Request) -> Response:
        try:
            wish = json.loads(request.get_data())
            user, password = str(wish["UserName"]), str(wish["Password"])
        except (ValueError, KeyError, TypeError, RecursionError):
            return _refusal(400, "PropertyMissing", "UserName and Password are needed")
        if refusal := self._try(request, user, password):
            return refusal
        token, number = secrets.token_urlsafe(24), secrets.token_hex(4)
        with self._lock:
            self._used("")
            if len(self._tokens) >= MOST_SESSIONS:
                return _refusal(503, "SessionLimitExceeded", "too many sessions are open")
            self._tokens[token] = Session(number, self._clock())
        return _json(201, self._session(number), {"X-Auth-Token": token, "Location": f"{SESSIONS}/{number}"})

    def _session(self, number: str) -> Body:
        return {
            "@odata.id": f"{SESSIONS}/{number}",
            "@odata.type": "#Session.v1_7_2.Session",
            "Id": number,
            "Name": "Session",
            "UserName": self.user,
        }

    @property
    def open_sessions(self) -> int:
        """How many sessions have not been logged out."""
        with self._lock:
            self._used("")
            return len(self._tokens)


def _refusal(status: int, message: str, what: str) -> Response:
    entry = {"MessageId": names.BASE + message, "Message": what, "MessageSeverity": "Warning", "Resolution": "None."}
    asks = {"WWW-Authenticate": 'Basic realm="Redfish"'} if status == 401 else {}
    return _json(
        status, {"error": {"code": names.BASE + message, "message": what, "@Message.ExtendedInfo": [entry]}}, asks
    )


def _json(status: int, body: Body, headers: Mapping[str, str] | None = None) -> Response:
    found = {"OData-Version": "4.0", "Cache-Control": "no-cache", "Link": documents.described_by(body)}
    found |= {"Allow": "DELETE, GET, HEAD, POST"} | dict(headers or {})
    return Response(json.dumps(body), status, found, content_type="application/json; charset=utf-8")


def certificate(folder: Path, host: str, ended: timedelta = timedelta(days=-3650)) -> tuple[Path, Path]:
    """Certificate and key of a served bench, made on first use and kept in its folder. A self-signed one, as such
    devices come with.

    ended  how long ago it has run out; ten years from now without it
    """
    certified, key_file = folder / "tls.pem", folder / "tls.key"
    if certified.exists() and key_file.exists():
        return certified, key_file
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, folder.resolve().name[:60] or "bench")])
    now = datetime.now(UTC)
    others: list[x509.GeneralName] = [x509.DNSName("localhost")]
    try:
        others.append(x509.IPAddress(ip_address(host)))
    except ValueError:
        others.append(x509.DNSName(host))
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - max(timedelta(), ended) - timedelta(days=1))
        .not_valid_after(now - ended)
        .add_extension(x509.SubjectAlternativeName(others), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    key_file.touch(mode=0o600)
    key_file.write_bytes(private)
    certified.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    return certified, key_file
