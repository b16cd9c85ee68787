"""A live server's likeness as values: what a bench needs to be like it, with its set-up and without its data.

Bays, drives, controllers, volumes with the states of their members, spares and firmware settings come from the survey;
what a survey cannot tell (a drive's pace, which slot a card is in) is filled in with what is usual, and said so.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ..core.server.model import Server
from ..core.server.redundancy import Answers, answers
from ..core.server.things import Drive, SeatState, UseKind, Volume
from ..core.server.unknown import UNKNOWN, known
from ..redfish.client import Client
from . import firmware as fw
from .errors import WorkError
from .stock import OFFERED, Item
from .survey import survey
from .tomltext import toml_value

PACES = {"HDD": 215, "SSD": 510}
"""MB/s of a drive where nobody tells: of large spinning ones and of SATA's solid state."""


@dataclass(frozen=True)
class Likeness:
    """A bench description (TOML) and the steps that make the set-up on it; `guessed` says what was filled in.

    volumes   in the order in which they are to be made
    failed    serial numbers of drives that failed or are gone
    unreadable    (serial number, start, length) of what cannot be read on a drive, in bytes
    inconsistent  (controller, volume, ranges) that a check found and nobody has repaired or accepted, in bytes
    """

    text: str
    volumes: tuple[Volume, ...]
    spares: tuple[tuple[str, tuple[str, ...], bool], ...]
    failed: tuple[str, ...]
    predicted: tuple[str, ...]
    unreadable: tuple[tuple[str, int, int], ...]
    inconsistent: tuple[tuple[str, str, tuple[tuple[int, int], ...]], ...]
    firmware: dict[str, Any]
    guessed: tuple[str, ...]


def likeness(client: Client, cupboard: Sequence[Item] = ()) -> Likeness:
    """The likeness of a server, with what lies in stock beside it.

    Raises WorkError where its volumes cannot be made again.
    """
    seen = survey(client)
    for v in seen.volumes:
        if not v.ordered:
            what = f"{seen.server} does not tell the members' order of volume {v.name}"
            raise WorkError(what=what, to_do="a likeness of it cannot be created")
    try:
        settings = {a.name: a.value for a in fw.firmware(client).attributes if not a.read_only}
    except WorkError:
        settings = {}
    drives = [d for d in seen.drives if d.seated]
    for d in drives:
        if d.serial is UNKNOWN or d.size is UNKNOWN:
            what = f"{seen.server} does not tell {'serial number' if d.serial is UNKNOWN else 'size'} of bay {d.bay}"
            raise WorkError(what=what, to_do="a likeness of it cannot be created")
    lost = [(s.bay, s.serial) for v in seen.volumes for s in v.seats
            if s.state is SeatState.MISSING and s.serial is not UNKNOWN]  # fmt: skip
    here = {d.serial for d in drives if d.serial is not UNKNOWN}
    ghosts = [(bay, serial) for bay, serial in dict.fromkeys(lost) if serial not in here]
    return Likeness(
        text=_text(seen, drives, ghosts, cupboard),
        volumes=tuple(sorted(seen.volumes, key=lambda v: v.path)),
        spares=tuple(
            (str(d.serial), tuple(u.volume for u in d.used_as(UseKind.DEDICATED_SPARE)), d.spare_reverts is not False)
            for d in drives
            if d.spare is True
        ),
        failed=tuple(
            dict.fromkeys([str(d.serial) for d in drives if answers(d) is not Answers.YES] + [s for _b, s in lost])
        ),
        predicted=tuple(str(d.serial) for d in drives if d.predicted is True),
        unreadable=tuple((str(d.serial), a, b - a) for d in drives for a, b in known(d.unreadable, ())),
        inconsistent=tuple((v.controller, v.name, v.inconsistent) for v in seen.volumes if v.inconsistent),
        firmware=settings,
        guessed=("the drives' pace", "the controllers' slots", "firmware settings that a bench does not have"),
    )


