"""A room of servers: one survey of all, and an hour of watching, a look a minute, while drives fail and are replaced.

The servers are trees of standard properties in this process, each answer a millisecond late. Prints requests, seconds,
memory, and how many of the troubles that began and ended were told. Exits with 1 where one was missed or told twice.

    python -m benchmarks.fleet --servers 500
"""

from __future__ import annotations

import argparse
import random
import resource
import sys
import time

import httpx
from tests.standard import drive_path, tree

from faithful_stripe.redfish.client import Client
from faithful_stripe.work.fleet import Fleet
from faithful_stripe.work.many import survey_all

LATENCY = 0.001


def memory() -> float:
    """The most memory that this process has taken, in MiB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--servers", type=int, default=500)
    parser.add_argument("--looks", type=int, default=60, help="one for each minute")
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    rng, asked = random.Random(given.seed), [0]
    rooms = {f"https://s{n}": tree(members=8, extra=2) for n in range(given.servers)}
    made = memory()

    def connect(at: str) -> Client:
        transport = httpx.WSGITransport(rooms[at])

        def handle(request: httpx.Request) -> httpx.Response:
            asked[0] += 1
            time.sleep(LATENCY)
            answer = transport.handle_request(request)
            answer.read()
            return httpx.Response(answer.status_code, headers=answer.headers, content=answer.content)

        return Client(at, httpx.Client(transport=httpx.MockTransport(handle), base_url="http://s"))

    began = time.perf_counter()
    found = survey_all(list(rooms), connect)
    print(f"survey of {len(found)}: {time.perf_counter() - began:.1f} s, {asked[0] / len(found):.0f} requests each, "
          f"{memory() - made:.0f} MiB")  # fmt: skip
    del found
    fleet, truth, told = Fleet(list(rooms), connect), set[tuple[str, str]](), set[tuple[str, str]]()
    list(fleet.look())
    asked[0], began, wrong = 0, time.perf_counter(), 0
    changes = 0
    for _minute in range(given.looks):
        for _change in range(rng.randrange(6)):
            at, number = rng.choice(list(rooms)), rng.randrange(8)
            drive = rooms[at][drive_path(number)]
            key = (at, drive_path(number))
            bad = key not in truth
            state = ("UnavailableOffline", "Critical") if bad else ("Enabled", "OK")
            drive["Status"] = {"State": state[0], "Health": state[1]}
            truth ^= {key}
            changes += 1
        for change in fleet.look():
            if change.key[0] in ("drive-failed", "drive-offline"):
                key = (change.at, change.key[1])
                wrong += (key in told) == change.begins
                told ^= {key}
        wrong += len(truth ^ told)
        truth, told = set(truth), set(told)
    seconds = time.perf_counter() - began
    print(f"{given.looks} looks at {given.servers}: {seconds / given.looks:.1f} s a look, "
          f"{asked[0] / given.looks / given.servers:.0f} requests each, {memory() - made:.0f} MiB in all; "
          f"{changes} drives failed or came back, {wrong} missed or told wrongly")  # fmt: skip
    sys.exit(wrong > 0)


if __name__ == "__main__":
    main()
