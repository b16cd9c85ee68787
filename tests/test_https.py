"""Real sockets: TLS, login and logout, and every difficult manner a server may have."""

import os
import shutil
import signal
import ssl
import subprocess
import threading
from contextlib import contextmanager
from datetime import timedelta

import httpx
import pytest

from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.bench.updating import package_for
from faithful_stripe.core.server.redundancy import margin_now
from faithful_stripe.core.server.things import WorkKind
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import AnswerLost, Deferred, RedfishError
from faithful_stripe.redfish.listening import Listener
from faithful_stripe.redfish.manners import MANNERS, Manner, lost
from faithful_stripe.redfish.service import Service
from faithful_stripe.redfish.serving import Sessions, certificate
from faithful_stripe.redfish.streaming import EventStream
from faithful_stripe.redfish.target import Access, TargetError, connect, fingerprint
from faithful_stripe.redfish.writers import NotOffered
from faithful_stripe.work import build
from faithful_stripe.work import firmware as firmware_work
from faithful_stripe.work.survey import survey
from faithful_stripe.work.update import plan_update, update, versions
from faithful_stripe.work.volumes import VolumeWish, add_volumes, plan_volumes
from faithful_stripe.work.watch import watch

from .conftest import FSTRIPE, SERIALS
from .small import SIZE, TEXT

LOGIN = {"FSTRIPE_USER": "tech", "FSTRIPE_PASSWORD": "tide-4711"}


@contextmanager
def served(folder, manner="plain", text=None, speed=1.0, streamed=False):
    """(address, the session layer, access that trusts it) of a new bench behind a manner."""
    if text:
        (folder / "d.toml").write_text(text)
    create(folder / "b", folder / "d.toml" if text else None)
    bench = Bench(folder / "b", speed=speed)
    layer = MANNERS[manner] if isinstance(manner, str) else manner
    inner = layer(Service(bench))
    events = EventStream(inner)
    door = Sessions(events if streamed else inner, "tech", "tide-4711")
    running = Listener(door, "127.0.0.1", 0, *certificate(folder / "b", "127.0.0.1"))
    thread = threading.Thread(target=running.serve)
    thread.start()
    try:
        yield f"https://127.0.0.1:{running.address[1]}", door, Access(ca=folder / "b" / "tls.pem")
    finally:
        running.stop()
        thread.join()
        events.end()
        bench.close()


@pytest.fixture
def login(monkeypatch):
    for name, value in LOGIN.items():
        monkeypatch.setenv(name, value)


@pytest.mark.long
@pytest.mark.parametrize("manner", [m for m in MANNERS if m != "deferring"])
def test_the_job_is_done_on_a_difficult_server(tmp_path, login, manner):
    """Survey, build, spare, check, firmware, remove: the same steps, whatever the server's manners."""
    lasting = TEXT.replace(f"size = {SIZE}", f"size = {SIZE + (60 << 20)}")  # work takes a minute
    with served(tmp_path, manner, lasting) as (at, door, access):
        with connect(at, access=access) as client:
            seen = survey(client)
            assert seen.server == "small-1" and [d.serial for d in seen.drives if d.seated] == ["D1", "D2", "D3", "D4"]
            asked = manner not in ("strict", "old")  # they take no strip size, and make one of their own
            plans = plan_volumes(client, [VolumeWish("v", "RAID5", ("1", "2", "3"), 4096, strip_asked=asked)])
            (made,) = add_volumes(client, plans)
            assert made.name == "v" and {m.bay for m in made.seats} == {"1", "2", "3"}
            assert margin_now(survey(client), made) == 1
            if manner == "old":
                with pytest.raises(RedfishError, match="HotspareType"):
                    build.add_spare(client, "4", (), True)
            else:
                assert build.add_spare(client, "4", (), True).spare is True
                assert build.remove_spare(client, "4").spare is False
                made = build.add_spare(client, "4", ("v",), True)
                assert made.spare is True and made.dedicated is True and survey(client).drive("4").spare is True
                assert build.remove_spare(client, "4").spare is False
            assert build.locate(client, "2", True)[1].located is True
            build.start_check(client, "v", False)
            assert next(watch(client)).progress[0].work.kind is WorkKind.CHECK
            found = firmware_work.firmware(client)
            firmware_work.set_attributes(client, found, {"StartDelay": 9})
            assert firmware_work.firmware(client).named("StartDelay").pending == 9
            build.remove_volume(client, survey(client).volume("v"))
            assert survey(client).volumes == () and door.open_sessions == 1
        assert door.open_sessions == 0  # logged out


