"""Many servers watched: what begins and what ends is told once, one that is silent keeps nobody waiting."""

import json
import re
import ssl
import urllib.error
import urllib.request

import pytest

from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.redfish.serving import certificate
from faithful_stripe.redfish.target import connect
from faithful_stripe.work.fleet import UNREACHABLE, Fleet
from faithful_stripe.work.metrics import Door, serve_pages

from .small import TEXT


@pytest.fixture
def rack(fstripe):
    """Three small servers, and a list of them."""
    (fstripe.folder / "d.toml").write_text(TEXT)
    for name in "abc":
        create(fstripe.folder / name, fstripe.folder / "d.toml")
        fstripe("--at", name, "volume", "add", "v", "--level", "RAID5", "--bays", "1-3", "--strip", "4KiB", "--yes",
                "--expect-serials", "D1,D2,D3")  # fmt: skip
    (fstripe.folder / "rack.toml").write_text('servers = ["a", "b", "c"]\n')
    return fstripe


def hand(folder, act):
    with Bench(folder).session() as session:
        act(session)


def test_what_begins_and_what_ends_is_told_once(rack):
    where = [str(rack.folder / name) for name in "abc"]
    fleet = Fleet(where, connect)
    first = list(fleet.look())
    assert {c.begins for c in first} <= {True} and list(fleet.look()) == []
    hand(rack.folder / "b", lambda s: s.fail("2"))
    began = list(fleet.look())
    assert {c.at for c in began} == {where[1]} and {c.begins for c in began} == {True}
    assert {"drive-failed", "volume-degraded"} <= {c.key[0] for c in began} and list(fleet.look()) == []
    (rack.folder / "c").rename(rack.folder / "away")
    (gone,) = fleet.look()
    assert gone.key == UNREACHABLE and gone.at == where[2] and gone.begins and gone.trouble
    text = fleet.page("/metrics", "")[1].decode()
    assert text.count("fstripe_up{") == 3 and text.count("# TYPE fstripe_up ") == 1 and text.endswith("# EOF\n")
    margins = re.findall(r'fstripe_volume_margin\{at="([^"]+)"[^}]*\} (\S+)', text)
    assert margins == [(where[0], "1.0"), (where[1], "0.0")]  # of one that is silent nothing is said
    (rack.folder / "away").rename(rack.folder / "c")
    ended = [c for c in fleet.look() if not c.begins]
    assert [c.key for c in ended] == [UNREACHABLE]


def test_one_page_for_all_and_one_for_each(rack):
    where = [str(rack.folder / name) for name in "ab"]
    fleet = Fleet(where, connect)
    list(fleet.look())
    certified, key = certificate(rack.folder, "127.0.0.1")
    at = serve_pages(fleet.page, Door("127.0.0.1", 0, certified, key))
    assert at.startswith("https://127.0.0.1:")
    context = ssl.create_default_context(cafile=certified)

    def asked(path):
        with urllib.request.urlopen(at.replace("/metrics", path), context=context, timeout=10) as answer:
            assert answer.headers["Content-Type"].startswith("application/openmetrics-text")
            return answer.read().decode()

    assert asked("/metrics").count("fstripe_up{") == 2 and asked(f"/probe?target={where[0]}").count("fstripe_up{") == 1
    for path in ("/probe?target=elsewhere", "/probe", "/other"):
        with pytest.raises(urllib.error.HTTPError, match="404"):
            asked(path)


def test_the_command_tells_a_line_a_change_a_command_and_a_file(rack):
    (rack.folder / "tell").write_text("#!/bin/sh\ncat >> told.jsonl; echo >> told.jsonl\n")
    (rack.folder / "tell").chmod(0o755)
    hand(rack.folder / "b", lambda s: s.fail("2"))
    done = rack("--at", "rack.toml", "watch", "--once", "--metrics", "all.prom", "--run", "./tell")
    assert done.status == 3 and "  b  Critical  bay 2" in done.out, done.out
    told = [json.loads(line) for line in (rack.folder / "told.jsonl").read_text().splitlines()]
    assert len(told) == len(done.out.splitlines()) and {t["at"] for t in told if t["code"] == "drive-failed"} == {"b"}
    assert (rack.folder / "all.prom").read_text().count("fstripe_up{") == 3
    same = rack("--at", "rack.toml", "watch", "--once", "--json", "--post", "http://127.0.0.1:9/")
    assert [json.loads(line)["code"] for line in same.out.splitlines()] == [t["code"] for t in told]
    assert same.err.count("--post: it could not be told") == len(told)
    for words, why in (
        (("--metrics", "70000"), "up to 65535"), (("--metrics", "x.prom", "--metrics-key", "k"), "served at a port"),
        (("--every", "0.1"), "1.0<=x"), (("--post", "http://u:p@h/"), "a user or a password"),
    ):  # fmt: skip
        no = rack("--at", "rack.toml", "watch", "--once", *words)
        assert no.status in (1, 2) and why in no.err, no.err
    assert rack("--at", "a", "watch", "--once", "--run", "x").status == 2


def test_the_events_of_all_are_one_list_and_a_silent_one_is_said(rack):
    for name, bay in (("b", "1"), ("a", "2")):
        hand(rack.folder / name, lambda s, bay=bay: s.pull(bay))
    told = rack("--at", "rack.toml", "log", "--json")
    events = json.loads(told.out)["events"]
    assert told.status == 0 and [e["here"] for e in events] == sorted(e["here"] for e in events)
    pulled = [(e["at"], e["bay"]) for e in events if e["message_id"].endswith("DriveRemoved")]
    assert sorted(pulled) == [("a", "2"), ("b", "1")] and {e["at"] for e in events} == {"a", "b", "c"}
    shown = rack("--at", "rack.toml", "--at", "away", "log", "--bay", "2")
    assert shown.status == 3 and "Not read: away" in shown.err and "A drive was removed from bay 2" in shown.out
    assert "bay 1" not in shown.out
    for wrong, status in ((("--follow",), 2), (("--since", "soon"), 2)):
        assert rack("--at", "rack.toml", "log", *wrong).status == status
