"""One look at a server: each thing read once, several at a time, no more of them than the command needs."""

import stat
import threading
import time

import httpx
import pytest
from benchmarks.pace import ACTS, BUDGET, LOOK, counted, looks, requests

from faithful_stripe.bench.bench import Bench
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.redfish.target import connect
from faithful_stripe.work import build
from faithful_stripe.work.remembered import drive_place, state_file
from faithful_stripe.work.survey import survey

from .small import TEXT
from .test_https import LOGIN, login, served  # noqa: F401


@pytest.mark.parametrize("expands", [False, True])
def test_a_command_asks_for_what_it_needs_and_once(tmp_path, monkeypatch, expands):
    """24 drives, 2 volumes, first contact, login and logout included."""
    for name, value in LOGIN.items():
        monkeypatch.setenv(name, value)
    with counted(tmp_path, 0.0, expands) as found:
        for name, act in ACTS.items():
            assert requests(*found, act)[0] <= BUDGET[name, expands], name
        with connect(found[0], access=found[1]) as client:
            keen = (survey(client).drives[4].path,)
        assert max(looks(*found[:3])) <= LOOK[expands] >= max(looks(*found[:3], keen))


@pytest.mark.usefixtures("login")
def test_where_a_drive_was_is_asked_first_and_never_taken_for_where_it_is(tmp_path):
    """A drive that has moved, or another one in its bay, is looked for anew."""
    with served(tmp_path, "plain", TEXT) as (at, _door, access):

        def lit(wanted):
            with connect(at, access=access) as client:
                return build.locate(client, wanted, True)

        assert lit("2")[1].serial == "D2" and drive_place(at, "2")[0].serial == "D2" == drive_place(at, "d2")[0].serial
        assert lit("2")[0].panel == lit("D2")[0].panel != ()
        with Bench(tmp_path / "b").session() as session:
            session.pull("2")
            session.pull("3")
            session.seat("2", "D3")
            session.seat("3", "D2")
        seen, found = lit("D2")
        assert (found.bay, found.serial) == ("3", "D2") and len(seen.drives) == 6
        assert lit("2")[1].serial == "D3"
        state_file(at, ".drives.json").write_text('{"panel": 1, "drives": [{}]}')
        assert lit("3")[1].serial == "D2"
        assert stat.S_IMODE(state_file(at, ".drives.json").stat().st_mode) == 0o600


class Server:
    """Answers for every path, and how many at the same time at most."""

    def __init__(self, answer=None):
        self.asked, self.most, self._now, self._lock = [], 0, 0, threading.Lock()
        self._answer = answer or (lambda path: httpx.Response(200, json={"@odata.id": path, "Name": path}))

    def client(self, width=4, **more):
        def handle(request):
            with self._lock:
                self.asked.append(request.url.raw_path.decode())
                self._now += 1
                self.most = max(self.most, self._now)
            time.sleep(0.01)
            try:
                return self._answer(request.url.path)
            finally:
                with self._lock:
                    self._now -= 1

        http = httpx.Client(transport=httpx.MockTransport(handle), base_url="http://s")
        return Client("s", http, sleep=lambda _s: None, width=width, **more)


PATHS = [f"/d/{n}" for n in range(12)]


def test_within_a_look_each_resource_is_read_once_and_several_at_a_time():
    server = Server()
    with server.client() as client, client.look():
        client.ahead([*PATHS, "", PATHS[0]])
        assert sorted(server.asked) == sorted(PATHS) and 1 < server.most <= 4
        body = client.get(PATHS[3])
        body["Name"] = "changed by whoever read it"
        assert client.get(PATHS[3])["Name"] == PATHS[3] and len(server.asked) == 12
        with client.look():
            client.get(PATHS[4])
        assert len(server.asked) == 12
        client.post("/act", {})
        client.get(PATHS[3])  # something was changed: it is read again
        assert len(server.asked) == 14
    with server.client() as client:
        client.get(PATHS[0])
        client.get(PATHS[0])
        assert len(server.asked) == 16  # without a look every reading is one


def test_what_one_resource_refuses_is_said_when_it_is_asked_for():
    server = Server(lambda path: httpx.Response(404 if path == "/d/5" else 200, json={"Name": path}))
    with server.client() as client, client.look():
        client.ahead(PATHS)
        assert client.get("/d/4") == {"Name": "/d/4"}
        for _ in range(2):
            with pytest.raises(RedfishError, match="status 404"):
                client.get("/d/5")
        assert len(server.asked) == 12


def test_a_server_at_its_limit_is_asked_less_at_a_time():
    busy = iter([True] * 3)
    server = Server(lambda path: httpx.Response(503 if next(busy, False) else 200, json={"Name": path}))
    with server.client(width=8) as client, client.look():
        client.ahead(PATHS)
        assert client._width == 1
        assert all(client.get(path) == {"Name": path} for path in PATHS)


def test_one_login_serves_all_who_read_at_the_same_time():
    """Twelve readers are told to log in at once: one does."""
    logins = []

    def answer(request):
        if request.method == "POST":
            logins.append(request)
            return httpx.Response(201, headers={"X-Auth-Token": "t", "Location": "/s/1"}, json={})
        if request.url.path == "/redfish/v1/" or request.headers.get("X-Auth-Token") == "t":
            return httpx.Response(200, json={"Name": request.url.path})
        time.sleep(0.01)
        return httpx.Response(401)

    http = httpx.Client(transport=httpx.MockTransport(answer), base_url="http://s")
    client = Client("s", http, login=lambda: ("u", "p"), width=6)
    with client.look():
        client.ahead(PATHS)
        assert all(client.get(path) == {"Name": path} for path in PATHS) and len(logins) == 1


def test_a_server_that_says_it_expands_and_does_not_is_read_plainly():
    def answer(path):
        if path == "/redfish/v1/":
            return httpx.Response(200, json={"ProtocolFeaturesSupported": {"ExpandQuery": {"NoLinks": True}}})
        if path == "/c":
            return httpx.Response(200, json={"Members": [{"@odata.id": p} for p in PATHS]})
        return httpx.Response(200, json={"@odata.id": path, "Name": path})

    server = Server(answer)
    real = server._answer

    def refusing(path):
        return httpx.Response(501) if "expand" in server.asked[-1] else real(path)

    server._answer = refusing
    with server.client(width=1) as client:
        assert [m["Name"] for m in client.members("/c")] == PATHS and client.expands is False
