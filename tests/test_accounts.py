"""Accounts, roles, the boot override and event subscriptions of a served bench, over real sockets."""

import json
import threading
import time
from http.server import BaseHTTPRequestHandler, HTTPServer

import httpx
import pytest

from faithful_stripe.bench.bench import Bench
from faithful_stripe.redfish.subscriptions import SUBSCRIPTIONS, Subscription, Subscriptions

from .small import TEXT
from .test_https import LOGIN, served

ACCOUNTS = "/redfish/v1/AccountService/Accounts"
SESSIONS = "/redfish/v1/SessionService/Sessions"


@pytest.fixture
def door(tmp_path):
    """Makes clients of a served bench, by user and password; with no user, by a session."""
    with served(tmp_path, "plain", TEXT, streamed=True) as (at, _door, _access):
        system = httpx.get(at + "/redfish/v1/Systems", auth=tuple(LOGIN.values()), verify=False).json()
        made = []

        def client(user=LOGIN["FSTRIPE_USER"], password=LOGIN["FSTRIPE_PASSWORD"], **more):
            auth = (user, password) if user else None
            made.append(httpx.Client(base_url=at, auth=auth, verify=False, trust_env=False, **more))
            return made[-1]

        client.system = system["Members"][0]["@odata.id"]
        client.folder = tmp_path / "b"
        yield client
        for one in made:
            one.close()


def message(answer):
    return answer.json()["error"]["@Message.ExtendedInfo"][0]["MessageId"].rpartition(".")[2]


def test_each_account_may_do_what_its_role_allows(door):
    chief = door()
    for user, role in (("reader", "ReadOnly"), ("worker", "Operator"), ("second", "Administrator")):
        wish = {"UserName": user, "Password": "tide-4711-long", "RoleId": role}
        made = chief.post(ACCOUNTS, json=wish)
        assert made.status_code == 201 and made.json()["Password"] is None and made.headers["Location"]
        assert message(chief.post(ACCOUNTS, json=wish)) == "ResourceAlreadyExists"
    led = door.system + "/Storage/CTRL-1/Drives/Bay-1"
    what = {
        ("PATCH", led): {"LocationIndicatorActive": True},
        ("POST", ACCOUNTS): {"UserName": "x", "Password": "short", "RoleId": "Operator"},
        ("POST", SUBSCRIPTIONS): {"Destination": "no address"},
    }
    allowed = {"reader": [False] * 3, "worker": [True, False, True], "second": [True] * 3}
    for user, may in allowed.items():
        with door(user, "tide-4711-long") as http:
            assert http.get(door.system).status_code == 200
            done = [http.request(method, path, json=body) for (method, path), body in what.items()]
            assert [d.status_code != 403 for d in done] == may, user
            assert all(message(d) == "InsufficientPrivilege" for d in done if d.status_code == 403)
            others = http.get(f"{ACCOUNTS}/1")
            assert (others.status_code == 200) is (user == "second")


def test_an_account_is_changed_as_it_was_read_or_not_at_all(door):
    chief = door()
    wish = {"UserName": "reader", "Password": "tide-4711-long", "RoleId": "ReadOnly"}
    path = chief.post(ACCOUNTS, json=wish).headers["Location"]
    before = chief.get(path)
    assert before.headers["ETag"] == before.json()["@odata.etag"]
    assert chief.get(path, headers={"If-None-Match": before.headers["ETag"]}).status_code == 304
    changed = chief.patch(path, json={"RoleId": "Operator"}, headers={"If-Match": before.headers["ETag"]})
    assert changed.json()["RoleId"] == "Operator" and changed.headers["ETag"] != before.headers["ETag"]
    late = chief.patch(path, json={"Enabled": False}, headers={"If-Match": before.headers["ETag"]})
    assert late.status_code == 412 and chief.get(path).json()["Enabled"]
    for wrong in ({"RoleId": "King"}, {"Password": "short"}, {"Enabled": 1}, {"Shoe": 43}, {"@odata.id": "x"}, []):
        assert chief.patch(path, json=wrong).status_code == 400
    assert chief.get(path).json() == changed.json()
    mine = {"X-Auth-Token": door(None).post(SESSIONS, json=wish).headers["X-Auth-Token"]}
    assert door(None, headers=mine).get(door.system).status_code == 200
    chief.patch(path, json={"Password": "another-long-one"})
    assert door(None, headers=mine).get(door.system).status_code == 401
    assert chief.delete(f"{ACCOUNTS}/1").status_code == 403 and chief.delete(path).status_code == 204
    assert door("reader", "another-long-one").get(door.system).status_code == 401


def test_whoever_must_change_the_password_can_do_that_only(door):
    wish = {"UserName": "new", "Password": "tide-4711-long", "RoleId": "Administrator", "PasswordChangeRequired": True}
    path = door().post(ACCOUNTS, json=wish).headers["Location"]
    entered = door(None).post(SESSIONS, json=wish)
    assert entered.json()["@Message.ExtendedInfo"][0]["MessageId"].endswith("PasswordChangeRequired")
    new = door(None, headers={"X-Auth-Token": entered.headers["X-Auth-Token"]})
    assert message(new.get(door.system)) == message(new.patch(path, json={"RoleId": "Operator"}))
    assert message(new.get(door.system)) == "PasswordChangeRequired" and new.get(path).status_code == 200
    assert new.patch(path, json={"Password": "a-better-one-4"}).status_code == 200
    assert new.get(door.system).status_code == 200


