"""Firmware packages and updates: the open package format, what is refused, what waits, what breaks off."""

import struct
import threading
import zlib
from datetime import UTC, datetime

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.bench import updating
from faithful_stripe.bench.rows import to_rows
from faithful_stripe.core.formats import pldm
from faithful_stripe.core.formats.declared import FormatError
from faithful_stripe.redfish.offer import offered, own_address
from faithful_stripe.redfish.service import Service
from faithful_stripe.redfish.target import connect
from faithful_stripe.work.update import compare, tasks

from .conftest import until

AT = ("--at", "skerry")
PUSH, SIMPLE = "UpdateService/push", "UpdateService/Actions/UpdateService.SimpleUpdate"
MOMENT = datetime(2026, 5, 6, 7, 8, 9, tzinfo=UTC)
CARD = ((pldm.PCI_VENDOR, b"\xff\xff"), (pldm.PCI_DEVICE, b"\x41\x00"))


def test_a_package_by_hand_after_the_standard_reads_as_it_was_laid_out():
    """Every field at the place that DSP0267 1.0 gives it, two devices, two components, a time zone."""
    card = struct.pack("<HHH", 0x0000, 2, 0xFFFF) + struct.pack("<HHH", 0x0100, 2, 0x0041)
    disk = struct.pack("<HHI", 0x0001, 4, 32473) + struct.pack("<HH", 0x0106, 6) + b"Ulvane"

    def record(bits: int, count: int, listed: bytes) -> bytes:
        inner = struct.pack("<BIBBHB", count, 0, 1, 3, 4, bits) + b"set" + listed + b"priv"
        return struct.pack("<H", len(inner) + 2) + inner

    stamp = struct.pack("<hBHBBBBBHB", 120, 0, 0, 9, 8, 7, 6, 5, 2026, 0)
    tides = record(0b01, 2, card) + record(0b10, 2, disk)
    first = struct.pack("<HHIHHIIBB", 10, 7, 0x50400, 2, 0b1000, 400, 5, 1, 5) + b"5.4.0"
    second = struct.pack("<HHIHHIIBB", 10, 8, 0, 0, 0b10, 405, 3, 2, 4) + b"K415"
    body = stamp + struct.pack("<HBB", 8, 1, 4) + b"pack" + b"\x02" + tides + struct.pack("<H", 2) + first + second
    head = bytes.fromhex("F018878CCB7D49439800A02F059ACA02") + struct.pack("<BH", 1, 19 + len(body) + 4) + body
    data = (head + struct.pack("<I", zlib.crc32(head))).ljust(400, b"\0") + b"image" + b"two"
    found = pldm.read_package("p", data)
    assert found.version == "pack" and found.released == datetime(2026, 5, 6, 5, 8, 9, tzinfo=UTC)
    assert [(d.pci, d.model, d.components) for d in found.devices] == [
        ("PCI\\VEN_FFFF&DEV_0041", "", (0,)), ("", "Ulvane", (1,)),
    ]  # fmt: skip
    a, b = found.components
    assert (a.version, a.stamp, a.activation, data[a.offset : a.offset + a.size]) == (
        "5.4.0", 0x50400, ("system reboot",), b"image",
    )  # fmt: skip
    assert (b.version, b.stamp, b.activation, b.size) == ("K415", 0, ("self-contained",), 3)


@given(
    st.text("0123456789.abc", min_size=1, max_size=40), st.binary(max_size=200), st.sampled_from(pldm.ACTIVATIONS),
    st.integers(0, 10**6),
)  # fmt: skip
def test_what_is_written_reads_back_and_no_damage_to_the_header_goes_unnoticed(version, image, activation, where):
    data = pldm.write_package(version, MOMENT, CARD, activation, image)
    found = pldm.read_package("p", data)
    (component,) = found.components
    assert (found.version, component.version, component.activation) == (version, version, (activation,))
    assert data[component.offset : component.offset + component.size] == image and found.released == MOMENT
    broken = bytearray(data)
    broken[where % component.offset] ^= 1 << where % 8
    with pytest.raises(FormatError):
        pldm.read_package("p", bytes(broken))
    with pytest.raises(FormatError):
        pldm.read_package("p", data[: where % len(data)])


