"""Several systems behind one address: all are shown, and a command about one of them asks which."""

import httpx
import pytest

from faithful_stripe.core.server.unknown import UNKNOWN
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.exchange import RedfishError
from faithful_stripe.work.booting import boot_from
from faithful_stripe.work.errors import WorkError
from faithful_stripe.work.firmware import firmware
from faithful_stripe.work.survey import survey

ROOT = "/redfish/v1/"


def link(path):
    return {"@odata.id": path}


def blade(number, order):
    """One blade's resources: a system with a volume on a drive in its own chassis, started in an order."""
    system, chassis = f"{ROOT}Systems/{number}", f"{ROOT}Chassis/{number}"
    storage, options = system + "/Storage/1", system + "/BootOptions"
    volume, drive = storage + "/Volumes/1", chassis + "/Drives/1"
    return {
        system: {**link(system), "Id": f"blade-{number}", "SerialNumber": f"SN{number}", "Bios": link(system + "/Bios"),
                 "Storage": link(system + "/Storage"), "Links": {"Chassis": [link(chassis)]},
                 "Boot": {"BootOrder": order, "BootOptions": link(options)}},
        system + "/Bios": {**link(system + "/Bios"), "Attributes": {"Mode": f"of {number}"}},
        system + "/Storage": {"Members": [link(storage)]},
        storage: {**link(storage), "Id": "1", "Volumes": link(storage + "/Volumes"), "Drives": [link(drive)]},
        storage + "/Volumes": {"Members": [link(volume)]},
        volume: {**link(volume), "Id": "1", "Name": "system", "RAIDType": "RAID0", "Links": {"Drives": [link(drive)]}},
        drive: {**link(drive), "Id": "1", "SerialNumber": f"D{number}"},
        chassis: {**link(chassis), "Id": f"c{number}", "Drives": link(chassis + "/Drives")},
        chassis + "/Drives": {"Members": [link(drive)]},
        options: {"Members": [link(options + "/1")]},
        options + "/1": {**link(options + "/1"), "Id": "1", "BootOptionReference": "V", "RelatedItem": [link(volume)]},
    }  # fmt: skip


THERE = {
    ROOT: {**link(ROOT), "Systems": link(ROOT + "Systems"), "Chassis": link(ROOT + "Chassis")},
    ROOT + "Systems": {"Members": [link(f"{ROOT}Systems/{n}") for n in "12"]},
    ROOT + "Chassis": {"Members": [link(f"{ROOT}Chassis/{n}") for n in "12"]},
    **blade("1", ["V"]), **blade("2", ["N", "V"]),
}  # fmt: skip


@pytest.fixture
def client():
    def answer(request):
        found = THERE.get(request.url.path)
        return httpx.Response(200, json=found) if found else httpx.Response(404)

    with Client("bmc", httpx.Client(transport=httpx.MockTransport(answer), base_url="http://s")) as made:
        yield made


def test_all_are_shown_each_with_what_its_own_firmware_starts_from(client):
    seen = survey(client)
    assert [(v.path.split("/")[4], v.boots) for v in seen.volumes] == [("1", True), ("2", False)]
    assert {d.serial for d in seen.drives} == {"D1", "D2"} and len({v.controller for v in seen.volumes}) == 2


@pytest.mark.parametrize("name", ["blade-2", "sn2", "/redfish/v1/Systems/2", "2"])
def test_the_one_that_is_named_is_shown_alone(client, name):
    client.system = name
    seen = survey(client)
    assert [d.serial for d in seen.drives] == ["D2"] and [v.boots for v in seen.volumes] == [False]
    assert firmware(client).named("Mode").value == "of 2" and seen.volumes[0].found is UNKNOWN


def test_what_is_about_one_asks_which(client):
    for act in (firmware, lambda c: boot_from(c, "system", "1/1")):
        with pytest.raises(WorkError, match="2 systems behind this address") as asked:
            act(client)
        assert "--system: blade-1, blade-2" in str(asked.value)
    client.system = "blade-3"
    with pytest.raises(RedfishError, match="no system blade-3"):
        survey(client)
