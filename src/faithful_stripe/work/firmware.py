"""Firmware over Redfish: attributes with what waits for the restart, their roles, the restart, the boot order.

Which attribute serves which role on a server whose names nobody knows is found by the rules of ROLES: words in the
attribute's display name or name, and among its values. The first attribute that meets a rule has the role; a roles
file (TOML, `"storage mode" = "AttributeName"`) overrides it. `show` always tells which attribute it is.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from ..core.server.model import Server
from ..core.server.things import BootOption, Operation, Volume
from ..media.given import text_given, toml_of, why_not
from ..redfish.client import Client, gap
from ..redfish.exchange import Body, RedfishError
from ..redfish.plain import link, part, rows
from ..redfish.writers import LOOKS, PAUSE
from .errors import WorkError
from .remembered import remember, remember_names
from .seen import Override, booting
from .survey import one_system
from .update import BROKEN, GOING, VersionView, tasks, versions


@dataclass(frozen=True)
class Rule:
    """How a role is recognised: `words` all in the name that is shown; `values` among the values, as patterns."""

    role: str
    words: tuple[str, ...]
    values: tuple[str, ...] = ()


ROLES = (
    Rule("storage mode", (r"storage|disk|drive|sata|raid", r"mode|use|operation|config"), (r"raid",)),
    Rule("boot mode", (r"boot|start", r"mode|style|type"), (r"uefi",)),
    Rule("legacy support", (r"legacy|csm|compatib|old|option rom",), (r"disabled|off|no",)),
    Rule("secure boot", (r"secure|verified", r"boot|start")),
    Rule("drive remapping", (r"remap|mapping", r"drive|storage|nvme|disk")),
    Rule("slot lanes", (r"slot|riser", r"lane|width|bifurcat|split")),
    Rule("slot generation", (r"slot|riser", r"generation|speed|gen\b")),
)
"""In the order in which `show` lists them. Roles of slots may have several attributes."""


@dataclass(frozen=True)
class AttributeView:
    """One attribute: `pending` is what it will be after the restart, None where nothing waits."""

    name: str
    shown: str
    help: str
    kind: str
    values: tuple[tuple[str, str], ...]
    bounds: tuple[int, int] | None
    longest: int | None
    read_only: bool
    value: Any
    pending: Any = None
    role: str = ""
    needs: tuple[tuple[str, Any], ...] = ()

    @property
    def expected(self) -> str:
        """What may be written there, in words."""
        if self.values:
            return "one of " + ", ".join(name for name, _shown in self.values)
        if self.bounds:
            return f"a whole number from {self.bounds[0]} to {self.bounds[1]}"
        return "true or false" if self.kind == "Boolean" else "text"

    @property
    def will_be(self) -> Any:
        return self.value if self.pending is None else self.pending


@dataclass(frozen=True)
class Firmware:
    """A server's firmware: attributes in the registry's order, boot options in theirs.

    override  what is started instead of the first option; None where nothing is
    identity  what tells this server from every other one: its UUID, else its serial number with where it is
    """

    server: str
    attributes: tuple[AttributeView, ...]
    boot: tuple[BootOption, ...]
    settings_path: str
    system_path: str
    identity: str = ""
    override: Override | None = None

    def of(self, role: str) -> list[AttributeView]:
        """The attributes that serve a role."""
        return [a for a in self.attributes if a.role == role]

    def named(self, name: str) -> AttributeView:
        """The attribute with this name. Raises WorkError with the nearest ones."""
        for a in self.attributes:
            if a.name.lower() == name.lower():
                return a
        near = [a.name for a in self.attributes if name.lower()[:4] in a.name.lower() + a.shown.lower()]
        to_do = f"near it: {', '.join(near[:5])}" if near else "search with `firmware show --find WORD`"
        raise WorkError(what=f"{self.server}: there is no firmware attribute {name}", to_do=to_do)


def firmware(client: Client, roles: Path | None = None) -> Firmware:
    """Read attributes, registry, what waits, and the boot order. Raises WorkError where the server offers none."""
    system = one_system(client)
    name = str(system.get("Name") or system.get("Id"))
    if "Bios" not in system:
        what = f"{name}: this server shows no firmware attributes over Redfish"
        raise WorkError(what=what, to_do="use its own setup screens")
    bios = client.get(link(system, "Bios"))
    settings_path = str(((bios.get("@Redfish.Settings") or {}).get("SettingsObject") or {}).get("@odata.id") or "")
    settings = client.maybe(settings_path)
    entries, dependencies = _registry(client, str(bios.get("AttributeRegistry") or ""))
    values, waiting = part(bios, "Attributes"), part(settings, "Attributes")
    found = [_attribute(n, v, entries.get(n, {}), waiting, dependencies) for n, v in values.items()]
    order, starts = list(entries), booting(client, system)
    remember_names(client.where, attributes=[a.name for a in found])
    found.sort(key=lambda a: order.index(a.name) if a.name in order else len(order))
    return Firmware(
        server=name,
        attributes=tuple(with_roles(found, _overrides(roles))),
        boot=starts.options,
        override=starts.override,
        settings_path=settings_path,
        system_path=link(system),
        identity=str(system.get("UUID") or f"{system.get('SerialNumber') or ''}@{client.where}"),
    )


def _registry(client: Client, wanted: str) -> tuple[dict[str, Body], list[Body]]:
    """The attribute registry's entries by name and its dependencies; empty where the server has none."""
    if not wanted or "Registries" not in client.root:
        return {}, []
    for file in client.members(link(client.root, "Registries"), gap):
        if wanted in (file.get("Registry"), file.get("Id")):
            places = [p.get("Uri") for p in rows(file, "Location") if p.get("Uri")]
            if places:
                entries = client.maybe(str(places[0])).get("RegistryEntries") or {}
                named = {str(r["AttributeName"]): r for r in rows(entries, "Attributes") if "AttributeName" in r}
                return named, rows(entries, "Dependencies")
    return {}, []


