"""A bench served over HTTPS: a WSGI server with TLS, sessions, and a certificate of its own."""

from __future__ import annotations

import hmac
import json
import secrets
import threading
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from cheroot.ssl.builtin import BuiltinSSLAdapter
from cheroot.wsgi import Server
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from werkzeug.test import run_wsgi_app
from werkzeug.wrappers import Request, Response

from . import documents, names
from .names import Body, link

Wsgi = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]
SERVICE = names.ROOT + "SessionService"
SESSIONS = SERVICE + "/Sessions"
OPEN = ("/redfish", "/redfish/v1", "/redfish/v1/", "/redfish/v1/odata", "/redfish/v1/$metadata")
"""What can be read without a login."""

MOST_SESSIONS = 16


class Sessions:
    """A WSGI layer that asks for a login: one user, tokens in memory only."""

    def __init__(self, inner: Wsgi, user: str, password: str) -> None:
        self.inner, self.user, self._password = inner, user, password
        self._tokens: dict[str, str] = {}
        self._lock = threading.Lock()

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        request = Request(environ)
        with self._lock:
            answer = self._answer(request)
        return (answer or self.inner)(environ, start_response)

    def _answer(self, request: Request) -> Response | None:
        path = request.path.rstrip("/")
        if path in (SESSIONS, SESSIONS + "/Members") and request.method == "POST":
            return self._begin(request)
        if path in OPEN and request.method in ("GET", "HEAD"):
            return self._root(request) if path.endswith("v1") else None
        number = self._tokens.get(request.headers.get("X-Auth-Token", ""))
        if number is None and not self._basic(request):
            return _refusal(401, "NoValidSession", "there is no valid session: log in first")
        if path.startswith(SESSIONS + "/") and request.method == "DELETE":
            self._tokens = {token: n for token, n in self._tokens.items() if n != path.rpartition("/")[2]}
            return Response(status=204)
        if path.startswith(SESSIONS + "/") and path.rpartition("/")[2] in self._tokens.values():
            return _json(200, self._session(path.rpartition("/")[2]))
        if path == SERVICE:
            return _json(200, {
                "@odata.id": SERVICE, "@odata.type": "#SessionService.v1_1_9.SessionService", "Id": "SessionService",
                "Name": "Sessions", "ServiceEnabled": True, "Sessions": link(SESSIONS),
            })  # fmt: skip
        if path == SESSIONS:
            body = names.collection(
                SESSIONS, "SessionCollection", "Sessions", [link(f"{SESSIONS}/{n}") for n in self._tokens.values()]
            )
            return _json(200, body)
        return None

    def _basic(self, request: Request) -> bool:
        """Whether the request carries user and password itself."""
        given = request.authorization
        return bool(given and given.type == "basic" and self._right(given.username or "", given.password or ""))

    def _right(self, user: str, password: str) -> bool:
        right = hmac.compare_digest(user.encode(), self.user.encode())
        return hmac.compare_digest(password.encode(), self._password.encode()) and right

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
        except (ValueError, KeyError, TypeError):
            return _refusal(400, "PropertyMissing", "UserName and Password are needed")
        if not self._right(user, password):
            return _refusal(401, "NoValidSession", "user or password is wrong")
        token, number = secrets.token_urlsafe(24), secrets.token_hex(4)
        if len(self._tokens) >= MOST_SESSIONS:
            return _refusal(503, "SessionLimitExceeded", "too many sessions are open")
        self._tokens[token] = number
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


class OneAtATime:
    """A WSGI layer that lets one request through at a time: a bench is held by one."""

    def __init__(self, inner: Wsgi) -> None:
        self.inner, self._lock = inner, threading.Lock()

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        with self._lock:
            return list(self.inner(environ, start_response))


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


def server(application: Wsgi, host: str, port: int, certified: Path, key: Path) -> Server:
    """A server that is ready to `prepare` and `serve`; with port 0 it takes a free one (see `bind_addr`)."""
    made = Server((host, port), application, numthreads=8, server_name="fstripe-bench", timeout=60)
    made.ssl_adapter = BuiltinSSLAdapter(str(certified), str(key))
    return made
