"""The firmware of the simulated server: attributes, what waits for the next restart, the boot order.

What a setting does. `DiskControllerUse` decides whether controllers offer volumes at all. `OldOptionRoms` pulls
`StartupStyle` back to Legacy at every restart, and says nothing about it: real firmware has such pairs. Secure boot
is off whenever the boot mode is not UEFI. Slot settings limit the lanes and the generation of the card in the slot.
"""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, field
from functools import lru_cache
from importlib import resources
from typing import TYPE_CHECKING, Any

from . import errors
from .state import State

if TYPE_CHECKING:
    from .session import Session

BOOT_SECONDS = 90.0
"""Bench seconds from a restart until the system runs again."""

NETWORK = "Network"
"""The boot option that is always there."""


@dataclass(frozen=True)
class Attribute:
    """One attribute as the registry describes it; `values` by name, with what each is called."""

    name: str
    kind: str
    shown: str
    help: str
    value: Any
    values: dict[str, str] = field(default_factory=dict)
    least: int = 0
    most: int = 0
    longest: int = 0
    read_only: bool = False
    writable_when: dict[str, str] = field(default_factory=dict)

    def expected(self) -> str:
        """What may be written there, in words."""
        if self.kind == "Enumeration":
            return "one of " + ", ".join(self.values)
        if self.kind == "Integer":
            return f"a whole number from {self.least} to {self.most}"
        return "true or false" if self.kind == "Boolean" else f"at most {self.longest} characters"

    def fits(self, value: object) -> bool:
        if self.kind == "Enumeration":
            return value in self.values
        if self.kind == "Boolean":
            return isinstance(value, bool)
        if self.kind == "Integer":
            return isinstance(value, int) and not isinstance(value, bool) and self.least <= value <= self.most
        return isinstance(value, str) and len(value) <= self.longest


@lru_cache(maxsize=1)
def registry() -> dict[str, Attribute]:
    """All attributes, by name."""
    text = resources.files("faithful_stripe.bench").joinpath("data", "firmware.toml").read_text("utf-8")
    return {name: Attribute(name, **row) for name, row in tomllib.loads(text).items() if isinstance(row, dict)}


def current(state: State) -> dict[str, Any]:
    """Every attribute's value as it is in force."""
    return {name: state.firmware.get(name, attribute.value) for name, attribute in registry().items()}


def ask(state: State, wanted: dict[str, Any]) -> None:
    """Note values for the next restart, all or none. Raises BadAttribute."""
    will_be = current(state) | state.pending | wanted
    for name, value in wanted.items():
        attribute = registry().get(name)
        if attribute is None:
            raise errors.BadAttribute(name=name, what="there is no such attribute", advice="`firmware show` lists them")
        if attribute.read_only:
            raise errors.BadAttribute(name=name, what="it can only be read", advice="leave it out")
        if not attribute.fits(value):
            what = f"expected {attribute.expected()}, found {value!r}"
            raise errors.BadAttribute(name=name, what=what, advice="nothing was changed")
        for other, needed in attribute.writable_when.items():
            if will_be[other] != needed and value != attribute.value:
                what = f"it can only be set while {other} is {needed}"
                raise errors.BadAttribute(name=name, what=what, advice=f"set {other}={needed} along with it")
    in_force = current(state)
    state.pending = {name: v for name, v in (state.pending | wanted).items() if in_force[name] != v}


def ask_factory(state: State) -> None:
    """Note the values of the factory for the next restart."""
    in_force = current(state)
    given = {name: a.value for name, a in registry().items() if not a.read_only}
    state.pending = {name: value for name, value in given.items() if in_force[name] != value}


def restart(state: State, now: float) -> None:
    """What a restart does to the settings: those that wait come into force, and some pull others back."""
    state.firmware |= state.pending
    state.pending = {}
    now_set = current(state)
    if now_set["OldOptionRoms"] == "Enabled" and now_set["StartupStyle"] == "Uefi":
        state.firmware["StartupStyle"] = "Legacy"
    if current(state)["StartupStyle"] != "Uefi":
        state.firmware["VerifiedStart"] = "Disabled"
    state.boot_until = now + BOOT_SECONDS
    if state.boot_override.get("enabled") == "Once":
        state.boot_override = {}


