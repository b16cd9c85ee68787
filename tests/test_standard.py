"""Standard-only servers over https, as a technician meets them: what is not told is never taken for good."""

import copy

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_stripe.core.server.acts import Refused, TakeOut, may
from faithful_stripe.core.server.assess import assess
from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.reading import read_server
from faithful_stripe.work.stock import COLUMNS

from .standard import CHASSIS, ROOT, STORAGE, SYSTEM, TB4, VOLUME, at_https, collection, drive_path, ref, tree


@pytest.fixture
def on(fstripe, tmp_path):
    """Runs a command against a tree."""

    def run(made, *words, **more):
        with at_https(made, tmp_path / "tls") as at:
            return fstripe(*at, *words, **more)

    return run


def judged(made):
    with Client("plain", httpx.Client(transport=httpx.WSGITransport(made), base_url="http://plain")) as client:
        return assess(read_server(client))


@pytest.mark.parametrize(
    "more",
    [
        {}, {"level": ("VolumeType", "StripedWithParity")}, {"linked": "volume"}, {"linked": "drive"},
        {"name": "Pool of disks"}, {"level": ("VolumeType", "StripedWithParity"), "linked": "drive"},
    ],
)  # fmt: skip
def test_no_survivor_comes_out_before_the_one_that_is_offline(on, more):
    made = tree(bad={2}, health="Warning", **more)
    for survivor in ("0", "SN1", "3"):
        no = on(made, "swap", survivor)
        assert no.status == 1 and "out now loses volume" in no.err, no.err
        assert "replace bay 2 (SN2): fstripe swap 2" in no.err
    assert not made.sent
    told = on(made, "survey")
    assert told.status == 3 and "degraded, margin 0" in told.out and "Nothing needs attention" not in told.out
    assert "missing: member 2 (bay 2, SN2)" in told.out


def test_a_member_that_nobody_links_any_more_holds_the_others(on):
    no = on(tree(members=3, size=3 * TB4, health="Warning"), "swap", "1")
    assert no.status == 1 and "does not tell that volume data survives without bay 1 (SN1)" in no.err
    assert "look at the server's own console" in no.err


def test_a_healthy_member_comes_out_only_after_it_was_said_what_that_costs(on):
    made = tree()
    no = on(made, "swap", "1", stdin="\n")
    assert no.status == 1 and "the margin of data falls from 1 to 0: no further failure is survived" in no.err
    assert "bay 1 (SN1) is healthy: nothing says that it must be replaced" in no.err and "nothing was changed" in no.err
    assert not made.sent  # no LED, nothing


def test_two_bays_of_one_label_and_two_volumes_of_one_name_are_asked_for(on, tmp_path):
    made = tree()
    (tmp_path / "stock.csv").write_text(",".join(COLUMNS) + "\n")
    made[drive_path(4)]["PhysicalLocation"]["PartLocation"]["ServiceLabel"] = "1"
    made[drive_path(4)]["Links"]["Chassis"] = ref(f"{ROOT}/Chassis/shelf")
    made.pages[f"{ROOT}/Chassis/shelf"] = {"@odata.id": f"{ROOT}/Chassis/shelf", "Id": "shelf"}
    for words in (("swap", "1"), ("locate", "1"), ("spare", "add", "1"), ("stock", "match", "1")):
        no = on(made, *words)
        assert no.status == 1 and "1 names 2 bays" in no.err, (words, no.err)
        assert "box/1 (serial SN1); shelf/1 (serial SN4)" in no.err
    assert not made.sent
    assert on(made, "locate", "shelf/1").status in (0, 1) and made.sent[0][1] == drive_path(4)
    twice = copy.deepcopy(made[VOLUME]) | {"@odata.id": f"{VOLUME}1", "Id": "11"}
    made.pages[f"{VOLUME}1"] = twice
    made.pages[f"{STORAGE}/Volumes"] = collection(f"{STORAGE}/Volumes", [VOLUME, f"{VOLUME}1"])
    for words in (("volume", "show", "data"), ("volume", "remove", "data"), ("volume", "check", "data")):
        no = on(made, *words)
        assert no.status == 1 and "2 volumes are called data" in no.err and f"{VOLUME}, {VOLUME}1" in no.err
    assert f"volume data ({VOLUME})" not in on(made, "survey").out  # both are well: neither is in the findings


