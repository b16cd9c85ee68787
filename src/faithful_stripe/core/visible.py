"""Text that others wrote, fit to be shown: nothing in it moves a cursor, breaks a line or turns the writing round."""

from __future__ import annotations

import re

_UNSEEN = re.compile(r"[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ud800-\udfff]")
"""Control characters, line and paragraph separators, bidirectional and zero-width marks, half surrogates."""


def visible(text: str) -> str:
    r"""The text with what cannot be seen spelled out.

    >>> visible("T\r\nFAKE\x1b[31m"), visible("plain, ünïcödé")
    ('T\\r\\nFAKE\\x1b[31m', 'plain, ünïcödé')
    """
    return _UNSEEN.sub(lambda found: found[0].encode("unicode_escape").decode("ascii"), text)
