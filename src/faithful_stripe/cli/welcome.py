"""What `fstripe` alone says: what it is, whose server it would speak to, what to try, where help is."""

from __future__ import annotations

from collections.abc import Sequence

import click


def welcome(named: Sequence[str]) -> None:
    """Ten lines, none wider than 80 characters but for the server's name."""
    at = f" --at {named[0]}" if named else " --at skerry"
    lines = [
        "fstripe: RAID for the server technician, from empty server to worst day.",
        f"Server: {', '.join(named)} (FSTRIPE_AT)." if named else "Server: none named yet.",
        "",
        "Try it on a simulated server; nothing else on this machine is touched:",
        "  fstripe bench new skerry            create one",
        f"  fstripe{at} survey".ljust(38) + "look at it",
        "  fstripe demo                        a lesson of 90 seconds, in chapters",
        "Your own server; these only read, and ask for user and password:",
        "  fstripe --at https://ADDRESS survey       fstripe --at https://ADDRESS ready",
        "All commands by the stages of the job: fstripe --help",
    ]
    if named:
        lines[3:5] = ["It answers to these; to try without it: fstripe bench new skerry", f"  fstripe{at} bays"]
    click.echo("\n".join(lines))