@given(st.binary(max_size=300))
def test_no_bytes_make_the_reader_stumble(noise):
    for start in (b"", pldm.IDENTIFIER, *pldm.LATER):
        with pytest.raises(FormatError):
            pldm.read_package("p", start + noise)


@pytest.mark.parametrize(
    ("now", "offered", "step"),
    [("5.9.0", "5.10.0", "newer"), ("K410", "K409", "older"), ("2.14.0", "2.14.0", "same"), ("5.3", "5.3.1", "newer"),
     ("1.0rc1", "1.0rc2", "newer"), ("", "1", "unknown")],
)  # fmt: skip
def test_versions_are_compared_number_by_number(now, offered, step):
    assert compare(now, offered) == step


@pytest.fixture
def package(fstripe, skerry):
    """Makes a package for a part of the bench."""

    def make(part: str, version: str) -> str:
        name = f"{part}-{version}.pldm"
        assert fstripe(*AT, "bench", "package", name, "--for", part, "--version", version).status == 0
        return name

    return make


def test_a_controller_is_updated_and_proven_after_the_restart(fstripe, skerry, package):
    name = package("CTRL-1", "5.4.0")
    assert "not confirmed" in fstripe(*AT, "firmware", "update", name, stdin="no\n").err
    done = fstripe(*AT, "firmware", "update", name, "--speed", "200", stdin="skerry-1\n")
    assert done.status == 3 and "waits" in done.out and "5.3.1     5.4.0    newer" in done.err
    listed = fstripe(*AT, "firmware", "show", "--versions", "--json")
    assert listed.status == 3
    assert {v["name"]: (v["version"], v["waiting"]) for v in listed.json}["CTRL-1"] == ("5.3.1", "5.4.0")
    back = fstripe(*AT, "firmware", "restart", "--yes", "--speed", "600", "--json")
    assert back.status == 0
    assert back.json["versions"] == [{"name": "CTRL-1", "before": "5.3.1", "waited": "5.4.0", "now": "5.4.0"}]
    assert fstripe(*AT, "survey", "--json").json["controllers"][0]["firmware"] == "5.4.0"
    again = fstripe(*AT, "firmware", "update", name, "--yes", "--speed", "200", "--json")
    assert again.status == 0 and again.json["parts"][0]["state"] == "runs"


def test_going_back_is_asked_for_and_a_wrong_or_damaged_file_changes_nothing(fstripe, skerry, package):
    old = package("System", "2.9.0")
    refused = fstripe(*AT, "firmware", "update", old, "--yes")
    assert refused.status == 1 and "older than what runs on System: 2.14.0 now, 2.9.0 offered" in refused.err
    gone_back = fstripe(*AT, "firmware", "update", old, "--yes", "--go-back", "--speed", "200")
    assert gone_back.status == 3 and "GOES BACK" in gone_back.err
    new = package("CTRL-1", "5.4.0")
    wrong = fstripe(*AT, "firmware", "update", new, "--part", "System", "--yes")
    assert wrong.status == 1 and "is for PCI\\VEN_FFFF&DEV_0041, not for System" in wrong.err
    data = bytearray((fstripe.folder / new).read_bytes())
    data[-5] ^= 1
    (fstripe.folder / "bad.pldm").write_bytes(data)
    bad = fstripe(*AT, "firmware", "update", "bad.pldm", "--yes")
    assert bad.status == 1 and "its image is damaged" in bad.err
    (fstripe.folder / "short.pldm").write_bytes(data[:60])
    assert "it is cut short" in fstripe(*AT, "firmware", "update", "short.pldm", "--yes").err
    (fstripe.folder / "other.bin").write_bytes(b"something of the maker's own")
    unknown = fstripe(*AT, "firmware", "update", "other.bin", "--yes")
    assert "does not say what it is for" in unknown.err and "CTRL-1" in unknown.err
    refused = fstripe(*AT, "firmware", "update", "other.bin", "--part", "CTRL-1", "--yes")
    assert refused.status == 1 and "no firmware package" in refused.err
    versions = fstripe(*AT, "firmware", "show", "--versions", "--json").json
    assert {v["name"]: v["version"] for v in versions}["CTRL-1"] == "5.3.1"


