"""Volumes as DDF records on a set of drives describe them: level, layout, and which drive stands where."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from .ddf import SECTOR, Config, Metadata
from .ddf_records import stated_layout


@dataclass(frozen=True)
class Described:
    """A volume that records describe. Sizes in bytes.

    positions  for each position the number of the drive that says it stands there; None where none of these does
    carriers   the drives that carry its records; outdated: those whose records are older than the newest
    layout     as `stated_layout` gives it
    """

    name: str
    strip: int
    starts: tuple[int, ...]
    extent: int
    layout: dict[str, Any]
    positions: tuple[int | None, ...]
    carriers: tuple[int, ...]
    outdated: tuple[int, ...]


def described(told: Sequence[Metadata | None]) -> list[Described]:
    """The volumes in the records of some drives (None for one that carries none), each by its newest records."""
    carriers: dict[bytes, list[tuple[int, list[Config]]]] = {}
    for number, one in enumerate(told):
        for guid in dict.fromkeys(c.fields["guid"] for c in one.configs) if one else ():
            assert one is not None
            mine = sorted((c for c in one.configs if c.fields["guid"] == guid), key=_span)
            carriers.setdefault(guid, []).append((number, mine))
    return [_described(told, group) for group in carriers.values()]


def _span(config: Config) -> int:
    return int(config.fields["span"])


def _described(told: Sequence[Metadata | None], group: list[tuple[int, list[Config]]]) -> Described:
    newest = max(group, key=lambda g: (g[1][0].fields["sequence"], -g[0]))
    number, spans = newest
    first, here = spans[0].fields, told[number]
    assert here is not None
    entry = next((v for v in here.volumes if v["guid"] == first["guid"]), {"name": b""})
    by_reference: dict[int, int] = {}
    for n, _configs in group:
        one = told[n]
        assert one is not None
        by_reference.setdefault(one.drive["reference"], n)
    return Described(
        name=entry["name"].rstrip(b" \0").decode("ascii", "replace") or "unnamed",
        strip=SECTOR << min(first["strip"], 16),
        starts=tuple(s * SECTOR for c in spans for s in c.starts),
        extent=first["extent"] * SECTOR,
        layout=stated_layout(spans),
        positions=tuple(by_reference.get(r) for c in spans for r in c.references),
        carriers=tuple(n for n, _configs in group),
        outdated=tuple(n for n, configs in group if configs[0].fields["sequence"] < first["sequence"]),
    )
