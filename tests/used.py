"""Volumes as use leaves them: mounted by a kernel, filled, deleted from, rewritten; and what stands around them.

Needs root, loop devices and the general file-system tools; `usable` says whether they are there.
"""

from __future__ import annotations

import os
import random
import shutil
import struct
import subprocess
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from .piles import MIB, _run, copy_into, partitioned, sparse

MAKERS: dict[str, tuple[str, ...]] = {
    "ext4": ("mke2fs", "-q", "-F", "-t", "ext4"),
    "ext4-1k": ("mke2fs", "-q", "-F", "-t", "ext4", "-b", "1024"),
    "ext4-no-journal": ("mke2fs", "-q", "-F", "-t", "ext4", "-O", "^has_journal"),
    "xfs": ("mkfs.xfs", "-q", "-f"),
    "btrfs": ("mkfs.btrfs", "-q", "-f"),
    "btrfs-single": ("mkfs.btrfs", "-q", "-f", "-m", "single"),
    "ntfs": ("mkntfs", "-F", "-Q", "-q"),
    "fat32": ("mkfs.fat", "-F", "32"),
}
PACKED = (".gz", ".png", ".xz", ".zip", ".bz2", ".jpg", ".zst")
LEAST_BYTES = {"xfs": 304 * MIB, "btrfs": 160 * MIB, "btrfs-single": 160 * MIB, "fat32": 64 * MIB}


def usable() -> bool:
    """Whether file systems can be mounted here."""
    tools = ("mke2fs", "mkfs.xfs", "sfdisk", "losetup", "pvcreate", "vgcreate")
    return os.geteuid() == 0 and Path("/dev/loop-control").exists() and all(shutil.which(t) for t in tools)


@contextmanager
def mounted(volume: Path, kind: str) -> Iterator[Path]:
    """The volume's file system as a folder."""
    place = Path(tempfile.mkdtemp())
    words = ["ntfs-3g", str(volume), str(place)] if kind == "ntfs" else ["mount", "-o", "loop", str(volume), str(place)]
    try:
        _run(*words)
        try:
            yield place
        finally:
            os.sync()
            _run("umount", place)
    finally:
        place.rmdir()


