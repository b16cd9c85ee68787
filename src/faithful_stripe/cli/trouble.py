"""Errors in words: those that carry codes are put into sentences here, the others bring their own."""

from __future__ import annotations

from ..core.errors import StripeError
from ..core.server.fitness import Why
from ..core.server.things import UseKind
from ..work.errors import ActRefused, Unfit
from ..work.picking import free_bays
from .verdicts import refusal_words
from .words import bay_words, drive_words, reason_words, use_words


def trouble_words(trouble: StripeError) -> tuple[str, str]:
    """What happened, and what to do."""
    if isinstance(trouble, ActRefused):
        return refusal_words(trouble.server, trouble.refusal)
    if isinstance(trouble, Unfit):
        return _unfit(trouble)
    return trouble.what, trouble.to_do


def _unfit(trouble: Unfit) -> tuple[str, str]:
    d, reasons = trouble.drive, trouble.reasons
    if trouble.volume:
        why = "; ".join(reason_words(r) for r in reasons)
        what = f"{bay_words(d)} cannot serve volume {trouble.volume}: {why}"
        return what, "choose another drive: nothing was changed"
    free = f"free bays: {', '.join(free_bays(trouble.server)) or 'none'}"
    first = reasons[0]
    what = f"bay {d.bay}: {drive_words(d)} "
    if first.why is Why.FAILED:
        return f"{what}has failed", f"replace it, or choose another ({free})"
    if first.why is Why.IN_USE and d.used_as(UseKind.NOT_KNOWN):
        what = f"what {bay_words(d)} is used for is not known: volumes or their members could not be read"
        return what, f"use a drive of which it is known ({free})"
    if first.why is Why.IN_USE:
        return f"{what}is {use_words(d)}", free
    if first.why is Why.PREDICTED:
        return f"{what}predicts its failure", f"choose another ({free}), or take it with --failing"
    if first.why is Why.FOUND:
        name = first.facts["volume"]
        to_do = f"look at it: `volume found`; forget it: `volume forget {name}`; or take the drive with --over-found"
        return f"{what}belongs to volume {name} of another controller", to_do
    return f"{what}does not do: {'; '.join(reason_words(r) for r in reasons)}", free
