"""What can be set on a controller, checked before it is changed."""

from __future__ import annotations

from collections.abc import Mapping

from . import jobs, members
from .controller import SETTINGS, Controller
from .errors import BadSetting

EXPECTED = {
    "rebuild_rate": "a whole number from 1 to 100 (per cent)",
    "check_rate": "a whole number from 1 to 100 (per cent)",
    "replacement": "automatic or by-hand",
    "copy_on_prediction": "true or false",
}


def change(controller: Controller, wanted: Mapping[str, object]) -> None:
    """Change settings, all or none; running work goes on at its new rate. Raises BadSetting."""
    for name, value in wanted.items():
        if not _fits(name, value):
            raise BadSetting(name=name, expected=EXPECTED[name], found=value)
    before = dict(controller.memory.settings)
    controller.memory.settings |= wanted
    changed = [f"{name} {value}" for name, value in controller.memory.settings.items() if before[name] != value]
    if changed:
        controller.event("settings changed", what=", ".join(changed))
        jobs.retime(controller)
        members.settle(controller)


def _fits(name: str, value: object) -> bool:
    if name == "replacement":
        return value in ("automatic", "by-hand")
    if isinstance(SETTINGS[name], bool):
        return isinstance(value, bool)
    return isinstance(value, int) and not isinstance(value, bool) and 1 <= value <= 100
