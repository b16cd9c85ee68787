"""A volume that is offline: who left when, and forcing online only what is known to be up to date."""

import json

import httpx
import pytest

from faithful_stripe.core.server.acts import Allowed, Because, ForceOnline, may
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.redfish.names import OEM
from faithful_stripe.work.errors import ActRefused, WorkError
from faithful_stripe.work.rescue import force_online, rescue

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
