"""Driver description files (INF): version, architectures, lowest system build and hardware ids of a driver package.

The format is a public one: sections in brackets, `key = value` lines, strings from [Strings] between per cent signs.
A [Manufacturer] line names a models section and its target systems, `nt[architecture][.major[.minor[...[.build]]]]`.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date

from .declared import FormatError


@dataclass(frozen=True)
class Target:
    """A system that a driver is for: architecture ("amd64", "x86", "arm64") and lowest build, 0 for any."""

    architecture: str
    build: int


@dataclass(frozen=True)
class Driver:
    """What an INF file says. `ids`: hardware ids in capitals, by the targets for which they are listed."""

    name: str
    kind: str
    dated: date | None
    version: tuple[int, ...]
    ids: tuple[tuple[Target, str], ...]

    @property
    def version_text(self) -> str:
        return ".".join(map(str, self.version)) or "unknown"


def parse(name: str, data: bytes) -> Driver:
    """Read an INF file, UTF-16 with its mark or an 8-bit code. Raises FormatError when it is none."""
    marked = data[:2] in (b"\xff\xfe", b"\xfe\xff")
    try:
        text = data.decode("utf-16" if marked else "utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    sections = _sections(text)
    version = dict(_pairs(sections.get("version", [])))
    if version.get("signature", "").strip('"').lower() not in ("$windows nt$", "$chicago$", "$windows 95$"):
        raise FormatError(what=f"{name}: no [Version] section with a signature", to_do="it is no driver description")
    strings = {key: value.strip('"') for key, value in _pairs(sections.get("strings", []))}
    dated, number = _driver_version(_filled(version.get("driverver", ""), strings))
    return Driver(
        name=name,
        kind=_filled(version.get("class", ""), strings),
        dated=dated,
        version=number,
        ids=tuple(_ids(sections, strings)),
    )


def _sections(text: str) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    current = found.setdefault("", [])
    for line in text.splitlines():
        line = line.split(";")[0].strip() if '"' not in line else line.strip()
        match = re.fullmatch(r"\[\s*([^\]]+?)\s*\].*", line)
        if match:
            current = found.setdefault(match[1].lower(), [])
        elif line:
            current.append(line)
    return found


def _pairs(lines: list[str]) -> list[tuple[str, str]]:
    split = [line.partition("=") for line in lines]
    return [(key.strip().lower(), value.strip()) for key, equals, value in split if equals]


def _filled(text: str, strings: dict[str, str]) -> str:
    return re.sub(r"%([^%]+)%", lambda m: strings.get(m[1].strip().lower(), m[0]), text).strip().strip('"')


def _driver_version(text: str) -> tuple[date | None, tuple[int, ...]]:
    """From `mm/dd/yyyy,1.2.3.4`."""
    day, _comma, number = text.partition(",")
    match = re.fullmatch(r"\s*(\d{1,2})[/-](\d{1,2})[/-](\d{4})\s*", day)
    try:
        dated = date(int(match[3]), int(match[1]), int(match[2])) if match else None
    except ValueError:
        dated = None
    return dated, tuple(int(part) for part in re.findall(r"\d+", number.split(";")[0])[:4])


def _ids(sections: dict[str, list[str]], strings: dict[str, str]) -> list[tuple[Target, str]]:
    found = []
    for _maker, value in _pairs(sections.get("manufacturer", [])):
        models, *systems = [part.strip() for part in value.split(",")]
        for system in systems or [""]:
            section = f"{models}.{system}".lower() if system else models.lower()
            for _device, line in _pairs(sections.get(section, [])):
                ids = [_filled(part.strip(), strings) for part in line.split(",")[1:]]
                found += [(_target(system), i.upper()) for i in ids if i]
    return found


def _target(system: str) -> Target:
    """Of a decoration such as `NTamd64.10.0...14393`."""
    parts = system.lower().split(".")
    architecture = parts[0].removeprefix("nt") or "x86"
    build = int(parts[5]) if len(parts) > 5 and parts[5].isdecimal() else 0
    return Target(architecture, build)
