"""Bench descriptions: the TOML file that says what server a new bench is."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from importlib import resources
from pathlib import Path
from typing import Any

from ..media.given import text_given, toml_of, why_not
from . import firmware
from .controller import SETTINGS
from .errors import BadAttribute, BenchError
from .state import Drive, Memory, State

FORMAT = "faithful-stripe/bench/1"

SERIAL = r"[A-Za-z0-9][A-Za-z0-9-]{0,31}"
"""What a serial number may be: it is the name of a file, too."""

_SERVER = {
    "name": str, "maker": str, "model": str, "serial": str, "firmware": str, "bays": str, "panel": list,
    "hot_swap": bool,
}  # fmt: skip
_CONTROLLER = {
    "id": str, "maker": str, "model": str, "serial": str, "firmware": str, "bays": str, "rebuild_rate": int,
    "slot": int, "lanes": int, "generation": int, "pci": str,
}  # fmt: skip
_MODEL = {
    "vendor": str, "model": str, "part": str, "size": int, "media": str, "protocol": str, "rpm": int,
    "sector": int, "rate": int, "firmware": str,
}  # fmt: skip
_PLACED = {"model": str, "serial": str, "hours": int, "predicted": bool}


SHIPPED = ("skerry", "skerry-2", "skerry-new")
"""Descriptions that come with the program, by name; the first is taken where none is named."""


def description_text(wanted: Path | None) -> tuple[str, str]:
    """Name and text of a description: a file, or one of those that come with the program. Raises BenchError."""
    name = str(wanted) if wanted is not None else SHIPPED[0]
    if name in SHIPPED and not Path(name).is_file():
        return name, resources.files("faithful_stripe.bench").joinpath("data", f"{name}.toml").read_text("utf-8")
    try:
        return name, text_given(Path(name))
    except (OSError, UnicodeDecodeError) as reason:
        to_do = f"check the file ({why_not(reason)}), or name one that comes with the program: {', '.join(SHIPPED)}"
        raise BenchError(bench=name, what="the description cannot be read", to_do=to_do) from reason


def read_description(wanted: Path | None, now: float) -> State:
    """The state of a new bench from a description.

    now  bench and wall seconds at which its clock starts
    Raises BenchError naming the file, the table and the key that is wrong.
    """
    name, text = description_text(wanted)
    try:
        document = toml_of(text)
    except tomllib.TOMLDecodeError as reason:
        raise BenchError(bench=name, what=f"not TOML: {reason}", to_do="correct the file") from reason
    return _Reader(name).state(document, now)


def bay_labels(text: str) -> list[str]:
    """Labels of a list such as `1-16` or `4,5,7-9`; ranges of whole numbers, anything else as it stands.

    >>> bay_labels("4,6-8")
    ['4', '6', '7', '8']
    """
    labels: list[str] = []
    for part in (piece.strip() for piece in text.split(",")):
        match = re.fullmatch(r"(\d+)-(\d+)", part)
        if match and int(match[1]) <= int(match[2]) < int(match[1]) + 1000:
            labels += [str(n) for n in range(int(match[1]), int(match[2]) + 1)]
        elif part:
            labels.append(part)
    return labels


class _Reader:
    """Checks a description while turning it into a state; every complaint names its place."""

    def __init__(self, name: str) -> None:
        self.name = name

    def state(self, document: dict[str, Any], now: float) -> State:
        if document.get("like") in SHIPPED:
            base = toml_of(description_text(Path(document.pop("like")))[1])
            document = {k: base[k] | v if isinstance(v, dict) and k in base else v for k, v in document.items()} | {
                k: v for k, v in base.items() if k not in document
            }
        if document.get("format") != FORMAT:
            raise self._wrong("format", f"expected {FORMAT!r}, found {document.get('format')!r}")
        server = self._table({"hot_swap": True} | self._found(document, "server"), "server", _SERVER)
        bays = bay_labels(server.pop("bays"))
        server["panel"] = [bay_labels(str(row)) for row in server["panel"]]
        if sorted(bay for row in server["panel"] for bay in row) != sorted(bays):
            raise self._wrong("server.panel", "expected every bay once, row by row")
        server["links"] = self._links(document, bays)
        controllers = self._controllers(document, bays)
        models = {key: self._model(entry, f"model.{key}") for key, entry in document.get("model", {}).items()}
        state = State(server, bays, (now, now), controllers)
        try:
            firmware.ask(state, self._found({"firmware": {}} | document, "firmware"))
        except BadAttribute as reason:
            raise self._wrong("firmware", reason.what) from reason
        firmware.restart(state, now - firmware.BOOT_SECONDS)
        for bay, entry in document.get("seated", {}).items():
            if bay not in bays:
                raise self._wrong(f"seated.{bay}", f"expected one of the bays {', '.join(bays)}")
            self._place(state, models, entry, f"seated.{bay}", bay)
        for i, entry in enumerate(document.get("stock", [])):
            self._place(state, models, entry, f"stock {i + 1}", None)
        return state

    def _links(self, document: dict[str, Any], bays: list[str]) -> dict[str, float]:
        """[links]: bays whose wiring carries less than a drive can do, in Gbit/s."""
        found = self._found({"links": {}} | document, "links")
        for bay, rate in found.items():
            if bay not in bays or not isinstance(rate, int | float) or isinstance(rate, bool) or rate <= 0:
                raise self._wrong(f"links.{bay}", f"expected a bay and Gbit/s above 0, found {rate!r}")
        return {bay: float(rate) for bay, rate in found.items()}

    def _controllers(self, document: dict[str, Any], bays: list[str]) -> dict[str, Memory]:
        made: dict[str, Memory] = {}
        left = list(bays)
        for i, entry in enumerate(document.get("controller", [])):
            if isinstance(entry, dict):
                entry = {"slot": i + 1, "lanes": 8, "generation": 3, "pci": "ffff:0041"} | entry
            facts = self._table(entry, f"controller {i + 1}", _CONTROLLER)
            name, rate = facts["id"], facts.pop("rebuild_rate")
            if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9.-]{0,31}", name) or name in made:
                raise self._wrong(f"controller {i + 1}.id", "expected 1 to 32 letters, digits, dots, dashes, each once")
            if f"Slot{facts['slot']}Width" not in firmware.registry() or not 1 <= facts["generation"] <= 4:
                raise self._wrong(f"controller {name}.slot", "expected slot 1 or 2, generation 1 to 4")
            if not re.fullmatch(r"[0-9a-f]{4}:[0-9a-f]{4}", facts["pci"]):
                raise self._wrong(f"controller {name}.pci", "expected vendor and device, such as ffff:0041")
            if not 1 <= rate <= 100:
                raise self._wrong(f"controller {name}.rebuild_rate", f"expected 1 to 100 per cent, found {rate}")
            facts["bays"] = bay_labels(facts["bays"])
            for bay in facts["bays"]:
                if bay not in left:
                    raise self._wrong(f"controller {name}", f"bay {bay} is not a bay of the server, or named twice")
                left.remove(bay)
            made[name] = Memory(facts, SETTINGS | {"rebuild_rate": rate})
        if not made:
            raise self._wrong("controller", "expected at least one table [[controller]], found none")
        if left:
            raise self._wrong("controller", f"bays {', '.join(left)} belong to no controller")
        return made

    def _found(self, document: dict[str, Any], key: str) -> dict[str, Any]:
        value = document.get(key)
        if not isinstance(value, dict):
            raise self._wrong(key, "expected a table, found none")
        return value

    def _table(self, value: object, where: str, keys: Mapping[str, type]) -> dict[str, Any]:
        if not isinstance(value, dict):
            raise self._wrong(where, "expected a table, found none")
        for key in value:
            if key not in keys:
                raise self._wrong(f"{where}.{key}", f"not a key; known: {', '.join(keys)}")
        for key, kind in keys.items():
            found = value.get(key)
            if not isinstance(found, kind) or (isinstance(found, bool) and kind is not bool):
                raise self._wrong(f"{where}.{key}", f"expected {kind.__name__}, found {found!r}")
        return dict(value)

    def _model(self, value: object, where: str) -> dict[str, Any]:
        model = self._table(value, where, _MODEL)
        if model["media"] not in ("SSD", "HDD"):
            raise self._wrong(f"{where}.media", f"expected SSD or HDD, found {model['media']!r}")
        if model["sector"] not in (512, 4096) or model["size"] <= 0 or model["size"] % model["sector"]:
            raise self._wrong(f"{where}.size", "expected a whole number of sectors of 512 or 4096 bytes")
        if model["rate"] <= 0:
            raise self._wrong(f"{where}.rate", "expected a rate above 0 MB/s")
        return model | {"rate": model["rate"] * 1_000_000, "rpm": model["rpm"] or None}

    def _place(self, state: State, models: dict[str, Any], entry: object, where: str, bay: str | None) -> None:
        known = {"hours": 0, "predicted": False}
        placed = self._table(known | entry if isinstance(entry, dict) else entry, where, _PLACED)
        if placed["model"] not in models:
            raise self._wrong(f"{where}.model", f"expected one of {', '.join(models)}, found {placed['model']!r}")
        serial = placed["serial"]
        if not re.fullmatch(SERIAL, serial):
            raise self._wrong(f"{where}.serial", "expected 1 to 32 letters, digits or dashes")
        if serial in state.drives:
            raise self._wrong(f"{where}.serial", f"{serial} is there twice")
        place = "" if bay else "stock"
        drive = state.drives[serial] = Drive(serial=serial, **models[placed["model"]], bay=bay, place=place)
        drive.hours, drive.predicted = placed["hours"], placed["predicted"]
        drive.gbps = state.negotiated(drive)

    def _wrong(self, where: str, what: str) -> BenchError:
        return BenchError(bench=self.name, what=f"{where}: {what}", to_do="correct the description")
