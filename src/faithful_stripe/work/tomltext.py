"""Values as TOML text."""

from __future__ import annotations

import os
from typing import Any
from urllib.parse import quote, unquote_to_bytes

RAW = "bytes:"
"""Before the name of a file that is no UTF-8, its bytes in hexadecimal after percent signs, which TOML can hold."""


def toml_value(given: object) -> str:
    """A given as TOML; None as an empty text, which stands for a missing member."""
    if given is None:
        return '""'
    if isinstance(given, bool):
        return "true" if given else "false"
    if isinstance(given, int | float):
        return repr(given)
    if isinstance(given, list | tuple):
        return "[" + ", ".join(toml_value(v) for v in given) + "]"
    if isinstance(given, dict):
        return "{ " + ", ".join(f"{k} = {toml_value(v)}" for k, v in given.items()) + " }"
    if any("\ud800" <= c <= "\udfff" for c in str(given)) or str(given).startswith(RAW):
        return f'"{RAW}{quote(os.fsencode(str(given)))}"'
    escaped = "".join(c if c >= " " and c not in '"\\\x7f' else f"\\u{ord(c):04x}" for c in str(given))
    return f'"{escaped}"'


def from_toml(value: Any) -> Any:
    """A value of a parsed document, names of files as the system knows them."""
    if isinstance(value, str):
        return os.fsdecode(unquote_to_bytes(value[len(RAW) :])) if value.startswith(RAW) else value
    if isinstance(value, list):
        return [from_toml(v) for v in value]
    if isinstance(value, dict):
        return {key: from_toml(v) for key, v in value.items()}
    return value
