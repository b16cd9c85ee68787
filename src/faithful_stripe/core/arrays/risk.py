"""The risk of losing data: exact Markov chains of failures and repairs, group by group.

Sources: D. A. Patterson, G. Gibson, R. H. Katz, "A Case for Redundant Arrays of Inexpensive Disks (RAID)", SIGMOD 1988
(independent exponential failures, mean time to loss of a group); P. M. Chen, E. K. Lee, G. A. Gibson, R. H. Katz,
D. A. Patterson, "RAID: High-Performance, Reliable Secondary Storage", ACM Computing Surveys 26(2), 1994 (unreadable
sectors met while the last redundancy is gone). Failures of real drives come in batches and with age: such figures
compare layouts with each other, they do not promise a date.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.linalg import expm

from .groups import Redundancy


@dataclass(frozen=True)
class Hazards:
    """What happens to one member: rates per hour, and a chance.

    failures  of a drive (1 / mean time to failure)
    repairs   of a group: 1 / (hours until a replacement is there and rebuilt)
    unreadable  chance that one drive's worth of bytes holds a sector that cannot be read
    """

    failures: float
    repairs: float
    unreadable: float


def _rates(group: Redundancy, hazards: Hazards) -> list[tuple[float, float, float]]:
    """Of each state (members lost): the rates per hour to one more lost, to one fewer, and to lost data."""
    found = []
    for lost, fatal in enumerate(group.fatal):
        failing = (group.size - lost) * hazards.failures
        meets = _meets(group, hazards) if lost + 1 >= group.bare else 0.0
        gone = fatal + (1.0 - fatal) * meets
        found.append((failing * (1.0 - gone), hazards.repairs if lost else 0.0, failing * gone))
    return found


def _meets(group: Redundancy, hazards: Hazards) -> float:
    """Chance that a rebuild without redundancy meets a sector that cannot be read."""
    return -math.expm1(group.reads * math.log1p(-hazards.unreadable)) if hazards.unreadable < 1 else 1.0


def mean_hours_to_loss(group: Redundancy, hazards: Hazards) -> float:
    """Mean time to data loss of all groups together, in hours.

    Exact for one group (first-step analysis of the chain, without a subtraction, so that it keeps its figures where
    repairs are 10^10 times as fast as losses); divided by the number of groups.
    """
    rates = _rates(group, hazards)
    ending, losing = 0.0, 0.0  # of the state above: mean hours until it is left downwards, chance of loss before that
    for up, down, loss in reversed(rates):
        leaves = down + loss + up * losing
        ending, losing = (1.0 + up * ending) / leaves, (loss + up * losing) / leaves
    return ending / group.groups


def chance_of_loss(group: Redundancy, hazards: Hazards, hours: float, lost: int = 0) -> float:
    """Chance that data are lost within `hours`, when one group starts with `lost` members gone, the others whole.

    The matrix exponential of the chain's generator (scipy.linalg.expm).
    """
    if lost >= len(group.fatal):
        return 1.0
    generator = _generator(group, hazards)
    after = expm(generator * hours)
    alive = (1.0 - float(after[lost, -1])) * (1.0 - float(after[0, -1])) ** (group.groups - 1)
    return min(1.0, max(0.0, 1.0 - alive))


def _generator(group: Redundancy, hazards: Hazards) -> npt.NDArray[np.float64]:
    """Rates between the states 0, 1, ... members lost and, last, data lost; rows add up to zero."""
    rates = _rates(group, hazards)
    matrix = np.zeros((len(rates) + 1, len(rates) + 1))
    for state, (up, down, loss) in enumerate(rates):
        if up:
            matrix[state, state + 1] += up
        if down:
            matrix[state, state - 1] += down
        matrix[state, -1] += loss
        matrix[state, state] -= up + down + loss
    return matrix


def unreadable_chance(size: int, errors_per_bit: float) -> float:
    """Chance that reading `size` bytes meets an unreadable sector, at the maker's rate of errors per bit read."""
    return -math.expm1(size * 8 * math.log1p(-errors_per_bit))
