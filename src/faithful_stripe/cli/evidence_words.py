"""Words for what an answer tells: evidence, what fits as well, what would settle it, and notes on the search."""

from __future__ import annotations

from ..core.lineup.document.alternative import Alike, Alternative
from ..core.lineup.document.told_facts import Evidence, Note, Remark, Settle, Settles, What
from .lineup_words import layout_words

RELATIONS = {
    "sum": "members of one parity group",
    "two": "members of one group with P and Q",
    "two less one": "members of one group with P and Q, one of which is missing",
    "copies": "copies of one another",
    "ring": "neighbours that hold the same a strip further on (RAID 1E)",
    "open ring": "neighbours that hold the same a strip further on, but for a gap (RAID 1E)",
    "chain": "neighbours that share every other row (RAID 1E)",
}

SAYS = {
    What.RELATED: "places at which {images} images are related as {name}, of {of}",
    What.COPIES_EQUAL: "places at which all copies are equal, of {of}",
    What.STANDING: "structures that state their own address stand where this lineup puts them ({name})",
    What.STANDING_IN_MIRROR: "structures stand where a plain mirror puts them, of {of}",
    What.STANDING_IN_SPAN: "structures of {name} stand at one distance from their address",
    What.KEPT_OUT: "structures kept out of the search stand where this lineup puts them, of {of}",
    What.CORRECT: "{name} correct in the rebuilt volume",
    What.WRONG: "{name} wrong in the rebuilt volume",
    What.DIRECTORIES: "directories stand where their inodes say",
    What.DIRECTORIES_ELSEWHERE: "directories are not where their inodes say",
    What.FILES: "files over several strips whose own checksum holds",
    What.FILES_FAIL: "files over several strips whose own checksum fails (those in pieces do)",
    What.FILES_OVER_TWO: "files over two members whose own checksum holds",
    What.EXCUSED: "of what is wrong, stands in rows that do not match: it says nothing of the order",
    What.ELSEWHERE: "structures that stand elsewhere than they say (copies in journals and parity of sparse rows do)",
    What.COPIES_DIFFER: "rows whose copies differ, of {of}",
    What.DISPLACED: "superblocks stand among the data where they do not belong",
    What.EQUAL_BEHIND: "places behind the end are equal on one pair: perhaps a last row",
    What.TWICE_THERE: "blocks just before row {row} hold what the layout with {images} members has further behind",
    What.FORMER_STRUCTURES: "structures from row {row} on stand where the layout with {images} members puts them",
    What.OTHER_Q: "places at which P matches; Q is counted over another polynomial, {name}, and is not used",
}


def says(evidence: Evidence) -> str:
    """What a kind of evidence says; "" of a file in which that is not told."""
    if evidence.what is None:
        return ""
    name = RELATIONS.get(evidence.name, evidence.name) if evidence.what is What.RELATED else evidence.name
    return SAYS[evidence.what].format(of=evidence.of, name=name, images=evidence.images, row=evidence.row)


SETTLES = {
    Settle.EQUAL_RIVAL: "another answer is equally good: more structures that state their address",
    Settle.RIVAL: "another answer is nearly as good: more structures that state their address",
    Settle.OTHER_TIME: "many rows do not match, and nobody is known to be at fault: images of the members from another "
    "time",
    Settle.ELIMINATION: "nothing on {images} says where it belongs: it stands where a place was left",
    Settle.FAILING: "checksums fail under the best answer: a member may be missing, stale or foreign",
    Settle.EXCHANGE: "files fail of which parts stand on members that nothing else places: a known file's contents",
    Settle.COUNT: "how many members there are: all that was found is in the first rows",
    Settle.START: "where the volume begins: what it started with, or the controller's own configuration",
    Settle.Q_RULE: "how Q is counted: the controller's own configuration",
    Settle.GUESSED: "only counters of an unknown format speak for it: a known file's contents",
    Settle.A_FILE: "something that sets this answer apart from the next one: a known file's contents",
    Settle.MORE_DATA: "too little was found: more data on the volume, or the controller's own configuration",
    Settle.UNTRIED: "not all that could be as good was tried, for the time ran out: the same search with more of it",
    Settle.STOPPED: "the same search, not stopped",
    Settle.NO_ADDRESS: "nothing on them states its own address: a known file's contents or the controller's "
    "configuration",
    Settle.READABLE: "a file system that can be read, or the controller's own configuration",
    Settle.LARGER: "the file system on them is larger than they are: they are copies of a part of it only",
    Settle.BESIDE: "whether the images of the same size beside them are members, too: the controller's own "
    "configuration",
    Settle.EMPTY_HEADS: "the heads of the images are empty, and nothing tells where the data began: what the volume "
    "started with",
    Settle.PERHAPS_STRIPED: "parts of a file system are there, but it does not read as a plain mirror: perhaps a "
    "striped one",
    Settle.WRITTEN_LAST: "the copies differ in places: find out which was written last",
    Settle.PERHAPS_SETS: "other mirrors of the same size are here, too: they may be sets of one RAID 10; what is known "
    "of the server",
    Settle.SPAN_FAILING: "checksums fail in the volume: a member may be another one's",
    Settle.SPAN_LACKS: "a part of the volume is on no image: how many members that is, nothing tells",
    Settle.SPAN_BY_SIZE: "what stands where no structure does: a member's place is told by its size alone",
    Settle.SPAN_START: "where the volume starts: its first structures, or the controller's own configuration",
    Settle.SPAN_FEW: "more structures that state their address: a member's place is told by few",
}


def settles(told: Settles | None) -> str:
    """What would settle an answer; "" for one that is settled."""
    return "" if told is None else SETTLES[told.what].format(images=", ".join(told.images))


ALIKE = {
    Alike.ANY_ORDER: "the members are interchangeable: any order gives the same volume; the strip size has no effect",
    Alike.ANY_LAYOUT: "any order, strip size and rotation of these members",
    Alike.OTHER_IMAGES: "other images, or the same ones in another order, fill the volume as well",
    Alike.MATES: "what was imaged twice may be mates of a mirror whose other sets lack theirs: the volume is the same",
}


def alike(told: Alternative) -> str:
    """What fits as well as an answer."""
    if (shape := told.shape) is None:
        return ALIKE[told.what]
    made = shape.layout
    q = [made.q_place, made.q_exponent] if made.q_place else []
    facts = [made.level, f"strip {shape.strip_bytes >> 10} KiB", *layout_words(made), *(word for word in q if word)]
    start = [f"data from byte {shape.start_bytes}"] if shape.start_bytes else []
    return f"{', '.join([*facts, *start])}: {', '.join(name or 'missing' for name in shape.members)}"


REMARKS = {
    Remark.STOPPED: "stopped before its end: what was known until then is above",
    Remark.STOPPED_EARLY: "stopped while the images were read: nothing is known yet",
    Remark.GAVE_UP: "it took long, so less likely layouts were not tried: what is known helps (--level, --strip, "
    "--start, --not)",
    Remark.UNREADABLE: "{count} blocks could not be read",
    Remark.PIECES: "{count} files named are pieces or maps of other images",
    Remark.IMAGED_TWICE: "imaged twice, and read as one drive each: {images}",
    Remark.PART_COPY: "{images} is no member: it holds a copy of the volume from byte {count} on",
    Remark.PARITY_MOVES: "parity moves, whatever the layout: {kib} KiB on each of these in turn: {images}",
}


def remark(note: Note) -> str:
    """A note on the search."""
    return REMARKS[note.what].format(images=", ".join(note.images), count=note.count, kib=note.count >> 10)
