"""The demo's long story: the whole job on one simulated server; every command is shown before it runs."""

from __future__ import annotations

import json
import shlex
import shutil
import subprocess
import sys
import time
from importlib import resources
from pathlib import Path
from typing import Any

import click

from ..core.errors import StripeError

PART = "0:256MiB"
NEW_DRIVE = "UV4H30555"
LYING_NAMES = {"7": "disk-0.img", "4": "disk-1.img", "6": "disk-3.img", "5": "disk-4.img"}
"""Bays of the members, and what the technician before us called their images."""


class DemoFailed(StripeError):
    template = "demo: {what}"
    remedy = "this should not happen; please report it with the output above"


class Story:
    """The demo's steps, in order; each `run` prints a real command, runs it, and checks its exit status."""

    def __init__(self, place: Path, speed: float, quiet: bool) -> None:
        self.place, self.speed, self.quiet = place, speed, quiet
        self.hashes: list[tuple[str, str]] = []
        self.wanted = ""
        self.commands = 0
        self.replaced = False

    def tell(self) -> dict[str, Any]:
        began = time.monotonic()
        self._prepare()
        self._swap()
        self._build()
        self._fail_and_write()
        self._replace()
        lineup = self._recover()
        self._nest()
        self._survive()
        return self._summary(lineup, time.monotonic() - began)

    # the story ----------------------------------------------------------------------------------

    def _prepare(self) -> None:
        self._title("From the factory to what a build sheet says")
        self.run("bench", "new", "raw", "--from", "skerry-new")
        self.run("--at", "raw", "ready", expect=3)
        sheet = resources.files("faithful_stripe.bench").joinpath("data", "skerry-sheet.toml").read_text("utf-8")
        (self.place / "sheet.toml").write_text(sheet, "utf-8")
        self.run("--at", "raw", "build", "sheet.toml", "--check", expect=3)
        serials = {d["bay"]: d["serial"] for d in self._json("--at", "raw", "bays")["bays"]}
        taken = ",".join(serials[str(bay)] for bay in (1, 2, *range(4, 15)))
        self.run("--at", "raw", "build", "sheet.toml", "--yes", "--expect-serials", taken, "--speed", "200")
        self.run("--at", "raw", "build", "sheet.toml")
        self.run("--at", "raw", "bench", "package", "raid.pldm", "--for", "CTRL-1", "--version", "5.4.0")
        self.run("--at", "raw", "firmware", "update", "raid.pldm", "--yes", "--speed", "60", expect=3)
        self.run("--at", "raw", "firmware", "restart", "--yes", "--speed", "200")
        self.run("--at", "raw", "ready")

    def _swap(self) -> None:
        self._title("A drive fails; it is replaced step by step, by hands that err once")
        cupboard = resources.files("faithful_stripe.bench").joinpath("data", "skerry-stock.csv").read_text("utf-8")
        (self.place / "stock.csv").write_text(cupboard, "utf-8")
        serials = {d["bay"]: d["serial"] for d in self._json("--at", "raw", "bays")["bays"]}
        self.run("--at", "raw", "bench", "fault", "5")
        self.run("--at", "raw", "stock", "match", "5")
        self.guided(
            ("--at", "raw", "swap", "5", "--speed", "36000"),
            [
                ("hold its label", ("pull", "8")),
                ("put it back at once", ("seat", "8", serials["8"])),
                ("bay 8 is back", ("pull", "5")),
                ("push it in until it locks", ("seat", "5", "PL2P71120")),
                ("take it out of bay 5", ("pull", "5")),
                ("push it in until it locks", ("seat", "5", NEW_DRIVE)),
            ],
        )
        self.run("--at", "raw", "report", "visit.html", "visit.md", "--technician", "I. Maddery")
        self.run("--at", "raw", "log", "--bay", "5")

    def _build(self) -> None:
        self._title("An empty server, a new RAID 5")
        self.run("bench", "new", "skerry")
        self.run("--at", "skerry", "survey")
        self.serials = {d["bay"]: d["serial"] for d in self._json("--at", "skerry", "bays")["bays"]}
        members = ",".join(self.serials[bay] for bay in ("4", "5", "6", "7"))
        self.members = members
        self.run(
            "--at", "skerry", "volume", "add", "tides", "--level", "RAID5", "--bays", "4,5,6,7",
            "--strip", "64KiB", "--yes", "--expect-serials", members,
        )  # fmt: skip
        self.wanted = self.hashed("--at", "skerry", "bench", "load", "tides", "observatory")
        self.dump("healthy")

    def _fail_and_write(self) -> None:
        self._title("A member fails; reads and writes continue")
        self.run("--at", "skerry", "bench", "fault", "5")
        self.run("--at", "skerry", "bays", expect=3)
        self.dump("degraded")
        self._note("A keeper corrects an entry of the log; the volume is written while it is degraded.")
        self._edit()
        before = self.wanted
        self.wanted = self.hashed(
            "--at", "skerry", "bench", "load", "tides", "edited.img", "--yes", "--expect-serials", self.members
        )
        if self.wanted == before:
            raise DemoFailed(what="the edited image has the hash of the first one")
        self.dump("written while degraded")

    def _replace(self) -> None:
        self._title("The failed drive is replaced, the rebuild followed to its end")
        self.run("--at", "skerry", "bench", "pull", "5")
        self.run("--at", "skerry", "bench", "seat", "5", NEW_DRIVE)
        self.replaced = True
        self.dump("rebuilding")
        self.run("--at", "skerry", "watch", "--speed", f"{self.speed:g}")
        self.run("--at", "skerry", "log")
        self.run("--at", "skerry", "survey")
        self.dump("rebuilt")

    def _recover(self) -> dict[str, Any]:
        self._title("The worst day: only images are left, their names lie, and a stranger is among them")
        self._pile()
        names = sorted(f"pile/{p.name}" for p in (self.place / "pile").iterdir())
        self.run("lineup", "solve", *names, "--out", "found.toml")
        solution = self._json("lineup", "solve", *names)
        self._expect(
            "recovered from the pile",
            self.hashed("lineup", "extract", "found.toml", "recovered.img", "--range", PART, "--sha256"),
        )
        array: dict[str, Any] = solution["arrays"][0]
        true_order = [f"pile/{LYING_NAMES[bay]}" for bay in ("4", "5", "6", "7")]
        if array["spans"] != [true_order]:
            raise DemoFailed(what=f"the order found is {array['spans']}, the true one {true_order}")
        return array

    def _nest(self) -> None:
        self._title("A mirrored pair and a RAID 50, with a dedicated and a global hot spare")
        self.run(
            "--at", "skerry", "volume", "add", "system", "--level", "RAID1", "--bays", "1,2",
            "--yes", "--expect-serials", f"{self.serials['1']},{self.serials['2']}",
        )  # fmt: skip
        self.gauges = ",".join(self.serials[str(bay)] for bay in range(8, 14))
        self.run(
            "--at", "skerry", "volume", "add", "gauges", "--level", "RAID50", "--spans", "8-10/11-13",
            "--strip", "256KiB", "--yes", "--expect-serials", self.gauges,
        )  # fmt: skip
        self.run("--at", "skerry", "bench", "seat", "15", "UV6H00377")
        self.run("--at", "skerry", "spare", "add", "14", "--for", "gauges")
        self.run("--at", "skerry", "spare", "add", "15")
        self.wanted = self.hashed("--at", "skerry", "bench", "load", "gauges", "edited.img")
        self.dump("RAID 50, healthy", "gauges")

    def _survive(self) -> None:
        self._title("A failure, a spare's takeover, a second failure during the rebuild, a cut of power, a swap")
        self.run("--at", "skerry", "bench", "fault", "9")
        self.run("--at", "skerry", "bench", "advance", "90m")
        self.run("--at", "skerry", "bench", "fault", "12")
        self.run("--at", "skerry", "bench", "cut-power", "--seed", "417")
        self.run("--at", "skerry", "bays", expect=3)
        self.dump("two rebuilds, power cut", "gauges")
        self.run("--at", "skerry", "watch", "--speed", f"{self.speed * 2:g}", expect=0)
        self.dump("on both spares", "gauges")
        self._note("The failed drives are replaced; the data return, and the spares stand by again.")
        for bay, serial in (("9", "UV4H30562"), ("12", "UV4H30578")):
            self.run("--at", "skerry", "bench", "pull", bay)
            self.run("--at", "skerry", "bench", "seat", bay, serial)
        self.run("--at", "skerry", "watch", "--speed", f"{self.speed * 2:g}")
        self.dump("returned from the spares", "gauges")
        self.run("--at", "skerry", "volume", "check", "gauges")
        self.run("--at", "skerry", "bench", "advance", "12h")
        self.run("--at", "skerry", "survey")

    def _summary(self, lineup: dict[str, Any], seconds: float) -> dict[str, Any]:
        self._title("Summary")
        for stage, digest in self.hashes:
            self._note(f"{stage:26} SHA-256 {digest[:16]}...  as written")
        self._note(
            f"lineup: {lineup['level']}, strip {lineup['strip_bytes']}, {lineup['rotation']} {lineup['data']}, "
            f"{lineup['verdict']}\n{self.commands} commands in {seconds:.1f} s"
        )
        stages = [{"stage": stage, "sha256": digest} for stage, digest in self.hashes]
        return {"stages": stages, "lineup": lineup, "commands": self.commands, "seconds": round(seconds, 1)}

    # its parts ----------------------------------------------------------------------------------

    def run(self, *words: str, expect: int = 0) -> None:
        """Show a command, run it as a person would, and stop unless it ends as expected."""
        self._note(f"\n$ fstripe {shlex.join(words)}", style="bold")
        sys.stdout.flush()
        self.commands += 1
        out = subprocess.DEVNULL if self.quiet else None
        done = subprocess.run(
            [sys.executable, "-m", "faithful_stripe", *words], cwd=self.place, stdout=out, stderr=out, check=False
        )
        if done.returncode != expect:
            raise DemoFailed(what=f"that command ended with status {done.returncode}, expected {expect}")

    def guided(self, words: tuple[str, ...], hands: list[tuple[str, tuple[str, ...]]]) -> None:
        """Run a command that waits for hands, and be the hands: each acts when its words are read, in order."""
        self._note(f"\n$ fstripe {shlex.join(words)}", style="bold")
        sys.stdout.flush()
        self.commands += 1
        command = [sys.executable, "-u", "-m", "faithful_stripe", *words]
        acts = list(hands)
        with subprocess.Popen(command, cwd=self.place, stdout=subprocess.PIPE, text=True) as process:
            assert process.stdout is not None
            for line in process.stdout:
                self._note(line.rstrip())
                if acts and acts[0][0] in line:
                    _words, act = acts.pop(0)
                    self._note(f"         (hands: {' '.join(act)})")
                    self._hand(act)
        if process.returncode not in (0, 3) or acts:
            raise DemoFailed(what=f"the swap ended with status {process.returncode}, {len(acts)} acts were left")

    def _hand(self, act: tuple[str, ...]) -> None:
        command = [sys.executable, "-m", "faithful_stripe", "--at", "raw", "bench", *act]
        subprocess.run(command, cwd=self.place, stdout=subprocess.DEVNULL, check=False)

    def hashed(self, *words: str, expect: int = 0) -> str:
        """Run a command that prints a SHA-256, and give it back."""
        self._note(f"\n$ fstripe {shlex.join(words)}", style="bold")
        self.commands += 1
        command = [sys.executable, "-m", "faithful_stripe", *words]
        done = subprocess.run(command, cwd=self.place, stdout=subprocess.PIPE, text=True, check=False)
        self._note(done.stdout.rstrip())
        if done.returncode != expect or "SHA-256 " not in done.stdout:
            raise DemoFailed(what=f"that command ended with status {done.returncode} and no hash")
        return done.stdout.split("SHA-256 ")[1].split()[0]

    def _json(self, *words: str) -> Any:
        command = [sys.executable, "-m", "faithful_stripe", *words, "--json"]
        done = subprocess.run(command, cwd=self.place, stdout=subprocess.PIPE, check=False)
        return json.loads(done.stdout)

    def dump(self, stage: str, volume: str = "tides") -> None:
        """Read a volume back and compare its hash with that of what was written last."""
        (self.place / "copy.img").unlink(missing_ok=True)
        self._expect(stage, self.hashed("--at", "skerry", "bench", "dump", volume, "copy.img", "--range", PART))

    def _expect(self, stage: str, digest: str) -> None:
        if digest != self.wanted:
            raise DemoFailed(what=f"{stage}: SHA-256 {digest}, expected {self.wanted}")
        self.hashes.append((stage, digest))

    def _edit(self) -> None:
        """Change one word inside a file of the dump, in place."""
        from ..media.image import ImageFile

        shutil.move(self.place / "copy.img", self.place / "edited.img")
        with ImageFile(self.place / "edited.img", writable=True) as image:
            for start, end in image.data_ranges():
                data = bytearray(end - start)
                image.read_into(start, data)
                at = data.find(b"day 001  keeper ")
                if at >= 0:
                    image.write(start + at + 4, b"002")
                    return
        raise DemoFailed(what="the keepers' log is not in the image")

    def _pile(self) -> None:
        """Copy the members' images under lying names, and put a stranger's drive among them."""
        from ..bench.controller import RESERVED_BYTES as RESERVED
        from ..media.image import ImageFile
        from ..media.whole import copy_data, new_image

        (self.place / "pile").mkdir()
        self._note(
            "(copying the images of bays 4 to 7, less their set-up, under names that lie; disk-2.img is a stranger)"
        )
        seated = {**self.serials, **({"5": NEW_DRIVE} if self.replaced else {})}
        for bay, name in LYING_NAMES.items():
            with (
                ImageFile(self.place / "skerry" / "drives" / f"{seated[bay]}.img") as drive,
                new_image(self.place / "pile" / name, drive.size) as copy,
            ):
                copy_data(drive, 0, drive.size - RESERVED, copy)
        with (
            ImageFile(self.place / "edited.img") as other,
            new_image(self.place / "pile" / "disk-2.img", 4_000_787_030_016) as stranger,
        ):
            ranges = list(other.data_ranges())
            for start, end in ranges[1:]:
                data = bytearray(end - start)
                other.read_into(start, data)
                stranger.write(start * 3, data[::-1])

    def _title(self, text: str) -> None:
        self._note(f"\n== {text} ==", style="bold")

    def _note(self, text: str, style: str = "") -> None:
        if not self.quiet:
            click.echo(click.style(text, bold=True) if style and sys.stdout.isatty() else text)
