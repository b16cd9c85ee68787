"""A live server's likeness as values: what a bench needs to be like it, with its set-up and without its data.

Bays, drives, controllers, volumes with the states of their members, spares and firmware settings come from the survey;
what a survey cannot tell (a drive's pace, which slot a card is in) is filled in with what is usual, and said so.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ..core.server.model import Drive, Server, Volume
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
    absent    serial numbers of drives that failed or are gone
    """

    text: str
    volumes: tuple[Volume, ...]
    spares: tuple[tuple[str, tuple[str, ...], bool], ...]
    failed: tuple[str, ...]
    predicted: tuple[str, ...]
    firmware: dict[str, Any]
    guessed: tuple[str, ...]


def likeness(client: Client, cupboard: Sequence[Item] = ()) -> Likeness:
    """The likeness of a server, with what lies in the cupboard beside it.

    Raises WorkError where its volumes cannot be made again.
    """
    seen = survey(client)
    for v in seen.volumes:
        if not v.ordered:
            what = f"{seen.server} does not tell the members' order of volume {v.name}"
            raise WorkError(what=what, to_do="a likeness of it cannot be made")
    try:
        settings = {a.name: a.value for a in fw.firmware(client).attributes if not a.read_only}
    except WorkError:
        settings = {}
    drives = [d for d in seen.drives if d.serial]
    lost = [(m.bay, m.serial) for v in seen.volumes for m in v.members if m.state == "lost"]
    here = {d.serial for d in drives}
    ghosts = [(bay, serial) for bay, serial in dict.fromkeys(lost) if serial not in here]
    return Likeness(
        text=_text(seen, drives, ghosts, cupboard),
        volumes=tuple(sorted(seen.volumes, key=lambda v: v.path)),
        spares=tuple((d.serial, d.spare_for, d.spare_reverts) for d in drives if d.spare),
        failed=tuple(dict.fromkeys([d.serial for d in drives if d.health == "Critical"] + [s for _b, s in lost])),
        predicted=tuple(d.serial for d in drives if d.predicted),
        firmware=settings,
        guessed=("the drives' pace", "the controllers' slots", "firmware settings that a bench does not have"),
    )


def _text(seen: Server, drives: list[Drive], ghosts: list[tuple[str, str]], cupboard: Sequence[Item]) -> str:
    lines = ['format = "faithful-stripe/bench/1"', "", "[server]"]
    maker, model = seen.maker or "unknown", seen.model or "unknown"
    facts = {"name": seen.server, "maker": maker, "model": model, "serial": seen.serial or "unknown",
             "firmware": seen.firmware or "unknown", "bays": ",".join(d.bay for d in seen.drives)}  # fmt: skip
    lines += [f"{key} = {toml_value(value)}" for key, value in facts.items()]
    lines.append(f"panel = {toml_value([','.join(row) for row in seen.panel])}")
    for number, c in enumerate(seen.controllers):
        bays = ",".join(d.bay for d in seen.drives if d.controller == c.id)
        told = {"id": c.id, "maker": maker, "model": c.name.removeprefix(maker).strip() or "unknown",
                "serial": c.serial or "unknown",
                "firmware": c.firmware or "unknown", "bays": bays, "rebuild_rate": c.rebuild_rate or 60,
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
    mates = {m.serial: v for v in seen.volumes for m in v.members}
    for d in drives:
        lines.append(f"{d.bay} = {{ model = {toml_value(kinds[_kind(d)])}, serial = {toml_value(d.serial)} }}")
    for bay, serial in ghosts:  # drives that are gone: like their fellow members, to be pulled once the volume stands
        others = [d for d in drives if mates.get(serial) and d.serial in [m.serial for m in mates[serial].members]]
        like = min(others or drives, key=lambda d: d.size)
        if not any(d.bay == bay for d in drives) and bay in [d.bay for d in seen.drives]:
            lines.append(f"{bay} = {{ model = {toml_value(kinds[_kind(like)])}, serial = {toml_value(serial)} }}")
    return "\n".join(lines) + "\n"


def _loose(item: Item, drives: list[Drive]) -> dict[str, Any]:
    """A drive of the cupboard as a model: like a seated one of the same part, else as its line says."""
    twin = next((d for d in drives if d.part and d.part in item.parts), None)
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
        "vendor": d.vendor or "unknown", "model": d.model or "unknown", "part": d.part or "unknown", "size": d.size,
        "media": d.media or "HDD", "protocol": d.protocol or "SAS", "rpm": d.rpm or 0, "sector": d.sector or 512,
        "rate": PACES.get(d.media, 215), "firmware": d.firmware or "unknown",
    }  # fmt: skip
