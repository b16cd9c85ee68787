"""Volumes with real file systems and other contents, made by the general mkfs tools, for cutting into piles.

Needs e2fsprogs, xfsprogs, btrfs-progs, ntfs-3g, dosfstools, mtools, exfatprogs and sfdisk; what is not there is
left out of `make_volumes`.
"""

from __future__ import annotations

import gzip
import io
import random
import shutil
import struct
import subprocess
import zipfile
import zlib
from pathlib import Path

MIB = 1 << 20
STATIONS = ("skerry", "holm", "ness", "voe", "geo", "stack", "ayre", "noup", "wick", "gloup")
WORDS = [
    "tide",
    "gauge",
    "level",
    "spring",
    "neap",
    "ebb",
    "flood",
    "slack",
    "datum",
    "drift",
    "buoy",
    "mooring",
    "sensor",
    "pressure",
    "salinity",
    "turbidity",
    "harbour",
    "swell",
    "record",
    "reading",
    "calibration",
    "offset",
    "station",
    "survey",
    "benchmark",
    "chart",
    "moon",
    "phase",
    "wind",
    "northerly",
    "squall",
    "calm",
]


def prose(rng: random.Random, size: int) -> bytes:
    out = io.StringIO()
    while out.tell() < size:
        words = [rng.choice(WORDS) for _ in range(rng.randrange(4, 18))]
        out.write(" ".join(words).capitalize() + rng.choice((".\n", ". ", ", and then ", ";\n")))
    return out.getvalue()[:size].encode()


def log(rng: random.Random, size: int, at: int = 1_772_000_000) -> bytes:
    lines: list[str] = []
    total = 0
    while total < size:
        at += rng.randrange(1, 30)
        line = f"{at} {rng.choice(STATIONS)}-{rng.randrange(9)} level={rng.gauss(3.4, 1):.3f} m pump={rng.randrange(2)}"
        line += f" note={rng.choice(WORDS)}\n" if rng.random() < 0.3 else "\n"
        lines.append(line)
        total += len(line)
    return "".join(lines).encode()[:size]


def table(rng: random.Random, size: int) -> bytes:
    rows = ["number,station,height_m,temperature_c\n"]
    total, number = 0, rng.randrange(1000)
    while total < size:
        number += 1
        rows.append(f"{number},{rng.choice(STATIONS)},{rng.gauss(3, 1):.3f},{rng.gauss(8, 3):.1f}\n")
        total += len(rows[-1])
    return "".join(rows).encode()[:size]


def samples(rng: random.Random, size: int) -> bytes:
    """A slowly moving signal of 16-bit numbers."""
    value, out = 0, bytearray()
    while len(out) < size:
        value = max(-30000, min(30000, value + rng.randrange(-40, 41)))
        out += struct.pack("<h", value)
    return bytes(out[:size])


def picture(rng: random.Random) -> bytes:
    side = rng.randrange(80, 400)
    rows = b"".join(b"\0" + bytes((x * y + rng.randrange(40)) & 0xFF for x in range(side)) for y in range(side))

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = struct.pack(">IIBBBBB", side, side, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(rows)) + chunk(b"IEND", b"")


