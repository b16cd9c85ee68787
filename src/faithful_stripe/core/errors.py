"""The root of every error of the project: a template with named facts, a remedy, an exit status.

    StripeError
    +-- core      SizeError, BlockSourceError (Unreadable, ReadOnlySource), GeometryError, ArrayError, FormatError
    +-- media     MediaError
    +-- bench     BenchError, ControllerRefusal
    +-- redfish   RedfishError, TargetError
    +-- work      WorkError

Each floor declares its own classes beside their owner; only this root is shared.
"""

from __future__ import annotations

from typing import Any, ClassVar


class StripeError(Exception):
    """An error that a person reads: what happened and where (`template`), and what to do (`remedy`).

    Both texts are `str.format` templates over the keyword facts given at the raise; the facts stay
    available as `facts` for programs. `exit_status` follows the table of the command line.
    """

    template: ClassVar[str] = "{what}"
    remedy: ClassVar[str] = ""
    exit_status: ClassVar[int] = 1

    def __init__(self, **facts: Any) -> None:
        self.facts = facts
        super().__init__(self.what)

    @property
    def what(self) -> str:
        """The filled template: what is wrong, and where."""
        return self.template.format(**self.facts)

    @property
    def to_do(self) -> str:
        """The filled remedy; empty where there is nothing to advise."""
        return self.remedy.format(**self.facts)

    def __str__(self) -> str:
        return f"{self.what}; {self.to_do}" if self.to_do else self.what

    def __reduce__(self) -> tuple[Any, ...]:
        return (_revive, (type(self), self.facts))


def _revive(kind: type[StripeError], facts: dict[str, Any]) -> StripeError:
    return kind(**facts)
