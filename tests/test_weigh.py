"""Weighing layouts: models against closed forms, printed figures and chance itself; the command as a person uses it."""

import json
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.choices import choices
from faithful_stripe.core.arrays.groups import chance_without_repair, redundancy
from faithful_stripe.core.arrays.layout import layout
from faithful_stripe.core.arrays.margin import margin
from faithful_stripe.core.arrays.risk import (
    Hazards,
    Redundancy,
    _generator,
    chance_of_loss,
    mean_hours_to_loss,
    unreadable_chance,
)
from faithful_stripe.core.arrays.timing import PACES, WORKLOADS, speed, spinning, strip_advice

TB = 10**12


@pytest.mark.parametrize(("data", "group", "checks", "printed"), [
    (100, 1, 1, 4_500_000), (100, 10, 4, 494_500), (100, 10, 1, 820_000), (100, 25, 1, 346_000),
])  # fmt: skip
def test_the_figures_printed_in_the_first_paper(data, group, checks, printed):
    """Patterson, Gibson, Katz 1988, tables II to IV: MTTF 30,000 h, MTTR 1 h, 100 data disks. (They take the repair
    as far quicker than failures, and count MTTF^2 / (disks * (G + C - 1) * MTTR).)"""
    groups = data // group
    found = mean_hours_to_loss(Redundancy(groups, group + checks, (0.0, 1.0), 1, 0), Hazards(1 / 30_000, 1.0, 0.0))
    assert found == pytest.approx(printed, rel=0.005)


@given(st.integers(2, 32), st.floats(1e-7, 1e-2), st.floats(1e-3, 10.0))
def test_one_parity_against_the_closed_form(n, failing, repairing):
    """((2n - 1) l + m) / (n (n - 1) l^2): the mean time to absorption of the three-state chain."""
    found = mean_hours_to_loss(Redundancy(1, n, (0.0, 1.0), 1, 0), Hazards(failing, repairing, 0.0))
    assert found == pytest.approx(((2 * n - 1) * failing + repairing) / (n * (n - 1) * failing**2), rel=1e-9)


@given(st.sampled_from(["RAID1E", "RAID5", "RAID6", "RAID1"]), st.integers(4, 9), st.floats(1e-5, 1e-2))
def test_the_recursion_agrees_with_the_linear_system(level, n, failing):
    """Mean times to absorption t solve Q t = -1 over the states that are not lost (numpy.linalg.solve)."""
    n = n | 1 if level == "RAID1E" else min(n, 3) if level == "RAID1" else n
    groups, hazards = redundancy(layout(level, n)), Hazards(failing, 0.05, 0.01)
    inner = _generator(groups, hazards)[:-1, :-1]
    solved = -np.linalg.solve(inner, np.ones(len(inner)))
    assert mean_hours_to_loss(groups, hazards) == pytest.approx(solved[0], rel=1e-6)


@pytest.mark.parametrize(("level", "hours"), [("RAID5", 120.0), ("RAID6", 400.0), ("RAID1E", 400.0), ("RAID10", 400.0)])
def test_the_chain_against_chance_itself(level, hours):
    """4000 lives of drives that fail and are repaired one after the other, drawn at random."""
    rng = np.random.default_rng(7)
    chosen = layout(level, 7 if level == "RAID1E" else 8)
    groups, hazards = redundancy(chosen), Hazards(1 / 400, 1 / 30, 0.05)
    lost = sum(any(_life(rng, groups, hazards, hours) for _ in range(groups.groups)) for _ in range(4000)) / 4000
    expected = chance_of_loss(groups, hazards, hours)
    assert 0.05 < expected < 0.95 and lost == pytest.approx(expected, abs=4 * math.sqrt(expected / 4000))


