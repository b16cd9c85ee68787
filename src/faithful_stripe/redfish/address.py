"""Addresses as people write them: refused at once where they are none, or where they hold a secret."""

from __future__ import annotations

import ipaddress
import re
from urllib.parse import urlsplit

from ..core.errors import StripeError

_HOST = re.compile(r"(?!-)[A-Za-z0-9_-]{1,63}(?:\.[A-Za-z0-9_-]{1,63})*\.?\Z")
"""A name (RFC 1123, and the underscores that people use), or an IPv4 address, which is checked besides."""


class TargetError(StripeError):
    template = "{at}: {what}"
    remedy = "{to_do}"


def check_address(at: str) -> None:
    """Raise TargetError for what is no address, or one with a secret in it: addresses are kept and shown.

    at  anything with :// in it
    """
    scheme, _sep, rest = at.partition("://")
    if "@" in rest:
        to_do = "put user and password into ~/.netrc, or into FSTRIPE_USER and FSTRIPE_PASSWORD"
        raise TargetError(at=f"{scheme}://...@...", what="an address with a user or a password in it", to_do=to_do)
    try:
        parts = urlsplit(at)
        bad = parts.port is not None and not 0 < parts.port < 65536
        bad |= bool(parts.query or parts.fragment) or not _is_host(parts.hostname or "")
    except ValueError:
        bad = True
    if bad:
        raise TargetError(at=at, what="this is no address", to_do="write https://ADDRESS, with :PORT where it has one")


def _is_host(host: str) -> bool:
    if ":" in host or host.replace(".", "").isdecimal():
        try:
            ipaddress.ip_address(host.partition("%")[0])
        except ValueError:
            return False
        return True
    return bool(_HOST.match(host))
