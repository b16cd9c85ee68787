"""Make the file-system image that ships with the bench: an ext4 of invented tide-gauge records.

Needs mke2fs (e2fsprogs). The image is made once; the bench, the demo and the tests use the compressed result:

    python tools/make_observatory_image.py src/faithful_stripe/bench/data/observatory.img.xz
"""

import gzip
import lzma
import math
import os
import random
import struct
import subprocess
import sys
import tempfile
import zlib
from pathlib import Path

SIZE = 256 << 20
STATIONS = ("north-ledge", "harbour-stair", "seal-gully", "beacon-rock")
FAKE_TIME = 1790000000
UUID = "5ce77e1d-0b5e-4b7a-9d3c-7135ca1e0417"


def height(station: int, minute: float) -> float:
    """Metres over datum: two tides and a little weather."""
    hours = minute / 60
    moon = 1.9 * math.cos(2 * math.pi * hours / 12.4206 + station)
    sun = 0.7 * math.cos(2 * math.pi * hours / 12.0 + station / 2)
    return 3.2 + moon + sun


def day_file(rng: random.Random, station: int, day: int) -> str:
    lines = [f"# Skerry Point tide observatory, gauge {STATIONS[station]}, day {day + 1} of the year"]
    for minute in range(0, 1440, 15):
        level = height(station, day * 1440 + minute) + rng.gauss(0, 0.03)
        lines.append(f"{minute // 60:02d}:{minute % 60:02d} {level:6.3f} m  {rng.gauss(1013, 6):7.1f} hPa")
    return "\n".join(lines) + "\n"


def year_chart(station: int) -> bytes:
    """A greyscale PNG, one row a day, one column ten minutes: the year's tides as a picture."""
    rows = []
    for day in range(366):
        rows.append(b"\0" + bytes(int(min(255, max(0, height(station, day * 1440 + c * 10) * 40))) for c in range(144)))
    chunks = [
        (b"IHDR", struct.pack(">IIBBBBB", 144, 366, 8, 0, 0, 0, 0)),
        (b"IDAT", zlib.compress(b"".join(rows), 6)),
        (b"IEND", b""),
    ]
    body = b"".join(struct.pack(">I", len(d)) + k + d + struct.pack(">I", zlib.crc32(k + d)) for k, d in chunks)
    return b"\x89PNG\r\n\x1a\n" + body


def fill(root: Path) -> None:
    rng = random.Random(417)
    for station, name in enumerate(STATIONS):
        for month in range(12):
            folder = root / "gauges" / name / f"{month + 1:02d}"
            folder.mkdir(parents=True)
            for day in range(28):
                (folder / f"{day + 1:02d}.txt").write_text(day_file(rng, station, month * 30 + day))
        raw = b"".join(struct.pack("<If", m, height(station, m) + rng.gauss(0, 0.02)) for m in range(40_000))
        folder = root / "raw"
        folder.mkdir(exist_ok=True)
        (folder / f"{name}.bin.gz").write_bytes(gzip.compress(raw, 6, mtime=FAKE_TIME))
        (root / "charts").mkdir(exist_ok=True)
        (root / "charts" / f"{name}.png").write_bytes(year_chart(station))
    watch = ["E. Tolland", "R. Brae", "M. Sandwick"]
    log = [f"day {d + 1:03d}  keeper {rng.choice(watch)}  wind {rng.randint(0, 11)} Bft" for d in range(365)]
    (root / "keepers-log.txt").write_text("\n".join(log) + "\n")


def main() -> None:
    target = Path(sys.argv[1])
    with tempfile.TemporaryDirectory() as scratch:
        root, image = Path(scratch) / "root", Path(scratch) / "image"
        root.mkdir()
        fill(root)
        for path in [root, *root.rglob("*")]:
            os.utime(path, (FAKE_TIME, FAKE_TIME))
        with open(image, "wb") as file:
            file.truncate(SIZE)
        subprocess.run(
            ["mke2fs", "-q", "-t", "ext4", "-b", "4096", "-m", "0", "-L", "tide-records", "-U", UUID,
             "-E", f"hash_seed={UUID},root_owner=0:0", "-d", root, image],
            check=True,
            env=os.environ | {"E2FSPROGS_FAKE_TIME": str(FAKE_TIME)},
        )  # fmt: skip
        packed = lzma.compress(image.read_bytes(), preset=9)
        target.write_bytes(packed)
    print(f"{target}: {len(packed)} bytes")


if __name__ == "__main__":
    main()
