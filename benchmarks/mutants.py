"""Inputs made wrong: text, values in documents, and answers of a server, by a random number generator that can be
seeded."""

from __future__ import annotations

import json
import random
from typing import Any

NUMBERS = ("-1", "0", "1e309", "-1e309", "nan", "inf", "9" * 30, "9" * 5000, "0x10", "1_0", "-0.0", "1e18", "2.5")
WORDS = (
    "", " ", "null", "T\r\nFAKE LINE: Nothing needs attention.", "\u202ertl", "\0", "x" * 70_000, "../../etc/passwd",
    "%s%n{0}{}", "\ud800", "NaN", "1e999", "/dev/zero", "-", "'", '"', "\\", "\N{SNOWMAN}", "[bold]", "<script>",
)  # fmt: skip
VALUES: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 2**63, 10**400, 1.5, float("nan"), float("inf"), -0.0, [], {}, [None], [[]],
    {"": None}, [{}], {"@odata.id": None}, {"@odata.id": 5}, {"@odata.id": "/redfish/v1/"}, *WORDS,
)  # fmt: skip


def text(given: str, rng: random.Random) -> bytes:
    """A text with a few places changed: characters, numbers, lines, quotes, what is no UTF-8."""
    return data(given.encode("utf-8", "surrogatepass"), rng)


def data(given: bytes, rng: random.Random) -> bytes:
    """Bytes with a few places changed."""
    made = bytearray(given)
    for _ in range(rng.choice((1, 1, 1, 2, 5))):
        kind, at = rng.randrange(9), rng.randrange(len(made) + 1)
        if kind == 0:
            made[at:at] = rng.choice(WORDS).encode("utf-8", "surrogatepass")
        elif kind == 1 and made:
            made[min(at, len(made) - 1)] ^= 1 << rng.randrange(8)
        elif kind == 2:
            del made[at : at + rng.choice((1, 1, 7, 100, 10_000))]
        elif kind == 3:
            made[at:at] = rng.randbytes(rng.choice((1, 4, 60)))
        elif kind == 4:
            places = [i for i, c in enumerate(made) if 48 <= c <= 57 and (i == 0 or not 48 <= made[i - 1] <= 57)]
            if places:
                first = last = rng.choice(places)
                while last < len(made) and 48 <= made[last] <= 57:
                    last += 1
                made[first:last] = rng.choice(NUMBERS).encode()
        elif kind == 5:
            lines = bytes(made).split(b"\n")
            one, other = rng.randrange(len(lines)), rng.randrange(len(lines))
            lines[one], lines[other] = lines[other], lines[one]
            if rng.randrange(2):
                lines[one:one] = [lines[other]]
            made = bytearray(b"\n".join(lines))
        elif kind == 6:
            made[at:at] = rng.choice((b"[" * 2000, b"{" * 2000, b"[[", b"]]", b"{", b"}", b'"', b"'''", b"=", b","))
        elif kind == 7:
            del made[at:]
        else:
            words = [w for w in bytes(made).split() if w]
            if words:
                made = made.replace(rng.choice(words), rng.choice(words), 1)
    return bytes(made)


def value(given: Any, rng: random.Random) -> Any:
    """A document with one of its values replaced, taken out, or put elsewhere."""
    places = list(_places(given, ()))
    if not places:
        return rng.choice(VALUES)
    where = rng.choice(places)
    made = json.loads(json.dumps(given))
    inner = made
    for key in where[:-1]:
        inner = inner[key]
    kind = rng.randrange(8)
    if kind == 0:
        del inner[where[-1]]
    elif kind == 1:
        inner[where[-1]] = [inner[where[-1]]]
    elif kind == 2:
        inner[where[-1]] = {"Members": inner[where[-1]]}
    elif kind == 3:
        other = made
        for key in rng.choice(places):
            other = other[key]
        inner[where[-1]] = json.loads(json.dumps(other))
    elif kind == 4 and isinstance(inner[where[-1]], int | float | str):
        inner[where[-1]] = str(inner[where[-1]]) + rng.choice(("", " ", "\n", "x"))
    else:
        inner[where[-1]] = rng.choice(VALUES)
    return made


def _places(given: Any, path: tuple[Any, ...]) -> Any:
    if path:
        yield path
    if isinstance(given, dict):
        for key in given:
            yield from _places(given[key], (*path, key))
    elif isinstance(given, list):
        for index in range(len(given)):
            yield from _places(given[index], (*path, index))
