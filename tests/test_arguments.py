"""What people type: options on either side of the command, trade verbs, levels and serial numbers as they are said."""

import shlex

import pytest

from faithful_stripe.cli.arguments import INSIDE, TRADE, Level, arranged
from faithful_stripe.cli.main import COMMANDS
from faithful_stripe.cli.main import fstripe as tool

NAMES = list(COMMANDS)


@pytest.mark.parametrize(
    ("typed", "meant"),
    [
        ("survey --at b", "--at b survey"),
        ("--at b survey", "--at b survey"),
        ("survey --at=b --json", "--at=b survey --json"),
        ("--speed 60 watch --at b", "--at b watch --speed 60"),
        ("--at bench survey", "--at bench survey"),  # a bench that is called like a command
        ("--at b --speed=9 bench advance 1h", "--at b bench advance 1h --speed=9"),
        ("volume show v --trust sha256:0 --at b", "--trust sha256:0 --at b volume show v"),
        ("--help", "--help"), ("", ""), ("--at", "--at"), ("nonsense --at b", "nonsense --at b"),
        ("survey -- --at b", "survey -- --at b"),
    ],
)  # fmt: skip
def test_options_may_stand_on_either_side_of_the_command(typed, meant):
    assert arranged(typed.split(), NAMES) == meant.split()


def test_the_trades_verbs_are_answered_with_commands_that_exist(fstripe):
    """Each answer names a command, a subcommand and, where it has them, no option that is not there."""
    for verb, answer in TRADE.items():
        words = answer.split()
        if words[0].startswith("--"):
            continue
        command = tool.get_command(None, words[0])
        assert command is not None, verb
        if hasattr(command, "commands") and len(words) > 1 and words[1].islower():
            assert words[1] in command.commands, verb
        assert verb not in COMMANDS or verb == words[0]
        if verb not in COMMANDS:
            said = fstripe(verb)
            assert said.status == 2 and f"fstripe {answer}" in said.err and said.err.count("\n") == 1
    for group, verbs in INSIDE.items():
        commands = tool.get_command(None, group).commands
        for verb, answer in verbs.items():
            assert answer in commands and verb not in commands, (group, verb)
            assert f"fstripe {group} {answer}" in fstripe(group, verb).err


def test_a_word_that_is_near_a_command_is_asked_about(fstripe):
    assert "is 'survey' meant?" in fstripe("survy").err and "is 'show' meant?" in fstripe("volume", "shw").err
    assert fstripe("xyzzy").err == "fstripe: No such command 'xyzzy'; see fstripe --help\n"


@pytest.mark.parametrize(
    ("said", "level"),
    [("5", "RAID5"), ("raid-10", "RAID10"), ("Raid 1e", "RAID1E"), ("span", "SPAN"), ("60", "RAID60")],
)
def test_levels_as_they_are_said(said, level):
    assert Level().convert(said, None, None) == level


def test_alone_it_says_what_it_is_whose_server_and_what_to_try(fstripe, skerry):
    alone = fstripe()
    lines = alone.out.splitlines()
    assert alone.status == 0 and alone.err == "" and len(lines) == 10 and max(map(len, lines)) <= 80
    assert "Server: none named yet." in lines and "\\n" not in alone.out
    named = fstripe(FSTRIPE_AT="skerry")
    assert "Server: skerry (FSTRIPE_AT)." in named.out and "fstripe --at skerry survey" in named.out
    for line in named.out.splitlines():
        if line.startswith("  fstripe --at skerry"):
            assert fstripe(*line.split()[1:4]).status == 0
    family = fstripe("volume")
    assert family.status == 2 and family.err.startswith("Usage: fstripe volume") and "\\n" not in family.err


def test_serial_numbers_and_addresses_as_they_are_typed(fstripe, skerry):
    assert "serial UV4H20931" in fstripe("locate", "uv4h20931", "--at", "skerry").out
    for wrong in ("10.0.0.7", "10.0.0.7:443", "fe80::1", "skerry-1.tide.example"):
        said = fstripe("--at", wrong, "survey")
        assert said.status == 1 and f"a server's address is written https://{wrong}" in said.err
    assert "create it: fstripe bench new gone" in fstripe("--at", "gone", "survey").err


def test_values_are_completed_from_the_last_look(installed, fstripe, skerry):
    def ask(*words):
        """What the installed command offers for the last word, as a shell asks it."""
        line = {"COMP_WORDS": shlex.join(["fstripe", *words]), "COMP_CWORD": str(len(words))}
        told = installed(_FSTRIPE_COMPLETE="bash_complete", **line)
        return [one.partition(",")[2] for one in told.out.splitlines() if one]

    assert ask("--at", "skerry", "locate", "") == []  # nobody has looked yet, and nobody is asked
    serials = [d["serial"] for d in fstripe("--at", "skerry", "bays", "--json").json["bays"] if d["serial"]]
    fstripe("--at", "skerry", "volume", "add", "tides", "--level", "5", "--bays", "4-7", stdin="tides\n")
    fstripe("--at", "skerry", "survey")
    fstripe("--at", "skerry", "firmware", "show")
    assert ask("--at", "skerry", "volume", "show", "") == ["tides"]
    assert ask("--at", "skerry", "locate", "1")[:2] == ["1", "10"]
    assert ask("--at", "skerry", "locate", serials[0][:-1].lower()) == [serials[0]]
    assert ask("--at", "skerry", "volume", "add", "x", "--bays", "8,1")[:2] == ["8,1", "8,10"]
    assert ask("--at", "skerry", "firmware", "set", "Startup") == ["StartupStyle="]
    assert ask("--at", "skerry", "volume", "add", "x", "--level", "5") == ["RAID5", "RAID50"]
    assert ask("--at", "sk") == ["skerry"]


def test_a_terminal_that_knows_no_frames_gets_plain_ones(installed, skerry):
    told = installed("--at", skerry, "bays", PYTHONIOENCODING="ascii").out
    assert told.isascii() and "\\u" not in told
    assert "+ 1 -" in told and "| 480GB SSD |" in told
