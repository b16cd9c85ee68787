"""Servers as others build them, 2,000 of them: nothing they tell stops a command, and no trouble is passed over."""

import random

import httpx
import pytest

from faithful_stripe.redfish import target
from faithful_stripe.redfish.client import Client

from .trees import Maker, spoilt, troubled

AT = ("--at", "https://tree")
READ = (
    ("survey",), ("survey", "--json"), ("bays",), ("log",), ("ready",), ("volume", "show", "v"), ("watch", "--once"),
    ("report", "--json"), ("stock", "match", "1"), ("firmware", "show"), ("survey", "--as-sheet"),
)  # fmt: skip


def client_of(made) -> Client:
    transport = httpx.WSGITransport(made, raise_app_exceptions=True)
    return Client("https://tree", httpx.Client(transport=transport, base_url="http://tree"), sleep=lambda _s: None)


@pytest.mark.parametrize("seed", [1, 2, pytest.param(3, marks=pytest.mark.long)])
def test_no_trouble_is_passed_over_and_nothing_stops_a_command(fstripe, monkeypatch, seed):
    rng = random.Random(seed)
    count = 15 if seed < 3 else 2000
    (fstripe.folder / "stock.csv").write_text("serial\n")
    for number in range(count):
        made = spoilt(rng, Maker(rng).make(), rng.choice((0.0, 0.0, 0.02, 0.1)))
        monkeypatch.setattr(target, "connect", lambda *_words, made=made: client_of(made))
        told = fstripe(*AT, "survey")
        assert told.status in (0, 1, 3) and "Traceback" not in told.err, (number, told)
        if troubled(made):
            assert told.status != 0 and "Nothing needs attention" not in told.out, (number, troubled(made), told.out)
        words = rng.choice(READ[1:])
        other = fstripe(*AT, *words)
        assert other.status in (0, 1, 3) and "Traceback" not in other.err, (number, words, other)
