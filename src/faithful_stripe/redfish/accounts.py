"""The accounts of a served bench: who may do what, by the standard's predefined roles (DSP0266 13.2.8).

They are kept in memory, passwords as keyed digests only: what is created here lasts as long as the bench is served,
and the account it is served with is always there.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
import threading
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from . import documents, names
from .layers import Wrong
from .names import Body, link

SERVICE = names.ROOT + "AccountService"
ACCOUNTS = SERVICE + "/Accounts"
LEAST_PASSWORD, MOST_PASSWORD, MOST_ACCOUNTS = 8, 128, 32


@dataclass(frozen=True)
class Account:
    """One account. `secret`: the digest of its password; `must_change`: it may do nothing else before."""

    number: str
    user: str
    secret: bytes
    role: str = "Administrator"
    enabled: bool = True
    must_change: bool = False
    first: bool = False

    @property
    def path(self) -> str:
        return f"{ACCOUNTS}/{self.number}"

    def may(self, privilege: str) -> bool:
        """Whether its role carries a privilege of the standard, such as "ConfigureUsers"."""
        return privilege in documents.ROLES[self.role]


class Accounts:
    """All accounts of a served bench."""

    def __init__(self, user: str, password: str) -> None:
        self._key, self._lock = secrets.token_bytes(32), threading.Lock()
        self._by_number = {"1": Account("1", user, self._digest(password), first=True)}
        self._last = 1

    def _digest(self, password: str) -> bytes:
        return hmac.digest(self._key, password.encode("utf-8", "surrogatepass"), hashlib.sha256)

    def entering(self, user: str, password: str) -> Account | None:
        """The account that this user and password are right for; it takes as long whether there is one or not."""
        told, found = self._digest(password), None
        for account in list(self._by_number.values()):
            same = hmac.compare_digest(
                account.user.encode("utf-8", "surrogatepass"), user.encode("utf-8", "surrogatepass")
            )
            if hmac.compare_digest(told, account.secret) and same and account.enabled:
                found = account
        return found

    def of(self, user: str) -> Account | None:
        """The account of a user who has entered; None where it was removed or switched off."""
        return next((a for a in self._by_number.values() if a.user == user and a.enabled), None)

    def at(self, path: str) -> Account:
        """The account at a path. Raises Wrong."""
        found = self._by_number.get(path.rpartition("/")[2])
        if found is None or found.path != path:
            raise Wrong(404, "ResourceMissingAtURI", f"there is nothing at {path}", path)
        return found

    # what is asked for --------------------------------------------------------------------------

    def create(self, wish: Mapping[str, Any]) -> Account:
        """A new account. Raises Wrong."""
        for name in ("UserName", "Password", "RoleId"):
            if name not in wish:
                raise Wrong(400, "PropertyMissing", f"{name} is needed", name)
        with self._lock:
            if len(self._by_number) >= MOST_ACCOUNTS:
                raise Wrong(400, "CreateLimitReachedForResource", "there are as many accounts as there may be")
            blank = Account(str(self._last + 1), "", b"")
            made = self._changed(blank, wish)
            self._last += 1
            self._by_number[made.number] = made
            return made

    def change(self, account: Account, wish: Mapping[str, Any]) -> Account:
        """An account with properties changed, all or none. Raises Wrong."""
        with self._lock:
            made = self._changed(account, wish)
            self._by_number[made.number] = made
            return made

    def remove(self, account: Account) -> None:
        """Raises Wrong for the account that the bench is served with."""
        if account.first:
            raise Wrong(403, "ResourceCannotBeDeleted", "the account that the bench is served with stays")
        with self._lock:
            self._by_number.pop(account.number, None)

    def _changed(self, account: Account, wish: Mapping[str, Any]) -> Account:
        made = account
        for name, value in wish.items():
            if name.startswith("@odata."):
                continue
            if name == "UserName":
                _text(name, value, 1, 64)
                if any(a.user == value and a.number != account.number for a in self._by_number.values()):
                    raise Wrong(400, "ResourceAlreadyExists", f"there is a user {value} already", "ManagerAccount",
                                name, str(value))  # fmt: skip
                made = replace(made, user=value)
            elif name == "Password":
                _text(name, value, LEAST_PASSWORD, MOST_PASSWORD)
                made = replace(made, secret=self._digest(value), must_change=False)
            elif name == "RoleId":
                if value not in documents.ROLES:
                    raise Wrong(400, "PropertyValueNotInList", f"RoleId is one of {', '.join(documents.ROLES)}",
                                str(value), name)  # fmt: skip
                made = replace(made, role=value)
            elif name in ("Enabled", "PasswordChangeRequired"):
                if not isinstance(value, bool):
                    raise Wrong(400, "PropertyValueTypeError", f"{name} is true or false", str(value), name)
                made = replace(made, enabled=value) if name == "Enabled" else replace(made, must_change=value)
            else:
                raise Wrong(400, "PropertyUnknown", f"{name} is no property that can be written here", name)
        if made.first and (made.role != "Administrator" or not made.enabled or made.user != account.user):
            raise Wrong(
                400, "PropertyNotWritable", "the account that the bench is served with stays as it is", "RoleId"
            )
        return made

    # what they look like ------------------------------------------------------------------------

    def collection(self, whole: bool) -> Body:
        members = [told(a) if whole else link(a.path) for a in self._by_number.values()]
        return names.collection(ACCOUNTS, "ManagerAccountCollection", "Accounts", members)


def _text(name: str, value: object, least: int, most: int) -> None:
    if not isinstance(value, str) or not least <= len(value) <= most:
        raise Wrong(400, "PropertyValueFormatError", f"{name} has {least} to {most} characters", "", name)


def body(account: Account) -> Body:
    """An account as a resource; a password is never told."""
    return {
        "@odata.id": account.path,
        "@odata.type": "#ManagerAccount.v1_12_0.ManagerAccount",
        "Id": account.number,
        "Name": f"Account of {account.user}",
        "UserName": account.user,
        "Password": None,
        "RoleId": account.role,
        "Enabled": account.enabled,
        "Locked": False,
        "PasswordChangeRequired": account.must_change,
        "AccountTypes": ["Redfish"],
        "Links": {"Role": link(f"{SERVICE}/Roles/{account.role}")},
    }


def etag(account: Account) -> str:
    """Another one after every change, of the password too, of which nothing can be told from it."""
    said = json.dumps(body(account), sort_keys=True).encode() + account.secret
    return '"' + hashlib.sha256(said).hexdigest()[:20] + '"'


def told(account: Account) -> Body:
    """An account as it is answered, its ETag with it."""
    return body(account) | {"@odata.etag": etag(account)}
