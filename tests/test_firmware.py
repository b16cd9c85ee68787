"""Firmware: what waits for the restart, what falls back, roles found and overridden, the boot order."""

import json

import httpx
import pytest
from werkzeug.wrappers import Request, Response

from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.redfish.target import connect
from faithful_stripe.work import firmware as work
from faithful_stripe.work.errors import WorkError

RAW = ("--at", "raw")


@pytest.fixture
def raw(fstripe):
    """The observatory's server with firmware that nobody has prepared."""
    fstripe("bench", "new", "raw", "--from", "skerry-new")
    return fstripe.folder / "raw"


def test_from_the_factory_to_volumes_and_the_trap_on_the_way(fstripe, raw):
    seen = fstripe(*RAW, "survey")
    assert seen.status == 3 and "controller CTRL-1: offers no volumes" in seen.out
    refused = fstripe(*RAW, "volume", "add", "system", "--level", "RAID1", "--bays", "1,2")
    assert refused.status == 1 and "offers no volumes" in refused.err and "firmware show" in refused.err
    told = fstripe(*RAW, "firmware", "set", "DiskControllerUse=raid", "StartupStyle=UEFI")
    assert told.status == 0 and "controllers will offer volumes" in told.out
    assert "OldOptionRoms (Legacy option ROM support) stays on: it may pull the boot mode back" in told.out
    waiting = fstripe(*RAW, "firmware", "show")
    assert waiting.status == 3 and "2 settings wait for a restart" in waiting.out
    assert fstripe(*RAW, "firmware", "restart", stdin="no\n").status == 1
    back = fstripe(*RAW, "firmware", "restart", "--speed", "600", stdin="skerry-1\n")
    assert back.status == 3 and "StartupStyle did not keep what was asked" in back.out
    fstripe(*RAW, "firmware", "set", "StartupStyle=Uefi", "OldOptionRoms=Disabled", "VerifiedStart=Enabled")
    again = fstripe(*RAW, "firmware", "restart", "--yes", "--speed", "600", "--json")
    assert again.status == 0 and again.json["kept"] and len(again.json["settings"]) == 3
    made = fstripe(
        *RAW, "volume", "add", "system", "--level", "RAID1", "--bays", "1,2", "--yes",
        "--expect-serials", "QR4S1107,QR4S1132",
    )  # fmt: skip
    assert made.status == 0, made.err
    assert fstripe(*RAW, "boot", "system").out.startswith(
        "Boot order of skerry-1: Volume system of CTRL-1, then Network"
    )
    assert fstripe(*RAW, "firmware", "show").out.count("Boot order: Volume system of CTRL-1, then Network.") == 1


def test_volumes_survive_a_stay_in_direct_mode(fstripe, raw):
    fstripe(*RAW, "firmware", "set", "DiskControllerUse=Raid")
    fstripe(*RAW, "firmware", "restart", "--yes", "--speed", "600")
    serials = "UV4H20931,UV4H20944,UV4H21007"
    fstripe(*RAW, "volume", "add", "v", "--level", "RAID5", "--bays", "4-6", "--yes", "--expect-serials", serials)
    gone = fstripe(*RAW, "firmware", "set", "DiskControllerUse=Direct")
    assert "controllers will offer no volumes (v will not be offered)" in gone.out
    fstripe(*RAW, "firmware", "restart", "--yes", "--speed", "600")
    assert fstripe(*RAW, "survey", "--json").json["volumes"] == []
    assert "the storage mode is not RAID" in fstripe(*RAW, "bench", "dump", "v", "x.img").err
    fstripe(*RAW, "bench", "pull", "5")  # nobody notices while the drives are presented one by one
    fstripe(*RAW, "firmware", "set", "DiskControllerUse=Raid")
    fstripe(*RAW, "firmware", "restart", "--yes", "--speed", "600")
    (volume,) = fstripe(*RAW, "survey", "--json").json["volumes"]
    assert volume["margin"] == 0 and [m["state"] for m in volume["members"]] == ["active", "missing", "active"]


def test_mistakes_are_refused_before_anything_is_sent(fstripe, raw):
    for pairs, said in (
        (["DiskControllerUse=Mirror"], "expected one of Direct, Raid; nothing was sent"),
        (["StartDelay=61"], "expected a whole number from 0 to 60"),
        (["ChipsetDriveMapping=maybe"], "expected true or false"),
        (["BoardRevision=D"], "can only be read"),
        (["DiskUse=Raid"], "there is no firmware attribute DiskUse; near it: DiskControllerUse"),
        (["DiskControllerUse"], "sets nothing; write NAME=VALUE"),
        (["VerifiedStart=Enabled"], "can only be set while StartupStyle is Uefi (it will be Legacy)"),
        (["StartDelay=9", "BoardRevision=D"], "can only be read"),
        (["PropertyLabel=" + "x" * 33], "expected text"),
    ):
        wrong = fstripe(*RAW, "firmware", "set", *pairs)
        assert wrong.status == 1 and said in wrong.err and wrong.err.count("\n") == 1, wrong.err
    assert fstripe(*RAW, "firmware", "show").status == 0  # nothing waits
    with connect(str(raw)) as client, pytest.raises(Exception, match="expected one of Direct, Raid"):
        work.set_attributes(client, work.firmware(client), {"DiskControllerUse": "Mirror"})  # and the server checks too


def test_a_search_finds_names_and_help(fstripe, raw):
    seen = fstripe(*RAW, "firmware", "show", "--find", "fans")
    assert "FanCurve" in seen.out and "Quiet, Even, Cool" in seen.out and "DiskControllerUse" not in seen.out
    assert "PropertyLabel" in fstripe(*RAW, "firmware", "show", "--all").out
    assert "No attribute has 'zebra'" in fstripe(*RAW, "firmware", "show", "--find", "zebra").out


