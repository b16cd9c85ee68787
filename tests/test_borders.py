"""The border: everything foreign is typed, bounded and fit to be shown where it comes in, or refused in one line."""

import gzip
import json
import os
import stat
import subprocess
import threading
from contextlib import contextmanager

import httpx
import pytest
from benchmarks import borders
from hypothesis import given
from hypothesis import strategies as st
from werkzeug.wrappers import Request, Response

from faithful_stripe.core.shape import fits
from faithful_stripe.redfish import client as clients
from faithful_stripe.redfish import exchange
from faithful_stripe.redfish.address import TargetError, check_address
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.redfish.told import TYPES, Kind, told
from faithful_stripe.work import visits
from faithful_stripe.work.stock import Item, put, read_stock

from .conftest import FSTRIPE

JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(st.sampled_from(sorted(TYPES)) | st.text(max_size=5), inner, max_size=4)
    ),
    max_leaves=20,
)


@pytest.mark.long
@pytest.mark.parametrize(
    ("lane", "count"),
    [
        ("files", 30),
        ("remembered", 25),
        ("answers", 25),
        ("state", 20),
        ("standard", 20),
        ("requests", 400),
    ],
)
def test_whatever_is_made_wrong_ends_in_an_answer_or_one_line(lane, count):
    """A short run of `benchmarks/borders.py`; it runs with other seeds, and longer, by hand."""
    tally = borders.run(lane, 3, count)
    assert not tally.troubles, "\n".join(tally.troubles)
    assert sum(tally.said.values()) >= count


# what a server tells ----------------------------------------------------------------------------


@given(JSON)
def test_behind_the_border_every_property_is_of_its_type(answer):
    made = {
        Kind.TEXT: str, Kind.LINK: str, Kind.NUMBER: int | float, Kind.FLAG: bool, Kind.OBJECT: dict,
        Kind.VALUES: dict, Kind.OBJECTS: list, Kind.TEXTS: list,
    }  # fmt: skip

    def check(value):
        if isinstance(value, dict):
            for name, inner in value.items():
                kinds = [made[k] for k in TYPES.get(name, Kind(0))]
                assert not kinds or any(isinstance(inner, k) for k in kinds), (name, inner)
                if TYPES.get(name) == Kind.OBJECTS:
                    assert all(isinstance(v, dict) for v in inner)
                check(inner)
        elif isinstance(value, list):
            for inner in value:
                check(inner)
        elif isinstance(value, float):
            assert value == value and abs(value) < 1 << 80

    check(told(answer))
    assert told(told(answer)) == told(answer)


def test_what_is_right_stays_as_it_is():
    body = {
        "@odata.id": "/redfish/v1/Systems/1", "Name": "skerry-1", "Members": [{"@odata.id": "/x"}], "Status": "OK",
        "CapacityBytes": 4000 * 10**9, "FailurePredicted": False, "Attributes": {"Level": 3, "Name": None},
        "Volumes": {"@odata.id": "/v"}, "SupportedRAIDTypes": ["RAID1"], "Unheard": [1, {"of": "it"}],
        "Actions": {"#ComputerSystem.Reset": {"target": "/reset"}},
    }  # fmt: skip
    assert told(body) == body
    assert told({"CapacityBytes": "4000"}) == {"CapacityBytes": 4000}
    wrong = {"Name": 5, "Members": {"a": 1}, "@odata.id": "no path", "Links": [], "CapacityBytes": True, "Model": None}
    assert told(wrong) == {}
    assert told({"Name": "T\r\nFAKE LINE"}) == {"Name": "T\\r\\nFAKE LINE"}


@contextmanager
def answering(answer):
    """A client of a server that answers as it is told."""

    def application(environ, start_response):
        return answer(Request(environ))(environ, start_response)

    with Client(
        "https://gauge", httpx.Client(transport=httpx.WSGITransport(application), base_url="http://gauge")
    ) as c:
        yield c


def test_an_answer_that_unpacks_without_an_end_is_given_up():
    packed = gzip.compress(bytes(64 << 20))
    says = "the answer to GET /redfish/v1/ is more than 32 MiB"
    answer = Response(packed, headers={"Content-Encoding": "gzip"})
    with answering(lambda _r: answer) as client, pytest.raises(RedfishError, match=says):
        client.get("/redfish/v1/")


def test_an_answer_that_does_not_end_is_given_up(monkeypatch):
    monkeypatch.setattr(exchange, "ANSWER_PATIENCE", 0.2)

    def slowly():
        waiting = threading.Event()
        while True:
            waiting.wait(0.05)
            yield b" "

    with answering(lambda _r: Response(slowly())) as client, pytest.raises(RedfishError, match="without an end"):
        client.get("/redfish/v1/")


def test_packed_answers_are_read():
    with answering(
        lambda _r: Response(gzip.compress(b'{"Name": "x"}'), headers={"Content-Encoding": "gzip"})
    ) as client:
        assert client.get("/redfish/v1/") == {"Name": "x"}


def test_pages_without_an_end_are_an_error(monkeypatch):
    monkeypatch.setattr(clients, "MOST_MEMBERS", 50)

    def page(request):
        at = int(request.args.get("page", 0))
        members = [{"Name": f"{at}-{i}", "Id": "1"} for i in range(10)]
        return Response(json.dumps({"Members": members, "Members@odata.nextLink": f"/x?page={at + 1}"}))

    with answering(page) as client, pytest.raises(RedfishError, match="/x lists more than 50 members"):
        list(client.members("/x"))


