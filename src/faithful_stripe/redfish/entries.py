"""The entries of a log, and no more of them than are wanted: those from a moment on, those that are not known yet.

An entry never changes once it is written, so one that was read is not read again. Of a log that is in order of time
(the ends of what it lists tell which way) entries are read from the newest on, until `BEYOND` in a row are older than
the moment that is asked for. A log whose order cannot be told is read whole.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from datetime import datetime
from itertools import islice

from .client import EXPANDED, Client, Missed, gap
from .exchange import Body, RedfishError

BEYOND = 6
"""Older entries in a row behind which nothing newer is looked for, and how many are read at the same time."""

PAGE = 50
"""Entries of a page that is asked for from the end of a log."""


def read_entries(
    client: Client, path: str, missed: Missed = gap, moment: float | None = None, known: Collection[str] = ()
) -> list[Body]:
    """The entries of one log in its own order. Raises RedfishError for what ends every reading.

    missed  hears of an entry or a page that cannot be read
    moment  seconds since 1970 by the server's clock; None for all entries
    known   paths of entries that are not wanted any more
    """
    if moment is None:
        listed = [m for page in client.pages(path, missed) for m in page["Members"]]
        return list(_read(client, _without(listed, known), missed))
    pages = client.pages(path, missed)
    first = next(pages, None)
    if first is None:
        return []
    listed = first["Members"]
    newest_first = _newest_first(client, listed, missed)
    if newest_first is None:
        rest = [m for page in pages for m in page["Members"]]
        return list(_read(client, [*listed, *rest], missed))
    if newest_first:
        everything = (m for page in _chained(first, pages) for m in page["Members"])
        return list(_until_older(client, everything, missed, moment))
    following = _from_the_end(client, path, first) or (
        m for m in reversed([m for page in _chained(first, pages) for m in page["Members"]])
    )
    return list(_until_older(client, following, missed, moment))[::-1]


def _chained(first: Body, rest: Iterator[Body]) -> Iterator[Body]:
    yield first
    yield from rest


def _without(listed: Sequence[Body], known: Collection[str]) -> list[Body]:
    return [m for m in listed if m.get("@odata.id") not in known]


def _newest_first(client: Client, listed: Sequence[Body], missed: Missed) -> bool | None:
    """Which way the entries of a page run; None where that cannot be told."""
    if len(listed) < 2:
        return None
    ends = list(_read(client, [listed[0], listed[-1]], missed))
    if len(ends) < 2:
        return None
    first, last = (_seconds(e) for e in ends)
    return None if first is None or last is None or first == last else first > last


def _from_the_end(client: Client, path: str, first: Body) -> Iterator[Body] | None:
    """The entries of a log whose oldest come first, from the newest on, where the server gives any part of it by
    `$skip` and `$top` (DSP0266 7.3.3) and says how many there are; None where it does not."""
    features = client.root.get("ProtocolFeaturesSupported")
    count = first.get("Members@odata.count")
    offered = isinstance(features, dict) and features.get("TopSkipQuery") is True
    if not offered or not isinstance(count, int) or count <= len(first["Members"]):
        return None

    def parts() -> Iterator[Body]:
        end, join = count, "&" if client.expands else "?"
        while end > 0:
            begin = max(0, end - PAGE)
            page = path + (EXPANDED if client.expands else "")
            members = client.get(f"{page}{join}$skip={begin}&$top={end - begin}").get("Members")
            yield from reversed(members if isinstance(members, list) else [])
            end = begin

    return parts()


def _until_older(client: Client, listed: Iterator[Body], missed: Missed, moment: float) -> Iterator[Body]:
    """Entries, newest first, until so many in a row are older."""
    while some := list(islice(listed, BEYOND)):
        found = list(_read(client, some, missed))
        yield from found
        times = [_seconds(e) for e in found]
        if len(some) == BEYOND and all(t is not None and t < moment for t in times):
            return


def _read(client: Client, listed: Sequence[Body], missed: Missed) -> Iterator[Body]:
    """Entries whole, those that are links only read several at a time."""
    links = [str(m["@odata.id"]) for m in listed if len(m) == 1 and "@odata.id" in m]
    client.ahead(links)
    for member in listed:
        if len(member) > 1 or "@odata.id" not in member:
            yield member
            continue
        path = str(member["@odata.id"])
        try:
            yield client.get(path)
        except RedfishError as reason:
            missed(path, reason)


def _seconds(entry: Body) -> float | None:
    """When an entry was written, in seconds since 1970; None where it does not tell."""
    try:
        return datetime.fromisoformat(str(entry.get("Created") or "")).timestamp()
    except (ValueError, OverflowError):
        return None
