"""A volume put first of what a server starts from, in the first way that the server offers.

The ways, best first: the order in the system's settings object, which comes into force at the next restart; the
system's own `BootOrder`; an override that names the option by its UEFI path, until further notice; the option as the
next start's only. Each is read back before it is called done.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum

from ..core.server.things import BootOption
from ..redfish.client import Client
from ..redfish.exchange import Body, RedfishError
from ..redfish.plain import link, part, text, texts
from .errors import WorkError
from .seen import Booting, booting
from .survey import one_system, survey

NOT_TAKEN = (400, 405, 501)
"""HTTP statuses of a server that does not take a change there."""


class Way(StrEnum):
    """How a volume was put first."""

    ORDER = "boot order"
    ORDER_AT_RESTART = "boot order, from the next restart on"
    OVERRIDE = "boot override"
    NEXT_START = "next start only"


@dataclass(frozen=True)
class Booted:
    """A volume put first: how, and the options in their order as they are read back."""

    server: str
    volume: str
    way: Way
    options: tuple[BootOption, ...]


def boot_from(client: Client, name: str, controller: str | None = None) -> Booted:
    """Put a volume first, and read that back. Raises WorkError where no way is offered, RedfishError where the server
    took it and is not so."""
    seen = survey(client)
    volume = seen.volume(name, controller)
    system = one_system(client)
    now = booting(client, system, seen.volumes)
    option = next((o for o in now.options if o.volume == volume.path), None)
    if option is None:
        what = f"{now.server}: its firmware offers no boot option for volume {name}"
        listed = ", ".join(o.shown for o in now.options) or "none"
        raise WorkError(what=what, to_do=f"options there: {listed}; restart it once, so that it sees the volume")
    for way in _ways(client, system, now, option):
        if way is not None:
            after = booting(client, client.get(now.path), seen.volumes)
            return Booted(now.server, volume.name, way, after.options)
    what = f"{now.server}: it takes no change of what it starts from over Redfish"
    raise WorkError(what=what, to_do="choose the volume in its own setup screens")


def _ways(client: Client, system: Body, now: Booting, option: BootOption) -> Iterator[Way | None]:
    """Each way that is offered, tried in turn: how it went, None for one that the server does not take."""
    boot = part(system, "Boot")
    order = [option.reference, *(o.reference for o in now.options if o != option)]
    settings = link(part(system, "@Redfish.Settings"), "SettingsObject")
    clear = _without_override(now)
    if settings and "BootOrder" in part(client.maybe(settings), "Boot"):
        yield _put(client, settings, {"BootOrder": order}, Way.ORDER_AT_RESTART)
    if "BootOrder" in boot:
        yield _put(client, now.path, {"BootOrder": order, **clear}, Way.ORDER)
    targets = texts(boot, "BootSourceOverrideTarget@Redfish.AllowableValues")
    if "UefiTarget" in targets and option.uefi_path:
        wish = {"BootSourceOverrideTarget": "UefiTarget", "BootSourceOverrideEnabled": "Continuous",
                "UefiTargetBootSourceOverride": option.uefi_path}  # fmt: skip
        yield _put(client, now.path, wish, Way.OVERRIDE)
    if "UefiBootNext" in targets:
        wish = {"BootSourceOverrideTarget": "UefiBootNext", "BootSourceOverrideEnabled": "Once",
                "BootNext": option.reference}  # fmt: skip
        yield _put(client, now.path, wish, Way.NEXT_START)


def _without_override(now: Booting) -> Body:
    """What ends an override until further notice, which would go before the order."""
    lasting = now.override is not None and not now.override.once
    return {"BootSourceOverrideEnabled": "Disabled"} if lasting else {}


def _put(client: Client, path: str, wish: Body, way: Way) -> Way | None:
    """One way: asked for, and read back. None where the server does not take it; raises RedfishError where it took it
    and is not so."""
    try:
        client.patch(path, {"Boot": wish})
    except RedfishError as reason:
        if reason.facts["status"] in NOT_TAKEN:
            return None
        raise
    told = part(client.get(path), "Boot")
    for key, value in wish.items():
        so = texts(told, key)[:1] == (value[0],) if isinstance(value, list) else text(told, key) == value
        if not so:
            what = f"{client.where}: it took the change, and its {key} is not as asked"
            raise RedfishError(what=what, to_do="look at its log: `log`", status=0, message_id="")
    return way
