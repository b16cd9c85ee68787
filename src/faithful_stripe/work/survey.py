"""Survey: a whole server read, with what the system's own firmware sees of its volumes."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ..core.server.model import Server
from ..redfish.client import Client, gap
from ..redfish.exchange import FATAL, Body, RedfishError
from ..redfish.plain import last_of, link, links, path_of
from ..redfish.reading import read_server
from ..redfish.systems import meant, name_of
from .errors import WorkError
from .remembered import remember_names
from .seen import as_seen


@dataclass(frozen=True)
class Paths:
    """Where the resources of the first system and its storage are, as the server links them."""

    system: Body
    storages: tuple[Body, ...]
    manager: Body
    systems: tuple[Body, ...]

    def storage(self, controller: str) -> Body:
        """The storage of a controller that offers volumes. Raises WorkError."""
        for storage in self.storages:
            name = str(storage.get("Id") or last_of(path_of(storage)))
            system = path_of(storage).split("/Storage/")[0].rpartition("/")[2]
            if controller in (name, f"{system}/{name}") and link(storage, "Volumes"):
                return storage
        what = f"controller {controller} offers no volumes"
        raise WorkError(what=what, to_do="its firmware may have to be set to RAID: `firmware show`")


def find(client: Client) -> Paths:
    """The first system with storage (else the first), all storage, and its manager. Raises WorkError without any."""
    systems = meant(client, list(client.members(_link(client.root, "Systems"))))
    if not systems:
        raise WorkError(what=f"{client.where}: it tells of no system", to_do="is this a server's own address?")
    storages = tuple(s for one in systems if link(one, "Storage") for s in client.members(link(one, "Storage"), gap))
    system = next((s for s in systems if link(s, "Storage")), systems[0])
    managers = links(system, "Links", "ManagedBy")
    return Paths(system, storages, client.maybe(managers[0]) if managers else {}, tuple(systems))


def one_system(client: Client) -> Body:
    """The system that a command is about which is about one only. Raises WorkError where there are several and none
    of them is named."""
    found = find(client)
    if len(found.systems) > 1:
        listed = ", ".join(name_of(s) for s in found.systems)
        what = f"{client.where}: there are {len(found.systems)} systems behind this address"
        raise WorkError(what=what, to_do=f"name one with --system: {listed}")
    return found.system


def survey(client: Client, sight: bool = True) -> Server:
    """Read the whole server. Raises RedfishError, WorkError.

    sight  also what the system's own firmware sees of the volumes, which changes only as the server starts: those
           who look again and again do without
    """
    with client.look():
        seen = read_server(client)
        remember_names(client.where, seen)
        if not sight or not seen.volumes:
            return seen
        try:
            systems = find(client).systems
            wanted = [page for s in systems for page in (link(s, "Boot", "BootOptions"), link(s, "SimpleStorage"))]
            client.ahead(client.page(page) for page in wanted)
            told = list(seen.volumes)
            for system in systems:
                mine = [v for v in told if len(systems) == 1 or v.path.startswith(path_of(system) + "/")]
                by_path = {v.path: v for v in as_seen(client, system, mine)}
                told = [by_path.get(v.path, v) for v in told]
            return replace(seen, volumes=tuple(told))
        except RedfishError as reason:
            if reason.facts["status"] in FATAL:
                raise
            return seen  # what its firmware sees is not told


def _link(body: Body, key: str) -> str:
    found = link(body, key)
    if not found:
        what = f"{body.get('@odata.id', 'the server')} has no link {key}"
        raise WorkError(what=what, to_do="this server does not offer what the command needs")
    return found
