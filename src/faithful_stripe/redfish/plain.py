"""Typed facts out of JSON that others wrote: each is of its type, or `UNKNOWN`; nothing here raises."""

from __future__ import annotations

import math
from collections.abc import Iterator

from ..core.server.things import Condition, Health
from ..core.server.unknown import UNKNOWN, Maybe
from .names import OEM, Body


def body_of(value: object) -> Body:
    """A JSON object; empty for anything else."""
    return value if isinstance(value, dict) else {}


def part(body: object, *names: str) -> Body:
    """The object under a chain of names; empty where there is none."""
    for name in names:
        body = body_of(body).get(name)
    return body_of(body)


def rows(body: object, name: str) -> list[Body]:
    """The objects of a list; those entries that are none are left out."""
    found = body_of(body).get(name)
    return [row for row in found if isinstance(row, dict)] if isinstance(found, list) else []


def text(body: object, *names: str) -> Maybe[str]:
    """The first of these that is a text and not blank."""
    for name in names:
        found = body_of(body).get(name)
        if isinstance(found, str) and found.strip():
            return found.strip()
    return UNKNOWN


def number(body: object, name: str) -> Maybe[float]:
    """A finite number; texts that spell one count, too."""
    found = body_of(body).get(name)
    if isinstance(found, str):
        try:
            found = float(found)
        except ValueError:
            return UNKNOWN
    if isinstance(found, bool) or not isinstance(found, int | float):
        return UNKNOWN
    try:
        return float(found) if math.isfinite(found) else UNKNOWN
    except OverflowError:
        return UNKNOWN


def whole(body: object, name: str, least: int = 0) -> Maybe[int]:
    """A whole number that is not below `least`."""
    found = body_of(body).get(name)
    if isinstance(found, int) and not isinstance(found, bool):  # not by way of a float: sizes have many digits
        return found if least <= found < 1 << 80 else UNKNOWN
    other = number(body, name)
    if other is UNKNOWN or other != int(other) or other < least:
        return UNKNOWN
    return int(other)


def flag(body: object, name: str) -> Maybe[bool]:
    """True or false, and nothing else."""
    found = body_of(body).get(name)
    return found if isinstance(found, bool) else UNKNOWN


def texts(body: object, name: str) -> tuple[str, ...]:
    """The texts of a list."""
    found = body_of(body).get(name)
    return tuple(t for t in found if isinstance(t, str)) if isinstance(found, list) else ()


def link(body: object, *names: str) -> str:
    """The path that a reference under these names leads to; "" where there is none."""
    found = part(body, *names).get("@odata.id")
    return found if isinstance(found, str) else ""


def links(body: object, *names: str) -> tuple[str, ...]:
    """The paths of a list of references."""
    found = part(body, *names[:-1])
    return tuple(path for row in rows(found, names[-1]) if (path := link(row)))


def path_of(body: object) -> str:
    """A resource's own path; "" where it does not tell."""
    return link(body)


def last_of(path: str) -> str:
    """The last part of a path."""
    return path.rstrip("/").rpartition("/")[2]


def ours(body: object) -> Body:
    """What stands under our own key of `Oem`."""
    return part(body, "Oem", OEM)


def health(body: object, name: str = "Health") -> Maybe[Health]:
    """A health by the standard's words; any other word is not known."""
    found = part(body, "Status").get(name)
    return Health(found) if isinstance(found, str) and found in [h.value for h in Health] else UNKNOWN


def state(body: object) -> Maybe[str]:
    """`Status.State`; a `Status` that is a plain text is taken as that."""
    found = body_of(body).get("Status")
    return found if isinstance(found, str) and found else text(found, "State")


def conditions(body: object) -> tuple[Condition, ...]:
    """What a resource's `Status` says of its trouble."""
    return tuple(_condition(row) for row in rows(part(body, "Status"), "Conditions"))


def _condition(row: Body) -> Condition:
    severity = row.get("Severity")
    known = severity if isinstance(severity, str) and severity in [h.value for h in Health] else None
    message = text(row, "Message")
    resolution = text(row, "Resolution")
    identity = text(row, "MessageId")
    return Condition(
        Health(known) if known else UNKNOWN,
        "" if message is UNKNOWN else message,
        "" if resolution is UNKNOWN else resolution,
        "" if identity is UNKNOWN else identity,
    )


def ranges(found: list[Body], start: str = "StartByte", length: str = "LengthBytes") -> Iterator[tuple[int, int]]:
    """(start, end) of a list of objects with a start and a length in bytes; those without are left out."""
    for row in found:
        a, n = whole(row, start), whole(row, length)
        if a is not UNKNOWN and n is not UNKNOWN and n:
            yield a, a + n
