"""What an answer tells, as facts: its evidence, what would settle it, and notes on the search. Words are made of them
where they are shown."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any


class What(StrEnum):
    """What is counted as evidence."""

    RELATED = "related"
    """Places at which images are related: `of` places, `images`, `name` of the relation."""
    COPIES_EQUAL = "copies-equal"
    """Places at which all copies are equal: `of` places."""
    STANDING = "standing"
    """Structures that stand where they say: `name`, those of each file system by kind."""
    STANDING_IN_MIRROR = "standing-in-mirror"
    """Structures that stand where a plain mirror puts them: `of` structures."""
    STANDING_IN_SPAN = "standing-in-span"
    """Structures at one distance from the address they state: `name` of their file systems."""
    KEPT_OUT = "kept-out"
    """Structures kept out of the search that stand where they say: `of` structures."""
    CORRECT = "correct"
    """Structures whose checksum is right in the volume: `name` of their kind."""
    WRONG = "wrong"
    """Structures whose checksum is wrong in the volume: `name` of their kind."""
    DIRECTORIES = "directories"
    """Directories that stand where their inodes say."""
    DIRECTORIES_ELSEWHERE = "directories-elsewhere"
    """Directories that do not."""
    FILES = "files"
    """Files over several strips whose own checksum holds."""
    FILES_FAIL = "files-fail"
    """Files over several strips whose own checksum fails."""
    FILES_OVER_TWO = "files-over-two"
    """Files over two members of a span whose own checksum holds."""
    EXCUSED = "excused"
    """Of what is wrong, what stands in rows that do not match."""
    ELSEWHERE = "elsewhere"
    """Structures that stand elsewhere than they say."""
    COPIES_DIFFER = "copies-differ"
    """Rows whose copies differ: `of` rows."""
    DISPLACED = "displaced"
    """Superblocks among the data, where they do not belong."""
    EQUAL_BEHIND = "equal-behind"
    """Places behind the end that are equal on one pair."""
    TWICE_THERE = "twice-there"
    """Blocks before `row` that the layout with fewer members, `images`, has further behind."""
    FORMER_STRUCTURES = "former-structures"
    """Structures from `row` on that stand right in the layout with fewer members, `images`."""
    OTHER_Q = "other-q"
    """Places at which P matches, and Q is counted over another polynomial: its `name`."""


@dataclass(frozen=True)
class Evidence:
    """One kind of evidence.

    kind   what it is good for: "proof", "against", "membership" and others
    count  how many facts of it; of: of how many, where that is known
    what   what is counted; name, images, row: as it says
    """

    kind: str
    count: int
    what: What | None = None
    of: int = 0
    name: str = ""
    images: int = 0
    row: int = 0

    def as_document(self) -> dict[str, Any]:
        told = {"of": self.of, "name": self.name, "images": self.images, "row": self.row}
        what = {} if self.what is None else {"what": str(self.what)}
        return {"kind": self.kind, "count": self.count, **what, **{key: value for key, value in told.items() if value}}

    @classmethod
    def from_document(cls, told: dict[str, Any]) -> Evidence:
        """Raises KeyError, TypeError, ValueError where it is not one."""
        what = What(told["what"]) if "what" in told else None
        numbers = {key: int(told.get(key, 0)) for key in ("of", "images", "row")}
        return cls(str(told["kind"]), int(told["count"]), what, name=str(told.get("name", "")), **numbers)


class Settle(StrEnum):
    """What would decide an answer that is not certain."""

    EQUAL_RIVAL = "equal-rival"
    """Another answer is as good."""
    RIVAL = "rival"
    """Another answer is nearly as good."""
    OTHER_TIME = "images-of-another-time"
    """Many rows do not match, and nobody is known to be at fault."""
    ELIMINATION = "placed-by-elimination"
    """Nothing on some images says where they belong: `images`."""
    FAILING = "checksums-fail"
    EXCHANGE = "files-fail"
    """Files fail on members that nothing else places."""
    COUNT = "how-many-members"
    START = "where-it-begins"
    Q_RULE = "how-q-is-counted"
    GUESSED = "counters-of-unknown-format"
    A_FILE = "a-known-file"
    """Much speaks for it, and as much for the next answer."""
    MORE_DATA = "more-data"
    UNTRIED = "not-all-was-tried"
    STOPPED = "stopped"
    NO_ADDRESS = "no-address"
    """Nothing on related images states an address."""
    READABLE = "a-readable-file-system"
    """Of a mirror."""
    LARGER = "file-system-larger-than-mirror"
    BESIDE = "images-beside-the-mirror"
    EMPTY_HEADS = "empty-heads"
    PERHAPS_STRIPED = "perhaps-striped"
    WRITTEN_LAST = "which-was-written-last"
    PERHAPS_SETS = "perhaps-sets-of-one"
    """Other mirrors of the same size may be sets of one RAID 10."""
    SPAN_FAILING = "span-checksums-fail"
    SPAN_LACKS = "span-lacks-a-part"
    SPAN_BY_SIZE = "span-by-size-alone"
    SPAN_START = "span-start"
    SPAN_FEW = "span-told-by-few"


@dataclass(frozen=True)
class Settles:
    """What would settle an answer, and the images it is about, if about some."""

    what: Settle
    images: tuple[str, ...] = ()

    def as_document(self) -> dict[str, Any]:
        return {"what": str(self.what), **({"images": list(self.images)} if self.images else {})}

    @classmethod
    def from_document(cls, told: dict[str, Any]) -> Settles:
        """Raises KeyError, TypeError, ValueError where it is not one."""
        return cls(Settle(told["what"]), tuple(map(str, told.get("images", ()))))


class Remark(StrEnum):
    """What is to be said of a search."""

    STOPPED = "stopped"
    STOPPED_EARLY = "stopped-while-read"
    GAVE_UP = "less-likely-not-tried"
    UNREADABLE = "unreadable"
    """`count` blocks could not be read."""
    PIECES = "pieces"
    """`count` files are pieces or maps of other images."""
    IMAGED_TWICE = "imaged-twice"
    """`images` are each several images of one drive."""
    PART_COPY = "part-copy"
    """`images` hold a copy of the volume from byte `count` on."""
    PARITY_MOVES = "parity-moves"
    """Parity stands `count` bytes on each of `images` in turn, of which no array is decided."""


@dataclass(frozen=True)
class Note:
    """A remark, with the images and the number it is about."""

    what: Remark
    images: tuple[str, ...] = ()
    count: int = 0

    def as_document(self) -> dict[str, Any]:
        images = {"images": list(self.images)} if self.images else {}
        return {"what": str(self.what), **images, **({"count": self.count} if self.count else {})}