def offers_volumes(state: State) -> bool:
    """Whether the controllers combine drives: storage mode RAID."""
    return bool(current(state)["DiskControllerUse"] == "Raid")


@dataclass(frozen=True)
class Link:
    """A card's PCIe link: what is in use, what the card can do."""

    slot: str
    lanes: int
    generation: int
    most_lanes: int
    most_generation: int


def link(state: State, controller: str) -> Link:
    """The link of a controller: the slot's settings and wiring, and the card, whichever is less."""
    facts = state.controllers[controller].facts
    number, now = facts["slot"], current(state)
    lanes = int(str(now[f"Slot{number}Width"])[1:])
    generation = int(str(now[f"Slot{number}Speed"])[3:])
    return Link(
        f"Slot {number}",
        min(lanes, facts["lanes"]),
        min(generation, facts["generation"]),
        facts["lanes"],
        facts["generation"],
    )


def look_around(session: Session) -> list[dict[str, Any]]:
    """The disks that the system's firmware finds as it starts: volumes that can be used, else every single drive."""
    if not offers_volumes(session.state):
        return [
            {"controller": name, "name": f"{d.vendor} {d.model}", "size": d.size, "guid": "", "serial": d.serial}
            for name, controller in session.controllers.items()
            for d in controller.here()
            if d.works
        ]
    return [
        {"controller": name, "name": v.name, "size": v.geometry.volume_bytes, "guid": v.guid.strip(), "serial": ""}
        for name, controller in session.controllers.items()
        for v in controller.memory.volumes.values()
        if controller.margin(v) >= 0 and controller.initializing(v) != "foreground"
    ]


# boot options -----------------------------------------------------------------------------------


def boot_options(state: State) -> list[str]:
    """References of everything that could be started, in order: volumes by GUID, the network."""
    volumes = [v.guid.strip() for c in state.controllers.values() for v in c.volumes.values()]
    there = [*volumes, NETWORK] if offers_volumes(state) else [NETWORK]
    kept = [reference for reference in state.boot_order if reference in there]
    return [*kept, *(reference for reference in there if reference not in kept)]


TARGETS, ENABLED, MODES = (
    ("None", "Hdd", "Pxe", "Cd", "Usb", "BiosSetup"),
    ("Disabled", "Once", "Continuous"),
    ("UEFI",),
)
"""What a server can be made to start from past its boot order, for how long, and how: words of Redfish."""


def check_override(wish: dict[str, Any]) -> None:
    """Raise BadAttribute for what a boot override cannot be."""
    for name, value in wish.items():
        known = {"target": TARGETS, "enabled": ENABLED, "mode": MODES}[name]
        if value not in known:
            what = f"{value!r} is not possible for the boot override"
            raise errors.BadAttribute(name=name, what=what, advice=f"known: {', '.join(known)}")


def override(state: State, wish: dict[str, Any]) -> None:
    """Have the server start from something else than the first of its boot order, once or until further notice."""
    check_override(wish)
    now = {"enabled": "Disabled", "target": "None", "mode": "UEFI"} | state.boot_override | wish
    if wish.get("target") == "None":
        now["enabled"] = "Disabled"
    if wish.get("enabled") == "Disabled":
        now["target"] = "None"
    state.boot_override = {} if now["enabled"] == "Disabled" else now


def set_boot_order(state: State, order: list[str]) -> None:
    """Change the boot order; options that are not named follow as they were. Raises BadAttribute."""
    known = boot_options(state)
    for reference in order:
        if reference not in known or order.count(reference) > 1:
            what = f"{reference!r} is not a boot option, or is named twice"
            raise errors.BadAttribute(name="BootOrder", what=what, advice=f"known: {', '.join(known)}")
    state.boot_order = [*order, *(r for r in known if r not in order)]
