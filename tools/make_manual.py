"""Makes the manual's pages that come from the program itself anew: the job with real outputs, the command reference,
and the words.

    python tools/make_manual.py

Tests hold all three against the program. `mkdocs build` makes a site of `docs/`; `make man` writes man pages.
"""

import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from faithful_stripe.bench.controller import RESERVED_BYTES
from faithful_stripe.cli.reference import page as commands
from faithful_stripe.cli.vocabulary import page as words
from faithful_stripe.media.image import ImageFile
from faithful_stripe.media.whole import copy_data, new_image

DOCS = Path(__file__).parents[1] / "docs"
FSTRIPE = Path(sys.executable).with_name("fstripe")
SERIALS = "UV4H20931,UV4H20944,UV4H21007,UV4H21018"

JOB: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("Look", "What is in the server, and what needs attention. Nothing is changed.",
     ("bench new skerry", "--at skerry survey", "--at skerry bays")),
    ("Prepare", "What is missing before volumes can be created and the server can start from one; and which level.",
     ("bench new raw --from skerry-new", "--at raw ready",
      "--at raw firmware set DiskControllerUse=Raid StartupStyle=Uefi OldOptionRoms=Disabled",
      "weigh --drives 4 --size 4TB")),
    ("Build", "What is created is shown first, with what will be lost. A script confirms with the serial numbers.",
     (f"--at skerry volume add tides --level RAID5 --bays 4-7 --yes --expect-serials {SERIALS}",
      "--at skerry bench load tides observatory", "--at skerry spare add 13", "--at skerry volume show tides")),
    ("Keep", "A member has failed: which drive, where it is, and which of the drives at hand can replace it.",
     ("--at skerry spare remove 13", "--at skerry bench fault 5", "--at skerry survey", "--at skerry locate 5",
      "--at skerry stock match 5", "--at skerry swap 4")),
    ("Recover", "The controller is gone. Members, order, strip and start come from the data of the images alone.",
     ("lineup solve c.img a.img d.img --out found.toml", "lineup prove found.toml", "lineup draw found.toml")),
)  # fmt: skip


def main() -> None:
    (DOCS / "commands.md").write_text(commands(), encoding="utf-8")
    (DOCS / "words.md").write_text(words(), encoding="utf-8")
    (DOCS / "job.md").write_text(job(), encoding="utf-8")


def job() -> str:
    """The stages of the job with what the commands print on the demo's server, 80 columns wide."""
    with tempfile.TemporaryDirectory() as place:
        return "\n".join(_stages(Path(place)))


def _stages(folder: Path) -> Iterator[str]:
    yield "# The job, stage by stage\n"
    yield "Made by running the commands (`tools/make_manual.py`); times of day are left out.\n"
    for title, told, lines in JOB:
        yield f"## {title}\n\n{told}\n"
        if title == "Keep":
            stock = DOCS.parent / "src" / "faithful_stripe" / "bench" / "data" / "skerry-stock.csv"
            shutil.copy(stock, folder / "stock.csv")
        if title == "Recover":
            _images(folder)
        for line in lines:
            done = subprocess.run(
                [FSTRIPE, *shlex.split(line)], cwd=folder, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
                stdin=subprocess.DEVNULL, check=False,
                env=os.environ | {"COLUMNS": "80", "FSTRIPE_WIDTH": "80", "XDG_STATE_HOME": str(folder / ".state")},
            )  # fmt: skip
            out = re.sub(r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(?: ?\+\d\d:\d\d)?", "(time)", done.stdout.rstrip())
            out = re.sub(r"WWN 46[0-9A-F]{30}", "WWN (its own)", out)
            status = f"\n(exit status {done.returncode})" if done.returncode else ""
            yield f"```\n$ fstripe {line}\n{out}{status}\n```\n"


def _images(folder: Path) -> None:
    """Images of three of the four members, under names that say nothing."""
    for name, serial in zip("adc", (SERIALS.split(",")[i] for i in (2, 0, 3)), strict=True):
        source = folder / "skerry" / "drives" / f"{serial}.img"
        with ImageFile(source) as drive, new_image(folder / f"{name}.img", drive.size) as copy:
            copy_data(drive, 0, drive.size - RESERVED_BYTES, copy)


if __name__ == "__main__":
    main()