TROUBLES = {
    "controller, older list": lambda t: t[STORAGE]["StorageControllers"][0].update(Status={"Health": "Warning"}),
    "storage": lambda t: t[STORAGE].update(Status={"Health": "Critical"}),
    "system": lambda t: t[SYSTEM].update(Status={"Health": "Warning"}),
    "chassis": lambda t: t[CHASSIS].update(Status={"Health": "Critical"}),
    "a roll-up alone": lambda t: t[STORAGE].update(Status={"Health": "OK", "HealthRollup": "Warning"}),
    "a roll-up without a health": lambda t: t[SYSTEM].update(Status={"HealthRollup": "Critical"}),
    "a volume's roll-up alone": lambda t: t[VOLUME].update(Status={"State": "Enabled", "HealthRollup": "Critical"}),
    "a volume that is offline, health null": lambda t: t[VOLUME].update(
        Status={"State": "UnavailableOffline", "Health": None}
    ),
    "a volume that tells no health": lambda t: t[VOLUME].update(Status={"State": "Enabled"}),
    "a volume without a status": lambda t: t[VOLUME].pop("Status"),
    "a drive that is offline, health null": lambda t: t[drive_path(4)].update(
        Status={"State": "UnavailableOffline", "Health": None}
    ),
    "an indicator": lambda t: t[drive_path(4)].update(StatusIndicator="Fail"),
    "used-up media life": lambda t: t[drive_path(0)].update(PredictedMediaLifeLeftPercent=0),
    "a predicted failure": lambda t: t[drive_path(4)].update(FailurePredicted=True),
    "a drive that tells nothing of itself but its serial number": lambda t: t[drive_path(4)].pop("Status"),
    "a second system": lambda t: t.pages.update({
        f"{ROOT}/Systems": collection(f"{ROOT}/Systems", [SYSTEM, f"{ROOT}/Systems/2"]),
        f"{ROOT}/Systems/2": {"@odata.id": f"{ROOT}/Systems/2", "Id": "2", "Status": {"Health": "Critical"}},
    }),
    "a drive that only the chassis lists": lambda t: t.pages.update({
        CHASSIS: t[CHASSIS] | {"Links": {"Drives": [ref("/other")]}},
        "/other": t[drive_path(4)] | {"@odata.id": "/other", "SerialNumber": "X",
                                      "Status": {"State": "Enabled", "Health": "Critical"}},
    }),
    "a volume that cannot be read": lambda t: t.pages.update({VOLUME: 500}),
    "a drive that cannot be read": lambda t: t.pages.update({drive_path(2): 404}),
    "no storage at all": lambda t: t.pages.update({f"{SYSTEM}/Storage": collection(f"{SYSTEM}/Storage", [])}),
    "volumes that cannot be listed": lambda t: t.pages.update({f"{STORAGE}/Volumes": 501}),
    "a chassis that is forbidden": lambda t: t.pages.update({CHASSIS: 403}),
}  # fmt: skip


@pytest.mark.parametrize("trouble", TROUBLES)
def test_nothing_needs_attention_never_stands_beside(trouble):
    assert judged(tree()).findings == ()
    made = tree()
    TROUBLES[trouble](made)
    assert judged(made).findings, trouble


def test_what_uses_a_drive_is_not_known_where_volumes_cannot_be_read(on):
    made = tree(linked="volume")
    made.pages[f"{STORAGE}/Volumes"] = 501
    for words in (("swap", "2"), ("spare", "add", "2"), ("volume", "add", "x", "--level", "RAID1", "--bays", "1,2")):
        no = on(made, *words)
        assert no.status == 1 and "not known" in no.err and "could not be read" in no.err, no.err
    assert "Volumes: they could not be read" in on(made, "survey").out
    told = on(made, "watch", "--once")
    assert told.status == 3 and "not all volumes could be read" in told.out
    one = tree(linked="drive")
    one.pages[VOLUME] = 404
    assert on(one, "swap", "2").status == 1 and not (made.sent or one.sent)


@pytest.mark.parametrize("linked", ["neither", "two of four"])
def test_a_volume_that_does_not_tell_its_members_holds_every_drive_beside_it(on, linked):
    made = tree(linked="neither")
    if linked == "two of four":
        made[VOLUME]["Links"]["Drives"] = [ref(drive_path(i)) for i in range(2)]
    assert judged(made).volumes[VOLUME].margin == 0
    for words in (("swap", "2"), ("swap", "4"), ("spare", "add", "3"), ("swap", "0")):
        no = on(made, *words)
        assert no.status == 1 and ("not known" in no.err or "loses volume" in no.err), (words, no.err)
    assert not made.sent


