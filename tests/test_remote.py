"""Images elsewhere: an array of drives behind NBD servers and a web server, solved and handed over in place."""

import http.server
import shutil
import socket
import subprocess
import threading
import time
from contextlib import contextmanager
from pathlib import Path

import pytest

from faithful_stripe.core.source import MemorySource, Unreadable, read
from faithful_stripe.media.forms import open_drive
from faithful_stripe.media.image import ImageFile, MediaError
from faithful_stripe.media.remote import AnotherOne

from .slicer import Spec, cut
from .test_claims import serving


class Ranges(http.server.BaseHTTPRequestHandler):
    """A web server that gives ranges of the files of one folder, after RFC 9110."""

    folder: Path
    broken = False
    protocol_version = "HTTP/1.1"

    def do_GET(self):
        path = self.folder / self.path.lstrip("/")
        if not path.is_file():
            self.send_error(404)
            return
        size = path.stat().st_size
        first, _, last = self.headers["Range"].removeprefix("bytes=").partition("-")
        with path.open("rb") as file:  # a drive of which a few blocks are asked for
            file.seek(int(first))
            part = file.read(int(last) + 1 - int(first))
        if self.broken and int(first) > 0:
            part = part[:10]
        self.send_response(206)
        self.send_header("Content-Range", f"bytes {first}-{last}/{size}")
        self.send_header("Content-Length", str(len(part)))
        self.send_header("ETag", f'"{path.stat().st_mtime_ns}"')
        self.end_headers()
        self.wfile.write(part)

    def log_message(self, *_words):
        pass


@contextmanager
def web(folder, **how):
    handler = type("Here", (Ranges,), {"folder": folder, **how})
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, args=(0.01,))
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


def test_an_array_whose_drives_are_elsewhere_is_solved_and_handed_over(fstripe, tmp_path, volumes):
    members = [tmp_path / f"drive-{n}.img" for n in range(4)]
    cut(volumes / "ext4-nocsum.img", Spec("RAID5", 4, 65536, "parity-N", "continuation"), members)
    here = fstripe("lineup", "solve", *members, "--json").json["arrays"][0]
    with ImageFile(members[1]) as image, serving(image) as nbd, web(tmp_path) as at:
        names = [members[0], f"nbd://127.0.0.1:{nbd.port}/volume", f"{at}/drive-2.img", members[3]]
        solved = fstripe("lineup", "solve", *names, "--out", "found.toml", "--json")
        array = solved.json["arrays"][0]
        assert [Path(m).name for m in array["spans"][0]] == ["drive-0.img", "volume", "drive-2.img", "drive-3.img"]
        assert array["verdicts"] == here["verdicts"]
        fstripe("lineup", "extract", "found.toml", "volume.img")
    size = (volumes / "ext4-nocsum.img").stat().st_size
    assert (fstripe.folder / "volume.img").read_bytes()[:size] == (volumes / "ext4-nocsum.img").read_bytes()


def test_what_a_web_server_does_not_give_is_unreadable(tmp_path):
    (tmp_path / "a.img").write_bytes(b"tide" * (1 << 20))
    with web(tmp_path) as at:
        image = open_drive(Path(f"{at}/a.img"))
        assert image.size == 4 << 20 and read(image, 3, 2 << 20) == (b"tide" * (1 << 20))[3 : 3 + (2 << 20)]
        (tmp_path / "a.img").write_bytes(b"ebb." * (1 << 20))  # it is another file now
        with pytest.raises(AnotherOne, match="written since"):
            read(image, 3 << 20, 16)
        image.close()
    with web(tmp_path, broken=True) as at:
        image = open_drive(Path(f"{at}/a.img"))
        assert read(image, 0, 16) == b"ebb." * 4
        with pytest.raises(Unreadable):
            read(image, 2 << 20, 16)
        image.close()


def test_what_cannot_be_reached_is_one_line(fstripe, tmp_path):
    with socket.create_server(("127.0.0.1", 0)) as busy:
        free = busy.getsockname()[1]
    for address in (f"nbd://127.0.0.1:{free}/x", f"http://127.0.0.1:{free}/x.img"):
        told = fstripe("lineup", "solve", address, tmp_path / "none.img")
        assert told.status == 1 and "cannot be reached" in told.err and len(told.err.strip().splitlines()) == 1
    with web(tmp_path) as at, pytest.raises(MediaError, match="answers 404 and gives no ranges"):
        open_drive(Path(f"{at}/none.img"))


@pytest.mark.skipif(shutil.which("qemu-nbd") is None, reason="qemu-nbd is not installed on this machine")
def test_another_programs_nbd_server_is_read(tmp_path):
    data = b"tide" * (1 << 18) + bytes(1 << 20) + b"ebb." * (1 << 18)
    (tmp_path / "a.img").write_bytes(data)
    with socket.create_server(("127.0.0.1", 0)) as busy:
        port = busy.getsockname()[1]
    words = ["qemu-nbd", "-r", "-f", "raw", "-x", "drive", "-b", "127.0.0.1", "-p", str(port), "-t", tmp_path / "a.img"]
    process = subprocess.Popen(words)
    try:
        image = None
        for _ in range(200):
            try:
                image = open_drive(Path(f"nbd://127.0.0.1:{port}/drive"))
                break
            except MediaError:
                time.sleep(0.05)
        assert image is not None and image.size == len(data)
        assert read(image, 0, image.size) == data and read(image, 5, 7) == data[5:12]
        image.close()
        with pytest.raises(MediaError, match="no export 'other'"):
            open_drive(Path(f"nbd://127.0.0.1:{port}/other"))
    finally:
        process.kill()
        process.wait()


class Hurt:
    """An image of which one sector cannot be read."""

    size, path, bad = 3 << 20, Path("hurt.img"), (1 << 20) + 4096

    def __init__(self):
        self.asked = []

    def read_into(self, offset, buffer):
        self.asked.append((offset, len(buffer)))
        if offset <= self.bad < offset + len(buffer):
            raise Unreadable(source=self.path, offset=offset, length=len(buffer))
        buffer[:] = bytes([offset // 4096 % 251]) * len(buffer)

    def data_ranges(self, start=0, end=None):
        yield start, self.size if end is None else end


def test_bytes_travel_once_and_one_that_is_lost_takes_no_other_with_it():
    hurt = Hurt()
    with serving(hurt) as nbd:
        image = open_drive(Path(f"nbd://127.0.0.1:{nbd.port}/volume"))
        try:
            for at in range(0, 1 << 20, 65536):
                read(image, at, 4096)
            assert len(hurt.asked) == 1
            assert read(image, Hurt.bad + 4096, 4096) == bytes([(Hurt.bad // 4096 + 1) % 251]) * 4096
            with pytest.raises(Unreadable):
                read(image, Hurt.bad, 512)
        finally:
            image.close()


def test_an_export_that_comes_back_with_another_size_is_another_drive():
    """It was read on as if nothing had happened: sectors of two drives, and the size of the second."""
    first, second = (MemorySource(size, "drive") for size in (4 << 20, 8 << 20))
    with serving(first) as nbd:
        image, port = open_drive(Path(f"nbd://127.0.0.1:{nbd.port}/volume")), nbd.port
        assert read(image, 0, 512) == bytes(512)
    image._socket.close()  # what is left of the connection when a server is gone
    image._socket = socket.socket()
    with serving(second, port):
        with pytest.raises(AnotherOne, match="8388608 bytes, and it had 4194304"):
            read(image, 2 << 20, 512)
        assert image.size == 4 << 20
        image.close()