def made_and_used(path: Path, kind: str, size: int, files: Sequence[Path], rng: random.Random) -> Path:
    """A file system of about `size` bytes, three quarters filled in two rounds with some deleted between, some files
    rewritten in place, and a folder of many small ones. FAT is filled once: no kernel module is asked for."""
    sparse(path, max(size, LEAST_BYTES.get(kind, 0)))
    _run(*MAKERS[kind], path)
    if kind == "fat32":
        _fill(files, size // 2, lambda file, number: _run("mcopy", "-i", path, file, f"::{number}{file.suffix[:4]}"))
        return path
    with mounted(path, kind) as place:
        for part, share in (("first", 0.35), ("second", 0.3)):
            folder = place / part
            folder.mkdir()
            _fill(files, int(size * share), lambda file, number, into=folder: _put(file, into, number))
            if part == "first":
                for old in sorted(folder.rglob("*"))[::3]:
                    if old.is_file():
                        old.unlink()
                many = place / "many"
                many.mkdir()
                for number in range(600):
                    (many / f"reading-{number:06}-of-a-long-name.txt").write_bytes(b"%d\n" % number * rng.randrange(60))
        plain = sorted(p for p in place.rglob("*") if p.is_file() and p.suffix not in PACKED)
        for old in plain[::5]:  # programs change such files in place; packed ones are written anew
            with old.open("r+b") as file:
                file.seek(rng.randrange(max(1, old.stat().st_size)))
                file.write(rng.randbytes(rng.randrange(1, 20000)))
    return path


def _put(file: Path, into: Path, number: int) -> None:
    target = into / f"{number % 40}" / f"{number}-{file.name}"
    target.parent.mkdir(exist_ok=True)
    shutil.copyfile(file, target)


def _fill(files: Sequence[Path], most: int, put: Callable[[Path, int], None]) -> None:
    """Some of the files, copied one by one, until so many bytes are there."""
    done = number = 0
    while done < most and files:
        file = files[number * 7919 % len(files)]
        with suppress(OSError, subprocess.CalledProcessError):
            put(file, number)
            done += file.stat().st_size + 4096
        number += 1
        if number > 400_000:
            return


def files_of(folder: Path, most: int = 4 * MIB) -> list[Path]:
    """Plain files under a folder, none larger than `most`, in one order."""
    found = []
    for base, _folders, names in os.walk(folder):
        for name in names:
            path = Path(base) / name
            if path.is_file() and not path.is_symlink() and 0 < path.stat().st_size <= most:
                found.append(path)
    return sorted(found)


AROUND = ("gpt", "mbr", "mbr-odd", "logical", "gpt4096", "lvm", "zeroed table", "unknown store", "wiped front")


def around(path: Path, kind: str, inner: Path, rng: random.Random) -> Path:
    """A volume with a file system somewhere in it, behind one of AROUND."""
    size = inner.stat().st_size
    if kind == "gpt":
        return _table(path, inner, "gpt", 2048)
    if kind == "mbr":
        return _table(path, inner, "dos", 2048)
    if kind == "mbr-odd":
        return _table(path, inner, "dos", rng.choice((63, 16065, 2048 + rng.randrange(1, 2000))))
    if kind == "gpt4096":
        sparse(path, size + 8 * MIB)
        with _device(path, 4096) as device:
            _run("sfdisk", "-q", device, input=f"label: gpt\nstart=256, size={-(-size // 4096)}, type=L\n".encode())
        copy_into(inner, path, 256 * 4096)
    elif kind == "logical":
        sparse(path, size + 8 * MIB)
        script = f"label: dos\nstart=2048, size=2048, type=83\nstart=4096, type=5\nstart=6144, size={size // 512}\n"
        _run("sfdisk", "-q", path, input=script.encode())
        copy_into(inner, path, 6144 * 512)
    elif kind == "lvm":
        sparse(path, size + 16 * MIB)
        with _device(path, 512) as device:
            _run("pvcreate", "-qq", "-y", device)
            _run("vgcreate", "-qq", f"v{rng.randrange(1 << 40):x}", device)
        copy_into(inner, path, MIB)
    elif kind == "zeroed table":
        _table(path, inner, "gpt", 2048)
        with path.open("r+b") as file:
            file.write(bytes(34 * 512))
            file.seek(path.stat().st_size - 33 * 512)
            file.write(bytes(33 * 512))
    elif kind == "unknown store":
        ahead = MIB * rng.randrange(2, 6) + 65536 * rng.randrange(16)
        sparse(path, size + ahead)
        with path.open("r+b") as file:
            for number in range(ahead // 8192):
                if rng.random() < 0.8:
                    file.seek(8192 * number)
                    file.write(struct.pack("<IQI", 0x5EA7_0DE5, rng.randrange(1 << 50), number) + rng.randbytes(3000))
        copy_into(inner, path, ahead)
    elif kind == "wiped front":
        sparse(path, size + 20 * MIB)
        with path.open("r+b") as file:
            file.write(rng.choice((bytes(MIB), rng.randbytes(MIB))))
        copy_into(inner, path, 17 * MIB)
    else:
        raise ValueError(kind)
    return path


@contextmanager
def _device(path: Path, sector: int) -> Iterator[str]:
    """The file as a block device with sectors of so many bytes."""
    words = ["losetup", "-b", str(sector), "-f", "--show", str(path)]
    device = subprocess.run(words, capture_output=True, text=True, check=True).stdout.strip()
    try:
        yield device
    finally:
        _run("losetup", "-d", device)


def _table(path: Path, inner: Path, label: str, start: int) -> Path:
    partitioned(path, [(start, inner)], label, inner.stat().st_size + (start + 4096) * 512)
    return path


def locked(path: Path, size: int, rng: random.Random) -> Path:
    """An encrypted volume: its header, and behind it what is like noise."""
    sparse(path, size)
    words = ["cryptsetup", "luksFormat", "--type", "luks2", "-q", "--pbkdf", "pbkdf2", "--pbkdf-force-iterations"]
    _run(*words, "1000", path, "-", input=b"tide")
    with path.open("r+b") as file:
        for at in range(16 * MIB, size, MIB):
            file.seek(at)
            file.write(rng.randbytes(MIB))
    return path


def two_swaps(path: Path, inner: Path) -> Path:
    """A partition between two swap areas."""
    with tempfile.TemporaryDirectory(dir=path.parent) as scratch:
        swaps = [sparse(Path(scratch) / f"{n}", 8 * MIB) for n in range(2)]
        for swap in swaps:
            _run("mkswap", swap)
        size = inner.stat().st_size
        last = 2048 * 9 + -(-size // MIB) * 2048
        parts = [(2048, swaps[0]), (2048 * 9, inner), (last, swaps[1])]
        partitioned(path, parts, "gpt", (last + 10 * 2048) * 512)
    return path
