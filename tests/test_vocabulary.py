"""One vocabulary: no forbidden word in what a person reads, commands that exist, a page that is current."""

import ast
import re
from collections import Counter
from pathlib import Path

import click
import pytest

import faithful_stripe
from faithful_stripe.cli.main import COMMANDS
from faithful_stripe.cli.main import fstripe as tool
from faithful_stripe.cli.vocabulary import WORDS, found, page

ROOT = Path(__file__).parents[1]
FORBIDDEN = re.compile(
    r"\b(mend(s|ed|ing)?|unassigned|cupboard|adds? up|cannot be had|sick|nats?|standby|\[Errno|resync|physical disk"
    r"|makes?|made|go(es)? on|(takes?|taken) over|stands? in for"
    r"|1 (settings|drives|volumes|checks|servers|rows|members))\b",
    re.IGNORECASE,
)  # fmt: skip
SPARED = {"vocabulary.py", "arguments.py"}
"""They name the words of others, to answer them."""


def _docstrings(tree):
    """Docstrings, but those of commands, which are help texts; and strings that stand by themselves, as comments."""
    for node in ast.walk(tree):
        body = getattr(node, "body", None)
        if not isinstance(body, list):
            continue
        shown = any(
            "command" in ast.unparse(d) or "group" in ast.unparse(d) for d in getattr(node, "decorator_list", ())
        )
        for number, inner in enumerate(body):
            alone = isinstance(inner, ast.Expr) and isinstance(inner.value, ast.Constant)
            if alone and not (shown and number == 0):
                yield id(inner.value)


def texts():
    """(where, text) of every string in the program that a person may read."""
    for path in sorted((ROOT / "src").rglob("*.py")):
        if path.name in SPARED or path.parent.name == "formats":  # the words of the formats' own descriptions
            continue
        tree = ast.parse(path.read_text())
        silent = set(_docstrings(tree))
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in silent:
                yield f"{path.name}:{node.lineno}", node.value
    for path in (ROOT / "src").rglob("templates/*"):
        if path.is_file():
            yield path.name, path.read_text()


def test_no_forbidden_word_is_read_by_anybody():
    wrong = [
        (where, found[0], text[:80]) for where, text in texts() if " " in text and (found := FORBIDDEN.search(text))
    ]
    assert not wrong, wrong
    assert sum(1 for _ in texts()) > 3000


def commands(group=None, path=()):
    for name in COMMANDS if group is None else group.commands:
        command = tool.get_command(None, name) if group is None else group.commands[name]
        yield (*path, name), command
        if isinstance(command, click.Group):
            yield from commands(command, (*path, name))


KNOWN = dict(commands())


def exists(line):
    """Whether a command line as it is printed names a command and options that there are."""
    words = line.replace("[", " ").replace("]", " ").split()
    path = ()
    while words and (*path, words[0]) in KNOWN:
        path += (words.pop(0),)
    if not path:
        return False
    options = {o for p in KNOWN[path].params for o in p.opts} | {"--help", "--at", "--ca", "--trust"}
    return all(w.partition("=")[0] in options for w in words if w.startswith("--"))


def test_remedies_name_commands_and_options_that_exist():
    told = [(where, line) for where, text in texts() for line in re.findall(r"`((?:fstripe )?[a-z]+ [^`{}]*)`", text)]
    told = [(where, line.removeprefix("fstripe ")) for where, line in told]
    told = [(where, line) for where, line in told if line.split()[0] in COMMANDS]
    assert len(told) > 20
    assert not [one for one in told if not exists(one[1])]


def test_every_command_has_help_and_an_example_and_the_words_of_it_exist():
    for path, command in KNOWN.items():
        assert command.help and "Example:" in command.help, path
        for line in re.findall(r"^\s*fstripe (.*)$", command.help, re.MULTILINE):
            line = re.sub(r"--at \S+ ", "", line).split("#")[0]
            assert exists(line), (path, line)
    for word in WORDS:
        assert exists(word.command), word


@pytest.mark.parametrize(
    ("term", "word"),
    [("stripe", "row"), ("Virtual Drive", "volume"), ("scrub", "check"), ("margin", "margin"), ("PD", "drive")],
)
def test_the_trades_words_lead_to_ours(fstripe, term, word):
    assert word in [w.word for w in found(term)]
    said = fstripe("words", *term.split())
    assert said.status == 0 and word in said.out and "fstripe " in said.out


def test_an_unknown_word_is_one_line_and_every_word_is_there_once(fstripe):
    said = fstripe("words", "xyzzy")
    assert said.status == 1 and said.err.count("\n") == 1
    assert "is one of these meant: margin" in fstripe("words", "margn").err
    assert len({w.word for w in WORDS}) == len(WORDS) == len(fstripe("words", "--json").json)
    assert (ROOT / "docs" / "words.md").read_text() == page(), "make it anew: python tools/make_manual.py"


@pytest.mark.parametrize(
    "words",
    [
        ("--at", "skerry", "stock", "list", "--stock", "none.csv"), ("rehearse", "none.txt", "--like", "skerry"),
        ("--at", "skerry", "build", "none.toml"), ("lineup", "draw", "none.toml"), ("--at", "list.toml", "survey"),
        ("--at", "skerry", "report", "x.md", "--advisories", "none.toml"), ("bench", "new", "b", "--from", "none.toml"),
        ("--at", "skerry", "firmware", "show", "--roles", "none.toml"),
        ("--at", "https://127.0.0.1:9", "--ca", "none.pem", "survey"), ("lineup", "solve", "none.img"),
    ],
)  # fmt: skip
def test_a_file_that_is_not_there_is_said_in_plain_words(fstripe, skerry, tmp_path, words):
    (tmp_path / "list.toml").write_text("servers = 3\n")
    told = fstripe(*words)
    assert told.status in (1, 2) and "[Errno" not in told.err and "Errno" not in told.out
    assert len(told.err.strip().splitlines()) == 1, told.err


def test_a_file_of_the_solver_is_known_by_its_name_alone() -> None:
    """No name of a file in the lineup's rooms occurs a second time in the core."""
    core = Path(faithful_stripe.__file__).parent / "core"
    names = Counter(p.name for p in core.rglob("*.py") if p.name != "__init__.py")
    rooms = {p.name for p in (core / "lineup").rglob("*.py")} - {"__init__.py"}
    assert len(rooms) > 50
    assert not [name for name in rooms if names[name] > 1]