def archive(rng: random.Random, size: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for i in range(4):
            made.writestr(f"{rng.choice(WORDS)}-{i}.txt", prose(rng, size // 4))
    return out.getvalue()


def one_file(rng: random.Random) -> tuple[str, bytes]:
    size = int(min(3 * MIB, 2 ** rng.uniform(7, 21.5)))
    name = f"{rng.choice(WORDS)}-{rng.choice(STATIONS)}-{rng.randrange(10**6)}"
    kind = rng.randrange(8)
    if kind == 0:
        return name + ".log", log(rng, size)
    if kind == 1:
        return name + ".csv", table(rng, size)
    if kind == 2:
        return name + ".log.gz", gzip.compress(log(rng, size))
    if kind == 3:
        return name + ".png", picture(rng)
    if kind == 4:
        return name + ".dat", rng.randbytes(size)
    if kind == 5:
        return name + ".zip", archive(rng, size)
    if kind == 6:
        return name + ".raw", samples(rng, min(size, MIB))
    return name + ".txt", prose(rng, size)


def folder_of_files(rng: random.Random, place: Path, total: int) -> Path:
    place.mkdir(parents=True)
    folders = [place]
    for _ in range(rng.randrange(6, 40)):
        new = rng.choice(folders) / f"{rng.choice(WORDS)}{rng.randrange(1000)}"
        if not new.exists() and len(new.parts) - len(place.parts) < 5:
            new.mkdir()
            folders.append(new)
    written = 0
    while written < total:
        name, data = one_file(rng)
        (rng.choice(folders) / name).write_bytes(data)
        written += len(data)
    return place


def _run(*words: object, **more: object) -> None:
    subprocess.run([str(w) for w in words], check=True, capture_output=True, **more)  # type: ignore[call-overload]


def sparse(path: Path, size: int) -> Path:
    with path.open("xb") as file:
        file.truncate(size)
    return path


def ext(path: Path, size: int, files: Path, kind: str, *options: str) -> None:
    sparse(path, size)
    _run("mke2fs", "-q", "-F", "-t", kind, *options, "-d", files, path)


def xfs(path: Path, size: int, files: Path, *options: str) -> None:
    lines = ["nothing", "0 0", "d--755 0 0"]

    def walk(folder: Path, depth: int) -> None:
        for entry in sorted(folder.iterdir()):
            if entry.is_dir():
                lines.append(f"{entry.name} d--755 0 0")
                walk(entry, depth + 1)
                lines.append("$")
            else:
                lines.append(f"{entry.name} ---644 0 0 {entry}")

    walk(files, 0)
    proto = path.with_suffix(".proto")
    proto.write_text("\n".join([*lines, "$", ""]))
    sparse(path, max(size, 304 * MIB))
    _run("mkfs.xfs", "-q", *options, "-p", proto, path)
    proto.unlink()


def btrfs(path: Path, size: int, files: Path, metadata: str) -> None:
    sparse(path, max(size, 160 * MIB))
    _run("mkfs.btrfs", "-q", "-m", metadata, "--rootdir", files, path)


def ntfs(path: Path, size: int, files: Path) -> None:
    sparse(path, size)
    _run("mkntfs", "-F", "-Q", "-q", "-s", "512", path)
    for file in sorted(p for p in files.rglob("*") if p.is_file()):
        _run("ntfscp", "-f", "-q", path, file, file.name)


def fat(path: Path, size: int, files: Path, bits: int) -> None:
    sparse(path, size)
    _run("mkfs.fat", "-F", bits, *(("-s", "16") if bits == 12 else ()), path)
    for entry in sorted(files.iterdir()):
        _run("mcopy", "-s", "-i", path, entry, "::")


def exfat(path: Path, size: int, files: Path, rng: random.Random) -> None:
    """mkfs.exfat, and then the files of `files` by hand: entry sets, chains for every third, the bitmap."""
    sparse(path, size)
    _run("mkfs.exfat", path)
    with path.open("r+b") as file:
        boot = file.read(512)
        fat_at, heap_at = (struct.unpack_from("<I", boot, o)[0] << boot[108] for o in (80, 88))
        count, root = (struct.unpack_from("<I", boot, o)[0] for o in (92, 96))
        cluster = 1 << (boot[108] + boot[109])

        def at(number: int) -> int:
            return heap_at + (number - 2) * cluster

        def put(where: int, data: bytes) -> None:
            file.seek(where)
            file.write(data)

        file.seek(at(root))
        entries = bytearray(file.read(cluster))
        bitmap_at = next(
            at(struct.unpack_from("<I", entries, i + 20)[0]) for i in range(0, cluster, 32) if entries[i] == 0x81
        )
        end = next(i for i in range(0, cluster, 32) if entries[i] == 0)
        file.seek(bitmap_at)
        bitmap = bytearray(file.read(-(-count // 8)))
        free = next(c for c in range(root + 1, count) if not bitmap[(c - 2) // 8] >> (c - 2) % 8 & 1)
        directory, chain = bytes(entries[:end]), [root]
        for number, source in enumerate(sorted(p for p in files.rglob("*") if p.is_file())):
            data = source.read_bytes()
            need = -(-len(data) // cluster)
            if not need or free + need + 8 > count:
                continue
            put(at(free), data)
            linked = number % 3 == 0
            if linked:
                put(fat_at + 4 * free, struct.pack(f"<{need}I", *range(free + 1, free + need), 0xFFFFFFFF))
            for c in range(free, free + need):
                bitmap[(c - 2) // 8] |= 1 << (c - 2) % 8
            directory += _entry_set(source.name, free, len(data), linked)
            free += need
        for _ in range(0, len(directory) - cluster + 1, cluster):
            chain.append(free)
            bitmap[(free - 2) // 8] |= 1 << (free - 2) % 8
            free += 1
        directory = directory.ljust(len(chain) * cluster, b"\0")
        for i, c in enumerate(chain):
            put(at(c), directory[i * cluster : (i + 1) * cluster])
            put(fat_at + 4 * c, struct.pack("<I", chain[i + 1] if i + 1 < len(chain) else 0xFFFFFFFF))
        put(bitmap_at, bytes(bitmap))


def _entry_set(name: str, first: int, size: int, linked: bool) -> bytes:
    coded = name.encode("utf-16-le")
    names = [b"\xc1\0" + coded[i : i + 30].ljust(30, b"\0") for i in range(0, len(coded), 30)]
    stream = struct.pack("<BBBBHHQIIQ", 0xC0, 1 if linked else 3, 0, len(name), 0, 0, size, 0, first, size)
    head = struct.pack("<BBHH26x", 0x85, 1 + len(names), 0, 0x20)
    whole = head + stream + b"".join(names)
    total = 0
    for i, byte in enumerate(whole):
        if i not in (2, 3):
            total = ((total << 15 | total >> 1) & 0xFFFF) + byte & 0xFFFF
    return whole[:2] + struct.pack("<H", total) + whole[4:]


def partitioned(path: Path, parts: list[tuple[int, Path]], label: str, size: int) -> None:
    """Partitions (start in sectors, image) behind a table."""
    sparse(path, size)
    script = f"label: {label}\n"
    for start, part in parts:
        script += f"start={start}, size={part.stat().st_size // 512}, type={'L' if label == 'gpt' else '83'}\n"
    _run("sfdisk", "-q", path, input=script.encode())
    for start, part in parts:
        copy_into(part, path, start * 512)


def copy_into(part: Path, whole: Path, at: int) -> None:
    with part.open("rb") as source, whole.open("r+b") as out:
        offset = 0
        while block := source.read(MIB):
            if block.strip(b"\0"):
                out.seek(at + offset)
                out.write(block)
            offset += len(block)


def pages(rng: random.Random, size: int) -> bytes:
    """Pages of 8 KiB of an invented store: mark, page number, change number, records with text."""
    out = bytearray()
    for number in range(size // 8192):
        body = table(rng, rng.randrange(2000, 8000))
        head = struct.pack("<IIQHH", 0x7E1D_5A6E, number, rng.randrange(1 << 40), len(body), zlib.crc32(body) & 0xFFFF)
        out += (head + body).ljust(8192, b"\0")[:8192]
    return bytes(out)


def stream(rng: random.Random, size: int) -> bytes:
    """Frames of a recording: mark, counter, length, noise that is packed already."""
    out, number = bytearray(), rng.randrange(1000)
    while len(out) < size:
        body = rng.randbytes(rng.randrange(900, 2600))
        out += b"\xf5TIDE" + struct.pack("<IH", number, len(body)) + body
        number += 1
    return bytes(out[:size])


def make_volumes(place: Path, seed: int, mib: int = 24, only: str = "") -> dict[str, Path]:
    """Volumes by name of content, in `place`."""
    rng = random.Random(seed)
    place.mkdir(parents=True, exist_ok=True)
    files = folder_of_files(rng, place / "files", mib * MIB)
    size = (mib * 5 // 2) * MIB

    def few() -> Path:
        return folder_of_files(rng, place / "few-for-12", min(mib, 14) * MIB)

    makers = {
        "ext2": lambda p: ext(p, size, files, "ext2", "-b", rng.choice(("1024", "4096"))),
        "ext3": lambda p: ext(p, size, files, "ext3", "-b", "4096"),
        "ext4": lambda p: ext(p, size * 2, files, "ext4", "-b", "4096"),
        "ext4-1k": lambda p: ext(p, size, files, "ext4", "-b", "1024"),
        "ext4-nocsum": lambda p: ext(p, size, files, "ext4", "-b", "4096", "-O", "^metadata_csum"),
        "xfs": lambda p: xfs(p, size, files),
        "btrfs": lambda p: btrfs(p, size, files, "single"),
        "btrfs-dup": lambda p: btrfs(p, size, files, "dup"),
        "ntfs": lambda p: ntfs(p, size, files),
        "xfs-v4": lambda p: xfs(p, size, files, "-m", "crc=0"),
        "fat12": lambda p: fat(p, 30 * MIB, few(), 12),
        "fat16": lambda p: fat(p, size, files, 16),
        "fat32": lambda p: fat(p, max(size, 64 * MIB), files, 32),
        "exfat": lambda p: exfat(p, size, files, rng),
        "log": lambda p: p.write_bytes(log(rng, mib * MIB)),
        "text": lambda p: p.write_bytes(prose(rng, mib * MIB // 2)),
        "pages": lambda p: p.write_bytes(pages(rng, mib * MIB)),
        "stream": lambda p: p.write_bytes(stream(rng, mib * MIB)),
        "samples": lambda p: p.write_bytes(samples(rng, mib * MIB // 2)),
        "random": lambda p: p.write_bytes(rng.randbytes(mib * MIB)),
    }
    made: dict[str, Path] = {}
    for name, make in makers.items():
        if only and not name.startswith(only):
            continue
        try:
            make(place / f"{name}.img")
            made[name] = place / f"{name}.img"
        except FileNotFoundError:
            (place / f"{name}.img").unlink(missing_ok=True)
    if "ext4" in made and "xfs" in made and shutil.which("sfdisk"):
        small = place / "small.img"
        ext(small, 16 * MIB, folder_of_files(rng, place / "few", 4 * MIB), "ext4", "-b", "1024")
        swap = sparse(place / "swap.img", 8 * MIB)
        _run("mkswap", swap)
        for name, label, first, second in (("gpt", "gpt", 2048, "xfs"), ("mbr", "dos", 63, "ext4")):
            start = -(-(first + 16 * 2048) // 2048) * 2048
            whole = place / f"{name}.img"
            parts = [(first, small), (start, made[second])]
            if name == "gpt":
                parts = [(first, small), (start, swap), (start + 8 * 2048, made[second])]
            partitioned(whole, parts, label, made[second].stat().st_size + 28 * MIB)
            made[name] = whole
        small.unlink()
        swap.unlink()
    return made
