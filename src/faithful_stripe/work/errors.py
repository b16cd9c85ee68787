"""What every job of the work floor raises when it cannot be done as asked."""

from __future__ import annotations

from ..core.errors import StripeError


class WorkError(StripeError):
    """A job that cannot be done as asked."""

    template = "{what}"
    remedy = "{to_do}"
