"""What wears out beside the data: a cache's battery, and what a drive's own metrics count; read where it is told."""

from dataclasses import replace

import httpx
import pytest

from faithful_stripe.cli.telling import told_words
from faithful_stripe.cli.verdicts import FINDINGS
from faithful_stripe.core.server.assess import assess
from faithful_stripe.core.server.findings import Code
from faithful_stripe.core.server.things import Drive, Health, PartKind
from faithful_stripe.core.server.unknown import UNKNOWN
from faithful_stripe.redfish.client import Client
from faithful_stripe.work.judging import Past, past_of
from faithful_stripe.work.seeing import Tell, Told
from faithful_stripe.work.survey import survey

ROOT = "/redfish/v1/"
STORAGE, BATTERY = "/st/RAID", "/chassis/batteries/1"


def server(battery, policy="ProtectedWriteBack", cache=None):
    """A server with one volume, as read; `battery`: its Status, None for a controller that links none."""
    controller = {"@odata.id": "/c/1", "Id": "1", "CacheSummary": {"TotalCacheSizeMiB": 4096, "Status": cache or {}}}
    if battery is not None:
        controller["Links"] = {"Batteries": [{"@odata.id": BATTERY}]}
    there = {
        ROOT: {"@odata.id": ROOT, "Systems": {"@odata.id": "/s"}},
        "/s": {"Members": [{"@odata.id": "/s/1"}]},
        "/s/1": {"@odata.id": "/s/1", "Id": "1", "Storage": {"@odata.id": "/st"}},
        "/st": {"Members": [{"@odata.id": STORAGE}]},
        STORAGE: {"@odata.id": STORAGE, "Id": "RAID", "Volumes": {"@odata.id": "/v"},
                  "Controllers": {"@odata.id": "/c"}, "Drives": [{"@odata.id": f"/d/{n}"} for n in (1, 2)]},
        "/c": {"Members": [{"@odata.id": "/c/1"}]},
        "/c/1": controller,
        "/v": {"Members": [{"@odata.id": "/v/1"}]},
        "/v/1": {"@odata.id": "/v/1", "Id": "1", "Name": "data", "RAIDType": "RAID1", "WriteCachePolicy": policy,
                 "Status": {"State": "Enabled", "Health": "OK"}, "CapacityBytes": 10**12,
                 "Links": {"Drives": [{"@odata.id": f"/d/{n}"} for n in (1, 2)]}},
        **{f"/d/{n}": {"@odata.id": f"/d/{n}", "Id": str(n), "SerialNumber": f"S{n}",
                       "Status": {"State": "Enabled", "Health": "OK"}} for n in (1, 2)},
        BATTERY: {"@odata.id": BATTERY, "Id": "1", "Name": "Cache battery", "Status": battery},
    }  # fmt: skip
    transport = httpx.MockTransport(
        lambda r: httpx.Response(200, json=there[r.url.path]) if r.url.path in there else httpx.Response(404)
    )
    with Client("bmc", httpx.Client(transport=transport, base_url="http://s")) as client:
        return survey(client)


def codes(found):
    return {f.code: f for f in (*found.findings, *found.notices)}


@pytest.mark.parametrize(
    ("battery", "cache", "says"),
    [
        ({"State": "Enabled", "Health": "Critical"}, None, "battery"),
        ({"State": "Absent"}, None, "battery"),
        (None, {"State": "Enabled", "Health": "Warning"}, "cache"),
    ],
)
def test_writes_that_nothing_keeps_any_more_are_a_finding(battery, cache, says):
    seen = server(battery, cache=cache)
    found = codes(assess(seen))
    exposed = found[Code.CACHE_UNPROTECTED]
    assert exposed.severity is Health.WARNING and f"the {says} that keeps it is not well" in FINDINGS[exposed.code](
        seen, exposed
    )
    assert Code.PART_UNWELL in found
    assert Code.CACHE_UNPROTECTED not in codes(assess(server(battery, "WriteThrough", cache)))


def test_a_battery_that_is_well_or_of_which_nothing_is_told_is_no_finding():
    assert not assess(server({"State": "Enabled", "Health": "OK"})).findings
    assert not codes(assess(server(None)))
    parts = [p for p in server({"State": "Enabled", "Health": "OK"}).parts if p.controller]
    assert [(p.kind, p.name, p.controller) for p in parts] == [
        (PartKind.CACHE, "cache of RAID", "RAID"), (PartKind.BATTERY, "Cache battery", "RAID")]  # fmt: skip


def test_a_cache_that_was_chosen_without_protection_is_a_note():
    seen = server(None, "UnprotectedWriteBack")
    found = assess(seen)
    (note,) = [f for f in found.notices if f.code is Code.CACHE_UNPROTECTED]
    assert not found.findings and "that nothing keeps" in FINDINGS[note.code](seen, note)
    silent = replace(seen, volumes=tuple(replace(v, write_cache=UNKNOWN) for v in seen.volumes))
    assert Code.CACHE_UNPROTECTED not in codes(assess(silent))


@pytest.mark.parametrize(
    ("metrics", "past"),
    [
        ({"PowerOnHours": 120, "BadBlockCount": 2, "UncorrectableIOReadErrorCount": 3}, Past(120, 5)),
        ({"PowerOnHours": 120, "CorrectableIOReadErrorCount": 9}, Past(120, None)),
        ({"BadBlockCount": "many"}, Past(None, None)),
        ({}, Past(None, None)),
    ],
)
def test_what_a_drive_has_behind_it_is_told_as_far_as_its_metrics_tell(metrics, past):
    body = {"@odata.id": "/d/1/Metrics", **metrics}
    http = httpx.Client(transport=httpx.MockTransport(lambda _r: httpx.Response(200, json=body)), base_url="http://s")
    with Client("bmc", http) as client:
        assert past_of(client, Drive("1", "/d/1", hours_path="/d/1/Metrics")) == past
        assert past_of(client, Drive("1", "/d/1")) == Past()
    facts = {"drive": Drive("1", "/d/1", size=10**12), "hours": past.hours, "errors": past.errors, "notes": ()}
    what, _to_do = told_words(Told("check", Tell.FITS, facts))
    assert ("5 errors counted that it could not correct" in what) is (past.errors == 5)
