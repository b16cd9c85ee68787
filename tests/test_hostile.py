"""Clients that mean harm: whoever says nothing, half a thing, too much or the same again keeps nobody else waiting."""

import json
import os
import resource
import signal
import socket
import ssl
import struct
import subprocess
import threading
from contextlib import ExitStack
from http.server import BaseHTTPRequestHandler, HTTPServer

import httpx
import pytest
from werkzeug.test import Client as InProcess
from werkzeug.wrappers import Response

from faithful_stripe.core.source import MemorySource
from faithful_stripe.media import nbd
from faithful_stripe.redfish import listening, serving
from faithful_stripe.redfish.serving import SESSIONS, Sessions
from faithful_stripe.redfish.streaming import STREAM

from .conftest import FSTRIPE
from .small import TEXT
from .test_claims import NbdClient
from .test_claims import serving as nbd_serving
from .test_https import served

RIGHT = ("tech", "tide-4711")
LOGIN = {"UserName": RIGHT[0], "Password": RIGHT[1]}
SYSTEMS = "/redfish/v1/Systems"


@pytest.fixture
def door(tmp_path):
    """(address, TLS context that trusts it) of a served bench with an event stream."""
    with served(tmp_path, text=TEXT, streamed=True) as (at, _door, access):
        yield at, ssl.create_default_context(cafile=access.ca)


def is_served(at, context):
    """Whether an honest client gets its answer."""
    with httpx.Client(base_url=at, verify=context, timeout=10, auth=RIGHT) as http:
        return http.get(SYSTEMS).status_code == 200


def opened(at):
    host, port = at.removeprefix("https://").split(":")
    return socket.create_connection((host, int(port)), timeout=10)


def test_silence_and_halves_of_requests_keep_nobody_waiting(door):
    at, context = door
    with ExitStack() as stack:
        for said in [None] * 20 + [b"", b"GET / HT", b"POST /redfish/v1/SessionService/Sessions HTTP/1.1\r\n"
                                   b"Host: h\r\nContent-Length: 900\r\n\r\n{"] * 10:  # fmt: skip
            raw = stack.enter_context(opened(at))
            if said is not None:
                stack.enter_context(context.wrap_socket(raw, server_hostname="127.0.0.1")).sendall(said)
        assert is_served(at, context)


def test_ending_while_many_are_connected_is_one_line(fstripe, skerry):
    """Silent ones, halves of requests, and whoever logged in: nothing of them is told when the serving ends."""
    words = [FSTRIPE, "bench", "serve", "skerry", "--port", "0", "--user", "tech"]
    environment = os.environ | {"FSTRIPE_SERVE_PASSWORD": RIGHT[1]}
    serving = subprocess.Popen(words, cwd=fstripe.folder, env=environment, stdout=-1, stderr=-1, text=True)
    at = serving.stdout.readline().split(" at ")[1].split(",")[0]
    context = ssl.create_default_context(cafile=skerry / "tls.pem")
    with ExitStack() as stack:
        for number in range(12):
            raw = stack.enter_context(opened(at))
            if number % 2:
                stack.enter_context(context.wrap_socket(raw, server_hostname="127.0.0.1")).sendall(b"GET / HT")
        assert is_served(at, context)
        serving.send_signal(signal.SIGINT)
        _out, err = serving.communicate(timeout=60)
    assert serving.returncode == 0 and err == "Ended; the bench is as it was left.\n"


def test_whoever_takes_too_long_over_a_request_is_let_go(door, monkeypatch):
    at, context = door
    monkeypatch.setattr(listening, "BODY", 0.3)
    with context.wrap_socket(opened(at), server_hostname="127.0.0.1") as half:
        half.sendall(b"POST /redfish/v1/ HTTP/1.1\r\nHost: h\r\nContent-Length: 9\r\n\r\n{")
        assert b" 408 " in half.recv(4096)
        assert half.recv(4096) in (b"", b"0\r\n\r\n")


def test_streams_do_not_use_up_the_workers_and_are_counted(door):
    at, context = door
    with ExitStack() as stack:
        streams = []
        for _ in range(16):
            http = stack.enter_context(httpx.Client(base_url=at, verify=context, auth=RIGHT, timeout=10))
            stream = stack.enter_context(http.stream("GET", STREAM))
            streams.append(stream.iter_raw())
            assert next(streams[-1]) == b": listening\n\n"
        assert is_served(at, context)
        with httpx.Client(base_url=at, verify=context, auth=RIGHT, timeout=10) as one_more:
            assert one_more.get(STREAM).status_code == 503


