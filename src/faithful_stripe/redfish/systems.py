"""Several systems behind one manager: which of them is meant."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.server.unknown import known
from .client import Client
from .exchange import Body, RedfishError
from .plain import last_of, path_of, text


def name_of(system: Body) -> str:
    """What a system is called: its Id, else the last part of its path."""
    return str(known(text(system, "Id"), last_of(path_of(system))))


def meant(client: Client, systems: Sequence[Body]) -> list[Body]:
    """The systems that a person means: the one that `client.system` names by Id, name, host name, serial number, UUID
    or path, all without it. Raises RedfishError where there is none, or more than one, of that name."""
    if not client.system:
        return list(systems)
    wanted = client.system.lower()
    mine = [s for s in systems if wanted in _names(s)]
    if len(mine) == 1:
        return mine
    listed = ", ".join(name_of(s) for s in systems) or "none"
    what = f"{client.where}: {'more than one system is' if mine else 'there is no system'} {client.system}"
    raise RedfishError(what=what, to_do=f"name one with --system: {listed}", status=404, message_id="")


def _names(system: Body) -> set[str]:
    told = [text(system, key) for key in ("Id", "Name", "HostName", "SerialNumber", "UUID")]
    return {str(t).lower() for t in [*told, path_of(system), last_of(path_of(system))] if isinstance(t, str) and t}
