"""Layouts that are found on drives and that no array is made in here: parity that moves on after several rows, spare
space in every row, an outer stripe of single strips."""

from types import SimpleNamespace

import numpy as np
import pytest

from faithful_stripe.core.arrays.engine import Array, DataLost
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.arrays.layout import MOST_TURN_ROWS, UNUSED, layout
from faithful_stripe.core.arrays.levels import GeometryError
from faithful_stripe.core.lineup.evidence.row_tests import rows_by_what_is_left
from faithful_stripe.core.lineup.evidence.sampled_places import Place
from faithful_stripe.core.lineup.hypotheses.assignment import Hypothesis
from faithful_stripe.core.lineup.hypotheses.candidate import Candidate
from faithful_stripe.core.lineup.structures.anchors import Anchors
from faithful_stripe.core.lineup.structures.ground import Ground
from faithful_stripe.core.lineup.verdict.certainty import turns_later
from faithful_stripe.core.source import MemorySource
from faithful_stripe.media.image import ImageFile
from faithful_stripe.work.lineup import solve_images

from .cutting import pile, right
from .slicer import Spec, cut

CASES = [
    ("ntfs", Spec("RAID5", 4, 16384, "parity-N", "continuation", turn_rows=16), (), "certain"),
    ("xfs", Spec("RAID5", 5, 16384, "parity-0", "restart", turn_rows=4), (), "undecided"),
    pytest.param(
        "xfs",
        Spec("RAID5", 5, 32768, "parity-N", "continuation", spare="after-p"),
        (1,),
        "likely",
        marks=pytest.mark.long,
    ),
    pytest.param(
        "ntfs", Spec("RAID5", 5, 16384, "parity-N", "restart", spare="before-p"), (), "certain", marks=pytest.mark.long
    ),
    ("xfs", Spec("RAID50", 6, 16384, "parity-N", "continuation", spans=2, outer="strip"), (2,), "likely"),
    (
        "xfs",
        Spec("RAID6", 6, 16384, "parity-N", "continuation", "after-p", "data-index", turn_rows=4),
        (3,),
        "undecided",
    ),
    ("ntfs", Spec("RAID6", 5, 16384, "parity-N", "restart", "after-p", "data-index-reversed"), (), "certain"),
    pytest.param(
        "ntfs",
        Spec("RAID6", 6, 16384, "parity-0", "restart", "after-p", "member-position-reversed"),
        (),
        "certain",
        marks=pytest.mark.long,
    ),
    pytest.param(
        "ntfs",
        Spec("RAID6", 6, 16384, "parity-0", "restart", "after-p", "data-index-reversed"),
        (2,),
        "certain",
        marks=pytest.mark.long,
    ),
]
"""Little data: undecided where parity may as well move on later than the data reach."""


@pytest.mark.parametrize(("content", "spec", "gone", "sure"), CASES, ids=lambda v: getattr(v, "level", str(v)))
def test_a_rare_layout_is_found_and_read(volumes, tmp_path, content, spec, gone, sure):
    """They were called something else; a RAID 6 a probable one with the wrong strips, and spare space empty Q."""
    case = pile(tmp_path, volumes / f"{content}.img", spec, gone=gone)
    (array,) = solve_images(case.images).arrays
    chosen = array.geometry.layout
    assert (chosen.turn_rows, chosen.spare, chosen.outer) == (spec.turn_rows, spec.spare, spec.outer)
    assert chosen.q_exponent == spec.q_exponent
    if sure == "likely":  # probable or not is what was measured
        assert array.signs.likely and array.verdicts.placing != "certain" and right(case, array)
    else:
        assert array.verdicts.placing == sure and right(case, array)


REVERSED = [
    {"level": "RAID6", "data": "restart", "q_place": "after-p", "q_exponent": f"{rule}-reversed"}
    for rule in ("data-index", "member-position")
]


