"""Looks at one server again and again: little is asked while nothing moves, and whatever moves is seen."""

import itertools

import httpx
import pytest
from benchmarks.pace import Counting

from faithful_stripe.bench import volumes
from faithful_stripe.bench.bench import Bench
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.memory import TURNS, Memory
from faithful_stripe.redfish.target import connect
from faithful_stripe.work.seeing import Again
from faithful_stripe.work.survey import survey

from .small import TEXT
from .test_https import login, served  # noqa: F401

PATHS = [f"/d/{n}" for n in range(40)]


def looking(answer):
    """A client of 40 resources and of what it asks for, one list of (path, tag that was sent) for each look."""
    asked = [[]]

    def handle(request):
        asked[-1].append((request.url.path, request.headers.get("If-None-Match", "")))
        return answer(request)

    return Client("s", httpx.Client(transport=httpx.MockTransport(handle), base_url="http://s"), width=4), asked


def test_everything_is_read_again_within_some_looks_and_what_leads_at_each():
    """And what is not the same any more is seen when it is read; what is gone is not remembered."""
    gone = set()
    client, asked = looking(
        lambda r: httpx.Response(404) if r.url.path in gone else httpx.Response(200, json={"Name": r.url.path})
    )
    memory = Memory(keen=("/d/7",))
    for number in range(3 * TURNS):
        asked.append([])
        with client.look(memory):
            client.leads(PATHS[:2])
            client.ahead(PATHS)
            told = [client.maybe(p) for p in PATHS]
        assert all(told[n] for n in range(40) if n != 39 or not gone)
        if number:
            assert {"/d/0", "/d/1", "/d/7"} <= {p for p, _t in asked[-1]} and len(asked[-1]) <= 12
        if number == TURNS:
            assert {p for p, _t in itertools.chain(*asked[-TURNS:])} == set(PATHS)
            gone.add("/d/39")
    assert told[39] == {}


def test_what_does_not_lead_is_read_on_condition_and_what_leads_whole():
    """A server whose tags stand still hides nothing there."""

    def answer(request):
        same = request.headers.get("If-None-Match") == '"1"'
        return httpx.Response(304) if same else httpx.Response(200, headers={"ETag": '"1"'}, json={"Name": "n"})

    client, asked = looking(answer)
    memory = Memory()
    for _number in range(4):
        asked.append([])
        with client.look(memory):
            client.leads(PATHS[:2])
            client.ahead(PATHS)
            assert all(client.get(p) == {"Name": "n"} for p in PATHS)
    assert all((tag == '"1"') is (path not in PATHS[:2]) for look in asked[2:] for path, tag in look)
    memory.forget()
    asked.append([])
    with client.look(memory):
        client.ahead(PATHS)
    assert len(asked[-1]) == 40 and not any(tag for _p, tag in asked[-1])


@pytest.mark.parametrize("expands", [False, True])
@pytest.mark.usefixtures("login")
def test_a_look_sees_what_a_whole_survey_sees_whatever_moves(tmp_path, expands):
    """A drive that fails, one that leaves, a volume that is made: at the next look, or within some looks where only
    the drive itself tells; an LED that somebody lights, too."""
    layers = []

    def layer(inner):
        layers.append(Counting(inner, 0.0, expands))
        return layers[0]

    def told(seen):
        return [(d.bay, d.serial, d.present, d.state, d.health, d.located, d.uses) for d in seen.drives], [
            (v.name, v.state, [(s.bay, s.state) for s in v.seats]) for v in seen.volumes
        ]

    with served(tmp_path, layer, TEXT) as (at, _door, access):
        bench = Bench(tmp_path / "b")
        with bench.session() as s:
            volumes.create(s.controller, volumes.check(s.controller, Wish("a", "RAID5", ("1", "2", "3"))))
        with connect(at, access=access) as client, connect(at, access=access) as other:
            again = Again(client)
            again.look()

            def agree(looks):
                for _look in range(looks):
                    seen = again.look()
                    if told(seen) == told(survey(other, sight=False)):
                        return True
                return False

            acts = [
                (lambda s: s.pull("1"), 1), (lambda s: s.seat("1", "D1"), 1), (lambda s: s.pull("4"), TURNS),
                (lambda s: s.seat("4", "D4"), TURNS),
                (lambda s: volumes.create(s.controller, volumes.check(s.controller, Wish("b", "RAID0", ("4",)))), 1),
            ]  # fmt: skip
            for act, looks in acts:
                with bench.session() as s:
                    act(s)
                assert agree(looks)
        bench.close()