def test_roles_can_be_said_otherwise(fstripe, raw):
    (fstripe.folder / "roles.toml").write_text('"storage mode" = "FanCurve"\n')
    shown = fstripe(*RAW, "firmware", "show", "--roles", "roles.toml", "--json").json
    assert [a["name"] for a in shown["attributes"] if a["role"] == "storage mode"] == ["FanCurve"]
    (fstripe.folder / "roles.toml").write_text('"disk mode" = "FanCurve"\n')
    wrong = fstripe(*RAW, "firmware", "show", "--roles", "roles.toml")
    assert wrong.status == 1 and "roles: storage mode, boot mode" in wrong.err


def test_a_restart_names_the_work_that_it_interrupts(fstripe, raw):
    fstripe(*RAW, "firmware", "set", "DiskControllerUse=Raid")
    fstripe(*RAW, "firmware", "restart", "--yes", "--speed", "600")
    serials = "UV4H20931,UV4H20944,UV4H21007"
    fstripe(*RAW, "volume", "add", "v", "--level", "RAID5", "--bays", "4-6", "--yes", "--expect-serials", serials)
    fstripe(*RAW, "volume", "check", "v")
    fstripe(*RAW, "bench", "advance", "1h")
    before = fstripe(*RAW, "survey", "--json").json["volumes"][0]["work"][0]["done"]
    told = fstripe(*RAW, "firmware", "restart", "--yes", "--speed", "600")
    assert "WORK IS RUNNING: v: consistency check" in told.err and told.status == 0
    assert "no setting has changed" in told.out
    assert fstripe(*RAW, "survey", "--json").json["volumes"][0]["work"][0]["done"] >= before > 0


def stranger(environ, start_response):
    """A server whose attribute names nobody knows, without a registry entry for some of them."""
    pages = {
        "/redfish/v1/": {"Systems": {"@odata.id": "/s"}, "Registries": {"@odata.id": "/r"}},
        "/s": {"Members": [{"@odata.id": "/s/1"}]},
        "/s/1": {"@odata.id": "/s/1", "Name": "one", "Storage": {"@odata.id": "/st"}, "Bios": {"@odata.id": "/b"}},
        "/st": {"Members": [{"@odata.id": "/st/1"}]},
        "/st/1": {"@odata.id": "/st/1", "Drives": []},
        "/b": {"AttributeRegistry": "X.1", "Attributes": {"Q17": "A", "Q18": "U", "Q99": 4}},
        "/r": {"Members": [{"@odata.id": "/r/1"}]},
        "/r/1": {"@odata.id": "/r/1", "Registry": "X.1", "Location": [{"Uri": "/r/1/x"}]},
        "/r/1/x": {"RegistryEntries": {"Attributes": [
            {"AttributeName": "Q18", "Type": "Enumeration", "DisplayName": "System boot mode",
             "Value": [{"ValueName": "U", "ValueDisplayName": "UEFI only"}, {"ValueName": "B"}]},
            {"AttributeName": "Q17", "Type": "Enumeration", "DisplayName": "SATA operation mode",
             "Value": [{"ValueName": "A", "ValueDisplayName": "AHCI"}, {"ValueName": "R", "ValueDisplayName": "RAID"}]},
        ]}},
    }  # fmt: skip
    page = pages.get(Request(environ).path)
    return Response(json.dumps(page), 200 if page else 404)(environ, start_response)


@pytest.mark.parametrize(("keeps", "says"), [(True, ""), (False, "does not tell that Q17 will be as asked")])
def test_what_a_server_takes_is_read_back_before_it_is_called_done(keeps, says):
    waiting = {}

    def answer(request):
        if request.method == "PATCH":
            waiting.update(json.loads(request.content)["Attributes"] if keeps else {})
            return httpx.Response(204)
        if request.url.path == "/b":
            body = {
                "Attributes": {"Q17": "A", "Word": None},
                "@Redfish.Settings": {"SettingsObject": {"@odata.id": "/w"}},
            }
            return httpx.Response(200, json=body)
        if request.url.path == "/w":
            return httpx.Response(200, json={"@odata.id": "/w", "Attributes": waiting})
        environ = {"PATH_INFO": request.url.path, "REQUEST_METHOD": "GET", "wsgi.url_scheme": "http"}
        return httpx.Response(200, content=b"".join(stranger(environ, lambda *_words: None)))

    http = httpx.Client(transport=httpx.MockTransport(answer), base_url="http://s")
    with Client("s", http, sleep=lambda _s: None) as client:
        found = work.firmware(client)
        if says:
            with pytest.raises(RedfishError, match=says):
                work.set_attributes(client, found, {"Q17": "R"})
        else:
            assert work.set_attributes(client, found, {"Q17": "R"}).named("Q17").will_be == "R"


def test_roles_on_a_server_that_nobody_here_wrote():
    client = Client("s", httpx.Client(transport=httpx.WSGITransport(stranger), base_url="http://s"))
    found = work.firmware(client)
    assert {a.name: a.role for a in found.attributes} == {"Q18": "boot mode", "Q17": "storage mode", "Q99": ""}
    assert work.parse(found, ["Q17=raid"]) == {"Q17": "R"} and found.boot == ()
    with pytest.raises(WorkError, match="cannot be changed over Redfish"):
        work.set_attributes(client, found, {"Q17": "R"})
    with pytest.raises(WorkError, match="takes no restart"):
        work.restart(client, print)