@pytest.mark.parametrize("gone", [(), (0,), (4,), (1, 2)])
@pytest.mark.parametrize("rare", [{"turn_rows": 4}, {"spare": "before-p"}, {"outer": "strip"}, *REVERSED], ids=str)
def test_the_engine_reads_what_an_independent_slicer_cut(volumes, tmp_path, rare, gone):
    rare = dict(rare)
    level, spans = ("RAID50", 2) if "outer" in rare else (rare.pop("level", "RAID5"), 1)
    data = rare.pop("data", "continuation")
    gone = gone[: 2 if level == "RAID6" else 1]
    spec = Spec(level, 6, 8192, "parity-0", data, spans=spans, **rare)
    members = [tmp_path / f"m{m}" for m in range(6)]
    area = cut(volumes / "fat16.img", spec, members)
    made = geometry(
        level, 6, 8192, member_bytes=area, rotation="parity-0", data=data, spans=spans if spans > 1 else None,
        **rare,
    )  # fmt: skip
    images = [ImageFile(m) for m in members]
    array = Array(made, [None if n in gone else i for n, i in enumerate(images)])
    whole = (volumes / "fat16.img").read_bytes()
    got = bytearray(len(whole))
    array.read_into(0, got)
    assert got == whole
    for image in images:
        image.close()


def test_nothing_says_what_is_in_spare_space():
    """It was asked for where an image that takes no part was compared with what a member must hold."""
    made = geometry("RAID5", 5, 4096, member_bytes=1 << 16, spare="after-p")
    array = Array(made, [MemorySource(1 << 16) for _ in range(5)])
    place = next(m for m in range(5) if made.pattern.index[0, m] == UNUSED)
    with pytest.raises(DataLost):
        array.compute(place, 0, 0, np.zeros(512, np.uint8))