@pytest.mark.parametrize(("method", "to", "says"), [
    ("GET", "https://elsewhere/redfish/v1/", "sends GET /redfish/v1/ on to https://elsewhere"),
    ("GET", "/redfish/v1/", "on and on"), ("POST", "/redfish/v1/x", "sends POST /redfish/v1/ on to /redfish/v1/x"),
    ("GET", "", "on to nowhere"),
])  # fmt: skip
def test_a_redirect_is_called_one(method, to, says):
    sent = []

    def redirect(request):
        sent.append(request.url)
        return Response("", 307, headers={"Location": to})

    with answering(redirect) as client, pytest.raises(RedfishError, match=says):
        client.get("/redfish/v1/") if method == "GET" else client.post("/redfish/v1/", {})
    assert all(url.startswith("http://gauge/") for url in sent)


def test_what_is_no_address_leads_nowhere():
    assert exchange.parted("http://[").path == ""


def test_a_reader_is_sent_on_within_the_server():
    def moved(request):
        return Response("", 308, headers={"Location": "/new?a=1"}) if request.path == "/old" else Response(
            json.dumps({"Name": request.full_path})
        )  # fmt: skip

    with answering(moved) as client:
        assert client.get("/old") == {"Name": "/new?a=1"}


# what people write, and what this machine remembers ----------------------------------------------


@pytest.mark.parametrize("at", [
    "https://tide:gauge@h/", "https://tide@h", "https://h:99999", "https://h:x", "https://", "https://[::", "https://h/?x=1",
    "https://a b", "https://1.2.3.999", "https://-h", "https://h\N{SNOWMAN}", "https://tide:gauge@h:1e5",
])  # fmt: skip
def test_what_is_no_address_is_refused_and_no_secret_repeated(fstripe, at):
    with pytest.raises(TargetError):
        check_address(at)
    got = fstripe("--at", at, "survey")
    assert got.status == 1 and got.err.count("\n") == 1 and "gauge" not in got.err
    got = fstripe("--at", at, "volume", "check", "v")
    kept = [p.read_text() for p in (fstripe.folder / ".state").rglob("*") if p.is_file()]
    assert not any("gauge" in text for text in kept), kept


@pytest.mark.parametrize(
    "at", ["https://h", "https://10.0.0.7:8443/", "https://[fe80::1]:443", "https://a-b.c_d.example/x"]
)
def test_what_is_an_address_is_taken(at):
    check_address(at)


def test_a_bad_line_of_the_record_stops_nothing_but_itself(tmp_path):
    where = str(tmp_path / "b")
    visits.note(where, "command", command="one", status=0)
    path = next((tmp_path / ".state").rglob("visit-*"))
    good = path.read_bytes()
    bad = (
        b"\xff\xfe", b"null", b"[]", b'{"time": 5, "kind": "command"}', b"[" * 5000, b'{"kind": "command"}',
        b'{"time": "2026-01-01T00:00:00+00:00", "kind": "progress", "percent": NaN}',
        b'{"time": "2026-01-01T00:00:00", "kind": "command", "command": "x", "status": 0}',
        b'{"time": "2026-01-01T00:00:00+00:00", "kind": "command", "command": "x", "status": 1e999}',
    )  # fmt: skip
    path.write_bytes(good + b"\n".join(bad) + b'\n{"torn": ')
    visits.note(where, "command", command="two", status=0)
    assert [n["command"] for n in visits.notes(where)] == ["one", "two"]


def test_records_are_for_their_owner_alone_and_never_behind_a_link(tmp_path):
    where = str(tmp_path / "b")
    visits.note(where, "command", command="one", status=0)
    path = next((tmp_path / ".state").rglob("visit-*"))
    assert stat.S_IMODE(path.stat().st_mode) == 0o600 and stat.S_IMODE(path.parent.stat().st_mode) & 0o077 == 0
    path.rename(tmp_path / "elsewhere")
    path.symlink_to(tmp_path / "elsewhere")
    visits.note(where, "command", command="two", status=0)
    assert "two" not in (tmp_path / "elsewhere").read_text()


def test_drives_added_at_the_same_time_are_all_there(tmp_path):
    """Twenty commands at once; each one that says so has written."""
    path = tmp_path / "stock.csv"
    words = ["--size", "4TB", "--media", "HDD", "--stock", str(path)]
    running = [
        subprocess.Popen([FSTRIPE, "stock", "add", f"S{n}", *words], stdout=-3, stderr=-3, env=os.environ)
        for n in range(20)
    ]
    assert [process.wait(120) for process in running] == [0] * 20
    assert {item.serial for item in read_stock(path)} == {f"S{n}" for n in range(20)}


def test_a_link_in_the_way_of_the_list_is_not_written_through(tmp_path):
    put(tmp_path / "stock.csv", Item("S1", (), "", 10**12, "HDD", "SAS", 7200, 512))
    victim = tmp_path / "victim"
    victim.write_text("keep")
    (tmp_path / ".stock.csv.part").symlink_to(victim)
    put(tmp_path / "stock.csv", Item("S2", (), "", 10**12, "HDD", "SAS", 7200, 512))
    assert victim.read_text() == "keep" and len(read_stock(tmp_path / "stock.csv")) == 2


@given(JSON)
def test_a_shape_is_of_one_mind(value):
    assert fits(value, object)
    assert fits(value, (str, bool, int, float, None, [object], {"*": object})) or isinstance(value, int | float)
    assert fits({"a": value}, {"a": object}) and not fits({"b": value}, {"a": object})
    assert fits([value, value], [object]) and fits({}, {"a?": object}) and not fits(True, int)
