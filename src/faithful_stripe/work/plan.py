"""From a build sheet to the steps that bring a server to it: the difference, in the order in which it is carried out.

A volume is known by its name at its controller. One that is there under that name and is another (level, members,
strip, layout, size) is never removed by itself: it must be named with `replace`.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from ..core.server.condition import State, judge_volume
from ..core.server.model import Server
from ..core.server.things import Controller, Drive, UseKind, Volume
from ..core.server.unknown import UNKNOWN, known
from ..core.units import binary_size, decimal_size
from ..redfish.client import Client
from . import firmware as fw
from .errors import WorkError
from .sheet import Sheet, SpareWish
from .survey import Paths, find, survey
from .volumes import VolumePlan, VolumeWish, plan_on, with_planned, without


@dataclass(frozen=True)
class Step:
    """One step: what is done in words (`lines`: in particular), what is lost by it, the drives it takes, and what
    carries it out.

    kind  "settings", "restart", "controller", "unspare", "remove", "make", "caches", "spare", "boot"
    """

    kind: str
    what: str
    lost: tuple[str, ...] = ()
    serials: tuple[str, ...] = ()
    detail: Any = None
    lines: tuple[str, ...] = ()


@dataclass(frozen=True)
class BuildPlan:
    """The steps in their order; `notes` are differences that no step mends, with what would."""

    server: str
    steps: tuple[Step, ...]
    notes: tuple[str, ...] = ()

    @property
    def lost(self) -> list[str]:
        return [text for step in self.steps for text in step.lost]

    @property
    def serials(self) -> list[str]:
        """Of every drive that is taken or emptied, each once."""
        return list(dict.fromkeys(serial for step in self.steps for serial in step.serials))

    @property
    def done(self) -> bool:
        """Whether the server is as the sheet says."""
        return not self.steps and not self.notes


@dataclass
class _Making:
    """The plan as it grows, and the server as it will be after the steps so far.

    others  names of volumes that are there and are not those of the sheet
    again   dedicated spares that are made so again, since their volume is made anew
    """

    sheet: Sheet
    seen: Server
    paths: Paths
    replaced: frozenset[str]
    steps: list[Step] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    others: set[str] = field(default_factory=set)
    again: list[SpareWish] = field(default_factory=list)


def plan_build(client: Client, sheet: Sheet, replaced: Sequence[str] = ()) -> BuildPlan:
    """The difference between a server and a sheet, changing nothing.

    replaced  names of volumes that may be removed and made anew because they differ
    Raises WorkError, GeometryError, saying what in the sheet cannot be had here.
    """
    seen = survey(client)
    if sheet.server and sheet.server != seen.server:
        what = f"the sheet is for {sheet.server}, this is {seen.server}"
        raise WorkError(what=what, to_do="name the right server, or the right sheet; nothing was changed")
    for name in replaced:
        if name not in [v.name for v in sheet.volumes]:
            raise WorkError(what=f"--replace {name}: the sheet has no such volume", to_do="check the name")
    made = _Making(sheet, seen, find(client), frozenset(replaced))
    direct = any(not c.offers_volumes for c in seen.controllers)
    waits = _settings(client, made)
    if waits or (direct and sheet.volumes):
        if direct and not waits:
            what = f"{seen.server}: its controllers offer no volumes, and the sheet does not change that"
            raise WorkError(what=what, to_do="write the storage mode into its [firmware] table")
        _restart(made, "the settings take effect")
    for name, wanted in sheet.controllers.items():
        _controller(made, name, wanted)
    _volumes(made)
    _spares(made)
    _beyond(made)
    _last_restart(made)
    _boot(made)
    return BuildPlan(seen.server, tuple(made.steps), tuple(made.notes))


# firmware ---------------------------------------------------------------------------------------


def _settings(client: Client, made: _Making) -> bool:
    """Settings that are not as they should be; whether one waits, or will wait, for a restart."""
    if not made.sheet.firmware:
        return False
    found = fw.firmware(client)
    wanted = fw.parse(found, [f"{_attribute(found, key)}={value}" for key, value in made.sheet.firmware.items()])
    asked = {n: v for n, v in wanted.items() if found.named(n).will_be != v}
    if asked:
        lines = [f"{n} ({found.named(n).shown}): {found.named(n).value} becomes {v}" for n, v in asked.items()]
        lines += [f"after the restart {e.words}" for e in fw.effects(found, asked, made.seen.volumes)]
        many = f"{len(asked)} firmware settings" if len(asked) > 1 else "a firmware setting"
        made.steps.append(Step("settings", f"set {many}", detail=asked, lines=tuple(lines)))
    return any(found.named(n).value != v for n, v in wanted.items())


def _attribute(found: fw.Firmware, key: str) -> str:
    """The attribute that a key of the sheet means: its name, or the role it serves."""
    if any(a.name.lower() == key.lower() for a in found.attributes):
        return key
    serving = found.of(key.lower())
    if len(serving) > 1:
        listed = ", ".join(a.name for a in serving)
        raise WorkError(what=f"several attributes serve as {key}: {listed}", to_do="name the attribute in the sheet")
    return serving[0].name if serving else found.named(key).name


def _restart(made: _Making, why: str) -> None:
    if not made.sheet.may_restart:
        made.notes.append(f'a restart is needed ({why}), and the sheet says restart = "never"')
    else:
        made.steps.append(Step("restart", f"restart the server: {why}"))


def _last_restart(made: _Making) -> None:
    """The firmware finds new volumes only as it starts."""
    fresh = [s.detail.wish.name for s in made.steps if s.kind == "make" and s.detail.wish.initialize != "foreground"]
    names = {v.name for v in made.sheet.volumes} - made.others
    fresh += [v.name for v in made.seen.volumes if v.found is False and v.name in names and v.name not in fresh
              and not any(w.method == "foreground" for w in v.work)]  # fmt: skip
    if fresh and "SimpleStorage" in made.paths.system:  # else nobody could tell whether it was needed
        listed = ", ".join(dict.fromkeys(fresh))
        _restart(made, f"its own firmware finds {listed}")


# controllers ------------------------------------------------------------------------------------


def _controller(made: _Making, name: str, wanted: dict[str, Any]) -> None:
    found: Controller = made.seen.controller(name)
    changed = {key: value for key, value in wanted.items() if getattr(found, key) != value}
    if changed:
        listed = ", ".join(f"{k.replace('_', ' ')} from {getattr(found, k)} to {v}" for k, v in changed.items())
        made.steps.append(Step("controller", f"controller {name}: {listed}", detail=(found.id, changed)))


# volumes ----------------------------------------------------------------------------------------


def _volumes(made: _Making) -> None:
    there: dict[str, Volume] = {}
    for wish in made.sheet.volumes:
        found = [v for v in made.seen.volumes if v.name == wish.name and wish.controller in (None, v.controller)]
        if len(found) > 1:
            listed = ", ".join(v.controller for v in found)
            raise WorkError(what=f"{listed} have a volume {wish.name} each", to_do="name the controller in the sheet")
        if found:
            there[wish.name] = found[0]
    gone = []
    for wish in made.sheet.volumes:
        v = there.get(wish.name)
        differs = list(_differences(made.seen, wish, v)) if v else []
        if v and differs and wish.name in made.replaced:
            gone.append((v, "it is created anew"))
            del there[wish.name]
        elif differs:
            made.others.add(wish.name)
            what = f"volume {wish.name} is another than the sheet says: {'; '.join(differs)}"
            made.notes.append(f"{what}. It stays, unless you say --replace {wish.name}, which loses what it holds")
    if made.sheet.remove_others:
        mine = [v.key for v in there.values()] + [v.key for v, _why in gone]
        gone += [(v, "the sheet does not name it") for v in made.seen.volumes if v.key not in mine]
    _whole(made, list(there.values()))
    _release(made)
    replaced = [v for v, _why in gone if v.name in made.replaced]
    for v, why in gone:
        made.steps.append(_removal(v, why))
    _keep_spares(made, replaced)
    made.seen = without(made.seen, [v for v, _why in gone])
    for wish in made.sheet.volumes:
        if wish.name in there:
            _caches(made, wish, there[wish.name])
        else:
            plan = plan_on(made.seen, wish, None)
            made.steps.append(_creation(plan))
            made.seen = with_planned(made.seen, plan)


def _whole(made: _Making, there: Sequence[Volume]) -> None:
    """Members that are missing, and spares that stand in, are differences: the sheet says who should be where."""
    for v in there:
        j = judge_volume(made.seen, v)
        if j.state is not State.OK or j.gone:
            lacks = ", ".join(f"bay {s.bay} ({known(s.serial, 'serial not known')})" for s in j.gone)
            text = f"volume {v.name} is {j.state.value}, margin {max(j.margin, 0)}"
            made.notes.append(text + (f", without its member of {lacks}" if lacks else ""))
        for s in v.seats:
            if s.stands_in:
                made.notes.append(
                    f"volume {v.name}: the hot spare in bay {s.bay} is used in place of bay {s.stands_in}"
                )


def _keep_spares(made: _Making, replaced: Sequence[Volume]) -> None:
    """Hot spares that are dedicated to a volume which is made anew are so again, named in the sheet or not."""
    named = {made.seen.drive(s.drive).path for s in made.sheet.spares}
    for d in made.seen.drives:
        mine = d.used_as(UseKind.DEDICATED_SPARE)
        if d.path in named or not d.stands_by or not any(u.volume_path in [v.path for v in replaced] for u in mine):
            continue
        names = tuple(u.volume for u in mine if u.volume)
        made.again.append(SpareWish(d.path, names, d.spare_reverts is not False))


def _beyond(made: _Making) -> None:
    """What is there and the sheet does not name: it stays, and is a difference all the same."""
    if made.sheet.remove_others:
        return
    mine = {v.name for v in made.sheet.volumes}
    made.notes += [f"volume {v.name} is not in the sheet; it stays" for v in made.seen.volumes if v.name not in mine]
    named = {made.seen.drive(s.drive).path for s in (*made.sheet.spares, *made.again)}
    for d in made.seen.drives:
        if d.stands_by and d.path not in named:
            made.notes.append(f"bay {d.bay}: the hot spare {known(d.serial, '')} is not in the sheet; it stays")


def _differences(seen: Server, wish: VolumeWish, v: Volume) -> Iterator[str]:
    """In what a volume is another one than the sheet says. A hot spare stands for the drive it stands in for."""
    if v.level != wish.level:
        yield f"level {v.level}, not {wish.level}"
    homes = [{m.stands_in or m.bay, known(m.serial, "")} for m in v.seats]
    wanted = list(wish.drives)
    if not v.ordered:
        there, missing = set[str]().union(*homes), [w for w in wanted if not any(w in home for home in homes)]
        if len(homes) != len(wanted) or missing:
            yield f"drives {', '.join(sorted(there))}, not {', '.join(wanted)}"
    elif len(homes) != len(wanted) or any(w not in home for w, home in zip(wanted, homes, strict=True)):
        listed = ", ".join(m.stands_in or m.bay or known(m.serial, "?") for m in v.seats)
        yield f"drives {listed}, not {', '.join(wanted)}"
    if v.strip is not UNKNOWN and v.strip != wish.strip and wish.level != "RAID1":
        yield f"strip {binary_size(v.strip)}, not {binary_size(wish.strip)}"
    if (wish.spans or 1) != v.spans and wish.spans:
        yield f"{v.spans} spans, not {wish.spans}"
    for word, mine, yours in (("rotation", v.rotation, wish.rotation), ("data order", v.data, wish.data),
                              ("Q", v.q_place, wish.q_place),
                              ("Q exponent", v.q_exponent, wish.q_exponent)):  # fmt: skip
        if yours is not None and mine is not None and mine != yours:
            yield f"{word} {mine}, not {yours}"
    if wish.size is not None and v.size is not UNKNOWN and abs(v.size - wish.size) > wish.size / 100:
        yield f"size {decimal_size(v.size)}, not {decimal_size(wish.size)}"


def _removal(v: Volume, why: str) -> Step:
    holds = known(v.content, "unknown contents") or "nothing"
    members = ", ".join(f"bay {m.bay} {known(m.serial, 'serial not known')}" for m in v.seats)
    size = "size not known" if v.size is UNKNOWN else decimal_size(v.size)
    lost = f"volume {v.name}, {known(v.level, 'level not known')}, {size}, holding {holds} ({members})"
    serials = tuple(known(m.serial, "?") for m in v.seats)
    return Step("remove", f"remove volume {v.name}: {why}", (lost,), serials, v.key)


def _creation(plan: VolumePlan) -> Step:
    wish = plan.wish
    width = len(plan.drives) // plan.spans
    labels = [d.bay for d in plan.drives]
    bays = " / ".join(" ".join(labels[i : i + width]) for i in range(0, len(labels), width))
    what = (
        f"create volume {wish.name}: {plan.level}, about {decimal_size(plan.size)}, strip {binary_size(wish.strip)}, "
    )
    what += f"bays {bays}, margin {plan.margin}"
    if wish.initialize != "fast":
        what += f", initialized in the {wish.initialize}"
    return Step("make", what, plan.lost, tuple(plan.serials), plan)


def _caches(made: _Making, wish: VolumeWish, v: Volume) -> None:
    asked = {"read": wish.read_cache if wish.read_cache not in (None, v.read_cache) else None,
             "write": wish.write_cache if wish.write_cache not in (None, v.write_cache) else None}  # fmt: skip
    listed = ", ".join(f"{key}s {word}" for key, word in asked.items() if word)
    if listed:
        made.steps.append(Step("caches", f"volume {v.name}: it {listed}", detail=(v.key, asked)))


# spares -----------------------------------------------------------------------------------------


def _release(made: _Making) -> None:
    """Spares whose drives are needed for something else, that serve others than they should, or are not named."""
    members = {made.seen.drive(d).path for v in made.sheet.volumes for d in v.drives}
    wanted = {made.seen.drive(s.drive).path: s for s in made.sheet.spares}
    freed = []
    for d in made.seen.drives:
        if not d.stands_by:
            continue
        wish = wanted.get(d.path)
        if wish and _same(d, wish):
            continue
        if wish or d.path in members or made.sheet.remove_others:
            why = "it is to be something else" if wish or d.path in members else "the sheet does not name it"
            what = f"bay {d.bay} is a hot spare no more: {why}"
            made.steps.append(Step("unspare", what, (), (known(d.serial, "?"),), d.path))
            freed.append(d.path)
    drives = tuple(
        replace(d, uses=(), spare=False, spare_for=(), content="") if d.path in freed else d for d in made.seen.drives
    )
    made.seen = replace(made.seen, drives=drives)


def _same(drive: Drive, wish: SpareWish) -> bool:
    names = {u.volume for u in drive.used_as(UseKind.DEDICATED_SPARE)}
    return names == set(wish.names) and drive.spare_reverts in (wish.revertible, UNKNOWN)


def _spares(made: _Making) -> None:
    for wish in (*made.sheet.spares, *made.again):
        drive = made.seen.drive(wish.drive)
        if drive.stands_by and _same(drive, wish):
            continue
        serial = known(drive.serial, "serial not known")
        if not drive.free:
            mine = [u.volume for u in drive.used_as(UseKind.MEMBER)]
            now = f"is a member of {', '.join(mine)}" if mine else "is in use" if drive.uses else "is not there"
            made.notes.append(f"bay {drive.bay}: drive {serial} {now}, not a hot spare")
            continue
        serves = f"for {', '.join(wish.names)}" if wish.names else "for any volume"
        content = known(drive.content, "contents unknown")
        lost = (f"bay {drive.bay}, {serial}: {content}",) if content else ()
        what = f"bay {drive.bay} ({serial}) becomes a hot spare {serves}"
        made.steps.append(Step("spare", what, lost, (serial,), (drive.path, wish.names, wish.revertible)))


# booting ----------------------------------------------------------------------------------------


def _boot(made: _Making) -> None:
    """Last, after the restart: only then do all servers offer a boot option for a new volume."""
    name = made.sheet.boot
    if not name:
        return
    wish = next(v for v in made.sheet.volumes if v.name == name)
    now = next((v for v in made.seen.volumes if v.name == name and wish.controller in (None, v.controller)), None)
    if now is None or now.boots is not True:
        made.steps.append(Step("boot", f"volume {name} is first in the boot order", detail=(name, wish.controller)))