def _text(seen: Server, drives: list[Drive], ghosts: list[tuple[str, str]], cupboard: Sequence[Item]) -> str:
    lines = ['format = "faithful-stripe/bench/1"', "", "[server]"]
    maker, model = known(seen.maker, "unknown"), known(seen.model, "unknown")
    facts = {"name": seen.server, "maker": maker, "model": model, "serial": known(seen.serial, "unknown"),
             "firmware": known(seen.firmware, "unknown"), "bays": ",".join(d.bay for d in seen.drives)}  # fmt: skip
    lines += [f"{key} = {toml_value(value)}" for key, value in facts.items()]
    if seen.hot_swap is False:
        lines.append("hot_swap = false")
    lines.append(f"panel = {toml_value([','.join(row) for row in seen.panel])}")
    for number, c in enumerate(seen.controllers):
        bays = ",".join(d.bay for d in seen.drives if d.controller == c.id)
        told = {"id": c.id, "maker": maker, "model": known(c.name, "").removeprefix(maker).strip() or "unknown",
                "serial": known(c.serial, "unknown"),
                "firmware": known(c.firmware, "unknown"), "bays": bays, "rebuild_rate": known(c.rebuild_rate, 60),
                "slot": 1 + number % 2}  # fmt: skip
        lines += ["", "[[controller]]", *(f"{key} = {toml_value(value)}" for key, value in told.items())]
    kinds: dict[tuple[Any, ...], str] = {}
    for d in drives:
        kinds.setdefault(_kind(d), f"kind-{len(kinds) + 1}")
    for d in drives:
        name = kinds[_kind(d)]
        if f"[model.{name}]" not in lines:
            lines += ["", f"[model.{name}]", *(f"{key} = {toml_value(value)}" for key, value in _model(d).items())]
    loose = [i for i in cupboard if i.serial not in {d.serial for d in drives} and i.condition in OFFERED]
    for number, item in enumerate(loose, 1):
        lines += ["", f"[model.loose-{number}]", *(f"{k} = {toml_value(v)}" for k, v in _loose(item, drives).items())]
        lines += ["", "[[stock]]", f'model = "loose-{number}"', f"serial = {toml_value(item.serial)}"]
    lines += ["", "[seated]"]
    mates = {s.serial: v for v in seen.volumes for s in v.seats}
    for d in drives:
        lines.append(f"{d.bay} = {{ model = {toml_value(kinds[_kind(d)])}, serial = {toml_value(d.serial)} }}")
    for bay, serial in ghosts:  # drives that are gone: like their fellow members, to be pulled once the volume stands
        others = [d for d in drives if mates.get(serial) and d.path in [s.drive for s in mates[serial].seats]]
        like = min(others or drives, key=lambda d: known(d.size, 0))
        if not any(d.bay == bay for d in drives) and bay in [d.bay for d in seen.drives]:
            lines.append(f"{bay} = {{ model = {toml_value(kinds[_kind(like)])}, serial = {toml_value(serial)} }}")
    return "\n".join(lines) + "\n"


def _loose(item: Item, drives: list[Drive]) -> dict[str, Any]:
    """A drive in stock as a model: like a seated one of the same part, else as its line says."""
    twin = next((d for d in drives if d.part is not UNKNOWN and d.part in item.parts), None)
    if twin:
        return _model(twin)
    return {
        "vendor": "unknown", "model": item.model or "unknown", "part": " ".join(item.parts) or "unknown",
        "size": item.size // item.sector * item.sector, "media": item.media, "protocol": item.protocol or "SAS",
        "rpm": item.rpm or 0, "sector": item.sector, "rate": PACES.get(item.media, 215), "firmware": "unknown",
    }  # fmt: skip


def _kind(d: Drive) -> tuple[Any, ...]:
    return d.vendor, d.model, d.part, d.size, d.media, d.protocol, d.rpm, d.sector, d.firmware


def _model(d: Drive) -> dict[str, Any]:
    return {
        "vendor": known(d.vendor, "unknown"), "model": known(d.model, "unknown"), "part": known(d.part, "unknown"),
        "size": d.size, "media": known(d.media, "HDD"), "protocol": known(d.protocol, "SAS"), "rpm": known(d.rpm, 0),
        "sector": known(d.sector, 512), "rate": PACES.get(known(d.media, "HDD"), 215),
        "firmware": known(d.firmware, "unknown"),
    }  # fmt: skip