@pytest.mark.parametrize(
    ("content", "spec"),
    [
        # what goes on from block to block is better explained by some rare layout, of so many
        pytest.param(
            "log",
            Spec("RAID60", 12, 262144, "parity-N", "continuation", "before-p", "data-index", spans=2),
            marks=pytest.mark.long,
        ),
        pytest.param("pages", Spec("RAID0", 8, 4096), marks=pytest.mark.long),
        ("pages", Spec("RAID0", 4, 16384)),
        pytest.param(
            "log", Spec("RAID6", 12, 8192, "parity-0", "restart", "after-p", "data-index"), marks=pytest.mark.long
        ),
    ],
    ids=lambda v: getattr(v, "level", v),
)
def test_a_usual_layout_stays_one(volumes, tmp_path, content, spec):
    """With a sector in every other row that cannot be read, and nothing that states an address but counters."""
    case = pile(tmp_path, volumes / f"{content}.img", spec)
    for number, image in enumerate(case.images[:3]):
        with image.open("r+b") as file:
            for row in range(number, image.stat().st_size // spec.strip, 6):
                file.seek(row * spec.strip + 512 * number)
                file.write(bytes(512))
    (array,) = solve_images(case.images).arrays
    assert array.geometry.layout.usual and array.geometry.strip_bytes == spec.strip


def test_what_is_rare_goes_with_its_level_only():
    for level, members, rare in (
        ("RAID0", 4, {"turn_rows": 4}), ("RAID4", 4, {"turn_rows": 2}), ("RAID5", 4, {"turn_rows": MOST_TURN_ROWS + 1}),
        ("RAID5", 3, {"spare": "after-p"}), ("RAID6", 5, {"spare": "after-p"}), ("RAID5", 5, {"spare": "beside"}),
        ("RAID5", 4, {"outer": "strip"}), ("RAID50", 6, {"outer": "cell"}),
    ):  # fmt: skip
        with pytest.raises(GeometryError):
            geometry(level, members, 4096, member_bytes=1 << 20, **rare)
    made = geometry("RAID50", 6, 4096, member_bytes=1 << 20, outer="strip")
    array = Array(made, [MemorySource(1 << 20) for _ in range(6)])
    for change in (lambda: array.write(0, b"x"), lambda: array.discard(0, 1 << 16)):
        with pytest.raises(GeometryError, match="one strip cannot be written"):
            change()


def test_a_rare_lineup_is_said_drawn_tried_and_not_put_into_a_set_up(fstripe, volumes):
    names = [f"ebb-{n}.img" for n in (3, 0, 2, 1)]
    spec = Spec("RAID5", 4, 16384, "parity-N", "continuation", turn_rows=16)
    cut(volumes / "ntfs.img", spec, [fstripe.folder / n for n in names])
    solved = fstripe("lineup", "solve", *sorted(names), "--out", "found.toml")
    assert solved.status == 0
    assert "RAID5 of 4, strip 16 KiB, parity-N, continuation, parity moves every 16 rows" in solved.out
    told = (fstripe.folder / "found.toml").read_text()
    assert "turn_rows = 16" in told
    assert fstripe("lineup", "prove", "found.toml").status == 0
    (fstripe.folder / "other.toml").write_text(told.replace("turn_rows = 16", "turn_rows = 8"))
    wrong = fstripe("lineup", "prove", "other.toml")
    assert wrong.status == 3 and "turn_rows 16, it states parity-N continuation turn_rows 8" in wrong.out
    compared = fstripe("lineup", "compare", "found.toml", "other.toml").out
    assert "rows at a turn" in compared and "stands elsewhere" in compared
    assert fstripe("lineup", "extract", "found.toml", "volume.img").status == 0
    whole = (volumes / "ntfs.img").read_bytes()
    assert (fstripe.folder / "volume.img").read_bytes()[: len(whole)] == whole
    refused = fstripe("lineup", "adopt", "found.toml", "new")
    assert refused.status == 1 and "DDF cannot state this array" in refused.err
    assert not (fstripe.folder / "new").exists()
    spare = told.replace("turn_rows = 16", 'spare = "after-p"')
    (fstripe.folder / "spare.toml").write_text(spare)
    assert "spare" in fstripe("lineup", "draw", "spare.toml").out
    for bad in ("turn_rows = 99", 'spare = "beside"', 'outer = "strip"', 'turn_rows = "4"'):
        (fstripe.folder / "bad.toml").write_text(told.replace("turn_rows = 16", bad))
        refused = fstripe("lineup", "draw", "bad.toml")
        assert refused.status == 1 and refused.err.count("\n") == 1 and refused.err.startswith("fstripe: ")


def test_a_raid_4_known_by_its_first_rows_is_not_certain():
    """Real XFS on parity that moves every 16 rows: all that was read stood in the first, and it was a certain RAID 4.
    It may be one where no data stand behind those rows, or where something there states its address."""
    strip, made = 65536, layout("RAID4", 5, "fixed-N", None)
    h = Hypothesis(Candidate("RAID4", (made,), tuple((i,) for i in range(5))), made, strip, 0, 0, (0, 1, 2, 3, 4), 0.0)

    def told(rows, last):
        row, who = (np.array(rows)[:, None] + np.zeros(4, int)).reshape(-1), np.tile(np.arange(4), len(rows))
        facts = Anchors(Ground(b"x", "x", 1 << 30), who, row * strip, (row * 4 + who) * strip, np.ones(len(row), int))
        places = [Place(at * strip, frozenset(range(5)), ()) for at in (0, last)]
        return turns_later(SimpleNamespace(places=places), h, [(facts, 0)])

    assert told(range(8), 400)
    assert not told(range(8), 1)
    assert not told([*range(8), 30, 70, 130], 400)


@pytest.mark.parametrize("gone", [0, 3, 5])
def test_with_one_member_missing_one_equation_is_left_of_p_and_q(volumes, tmp_path, gone):
    """Q counted the other way round does not match it, where rows hold several strips; nothing was tested at all."""
    members = [tmp_path / f"m{m}" for m in range(6)]
    spec = Spec("RAID6", 6, 8192, "parity-N", "restart", "after-p", "data-index-reversed")
    area = cut(volumes / "ntfs.img", spec, members)
    images = [ImageFile(m) if n != gone else None for n, m in enumerate(members)]
    for rule, most in (("data-index-reversed", 0.0), ("data-index", 1.0), ("member-position", 1.0)):
        made = geometry(
            "RAID6", 6, 8192, member_bytes=area, rotation="parity-N", data="restart", q_place="after-p", q_exponent=rule
        )
        tested, broken = rows_by_what_is_left(Array(made, images), 40)
        assert tested >= 20 and (broken == 0 if not most else broken > 0.25 * tested)
    for image in images:
        if image is not None:
            image.close()