def test_what_waits_for_a_restart_says_so_and_is_seen_after_it(tmp_path, login):
    with (
        served(tmp_path, "deferring", TEXT, speed=60.0) as (at, _door, access),
        connect(at, access=access) as client,
    ):
        plans = plan_volumes(client, [VolumeWish("v", "RAID5", ("1", "2", "3"), 4096)])
        with pytest.raises(Deferred, match="does that at its next restart") as reason:
            add_volumes(client, plans)
        assert reason.value.exit_status == 3 and "firmware restart" in reason.value.to_do
        assert survey(client).volumes == ()
        firmware_work.restart(client, lambda _text: None, pause=0.05)
        (made,) = survey(client).volumes
        assert made.name == "v" and len(made.seats) == 3
        with pytest.raises(Deferred):
            build.remove_volume(client, made)
        assert survey(client).volumes != ()
        firmware_work.restart(client, lambda _text: None, pause=0.05)
        assert survey(client).volumes == ()


def test_a_person_is_told_what_a_server_does_not_take(tmp_path, login):
    with served(tmp_path, "strict", TEXT) as (at, _door, access), connect(at, access=access) as client:
        for words, why in ({}, "a strip size"), ({"strip_asked": False, "rotation": "parity-0"}, "--rotation"):
            plans = plan_volumes(client, [VolumeWish("v", "RAID5", ("1", "2", "3"), 4096, **words)])
            with pytest.raises(NotOffered, match=why):
                add_volumes(client, plans)
        assert survey(client).volumes == ()


def test_a_server_full_of_sessions_is_asked_with_every_request(tmp_path, login):
    with served(tmp_path, "plain", TEXT) as (at, door, access):
        with httpx.Client(base_url=at, verify=ssl.create_default_context(cafile=access.ca)) as others:
            for _ in range(16):
                body = {"UserName": LOGIN["FSTRIPE_USER"], "Password": LOGIN["FSTRIPE_PASSWORD"]}
                assert others.post("/redfish/v1/SessionService/Sessions", json=body).status_code == 201
        with connect(at, access=access) as client:
            assert survey(client).server == "small-1"
        assert door.open_sessions == 16


@pytest.mark.long
@pytest.mark.parametrize("manner", ["plain", "paged", "sparse", "tasks", "tagged", "busy", "partial", "redirecting"])
def test_firmware_is_updated_on_a_difficult_server(tmp_path, login, manner):
    """Pushed, or offered for fetching where nothing can be pushed; the task is followed, the version read again."""
    with served(tmp_path, manner, TEXT, speed=60.0) as (at, _door, access):
        with Bench(tmp_path / "b").session() as session:
            (tmp_path / "r.pldm").write_bytes(package_for(session.state, "CTRL-1", "7.0.1"))
        told = []
        with connect(at, access=access) as client:
            plan = plan_update(client, tmp_path / "r.pldm", ["CTRL-1"] if manner in ("sparse", "partial") else [])
            assert [(r.part.name, r.direction, r.activation) for r in plan.rows] == [
                ("CTRL-1", "newer", "system reboot")
            ]
            (after,) = update(client, plan, lambda name, percent: told.append((name, percent)))
            assert after.state == "waits" and after.waiting == (None if manner == "sparse" else "7.0.1")
            assert any("Firmware update of CTRL-1" in name and percent is not None for name, percent in told)
            firmware_work.restart(client, lambda _text: None, pause=0.05)
            assert {v.name: v.version for v in versions(client)}["CTRL-1"] == "7.0.1"


def test_a_certificate_is_verified_and_its_fingerprint_shown_once(tmp_path, login):
    with served(tmp_path, text=TEXT) as (at, _door, access):
        shown, _pem = fingerprint(at)
        with connect(at) as client, pytest.raises(TargetError, match=f"cannot be verified[^$]+--trust sha256:{shown}"):
            client.get("/redfish/v1/")
        for trust in (shown, "SHA256:" + ":".join(shown[i : i + 2] for i in range(0, 64, 2)).upper()):
            with connect(at, access=Access(trust=trust)) as client:
                assert survey(client).server == "small-1"
        with pytest.raises(TargetError, match="another one; somebody may be in between"):
            connect(at, access=Access(trust="0" * 64))
        with pytest.raises(TargetError, match="no certificates there"):
            connect(at, access=Access(ca=tmp_path / "d.toml"))
        assert access.ca is not None
        context = ssl.create_default_context(cafile=access.ca)
        assert httpx.get(at + "/redfish/v1/", verify=context).status_code == 200  # nothing but the root without login
        assert httpx.get(at + "/redfish/v1/Systems", verify=context).status_code == 401


