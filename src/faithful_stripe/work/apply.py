"""A build plan carried out: step by step, re-read after every restart, and proven at the end by reading again."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ..redfish.client import Client
from . import build
from . import firmware as fw
from .booting import boot_from
from .errors import WorkError
from .plan import BuildPlan, Step, plan_build
from .sheet import Sheet
from .survey import survey
from .volumes import add_volumes, plan_volumes

MOST_RESTARTS = 3


@dataclass(frozen=True)
class Built:
    """What was done, and what still differs from the sheet when the server is read again (nothing, if all is well)."""

    done: tuple[str, ...]
    left: BuildPlan


def build_sheet(
    client: Client,
    sheet: Sheet,
    agreed: BuildPlan,
    replaced: Sequence[str],
    tell: Callable[[str], None],
    patience: float = 900.0,
    pause: float = 2.0,
) -> Built:
    """Carry out what was agreed. After a restart the server is planned anew: nothing more is lost than was agreed.

    What was done stays when a step fails; a later run goes on with what is left. Raises WorkError, RedfishError.
    """
    done: list[str] = []
    created: set[str] = set()
    plan, restarts = agreed, 0
    while plan.steps:
        restarted = False
        for group in _grouped(plan.steps):
            for step in group:
                tell(step.what)
            _carry_out(client, group, tell, patience, pause)
            done += [step.what for step in group]
            created |= {step.detail.wish.name for step in group if step.kind == "make"}
            if group[0].kind == "restart":
                restarted, restarts = True, restarts + 1
                break
        plan = plan_build(client, sheet, [name for name in replaced if name not in created])
        if not restarted or restarts >= MOST_RESTARTS:
            return Built(tuple(done), plan)
        more = [text for s in plan.steps if s.kind == "remove" for text in s.lost if text not in agreed.lost]
        more += [f"drive {serial}" for serial in plan.serials if serial not in agreed.serials]
        if more:
            what = f"after the restart there is more to lose than was agreed: {'; '.join(more)}"
            raise WorkError(what=what, to_do="nothing of it was done; look at the plan again: run `build` once more")
    return Built(tuple(done), plan)


def _grouped(steps: Sequence[Step]) -> list[list[Step]]:
    """Steps one by one, but volumes that are made in a row together: all or none."""
    groups: list[list[Step]] = []
    for step in steps:
        if step.kind == "make" and groups and groups[-1][0].kind == "make":
            groups[-1].append(step)
        else:
            groups.append([step])
    return groups


def _carry_out(client: Client, group: list[Step], tell: Callable[[str], None], patience: float, pause: float) -> None:
    step = group[0]
    if step.kind == "settings":
        fw.set_attributes(client, fw.firmware(client), step.detail)
    elif step.kind == "restart":
        back = fw.restart(client, lambda state: tell(f"  {state}"), patience, pause)
        fell = [o for o in back.settings if not o.kept]
        if fell:
            listed = ", ".join(f"{o.name} was asked to be {o.asked} and is {o.now}" for o in fell)
            what = f"after the restart a setting fell back: {listed}"
            raise WorkError(what=what, to_do="find what pulls it back (`firmware show`), and write that into the sheet")
    elif step.kind == "controller":
        name, changed = step.detail
        build.set_controller(client, survey(client).controller(name), **changed)
    elif step.kind == "unspare":
        build.remove_spare(client, step.detail)
    elif step.kind == "remove":
        build.remove_volume(client, survey(client).volume(step.detail))
    elif step.kind == "make":
        add_volumes(client, plan_volumes(client, [s.detail.wish for s in group]))
    elif step.kind == "caches":
        key, asked = step.detail
        build.set_caches(client, survey(client).volume(key), asked["read"], asked["write"])
    elif step.kind == "spare":
        bay, names, revertible = step.detail
        build.add_spare(client, bay, names, revertible)
    elif step.kind == "boot":
        boot_from(client, *step.detail)