def test_bodies_are_bounded_by_who_sends_them_before_they_are_read(door):
    at, context = door
    with httpx.Client(base_url=at, verify=context, timeout=10) as http:
        assert http.post(SESSIONS, content=b"x" * (1 << 20)).status_code == 413

        def pieces():
            for _ in range(40):
                yield b"x" * 1000

        assert http.post(SESSIONS, content=pieces()).status_code == 413
        assert http.patch(SYSTEMS, content=b" " * (900 << 10), auth=RIGHT).status_code == 405
        assert http.patch(SYSTEMS, content=b" " * (2 << 20), auth=RIGHT).status_code == 413
        push = "/redfish/v1/UpdateService/push"
        assert http.post(push, content=b" " * (2 << 20), auth=RIGHT).status_code == 400
        assert http.post(push, content=b" " * (2 << 20), auth=("tech", "wrong")).status_code == 413


class Here:
    """A session layer in process over an empty service, and its clock."""

    def __init__(self):
        self.now = 0.0
        self.layer = Sessions(Response("{}"), *RIGHT, clock=lambda: self.now)
        self.http = InProcess(self.layer)

    def login(self, password=RIGHT[1], address="10.0.0.1"):
        data = json.dumps({"UserName": RIGHT[0], "Password": password})
        return self.http.post(SESSIONS, data=data, environ_overrides={"REMOTE_ADDR": address})

    def get(self, **headers):
        return self.http.get(SYSTEMS, headers=headers).status_code


def test_trying_passwords_is_slow_from_one_address_and_stops_nobody_else():
    here = Here()
    token = here.login().headers["X-Auth-Token"]
    assert [here.login("guess").status_code for _ in range(serving.TRIES)] == [401] * serving.TRIES
    waits = here.login()
    assert waits.status_code == 429 and waits.headers["Retry-After"] == "60"
    assert here.get(**{"X-Auth-Token": token}) == 200 and here.login(address="10.0.0.2").status_code == 201
    here.now += serving.TRY_SECONDS
    assert here.login().status_code == 201


def test_a_session_that_nobody_uses_ends():
    here = Here()
    token = here.login().headers["X-Auth-Token"]
    for _ in range(3):
        here.now += serving.SESSION_SECONDS - 1
        assert here.get(**{"X-Auth-Token": token}) == 200
    here.now += serving.SESSION_SECONDS
    assert here.layer.open_sessions == 0 and here.get(**{"X-Auth-Token": token}) == 401


def test_sessions_that_nobody_ended_do_not_shut_the_door_for_ever():
    here = Here()
    assert [here.login().status_code for _ in range(serving.MOST_SESSIONS + 1)] == [201] * serving.MOST_SESSIONS + [503]
    here.now += serving.SESSION_SECONDS
    assert here.login().status_code == 201


def test_nobody_waits_while_a_package_is_fetched(door):
    at, context = door
    asked, go_on = threading.Event(), threading.Event()

    class Slow(BaseHTTPRequestHandler):
        def do_GET(self):
            asked.set()
            go_on.wait(30)
            self.send_error(404)

        def log_message(self, *_words):
            pass

    with HTTPServer(("127.0.0.1", 0), Slow) as away:
        threading.Thread(target=away.serve_forever, daemon=True).start()
        with httpx.Client(base_url=at, verify=context, timeout=60, auth=RIGHT) as http:
            wish = {"ImageURI": f"http://127.0.0.1:{away.server_port}/x"}
            got = []
            path = "/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate"
            asking = threading.Thread(target=lambda: got.append(http.post(path, json=wish).status_code))
            asking.start()
            assert asked.wait(30) and is_served(at, context)
            go_on.set()
            asking.join()
        away.shutdown()
    assert got == [400]


# the block device protocol ----------------------------------------------------------------------


def test_clients_that_read_nothing_of_what_they_ask_for_use_bounded_memory(monkeypatch):
    """Three ask for more than fits into what may be in flight, and do not take it; a fourth is served all the same."""
    monkeypatch.setattr(nbd, "IN_FLIGHT", 4 << 20)
    monkeypatch.setattr(nbd, "TAKING", 1.0)
    with nbd_serving(MemorySource(64 << 20)) as server, ExitStack() as stack:
        for _ in range(3):
            client = stack.enter_context(NbdClient(server.port))
            client.go()
            client.s.sendall(struct.pack(">IHH8sQI", nbd.REQUEST, 0, nbd.READ, b"12345678", 0, 4 << 20) * 4)
        with NbdClient(server.port) as honest:
            assert honest.go() and honest.ask(0, 0, 512) == (0, bytes(512))
        assert server.in_flight <= 4 << 20


def test_out_of_descriptors_it_waits_and_goes_on():
    with nbd_serving(MemorySource(1 << 16)) as server:
        with NbdClient(server.port) as before:
            before.go()
            soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
            strangers = [socket.create_connection(("127.0.0.1", server.port)) for _ in range(3)]
            used = len(os.listdir("/proc/self/fd"))
            resource.setrlimit(resource.RLIMIT_NOFILE, (used, hard))
            try:
                assert before.ask(0, 0, 512) == (0, bytes(512))
            finally:
                resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
            for stranger in strangers:
                stranger.close()
        with NbdClient(server.port) as after:
            assert after.go() and after.ask(0, 0, 512) == (0, bytes(512))
