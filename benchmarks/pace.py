"""How many requests a command takes, and how long, of a server whose answers take a while: 24 drives, 2 volumes.

Beside the time stands the physical limit: the depth of the server's tree times the delay, since a resource can only be
asked for when what links to it has been read. Exits with 1 where a count is above its budget.

    python -m benchmarks.pace --delay 0.05 1.0
"""

from __future__ import annotations

import argparse
import json
import os
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from contextlib import contextmanager
from pathlib import Path

from tests.test_https import LOGIN, served

from faithful_stripe.bench import volumes
from faithful_stripe.bench.bench import Bench
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.manners import Manner
from faithful_stripe.redfish.memory import TURNS
from faithful_stripe.redfish.target import Access, connect
from faithful_stripe.work import build
from faithful_stripe.work.seeing import Again
from faithful_stripe.work.survey import survey
from faithful_stripe.work.volumes import VolumeWish, add_volumes, plan_volumes

from .survey import description


def add(client: Client) -> None:
    """Plan and create a volume, and read it back."""
    add_volumes(client, plan_volumes(client, [VolumeWish("c", "RAID1", ("20", "21"), 65536)]))


ACTS: dict[str, Callable[[Client], object]] = {
    "survey": survey, "locate": lambda c: build.locate(c, "5", True),
    "locate again": lambda c: build.locate(c, "5", True), "volume add": add,
}  # fmt: skip
BUDGET = {
    ("survey", False): 43, ("survey", True): 12, ("locate", False): 36, ("locate", True): 10,
    ("locate again", False): 6, ("locate again", True): 6, ("volume add", False): 50, ("volume add", True): 18,
}  # fmt: skip
"""Requests, login and logout included, of a server that can only tell members one by one, or expands collections."""
LOOK = {False: 12, True: 4}
"""Requests of one more look of `watch` or `swap` at which nothing has moved."""
DEPTH = {"survey": 9, "locate": 9, "locate again": 5, "volume add": 14}
"""Root, login, systems, a system, its storage's list, a storage, its volumes' list, a volume, boot options or LED."""


class Counting(Manner):
    """Counts what reaches the service, and takes its time."""

    def __init__(self, inner, delay: float, expands: bool) -> None:
        super().__init__(inner)
        self.delay, self.expands, self.count = delay, expands, 0

    def answer(self, request):
        self.count += 1
        time.sleep(self.delay)
        if self.expands:
            return self.inside(request)
        request.environ["QUERY_STRING"] = ""
        response = self.inside(request)
        if request.path.rstrip("/") == "/redfish/v1":
            body = json.loads(response.get_data())
            body.pop("ProtocolFeaturesSupported", None)
            response.set_data(json.dumps(body))
        return response


@contextmanager
def counted(folder: Path, delay: float, expands: bool):
    """(address, access, the counting layer, the sessions' layer) of a served bench of 24 drives with two volumes."""
    made: list[Counting] = []

    def layer(inner):
        made.append(Counting(inner, delay, expands))
        return made[0]

    with served(folder, layer, description(1)) as (at, door, access):
        bench = Bench(folder / "b")
        with bench.session() as s:
            for name, bays in (("a", ("1", "2", "3", "4")), ("b", ("5", "6", "7"))):
                volumes.create(s.controller, volumes.check(s.controller, Wish(name, "RAID5", bays)))
        bench.close()
        yield at, access, made[0], door


def requests(at: str, access: Access, layer: Counting, door, act: Callable[[Client], object]) -> tuple[int, float]:
    """How many requests an act takes, first contact, login and logout included, and how many seconds."""
    real, about = door._answer, []

    def answer(request):
        found = real(request)
        if found is not None and not request.path.rstrip("/").endswith("v1"):
            about.append(request.path)  # answered before it reaches the service: logging in and out
        return found

    layer.count, door._answer = 0, answer
    began = time.perf_counter()
    try:
        with connect(at, access=access) as client:
            act(client)
    finally:
        door._answer = real
    return layer.count + len(about), time.perf_counter() - began


def looks(at: str, access: Access, layer: Counting, keen: Sequence[str] = ()) -> list[int]:
    """How many requests each look takes after the first one, when nothing moves."""
    with connect(at, access=access) as client:
        again, counts = Again(client, keen), []
        for _number in range(2 * TURNS):
            layer.count = 0
            again.look()
            counts.append(layer.count)
    return counts[1:]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--delay", type=float, nargs="+", default=[0.05, 1.0])
    chosen = parser.parse_args()
    os.environ.update(LOGIN)
    above = 0
    for expands in (False, True):
        for delay in chosen.delay:
            with tempfile.TemporaryDirectory() as place, counted(Path(place), delay, expands) as found:
                for name, act in ACTS.items():
                    at, access, layer, door = found
                    count, seconds = requests(at, access, layer, door, act)
                    limit = DEPTH[name] * delay
                    above += count > BUDGET[name, expands]
                    how = "expands" if expands else "plain"
                    print(f"{how:8} {delay:4g} s an answer: {name:7} {count:3} requests, {seconds:6.2f} s, "
                          f"{seconds / limit:.2f} x the limit")  # fmt: skip
                if delay == min(chosen.delay):
                    most = max(looks(*found[:3]))
                    above += most > LOOK[expands]
                    print(
                        f"{'expands' if expands else 'plain':8} one more look at which nothing moves: {most} requests"
                    )
    sys.exit(above > 0)


if __name__ == "__main__":
    main()
