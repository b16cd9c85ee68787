"""A bench served over HTTPS: who may ask, and the certificate it shows."""

from __future__ import annotations

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

from . import accounts, names
from .accounts import ACCOUNTS, Account, Accounts
from .layers import Wrong, Wsgi, answer, kept, message, named_in, object_of, refusal
from .listening import MOST_BYTES
from .names import Body, link
from .updates import MOST_BYTES as MOST_PACKAGE

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
    """One session: its number, whose it is, and when it was last used, by a clock that does not jump."""

    number: str
    user: str
    used: float


class Sessions:
    """A WSGI layer that asks for a login and lets each account do what its role allows; tokens in memory only."""

    def __init__(self, inner: Wsgi, user: str, password: str, clock: Callable[[], float] = time.monotonic) -> None:
        self.inner, self.accounts, self._clock = inner, Accounts(user, password), clock
        self._tokens: dict[str, Session] = {}
        self._failed: dict[str, list[float]] = {}
        self._lock = threading.Lock()

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        own = self._answer(Request(environ))
        return (own or self.inner)(environ, start_response)

    def most_bytes(self, method: str, path: str, headers: Mapping[str, str]) -> int:
        """How many bytes the body of a request may have, by who sends it and where to."""
        given = Authorization.from_header(headers.get("authorization"))
        with self._lock:
            known = self._used(headers.get("x-auth-token", "")) is not None
        if not (known or (given and self.accounts.entering(given.username or "", given.password or ""))):
            return OF_STRANGERS
        return MOST_PACKAGE if path.rstrip("/") in UPLOADS and method == "POST" else MOST_BYTES

    def _answer(self, request: Request) -> Response | None:
        path = request.path.rstrip("/")
        if path in (SESSIONS, SESSIONS + "/Members") and request.method == "POST":
            return self._begin(request)
        if path in OPEN and request.method in ("GET", "HEAD"):
            return self._root(request) if path.endswith("v1") else None
        with self._lock:
            session = self._used(request.headers.get("X-Auth-Token", ""))
        who = self.accounts.of(session.user) if session else self._basic(request)
        if isinstance(who, Response):
            return who
        if who is None:
            return refusal(401, "NoValidSession", "this account is not there any more")
        if refused := _not_allowed(who, request, path, self._whose(path)):
            return refused
        own = path.startswith((SERVICE, accounts.SERVICE)) and "/Roles" not in path
        if own and "only" in request.args:
            return refusal(400, "QueryNotSupportedOnResource", "the query parameter only is not for this resource")
        try:
            if path == accounts.SERVICE:
                return self._account_service(request)
            if path == ACCOUNTS or path.startswith(ACCOUNTS + "/"):
                return self._about_accounts(request, path)
        except Wrong as wrong:
            return wrong.answer()
        with self._lock:
            return self._about_sessions(request, path)

    def _whose(self, path: str) -> str:
        """Whose session is at a path; "" where there is none."""
        with self._lock:
            return next((s.user for s in self._tokens.values() if path == f"{SESSIONS}/{s.number}"), "")

    def _about_sessions(self, request: Request, path: str) -> Response | None:
        """The answer where a request is about sessions."""
        there = {session.number: session for session in self._tokens.values()}
        if path.startswith(SESSIONS + "/") and path.rpartition("/")[2] in there:
            session = there[path.rpartition("/")[2]]
            if request.method != "DELETE":
                return answer(200, _session(session))
            self._tokens = {t: s for t, s in self._tokens.items() if s is not session}
            return Response(status=204)
        if path == SERVICE:
            return answer(200, _session_service())
        if path == SESSIONS:
            members = [link(f"{SESSIONS}/{session.number}") for session in self._tokens.values()]
            return answer(200, names.collection(SESSIONS, "SessionCollection", "Sessions", members))
        return None

    def _account_service(self, request: Request) -> Response:
        """The account service, with the way to the accounts."""
        data, status, headers = run_wsgi_app(self.inner, request.environ)
        body = json.loads(b"".join(data) or b"{}")
        if status.startswith("200"):
            body["Accounts"] = link(ACCOUNTS)
            body["MinPasswordLength"], body["MaxPasswordLength"] = accounts.LEAST_PASSWORD, accounts.MOST_PASSWORD
        return answer(int(status.split()[0]), body, kept(headers))

    def _about_accounts(self, request: Request, path: str) -> Response:
        """The answer to a request about accounts. Raises Wrong."""
        if path == ACCOUNTS:
            if request.method == "POST":
                made = self.accounts.create(object_of(request))
                return answer(201, accounts.told(made), {"Location": made.path, "ETag": accounts.etag(made)})
            if request.method in ("GET", "HEAD"):
                return answer(
                    200, self.accounts.collection(bool(request.args.get("$expand"))), {"Allow": "GET, HEAD, POST"}
                )
            raise Wrong(405, "ActionNotSupported", f"{request.method} is not possible at {path}", request.method)
        account = self.accounts.at(path)
        tag, wanted = accounts.etag(account), request.headers.get("If-Match", "*")
        if request.method in ("PATCH", "DELETE") and wanted not in ("*", tag):
            raise Wrong(412, "PreconditionFailed", f"{path} has changed since it was read")
        if request.method == "DELETE":
            self.accounts.remove(account)
            self._end(account.user)
            return Response(status=204)
        if request.method == "PATCH":
            wish = object_of(request)
            if not [name for name in wish if not name.startswith("@odata.")]:
                raise Wrong(400, "NoOperation", "the request names no property to change")
            now = self.accounts.change(account, wish)
            if "Password" in wish or not now.enabled or now.user != account.user:
                self._end(account.user, request.headers.get("X-Auth-Token", ""))
            account, tag = now, accounts.etag(now)
        elif request.method not in ("GET", "HEAD"):
            raise Wrong(405, "ActionNotSupported", f"{request.method} is not possible at {path}", request.method)
        if request.method != "PATCH" and request.headers.get("If-None-Match") == tag:
            return Response(status=304, headers={"ETag": tag})
        return answer(200, accounts.told(account), {"ETag": tag, "Allow": "DELETE, GET, HEAD, PATCH"})

    def _end(self, user: str, but: str = "") -> None:
        """End the sessions of a user, but for the one of a token."""
        with self._lock:
            self._tokens = {t: s for t, s in self._tokens.items() if s.user != user or t == but}

    def _used(self, token: str) -> Session | None:
        """The session of a token, used now; those that nobody used for long end."""
        now = self._clock()
        self._tokens = {t: s for t, s in self._tokens.items() if now - s.used < SESSION_SECONDS}
        if session := self._tokens.get(token):
            session.used = now
        return session

    def _basic(self, request: Request) -> Response | Account:
        """The account whose user and password the request carries itself, or the refusal."""
        given = request.authorization
        if not (given and given.type == "basic"):
            return refusal(401, "NoValidSession", "there is no valid session: log in first")
        return self._try(request, given.username or "", given.password or "")

    def _try(self, request: Request, user: str, password: str) -> Response | Account:
        """The account of a login, or its refusal. Whoever fails often has to wait, with the right password, too: else
        it could be found by trying."""
        address, now = request.remote_addr or "", self._clock()
        with self._lock:
            self._failed = {a: times for a, times in self._failed.items() if now - times[-1] < TRY_SECONDS}
            failed = [t for t in self._failed.get(address, []) if now - t < TRY_SECONDS]
            if len(failed) >= TRIES:
                wait = math.ceil(failed[0] + TRY_SECONDS - now)
                refused = refusal(429, "GeneralError", f"too many logins failed: try again in {wait} s")
                refused.headers["Retry-After"] = str(wait)
                return refused
            if account := self.accounts.entering(user, password):
                self._failed.pop(address, None)
                return account
            self._failed[address] = [*failed, now]
        return refusal(401, "NoValidSession", "user or password is wrong")

    def _root(self, request: Request) -> Response:
        """The service root, with the way to the sessions."""
        data, status, headers = run_wsgi_app(self.inner, request.environ)
        body = json.loads(b"".join(data) or b"{}")
        body["SessionService"] = _session_service() if request.args.get("$expand") else link(SERVICE)
        body["Links"] = {**body.get("Links", {}), "Sessions": link(SESSIONS)}
        return answer(int(status.split()[0]), body, kept(headers))

    def _begin(self, request: Request) -> Response:
        try:
            wish = json.loads(request.get_data())
            user, password = str(wish["UserName"]), str(wish["Password"])
        except (ValueError, KeyError, TypeError, RecursionError):
            return refusal(400, "PropertyMissing", "UserName and Password are needed")
        account = self._try(request, user, password)
        if isinstance(account, Response):
            return account
        token, number = secrets.token_urlsafe(24), secrets.token_hex(4)
        with self._lock:
            self._used("")
            if len(self._tokens) >= MOST_SESSIONS:
                return refusal(503, "SessionLimitExceeded", "too many sessions are open")
            made = self._tokens[token] = Session(number, account.user, self._clock())
        body = _session(made)
        if account.must_change:
            body["@Message.ExtendedInfo"] = [message("PasswordChangeRequired", MUST_CHANGE, (account.path,))]
        return answer(201, body, {"X-Auth-Token": token, "Location": f"{SESSIONS}/{number}"})

    @property
    def open_sessions(self) -> int:
        """How many sessions have not been logged out."""
        with self._lock:
            self._used("")
            return len(self._tokens)


