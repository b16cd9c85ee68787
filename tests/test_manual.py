"""The manual is what the program says: its reference, its outputs, and every command that a page tells to type."""

import importlib
import re
import shlex
import sys
from pathlib import Path

import click
import pytest
from tools import make_manual

from faithful_stripe.cli.arguments import arranged
from faithful_stripe.cli.main import COMMANDS, fstripe
from faithful_stripe.cli.reference import page

from .test_vocabulary import KNOWN

DOCS = Path(__file__).parents[1] / "docs"
ANEW = "make it anew: python tools/make_manual.py"


def test_the_command_reference_is_current():
    assert (DOCS / "commands.md").read_text() == page(), ANEW


@pytest.mark.long
def test_the_outputs_of_the_job_are_current():
    assert (DOCS / "job.md").read_text() == make_manual.job(), ANEW


@pytest.mark.parametrize(
    "name", sorted(p.name for p in DOCS.glob("*.md") if p.name != "commands.md") + ["../README.md"]
)
def test_every_command_of_a_page_is_one_and_every_page_it_leads_to_is_there(name):
    text = (DOCS / name).read_text()
    lines = [line.removeprefix("$ ").split("   ")[0] for line in text.splitlines()]
    typed = [line for line in lines if line.startswith("fstripe ") and "..." not in line]
    typed += re.findall(r"`(fstripe [^`]+)`", text)
    for line in typed:
        words = arranged(shlex.split(line.split(" > ")[0])[1:], list(COMMANDS))
        command, context = fstripe, click.Context(fstripe, info_name="fstripe")
        while words:
            word = words.pop(0)
            if word.startswith("-"):
                option = next((p for p in command.params if word.split("=")[0] in p.opts), None)
                assert option is not None or word == "--help", (line, word)
                if option is not None and not option.is_flag and "=" not in word:
                    words = words[1:]
            elif isinstance(command, click.Group) and not word.isupper():
                inner = command.get_command(context, word)
                assert inner is not None, (line, word)
                command = inner
    for path in re.findall(r"\]\(([^)#:]+)\)", text):
        assert (DOCS / name).parent.joinpath(path).exists(), path


@pytest.mark.long
def test_the_first_quarter_of_an_hour_works_as_it_is_pasted(installed, tmp_path):
    """The README's own lines, one after the other, in an empty folder; questions are answered with the name."""
    text = (DOCS.parent / "README.md").read_text()
    block = text.partition("## A first quarter of an hour")[2].split("```")[1]
    at: dict[str, str] = {}
    ran = 0
    for line in block.strip().splitlines():
        words = shlex.split(line, comments=True)
        if words[:1] == ["export"]:
            at = dict([words[1].split("=", 1)])
        elif words[:1] == ["fstripe"]:
            done = installed(*words[1:], stdin="tides\n", **at)
            assert done.status in (0, 3), (line, done.err)
            ran += 1
    assert ran >= 10
    assert installed("survey", **at).status == 0  # the rebuild was followed to its end, and a hot spare is there


def test_every_command_gets_a_man_page(tmp_path, monkeypatch):
    pytest.importorskip("click_man", reason="click-man is not installed: pip install '.[manual]'")
    make_man = importlib.import_module("tools.make_man")
    monkeypatch.setattr(sys, "argv", ["make_man.py", str(tmp_path)])
    make_man.main()
    pages = {p.name for p in tmp_path.iterdir()}
    assert {f"fstripe-{'-'.join(path)}.1" for path in KNOWN} | {"fstripe.1"} == pages
    assert ".SH OPTIONS" in (tmp_path / "fstripe-lineup-solve.1").read_text()
