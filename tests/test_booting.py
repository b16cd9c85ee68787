"""A volume put first on servers that offer different ways, each read back; and what a server says it starts from."""

import json

import httpx
import pytest

from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.work.booting import Way, boot_from
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.survey import survey

ROOT, SYSTEM, SETTINGS = "/redfish/v1/", "/redfish/v1/Systems/1", "/redfish/v1/Systems/1/Settings"
VOLUME = SYSTEM + "/Storage/1/Volumes/7"
WWN = "0x5000c500a1b2c3d4"
UEFI_PATH = "PciRoot(0x0)/Pci(0x1,0x0)/SAS(0x5000C500A1B2C3D4,0x0,0x0)"


class Server:
    """One system with one volume and two boot options; `boot`: its Boot property; `takes`: paths it takes changes at,
    `keeps`: whether it does what it takes."""

    def __init__(self, boot, settings=None, related=True, uefi=UEFI_PATH, takes=(SYSTEM, SETTINGS), keeps=True):
        options = f"{SYSTEM}/BootOptions"
        self.takes, self.keeps, self.sent = takes, keeps, []
        self.there = {
            ROOT: {"@odata.id": ROOT, "Systems": {"@odata.id": "/s"}},
            "/s": {"Members": [{"@odata.id": SYSTEM}]},
            SYSTEM: {"@odata.id": SYSTEM, "Id": "1", "Name": "srv", "Storage": {"@odata.id": "/st"},
                     "Boot": {**boot, "BootOptions": {"@odata.id": options}}},
            options: {"Members": [{"@odata.id": f"{options}/net"}, {"@odata.id": f"{options}/vol"}]},
            f"{options}/net": {"@odata.id": "n", "Id": "net", "BootOptionReference": "Boot0001", "DisplayName": "Net"},
            f"{options}/vol": {"@odata.id": "v", "Id": "vol", "BootOptionReference": "Boot0002", "UefiDevicePath": uefi,
                               **({"RelatedItem": [{"@odata.id": VOLUME}]} if related else {})},
            "/st": {"Members": [{"@odata.id": "/st/1"}]},
            "/st/1": {"@odata.id": "/st/1", "Id": "1", "Volumes": {"@odata.id": "/v"}, "Drives": []},
            "/v": {"Members": [{"@odata.id": VOLUME}]},
            VOLUME: {"@odata.id": VOLUME, "Id": "7", "Name": "system", "RAIDType": "RAID1",
                     "Identifiers": [{"DurableNameFormat": "NAA", "DurableName": WWN}]},
        }  # fmt: skip
        if settings is not None:
            self.there[SYSTEM]["@Redfish.Settings"] = {"SettingsObject": {"@odata.id": SETTINGS}}
            self.there[SETTINGS] = {"@odata.id": SETTINGS, "Boot": settings}

    def answer(self, request):
        path = request.url.path
        if request.method == "PATCH":
            wish = json.loads(request.content)
            self.sent.append((path, wish))
            if path not in self.takes:
                return httpx.Response(405)
            if self.keeps:
                self.there[path]["Boot"] |= wish["Boot"]
            return httpx.Response(204)
        return httpx.Response(200, json=self.there[path]) if path in self.there else httpx.Response(404)

    def client(self):
        return Client("srv", httpx.Client(transport=httpx.MockTransport(self.answer), base_url="http://s"))


ORDER = {"BootOrder": ["Boot0001", "Boot0002"]}
TARGETS = "BootSourceOverrideTarget@Redfish.AllowableValues"
OVERRIDES = {TARGETS: ["None", "Pxe", "UefiTarget", "UefiBootNext"], "BootSourceOverrideEnabled": "Disabled"}


@pytest.mark.parametrize(
    ("server", "way", "where"),
    [
        (Server(ORDER), Way.ORDER, SYSTEM),
        (Server(ORDER, related=False), Way.ORDER, SYSTEM),
        (Server(ORDER, settings=dict(ORDER)), Way.ORDER_AT_RESTART, SETTINGS),
        (Server(ORDER, settings=dict(ORDER), takes=(SYSTEM,)), Way.ORDER, SYSTEM),
        (Server(ORDER, settings={}), Way.ORDER, SYSTEM),
        (Server(OVERRIDES), Way.OVERRIDE, SYSTEM),
        (Server({**OVERRIDES, TARGETS: ["UefiBootNext"]}), Way.NEXT_START, SYSTEM),
    ],
)
def test_a_volume_is_put_first_in_the_way_that_is_offered(server, way, where):
    with server.client() as client:
        done = boot_from(client, "system")
        told = server.there[where]["Boot"]
        assert (done.way, done.volume, server.sent[-1][0]) == (way, "system", where)
        if way in (Way.ORDER, Way.ORDER_AT_RESTART):
            assert told["BootOrder"] == ["Boot0002", "Boot0001"]
        elif way is Way.OVERRIDE:
            assert told["BootSourceOverrideEnabled"] == "Continuous"
            assert told["UefiTargetBootSourceOverride"] == UEFI_PATH
        else:
            assert (told["BootNext"], told["BootSourceOverrideEnabled"]) == ("Boot0002", "Once")
        assert survey(client).volumes[0].boots is (way in (Way.ORDER, Way.OVERRIDE))


@pytest.mark.parametrize(
    ("server", "error", "says"),
    [
        (Server(ORDER, keeps=False), RedfishError, "BootOrder is not as asked"),
        (Server(OVERRIDES, keeps=False), RedfishError, "is not as asked"),
        (Server(ORDER, takes=()), WorkError, "takes no change of what it starts from"),
        (Server({}), WorkError, "takes no change of what it starts from"),
        (Server(ORDER, related=False, uefi="PciRoot(0x0)/NVMe(0x1)"), WorkError, "no boot option for volume system"),
    ],
)
def test_what_is_not_so_or_not_offered_is_not_called_done(server, error, says):
    with server.client() as client, pytest.raises(error, match=says):
        boot_from(client, "system")


def test_an_override_goes_before_the_order_and_is_ended_when_a_volume_is_put_first():
    server = Server({**ORDER, "BootOrder": ["Boot0002"], "BootSourceOverrideTarget": "Pxe",
                     "BootSourceOverrideEnabled": "Continuous"})  # fmt: skip
    with server.client() as client:
        assert survey(client).volumes[0].boots is False
        boot_from(client, "system")
        assert server.there[SYSTEM]["Boot"]["BootSourceOverrideEnabled"] == "Disabled"
        assert survey(client).volumes[0].boots is True
        server.there[SYSTEM]["Boot"]["BootSourceOverrideEnabled"] = "Once"
        assert survey(client).volumes[0].boots is True
