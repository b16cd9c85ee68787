"""New drives of `lineup adopt`, read by Linux itself through the table beside them, in a machine of its own.

    python benchmarks/kernel.py --kernel FOLDER

FOLDER is an unpacked kernel package (`dpkg -x linux-image-...-cloud-amd64_*.deb FOLDER`). Needs qemu-system-x86_64, a
static busybox, cpio and dmsetup with its libraries. Each array is cut by the tests' own slicer, adopted with as many
members missing as it survives, and its drives are given to the machine read-only. Exits with 1 where one reads wrong.
"""

from __future__ import annotations

import argparse
import hashlib
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

import numpy as np
from tests.slicer import Spec, cut

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.lineup.document.four_verdicts import placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup, Solution
from faithful_stripe.work.adopting import adopt
from faithful_stripe.work.lineup import open_array, save

STRIP = 16 << 10
SPECS = [
    Spec("RAID0", 3, STRIP),
    Spec("RAID1", 2, STRIP),
    Spec("RAID10", 6, STRIP, copies=2, start=1 << 20),
    Spec("RAID10", 6, STRIP, copies=3),
    Spec("RAID4", 4, STRIP, rotation="fixed-0"),
    Spec("RAID4", 4, STRIP, rotation="fixed-N"),
    *(
        Spec("RAID5", 4, STRIP, rotation=r, data=d)
        for r in ("parity-0", "parity-N")
        for d in ("restart", "continuation")
    ),
    Spec("RAID50", 6, STRIP, rotation="parity-N", data="continuation", spans=2),
    Spec("RAID6", 5, STRIP, "parity-0", "restart", "after-p", "member-position"),
    Spec("RAID6", 5, STRIP, "parity-N", "restart", "after-p", "member-position"),
    Spec("RAID6", 5, STRIP, "parity-N", "continuation", "before-p", "member-position"),
    Spec("RAID60", 8, STRIP, "parity-N", "continuation", "before-p", "member-position", spans=2),
]
MODULES = ("virtio_blk", "virtio_pci", "dm-mod", "dm-raid", "raid0", "raid1", "raid10", "raid456")
INIT = """#!/bin/busybox sh
export PATH=/bin:/sbin DM_DISABLE_UDEV=1
busybox mount -t proc proc /proc; busybox mount -t sysfs sys /sys; busybox mount -t devtmpfs dev /dev
for m in $(busybox cat /modules); do busybox insmod /m/$m || busybox echo "no $m"; done
busybox sleep 1
{steps}
busybox poweroff -f
"""
STEP = """while read name line; do dmsetup create "$name" --readonly --table "$line" || busybox echo FAILED; done <<END
{table}
END
busybox echo "READ {number} $(busybox head -c {size} /dev/mapper/{name} | busybox sha256sum)"
dmsetup remove_all --force
"""


def adopted(spec: Spec, place: Path, number: int) -> tuple[list[Path], str, int, str]:
    """The drives of one array that was written anew, its table, and the length and SHA-256 of its volume."""
    place.mkdir()
    content = np.random.default_rng(number).integers(0, 256, 2_400_000, np.uint8).tobytes()
    (place / "volume.img").write_bytes(content)
    names = [f"ebb-{n}.img" for n in range(spec.members)]
    size = cut(place / "volume.img", spec, [place / n for n in names])
    made = geometry(
        spec.level, spec.members, spec.strip, member_bytes=size, start_bytes=spec.start, rotation=spec.rotation,
        data=spec.data, spans=spec.spans if spec.spans > 1 else None, q_place=spec.q_place, q_exponent=spec.q_exponent,
        copies=spec.copies if spec.level == "RAID10" else None,
    )  # fmt: skip
    gone = {"RAID0": 0, "RAID6": 2, "RAID60": 2}.get(spec.level, 1)
    seats = tuple(None if n < gone else name for n, name in enumerate(names))
    save(Solution((Lineup(made, seats, placed("certain"), 99.0, 0.0),), (), 0), place / "found.toml")
    with open_array(place / "found.toml") as (found, members):
        adopt(found, members, str(number), place / "drives", f"t{number}")
    drives = [place / "drives" / f"t{number}-{n}.img" for n in range(spec.members)]
    told = (place / "drives" / "array.table").read_text().strip()
    return drives, told, len(content), hashlib.sha256(content).hexdigest()


def machine(kernel: Path, place: Path, steps: str, drives: list[Path]) -> str:
    """What a machine with these drives prints."""
    root = place / "root"
    for folder in ("bin", "sbin", "proc", "sys", "dev", "m"):
        (root / folder).mkdir(parents=True)
    shutil.copy(shutil.which("busybox") or "busybox", root / "bin" / "busybox")
    dmsetup = shutil.which("dmsetup") or "/sbin/dmsetup"
    shutil.copy(dmsetup, root / "sbin" / "dmsetup")
    for library in re.findall(r"(/\S+)", subprocess.run(["ldd", dmsetup], capture_output=True, text=True).stdout):
        target = root / library.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(library, target)
    (modules,) = (kernel / "lib" / "modules").iterdir()
    subprocess.run(["depmod", "-b", str(kernel), modules.name], check=True)
    wanted: list[str] = []
    for module in MODULES:
        shown = subprocess.run(
            ["modprobe", "-d", str(kernel), "-S", modules.name, "--show-depends", module],
            capture_output=True,
            text=True,
        ).stdout
        wanted += [line.split()[1] for line in shown.splitlines() if line.startswith("insmod")]
    order = list(dict.fromkeys(wanted))
    for path in order:
        shutil.copy(path, root / "m")
    (root / "modules").write_text("\n".join(Path(p).name for p in order))
    (root / "init").write_text(INIT.format(steps=steps))
    (root / "init").chmod(0o755)
    archive = place / "initramfs"
    listed = subprocess.run(["find", "."], cwd=root, capture_output=True, check=True).stdout
    with archive.open("wb") as out:
        subprocess.run(["cpio", "-o", "-H", "newc", "--quiet"], cwd=root, input=listed, stdout=out, check=True)
    (image,) = (kernel / "boot").glob("vmlinuz-*")
    words = ["qemu-system-x86_64", "-m", "512", "-nographic", "-no-reboot", "-kernel", str(image), "-initrd",
             str(archive), "-append", "console=ttyS0 quiet panic=-1"]  # fmt: skip
    for drive in drives:
        words += ["-drive", f"file={drive},format=raw,if=virtio,readonly=on"]
    return subprocess.run(words, capture_output=True, text=True, timeout=580).stdout


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--kernel", type=Path, required=True)
    given = parser.parse_args()
    wrong = 0
    with tempfile.TemporaryDirectory() as scratch:
        for number, spec in enumerate(SPECS):
            place = Path(scratch) / str(number)
            drives, table, size, wanted = adopted(spec, place, number)
            for position in range(spec.members):
                table = table.replace(f"/dev/DRIVE-{position} ", f"/dev/vd{'abcdefgh'[position]} ")
            step = STEP.format(table=table, number=number, size=size, name=f"t{number}")
            told = machine(given.kernel.resolve(), place, step, drives)
            found = re.search(rf"READ {number} ([0-9a-f]{{64}})", told)
            right = found is not None and found[1] == wanted
            wrong += not right
            words = " ".join(w for w in (spec.rotation, spec.data, spec.q_place, spec.q_exponent) if w)
            print(f"{spec.level:7}{spec.members} {words:45} {'right' if right else 'WRONG'}", flush=True)
            if not right:
                print(table, told[-1500:], sep="\n")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
