"""The lineup document: the solver's answer as values, and as the JSON or TOML that other commands read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any

from ...arrays.geometry import Geometry, geometry
from ...arrays.levels import GeometryError
from ...errors import StripeError
from ...source import BlockSource
from .age import Age
from .alternative import Alternative
from .calibration import Signs
from .custody import Fingerprint, Seal
from .former import Former, Zone, Zoned, zones
from .four_verdicts import Verdicts, placed
from .held import Held
from .ledger import Entry, Ledger
from .other_parity import SecondParity
from .row_map import RowMap, opened
from .told_facts import Evidence, Note, Settles

if TYPE_CHECKING:
    from .known import Difference, Given

FORMAT = "faithful-stripe/lineup/1"


UNFIT = (KeyError, TypeError, ValueError, AttributeError, OverflowError)
"""What reading a document raises that is not made as ours are: something missing, of another kind, or out of bounds."""


class LineupError(StripeError):
    template = "{what}"
    remedy = "{to_do}"


DISPLACED = "displaced"
"""The kind of evidence that says what stands among the data belongs to another time."""


HALF = 0.5
"""The share of answers on the same signs that were right, from which on an undecided one is named."""


@dataclass(frozen=True)
class Lineup:
    """One array: its geometry, the images by position (None missing), and how sure that is.

    verdicts      how sure its order, its start, its members' currency and its bytes are
    best, next    evidence in nats for it and for the best different answer
    stale         images that are members, or copies of one, but out of date; seats: the positions of those that are
                  members, by image: where the rows add up, what they hold is right
    ages          how old what each member holds is by its file system's own times, where they were found
    signs         what it stands on, in figures, where it was found by comparing layouts; chance: the share of answers
                  on such signs whose order and start were right, as measured (`calibration`)
    ledger        what its score consists of, where layouts were compared; rival: that of the best different answer
    seals         hashes of all that its members held when everything was read, where it was
    rowmap        what a pass over everything found, where there was one
    alternatives  what the evidence cannot tell from this one
    settle        what would decide it; None when certain
    until         where on its images another array begins, in bytes; None where none is known to
    holds         what stands on the volume, where order and start were not left undecided
    former        the layout that rows behind some row still have, where members were added and that stopped midway
    """

    geometry: Geometry
    members: tuple[str | None, ...]
    verdicts: Verdicts
    best: float
    next: float
    evidence: tuple[Evidence, ...] = ()
    alternatives: tuple[Alternative, ...] = ()
    stale: tuple[str, ...] = ()
    settle: Settles | None = None
    seats: tuple[tuple[str, int], ...] = ()
    rowmap: RowMap | None = None
    ages: tuple[Age, ...] = ()
    seals: tuple[Seal, ...] = ()
    signs: Signs | None = None
    chance: float | None = None
    ledger: Ledger = ()
    rival: Ledger = ()
    holds: tuple[Held, ...] = ()
    until: int | None = None
    former: Former | None = None

    @property
    def verdict(self) -> str:
        """One word for all four verdicts: certain only where all of them are."""
        return self.verdicts.whole

    @property
    def strength(self) -> str:
        """How sure its order is, for what is looked for next."""
        return self.verdicts.strength

    @property
    def named(self) -> bool:
        """Whether it may be named as the answer: it is decided, or more answers on such signs were right than wrong."""
        return self.strength != "undecided" or (self.chance is not None and self.chance >= HALF)

    @property
    def seated(self) -> tuple[str | None, ...]:
        """The images by position, those that are out of date in their seats as well."""
        members = list(self.members)
        for name, position in self.seats:
            if members[position] is None:
                members[position] = name
        return tuple(members)

    @property
    def suspects(self) -> dict[int, float]:
        """The members, by position, that are known to be out of date somewhere, with the nats that their ages say."""
        told = {age.member: age.nats for age in self.ages}
        return {position: told.get(position, 0.0) for _name, position in self.seats}

    @property
    def volume_bytes(self) -> int:
        """Size of the volume: of one whose array grows, what it was until it has grown."""
        return (self.former or self).geometry.volume_bytes

    @property
    def zones(self) -> tuple[Zone, ...]:
        """The layouts in which the volume stands, one after the other: one, but where an array was growing."""
        return zones(self.geometry, self.former)

    def opened(self, members: Sequence[BlockSource | None]) -> BlockSource:
        """The volume over its members (in the order of `seated`), each used only where it is not at fault."""
        if self.former is None:
            return opened(self.geometry, members, self.rowmap)
        seen = [self.rowmap and zone.inward(self.rowmap) for zone in self.zones]
        sources = [opened(z.geometry, z.chosen(members), s) for z, s in zip(self.zones, seen, strict=True)]
        return Zoned(self.zones, sources, "recovered volume")

    def _spans(self) -> list[list[str | None]]:
        """The images by position, span by span; the mirrors of a RAID 10 are its spans."""
        chosen = self.geometry.layout
        width = chosen.copies if chosen.level == "RAID10" else chosen.span_members
        return [list(self.members[i : i + width]) for i in range(0, len(self.members), width)]

    def as_document(self) -> dict[str, Any]:
        return {
            **self.geometry.as_document(),
            "spans": self._spans(),
            "stale": list(self.stale),
            **({"seats": [{"image": name, "position": p} for name, p in self.seats]} if self.seats else {}),
            "verdict": self.verdict,
            "verdicts": self.verdicts.as_document(),
            "score": {
                "best": round(self.best, 1),
                "next": round(self.next, 1),
                **({"chance": round(self.chance, 4)} if self.chance is not None else {}),
            },
            **({"ledger": [e.as_document() for e in self.ledger]} if self.ledger else {}),
            **({"rival": [e.as_document() for e in self.rival]} if self.rival else {}),
            "evidence": [e.as_document() for e in self.evidence],
            "alternatives": [one.as_document() for one in self.alternatives],
            **({"former": self.former.as_document()} if self.former else {}),
            **({"until_bytes": self.until} if self.until is not None else {}),
            **({"holds": [one.as_document() for one in self.holds]} if self.holds else {}),
            **({"ages": [age.as_document() for age in self.ages]} if self.ages else {}),
            **({"seals": [seal.as_document() for seal in self.seals]} if self.seals else {}),
            **({"settle": self.settle.as_document()} if self.settle else {}),
            **({"map": self.rowmap.as_document()} if self.rowmap else {}),
        }


@dataclass(frozen=True)
class Claim:
    """A set-up that images carry.

    kind      what carries it, "DDF"
    name      of the volume in it
    images    that carry it
    verdict   "holds", "wrong", or "untested" where the data do not say enough
    wrong     what is wrong in it, in words
    states    what it states, in words
    """

    kind: str
    name: str
    images: tuple[str, ...]
    verdict: str
    wrong: tuple[str, ...]
    states: str


@dataclass(frozen=True)
class Solution:
    """What a pile holds: arrays found, images that belong to none, and what was read for it.

    trace   what each stage found, in order: (stage, text)
    images  what each image was when it was judged
    claims  set-ups that the images carry, held against the data
    given   what a person knew of an array; differences: where the images by themselves say otherwise
    unmet   whether nothing was found that is as given, and this is what the images say by themselves
    parities  arrays of which no more is known than that P matches, and what their second parity is
    """

    arrays: tuple[Lineup, ...]
    unused: tuple[str, ...]
    bytes_read: int = 0
    notes: tuple[Note, ...] = field(default=())
    trace: tuple[tuple[str, str], ...] = field(default=())
    claims: tuple[Claim, ...] = field(default=())
    images: tuple[Fingerprint, ...] = field(default=())
    given: Given | None = None
    differences: tuple[Difference, ...] = ()
    unmet: bool = False
    parities: tuple[SecondParity, ...] = ()

    def as_document(self) -> dict[str, Any]:
        return {
            "format": FORMAT,
            "arrays": [a.as_document() for a in self.arrays],
            "unused": list(self.unused),
            "images": [image.as_document() for image in self.images],
            "bytes_read": self.bytes_read,
            "notes": [note.as_document() for note in self.notes],
            "claims": [asdict(c) for c in self.claims],
            **({"given": self.given.as_document()} if self.given else {}),
            **({"differences": [asdict(d) for d in self.differences]} if self.differences else {}),
            **({"unmet": True} if self.unmet else {}),
            **({"second_parities": [p.as_document() for p in self.parities]} if self.parities else {}),
            "trace": [{"stage": stage, "says": says} for stage, says in self.trace],
        }


def read_document(document: object, where: str) -> Solution:
    """The solution in a parsed lineup document. Raises LineupError naming the place that is wrong."""
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        found = document.get("format") if isinstance(document, dict) else None
        raise _wrong(where, f"format: expected {FORMAT!r}, found {found!r}")
    arrays = document.get("arrays")
    if not isinstance(arrays, list) or not arrays:
        raise _wrong(where, "arrays: expected at least one, found none")
    made = tuple(_array(entry, f"{where}: array {i + 1}") for i, entry in enumerate(arrays))
    try:
        images = tuple(Fingerprint.from_document(image) for image in document.get("images", ()))
    except UNFIT as reason:
        raise _wrong(where, "images: not as `lineup solve --out` writes them") from reason
    return Solution(made, tuple(map(str, document.get("unused", ()))), images=images)


def _array(entry: object, where: str) -> Lineup:
    if not isinstance(entry, dict):
        raise _wrong(where, "expected a table")
    spans = entry.get("spans")
    if not isinstance(spans, list) or not spans or not all(isinstance(s, list) and s for s in spans):
        raise _wrong(where, "spans: expected one list of image names for each span")
    if len({len(span) for span in spans}) > 1:
        raise _wrong(where, "spans: every span needs as many images")
    members = tuple(None if name in (None, "") else str(name) for span in spans for name in span)
    twice = next((n for n in members if n is not None and members.count(n) > 1), None)
    if twice is not None:
        raise _wrong(where, f"spans: {twice} is there twice")
    q = entry.get("q") or {}
    if not isinstance(q, dict) or not set(q) <= {"place", "exponent"}:
        raise _wrong(where, f"q: expected place and exponent, found {q!r}")
    level = _typed(entry, "level", str, where)
    mirrored = level == "RAID10" and len(spans) > 1
    try:
        made = geometry(
            level,
            len(members),
            _typed(entry, "strip_bytes", int, where),
            member_bytes=_sizes(entry, "member_bytes", where),
            start_bytes=_sizes(entry, "start_bytes", where),
            rotation=entry.get("rotation") or None,
            data=entry.get("data") or None,
            spans=len(spans) if len(spans) > 1 and not mirrored else None,
            copies=len(spans[0]) if mirrored else None,
            q_place=q.get("place"),
            q_exponent=q.get("exponent"),
            turn_rows=_typed(entry, "turn_rows", int, where) if "turn_rows" in entry else 1,
            spare=entry.get("spare") or None,
            outer=entry.get("outer") or "row",
            odd_strips=True,
        )
    except GeometryError as reason:
        raise _wrong(where, reason.what) from reason
    score: dict[str, Any] = entry["score"] if isinstance(entry.get("score"), dict) else {}
    try:
        told = {name: float(score[name]) for name in ("best", "next", "chance") if name in score}
        verdicts = (
            Verdicts.from_document(entry["verdicts"])
            if "verdicts" in entry
            else placed("undecided" if entry.get("verdict") not in ("probable", "certain") else "probable")
        )  # a claim typed by hand is at most that
        rowmap = RowMap.from_document(entry["map"]) if "map" in entry else None
        ages = tuple(Age.from_document(age) for age in entry.get("ages", ()))
        seals = tuple(Seal.from_document(seal) for seal in entry.get("seals", ()))
        seats = tuple((str(seat["image"]), int(seat["position"])) for seat in entry.get("seats", ()))
        evidence = tuple(Evidence.from_document(e) for e in entry.get("evidence", ()))
        settle = Settles.from_document(entry["settle"]) if isinstance(entry.get("settle"), dict) else None
        others = tuple(Alternative.from_document(a) for a in entry.get("alternatives", ()) if isinstance(a, dict))
        ledger, rival = (tuple(Entry.from_document(e) for e in entry.get(key, ())) for key in ("ledger", "rival"))
        until = int(entry["until_bytes"]) if "until_bytes" in entry else None
        former = Former.from_document(entry["former"], made) if "former" in entry else None
    except (*UNFIT, GeometryError) as reason:
        raise _wrong(
            where,
            "verdicts, score, ledger, evidence, alternatives, settle, map, ages, seals, seats or former: not as "
            "`lineup solve --out` writes them",
        ) from reason
    stated = [*(position for _name, position in seats), *(a.member for a in ages)]
    if any(not 0 <= position < len(members) for position in stated):
        raise _wrong(where, "seats or ages: a position that there is not")
    return Lineup(
        geometry=made,
        members=members,
        verdicts=verdicts,
        best=told.get("best", 0.0),
        next=told.get("next", 0.0),
        chance=told.get("chance"),
        ledger=ledger,
        rival=rival,
        evidence=evidence,
        alternatives=others,
        settle=settle,
        stale=tuple(map(str, entry.get("stale", ()))),
        seats=seats,
        rowmap=rowmap,
        ages=ages,
        seals=seals,
        until=until,
        former=former,
    )


def _typed(entry: dict[str, Any], key: str, kind: type, where: str) -> Any:
    value = entry.get(key)
    if not isinstance(value, kind) or isinstance(value, bool):
        raise _wrong(where, f"{key}: expected {kind.__name__}, found {value!r}")
    return value


def _sizes(entry: dict[str, Any], key: str, where: str) -> int | tuple[int, ...]:
    value = entry.get(key)
    values: Sequence[object] = value if isinstance(value, list) else [value]
    if not values or not all(isinstance(v, int) and not isinstance(v, bool) and v >= 0 for v in values):
        raise _wrong(where, f"{key}: expected bytes, found {value!r}")
    return tuple(int(str(v)) for v in values) if isinstance(value, list) else int(str(value))


def _wrong(where: str, what: str) -> LineupError:
    return LineupError(what=f"{where}: {what}", to_do="correct the lineup file")
