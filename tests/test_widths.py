"""Every main output in any width: nothing wider than the terminal, no word, number or name broken, nothing lost."""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.style import Style

from faithful_stripe.cli import layout
from faithful_stripe.cli.render import STYLES

from .conftest import SERIALS

WIDTHS = (60, 80, 100, 160)
COMMANDS = (
    ("survey",), ("survey", "--identities"), ("log",), ("volume", "show", "tides"), ("weigh", "--bays", "8-12"),
    ("weigh", "--explain", "60"), ("firmware", "show"), ("controller", "show"), ("ready",), ("bays",),
    ("volume", "found"),
    ("stock", "list", "--stock", "stock.csv"), ("stock", "match", "5", "--stock", "stock.csv"),
    ("volume", "add", "more", "--level", "10", "--bays", "8-11"),
)  # fmt: skip


@pytest.fixture
def server(fstripe, skerry):
    """A server in trouble, with long texts to show."""
    at = ("--at", "skerry")
    fstripe(*at, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials",
            ",".join(SERIALS))  # fmt: skip
    fstripe(*at, "bench", "fault", "5")
    fstripe(*at, "bench", "fault", "9", "predicted")
    for serial in ("S1", "S2"):
        fstripe("stock", "add", serial, "--size", "4TB", "--media", "HDD", "--protocol", "SAS", "--rpm", "7200",
                "--note", "from the mast hut, ran warm for a summer", "--stock", "stock.csv")  # fmt: skip
    return fstripe


def words(text):
    """What is read as one: without frames, and without what is only laid out otherwise."""
    return set(re.sub(r"[│┌┐└┘├┤┬┴┼─]", " ", text).lower().split())


@pytest.mark.parametrize("command", COMMANDS, ids=" ".join)
def test_nothing_is_broken_or_too_wide(server, command):
    at = () if "--explain" in command or command[:2] == ("stock", "list") else ("--at", "skerry")
    wide = server(*at, *command, FSTRIPE_WIDTH="400")
    shown = wide.out + wide.err
    assert shown.strip()
    for width in WIDTHS:
        got = server(*at, *command, FSTRIPE_WIDTH=str(width))
        assert got.status == wide.status
        for line in got.out.splitlines():
            assert len(line) <= width or " " not in line.strip(), (width, line)
        if command[0] != "bays":  # a bay's words are chosen by its width
            strange = {w for w in words(got.out) - words(shown) if not re.match(r"\d\d:\d\d", w)}
            assert not strange, (width, strange)


@pytest.mark.parametrize("width", WIDTHS)
def test_what_must_be_seen_is_seen_in_any_width(server, width):
    survey = server("--at", "skerry", "survey", FSTRIPE_WIDTH=str(width)).out
    for serial in SERIALS:
        assert len(re.findall(rf"\b{serial}\b", survey)) >= 1
    for fact in ("tides", "RAID5", "degraded", "fstripe swap 5", "Critical", "Warning", "empty"):
        assert fact in survey, fact
    assert "4 (5) 6 7" in survey and re.search(r"margin +0|MARGIN", survey)
    bays = server("--at", "skerry", "bays", FSTRIPE_WIDTH=str(width)).out
    assert "failed" in bays and all(f"tides {n}" in bays for n in range(4))


TEXT = st.text(st.sampled_from("abcdefgh 0123456789-/.,"), max_size=40).map(lambda s: " ".join(s.split()))


COLUMN = st.tuples(st.sampled_from(["a", "bay", "long name"]), st.booleans(), st.integers(0, 3))


@st.composite
def drawn_table(draw):
    """(columns, rows of texts, width)."""
    n = draw(st.integers(1, 6))
    columns = [layout.Column(*draw(COLUMN)) for _ in range(n)]
    return (
        columns,
        draw(st.lists(st.lists(TEXT, min_size=n, max_size=n), min_size=1, max_size=4)),
        draw(st.integers(24, 130)),
    )


@given(drawn_table())
def test_a_table_of_anything_in_any_width(drawn):
    columns, rows, width = drawn
    pieces = [[layout.Piece(cell) for cell in row] for row in rows]
    lines = ["".join(p.text for p in row) for row in layout.table(columns, pieces, width)]
    told = " ".join(lines).split()
    whole = [word for row in rows for cell in row for word in cell.split()]
    longest = max([*map(len, whole), *(len(c.name) for c in columns)], default=0)
    assert all(len(line) <= max(width, 2 * longest + 30) for line in lines)
    heads = {w for c in columns for w in (*c.name.split(), *c.head.split())}
    assert set(told) <= set(whole) | heads
    kept = [c for c, column in zip(zip(*rows, strict=True), columns, strict=True) if not column.goes]
    assert {w for cells in kept for cell in cells for w in cell.split()} <= set(told)


def test_numbers_keep_their_units_and_thousands():
    assert layout.lines_of("it holds 12 TB and the chance is 1 in 17 000", 22) == [
        "it holds 12 TB and the", "  chance is", "  1 in 17 000"
    ]  # fmt: skip
    assert layout.lines_of("Warning   volume tides: degraded", 24) == ["Warning   volume tides:", " " * 10 + "degraded"]
    assert layout.Column.of(">size?2") == layout.Column("size", True, 2) and layout.Column.of("=a.img").head == "a.img"


GROUNDS = {"white": (255, 255, 255), "dark grey": (28, 28, 28), "black": (0, 0, 0)}
LEAST_CONTRAST = 3.0
"""Of text that is bold or large, by WCAG 2.2, 1.4.3; nothing here is told by colour alone."""


def brightness(colour):
    """Relative luminance, by WCAG 2.2."""
    parts = [x / 255 for x in colour]
    linear = [x / 12.92 if x <= 0.03928 else ((x + 0.055) / 1.055) ** 2.4 for x in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


@pytest.mark.parametrize("name", [name for name, style in STYLES.items() if "color" in style])
def test_every_colour_is_read_on_light_and_on_dark_grounds(name):
    shown = Style.parse(STYLES[name]).color.get_truecolor()
    for ground, colour in GROUNDS.items():
        light, dark = sorted((brightness(shown), brightness(colour)), reverse=True)
        assert (light + 0.05) / (dark + 0.05) >= LEAST_CONTRAST, (name, ground)
