"""The Redfish boundary: the standard's words over both transports, and a client fit for bare servers."""

import json
import threading
from contextlib import contextmanager

import httpx
import pytest
from werkzeug.serving import make_server
from werkzeug.wrappers import Request, Response

from faithful_stripe.bench import volumes
from faithful_stripe.bench.bench import Bench
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.core.server.assess import assess
from faithful_stripe.core.server.things import UseKind
from faithful_stripe.core.server.unknown import UNKNOWN
from faithful_stripe.redfish import names
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.redfish.service import Service
from faithful_stripe.redfish.target import TargetError, connect
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.log import entries
from faithful_stripe.work.survey import survey
from faithful_stripe.work.volumes import VolumeWish, add_volumes, plan_volumes
from faithful_stripe.work.watch import watch

VOLUMES = names.storage("skerry-1", "CTRL-1") + "/Volumes"


@contextmanager
def in_process(folder):
    with httpx.Client(transport=httpx.WSGITransport(Service(Bench(folder))), base_url="http://bench") as http:
        yield http


@contextmanager
def over_a_socket(folder):
    server = make_server("127.0.0.1", 0, Service(Bench(folder)))
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    try:
        with httpx.Client(base_url=f"http://127.0.0.1:{server.port}", trust_env=False) as http:
            yield http
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


@pytest.fixture(params=[in_process, over_a_socket], ids=["in process", "socket"])
def http(request, skerry):
    with request.param(skerry) as http:
        yield http


class TestBothTransports:
    def test_every_link_leads_somewhere_and_says_what_it_is(self, http):
        seen, todo = set(), ["/redfish", "/redfish/v1/"]
        while todo:
            path = todo.pop()
            if path in seen:
                continue
            seen.add(path)
            reply = http.get(path)
            assert reply.status_code == 200, path
            assert reply.headers["OData-Version"] == "4.0" and reply.headers["ETag"]
            body = reply.json()
            if path != "/redfish":
                assert body["@odata.id"].rstrip("/") == path.rstrip("/") and body["@odata.type"].startswith("#")
                assert "Members" in body or {"Id", "Name"} <= set(body)
                todo += links(body)
        assert {names.drive("skerry-1", "CTRL-1", "16"), names.log("skerry-1") + "/Entries"} <= seen

    def test_a_volume_lives_and_dies(self, http):
        made = http.post(VOLUMES, json=wish())
        assert made.status_code == 201 and made.headers["Location"] == made.json()["@odata.id"]
        body = made.json()
        assert (body["RAIDType"], body["StripSizeBytes"], body["Status"]["Health"]) == ("RAID5", 65536, "OK")
        assert [d["@odata.id"].rsplit("-", 1)[1] for d in body["Links"]["Drives"]] == ["4", "5", "6", "7"]
        again = http.get(made.headers["Location"])
        assert http.get(made.headers["Location"], headers={"If-None-Match": again.headers["ETag"]}).status_code == 304
        refused = http.delete(made.headers["Location"], headers={"If-Match": '"other"'})
        assert refused.status_code == 412 and message(refused)["MessageId"] == "Base.1.18.PreconditionFailed"
        gone = http.delete(made.headers["Location"], headers={"If-Match": again.headers["ETag"]})
        assert gone.status_code == 204 and http.get(made.headers["Location"]).status_code == 404

    @pytest.mark.parametrize(
        ("change", "status", "message_id"),
        [
            ({"RAIDType": "RAID77"}, 400, "FaithfulStripe.1.0.NoSuchLayout"),
            ({"RAIDType": None}, 400, "Base.1.18.PropertyMissing"),
            ({"RAIDType": 5}, 400, "Base.1.18.PropertyValueTypeError"),
            ({"StripSizeBytes": "64K"}, 400, "Base.1.18.PropertyValueTypeError"),
            ({"DisplayName": "a b"}, 400, "FaithfulStripe.1.0.BadName"),
            ({"Links": {}}, 400, "Base.1.18.PropertyMissing"),
            ({"Links": {"Drives": [{"@odata.id": "/elsewhere"}]}}, 400, "Base.1.18.ResourceMissingAtURI"),
            ({"Links": {"Drives": [3]}}, 400, "Base.1.18.PropertyValueTypeError"),
        ],
    )
    def test_a_wrong_wish_is_refused_in_the_standards_words(self, http, change, status, message_id):
        reply = http.post(VOLUMES, json=wish() | change)
        assert reply.status_code == status and message(reply)["MessageId"] == message_id
        assert message(reply)["Message"] and message(reply)["Resolution"]
        assert http.get(VOLUMES).json()["Members"] == []