MUST_CHANGE = "the password of this account has to be changed before anything else"


def _not_allowed(who: Account, request: Request, path: str, whose: str) -> Response | None:
    """The refusal of what an account's role does not allow (DSP0266 13.2.8 and its privilege registry).

    whose  the user of the session that is asked for, if one is
    """
    own = path == who.path or (bool(whose) and whose == who.user)
    reads = request.method in ("GET", "HEAD", "OPTIONS")
    if who.must_change:
        password_only = request.method == "PATCH" and named_in(request) == {"Password"}
        if not ((own and (reads or password_only)) or (request.method == "DELETE" and whose == who.user)):
            return refusal(403, "PasswordChangeRequired", MUST_CHANGE, (who.path,))
        return None
    if path == ACCOUNTS or path.startswith((ACCOUNTS + "/", accounts.SERVICE)):
        own_password = own and request.method == "PATCH" and named_in(request) == {"Password"}
        about_others = path.startswith(ACCOUNTS + "/") and not own
        needed = "" if own_password or (reads and not about_others) else "ConfigureUsers"
    elif path.startswith(SESSIONS):
        needed = "" if reads or own else "ConfigureManager"
    else:
        needed = "" if reads else "ConfigureComponents"
    if needed and not who.may(needed):
        return refusal(403, "InsufficientPrivilege", f"the role {who.role} does not allow that")
    return None


def _session(session: Session) -> Body:
    return {
        "@odata.id": f"{SESSIONS}/{session.number}",
        "@odata.type": "#Session.v1_7_2.Session",
        "Id": session.number,
        "Name": "Session",
        "UserName": session.user,
    }


def _session_service() -> Body:
    return {
        "@odata.id": SERVICE, "@odata.type": "#SessionService.v1_1_9.SessionService", "Id": "SessionService",
        "Name": "Sessions", "ServiceEnabled": True, "SessionTimeout": int(SESSION_SECONDS), "Sessions": link(SESSIONS),
    }  # fmt: skip


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
