"""Writes a man page for every command into a folder, with click-man:

    pip install click-man && python tools/make_man.py build/man
    man build/man/fstripe-lineup-solve.1

Commands are loaded one at a time in the program; here all of them are, so that the generator sees them.
"""

import sys
from pathlib import Path

import click
from click_man.core import write_man_pages

from faithful_stripe import __version__
from faithful_stripe.cli.main import COMMANDS, fstripe


def whole() -> click.Group:
    """The command line with every command loaded."""
    commands = {name: fstripe.get_command(click.Context(fstripe), name) for name in COMMANDS}
    return click.Group("fstripe", commands=commands, params=fstripe.params, help=fstripe.help, epilog=fstripe.epilog)


def main() -> None:
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    write_man_pages("fstripe", whole(), version=__version__, target_dir=str(folder))


if __name__ == "__main__":
    main()