def _attribute(
    name: str, value: Any, entry: Body, waiting: Mapping[str, Any], dependencies: Iterable[Body]
) -> AttributeView:
    low, high = entry.get("LowerBound"), entry.get("UpperBound")
    return AttributeView(
        name=name,
        shown=str(entry.get("DisplayName") or name),
        help=str(entry.get("HelpText") or ""),
        kind=str(entry.get("Type") or type(value).__name__),
        values=tuple(
            (str(v["ValueName"]), str(v.get("ValueDisplayName") or v["ValueName"]))
            for v in entry.get("Value") or []
            if "ValueName" in v
        ),
        bounds=(int(low), int(high)) if low is not None and high is not None else None,
        longest=entry.get("MaxLength"),
        read_only=bool(entry.get("ReadOnly")),
        value=value,
        pending=waiting[name] if name in waiting and waiting[name] != value else None,
        needs=tuple(_needs(name, dependencies)),
    )


def _needs(name: str, dependencies: Iterable[Body]) -> Iterator[tuple[str, Any]]:
    """(other attribute, value) that this one needs to be writable."""
    for row in dependencies:
        inner = row.get("Dependency") or {}
        if inner.get("MapToAttribute") == name and inner.get("MapToProperty") in ("ReadOnly", "GrayOut"):
            for condition in inner.get("MapFrom") or []:
                if condition.get("MapFromCondition") == "NEQ" and inner.get("MapToValue") is True:
                    yield str(condition.get("MapFromAttribute")), condition.get("MapFromValue")


def with_roles(found: Iterable[AttributeView], overrides: Mapping[str, str]) -> list[AttributeView]:
    """Attributes with the roles they serve, by ROLES and what a person says otherwise."""
    given = {name: role for role, name in overrides.items()}
    taken = set(overrides)
    made = []
    for a in found:
        role = given.get(a.name, "")
        for rule in () if role else ROLES:
            several = rule.role.startswith("slot")
            if (several or rule.role not in taken) and rule.role not in overrides and _meets(a, rule):
                role = rule.role
                taken.add(role)
                break
        made.append(replace(a, role=role))
    return made


def _meets(a: AttributeView, rule: Rule) -> bool:
    shown = f"{a.shown} {a.name}".lower()
    values = [f"{name} {text}".lower() for name, text in a.values]
    named = all(re.search(word, shown) for word in rule.words)
    return named and all(any(re.search(word, value) for value in values) for word in rule.values)


