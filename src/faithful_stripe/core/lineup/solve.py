"""Solving a pile: membership, anchors, hypotheses, proof, verdict, in that order."""

from __future__ import annotations

from collections.abc import Callable

from ..arrays.engine import Array
from .anchors import Anchors, find_anchors
from .document import Evidence, Lineup, Solution
from .hypotheses import Hypothesis, empty_cells, hypotheses, rank, swapped
from .membership import Membership, memberships
from .partitions import COMMON_STARTS, partition_starts
from .proof import Proof, prove_ext4
from .samples import Pile

MARGIN_NATS, TOTAL_NATS = 12.0, 25.0
"""What `certain` needs beside a proof: lead over the next different answer, and evidence in all."""

PROBABLE_NATS = 4.0

Tell = Callable[[str], None]


def solve(pile: Pile, tell: Tell = lambda _text: None) -> Solution:
    """Find the arrays in a pile.

    tell  is told what is being looked at, for a person who waits
    """
    tell("which images belong together")
    groups = memberships(pile)
    anchors = find_anchors(pile, tell)
    bases = sorted({*COMMON_STARTS, *partition_starts(pile)})
    found: list[Lineup] = []
    taken: set[int] = set()
    for group in groups:
        tell(f"order of {len(group.images)} images that belong together")
        made = _mirror(pile, group, anchors, bases) if group.mirrors else _parity(pile, group, anchors, bases)
        found.append(made)
        taken |= set(group.images)
    for fs in anchors:
        rest = sorted({int(i) for i in fs.image} - taken)
        if len(rest) > 1:
            tell(f"order of {len(rest)} images with parts of one file system")
            loose = _without_parity(pile, rest, fs, bases)
            if loose:
                found.append(loose)
                taken |= set(rest)
    unused = tuple(pile.names[i] for i in range(len(pile)) if i not in taken)
    notes = (f"{pile.unreadable} blocks could not be read",) if pile.unreadable else ()
    return Solution(tuple(found), unused, pile.bytes_read, notes)


def _parity(pile: Pile, group: Membership, anchors: list[Anchors], bases: list[int]) -> Lineup:
    """A complete group that adds up to zero: RAID 5."""
    cells = empty_cells(pile, group.images)
    tried: list[tuple[Hypothesis, Anchors]] = []
    for fs in anchors:
        tried += [(h, fs) for h in hypotheses("RAID5", group.images, 0, fs, bases, cells)]
    closing = Evidence(
        "membership",
        group.closing,
        f"blocks on which these {len(group.images)} images add up to zero, of {group.blocks}",
    )
    if not tried:
        return _members_only(pile, group, closing)
    return _conclude(pile, tried, [closing], group.open)


def _without_parity(pile: Pile, images: list[int], fs: Anchors, bases: list[int]) -> Lineup | None:
    """Images that share a file system but close no parity: RAID 0, or RAID 5 with one member missing."""
    tried = [(h, fs) for h in hypotheses("RAID0", images, 0, fs, bases, None)]
    tried += [(h, fs) for h in hypotheses("RAID5", images, 1, fs, bases, None)]
    return _conclude(pile, tried, []) if tried else None


def _mirror(pile: Pile, group: Membership, anchors: list[Anchors], bases: list[int]) -> Lineup:
    """Copies of one another: RAID 1. Their order cannot be told and does not matter."""
    order = group.images
    hypothesis = Hypothesis("RAID1", 65536, None, None, 0, 0, order, 0.0, 0.0, 0)
    evidence = [Evidence("membership", group.closing, f"blocks on which all copies are equal, of {group.blocks}")]
    proof = Proof()
    array = _array(pile, hypothesis)
    known = any(set(fs.image.tolist()) & set(order) for fs in anchors)
    if known:
        proof = max((prove_ext4(array, base) for base in bases), key=lambda p: (p.holds, p.passes))
        evidence += _proof_evidence(proof)
    equal = group.open == 0
    sure = proof.holds and equal
    part = known and not proof.holds
    settle = "" if sure else "a file system that can be read, or the controller's own configuration"
    if part:
        settle = "parts of a file system are there, but it does not read as a plain mirror: perhaps a striped one"
    elif not equal:
        settle = "the copies differ in places: find out which was written last"
    return Lineup(
        geometry=array.geometry,
        members=tuple(pile.names[i] for i in order),
        verdict="certain" if sure else "undecided" if part else "probable",
        best=float(group.closing),
        next=0.0,
        evidence=tuple(evidence),
        alternatives=(
            "the members are interchangeable: any order gives the same volume; the strip size has no effect",
        ),
        settle=settle,
    )


