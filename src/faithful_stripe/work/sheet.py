"""Build sheets: how a server is to be set up, as a readable TOML file. Read and checked here, written from a survey.

The shape is a JSON Schema that ships beside this file; every complaint names the file, the line and the key.
"""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from importlib import resources
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator
from jsonschema.exceptions import ValidationError

from ..core.server.model import Server
from ..core.server.things import UseKind, Volume
from ..core.server.unknown import UNKNOWN, known
from ..core.units import parse_size
from ..media.given import text_given, toml_of, why_not
from .errors import WorkError
from .firmware import Firmware
from .tomltext import toml_value as value
from .volumes import VolumeWish

FORMAT = "faithful-stripe/sheet/1"


@dataclass(frozen=True)
class SpareWish:
    """A hot spare: its drive by bay or serial, the volumes it is for (none: any)."""

    drive: str
    names: tuple[str, ...] = ()
    revertible: bool = True


@dataclass(frozen=True)
class Sheet:
    """A server as it is to be; what is not said is left as it is."""

    server: str = ""
    firmware: dict[str, Any] = field(default_factory=dict)
    controllers: dict[str, dict[str, Any]] = field(default_factory=dict)
    volumes: tuple[VolumeWish, ...] = ()
    spares: tuple[SpareWish, ...] = ()
    boot: str = ""
    remove_others: bool = False
    may_restart: bool = True

    @property
    def drives(self) -> set[str]:
        """Every drive that is named, by bay or serial as it is written."""
        return {d for v in self.volumes for d in v.drives} | {s.drive for s in self.spares}


@lru_cache(maxsize=1)
def schema() -> dict[str, Any]:
    """The JSON Schema of a sheet."""
    text = resources.files("faithful_stripe.work").joinpath("sheet.schema.json").read_text("utf-8")
    return dict(json.loads(text))


def read_sheet(path: Path) -> Sheet:
    """Read and check a sheet. Raises WorkError naming file, line, key and what is allowed."""
    try:
        text = text_given(path)
    except (OSError, UnicodeDecodeError) as reason:
        raise WorkError(
            what=f"{path}: it cannot be read: {why_not(reason)}", to_do="name a build sheet (TOML)"
        ) from reason
    try:
        document = toml_of(text)
    except tomllib.TOMLDecodeError as reason:
        raise WorkError(what=f"{path}: not TOML: {reason}", to_do="correct the sheet") from reason
    found = [_explained(wrong) for wrong in Draft202012Validator(schema()).iter_errors(document)]
    if found:
        at, what = min(found, key=lambda one: (line_of(text, one[0]), len(one[0]), str(one[0])))
        raise _complaint(path, text, at, what + (f" (and {len(found) - 1} more)" if len(found) > 1 else ""))
    sheet = _sheet(document)
    for at, what in _contradictions(sheet, document):
        raise _complaint(path, text, at, what)
    return sheet


def _sheet(document: dict[str, Any]) -> Sheet:
    volumes = [_volume(entry) for entry in document.get("volume", [])]
    for entry in document.get("single", []):
        volumes += [VolumeWish(f"{entry['name']}-{d}", "SPAN", (d,), 65536) for d in entry["drives"]]
    spares = [
        SpareWish(s["drive"], tuple(s.get("for", ())), s.get("revertible", True)) for s in document.get("spare", [])
    ]
    return Sheet(
        server=document.get("server", ""),
        firmware=document.get("firmware", {}),
        controllers=document.get("controller", {}),
        volumes=tuple(volumes),
        spares=tuple(spares),
        boot=document.get("boot", ""),
        remove_others=document.get("others") == "remove",
        may_restart=document.get("restart") != "never",
    )


