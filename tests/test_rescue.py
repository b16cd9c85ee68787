"""A volume that is offline: who left when, and forcing online only what is known to be up to date."""

import json
import random
import shutil
from contextlib import ExitStack
from pathlib import PurePosixPath

import httpx
import numpy as np
import pytest

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.server.acts import Allowed, Because, ForceOnline, may
from faithful_stripe.core.source import read
from faithful_stripe.media.filesystems import Kind
from faithful_stripe.media.image import ImageFile
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.redfish.names import OEM
from faithful_stripe.work.errors import ActRefused, WorkError
from faithful_stripe.work.files import opened_on
from faithful_stripe.work.places import parts_of
from faithful_stripe.work.rescue import force_online, rescue
from faithful_stripe.work.trying_back import Doubt

from .piles import MIB
from .slicer import Spec, cut
from .small import TEXT

ROOT, VOLUME = "/redfish/v1/", "/redfish/v1/Systems/1/Storage/1/Volumes/1"


class Server:
    """A RAID 5 of three with two members that its controller has given up; `current`: what it says of each of the two,
    `seated`: whether their drives are there, `offers`: ForceEnable, `works`: whether that helps."""

    def __init__(self, current=(False, True), seated=(True, True), offers=True, works=True):
        self.works, self.asked = works, []
        states = [("missing", current[0]), ("missing", current[1]), ("active", True)]
        members = [{"Position": n, "Bay": str(n), "SerialNumber": f"S{n}", "State": state, "UpToDate": told}
                   for n, (state, told) in enumerate(states)]  # fmt: skip
        well = {"State": "Enabled", "Health": "OK"}
        drives = [{"@odata.id": f"/d/{n}", "Id": str(n), "SerialNumber": f"S{n}", "Status": dict(well),
                   "PhysicalLocation": {"PartLocation": {"ServiceLabel": str(n)}}} for n in range(3)]  # fmt: skip
        for n in (0, 1):
            if not seated[n]:
                drives[n] |= {"SerialNumber": None, "Status": {"State": "Absent"}}
        actions = {"#Volume.ForceEnable": {"target": VOLUME + "/Actions/Volume.ForceEnable"}} if offers else {}
        self.volume = {
            "@odata.id": VOLUME, "Id": "1", "Name": "tides", "RAIDType": "RAID5", "CapacityBytes": 10**12,
            "Status": {"State": "UnavailableOffline", "Health": "Critical"}, "Actions": actions,
            "Oem": {OEM: {"Level": "RAID5", "Rotation": "parity-N", "DataOrder": "restart", "Members": members}},
        }  # fmt: skip
        self.there = {
            ROOT: {"@odata.id": ROOT, "Systems": {"@odata.id": "/s"}},
            "/s": {"Members": [{"@odata.id": "/s/1"}]},
            "/s/1": {"@odata.id": "/s/1", "Id": "1", "Storage": {"@odata.id": "/st"}},
            "/st": {"Members": [{"@odata.id": "/st/1"}]},
            "/st/1": {"@odata.id": "/st/1", "Id": "1", "Volumes": {"@odata.id": "/v"},
                      "Drives": [{"@odata.id": d["@odata.id"]} for d in drives]},
            "/v": {"Members": [{"@odata.id": VOLUME}]}, VOLUME: self.volume,
            **{d["@odata.id"]: d for d in drives},
        }  # fmt: skip

    def answer(self, request):
        if request.method == "POST":
            self.asked.append(request.url.path)
            if self.works:
                self.volume["Status"] = {"State": "Enabled", "Health": "Warning"}
                self.volume["Oem"][OEM]["Members"][1]["State"] = "active"
            return httpx.Response(204)
        found = self.there.get(request.url.path)
        return httpx.Response(200, json=found) if found else httpx.Response(404)

    def client(self):
        return Client("srv", httpx.Client(transport=httpx.MockTransport(self.answer), base_url="http://s"))