def test_logins_come_from_netrc_or_are_asked_for_and_never_shown(tmp_path, monkeypatch):
    for name in LOGIN:
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("NETRC", str(tmp_path / "netrc"))
    with served(tmp_path, text=TEXT) as (at, door, access):
        with connect(at, access=access) as client, pytest.raises(RedfishError, match="asks for a login") as wrong:
            survey(client)
        assert "netrc" in wrong.value.to_do
        asked = Access(access.ca, ask=lambda _at: ("tech", "wrong-one"))
        with (
            connect(at, access=asked) as client,
            pytest.raises(RedfishError, match="login of tech was refused") as wrong,
        ):
            survey(client)
        assert "wrong-one" not in str(wrong.value)
        (tmp_path / "netrc").write_text("machine 127.0.0.1 login tech password tide-4711\n")
        (tmp_path / "netrc").chmod(0o600)
        with connect(at, access=access) as client:
            assert survey(client).server == "small-1" and door.open_sessions == 1
        assert door.open_sessions == 0


class Fails(Manner):
    """Loses the answer to a creation that it never carried out."""

    def answer(self, request):
        if request.method == "POST" and request.path.endswith("/Volumes"):
            return lost()
        return self.inside(request)


def test_a_creation_whose_answer_was_lost_is_looked_for_and_never_sent_twice(tmp_path, login):
    with served(tmp_path, Fails, TEXT) as (at, _door, access), connect(at, access=access) as client:
        plans = plan_volumes(client, [VolumeWish("v", "RAID0", ("1", "2"), 4096)])
        with pytest.raises(AnswerLost, match=r"the answer to POST \S*Volumes was lost"):
            add_volumes(client, plans)


def test_repeats_are_bounded_and_only_for_what_is_safe():
    sent = []

    def answer(request):
        sent.append(request.method)
        if request.url.path == "/lost":
            raise httpx.ReadError("gone")
        return httpx.Response(503, headers={"Retry-After": "7"})

    waits = []
    client = Client("s", httpx.Client(transport=httpx.MockTransport(answer), base_url="http://s"), sleep=waits.append)
    with pytest.raises(RedfishError, match="status 503"):
        client.get("/busy")
    assert sent == ["GET"] * 4 and waits == [7.0] * 3
    sent.clear()
    with pytest.raises(RedfishError, match="no answer to GET"):
        client.get("/lost")
    assert sent == ["GET"] * 4
    sent.clear()
    with pytest.raises(AnswerLost):
        client.post("/lost", {})
    assert sent == ["POST"]


