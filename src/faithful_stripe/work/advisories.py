"""Known faults of firmware: a file that says which version mends what, held against the drives and controllers seen.

TOML, a table `[[fault]]` for each: `model` (as the survey shows it, without the maker), `fixed_in` (the first version
without it) and `what` it is.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..core.server.model import Server
from ..core.server.unknown import known
from ..media.given import text_given, toml_of
from .errors import WorkError
from .update import compare


@dataclass(frozen=True)
class Advisory:
    """A known fault: the model that has it, the first version without it, what it is."""

    model: str
    fixed_in: str
    what: str


def read_advisories(path: Path) -> list[Advisory]:
    """Read a file of known faults. Raises WorkError naming what is wrong in it."""
    try:
        rows = toml_of(text_given(path)).get("fault", [])
        return [Advisory(str(row["model"]), str(row["fixed_in"]), str(row["what"])) for row in rows]
    except OSError as reason:
        raise WorkError(what=f"{path}: it cannot be read ({reason.strerror})", to_do="check the path") from reason
    except (ValueError, KeyError, TypeError, AttributeError) as reason:
        what = f"{path}: not a list of known faults ({reason})"
        raise WorkError(what=what, to_do="write [[fault]] tables with model, fixed_in and what") from reason


@dataclass(frozen=True)
class Fault:
    """A known fault that a server has: the advisory, and the bays or controllers that have it."""

    advisory: Advisory
    bays: tuple[str, ...] = ()
    controller: str = ""


def faults_in(seen: Server, advisories: Sequence[Advisory]) -> Iterator[Fault]:
    """What a server has that a newer firmware would repair."""
    for one in advisories:
        bays = [d.bay for d in seen.drives if d.model == one.model and _older(known(d.firmware, ""), one)]
        if bays:
            yield Fault(one, tuple(bays))
        for c in seen.controllers:
            if known(c.name, "").endswith(one.model) and _older(known(c.firmware, ""), one):
                yield Fault(one, controller=c.id)


def _older(version: str, fault: Advisory) -> bool:
    return version != "" and compare(version, fault.fixed_in) == "newer"
