"""A log of thousands of entries: no more of them is read than is wanted, whatever order they come in."""

from datetime import UTC, datetime, timedelta

import httpx
import pytest

from faithful_stripe.redfish.client import Client
from faithful_stripe.redfish.entries import read_entries
from faithful_stripe.work.log import entries

BEGAN = datetime(2026, 3, 1, tzinfo=UTC)
LOG = "/log/Entries"


class Server:
    """A log of `count` entries, one a minute; `order` of its list, its pages, and what the server offers."""

    def __init__(self, order=1, count=300, page=100, expands=False, skips=False, times=True):
        self.asked = []
        self.order, self.count, self.page, self.times = order, count, page, times
        self.root = {"@odata.id": "/redfish/v1/", "Systems": {"@odata.id": "/s"}, "ProtocolFeaturesSupported": {
            "ExpandQuery": {"NoLinks": expands}, "TopSkipQuery": skips}}  # fmt: skip

    def entry(self, number):
        written = BEGAN + timedelta(minutes=number if self.times else 0)
        return {"@odata.id": f"{LOG}/{number}", "Id": f"e{number}", "Created": written.isoformat(), "Message": "m"}

    def answer(self, request):
        path, query = request.url.path, request.url.params
        self.asked.append(str(request.url.raw_path, "ascii"))
        system = {"@odata.id": "/s/1", "LogServices": {"@odata.id": "/l"}}
        lists = {"/s": ["/s/1"], "/l": ["/log"]}
        if path in lists:
            return {"Members": [{"@odata.id": p} for p in lists[path]]}
        if path == LOG:
            skip, top = int(query.get("$skip", 0)), int(query.get("$top", self.page))
            numbers = list(range(self.count))[:: self.order][skip : skip + top]
            whole = "$expand" in query
            members = [self.entry(n) if whole else {"@odata.id": f"{LOG}/{n}"} for n in numbers]
            more = {"Members@odata.nextLink": f"{LOG}?$skip={skip + top}{'&$expand=.' if whole else ''}"}
            return {"Members": members, "Members@odata.count": self.count} | (more if skip + top < self.count else {})
        there = {
            "/redfish/v1/": self.root,
            "/s/1": system,
            "/log": {"@odata.id": "/log", "Entries": {"@odata.id": LOG}},
        }
        return there.get(path) or self.entry(int(path.rpartition("/")[2]))

    def client(self):
        transport = httpx.MockTransport(lambda request: httpx.Response(200, json=self.answer(request)))
        return Client("s", httpx.Client(transport=transport, base_url="http://s"), width=4)


@pytest.mark.parametrize(
    ("server", "most"),
    [
        (Server(1), 3 + 2 + 24), (Server(-1), 1 + 2 + 24), (Server(1, expands=True), 4), (Server(-1, expands=True), 2),
        (Server(1, skips=True), 2 + 2 + 24), (Server(1, expands=True, skips=True), 3),
    ],
)  # fmt: skip
def test_from_a_moment_on_older_entries_are_left_alone(server, most):
    moment = BEGAN + timedelta(minutes=289.5)
    with server.client() as client, client.look():
        found = read_entries(client, LOG, moment=moment.timestamp())
    wanted = [f"e{n}" for n in range(290, 300)][:: server.order]
    assert [e["Id"] for e in found if e["Created"] >= moment.isoformat()] == wanted and len(server.asked) <= most + 1


@pytest.mark.parametrize("server", [Server(1, times=False), Server(1, count=1), Server(1, count=0), Server(-1)])
def test_where_the_order_is_not_told_or_all_is_wanted_all_is_read(server):
    with server.client() as client, client.look():
        moment = (BEGAN - timedelta(1)).timestamp()
        assert len(read_entries(client, LOG, moment=moment)) == server.count == len(read_entries(client, LOG))


def test_an_entry_that_was_read_is_not_read_again():
    server = Server()
    with server.client() as client:
        first = entries(client)
        server.asked.clear()
        server.count += 2
        assert [e.number for e in entries(client, known={e.path for e in first})] == ["e300", "e301"]
        assert len([p for p in server.asked if p.startswith(f"{LOG}/")]) == 2
        server.asked.clear()
        late = entries(client, moment=(BEGAN + timedelta(minutes=300)).isoformat())
        assert {"e300", "e301"} <= {e.number for e in late} and len(late) < 20