def test_a_member_that_is_up_to_date_is_used_again_and_that_is_read_back():
    server = Server()
    with server.client() as client:
        found = rescue(client, "tides")
        assert isinstance(found.verdict, Allowed) and found.offered
        assert [(a.seat.serial, a.here, a.seat.current) for a in found.away] == [
            ("S0", True, False),
            ("S1", True, True),
        ]
        assert server.asked == [] and not found.logged  # looking changes nothing, and this one has no log
        force_online(client, found)
        assert server.asked == [VOLUME + "/Actions/Volume.ForceEnable"]
    deaf = Server(works=False)
    with deaf.client() as client, pytest.raises(RedfishError, match="still cannot be read"):
        force_online(client, rescue(client, "tides"))


@pytest.mark.parametrize(
    ("server", "because"),
    [
        (Server(current=(False, False)), Because.OUT_OF_DATE),
        (Server(current=(False, None)), Because.CURRENCY_NOT_KNOWN),
        (Server(current=(None, None)), Because.CURRENCY_NOT_KNOWN),
        (Server(seated=(True, False)), Because.MEMBERS_AWAY),
    ],
)
def test_what_is_old_away_or_not_known_is_not_forced(server, because):
    with server.client() as client:
        found = rescue(client, "tides")
        assert found.verdict.because is because
        with pytest.raises(ActRefused):
            force_online(client, found)
    assert server.asked == []


def test_what_can_be_read_is_not_forced_and_what_is_not_offered_neither():
    server = Server(offers=False)
    with server.client() as client:
        found = rescue(client, "tides")
        assert isinstance(found.verdict, Allowed) and not found.offered
        with pytest.raises(WorkError, match="does not offer"):
            force_online(client, found)
    whole = Server()
    whole.volume["Status"] = {"State": "Enabled", "Health": "OK"}
    for member in whole.volume["Oem"][OEM]["Members"]:
        member["State"] = "active"
    with whole.client() as client:
        found = rescue(client, "tides")
        assert not found.away and may(ForceOnline(found.volume), found.server).because is Because.NOT_OFFLINE


def test_the_command_says_who_left_when_and_refuses(fstripe):
    """A bench: one member leaves, the volume is written, another one fails; the first comes back too late."""
    (fstripe.folder / "d.toml").write_text(TEXT)
    fstripe("bench", "new", "b", "--from", "d.toml")
    fstripe("--at", "b", "volume", "add", "v", "--level", "RAID5", "--bays", "1-3", "--strip", "4KiB", "--yes",
            "--expect-serials", "D1,D2,D3")  # fmt: skip
    fstripe("--at", "b", "bench", "pull", "1")
    (fstripe.folder / "data").write_bytes(b"tide" * 4096)
    fstripe("--at", "b", "bench", "load", "v", "data")
    fstripe("--at", "b", "bench", "pull", "2")
    fstripe("--at", "b", "bench", "seat", "1", "D1")
    told = fstripe("--at", "b", "volume", "rescue", "v")
    assert told.status == 3 and "offline" in told.out
    rows = [line.split() for line in told.out.splitlines() if " D1 " in line or " D2 " in line]
    assert [(row[2], row[3], row[4]) for row in rows] == [("D1", "yes", "no"), ("D2", "no", "yes")]
    assert "members that are up to date are not there: bay 2 (D2)" in told.out and "First:" in told.out
    refused = fstripe("--at", "b", "volume", "rescue", "v", "--force-online", "--yes", "--expect-serials", "D1")
    assert refused.status == 1 and "seat again the drive of bay 2 (D2)" in refused.err.splitlines()[-1]
    document = json.loads(fstripe("--at", "b", "volume", "rescue", "v", "--json").out)
    assert document["log_read"] and all(m["left"] for m in document["missing"])
    assert document["force_online"]["because"] == "members-away" and len(document["missing"]) == 2


LARGER = TEXT.replace("size = 68157440", "size = 83886080")
"""Drives with room for a file system."""