def _volume(entry: dict[str, Any]) -> VolumeWish:
    spans = entry.get("spans")
    drives = [d for span in spans for d in span] if spans else entry["drives"]
    return VolumeWish(
        name=entry["name"],
        level=entry["level"],
        drives=tuple(drives),
        strip=parse_size(entry.get("strip", "64KiB")),
        spans=len(spans) if spans else None,
        size=parse_size(entry["size"]) if "size" in entry else None,
        copies=entry.get("mirrors_of"),
        **{
            key: entry[key]
            for key in ("rotation", "data", "q_place", "q_exponent", "mixed", "initialize", "controller",
                        "read_cache", "write_cache")
            if key in entry
        },
    )  # fmt: skip


def _contradictions(sheet: Sheet, document: dict[str, Any]) -> Iterator[tuple[list[str | int], str]]:
    """What no schema can say: names that are there twice, or not at all."""
    names = [(v.controller, v.name) for v in sheet.volumes]
    for i, entry in enumerate(document.get("volume", [])):
        if names.count((entry.get("controller"), entry["name"])) > 1:
            yield ["volume", i, "name"], f"the name {entry['name']!r} is there twice"
        if "spans" in entry and len({len(span) for span in entry["spans"]}) > 1:
            yield ["volume", i, "spans"], "every span needs as many drives"
    known = [v.name for v in sheet.volumes]
    if sheet.boot and sheet.boot not in known:
        yield ["boot"], f"expected one of the volumes {', '.join(known) or '(none)'}, found {sheet.boot!r}"
    for i, spare in enumerate(sheet.spares):
        for name in spare.names:
            if name not in known:
                yield ["spare", i, "for"], f"expected volumes of this sheet ({', '.join(known)}), found {name!r}"


# complaints -------------------------------------------------------------------------------------


def _complaint(path: Path, text: str, at: Sequence[str | int], what: str) -> WorkError:
    where = ".".join(str(part + 1) if isinstance(part, int) else part for part in at) or "the sheet"
    return WorkError(what=f"{path}, line {line_of(text, at)}, {where}: {what}", to_do="correct the sheet")


def _explained(wrong: ValidationError) -> tuple[list[str | int], str]:
    """The place and the complaint in plain words."""
    at, kind, found = list(wrong.absolute_path), wrong.validator, wrong.instance
    rule: Any = wrong.validator_value
    if kind == "enum":
        return at, f"expected one of {', '.join(map(str, rule))}, found {found!r}"
    if kind == "const":
        return at, f"expected {rule!r}, found {found!r}"
    if kind == "additionalProperties" and isinstance(found, dict):
        known = list((wrong.schema if isinstance(wrong.schema, dict) else {}).get("properties", {}))
        strange = next((key for key in found if key not in known), "")
        return [*at, strange], f"not a key; known: {', '.join(known)}"
    if kind == "required" and isinstance(found, dict):
        missing = next((key for key in rule if key not in found), "")
        return at, f"the key {missing} is missing"
    if kind == "oneOf":
        return at, "give either drives, or spans for a nested level"
    if kind == "type":
        words = {"string": "text", "integer": "a whole number", "boolean": "true or false", "array": "a list",
                 "object": "a table"}  # fmt: skip
        kinds = [rule] if isinstance(rule, str) else list(rule)
        return at, f"expected {' or '.join(words.get(k, k) for k in kinds)}, found {found!r}"
    if kind == "pattern":
        example = "a size such as 64KiB or 4TB" if at and at[-1] in ("strip", "size") else "letters, digits, - and _"
        return at, f"expected {example}, found {found!r}"
    if kind in ("minimum", "maximum"):
        rules = wrong.schema if isinstance(wrong.schema, dict) else {}
        return at, f"expected {rules.get('minimum')} to {rules.get('maximum')}, found {found!r}"
    return at, wrong.message