def _overrides(path: Path | None) -> dict[str, str]:
    if path is None:
        return {}
    known = [rule.role for rule in ROLES]
    try:
        given = toml_of(text_given(path))
    except (OSError, ValueError) as reason:
        raise WorkError(
            what=f"{path}: the roles cannot be read: {why_not(reason)}", to_do="give a TOML file"
        ) from reason
    for role, name in given.items():
        if role not in known or not isinstance(name, str):
            what = f"{path}: {role} = {name!r}: expected one of the roles with an attribute name"
            raise WorkError(what=what, to_do=f"roles: {', '.join(known)}")
    return given


# setting ----------------------------------------------------------------------------------------


def parse(found: Firmware, pairs: Iterable[str]) -> dict[str, Any]:
    """NAME=VALUE as values of the registry's types, checked before anything is sent. Raises WorkError."""
    wanted: dict[str, Any] = {}
    for pair in pairs:
        name, equals, text = pair.partition("=")
        if not equals:
            raise WorkError(what=f"{pair!r} sets nothing", to_do="write NAME=VALUE")
        a = found.named(name.strip())
        if a.read_only:
            raise WorkError(what=f"{a.name} ({a.shown}) can only be read", to_do="leave it out")
        wanted[a.name] = _value(a, text.strip())
    will_be = {a.name: a.will_be for a in found.attributes} | wanted
    for name in wanted:
        for other, value in found.named(name).needs:
            if will_be.get(other) != value and wanted[name] != found.named(name).value:
                what = f"{name} can only be set while {other} is {value} (it will be {will_be.get(other)})"
                raise WorkError(what=what, to_do=f"set {other}={value} along with it")
    return wanted


def _value(a: AttributeView, text: str) -> Any:
    if a.values:
        for name, shown in a.values:
            if text.lower() in (name.lower(), shown.lower()):
                return name
    elif a.kind == "Boolean" and text.lower() in ("true", "false", "yes", "no", "on", "off"):
        return text.lower() in ("true", "yes", "on")
    elif a.kind == "Integer" and re.fullmatch(r"-?\d+", text):
        if a.bounds is None or a.bounds[0] <= int(text) <= a.bounds[1]:
            return int(text)
    elif a.kind not in ("Boolean", "Integer") and (a.longest is None or len(text) <= a.longest):
        return text
    raise WorkError(what=f"{a.name} ({a.shown}): {text!r} cannot be", to_do=f"expected {a.expected}; nothing was sent")


@dataclass(frozen=True)
class Effect:
    """What values will bring about; `bad`: something that a person should think about first."""

    words: str
    bad: bool = False


def effects(found: Firmware, wanted: Mapping[str, Any], volumes: Iterable[Volume]) -> list[Effect]:
    """What values will bring about."""
    says = []
    will_be = {a.name: a.will_be for a in found.attributes} | dict(wanted)
    for a in found.of("storage mode"):
        raid = _is(a, will_be[a.name], "raid")
        if a.name in wanted and raid != _is(a, a.value, "raid"):
            listed = ", ".join(v.name for v in volumes)
            gone = f" ({listed} will not be offered)" if listed else ""
            offered = "controllers will offer volumes" if raid else f"controllers will offer no volumes{gone}"
            says.append(Effect(offered, bad=not raid))
    uefi = any(_is(a, will_be[a.name], "uefi") for a in found.of("boot mode"))
    legacy = [a for a in found.of("legacy support") if _is(a, will_be[a.name], "enabled|on|yes|true")]
    if uefi and legacy and any(found.named(n).role in ("boot mode", "legacy support") for n in wanted):
        what = f"{legacy[0].name} ({legacy[0].shown}) stays on: it may pull the boot mode back at the restart"
        says.append(Effect(what, bad=True))
    return says


def _is(a: AttributeView, value: Any, word: str) -> bool:
    shown = next((text for name, text in a.values if name == value), str(value))
    return re.search(word, f"{value} {shown}".lower()) is not None