@pytest.fixture
def offline(fstripe, volumes):
    """Makes a RAID 5 of three offline, and images of its drives by bay: bay 1 leaves, what `later` makes of the volume
    is written, bay 2 leaves, and bay 1 is seated again: too late, says the controller."""

    def made(later):
        folder = fstripe.folder
        (folder / "d.toml").write_text(LARGER)
        fstripe("bench", "new", "b", "--from", "d.toml")
        sure = ("--yes", "--expect-serials", "D1,D2,D3")
        fstripe("--at", "b", "volume", "add", "v", "--level", "RAID5", "--bays", "1-3", "--strip", "16KiB", *sure)
        shutil.copyfile(volumes / "ext4-nocsum.img", folder / "first.img")
        fstripe("--at", "b", "bench", "load", "v", "first.img", *sure)
        fstripe("--at", "b", "bench", "pull", "1")
        later(folder)
        fstripe("--at", "b", "bench", "load", "v", "later.img", *sure)
        fstripe("--at", "b", "bench", "pull", "2")
        fstripe("--at", "b", "bench", "seat", "1", "D1")
        for bay in (1, 2, 3):
            shutil.copyfile(folder / "b" / "drives" / f"D{bay}.img", folder / f"bay{bay}.img")
        return fstripe

    return made


def asked(fstripe, bays, *more):
    """What `volume rescue` says with the images of these bays."""
    named = [word for bay in bays for word in ("--image", f"{bay}=bay{bay}.img")]
    return fstripe("--at", "b", "volume", "rescue", "v", *named, *more)


def a_file_changes(folder):
    """The same file system, but for the bytes of one file."""
    data = bytearray((folder / "first.img").read_bytes())
    with ImageFile(folder / "first.img") as image:
        system = opened_on(image, parts_of(image)[0]).system
        files = [e for e in system.walk(system.lookup(PurePosixPath("."))) if e.kind is Kind.FILE]
    largest = max(files, key=lambda e: e.places[0][1] - e.places[0][0] if e.places else 0)
    at, end = largest.places[0]
    end = min(end, at + 65536)
    data[at:end] = random.Random(5).randbytes(end - at)
    (folder / "later.img").write_bytes(data)
    (folder / "changed").write_text(str(largest.path))


def test_each_choice_of_members_is_tried_on_images_and_what_it_spoils_is_named(offline):
    fstripe = offline(a_file_changes)
    folder, changed = fstripe.folder, (fstripe.folder / "changed").read_text()
    before = [(folder / f"bay{bay}.img").read_bytes() for bay in (1, 2, 3)]
    document = json.loads(asked(fstripe, (1, 2, 3), "--json").out)["on_images"]
    told = {"+".join(c["bays"]): c for c in document["choices"]}
    assert set(told) == {"1", "2", "1+2"} and document["doubt"] == "likely" and not document["open"]
    assert told["2"]["harmed"] == [] and told["2"]["files"] == []
    assert told["1"]["files"] == told["1+2"]["files"] == [changed]
    assert document["up_to_date"] == []  # that bay 1 is at fault where rows do not match is the controller's word alone
    # what it says is wrong is what a controller would read wrong that used just those
    later = (folder / "later.img").read_bytes()
    shape = geometry("RAID5", 3, 16384, rotation="parity-N", data="continuation", member_bytes=16 * MIB)
    for choice, bays in (("1", (1, 3)), ("2", (2, 3)), ("1+2", (1, 2, 3))):
        with ExitStack() as stack:
            images = [stack.enter_context(ImageFile(folder / f"bay{b}.img")) if b in bays else None for b in (1, 2, 3)]
            held = read(Array(shape, images), 0, len(later))
        wrong = {at for at in range(0, len(later), 512) if held[at : at + 512] != later[at : at + 512]}
        said = {at for r in told[choice]["harmed"] for at in range(r["start"], r["start"] + r["length"], 512)}
        assert said == wrong and bool(wrong) == (choice != "2")
    text = asked(fstripe, (1, 2, 3)).out
    assert f"With bay 1, wrong bytes are in: {changed}." in text
    refused = asked(fstripe, (1, 2, 3), "--force-online", "--yes", "--expect-serials", "D1")
    assert refused.status == 1 and "seat again the drive of bay 2 (D2)" in refused.err.splitlines()[-1]
    assert before == [(folder / f"bay{bay}.img").read_bytes() for bay in (1, 2, 3)]