def _life(rng, groups, hazards, hours):
    """Whether one group loses data: which members are gone is followed, not only how many."""
    now, gone = 0.0, []
    while True:
        failing = (groups.size - len(gone)) * hazards.failures
        total = failing + (hazards.repairs if gone else 0.0)
        now += rng.exponential(1 / total)
        if now > hours:
            return False
        if rng.random() >= failing / total:
            gone.pop(rng.integers(len(gone)))
            continue
        new = int(rng.choice([m for m in range(groups.size) if m not in gone]))
        ring = groups.bare == 1 and groups.reads == 1 and groups.size > 2
        near = {(new - 1) % groups.size, (new + 1) % groups.size}
        dead = bool(near & set(gone)) if ring else len(gone) + 1 >= len(groups.fatal)
        bad = len(gone) + 1 >= groups.bare and rng.random() < 1 - (1 - hazards.unreadable) ** groups.reads
        if dead or bad:
            return True
        gone.append(new)


def test_the_chance_during_a_rebuild_worked_by_hand():
    """RAID 5 of 4, 1 % of the others fail in the time and one read in 50 meets a bad sector: 1 - 0.99^3 * 0.98^3."""
    groups = redundancy(layout("RAID5", 4))
    hours = 100.0
    hazards = Hazards(-math.log(0.99) / hours, 1 / hours, 0.02)
    found = chance_without_repair(groups, hazards.failures, hours, 1, hazards.unreadable)
    assert found == pytest.approx(1 - 0.99**3 * 0.98**3, rel=1e-9)
    assert unreadable_chance(TB, 1e-15) == pytest.approx(8e-3, rel=0.01)


@given(st.integers(2, 24))
def test_choices_agree_with_the_levels_themselves(n):
    for choice in choices([4 * TB] * n, (0, 1)):
        pattern = choice.layout.pattern()
        groups = redundancy(choice.layout)
        assert choice.margin == margin(pattern, []) == sum(f == 0 for f in groups.fatal)
        assert choice.usable == pytest.approx(4 * TB * pattern.strips / pattern.rows, rel=1e-5)
        assert choice.layout.members + choice.spares == n and choice.best >= choice.margin


def test_unequal_drives_the_smallest_sets_the_size_and_the_largest_stands_by():
    (five,) = [c for c in choices([4 * TB, 6 * TB, 4 * TB, 8 * TB], (1,)) if c.layout.level == "RAID5"]
    assert five.members == (4 * TB, 4 * TB, 6 * TB) and five.unequal == 2 * TB


def test_speed_by_the_published_rules():
    pace = PACES["ssd"]
    six, ten = (speed(layout(level, 8), pace, TB) for level in ("RAID6", "RAID10"))
    assert six.write == pytest.approx(6 * pace.rate) and six.penalty == 6 and ten.penalty == 2
    assert speed(layout("RAID5", 3), pace, TB).penalty == 3  # never more than the whole group
    assert speed(layout("RAID0", 8), pace, TB, link=1e9).limited and six.rebuild == pytest.approx(TB / pace.rate / 0.6)
    assert spinning(15000).reads > spinning(7200).reads
    strip, why = strip_advice(layout("RAID5", 5), spinning(7200), WORKLOADS["backup"])
    assert strip == 256 << 10 and "4 data strips" in why
    assert strip_advice(layout("RAID10", 8), spinning(7200), WORKLOADS["database"])[0] == 1 << 20


# the command ------------------------------------------------------------------------------------


def test_nine_drives_weighed_as_a_person_would(fstripe):
    seen = fstripe("weigh", "--drives", 9, "--size", "4TB")
    assert seen.status == 0 and seen.out.startswith("RAID6 of 9: 28 TB, survives any 2 failures")
    for name in ("RAID50 3x3", "RAID60 2x4", "RAID10 of 8", "RAID1E of 9", "RAID10 of 9, mirrors of 3"):
        assert name in seen.out
    found = fstripe("weigh", "--drives", 9, "--size", "4TB", "--need", "20TB", "--survive", 2, "--json").json
    assert {w["level"] for w in found["layouts"]} == {"RAID6"} and found["layouts"][0]["usable"] < 28 * TB
    for goal, first in (("capacity", "RAID5 of 9"), ("safety", "RAID60 2x4"), ("speed", "RAID1E of 9")):
        ranked = fstripe("weigh", "--drives", 9, "--size", "4TB", "--goal", goal, "--json").json["layouts"]
        assert ranked[0]["name"] == first, goal
    zero = fstripe("weigh", "--drives", 2, "--size", "1TB", "--survive", 0, "--goal", "capacity", "--json").json
    assert zero["layouts"][0]["level"] == "RAID0" and zero["layouts"][0]["loss_during_rebuild"] == 1


