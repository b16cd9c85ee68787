"""Fault likelihood: how well the bytes of one place are explained if each member in turn is the one at fault."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from ..evidence.byte_pairs import ANYTHING, Pairs, noisy
from ..reading.samples import Blocks

Floats = npt.NDArray[np.float64]
Flags = npt.NDArray[np.bool_]

FOREIGN_SHARE = 0.01
"""How often what is at fault is like nothing, where the array's data seldom are."""

LEAST_NATS = 0.3
"""By which two accounts must differ, per byte, to differ at all: nearer ones are the model's own doubt."""


def accounts(
    likely: Pairs, held: Blocks, differs: npt.NDArray[np.uint8], parity: Flags, blank: Flags, rare: float
) -> Floats:  # fmt: skip
    """What the bytes of one place say of each member's being at fault: nats behind the likeliest, float (members,).

    held     uint8 (members, bytes); differs: uint8 (bytes,), what they add up to
    parity   which members hold parity there; blank: which hold zeros or a pattern
    rare     log of the share of data that is like nothing (compressed, or encrypted)

    If it is m that is at fault, the others hold what they should, and the row is as likely as what is due of m. What m
    holds was right once, and is as likely as it would be now; or it is foreign, and like nothing. A member whose data
    were written without their parity, or the other way round, leaves the same two versions of one strip: where parity
    is at fault, the row is as likely as for the likeliest of the data. Of two strips that are like one another, what
    they differ by is likelier than either, and takes its place where one is due beside the other.
    """
    here = differs != 0
    count = int(here.sum())
    most = ANYTHING * count
    wrong = max(rare, float(np.log(FOREIGN_SHARE)))
    told = np.full(len(held), most + wrong)
    data = [row for row in range(len(held)) if not parity[row]]
    nows, dues = np.full(len(held), most), np.full(len(held), most)
    noise = np.zeros(len(held), bool)
    for row in data:
        each = likely.each(held[row])
        nows[row] = float(each[here].sum())
        noise[row] = noisy(each, here)
        dues[row] = most if noise[row] else float(likely.each(held[row] ^ differs)[here].sum())
    if data:
        first = max(data, key=lambda row: dues[row])
        for row in data if nows[first] > most else ():  # noise is like nothing else
            if row != first and not noise[row]:
                beside = float(likely.each(held[row] ^ differs ^ held[first])[here].sum())
                dues[row] = max(dues[row], beside)
    for row in data:
        # bytes among noise are noise, and cost what any bytes cost
        price = 0.0 if noise[row] else rare
        now = max(nows[row], most + price)
        told[row] = max(dues[row], most + price) - now + max(nows[row], most + (0.0 if noise[row] else wrong))
    best = max((told[row] for row in data), default=most + wrong)
    for row in range(len(held)):
        if parity[row]:
            now = float(likely.each(held[row])[here].sum()) if blank[row] else -np.inf  # as the array's own are
            told[row] = max(told[row], now if blank[row] else best)
    behind = (told - told.max()) / max(1, count)
    near: Floats = np.minimum(0.0, behind + LEAST_NATS) * count
    return near