def test_what_no_image_tests_proves_nothing(offline):
    fstripe = offline(a_file_changes)
    document = json.loads(asked(fstripe, (1, 3), "--json").out)["on_images"]
    assert document["doubt"] == "untested" and document["up_to_date"] == []
    assert [c["harmed"] for c in document["choices"]] == [None]
    swapped = fstripe("--at", "b", "volume", "rescue", "v", "--json", "--image", "1=bay2.img", "--image", "2=bay1.img",
                      "--image", "3=bay3.img")  # fmt: skip
    assert json.loads(swapped.out)["on_images"]["doubt"] == "apart"
    for words, status, what in (
        (("--image", "9=bay1.img"), 1, "bay 9 is none of volume v's"),
        (("--image", "bay1.img"), 2, "expected BAY=IMAGE"),
        (("--image", "1=bay1.img", "--image", "1=bay2.img"), 2, "has two images"),
    ):
        wrong = fstripe("--at", "b", "volume", "rescue", "v", *words)
        assert wrong.status == status and what in wrong.err and "Traceback" not in wrong.err


def test_a_member_that_images_show_to_be_up_to_date_is_forced_online(offline):
    """What was written while it was away is what stood there: the controller cannot know that, the bytes tell it."""
    fstripe = offline(lambda folder: shutil.copyfile(folder / "first.img", folder / "later.img"))
    assert json.loads(asked(fstripe, (), "--json").out)["force_online"]["because"] == "members-away"
    document = json.loads(asked(fstripe, (1, 2, 3), "--json").out)
    assert document["on_images"]["up_to_date"] == ["1", "2", "3"]
    assert document["force_online"] == {"allowed": True, "offered": True, "because": None, "what": None}
    forced = asked(fstripe, (1, 2, 3), "--force-online", "--yes", "--expect-serials", "D1")
    assert forced.status == 3 and "can be read again" in forced.out  # degraded: bay 2 is still away
    fstripe("--at", "b", "bench", "dump", "v", "back.img", "--range", "0:16MiB")
    assert (fstripe.folder / "back.img").read_bytes() == (fstripe.folder / "first.img").read_bytes()
    fstripe("--at", "b", "bench", "seat", "2", "D2")
    assert "rebuild" in fstripe("--at", "b", "volume", "show", "v").out  # it was away while the others went on


ALIKE = Spec("RAID5", 3, 16384, "parity-N", "restart")
"""What `Server` says of its volume."""


@pytest.mark.parametrize(
    ("holds", "current", "hurt", "doubt", "shown"),
    [
        ("log", (None, None), None, None, {0, 1, 2}),
        ("log", (False, None), (0, "blank"), None, {1, 2}),  # the bytes and the controller say the same
        ("ntfs", (False, None), (0, "other"), Doubt.LIKELY, set()),  # only the controller says which
        pytest.param("log", (None, None), (0, "blank"), Doubt.LIKELY, set(), marks=pytest.mark.long),  # only the bytes
        pytest.param("log", (False, None), (1, "blank"), Doubt.LIKELY, set(), marks=pytest.mark.long),
        pytest.param("log", (None, None), (1, "stranger"), Doubt.NOT_MEMBERS, set(), marks=pytest.mark.long),
    ],
)
def test_images_prove_nothing_where_they_do_not_fit_what_is_known(
    volumes, tmp_path, holds, current, hurt, doubt, shown
):
    images = [tmp_path / f"bay{n}.img" for n in range(3)]
    cut(volumes / f"{holds}.img", ALIKE, images)
    where, how = hurt or (0, "")
    if how == "stranger":
        images[where].write_bytes(random.Random(6).randbytes(4 * MIB))
    elif how:
        data = np.fromfile(images[where], np.uint8).reshape(-1, 16384)
        full = [row for row in range(20, len(data)) if len(np.unique(data[row])) > 20]
        part = slice(1536, 13312)
        data[full[4:8], part] = data[full[12:16], part] if how == "other" else 0
        data.tofile(images[where])
    server = Server(current=current)
    with server.client() as client:
        found = rescue(client, "tides", images={str(n): image for n, image in enumerate(images)})
    assert found.tried is not None and (found.tried.doubt, found.tried.proven) == (doubt, shown)
    assert isinstance(found.verdict, Allowed) == bool({0, 1} & shown)
    assert server.asked == []