def test_drives_of_a_server_a_plot_and_a_measurement(fstripe, skerry):
    job = {"jobname": "seq", "job options": {"rw": "write"}, "read": {"io_bytes": 0},
           "write": {"io_bytes": 10**9, "bw_bytes": 250e6, "iops": 240.0}}  # fmt: skip
    (fstripe.folder / "r.json").write_text(json.dumps({"jobs": [job]}))
    words = ("--at", "skerry", "weigh", "--bays", "4-12", "--plot", "p.png", "--measured", "r.json")
    seen = fstripe(*words)
    assert seen.status == 0 and "less than half of the estimate" in seen.out, seen.err
    assert (fstripe.folder / "p.png").read_bytes().startswith(b"\x89PNG")
    again = fstripe(*words)
    assert again.status == 1 and "p.png: it exists already" in again.err
    held = fstripe(*words[:5], "--measured", "r.json", "--json").json
    assert held["measured"][0]["measured"] == 250e6 and held["layouts"][0]["members"] == 9


def test_levels_are_explained_with_a_drawing(fstripe):
    seen = fstripe("weigh", "--explain", "raid-6")
    assert "It survives any 2 failures." in seen.out and "P" in seen.out and "Q" in seen.out
    for level in ("RAID0", "RAID1", "RAID1E", "RAID10", "RAID4", "RAID5", "RAID50", "RAID60", "SPAN"):
        assert fstripe("weigh", "--explain", level, "--json").json["level"] == level


def test_mistakes_in_weighing_are_one_line(fstripe, skerry):
    (fstripe.folder / "bad.json").write_text("{}")
    for words, status, said in (
        ((), 2, "say which drives"),
        (("--drives", 9), 2, "--drives and --size go together"),
        (("--drives", 9, "--size", "4TB", "--sizes", "1TB"), 2, "say which drives"),
        (("--drives", 4, "--size", "4TB", "--spares", 4), 1, "4 spares of 4 drives leave none"),
        (("--drives", 4, "--size", "4TB", "--need", "90TB"), 1, "no layout of these drives"),
        (("--drives", 4, "--size", "4TB", "--measured", "bad.json"), 1, "this is not an fio JSON result"),
        (("--drives", 4, "--size", "4TB", "--measured", "none.json"), 1, "cannot be read"),
        (("--drives", 4, "--size", "four"), 2, "is not a size"),
        (("--explain", "RAID7"), 1, "is not a level"),
        (("--bays", "4-7"), 2, "Which server"),
    ):
        wrong = fstripe("weigh", *words)
        assert wrong.status == status and said in wrong.err and wrong.err.count("\n") == 1, (words, wrong.err)
    empty = fstripe("--at", "skerry", "weigh", "--bays", "4,16")
    assert empty.status == 1 and "bay 16 is empty" in empty.err


@pytest.mark.parametrize("lost", [0, 1])
@pytest.mark.parametrize(
    ("level", "members", "more"),
    [("RAID5", 5, {}), ("RAID6", 8, {}), ("RAID1", 3, {}), ("RAID10", 8, {}), ("RAID50", 9, {"spans": 3}),
     ("RAID1E", 7, {})],
)  # fmt: skip
def test_counting_agrees_with_the_chain_where_nothing_is_repaired(level, members, more, lost):
    """The binomial count that `watch` uses, against the matrix exponential of the Markov chain."""
    group = redundancy(layout(level, members, **more))
    for hours in (10.0, 1e4, 1e6):
        chain = chance_of_loss(group, Hazards(2.3e-6, 0.0, 0.0), hours, lost=lost)
        assert chance_without_repair(group, 2.3e-6, hours, lost=lost) == pytest.approx(chain, rel=1e-6, abs=1e-13)
        if group.bare > lost:  # what cannot be read counts once the last redundancy is gone, in both
            chain = chance_of_loss(group, Hazards(2.3e-6, 0.0, 0.03), hours, lost=lost)
            counted = chance_without_repair(group, 2.3e-6, hours, lost, 0.03)
            assert counted == pytest.approx(chain, rel=1e-6, abs=1e-13)