def test_drives_of_one_model_are_updated_together_and_never_under_a_rebuild(fstripe, skerry, package):
    name = package("Drive-UV4H20931", "K415")
    serials = "UV4H20931,UV4H20944,UV4H21007"
    fstripe(*AT, "volume", "add", "v", "--level", "RAID5", "--bays", "4-6", "--initialize", "background", "--yes",
            "--expect-serials", serials)  # fmt: skip
    refused = fstripe(*AT, "firmware", "update", name, "--yes")
    assert refused.status == 1 and "volume v: background is running" in refused.err
    assert "WORK IS RUNNING: v: background initialization" in refused.err
    one = fstripe(*AT, "firmware", "update", name, "--part", "Drive-UV4H21390", "--yes", "--speed", "200", "--json")
    assert one.status == 0 and [p["name"] for p in one.json["parts"]] == ["Drive-UV4H21390"]
    seen = {d["bay"]: d["firmware"] for d in fstripe(*AT, "survey", "--json").json["drives"]}
    assert seen["11"] == "K415" and seen["10"] == "K410"


def test_a_restart_breaks_a_running_update_off_and_the_old_firmware_stays(bench):
    with bench.session() as session:
        data = updating.package_for(session.state, "CTRL-1", "5.4.0")
        updating.begin(session, data, [])
        session.advance(updating.WRITE_SECONDS / 2)
        session.shut_down()
        session.power_on()
        (update,) = session.state.updates.values()
        assert update.state == "Exception" and session.state.controllers["CTRL-1"].facts["firmware"] == "5.3.1"
        updating.begin(session, data, ["CTRL-1"])
        session.advance(updating.WRITE_SECONDS)
        assert [u.state for u in session.state.updates.values()] == ["Exception", "Waiting"]
    with bench.session() as session:  # it is remembered
        session.shut_down()
        session.power_on()
        assert session.state.controllers["CTRL-1"].facts["firmware"] == "5.4.0"
        kinds = [e.message_id.rpartition(".")[2] for e in session.events() if "Update" in e.message_id]
        assert kinds == ["InstallingOnComponent", "ApplyFailed", "InstallingOnComponent", "AwaitToActivate",
                         "UpdateSuccessful"]  # fmt: skip


def test_an_update_that_breaks_off_is_the_result_of_both_commands(fstripe, skerry):
    fstripe(*AT, "firmware", "set", "StartDelay=0")
    fstripe(*AT, "bench", "package", "r.pldm", "--for", "CTRL-1", "--version", "5.4.0")
    results = []
    words = (*AT, "firmware", "update", "r.pldm", "--yes")
    following = threading.Thread(target=lambda: results.append(fstripe(*words)))
    following.start()
    with connect(str(skerry)) as client:
        until(lambda: any(t.state == "Running" for t in tasks(client)))
    back = fstripe(*AT, "firmware", "restart", "--yes", "--speed", "20")
    following.join(timeout=90)
    assert back.status == 3 and "BROKEN OFF by the restart: Firmware update of CTRL-1" in back.out, back.out + back.err
    assert "a restart breaks it off: WAIT FIRST" in back.err
    (done,) = results
    assert done.status == 3 and "BROKEN OFF" in done.out and "update it again" in done.out, done.out + done.err
    assert "Ctrl-C stops following the update, not the update" in done.err


