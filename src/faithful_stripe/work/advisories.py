"""Known faults of firmware: a file that says which version mends what, held against the drives and controllers seen.

TOML, a table `[[fault]]` for each: `model` (as the survey shows it, without the maker), `mended_in` (the first version
without it) and `what` it is.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..core.server.model import Server
from .errors import WorkError
from .update import compare


@dataclass(frozen=True)
class Advisory:
    """A known fault: the model that has it, the first version without it, what it is."""

    model: str
    mended_in: str
    what: str


def read_advisories(path: Path) -> list[Advisory]:
    """Read a file of known faults. Raises WorkError naming what is wrong in it."""
    try:
        rows = tomllib.loads(path.read_text("utf-8")).get("fault", [])
        return [Advisory(str(row["model"]), str(row["mended_in"]), str(row["what"])) for row in rows]
    except OSError as reason:
        raise WorkError(what=f"{path}: it cannot be read ({reason.strerror})", to_do="check the path") from reason
    except (ValueError, KeyError, TypeError, AttributeError) as reason:
        what = f"{path}: not a list of known faults ({reason})"
        raise WorkError(what=what, to_do="write [[fault]] tables with model, mended_in and what") from reason


def faults_in(seen: Server, known: Sequence[Advisory]) -> Iterator[str]:
    """What a server has that a newer firmware would mend."""
    for fault in known:
        bays = [d.bay for d in seen.drives if d.model == fault.model and _older(d.firmware, fault)]
        cards = [c.id for c in seen.controllers if c.name.endswith(fault.model) and _older(c.firmware, fault)]
        where = [f"bays {', '.join(bays)}" if len(bays) > 1 else f"bay {bays[0]}"] if bays else []
        for place in where + cards:
            yield f"{place}: {fault.model} has a known fault ({fault.what}), mended in firmware {fault.mended_in}"


def _older(version: str, fault: Advisory) -> bool:
    return version != "" and compare(version, fault.mended_in) == "newer"
