"""The demo's lesson: the job in chapters, each of which can be run alone."""

from __future__ import annotations

import shutil
import sys
import time
from importlib import resources
from typing import Any

import click

from .demo_story import LYING_NAMES, NEW_DRIVE, PART, Story

CHAPTERS = {
    "look": "A server you have not seen before",
    "prepare": "From the factory to what a build sheet says",
    "build": "A volume, and what is on it",
    "failure": "A drive fails: find it, replace it, follow the rebuild",
    "recover": "The worst day: only drive images are left, and their names lie",
}
"""The chapters of the lesson, each of which can be run alone."""


class Lesson(Story):
    """The chapters: few commands each, and a sentence before them."""

    def teach(self, chapters: list[str]) -> dict[str, Any]:
        """Run chapters in their order; each brings what it needs from the ones before it."""
        began = time.monotonic()
        for number, name in enumerate(chapters):
            self._title(f"{list(CHAPTERS).index(name) + 1} of {len(CHAPTERS)}: {CHAPTERS[name]} (demo {name})")
            getattr(self, f"_chapter_{name}")()
            if number + 1 < len(chapters) and not self._goes_on():
                break
        self._note(f"\n{self.commands} commands in {time.monotonic() - began:.0f} s, all on simulated servers. "
                   "Next: fstripe bench new my-server", style="bold")  # fmt: skip
        stages = [{"stage": stage, "sha256": digest} for stage, digest in self.hashes]
        return {"chapters": chapters, "stages": stages, "commands": self.commands}

    def _goes_on(self) -> bool:
        """Wait for a key, where somebody is there to press one."""
        if self.quiet or not (sys.stdin.isatty() and sys.stdout.isatty()):
            return True
        self._note("\nAny key continues, q ends.")
        try:
            return click.getchar() not in ("q", "Q", "\x03", "\x04")
        except (KeyboardInterrupt, EOFError):
            return False

    def _chapter_look(self) -> None:
        self._note("`bench new` creates a simulated server: a folder with real (sparse) drive images.")
        self._server()
        self._note("\n`survey` says what is in it and what needs attention; `bays` draws the front panel.")
        self.run("--at", "skerry", "survey")
        self.run("--at", "skerry", "bays")

    def _chapter_prepare(self) -> None:
        self._note("A server as it comes: its controller offers no RAID yet. `ready` says what is missing.")
        self.run("bench", "new", "raw", "--from", "skerry-new")
        self.run("--at", "raw", "ready", expect=3)
        self._note("\nA build sheet says how it is to be. `build` shows each step, restarts, and reads back.")
        sheet = resources.files("faithful_stripe.bench").joinpath("data", "skerry-sheet.toml").read_text("utf-8")
        (self.place / "sheet.toml").write_text(sheet, "utf-8")
        serials = {d["bay"]: d["serial"] for d in self._json("--at", "raw", "bays")["bays"]}
        taken = ",".join(serials[str(bay)] for bay in (1, 2, *range(4, 15)))
        self.run("--at", "raw", "build", "sheet.toml", "--yes", "--expect-serials", taken, "--speed", "400")

    def _chapter_build(self) -> None:
        self._server()
        self._note("\n`weigh` compares levels for four drives before anything is decided.")
        self.run("weigh", "--drives", "4", "--size", "4TB")
        self._note("\nWhat destroys data wants the name typed, or --yes with the serial numbers.")
        self._volume()

    def _chapter_failure(self) -> None:
        self._quietly(self._server, self._volume)
        self._note("A member fails. The volume continues to work, and says how much more it survives.")
        self.run("--at", "skerry", "bench", "fault", "5")
        self.run("--at", "skerry", "survey", expect=3)
        self.run("--at", "skerry", "locate", "5")
        self._note("\n`stock match` ranks the drives at hand: what fits, what does not, and why.")
        stock = resources.files("faithful_stripe.bench").joinpath("data", "skerry-stock.csv").read_text("utf-8")
        (self.place / "stock.csv").write_text(stock, "utf-8")
        self.run("--at", "skerry", "stock", "match", "5")
        self.run("--at", "skerry", "bench", "pull", "5")
        self.run("--at", "skerry", "bench", "seat", "5", NEW_DRIVE)
        self.replaced = True
        self._note("\nThe rebuild begins by itself; `watch` follows it to the end, here two hours in a second.")
        self.run("--at", "skerry", "watch", "--speed", f"{self.speed:g}")
        self.dump("after the rebuild")

    def _chapter_recover(self) -> None:
        self._quietly(self._server, self._volume)
        self._note("The controller is gone. Of four drives there are images, one is missing, one is a stranger's.")
        self.dump("before the worst day")
        shutil.move(self.place / "copy.img", self.place / "edited.img")
        self._pile()
        (self.place / "pile" / LYING_NAMES["6"]).unlink()
        names = sorted(f"pile/{p.name}" for p in (self.place / "pile").iterdir())
        self._note("\n`lineup solve` finds members, order, strip, rotation and start from the data alone.")
        self.run("lineup", "solve", *names, "--out", "found.toml", expect=3)
        self._note("\n`lineup extract` writes the volume; what the missing drive held is computed.")
        got = self.hashed("lineup", "extract", "found.toml", "recovered.img", "--range", PART, "--sha256", expect=3)
        self._expect("recovered", got)

    # what chapters share ------------------------------------------------------------------------

    def _server(self) -> None:
        if not (self.place / "skerry").exists():
            self.run("bench", "new", "skerry")
        self.serials = {d["bay"]: d["serial"] for d in self._json("--at", "skerry", "bays")["bays"]}
        self.members = ",".join(self.serials[bay] for bay in ("4", "5", "6", "7"))

    def _volume(self) -> None:
        if self.wanted:
            return
        self.run("--at", "skerry", "volume", "add", "tides", "--level", "RAID5", "--bays", "4-7", "--yes",
                 "--expect-serials", self.members)  # fmt: skip
        self.wanted = self.hashed("--at", "skerry", "bench", "load", "tides", "observatory")

    def _quietly(self, *steps: Any) -> None:
        """Steps of an earlier chapter, where this one is run alone."""
        before, self.quiet = self.quiet, True
        for step in steps:
            step()
        self.quiet = before