def set_attributes(client: Client, found: Firmware, wanted: Mapping[str, Any]) -> Firmware:
    """Send values that wait for the next restart, and read back that they do. Raises RedfishError where the server took
    them and they do not."""
    if not found.settings_path:
        what = f"{found.server}: its firmware attributes cannot be changed over Redfish"
        raise WorkError(what=what, to_do="use its own setup screens")
    client.patch(found.settings_path, {"Attributes": dict(wanted)})
    remember(found.identity, wanted)
    for look in range(LOOKS):
        now = firmware(client)
        told = {name: now.named(name) for name in wanted}  # a password is never told
        lost = [n for n, value in wanted.items() if told[n].will_be != value and told[n].kind != "Password"]
        if not lost:
            return now
        if look + 1 < LOOKS:
            client.wait(PAUSE)
    what = f"{found.server}: it took the change, and does not tell that {', '.join(lost)} will be as asked"
    raise RedfishError(what=what, to_do="look again: `firmware show`", status=0, message_id="")


# restarting -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Outcome:
    """One setting after the restart: what was asked, what it is."""

    name: str
    shown: str
    before: Any
    asked: Any
    now: Any

    @property
    def kept(self) -> bool:
        return bool(self.asked == self.now)


@dataclass(frozen=True)
class NewVersion:
    """A part whose firmware is another one after the restart, or should be: `waited` is what was to run."""

    name: str
    before: str
    waited: str
    now: str


@dataclass(frozen=True)
class Restarted:
    """What the restart has changed; `broken`: tasks that ran before it and did not end as they should."""

    settings: tuple[Outcome, ...]
    versions: tuple[NewVersion, ...]
    broken: tuple[str, ...] = ()


def restart(client: Client, tell: Callable[[str], None], patience: float = 900.0, pause: float = 2.0) -> Restarted:
    """Restart the server, wait until it is back, and read again what waited or has changed.

    Settings that nobody asked about but that are others now are outcomes too. Raises WorkError when the server takes
    no restart, or is not back in time (`patience` seconds).
    """
    before, ran = firmware(client), _versions(client)
    going = {t.path for t in tasks(client) if t.state in GOING}
    system = client.get(before.system_path)
    reset = (system.get("Actions") or {}).get("#ComputerSystem.Reset") or {}
    allowed = reset.get("ResetType@Redfish.AllowableValues") or ["GracefulRestart"]
    kind = next((k for k in ("GracefulRestart", "ForceRestart", "PowerCycle", "On") if k in allowed), None)
    if "target" not in reset or kind is None:
        raise WorkError(
            what=f"{before.server}: it takes no restart over Redfish", to_do="restart it at its own console"
        )
    client.post(str(reset.get("target") or ""), {"ResetType": kind})
    _wait(client, before, tell, patience, pause)
    after = {a.name: a for a in firmware(client).attributes}
    outcomes = []
    for a in before.attributes:
        now = after[a.name].value if a.name in after else None
        if a.pending is not None or now != a.value:
            outcomes.append(Outcome(a.name, a.shown, a.value, a.will_be, now))
    runs = _versions(client)
    changed = [
        NewVersion(v.name, v.version, v.waiting or "", runs[path].version)
        for path, v in ran.items()
        if path in runs and (v.waiting or runs[path].version != v.version)
    ]
    broken = tuple(t.name for t in tasks(client) if t.path in going and t.state in BROKEN)
    return Restarted(tuple(outcomes), tuple(changed), broken)


def _versions(client: Client) -> dict[str, VersionView]:
    """Firmware versions by path; none where the server does not tell them."""
    try:
        return {v.path: v for v in versions(client)}
    except WorkError:
        return {}


def _wait(client: Client, before: Firmware, tell: Callable[[str], None], patience: float, pause: float) -> None:
    """Until the power is on and the start is over; a server that does not answer meanwhile is waited for."""
    until, last = time.monotonic() + patience, ""
    while time.monotonic() < until:
        try:
            system = client.get(before.system_path)
            power = str(system.get("PowerState") or "On")
            progress = str((system.get("BootProgress") or {}).get("LastState") or "OSRunning")
            state = f"power {power.lower()}, {progress}"
            if power == "On" and progress in ("OSRunning", "OSBootStarted"):
                return
        except RedfishError as reason:
            state = "no answer" if reason.facts["status"] in (0, 503) else reason.what
        if state != last:
            tell(state)
            last = state
        time.sleep(pause)
    what = f"{before.server}: it was restarted and is not back after {patience:.0f} s ({last})"
    raise WorkError(what=what, to_do="look at its console; `firmware show` reads the settings when it is back")


def working(seen: Server) -> list[Operation]:
    """Work that a restart would interrupt."""
    return [w for v in seen.volumes for w in v.work]
