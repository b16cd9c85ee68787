"""`python -m faithful_stripe` is `fstripe`."""

from .cli.main import run

run()