def test_a_drive_without_a_serial_number_is_not_swapped_blindly(on):
    made = tree(bad={2}, health="Warning")
    del made[drive_path(2)]["SerialNumber"]
    no = on(made, "swap", "2")
    assert no.status == 1 and "does not tell its drive's serial number" in no.err


def test_a_server_that_is_off_still_tells_of_its_failed_drive(on):
    made = tree(bad={2}, health="Warning")
    made[SYSTEM]["PowerState"] = "Off"
    no = on(made, "swap", "1")
    assert no.status == 1 and "replace bay 2 (SN2)" in no.err
    made[drive_path(2)]["Status"] = {"State": "StandbyOffline"}
    assert on(made, "swap", "1").status == 1


def test_a_free_drive_whose_content_is_not_told_is_taken_out_only_when_agreed(on):
    made = tree()
    no = on(made, "swap", "4")
    assert no.status == 1 and "bay 4 (SN4) is in no volume; what it holds: not known" in no.err and not made.sent


def test_a_checklist_goes_on_where_parts_cannot_be_read(on):
    made = tree()
    made.pages[SYSTEM] |= {"PCIeDevices": [ref("/gone")], "Bios": ref("/bios"), "SimpleStorage": ref("/simple"),
                     "Boot": {"BootOptions": ref("/options")}}  # fmt: skip
    made.pages |= {"/bios": 500, "/simple": 501}
    checks = {c["what"]: c for c in on(made, "ready", "--json").json["checks"]}
    assert checks["PCIe devices"]["state"] == checks["firmware settings"]["state"] == "warn"
    assert checks["boot volume"]["state"] == "fail" and checks["drives"]["state"] == "pass"
    assert on(made, "survey").status == 0


def test_the_screen_says_the_same(on):
    made = tree()
    TROUBLES["a roll-up alone"](made)
    told = on(made, "survey")
    assert (
        told.status == 3 and "storage A: its roll-up says Warning, and no part of it that was read says why" in told.out
    )
    assert on(tree(), "survey").status == 0 and "Nothing needs attention" in on(tree(), "survey").out


def test_what_a_server_says_cannot_write_on_the_screen(on):
    """Names, messages and errors with line breaks, escapes and marks that turn the writing round."""
    fake = "T\r\nFAKE LINE: Nothing needs attention.\x1b[2J\u202e"
    made = tree(name=fake, bad={2}, health="Warning")
    made[SYSTEM]["Name"] = made[drive_path(1)]["Model"] = made[drive_path(0)]["SerialNumber"] = fake
    made[drive_path(2)]["Status"]["Conditions"] = [{"Message": fake, "Severity": "Critical", "Resolution": fake}]
    for words in (("survey",), ("bays",), ("swap", "1"), ("volume", "show", "no"), ("watch", "--once"),
                  ("ready",), ("survey", "--json"), ("survey", "--as-sheet")):  # fmt: skip
        told = on(made, *words)
        for line in (told.out + told.err).splitlines():
            assert not line.lstrip().startswith("FAKE") and "\x1b" not in line and "\u202e" not in line, (words, line)


def test_a_plain_disk_controller_is_no_warning():
    made = tree()
    del made[STORAGE]["Volumes"]
    assert judged(made).findings == ()
    made[STORAGE]["StorageControllers"][0]["SupportedRAIDTypes"] = ["RAID0", "RAID1"]
    assert [f.code.value for f in judged(made).findings] == ["controller-direct"]


@pytest.mark.parametrize("spoilt", [None, "", 7, -1, True, [], {}, "Fine", [None], {"@odata.id": 3}, 1e400, "\x1b[31m"])
def test_a_property_of_the_wrong_kind_stops_nothing(spoilt):
    """Every property of every resource in turn: no traceback, and no margin that was not there before."""
    sound = judged(tree()).volumes[VOLUME].margin
    for path, body in tree().pages.items():
        for key in body if isinstance(body, dict) else ():
            made = tree()
            made[path][key] = spoilt
            found = judged(made) if (path, key) != (ROOT, "Systems") else None
            margins = [j.margin for j in found.volumes.values()] if found else []
            assert all(m <= sound for m in margins), (path, key)


