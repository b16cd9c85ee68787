"""How parity moves on images whose layout is none that is known: found, said, and not said where it does not."""

import random

import numpy as np
import pytest

from faithful_stripe.core.lineup.document.told_facts import Remark
from faithful_stripe.core.lineup.evidence.parity_places import parity_places
from faithful_stripe.core.lineup.reading.samples import Pile
from faithful_stripe.core.source import MemorySource

from .slicer import Spec, cut


def striped(held, strip, turn, rows, count=0):
    """Bytes of each image: parity moves on after so many rows, to the next image of a turn; data in ascending order."""
    count = count or len(set(turn))
    parts = [bytearray() for _ in range(count)]
    for row, at in enumerate(range(0, len(held), (count - 1) * strip)):
        strips = [held[a : a + strip].ljust(strip, b"\0") for a in range(at, at + (count - 1) * strip, strip)]
        parity = np.bitwise_xor.reduce([np.frombuffer(s, np.uint8) for s in strips]).tobytes()
        strips.insert(turn[row // rows % len(turn)], parity)
        for part, one in zip(parts, strips, strict=True):
            part += one
    return [bytes(part) for part in parts]


def written(volumes, name):
    """What a volume holds, without its holes."""
    whole = (volumes / f"{name}.img").read_bytes()
    blocks = [whole[at : at + 4096] for at in range(0, len(whole), 4096)]
    return b"".join(b for b in blocks if any(b))


def moves(parts):
    sources = [MemorySource(len(part)) for part in parts]
    for source, part in zip(sources, parts, strict=True):
        source.write(0, part)
    return parity_places(Pile([str(n) for n in range(len(parts))], sources), range(len(parts)))


@pytest.mark.parametrize(
    ("turn", "strip", "rows"), [((0, 2, 1, 3), 16384, 3), ((3, 0, 2, 1, 4), 16384, 1), ((2, 0, 1), 4096, 8)]
)
def test_where_parity_stands_is_told_without_a_layout(volumes, turn, strip, rows):
    found = moves(striped(written(volumes, "log"), strip, turn, rows))
    where = found.images.index(turn[0])
    assert found.stay_bytes == strip * rows and found.images[where:] + found.images[:where] == turn
    assert found.agreeing >= 0.9 * found.places > 96


def test_parity_that_does_not_move_or_images_that_do_not_add_up_tell_nothing(volumes):
    held = written(volumes, "log")
    parts = striped(held, 16384, (0, 1, 2, 3), 1)
    assert moves(parts) is not None
    assert moves(parts[:3]) is None and moves(parts[:2]) is None
    assert moves(striped(held, 16384, (1,), 1, 4)) is None
    noise = random.Random(5).randbytes(len(held))
    assert moves(striped(noise, 16384, (0, 1, 2, 3), 1)) is None  # random data are as much like parity


def test_a_layout_that_is_not_known_is_said_to_move_so(fstripe, volumes):
    """It was undecided, and nothing was said of how parity moves."""
    names = ["m0.img", "m1.img", "m2.img", "m3.img"]
    for name, part in zip(names, striped(written(volumes, "log"), 16384, (0, 2, 1, 3), 3), strict=True):
        (fstripe.folder / name).write_bytes(part)
    told = fstripe("lineup", "solve", *names, "--json")
    assert told.status == 3
    (note,) = [n for n in told.json["notes"] if n["what"] == Remark.PARITY_MOVES]
    where = [n.rsplit("/", 1)[-1] for n in note["images"]]
    first = where.index("m0.img")
    assert where[first:] + where[:first] == ["m0.img", "m2.img", "m1.img", "m3.img"] and note["count"] == 3 * 16384
    said = " ".join(fstripe("lineup", "solve", *names).out.split())
    assert "parity moves, whatever the layout: 48 KiB on each of these in turn:" in said


def test_an_array_that_is_decided_needs_no_such_note(fstripe, volumes):
    names = [f"m{n}.img" for n in range(4)]
    cut(volumes / "ntfs.img", Spec("RAID5", 4, 16384, "parity-N", "continuation"), [fstripe.folder / n for n in names])
    told = fstripe("lineup", "solve", *names, "--json")
    assert told.json["arrays"][0]["verdicts"]["order"]["verdict"] == "certain"
    assert not [n for n in told.json["notes"] if n["what"] == Remark.PARITY_MOVES]
