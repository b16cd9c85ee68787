"""What every job of the work floor raises when it cannot be done as asked."""

from __future__ import annotations

from ..core.errors import StripeError
from ..core.server.acts import Allowed, Refused
from ..core.server.fitness import Reason
from ..core.server.model import Server
from ..core.server.things import Drive


class WorkError(StripeError):
    """A job that cannot be done as asked."""

    template = "{what}"
    remedy = "{to_do}"


class ActRefused(StripeError):
    """An act that would hurt now. `refusal` says why and what comes first, in codes; `server` is what it is about."""

    template = "refused: {because}"

    def __init__(self, server: Server, refusal: Refused) -> None:
        self.server, self.refusal = server, refusal
        super().__init__(because=refusal.because.value)


class Unfit(StripeError):
    """A drive that cannot be taken for something: why, in codes; `volume` where it was meant for one."""

    template = "{path}: the drive does not fit"

    def __init__(self, server: Server, drive: Drive, reasons: tuple[Reason, ...], volume: str = "") -> None:
        self.server, self.drive, self.reasons, self.volume = server, drive, reasons, volume
        super().__init__(path=drive.path)


def granted(server: Server, verdict: Allowed | Refused) -> Allowed:
    """The verdict, if the act may be done. Raises ActRefused."""
    if isinstance(verdict, Refused):
        raise ActRefused(server, verdict)
    return verdict