def wish(*bays: str) -> dict:
    drives = [{"@odata.id": names.drive("skerry-1", "CTRL-1", bay)} for bay in bays or ("4", "5", "6", "7")]
    return {"DisplayName": "tides", "RAIDType": "RAID5", "StripSizeBytes": 65536, "Links": {"Drives": drives}}


def message(reply) -> dict:
    return reply.json()["error"]["@Message.ExtendedInfo"][0]


def links(value) -> list[str]:
    if isinstance(value, dict):
        here = [value["@odata.id"]] if set(value) == {"@odata.id"} else []
        return here + [path for v in value.values() for path in links(v)]
    return [path for v in value for path in links(v)] if isinstance(value, list) else []


def test_errors_of_the_protocol(skerry):
    with in_process(skerry) as http:
        for method, path, status in (
            ("GET", "/redfish/v1/Nothing", 404),
            ("GET", "/redfish/v1/Systems/other", 404),
            ("GET", names.drive("skerry-1", "CTRL-1", "99"), 404),
            ("GET", VOLUMES + "/7", 404),
            ("PATCH", VOLUMES, 405),
            ("POST", VOLUMES, 400),
            ("GET", names.log("skerry-1") + "/Entries?$top=x", 400),
            ("GET", names.log("skerry-1") + "/Entries/99", 404),
        ):
            reply = http.request(method, path, content=b"[]" if method == "POST" else None)
            assert reply.status_code == status and message(reply)["MessageId"].startswith("Base.1.18."), path
        assert "GET" in http.patch(VOLUMES).headers["Allow"]
    with in_process(skerry / "drives") as http:
        reply = http.get("/redfish/v1/")
        assert reply.status_code == 500 and "not a bench" in message(reply)["Message"]


def test_the_log_comes_in_pages_and_the_client_turns_them(skerry):
    bench = Bench(skerry)
    with bench.session() as session:
        for _ in range(60):
            session.pull("16" if session.state.in_bay("16") else "13")
            session.seat("16" if session.state.in_bay("16") else "13", "UV4H22008")
    with in_process(skerry) as http:
        page = http.get(names.log("skerry-1") + "/Entries").json()
        assert len(page["Members"]) == 100 and page["Members@odata.count"] == 121 and page["Members@odata.nextLink"]
    with connect(str(skerry)) as client:
        assert [e.number for e in entries(client)] == [str(n) for n in range(1, 122)]