def _members_only(pile: Pile, group: Membership, closing: Evidence) -> Lineup:
    """Membership known, order not."""
    unknown = Hypothesis("RAID5", 65536, "parity-N", "continuation", 0, 0, group.images, 0.0, 0.0, 0)
    return Lineup(
        geometry=_array(pile, unknown).geometry,
        members=tuple(pile.names[i] for i in group.images),
        verdict="undecided",
        best=0.0,
        next=0.0,
        evidence=(closing,),
        alternatives=("any order, strip size and rotation of these members",),
        settle="nothing on them states its own address: a known file's contents or the controller's configuration",
    )


def _conclude(
    pile: Pile, tried: list[tuple[Hypothesis, Anchors]], evidence: list[Evidence], open_blocks: int = 0
) -> Lineup:
    """Rank, prove, and say how sure that is.

    open_blocks  sampled blocks on which the parity of the group does not close
    """
    by_hypothesis = dict(tried)
    best, other, next_score = rank(list(by_hypothesis))
    fs = by_hypothesis[best]
    proof = prove_ext4(_array(pile, best), best.base)
    rivals = [h for h in (other, swapped(best)) if h is not None]
    refuses = all(prove_ext4(_array(pile, h), h.base).failures for h in rivals)
    kinds = ", ".join(f"{count} {kind}" for kind, count in fs.kinds.items())
    says = f"strips in which structures that state their own address stand where this lineup puts them ({kinds} found)"
    evidence = [*evidence, Evidence("anchors", best.cells, says), *_proof_evidence(proof)]
    lead = best.score - next_score
    enough = lead > MARGIN_NATS and best.score > TOTAL_NATS
    certain = proof.holds and refuses and enough and open_blocks == 0
    verdict = "certain" if certain else "probable" if lead > PROBABLE_NATS and not proof.failures else "undecided"
    alternatives: list[str] = []
    if verdict == "undecided" and other is not None:
        alternatives.append(_words(pile, other))
    settle = "" if certain else _settle(proof, lead, refuses, open_blocks)
    return Lineup(
        geometry=_array(pile, best).geometry,
        members=tuple(None if i is None else pile.names[i] for i in best.order),
        verdict=verdict,
        best=best.score,
        next=max(0.0, next_score),
        evidence=tuple(evidence),
        alternatives=tuple(alternatives),
        settle=settle,
    )


def _settle(proof: Proof, lead: float, refuses: bool, open_blocks: int) -> str:
    if open_blocks:
        return (
            f"parity does not close on {open_blocks} sampled blocks: a member is out of date, or was never initialized"
        )
    if proof.failures:
        return "checksums fail under the best answer: a member may be missing, stale or foreign"
    if not refuses:
        return "the proof would pass for another answer too: more data, or files with their own checksum"
    if lead <= MARGIN_NATS:
        return f"another answer is only {max(0.0, lead):.0f} nats behind: more structures that state their address"
    return "too little was found: more data on the volume, or the controller's own configuration"


def _proof_evidence(proof: Proof) -> list[Evidence]:
    found = [Evidence("proof", count, f"{kind} correct in the rebuilt volume") for kind, count in proof.held.items()]
    return found + [
        Evidence("against", count, f"{kind} wrong in the rebuilt volume") for kind, count in proof.failed.items()
    ]


def _array(pile: Pile, hypothesis: Hypothesis) -> Array:
    known = [pile.sources[i].size for i in hypothesis.order if i is not None]
    unit = hypothesis.strip
    extent = max(unit, (min(known) - hypothesis.start) // unit * unit)
    members = [None if i is None else pile.sources[i] for i in hypothesis.order]
    return Array(hypothesis.geometry(extent), members, name="rebuilt volume")


def _words(pile: Pile, h: Hypothesis) -> str:
    order = ", ".join("missing" if i is None else pile.names[i] for i in h.order)
    return f"{h.level}, strip {h.strip}, {h.rotation or '-'} {h.data or ''}: {order} (score {h.score:.0f})"