# generated servers: what they leave out must never cost data -------------------------------------

LEVELS_TOLD = {
    "RAID0": (0, 2), "RAID1": (1, 2), "RAID5": (1, 3), "RAID6": (2, 4), "RAID10": (1, 4), "RAID50": (1, 6),
}  # fmt: skip
"""Failures that are certainly survived, and fewest members."""
OLD_WORDS = {"RAID0": "NonRedundant", "RAID1": "Mirrored", "RAID5": "StripedWithParity", "RAID10": "SpannedMirrors",
             "RAID50": "SpannedStripesWithParity", "RAID6": "StripedWithParity"}  # fmt: skip


@st.composite
def servers(draw):
    """A volume with members missing or not, told of honestly and incompletely; (tree, members that count, margin)."""
    level = draw(st.sampled_from(sorted(LEVELS_TOLD)))
    survives, least = LEVELS_TOLD[level]
    members = draw(st.sampled_from([least, least + 2])) if level not in ("RAID1", "RAID50") else least
    missing = draw(st.sets(st.integers(0, members - 1), max_size=survives))
    share = draw(st.sampled_from([1.0, 1.0, 0.5, 0.03]))
    data = {"RAID0": members, "RAID1": 1, "RAID5": members - 1, "RAID6": members - 2, "RAID10": members // 2,
            "RAID50": members - 2}[level]  # fmt: skip
    told = draw(st.sampled_from(["RAIDType", "RAIDType", "VolumeType", None]))
    words = {"RAIDType": level, "VolumeType": OLD_WORDS[level]}
    health = draw(st.sampled_from(["Warning", "Critical", None] if missing else ["OK", "OK", None, "Warning"]))
    linked = draw(st.sampled_from(["both", "volume", "drive"]))
    made = tree(members, (told, words[told]) if told else None, linked, size=int(share * data * TB4), health=health)
    for i in missing:
        away = draw(st.sampled_from(["offline", "critical", "unlinked", "silent", "gone", "unreadable", "warning"]))
        body = made[drive_path(i)]
        if away == "offline":
            body["Status"] = {"State": "UnavailableOffline", "Health": draw(st.sampled_from(["Critical", None]))}
        elif away == "critical":
            body["Status"] = {"State": "Enabled", "Health": "Critical"}
        elif away == "warning":
            body["Status"] = {"State": "Enabled", "Health": "Warning"}
        elif away == "silent":
            body.pop("Status")
        elif away == "unreadable":
            made.pages[drive_path(i)] = 404
        elif away == "gone":
            made.pages.pop(drive_path(i))
            made[STORAGE]["Drives"].remove(ref(drive_path(i)))
        if away in ("unlinked", "gone") or draw(st.booleans()):
            if ref(drive_path(i)) in made[VOLUME]["Links"].get("Drives", []):
                made[VOLUME]["Links"]["Drives"].remove(ref(drive_path(i)))
            if isinstance(made.pages.get(drive_path(i)), dict):
                made[drive_path(i)]["Links"].pop("Volumes", None)
    if missing and draw(st.booleans()):
        made[VOLUME]["Operations"] = [{"Operation": "Rebuild", "PercentageComplete": draw(st.integers(0, 99))}]
    if draw(st.booleans()):
        made[VOLUME].pop("CapacityBytes")
    for path in [drive_path(i) for i in range(members)] if draw(st.integers(0, 3)) == 0 else ():
        if isinstance(made.pages.get(path), dict):
            made[path].pop("CapacityBytes", None)
    counting = [i for i in range(members) if i not in missing]
    return made, counting, survives - len(missing)


@pytest.mark.long
@settings(max_examples=400)
@given(servers())
def test_no_generated_server_gives_up_a_member_that_its_volume_needs(case):
    """The truth is known here: where no further failure is survived, no member that counts may come out."""
    made, counting, margin = case
    found = judged(made)
    for j in found.volumes.values():
        assert j.margin <= margin
    assert found.findings or made[VOLUME]["Status"]["Health"] == "OK"
    for i in counting:
        drive = next((d for d in found.server.drives if d.path == drive_path(i)), None)
        if drive is not None and margin < 1:
            assert isinstance(may(TakeOut(drive, now=True), found.server), Refused), (i, margin)
