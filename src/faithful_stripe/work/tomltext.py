"""Values as TOML text."""

from __future__ import annotations


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
    escaped = "".join(c if c >= " " and c not in '"\\\x7f' else f"\\u{ord(c):04x}" for c in str(given))
    return f'"{escaped}"'