def line_of(text: str, at: Sequence[str | int]) -> int:
    """The line of a TOML text on which a key stands, or the nearest thing above it.

    at  keys and list positions from the top, such as ["volume", 1, "level"]
    """
    table: list[str | int] = []
    counted: dict[str, int] = {}
    best, best_length = 1, 0
    for number, line in enumerate(text.splitlines(), 1):
        head = re.match(r"\s*(\[\[?)\s*([^\]]+?)\s*\]", line)
        key = re.match(r"""\s*("[^"]*"|'[^']*'|[A-Za-z0-9_-]+)\s*=""", line)
        if head:
            table = list[str | int](part.strip("\"'") for part in head[2].split("."))
            if head[1] == "[[":
                counted[head[2]] = counted.get(head[2], -1) + 1
                table.append(counted[head[2]])
            here: list[str | int] = table
        elif key:
            here = [*table, key[1].strip("\"'")]
        else:
            continue
        if len(here) > best_length and list(at[: len(here)]) == here:
            best, best_length = number, len(here)
    return best


# writing ----------------------------------------------------------------------------------------


def as_sheet(seen: Server, firmware: Firmware | None) -> str:
    """The present set-up as the text of a sheet: built again it changes nothing."""
    lines = [
        f"# {seen.server} as it was on {seen.time[:10]}: a build sheet. What it does not say is left as it is.",
        f"format = {value(FORMAT)}",
        f"server = {value(seen.server)}",
    ]
    boots = next((v.name for v in seen.volumes if v.boots is True), "")
    if boots:
        lines.append(f"boot = {value(boots)}")
    roles = [a for a in firmware.attributes if a.role and not a.read_only] if firmware else []
    if roles:
        lines += ["", "[firmware]", *(f"{value_key(a.name)} = {value(a.value)}  # {a.role}" for a in roles)]
    for c in seen.controllers:
        told = {"rebuild_rate": c.rebuild_rate, "check_rate": c.check_rate, "replacement": c.replacement,
                "copy_on_prediction": c.copy_on_prediction}  # fmt: skip
        if any(v is not UNKNOWN for v in told.values()):
            lines += ["", f"[controller.{value_key(c.id)}]"]
            lines += [f"{key} = {value(v)}" for key, v in told.items() if v is not UNKNOWN]
    several = len(seen.controllers) > 1
    for v in seen.volumes:
        lines += ["", "[[volume]]", *_volume_lines(v, several)]
    for d in seen.drives:
        if d.spare is True:
            names = [u.volume for u in d.used_as(UseKind.DEDICATED_SPARE) if u.volume]
            lines += ["", "[[spare]]", f"drive = {value(d.bay)}  # {d.serial}"]
            lines += [f"for = {value(names)}"] if names else []
            lines += ["revertible = false"] if d.spare_reverts is False else []
    return "\n".join(lines) + "\n"


def _volume_lines(v: Volume, several: bool) -> Iterator[str]:
    homes = [m.stands_in or m.bay for m in v.seats]
    yield f"name = {value(v.name)}"
    yield f"level = {value(known(v.level, ''))}"
    if several:
        yield f"controller = {value(v.controller)}"
    if v.spans > 1:
        width = len(homes) // v.spans
        yield f"spans = {value([homes[i : i + width] for i in range(0, len(homes), width)])}"
    else:
        yield f"drives = {value(homes)}"
    yield f"# serials: {', '.join(str(m.serial) for m in v.seats)}"
    if v.strip is not UNKNOWN:
        yield f"strip = {value(_exact(v.strip))}"
    if v.size is not UNKNOWN:
        yield f"size = {value(f'{v.size} B')}"
    for key, word in (("rotation", v.rotation), ("data", v.data), ("q_place", v.q_place),
                      ("q_exponent", v.q_exponent), ("mirrors_of", v.copies if v.level == "RAID10" else None),
                      ("read_cache", known(v.read_cache, None)),
                      ("write_cache", known(v.write_cache, None))):  # fmt: skip
        if word:
            yield f"{key} = {value(word)}"


def _exact(size: int) -> str:
    return f"{size >> 10}KiB" if size % 1024 == 0 else f"{size} B"


def value_key(name: str) -> str:
    """A TOML key: bare where it may be."""
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else value(name)
