"""Makes the manual's page of words anew: docs/words.md.

python tools/make_words.py
"""

from pathlib import Path

from faithful_stripe.cli.vocabulary import page

(Path(__file__).parents[1] / "docs" / "words.md").write_text(page(), encoding="utf-8")