def test_the_server_starts_from_something_else_once_or_until_further_notice(door):
    http = door()

    def boot():
        told = http.get(door.system).json()["Boot"]
        return told["BootSourceOverrideEnabled"], told["BootSourceOverrideTarget"]

    def ask(**wish):
        return http.patch(door.system, json={"Boot": {f"BootSourceOverride{k}": v for k, v in wish.items()}})

    reset = http.get(door.system).json()["Actions"]["#ComputerSystem.Reset"]["target"]
    assert boot() == ("Disabled", "None")
    assert ask(Enabled="Once", Target="Pxe").status_code == 200 and boot() == ("Once", "Pxe")
    assert ask(Target="Moon").status_code == ask(Colour="red").status_code == 400 and boot() == ("Once", "Pxe")
    assert http.post(reset, json={"ResetType": "ForceRestart"}).status_code == 204 and boot() == ("Disabled", "None")
    ask(Enabled="Continuous", Target="Cd")
    http.post(reset, json={"ResetType": "ForceOff"})
    assert http.post(reset, json={"ResetType": "PowerCycle"}).status_code == 204
    assert http.get(door.system).json()["PowerState"] == "On" and boot() == ("Continuous", "Cd")
    ask(Enabled="Disabled")
    assert boot() == ("Disabled", "None")


def test_what_happens_is_posted_to_those_of_this_machine_who_asked(door):
    told, heard = [], threading.Event()

    class Listener(BaseHTTPRequestHandler):
        def do_POST(self):
            told.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
            self.send_response(204)
            self.end_headers()
            heard.set()

        def log_message(self, *_words):
            pass

    listener = HTTPServer(("127.0.0.1", 0), Listener)
    threading.Thread(target=listener.serve_forever, daemon=True).start()
    http = door()
    wish = {"Destination": f"http://127.0.0.1:{listener.server_port}/e", "Context": "tide", "Protocol": "Redfish"}
    made = http.post(SUBSCRIPTIONS, json=wish)
    away = http.post(SUBSCRIPTIONS, json={"Destination": "https://192.0.2.7/e"}).json()
    assert made.status_code == 201 and away["Status"]["State"] == "Disabled"
    assert http.post(SUBSCRIPTIONS, json={"Destination": "nowhere"}).status_code == 400
    assert [m["@odata.id"] for m in http.get(SUBSCRIPTIONS).json()["Members"]] == [
        made.headers["Location"],
        away["@odata.id"],
    ]
    bench = Bench(door.folder)
    for _try in range(20):  # the service notes where the log stands first, in its own time
        with bench.session() as s:
            s.pull("1")
            s.seat("1", "D1")
        if heard.wait(1.0):
            break
    bench.close()
    assert told[0]["Context"] == "tide" and "DriveRemoved" in told[0]["Events"][0]["MessageId"]
    assert http.delete(made.headers["Location"]).status_code == 204
    assert http.get(made.headers["Location"]).status_code == 404
    listener.shutdown()
    listener.server_close()


def test_nothing_is_read_for_a_subscriber_any_more_once_they_are_ended():
    below, reads = threading.Event(), []

    def fresh():
        while True:
            time.sleep(0.1)
            reads.append(below.is_set())
            yield []

    made = Subscriptions(fresh)
    made.create({"Destination": "http://127.0.0.1:9/e"})
    made.end()
    below.set()  # what they read from is closed now
    time.sleep(0.3)
    assert reads and not any(reads)


def test_when_they_are_ended_nobody_else_is_posted_to(monkeypatch):
    """A subscriber that does not answer takes seconds; sixteen of them kept a bench from ending."""
    made, posted = Subscriptions(lambda: iter([[], [{"EventId": "1"}], []])), []
    for port in (8, 9):
        made._there[str(port)] = Subscription(str(port), f"http://127.0.0.1:{port}/e", "")
    monkeypatch.setattr(made, "_post", lambda _http, one, _events: (posted.append(one.number), made._there.clear()))
    made._serve()
    assert posted == ["8"]


def test_queries_shape_an_answer_or_are_refused(door):
    http = door()
    only = http.get("/redfish/v1/Systems?only")
    assert only.json()["@odata.id"] == door.system and only.json() == http.get(door.system).json()
    some = http.get(door.system + "?$select=Id,Boot").json()
    assert {n for n in some if not n.startswith("@")} == {"Id", "Boot"} and some["@odata.id"] == door.system
    drives = door.system + "/Storage/CTRL-1/Volumes"
    assert http.get(drives + "?only").json()["@odata.id"] == drives  # none is not one
    wrong = ("Systems?only=1", "Systems?only&$select=Id", "AccountService?only", "SessionService?only",
             "Systems?$select=", "Systems?$filter=Id", "Systems?$top=x")  # fmt: skip
    assert all(http.get("/redfish/v1/" + path).status_code in (400, 501) for path in wrong)
    page = http.get("/redfish/v1/AccountService/Roles?$skip=1&$top=1").json()
    assert len(page["Members"]) == 1 and page["Members@odata.count"] == 3 and page["Members@odata.nextLink"]
