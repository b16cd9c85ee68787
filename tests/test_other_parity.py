"""Arrays with P and a second parity of another kind: found by P, the second one named, and solved where it is Q."""

import json
import random

import numpy as np
import pytest

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.arrays.layout import OTHER
from faithful_stripe.core.arrays.margin import margin
from faithful_stripe.core.lineup.evidence.second_parity import POLYNOMIALS, powers
from faithful_stripe.core.source import MemorySource, read

from .slicer import Spec, cut

STRIP = 4096


def doubled(data, polynomial):
    """Every byte times x, bit by bit."""
    return np.where(data & 0x80, (data.astype(np.int64) << 1) ^ polynomial, data.astype(np.int64) << 1).astype(np.uint8)


def along_diagonals(columns, prime):
    """The diagonal parity of strips that are cut into prime - 1 pieces each, one diagonal left out."""
    pieces = [column.reshape(prime - 1, -1) for column in columns]
    made = np.zeros((prime, pieces[0].shape[1]), np.uint8)
    for shift, column in enumerate(pieces):
        for number, piece in enumerate(column):
            made[(number + shift) % prime] ^= piece
    return made[:-1].reshape(-1)


def with_other_q(volume, spec, folder, second):
    """Images of an array, their names in order: `second` makes what stands in Q's place of the data strips in their
    order, P, and the exponents that the array's own rule gives each."""
    images = [folder / f"{name}.img" for name in "fbdaceghij"[: spec.members]]
    cut(volume, spec, images)
    held = [np.fromfile(image, np.uint8).reshape(-1, spec.strip) for image in images]
    ours = powers(0x11D, 2 * spec.members)[:, 1].tolist()
    for row in range(len(held[0])):
        cells = spec.row(row)
        at = {kind: member for member, (kind, _strip) in enumerate(cells) if kind in "PQ"}
        data = sorted((strip, member) for member, (kind, strip) in enumerate(cells) if kind == "D")
        factors = spec.coefficients(cells, 0)
        exponents = [ours.index(factors[member]) for _strip, member in data]
        held[at["Q"]][row] = second([held[m][row] for _s, m in data], held[at["P"]][row], exponents)
    for image, rows in zip(images, held, strict=True):
        rows.tofile(image)
    return images


def over(polynomial):
    def second(data, _p, exponents):
        total = np.zeros_like(data[0])
        for strip, exponent in zip(data, exponents, strict=True):
            for _ in range(exponent):
                strip = doubled(strip, polynomial)
            total ^= strip
        return total

    return second


@pytest.mark.parametrize(
    ("qualifiers", "polynomial"),
    [
        (("parity-N", "continuation", "after-p", "data-index"), 0x187),
        (("parity-N", "continuation", "before-p", "member-position-reversed"), 0x12D),
        pytest.param(("parity-0", "restart", "after-p", "data-index-reversed"), 0x187, marks=pytest.mark.long),
        pytest.param(("parity-N", "restart", "after-p", "member-position"), 0x1F5, marks=pytest.mark.long),
    ],
)
def test_q_over_another_polynomial_is_seen_and_the_volume_read_by_p(volumes, fstripe, qualifiers, polynomial):
    spec = Spec("RAID6", 5, STRIP, *qualifiers)
    images = with_other_q(volumes / "ext4-nocsum.img", spec, fstripe.folder, over(polynomial))
    told = fstripe("lineup", "solve", *sorted(p.name for p in images), "--out", "found.toml", "--json")
    array = json.loads(told.out)["arrays"][0]
    assert [array["level"], array["rotation"], array["data"], array["q"]["place"]] == ["RAID6", *qualifiers[:3]]
    assert array["q"]["exponent"] == OTHER and array["spans"] == [[p.name for p in images]]
    assert any(e["what"] == "other-q" and e["name"] == hex(polynomial) for e in array["evidence"])
    fstripe("lineup", "extract", "found.toml", "out.img")
    volume = (volumes / "ext4-nocsum.img").read_bytes()
    assert (fstripe.folder / "out.img").read_bytes()[: len(volume)] == volume


def test_a_second_parity_along_diagonals_is_named_and_no_order_claimed(volumes, fstripe):
    spec = Spec("RAID6", 5, STRIP, "parity-N", "continuation", "after-p", "data-index")
    images = with_other_q(
        volumes / "ext4-nocsum.img", spec, fstripe.folder, lambda data, p, _e: along_diagonals([*data, p], 5)
    )
    names = sorted(p.name for p in images)
    told = fstripe("lineup", "solve", *names, "--out", "found.toml")
    assert told.status == 3 and "5 images are one array with two parities" in told.out
    assert "diagonals" in told.out and "Belong to no array" not in told.out and "extract" not in told.out
    other = json.loads(fstripe("lineup", "solve", *names, "--json").out)["second_parities"][0]
    assert (other["kind"], other["strip_bytes"]) == ("diagonal", STRIP)
    place = [p.name for p in images].index(other["images"][0])
    assert other["images"] == [images[(place - k) % 5].name for k in range(5)]  # parity-N: from each to the one before
    assert fstripe("lineup", "extract", "found.toml", "out.img").status == 1


@pytest.mark.parametrize("second", ["ours", "partly", pytest.param("chaos", marks=pytest.mark.long)])
def test_only_what_is_there_is_named(volumes, fstripe, second):
    spec = Spec("RAID6", 5, STRIP, "parity-N", "continuation", "after-p", "data-index")
    rng, chance = np.random.default_rng(1), random.Random(3)
    made = {
        "ours": over(0x11D),
        "partly": lambda data, p, e: over(0x11D)(data, p, e) if chance.random() > 0.3 else ~over(0x11D)(data, p, e),
        "chaos": lambda data, p, _e: rng.integers(0, 256, STRIP, np.uint8) if np.any(data) else np.zeros_like(p),
    }[second]
    images = with_other_q(volumes / "ext4-nocsum.img", spec, fstripe.folder, made)
    found = json.loads(fstripe("lineup", "solve", *sorted(p.name for p in images), "--json").out)
    if second != "chaos":  # where a part of its rows is damaged, it is none that is counted otherwise
        assert "second_parities" not in found and found["arrays"][0]["q"]["exponent"] == "data-index"
    else:
        assert found["second_parities"][0]["kind"] == "unknown" and not found["arrays"]


def test_every_polynomial_is_primitive_and_there_are_no_others():
    def order(polynomial):
        value, steps = 2, 1
        while value != 1 and steps < 256:
            value, steps = value << 1 ^ (polynomial if value & 0x80 else 0), steps + 1
        return steps

    assert [p for p in range(0x100, 0x200) if order(p) == 255] == list(POLYNOMIALS)


def test_an_array_whose_q_is_another_one_survives_what_p_makes_up_for():
    shape = geometry("RAID6", 5, STRIP, rotation="parity-N", data="continuation", q_place="after-p",
                     q_exponent=OTHER, member_bytes=10 * STRIP)  # fmt: skip
    members = [MemorySource(10 * STRIP, f"m{i}") for i in range(5)]
    content = np.random.default_rng(2).integers(0, 256, shape.volume_bytes, np.uint8).tobytes()
    Array(shape, members).write(0, content)
    for gone in range(5):
        assert margin(shape.pattern, {gone}) == 0
        array = Array(shape, [None if i == gone else m for i, m in enumerate(members)])
        assert read(array, 0, array.size) == content
    assert margin(shape.pattern, {0, 1}) == -1