def test_served_from_the_command_line_until_interrupted(fstripe, skerry):
    env = {k: v for k, v in os.environ.items() if k != "FSTRIPE_AT"} | {"FSTRIPE_SERVE_PASSWORD": "tide-4711"}
    process = subprocess.Popen(
        [FSTRIPE, "bench", "serve", "skerry", "--port", "0", "--user", "tech"], cwd=fstripe.folder, env=env,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert process.stdout is not None
    try:
        at = process.stdout.readline().split(" at ")[1].split(",")[0]
        trust = process.stdout.readline().split("--trust ")[1].split(",")[0]
        words = ("--at", at, "--trust", trust)
        made = fstripe(
            *words, "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes", "--expect-serials",
            ",".join(SERIALS), **LOGIN,
        )  # fmt: skip
        assert made.status == 0, made.err
        seen = fstripe(*words, "survey", **LOGIN)
        assert seen.status == 0 and "tides" in seen.out
        unknown = fstripe("--at", at, "survey", **LOGIN)
        assert unknown.status == 1 and trust in unknown.err and unknown.err.count("\n") == 1
        assert "tide-4711" not in seen.out + seen.err + made.err
    finally:
        process.send_signal(signal.SIGINT)
        _out, err = process.communicate(timeout=20)
    assert "Ended; the bench is as it was left" in err
    assert (skerry / "tls.key").stat().st_mode & 0o077 == 0


def test_several_servers_one_line_each_the_worst_first(fstripe, tmp_path):
    for name in ("one", "two"):
        create(tmp_path / name)
    fstripe("--at", "two", "bench", "lid", "open")
    many = fstripe("--at", "one", "--at", "two", "--at", "gone", "survey")
    assert many.status == 3
    lines = [line.split()[:3] for line in many.out.splitlines()[1:4]]
    assert lines == [["Critical", "?", "gone"], ["Warning", "skerry-1", "two"], ["OK", "skerry-1", "one"]]
    assert "2 of 3 servers need attention" in many.out and "the chassis is open" in many.out
    (tmp_path / "rack.toml").write_text('servers = ["two", "one"]')
    assert [s["at"] for s in fstripe("--at", "rack.toml", "survey", "--json").json] == ["two", "one"]
    (tmp_path / "bad.toml").write_text("servers = 3")
    assert "there is no list of servers in it" in fstripe("--at", "bad.toml", "survey").err
    assert "works on one server, 2 are named" in fstripe("--at", "rack.toml", "bays").err
    assert fstripe("survey", FSTRIPE_AT="one").status == 0 and fstripe("survey").status == 2


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_command_that_is_stopped_logs_out(tmp_path, login, number):
    """By Ctrl-C, a request to end, or a closed terminal, while it follows work: the session is ended at the server."""
    lasting = TEXT.replace(f"size = {SIZE}", f"size = {SIZE + (60 << 20)}")
    with served(tmp_path, "plain", lasting) as (at, door, access):
        with connect(at, access=access) as client:
            add_volumes(client, plan_volumes(client, [VolumeWish("v", "RAID5", ("1", "2", "3"), 4096)]))
            build.start_check(client, "v", False)
        assert door.open_sessions == 0
        words = [FSTRIPE, "--at", at, "--ca", tmp_path / "b" / "tls.pem", "watch"]
        process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        assert process.stdout is not None
        assert "consistency check" in process.stdout.readline()
        assert door.open_sessions == 1
        process.send_signal(number)
        process.communicate(timeout=20)
        assert process.returncode != 0 and door.open_sessions == 0


def test_what_the_protocol_asks_of_every_service(tmp_path):
    """DSP0266: the OData documents, Basic authentication, headers, refusals."""
    with served(tmp_path, text=TEXT) as (at, door, access):
        assert access.ca is not None
        context = ssl.create_default_context(cafile=access.ca)
        with httpx.Client(base_url=at, verify=context) as http:
            assert http.get("/redfish/v1/odata").json()["@odata.context"] == "/redfish/v1/$metadata"
            assert '<EntityContainer Name="Service"' in http.get("/redfish/v1/$metadata").text
            refused = http.get("/redfish/v1/Systems")
            assert refused.status_code == 401 and refused.headers["WWW-Authenticate"].startswith("Basic")
            for path in ("/redfish/v1/", "/redfish/v1/Systems", "/redfish/v1/SessionService/Sessions"):
                answer = http.get(path, auth=("tech", "tide-4711"))
                assert answer.status_code == 200 and "GET" in answer.headers["Allow"], path
                assert answer.headers["OData-Version"] == "4.0" and "rel=describedby" in answer.headers["Link"]
            assert http.get("/redfish/v1/Systems", auth=("tech", "wrong")).status_code == 401
            assert http.get("/redfish/v1/?$unknown=1").status_code == 501
            assert http.get("/redfish/v1/", headers={"OData-Version": "4.1"}).status_code == 412
            made = http.post("/redfish/v1/SessionService/Sessions/Members",
                             json={"UserName": "tech", "Password": "tide-4711"})  # fmt: skip
            token = {"X-Auth-Token": made.headers["X-Auth-Token"]}
            assert http.get(made.headers["Location"], headers=token).json()["UserName"] == "tech"
            roles = http.get("/redfish/v1/AccountService/Roles?$expand=.", headers=token).json()["Members"]
            assert [r["Id"] for r in roles] == ["Administrator", "Operator", "ReadOnly"]
            assert http.delete(made.headers["Location"], headers=token).status_code == 204 and door.open_sessions == 0


@pytest.mark.parametrize("ended", [timedelta(days=400), timedelta(days=-3650)])
def test_a_fingerprint_outranks_a_certificates_dates_and_that_is_said(fstripe, tmp_path, ended):
    (tmp_path / "b").mkdir()
    kept = certificate(tmp_path / "b", "127.0.0.1", ended)
    pem = [path.read_bytes() for path in kept]
    shutil.rmtree(tmp_path / "b")

    def early(app):  # the bench's folder is there by now: it gets the certificate before it is served
        for path, data in zip(kept, pem, strict=True):
            path.write_bytes(data)
        return app

    with served(tmp_path, early, TEXT) as (at, _door, access):
        shown, _pem = fingerprint(at)
        got = fstripe("--at", at, "--trust", shown, "survey", **LOGIN)
        assert got.status == 0, got.err
        assert ("trusted by its fingerprint" in got.err) is (ended > timedelta()) and got.err.count("\n") <= 1
        assert access.ca is not None
        plain = fstripe("--at", at, "--ca", access.ca, "survey", **LOGIN)
        assert (plain.status == 1) is (ended > timedelta()), plain.err