def bare(environ, start_response):
    """A server of few words: no $expand, no Oem, no margin, links only, a 202, and an error without a body."""
    path = Request(environ).path
    volume = {"@odata.id": "/v/1", "Id": "1", "Name": "data", "RAIDType": "RAID1", "CapacityBytes": 10**12,
              "Status": {"State": "Enabled", "Health": "OK"}, "Links": {"Drives": [{"@odata.id": "/d/0"}] * 2},
              "Operations": [{"OperationName": "Rebuild", "PercentageComplete": 40}]}  # fmt: skip
    drive = {"@odata.id": "/d/0", "Id": "0", "SerialNumber": "S0", "CapacityBytes": 10**12,
             "Links": {"Volumes": [{"@odata.id": "/v/1"}]}}  # fmt: skip
    storage = {"@odata.id": "/s/r", "Volumes": {"@odata.id": "/v"}, "Controllers": {"@odata.id": "/c"},
               "Drives": [{"@odata.id": "/d/0"}]}  # fmt: skip
    pages = {
        "/redfish/v1/": {"Systems": {"@odata.id": "/s"}},
        "/s": {"Members": [{"@odata.id": "/s/1"}]},
        "/s/1": {"@odata.id": "/s/1", "Id": "one", "Storage": {"@odata.id": "/st"}},
        "/st": {"Members": [{"@odata.id": "/s/n"}, {"@odata.id": "/s/r"}]},
        "/s/n": {"@odata.id": "/s/n", "Id": "no volumes here"},
        "/s/r": storage,
        "/c": {"Members": [], "Members@odata.nextLink": "/c2"},
        "/c2": {"Members": [{"@odata.id": "/c/1"}]},
        "/c/1": {"@odata.id": "/c/1", "Id": "C"},
        "/v": {"Members": [{"@odata.id": "/v/1"}]},
        "/v/1": volume,
        "/d/0": drive,
    }
    if path in pages:
        return Response(json.dumps(pages[path]), 200)(environ, start_response)
    return Response("<html>no</html>", 404)(environ, start_response)


def test_a_bare_server_is_surveyed_and_what_it_cannot_say_is_not_made_up():
    client = Client("bare", httpx.Client(transport=httpx.WSGITransport(bare), base_url="http://bare"))
    seen = survey(client)
    assert (seen.server, seen.time, [c.id for c in seen.controllers]) == ("one", "", ["r"])
    volume, drive = seen.volumes[0], seen.drives[0]
    assert volume.strip is UNKNOWN and drive.content is UNKNOWN and drive.predicted is UNKNOWN
    assert [(u.kind, u.volume, u.position) for u in drive.uses] == [(UseKind.MEMBER, "data", UNKNOWN)]
    assert (
        seen.panel == (("0",),) and assess(seen).of(volume).margin == 0
    )  # one member is told of: not known to be more
    (first, *_rest) = [next(watch(client))]
    assert first.progress[0].work.percent == 40 and first.progress[0].left is None
    with pytest.raises(WorkError, match="offers no log"):
        entries(client)
    with pytest.raises(RedfishError, match="GET /nothing was answered with status 404"):
        client.get("/nothing")


def test_the_rate_of_work_that_had_to_wait_is_that_of_its_own_time(bench, wall):
    with bench.session() as s:
        volumes.create(s.controller, volumes.check(s.controller, Wish("a", "RAID1", ("8", "9"), size=10**12)))
        volumes.create(s.controller, volumes.check(s.controller, Wish("b", "RAID1", ("8", "9"))))
        s.pull("9")
        s.seat("9", "UV4H30555")
    http = httpx.Client(transport=httpx.WSGITransport(Service(bench)), base_url="http://bench")
    rates = []
    for snapshot in watch(Client("bench", http)):
        rates += [p.rate for p in snapshot.progress if p.work.volume == "b" and p.rate]
        wall.now += 1000
    assert len(rates) > 10 and all(abs(rate - 0.6 * 215e6) < 2e6 for rate in rates), rates


def test_targets(skerry):
    for at, speed, words in (("http://x", 1.0, "only https"), ("https://x", 2.0, "--speed is for benches")):
        with pytest.raises(TargetError, match=words):
            connect(at, speed)
    with connect("https://127.0.0.1:9") as client, pytest.raises(RedfishError, match="no answer to GET /redfish/v1/"):
        client.get("/redfish/v1/")


def test_a_plan_is_made_without_changing_anything_and_is_what_is_sent(skerry):
    with connect(str(skerry)) as client:
        (plan,) = plan_volumes(client, [VolumeWish("tides", "raid5", ("8", "9", "14"), 65536)])
        assert survey(client).volumes == () and plan.margin == 1 and plan.lost == ()
        assert plan.warnings == ("bay 14 holds 6 TB; 2 TB of it stay unused",)
        (made,) = add_volumes(client, [plan])
        assert [m.bay for m in made.seats] == ["8", "9", "14"] and abs(made.size - plan.size) < 1 << 30
        assert assess(survey(client)).findings == ()
