"""Surveying many servers in one command: 32 benches of 24 drives over HTTPS, against the slowest single one.

Clients and servers share this machine's processors here, as they never do in a server room: with answers that cost
only computing, 32 servers cannot be much faster than 32 times one on a few cores. So it is measured twice: with servers
that answer at once, and with `--manner slow`, whose answers take 50 ms longer, as a management processor's do.

    python benchmarks/survey.py [SERVERS]
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from faithful_stripe.bench.bench import create
from faithful_stripe.redfish.target import Access, connect
from faithful_stripe.work.many import survey_all
from faithful_stripe.work.survey import survey

DRIVES, PASSWORD, FIRST_PORT = 24, "tide-4711", 18443
FSTRIPE = Path(sys.executable).with_name("fstripe")


def description(number: int) -> str:
    seated = "\n".join(f'{bay} = {{ model = "m", serial = "S{number:02d}{bay:02d}" }}' for bay in range(1, DRIVES + 1))
    return f"""format = "faithful-stripe/bench/1"
[server]
name = "skerry-{number}"
maker = "Veskarn"
model = "TQ-2240"
serial = "TQ2240-{number:04d}"
firmware = "2.14.0"
bays = "1-{DRIVES}"
panel = ["1-{DRIVES}"]
[[controller]]
id = "CTRL-1"
maker = "Veskarn"
model = "RC24"
serial = "LR24-{number}"
firmware = "5.3.1"
bays = "1-{DRIVES}"
rebuild_rate = 60
[model.m]
vendor = "Ulvane"
model = "H4"
part = "UL-H4-A"
size = 4000787030016
media = "HDD"
protocol = "SAS"
rpm = 7200
sector = 512
rate = 215
firmware = "K410"
[seated]
{seated}
"""


def main(count: int) -> None:
    os.environ |= {"FSTRIPE_USER": "technician", "FSTRIPE_PASSWORD": PASSWORD, "FSTRIPE_SERVE_PASSWORD": PASSWORD}
    print(f"{os.cpu_count()} processors; {count} servers of {DRIVES} drives; seconds")
    print(f"{'answers':<10}{'slowest alone':>15}{'median alone':>15}{'all at once':>15}{'ratio':>8}")
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        for number in range(count):
            (folder / "d.toml").write_text(description(number))
            create(folder / f"b{number}", folder / "d.toml")
        for manner in ("plain", "slow"):
            measure(folder, count, manner)


def measure(folder: Path, count: int, manner: str) -> None:
    served = []
    try:
        for number in range(count):
            words = [FSTRIPE, "bench", "serve", f"b{number}", "--port", str(FIRST_PORT + number), "--manner", manner]
            served.append(subprocess.Popen(words, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
        targets = [f"https://127.0.0.1:{FIRST_PORT + n}" for n in range(count)]
        for number, at in enumerate(targets):
            _wait(at, Access(ca=folder / f"b{number}" / "tls.pem"))
        certified = "".join((folder / f"b{n}" / "tls.pem").read_text() for n in range(count))
        (folder / "all.pem").write_text(certified)
        access = Access(ca=folder / "all.pem")
        alone = []
        for at in targets:
            start = time.perf_counter()
            with connect(at, access=access) as client:
                assert len(survey(client).drives) == DRIVES
            alone.append(time.perf_counter() - start)
        start = time.perf_counter()
        found = survey_all(targets, lambda at: connect(at, access=access))
        together = time.perf_counter() - start
        bad = [s.trouble for s in found if s.survey is None]
        assert not bad, bad
        worst, middle = max(alone), sorted(alone)[len(alone) // 2]
        print(f"{manner:<10}{worst:>15.2f}{middle:>15.2f}{together:>15.2f}{together / worst:>8.1f}")
    finally:
        for process in served:
            process.terminate()
        for process in served:
            process.wait()


def _wait(at: str, access: Access) -> None:
    """Until the server answers."""
    for _attempt in range(300):
        try:
            with connect(at, access=access) as client:
                survey(client)
            return
        except Exception:
            time.sleep(0.2)
    raise SystemExit(f"{at} does not answer")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 32)
