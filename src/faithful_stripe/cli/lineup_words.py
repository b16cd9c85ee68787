"""The four verdicts of a lineup in words, and the map of its rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ..core.lineup.document.four_verdicts import NAMES, Reason, Sure, Verdict, Verdicts
from ..core.lineup.document.ledger import Kind
from ..core.lineup.document.row_map import RowMap, State, Why
from ..core.units import binary_size, duration

if TYPE_CHECKING:
    from ..core.arrays.layout import Layout
    from ..core.lineup.document.lineup_document import Lineup

STYLES = {
    Sure.CERTAIN: "good", Sure.PROBABLE: "Warning", Sure.UNTESTED: "Warning", Sure.UNTESTABLE: "Warning",
    Sure.UNDECIDED: "Critical", Sure.CONTRADICTED: "Critical",
}  # fmt: skip

SURE = {
    Sure.CERTAIN: "CERTAIN", Sure.PROBABLE: "PROBABLE", Sure.UNTESTED: "NOT TESTED", Sure.UNTESTABLE: "NOT TESTABLE",
    Sure.UNDECIDED: "UNDECIDED", Sure.CONTRADICTED: "NO",
}  # fmt: skip


WEIGHED = {
    Kind.ADDRESSES: "structures that state their own address",
    Kind.ROLES: "roles that P and Q spell",
    Kind.EMPTY: "parity that would be empty beside one strip of data",
    Kind.MISSING: "members that are not there",
    Kind.SEAMS: "how blocks follow one another, and the start",
    Kind.WALKED: "checksums of the file system",
    Kind.KEPT_OUT: "structures kept out of the search",
    Kind.FILES: "files with a checksum of their own",
    Kind.DIRECTORIES: "directories where their inodes say",
    Kind.ROWS: "rows of copies",
    Kind.SIZE: "a file system larger than the volume",
    Kind.COMPUTED: "what is computed for missing members",
}


def layout_words(chosen: Layout) -> list[str]:
    """Where parity and data stand, in words; nothing where there is nothing to choose."""
    words = [w for w in (chosen.rotation, chosen.data) if w]
    if chosen.turn_rows > 1:
        words.append(f"parity moves every {chosen.turn_rows} rows")
    if chosen.spare:
        words.append(f"spare strip {chosen.spare.replace('-p', ' P')}")
    if chosen.outer != "row":
        words.append(f"outer unit one {chosen.outer}")
    return words


def growing(array: Lineup) -> list[str]:
    """That an array was growing when that stopped, and where its two layouts meet; nothing of any other."""
    if array.former is None:
        return []
    added = [name for p, name in enumerate(array.seated) if p not in array.former.positions]
    names = ", ".join(Path(name).name if name else "a missing one" for name in added)
    before, row = len(array.former.positions), array.former.row
    return [
        f"It was growing from {before} to {array.geometry.members} members when that stopped.",
        f"Rows 0 to {row - 1} stand on {array.geometry.members} members, rows from {row} on without {names}.",
        f"The volume is read in both layouts; they meet at its byte {array.former.border(array.geometry)}.",
    ]


WHY = {
    Why.UNREADABLE: "cannot be read",
    Why.BLANK: "is blank there",
    Why.LOCATED: "differs from what P and Q tell",
    Why.OUT_OF_DATE: "is out of date there",
    Why.AWAY: "was away when that was written",
    Why.ABSENT: "ends before",
}

STATES = {
    State.SOUND: "sound: every equation of the redundancy holds",
    State.MENDED: "computed in part: a member is at fault, the others give what belongs there",
    State.OPEN: "open: does not match, nothing tells who is at fault",
    State.UNPROTECTED: "unprotected: no redundancy is left that could tell",
}

ORDER = {
    Reason.PROVEN: "structures prove every position, and no other order fits",
    Reason.TWICE: "blocks of every member stand where both layouts put them, and none elsewhere",
    Reason.RIVAL: "another order explains the data nearly as well",
    Reason.FEW: "too few structures state where they belong",
    Reason.FAILING: "checksums fail under the best order",
    Reason.ELIMINATION: "nothing on some images states where they belong",
    Reason.GUESSED: "only counters of an unknown format speak for it",
    Reason.SHIFT: "another start would turn the members",
    Reason.Q_RULE: "P holds, Q under no known rule: Q must not be relied on",
    Reason.LEFT_OUT: "an image that was left out matches these in places",
    Reason.UNCOUNTED: "all that was found is in the first rows: the number of members is open",
    Reason.STOPPED: "the search was stopped: this is the best so far",
    Reason.UNTRIED: "the time ran out before all that could be as good was tried",
    Reason.OPEN_ROWS: "many rows do not match, and nobody is known to be at fault",
    Reason.GIVEN: "as far as what was given is right",
    Reason.EXCHANGE: "checksums fail that an exchange of two images would explain",
}
START = {
    Reason.TABLE: "a partition table begins there",
    Reason.SECOND_TABLE: "the second copy of a partition table says so, whose first one is gone",
    Reason.LABEL: "a label or header on the volume's first bytes states it",
    Reason.HEAD: "a file system's head stands on the first bytes of a member",
    Reason.FIRST_ROW: "the members' first row belongs to the volume",
    Reason.DDF: "the controller's own set-up (DDF) states it",
    Reason.TWICE: "both layouts fit from there on only",
    Reason.NOTHING_SAYS: "nothing states where the volume begins",
    Reason.TABLE_ELSEWHERE: "a partition table stands on these images, but not there",
    Reason.PROVEN: "structures prove it",
    Reason.FEW: "too little was found to say",
    Reason.GIVEN: "as far as what was given is right",
}


def why(name: str, verdict: Verdict) -> str:
    """The reason of a verdict, in one sentence without a full stop."""
    reason, size = verdict.reason, binary_size(verdict.count)
    who = ", ".join(Path(image).name for image in verdict.images)
    by = f" by {duration(verdict.count)}" if verdict.count else ""
    if name == "order":
        return ORDER.get(reason, reason.value)
    if name == "start":
        if reason is Reason.DATA_BEFORE:
            return f"{size} of each image before it hold data that belong together, too"
        if reason is Reason.NOTHING_SAYS and verdict.sure is Sure.UNDECIDED:
            return "nothing states where the volume begins: it may have begun in another row, which is empty now"
        return START.get(reason, reason.value)
    return {
        Reason.ALL_READ: f"all {verdict.count} rows that hold data were read, and match",
        Reason.SAMPLED: "only samples were read; `lineup solve --full` or `extract` tells",
        Reason.NO_REDUNDANCY: "no redundancy is left that could tell",
        Reason.OUT_OF_DATE: f"{who}: {size} are not what the others tell",
        Reason.OLDER: f"{who}: older than the others{by}, as the file system's own times tell",
        Reason.OPEN_ROWS: f"{size} of the volume do not match, and nothing tells who is at fault",
        Reason.COMPUTED: f"{size} of {who} are computed from the other members",
        Reason.BLANK: f"{who}: {size} are blank there and not used: not read for the image, or never written to it",
        Reason.Q_RULE: "Q is counted by no known rule, and blames every member in turn",
        Reason.BEYOND: f"{size} of data stand behind the array's end: an image may be cut short",
        Reason.PLACING: "all rows match, but order and start are not both certain",
        Reason.EMPTY_FRONT: "the volume begins with zeros on every member: perhaps wiped",
        Reason.DISPLACED: f"{verdict.count} places hold what belongs to another time, or to rows behind the end",
        Reason.CHECKSUMS: f"{verdict.count} checksums of the file system are wrong",
    }.get(reason, reason.value)  # fmt: skip


def lines(verdicts: Verdicts) -> list[tuple[str, str, str, str]]:
    """(verdict's name, how sure, why, style) of all four."""
    found = []
    for name in NAMES:
        verdict: Verdict = getattr(verdicts, name)
        found.append((name, SURE[verdict.sure], why(name, verdict), STYLES[verdict.sure]))
    return found


def summary(found: RowMap, names: tuple[str | None, ...]) -> list[tuple[str, str]]:
    """(how many rows, of what state) and (how much, of which image, and why) of a map."""
    rows = [(str(found.rows.get(state, 0)), text) for state, text in STATES.items() if found.rows.get(state, 0)]
    for member, reasons in sorted(found.blamed().items()):
        name = Path(names[member] or "?").name
        rows += [(binary_size(count), f"of {name} not used: it {WHY[reason]}") for reason, count in reasons.items()]
    for member in sorted({who for _a, _b, who in found.smaller}):
        stretches = [(a, b) for a, b, who in found.smaller if who == member]
        name, count = Path(names[member] or "?").name, sum(b - a for a, b in stretches)
        where = f"between rows {stretches[0][0]} and {stretches[-1][1] - 1}"
        rows.append((str(count), f"{where}: written by an array without {name}, before a growth or another set-up"))
    return rows


STRENGTHS = ((40.0, "very strong"), (12.0, "strong"), (3.0, "weak"))
"""A lead in natural logarithms of likelihood, and what it is called from there on."""


def strength(lead: float) -> str:
    """How strong a lead is, in words."""
    return next((word for least, word in STRENGTHS if lead >= least), "none")


def measured(array: Lineup) -> str:
    """How many answers on such signs were right, of one whose order is not proven; "" where that was not measured."""
    if array.chance is None or array.verdicts.order.sure is Sure.CERTAIN:
        return ""
    return f"Of answers that stand on as much, {share(array.chance)} were right when measured."


def share(chance: float) -> str:
    """A measured share, as a count of a hundred: no surer than what was measured can be."""
    return f"{min(99, max(1, round(100 * chance)))} of 100"
