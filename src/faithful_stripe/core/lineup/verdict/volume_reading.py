"""Verdict: the best hypothesis read as a volume, what holds there, how far it leads, and how sure that makes it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ...arrays.engine import SECTOR, Array
from ...arrays.geometry import Geometry
from ...ranges import Range
from ...source import BlockSource
from ..document.ledger import Entry, Kind, Ledger, total
from ..document.told_facts import Evidence, What
from ..evidence.row_tests import CopyTest, differs, test_copies, test_sectors
from ..hypotheses.as_volume import final_layout, rebuilt
from ..hypotheses.assignment import Hypothesis
from ..hypotheses.standing_facts import held_facts
from ..reading.samples import BLOCK, Pile
from ..structures import ext_anchors as ext
from ..structures.anchors import Anchors
from ..structures.carved_files import Carved, length_if_sound
from ..structures.volume_walk import Expected, Proof, linked_directories, prove_ext4

Int64 = npt.NDArray[np.int64]

MARGIN_NATS, TOTAL_NATS = 12.0, 25.0
"""What `certain` needs beside a proof: lead over the next different answer, and evidence in all."""


PROBABLE_NATS = 4.0
MOST_FILES, MOST_SPREAD = 60, 128
"""Files that are carved, and places in a file that fails at which its rows are tested, at most."""

TESTED_ROWS = 64

PLENTY_WALKED, PLENTY_HELD, SURE_SHARE = 100, 40, 0.95
"""So many checksums of the file system, or facts kept out of the search of which nearly all hold, outweigh those of
files, which programs change and file systems scatter."""

LEAST_LINKED = 8
"""Directories that must be where their inodes say to show that an ext file system without checksums is read right."""

LEAST_HELD, HELD_SHARE = 6, 0.75
"""Facts that were kept out of the search and must stand where the answer puts them: fewest, and their share."""


@dataclass
class Findings:
    """What was read in a rebuilt volume.

    proof          structures of the file system, walked
    held, tested   facts kept out of the search that stand where they should, of those tested
    copies         the rows of copies that were tested
    wrapped        of the sound ones, how many go on from one row into the next
    too_small      whether a file system in it is larger than the volume
    files, broken  files with a checksum of their own that lie over several strips: sound, and not
    linked, unlinked  directories without a checksum that stand where their inodes say, and that do not
    excused        of the structures that fail, those in rows that do not match: whoever is at fault there, and whatever
                   the order is, they are not what was written
    """

    proof: Proof = field(default_factory=Proof)
    held: int = 0
    tested: int = 0
    files: int = 0
    broken: int = 0
    wrapped: int = 0
    too_small: bool = False
    copies: CopyTest = field(default_factory=CopyTest)
    linked: int = 0
    unlinked: int = 0
    excused: int = 0

    @property
    def failures(self) -> int:
        """What fails in the file systems where nothing but the answer can be at fault."""
        return self.proof.failures - self.excused

    @property
    def holds(self) -> bool:
        walked = self.proof.passes >= 8 and self.failures <= 0.03 * self.proof.passes
        kept = self.held >= LEAST_HELD and self.held >= HELD_SHARE * self.tested
        files = self.files >= 3 and self.wrapped >= 1
        plenty = (walked and self.proof.passes >= PLENTY_WALKED) or (
            self.held >= PLENTY_HELD and self.held >= SURE_SHARE * self.tested
        )
        broken = self.files_fail and not plenty
        return (walked or kept or files) and not self.contradicted and not broken

    @property
    def speaks_against(self) -> bool:
        """Whether anything that was read in the volume does."""
        against = self.failures > 0 or self.held < self.tested or self.copies.broken > 0 or self.unlinked > 0
        return against or self.files_fail or self.contradicted

    @property
    def files_fail(self) -> bool:
        """Whether most files with a checksum of their own that lie over several strips fail."""
        return self.broken >= 3 and self.files < 0.5 * (self.files + self.broken)

    @property
    def kept_fail(self) -> bool:
        """Whether more of the facts that were kept out of the search stand elsewhere than a proof may leave."""
        return self.tested >= LEAST_HELD and self.held < HELD_SHARE * self.tested and not self._in_place

    @property
    def _in_place(self) -> bool:
        """Where directories are in their places, structures elsewhere are copies, whose originals were not read."""
        return self.linked >= LEAST_LINKED and self.unlinked <= 0.03 * self.linked

    @property
    def contradicted(self) -> bool:
        bad_walk = self.failures > 0.03 * max(1, self.proof.passes)
        bad_facts = self.tested >= LEAST_HELD and self.held < 0.4 * self.tested and not self._in_place
        bad_rows = self.copies.unexplained > 0.2 * max(1, self.copies.tested)
        return bad_walk or bad_facts or bad_rows or self.too_small

    def entries(self) -> Ledger:
        """Evidence for the hypothesis in what was read: facts in many places are not independent, so it is damped."""
        passes, failures, copies = self.proof.passes, self.failures, self.copies
        walk = min(30.0, 0.3 * passes) - min(60.0, 2.0 * failures)
        linked = min(15.0, 0.3 * self.linked) - min(30.0, 1.0 * self.unlinked)
        return (
            Entry(Kind.WALKED, walk, passes, failures),
            Entry(Kind.KEPT_OUT, 2.0 * self.held - 1.0 * (self.tested - self.held), self.held, self.tested - self.held),
            Entry(Kind.FILES, 3.0 * min(self.files, 20) - 1.0 * min(self.broken, 20), self.files, self.broken),
            Entry(Kind.DIRECTORIES, linked, self.linked, self.unlinked),
            Entry(Kind.ROWS, -2.0 * min(40, copies.broken), copies.tested - copies.broken, copies.broken),
            Entry(Kind.SIZE, -40.0 * self.too_small, 0, int(self.too_small)),
        )

    @property
    def nats(self) -> float:
        """What all of that weighs."""
        return total(self.entries())

    def evidence(self) -> list[Evidence]:
        """What was read, fact by fact, as it is told."""
        away = self.tested - self.held
        found = [Evidence("proof", c, What.CORRECT, name=kind) for kind, c in self.proof.held.items()]
        proofs = (
            Evidence("proof", self.held, What.KEPT_OUT, self.tested),
            Evidence("proof", self.linked, What.DIRECTORIES),
            Evidence("proof", self.files, What.FILES),
        )
        found += [one for one in proofs if one.count]
        found += [Evidence("failing", c, What.WRONG, name=kind) for kind, c in self.proof.failed.items()]
        against = (
            Evidence("silent", self.excused, What.EXCUSED),
            Evidence("against", away, What.ELSEWHERE),
            Evidence("against", self.unlinked, What.DIRECTORIES_ELSEWHERE),
            Evidence("against", self.copies.broken, What.COPIES_DIFFER, self.copies.tested),
            Evidence("against", self.broken, What.FILES_FAIL),
        )
        return [*found, *(one for one in against if one.count)]


def walked(volume: BlockSource, grounds: Sequence[tuple[Anchors, int]]) -> Proof:
    """What the file systems that have checksums prove about a volume, each walked from where it starts."""
    proof = Proof()
    for anchors, base in grounds:
        facts = anchors.ground.facts
        if isinstance(facts, ext.Facts) and facts.sb.checksums and facts.groups is not None:
            part = prove_ext4(volume, base, 4000, 24, known=(facts.sb, facts.groups))
            for kind in dict.fromkeys((*part.held, *part.failed)):
                proof.note(kind, part.held.get(kind, 0), part.failed.get(kind, 0))
            proof.wrong += part.wrong
            proof.broken += part.broken
    return proof


def read_volume(
    h: Hypothesis,
    pile: Pile,
    grounds: Sequence[tuple[Anchors, int]],
    kept_out: Sequence[tuple[Anchors, int]],
    carved: Sequence[Carved],
) -> Findings:
    """Read the volume of a hypothesis for what proves or refutes it.

    grounds   the file systems in it, with where each starts in the volume
    kept_out  facts that were not used to find it, likewise
    """
    found = Findings()
    volume = rebuilt(h, pile)
    found.proof = walked(volume, grounds)
    failing, files = _in_closed_rows(volume, found.proof)
    found.excused = len(found.proof.wrong) + len(found.proof.broken) - len(failing) - len(files)
    found.proof.wrong, found.proof.broken = failing, files
    for anchors, base in kept_out:
        whole = next((a for a, _base in grounds if a.ground is anchors.ground), anchors)
        held, tested = held_facts(h, anchors, base, whole)
        found.held += held
        found.tested += held if anchors.ground.guessed else tested
    found.too_small = any(base + a.ground.size > 1.01 * volume.size for a, base in grounds if not a.ground.table)
    blocks = {
        a.ground.facts.sb.block for a, _base in grounds
        if isinstance(a.ground.facts, ext.Facts) and "indirect block" in a.ground.kinds
    }  # fmt: skip
    for anchors, base in grounds:
        facts = anchors.ground.facts
        if isinstance(facts, ext.Facts) and not facts.sb.checksums and facts.groups is not None:
            numbers = set[int]().union(*(facts.listing.get(i, ()) for i in h.candidate.images))
            good, bad = linked_directories(volume, base, facts.sb, facts.groups, numbers)
            found.linked, found.unlinked = found.linked + good, found.unlinked + bad
    _files(found, h, volume, carved, sorted(blocks))
    if h.candidate.level == "RAID1E":  # its copies stand in different rows: no relation has tested them yet
        found.copies = test_copies(volume, TESTED_ROWS)
    return found


def _in_closed_rows(volume: Array, proof: Proof) -> tuple[list[Expected], list[list[Range]]]:
    """The structures and the files that fail, without those that stand, in part at least, on bytes that are not what
    the rest of their row computes. That tells damage from an order that is wrong, under which rows match all the same.
    """
    wrong, broken = proof.wrong, proof.broken
    made = volume.geometry
    if not made.redundant:
        return wrong, broken
    known: dict[tuple[int, int], bool] = {}

    def open_at(at: int) -> bool:
        if not 0 <= at < volume.size:
            return False
        who, offset = (int(x) for x in made.to_member(at))
        where = (who, offset // SECTOR)
        if where not in known:
            row, inner = divmod(offset // SECTOR * SECTOR - made.start_bytes[who], made.strip_bytes)
            known[where] = differs(volume, who, row, inner)
        return known[where]

    closed = [
        one for one in wrong if not any(open_at(at) for at in range(one.address, one.address + one.length, SECTOR))
    ]
    files = [one for one in broken if not any(open_at(at) for at in _spread(one))]
    if len(closed) + len(files) < len(wrong) + len(broken):  # with P and Q, most rows do not match under another order
        tested, failing = test_sectors(volume, CONTROL_ROWS)
        if failing >= MOST_BROKEN * tested:
            return wrong, broken
    return closed, files


def _spread(places: Sequence[Range]) -> list[int]:
    """Places in a file at which its rows are tested: each of its blocks, or as many all over it."""
    blocks = [at for first, end in places for at in range(first, end, BLOCK)]
    return blocks[:: max(1, -(-len(blocks) // MOST_SPREAD))]


CONTROL_ROWS, MOST_BROKEN = 96, 0.5
"""Rows of which a sector is tested, and the share that may be broken for what fails in such rows to say nothing."""


def _files(
    found: Findings, h: Hypothesis, volume: BlockSource, carved: Sequence[Carved], blocks: Sequence[int]
) -> None:
    chosen, members = final_layout(h)
    position = {image: p for p, image in enumerate(members) if image is not None}
    images = set(h.candidate.images)
    mine = [c for c in carved if c.image in images]
    step = max(1, len(mine) // MOST_FILES)
    made = Geometry(chosen, h.strip, (h.start,) * len(members), (1 << 60,) * len(members))
    for one in mine[::step]:  # the same files whichever of the images are left out
        if one.image not in position:
            continue
        at = int(made.to_volume(position[one.image], one.offset))
        if at < 0 or at >= volume.size:
            continue
        length = length_if_sound(volume, at, one.kind, blocks)
        if not length:
            found.broken += 1
        elif at // h.strip != (at + length - 1) // h.strip:
            found.files += 1
            per_row = max(1, chosen.pattern().strips // chosen.pattern().rows) * h.strip
            found.wrapped += at // per_row != (at + length - 1) // per_row