@pytest.mark.parametrize(
    ("method", "path", "more", "status", "said"),
    [
        ("POST", PUSH, {"files": {"UpdateParameters": (None, "{")}}, 400, "UpdateParameters is not JSON"),
        ("POST", PUSH, {"files": {"UpdateParameters": (None, "{}")}}, 400, "no UpdateFile"),
        ("POST", PUSH, {"files": {"UpdateFile": ("f", b"noise")}}, 400, "no firmware package"),
        ("POST", SIMPLE, {"json": {}}, 400, "no property ImageURI"),
        ("POST", SIMPLE, {"json": {"ImageURI": "ftp://x/f"}}, 400, "HTTPS only"),
        ("POST", SIMPLE, {"json": {"ImageURI": "http://127.0.0.1:9/f"}}, 400,
         "nothing could be fetched"),
        ("GET", "UpdateService/FirmwareInventory/Nothing", {}, 404, "there is no part Nothing"),
        ("GET", "TaskService/Tasks/99", {}, 404, "there is nothing at"),
        ("GET", "TaskService/TaskMonitors/99", {}, 404, "there is nothing at"),
        ("GET", "Systems/skerry-1/SimpleStorage/CTRL-9", {}, 404, "there is nothing at"),
        ("GET", "AccountService/Roles/King", {}, 404, "there is nothing at"),
        ("PATCH", "Systems/skerry-1/Storage/CTRL-1/Volumes/1", {"json": {"Name": "x"}}, 400, "Name of a volume cannot"),
        ("PATCH", "Systems/skerry-1/Storage/CTRL-1/Volumes/1", {"json": {}}, 400, "the request changes nothing"),
        ("PATCH", "Systems/skerry-1/Storage/CTRL-1/Volumes/1", {"json": {"ReadCachePolicy": "Often"}}, 400,
         "there is no cache policy Often"),
        ("PATCH", "Systems/skerry-1/Storage/CTRL-1/Drives/Bay-4", {"json": {"LocationIndicatorActive": 1}}, 400,
         "expected true or false"),
        ("PATCH", "Systems/skerry-1/Storage/CTRL-1/Drives/Bay-16", {"json": {"LocationIndicatorActive": True}}, 409,
         "bay 16 is empty"),
    ],
)  # fmt: skip
def test_what_the_service_refuses_is_one_message_and_changes_nothing(bench, method, path, more, status, said):
    with bench.session() as session:
        before = to_rows(session.state)
    with httpx.Client(transport=httpx.WSGITransport(Service(bench)), base_url="http://bench") as http:
        answer = http.request(method, "/redfish/v1/" + path, **more)
    assert answer.status_code == status, answer.text
    assert said in answer.json()["error"]["@Message.ExtendedInfo"][0]["Message"]
    with bench.session() as session:
        after = to_rows(session.state)
    assert {k: str(v) for k, v in after.items() if k[1] != "clock"} == {
        k: str(v) for k, v in before.items() if k[1] != "clock"
    }


def test_a_package_is_fetched_when_it_is_offered_and_only_under_its_own_name(bench):
    with bench.session() as session:
        data = updating.package_for(session.state, "CTRL-1", "5.4.0")
    service = httpx.Client(transport=httpx.WSGITransport(Service(bench)), base_url="http://bench")
    with service as http, offered("raid.pldm", data, own_address("b")) as uri:
        assert httpx.get(uri.rpartition("/")[0] + "/other").status_code == 404
        action = "/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate"
        answer = http.post(action, json={"ImageURI": uri, "TransferProtocol": "HTTP"})
        assert answer.status_code == 202 and answer.json()["TaskState"] == "Running"
        again = http.post(action, json={"ImageURI": uri})
        assert again.status_code == 409 and "firmware is being written to CTRL-1" in again.text
        with bench.session() as session:
            session.advance(updating.WRITE_SECONDS)
        done = http.get(answer.headers["Location"])
        assert done.status_code == 200 and done.json()["TaskState"] == "Completed"
    with pytest.raises(httpx.ConnectError):
        httpx.get(uri)
