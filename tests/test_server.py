"""The model of a server and its one judgement: laws against the array engine; what is unknown is never safe."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.engine import Array, lost_ranges
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.arrays.groups import redundancy
from faithful_stripe.core.arrays.layout import layout
from faithful_stripe.core.arrays.margin import margin
from faithful_stripe.core.ranges import union
from faithful_stripe.core.server.acts import (
    Allowed,
    Because,
    Costs,
    ForgetVolume,
    Refused,
    TakeOut,
    UpdateFirmware,
    may,
)
from faithful_stripe.core.server.assess import assess
from faithful_stripe.core.server.condition import State
from faithful_stripe.core.server.findings import Code, StepCode
from faithful_stripe.core.server.fitness import Candidate, Need, Why, candidate, judge
from faithful_stripe.core.server.model import ChoiceError, Server, uses_of
from faithful_stripe.core.server.redundancy import OLD_TYPES, SURVIVES, Answers, answers
from faithful_stripe.core.server.risk import exposure, until_whole
from faithful_stripe.core.server.stretches import margins, stretches
from faithful_stripe.core.server.things import Drive, Health, Operation, Seat, SeatState, Volume, WorkKind
from faithful_stripe.core.server.unknown import UNKNOWN, known
from faithful_stripe.core.source import BlockSourceError, MemorySource, Unreadable
from faithful_stripe.work.watch import Progress, until_all_done

STRIP, ROWS = 4096, 12


class Bad(MemorySource):
    """A member some ranges of which cannot be read."""

    def __init__(self, size, bad):
        super().__init__(size)
        self.bad = bad

    def read_into(self, offset, buffer):
        length = len(memoryview(buffer).cast("B"))
        if any(a < offset + length and offset < b for a, b in self.bad):
            raise Unreadable(source="member", offset=offset, length=length)
        super().read_into(offset, buffer)


def told(level="RAID5", members=4, gone=(), bad=None, spans=None, **facts):
    """A server that tells everything of one volume: some members missing, some ranges unreadable."""
    bad = bad or {}
    made = geometry(level, members, STRIP, member_bytes=ROWS * STRIP, spans=spans)
    chosen = made.layout
    drives = tuple(
        Drive(str(i), f"/d/{i}", "box", "r", serial=f"S{i}", size=1 << 20, media="HDD", sector=512, state="Enabled",
              health=Health.OK, predicted=False, unreadable=tuple(bad.get(i, ())), content="")
        for i in range(members)
    )  # fmt: skip
    states = [SeatState.MISSING if i in gone else SeatState.ACTIVE for i in range(members)]
    seats = tuple(
        Seat(i, str(i), f"S{i}", states[i], "" if i in gone else f"/d/{i}", current=True) for i in range(members)
    )
    volume = Volume(
        "v", "/v/1", level, made.volume_bytes, "r", STRIP, chosen.rotation, chosen.data, chosen.q_place,
        chosen.q_exponent, chosen.spans, chosen.copies, "Enabled", Health.WARNING if gone else Health.OK, seats=seats,
        start=0, extent=ROWS * STRIP,
    )  # fmt: skip
    volume = replace(volume, **facts)
    here = [replace(d, uses=uses_of(d, [volume])) for d in drives if int(d.bay) not in gone]
    return Server("one", volumes=(volume,), drives=tuple(here), power="On")


SHAPES = [("RAID5", 4, None), ("RAID6", 5, None), ("RAID1", 3, None), ("RAID10", 6, None), ("RAID0", 3, None),
          ("RAID50", 6, 2), ("RAID60", 8, 2), ("RAID1E", 5, None), ("RAID4", 4, None)]  # fmt: skip


@st.composite
def hurt(draw):
    """A layout, members that are missing, and unreadable sectors of the others."""
    level, members, spans = draw(st.sampled_from(SHAPES))
    gone = draw(st.sets(st.integers(0, members - 1), max_size=2))
    sector = st.integers(0, ROWS * STRIP // 512 - 1)
    runs = st.lists(st.tuples(sector, st.integers(1, 20)), max_size=3)
    bad = {}
    for m in draw(st.sets(st.integers(0, members - 1), max_size=3)):
        ranges = union((a * 512, min(ROWS * STRIP, (a + n) * 512)) for a, n in draw(runs))
        if ranges and m not in gone:
            bad[m] = ranges
    return level, members, spans, gone, bad


def array_of(level, members, spans, gone, bad):
    made = geometry(level, members, STRIP, member_bytes=ROWS * STRIP, spans=spans)
    sources = [None if i in gone else Bad(ROWS * STRIP, bad.get(i, [])) for i in range(members)]
    return made, Array(made, sources, [None] * members, "v")


def sectors(ranges):
    return {s for a, b in ranges for s in range(a // 512, -(-b // 512))}


@given(hurt())
def test_ranges_that_are_judged_lost_are_those_that_the_engine_cannot_read(case):
    gone, bad = case[3:]
    made, array = array_of(*case)
    found = margins(made, gone, bad)
    if margin(made.pattern, gone) < 0:
        assert found == []
        return
    truth = lost_ranges(array, [(m, a, b - a) for m, ranges in bad.items() for a, b in ranges])
    assert sectors((a, b) for a, b, left in found if left < 0) == sectors(truth)
    assert all(left < margin(made.pattern, gone) for _a, _b, left in found)


@given(hurt(), st.integers(0, 7))
def test_what_may_be_taken_out_loses_nothing_that_could_be_read(case, wanted):
    """The promise that data are staked on, against the engine: allowed means that every byte can be read as before."""
    level, members, spans, gone, bad = case
    wanted %= members
    server = told(level, members, gone, bad, spans)
    if wanted in gone:
        return
    verdict = may(TakeOut(server.drive(str(wanted)), now=True), server)
    _made, before = array_of(*case)
    _made, after = array_of(level, members, spans, gone | {wanted}, bad)

    def lost(array):
        found = set()
        for at in range(0, array.size, 512):
            try:
                array.read_into(at, bytearray(512))
            except BlockSourceError:
                found.add(at)
        return found

    worse = lost(after) - lost(before)
    if isinstance(verdict, Allowed):
        assert not worse
    elif verdict.because in (Because.LOSES_VOLUME, Because.LOSES_RANGES):
        assert worse
    else:
        assert verdict.because is Because.NEEDED_TO_RETURN and assess(server).volumes["/v/1"].margin < 0


def test_unknown_equals_nothing_and_has_no_truth():
    assert UNKNOWN != UNKNOWN and UNKNOWN not in ("", None, 0)
    with pytest.raises(TypeError, match="neither true nor false"):
        bool(UNKNOWN)
    with pytest.raises(TypeError):
        _ = UNKNOWN < 1
    assert known(UNKNOWN, 3) == 3 and not Drive("1", "/1").same_as(Drive("1", "/1"))
    assert Drive("1", "/1", serial="A", model="M").same_as(Drive("2", "/2", serial="A", model="M"))


def test_a_label_or_name_that_stands_twice_is_asked_for():
    server = Server("one", drives=(Drive("6", "/a", "left", serial="A"), Drive("6", "/b", "right", serial="6B")),
                    volumes=(Volume("v", "/v/1", controller="r"), Volume("v", "/v/2", controller="r")))  # fmt: skip
    with pytest.raises(ChoiceError, match=r"6 names 2 bays.*left/6 \(serial A\); right/6 \(serial 6B\)"):
        server.drive("6")
    assert server.drive("left/6").path == "/a" and server.drive("6B").path == "/b" and server.drive("/b").path == "/b"
    with pytest.raises(ChoiceError, match=r"2 volumes are called v.*/v/1, /v/2"):
        server.volume("v")
    assert server.volume("/v/2").path == "/v/2"
    shadow = Server("one", drives=(Drive("6", "/a", serial="A"), Drive("7", "/b", serial="6")))
    with pytest.raises(ChoiceError, match="6 names 2 bays or drives"):
        shadow.drive("6")  # a label, and another drive's serial number


# standard properties only -----------------------------------------------------------------------

TB4 = 4 * 10**12


def standard(level="RAID5", members=4, health=Health.OK, bad=(), size=None, **more):
    """A server of standard properties: the volume links its drives, and tells no order and no states."""
    drives = tuple(
        Drive(str(i), f"/d/{i}", "box", "r", serial=f"S{i}", size=TB4, media="HDD", state="Enabled", health=Health.OK)
        if i not in bad
        else Drive(str(i), f"/d/{i}", "box", "r", serial=f"S{i}", size=TB4, media="HDD", state="UnavailableOffline",
                   health=Health.CRITICAL)
        for i in range(members)
    )  # fmt: skip
    seats = tuple(Seat(i, str(i), f"S{i}", UNKNOWN, f"/d/{i}") for i in range(members))
    volume = Volume("v", "/v", level, (members - 1) * TB4 if size is None else size, "r", state="Enabled",
                    health=health, seats=seats, ordered=False)  # fmt: skip
    volume = replace(volume, **more)
    return Server("one", drives=tuple(replace(d, uses=uses_of(d, [volume])) for d in drives), volumes=(volume,),
                  power="On")  # fmt: skip


def test_a_survivor_of_a_degraded_standard_volume_stays_and_the_offline_member_goes():
    server = standard(health=Health.WARNING, bad={2})
    for survivor in ("0", "1", "3"):
        no = may(TakeOut(server.drive(survivor)), server)
        assert isinstance(no, Refused) and no.because is Because.LOSES_VOLUME
        assert no.first.code is StepCode.REPLACE and no.first.facts["drive"].bay == "2"
    assert isinstance(may(TakeOut(server.drive("2")), server), Allowed)
    assert assess(server).volumes["/v"].state is State.DEGRADED and assess(server).volumes["/v"].margin == 0


@pytest.mark.parametrize(
    ("why", "server"),
    [
        ("a member is linked no more", standard(members=3, size=3 * TB4, health=Health.WARNING)),
        ("a member is linked no more, and the server says OK", standard(members=3, size=3 * TB4)),
        ("its health is not told", standard(health=UNKNOWN)),
        ("its level is not told", standard(level=UNKNOWN)),
        ("it is not well, and no member says why", standard(health=Health.WARNING, size=10**12)),
        ("a level that nobody knows", standard(level="RAID7")),
        ("no redundancy", standard(level="RAID0")),
        ("a mirror of three may be a stripe over mirrors", standard("RAID1", 3, size=TB4, bad={1})),
        ("initialization", standard(work=(Operation(WorkKind.INITIALIZE, "v", "/v"),))),
    ],
)
def test_what_is_not_known_to_be_redundant_is_not(why, server):
    judged = assess(server).volumes["/v"]
    assert judged.margin == 0, why
    assert isinstance(may(TakeOut(server.drive("0"), now=True), server), Refused), why


def test_a_healthy_standard_volume_gives_up_one_member_and_says_what_that_costs():
    yes = may(TakeOut(standard().drive("1")), standard())
    assert isinstance(yes, Allowed) and {c.code for c in yes.costs} == {Costs.MARGIN_FALLS, Costs.HEALTHY_DRIVE}
    fall = next(c for c in yes.costs if c.code is Costs.MARGIN_FALLS)
    assert (fall.facts["before"], fall.facts["after"]) == (1, 0)
    six = standard("RAID6", 5, size=3 * TB4)
    assert assess(six).volumes["/v"].margin == 2


def test_an_offline_volume_keeps_all_its_members():
    server = standard(bad={1, 2}, health=Health.CRITICAL, state="UnavailableOffline")
    judged = assess(server)
    assert judged.volumes["/v"].state is State.OFFLINE and judged.volumes["/v"].margin == -1
    for bay in "0123":
        no = may(TakeOut(server.drive(bay), now=True), server)
        assert isinstance(no, Refused) and no.first.code is StepCode.BRING_BACK
    steps = [s.code for s in judged.steps]
    assert steps[0] is StepCode.BRING_BACK and StepCode.REPLACE not in steps
    null = standard(health=UNKNOWN, state="UnavailableOffline")
    assert assess(null).findings[0].code is Code.VOLUME_OFFLINE


def test_who_brings_an_offline_volume_back_is_the_member_that_was_up_to_date():
    server = told(gone={0, 2})
    seats = tuple(replace(s, current=s.position == 2) for s in server.volumes[0].seats)
    server = replace(server, volumes=(replace(server.volumes[0], seats=seats),))
    (finding,) = [f for f in assess(server).findings if f.code is Code.VOLUME_OFFLINE]
    assert [s.position for s in finding.step.facts["seats"]] == [2]


# ranges, work, fitness, risk --------------------------------------------------------------------


def test_bad_rows_hold_the_second_drive_until_they_are_repaired():
    server = told(bad={1: [(5 * STRIP, 5 * STRIP + 1024)]})
    judged = assess(server).volumes["/v/1"]
    assert judged.whole == 1 and judged.margin == 0 and judged.state is State.DEGRADED and not judged.lost
    no = may(TakeOut(server.drive("2"), now=True), server)
    assert isinstance(no, Refused) and no.because is Because.LOSES_RANGES and no.first.code is StepCode.REPAIR
    assert no.facts["bytes"] == 1024 * (2 if len(no.facts["ranges"]) > 1 else 1)
    assert isinstance(may(TakeOut(server.drive("1"), now=True), server), Allowed)  # the bad one itself may go


def test_what_a_check_found_holds_every_drive_until_it_is_repaired_or_accepted():
    found = ((8 * STRIP, 12 * STRIP),)
    server = told(inconsistent=found)
    judged = assess(server)
    assert [f.code for f in judged.findings] == [Code.VOLUME_INCONSISTENT] and judged.volumes["/v/1"].margin == 0
    assert isinstance(may(TakeOut(server.drive("0"), now=True), server), Refused)
    seen = told(inconsistent=found, acknowledged=found)
    assert assess(seen).findings == () and isinstance(may(TakeOut(seen.drive("0"), now=True), seen), Allowed)


def test_a_rebuild_and_an_initialization_have_margins_by_range():
    server = told(gone={1})
    seat = replace(server.volumes[0].seats[1], state=SeatState.REBUILDING, done=4 * STRIP)
    volume = replace(server.volumes[0], seats=(server.volumes[0].seats[0], seat, *server.volumes[0].seats[2:]))
    server = replace(server, volumes=(volume,))
    (part,) = stretches(server, volume)
    assert (part.start, part.end, part.margin) == (0, 4 * 3 * STRIP, 1)
    assert assess(server).volumes["/v/1"].margin == 0
    work = Operation(WorkKind.INITIALIZE, "v", "/v/1", method="background", done=4 * STRIP, total=ROWS * STRIP)
    fresh = told(work=(work,))
    (rest,) = stretches(fresh, fresh.volumes[0])
    assert (rest.start, rest.margin) == (4 * 3 * STRIP, 0) and assess(fresh).volumes["/v/1"].state is State.OK


def test_a_firmware_update_of_a_member_is_judged_like_taking_it_out_for_a_moment():
    whole, degraded = told(), told(gone={0})
    assert [c.code for c in may(UpdateFirmware(("/d/1",)), whole).costs] == [Costs.MEMBER_DROPS]
    assert isinstance(may(UpdateFirmware(("/d/1",)), degraded), Refused)


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"size": TB4 - 512}, Why.TOO_SMALL), ({"size": UNKNOWN}, Why.SIZE_NOT_KNOWN), ({"media": "SSD"}, Why.MEDIA),
        ({"sector": 4096}, Why.SECTOR), ({"protocol": "NVMe"}, Why.INTERFACE), ({"predicted": True}, Why.PREDICTED),
        ({"failed": True}, Why.FAILED), ({"media_life": 3.0}, Why.WORN), ({"condition": "keep"}, Why.CONDITION),
        ({"serial": "X"}, Why.KNOWN_FAILED), ({"controller": "other"}, Why.CONTROLLER),
        ({"content": "an ext file system"}, Why.HOLDS_DATA), ({"uses": ("something",)}, Why.IN_USE),
    ],
)  # fmt: skip
def test_what_does_not_fit(change, why):
    need = Need(TB4 - 100, media="HDD", sector=512, protocol="SAS", rpm=7200, size=TB4, part="P", controller="r")
    good = Candidate("A", TB4, "HDD", "SAS", 7200, 512, ("P",), controller="r")
    assert judge(need, good, {"X": "it dropped"}).cannot == ()
    found = judge(need, replace(good, **change), {"X": "it dropped"})
    assert [r.why for r in found.cannot] == [why]


def test_sizes_of_labels_are_allowed_for_and_exact_ones_are_not():
    need = Need(TB4 + 787_030_016, size=TB4 + 787_030_016)
    assert judge(need, Candidate("A", TB4)).has(Why.SLIGHTLY_SMALLER)  # "4 TB" on a label: the drive holds more
    assert judge(need, Candidate("A", TB4 + 512)).has(Why.TOO_SMALL)
    assert judge(replace(need, floor=TB4), Candidate("A", TB4 + 512)).has(Why.SLIGHTLY_SMALLER)
    assert judge(replace(need, exact=True), Candidate("A", TB4)).has(Why.TOO_SMALL)


def test_the_chance_of_loss_worked_by_hand():
    """RAID 5 of 4 x 4 TB at 1e-15: 3 drives of 3.2e13 bits are read, 1 - (1 - 1e-15)^(9.6e13) = 9.15 %; in 10 h each
    of the 3 fails with 1.711e-5 (1.5 % a year): 1 - 0.9085 * (1 - 1.711e-5)^3 = 9.15 %."""
    by_hand = 1 - (1 - 0.0915363) * (1 - 1.7111e-5) ** 3
    assert until_whole(redundancy(layout("RAID5", 4)), 1, 10.0, TB4) == pytest.approx(by_hand, rel=1e-4)
    server = standard(health=Health.WARNING, bad={2})
    assert exposure(server, server.volumes[0], 10.0).chance == pytest.approx(by_hand, rel=1e-4)
    six = standard("RAID6", 5, size=3 * TB4, health=Health.WARNING, bad={2})
    assert exposure(six, six.volumes[0], 10.0).chance < 1e-4  # one sector that cannot be read is computed
    assert exposure(standard(), standard().volumes[0]) is None
    hit = told(gone={0}, bad={1: [(0, 512)]})
    assert exposure(hit, hit.volumes[0]).chance == 1.0  # what is known to be bad is no chance any more


# what else a hasty change must not turn round ----------------------------------------------------


def test_the_table_of_levels_agrees_with_their_layouts():
    for level in ("RAID0", "RAID1", "RAID1E", "RAID10", "RAID4", "RAID5", "RAID6", "RAID50", "RAID60", "SPAN"):
        chosen = layout(level, 2 if level == "RAID1" else 8, spans=2 if level in ("RAID50", "RAID60") else None)
        assert SURVIVES[level] == margin(chosen.pattern(), ()), level
    assert (SURVIVES["RAID6TP"], SURVIVES["RAID1Triple"], SURVIVES["None"], SURVIVES["RAID00"]) == (3, 2, 0, 0)
    assert all(OLD_TYPES[name] in SURVIVES for name in OLD_TYPES)


def test_whether_a_drive_answers():
    sound_one = Drive("1", "/1", state="Enabled", health=Health.OK)
    assert answers(sound_one) is Answers.YES and answers(Drive("1", "/1")) is Answers.DOUBTFUL
    assert answers(replace(sound_one, health=UNKNOWN)) is Answers.YES  # it says that it is enabled
    for change in ({"present": False}, {"state": "UnavailableOffline"}, {"state": "Absent"}, {"state": "Disabled"}):
        assert answers(replace(sound_one, **change)) is Answers.NO
    for change in ({"health": Health.CRITICAL}, {"indicator": "Fail"}, {"state": "InTest"}):
        assert answers(replace(sound_one, **change)) is Answers.DOUBTFUL
        assert judge(Need(0), candidate(replace(sound_one, size=1, **change))).has(Why.FAILED)
    assert not judge(Need(0), candidate(replace(sound_one, size=1))).has(Why.FAILED)


def test_lost_bytes_and_a_concatenation():
    lost = standard(lost=((4096, 8192),))
    judged = assess(lost).volumes["/v"]
    assert judged.state is State.LOST and judged.lost == ((4096, 8192),) and judged.margin == 1
    span = told("SPAN", 2, bad={1: [(512, 1024)]})
    assert assess(span).volumes["/v/1"].lost == ((ROWS * STRIP + 512, ROWS * STRIP + 1024),)


def test_how_many_are_enough_to_bring_a_volume_back():
    six = told("RAID6", 6, gone={0, 1, 2})
    (finding,) = [f for f in assess(six).findings if f.code is Code.VOLUME_OFFLINE]
    assert finding.step.facts["enough"] == 1 and len(finding.step.facts["seats"]) == 3
    none = told("RAID0", 3, gone={0, 1})
    assert next(f for f in assess(none).findings if f.code is Code.VOLUME_OFFLINE).step.facts["enough"] == 2


def test_what_is_copied_off_first_goes_to_a_free_blank_drive_of_the_same_controller():
    def beside(**facts):
        server = told()
        sick = replace(server.drives[1], predicted=True)
        more = Drive("9", "/d/9", "box", "r", serial="N", size=1 << 20, media="HDD", sector=512, state="Enabled",
                     health=Health.OK, content="")  # fmt: skip
        drives = (server.drives[0], sick, *server.drives[2:], replace(more, **facts))
        return may(TakeOut(sick), replace(server, drives=drives))

    no = beside()
    assert isinstance(no, Refused) and no.because is Because.COPY_FIRST and no.first.facts["onto"].bay == "9"
    for facts in ({"content": "data"}, {"content": UNKNOWN}, {"controller": "x"}, {"size": 1 << 19}, {"media": "SSD"}):
        yes = beside(**facts)
        assert isinstance(yes, Allowed) and Costs.MARGIN_FALLS in {c.code for c in yes.costs}, facts
        assert Costs.HEALTHY_DRIVE not in {c.code for c in yes.costs}


def test_spares_that_would_not_take_over_or_badly():
    def with_spare(dedicated=(), **facts):
        server = told()
        spare = Drive("9", "/d/9", "box", "r", serial="N", size=1 << 20, media="HDD", sector=512, state="StandbySpare",
                      health=Health.OK, spare=True, rpm=7200)  # fmt: skip
        spare = replace(spare, dedicated=bool(dedicated), spare_for=dedicated)
        members = tuple(replace(d, rpm=7200) for d in server.drives)
        spare = replace(spare, **facts)
        spare = replace(spare, uses=uses_of(spare, server.volumes))
        found = assess(replace(server, drives=(*members, spare)))
        return [f.code for f in found.findings], [f.code for f in found.notices]

    assert with_spare() == ([], []) and with_spare(("/v/1",)) == ([], [])
    assert with_spare(size=1 << 19) == ([Code.SPARE_UNFIT], [])
    assert with_spare(controller="x") == ([], [])  # it serves nobody here
    assert with_spare(rpm=5400) == ([Code.SPARE_POOR], []) and with_spare(rpm=10000) == ([], [])


def test_slower_and_faster_are_told_apart():
    need = Need(0, rpm=7200)
    assert judge(need, Candidate(size=1, rpm=5400)).has(Why.SLOWER)
    assert judge(need, Candidate(size=1, rpm=10000)).has(Why.FASTER)
    assert not judge(need, Candidate(size=1, rpm=7200)).has(Why.SLOWER, Why.FASTER)
    assert judge(Need(0, sector=512), Candidate(size=1, sector=512, emulates=True)).has(Why.SECTOR_EMULATED)
    assert not judge(Need(0, sector=512), Candidate(size=1, sector=512)).has(Why.SECTOR_EMULATED)


def test_the_exposure_falls_with_what_is_done():
    half = Operation(WorkKind.REBUILD, "v", "/v", percent=50.0)
    whole = standard(health=Health.WARNING, bad={2})
    running = standard(health=Health.WARNING, bad={2}, work=(half,))
    full, rest = exposure(whole, whole.volumes[0], 1.0), exposure(running, running.volumes[0], 1.0)
    assert rest.left == TB4 // 2 and rest.chance == pytest.approx(1 - (1 - full.chance) ** 0.5, rel=0.02)
    gone = told(gone={0, 1})
    assert exposure(gone, gone.volumes[0]) is None  # what cannot be read is not at risk any more


def test_an_initialization_hides_no_other_weakness():
    work = Operation(WorkKind.INITIALIZE, "v", "/v/1", method="background", done=4 * STRIP, total=ROWS * STRIP)
    found = ((0, STRIP),)
    assert assess(told(work=(work,), inconsistent=found)).volumes["/v/1"].state is State.DEGRADED
    assert assess(told(work=(work,))).volumes["/v/1"].state is State.OK


def test_a_dedicated_spare_is_named_when_its_only_volume_goes():
    def costs(*serves):
        server = told()
        spare = Drive("9", "/d/9", "box", "r", serial="N", size=1 << 20, spare=True, dedicated=True, spare_for=serves)
        spare = replace(spare, uses=uses_of(spare, server.volumes))
        verdict = may(ForgetVolume(server.volumes[0]), replace(server, drives=(*server.drives, spare)))
        return [c.code for c in verdict.costs]

    assert costs("/v/1") == [Costs.SPARE_LESS] and costs("/v/1", "/v/2") == [] and costs("/v/2") == []


def test_nothing_is_pulled_while_a_member_is_being_brought_back():
    server = told(gone={1})
    seat = replace(server.volumes[0].seats[1], state=SeatState.REBUILDING, drive="/d/1", done=0)
    seats = (server.volumes[0].seats[0], seat, *server.volumes[0].seats[2:])
    work = Operation(WorkKind.REBUILD, "v", "/v/1", target="1", percent=10.0)
    volume = replace(server.volumes[0], seats=seats, work=(work,))
    dead = Drive("9", "/d/9", "box", "r", serial="N", state="UnavailableOffline", health=Health.CRITICAL)
    judged = assess(replace(server, volumes=(volume,), drives=(*server.drives, dead)))
    assert {s.code for s in judged.steps} == {StepCode.WAIT_FOR_WORK, StepCode.AFTER_WORK}
    after = next(s for s in judged.steps if s.code is StepCode.AFTER_WORK)
    assert after.facts["then"].code is StepCode.REPLACE and after.subject.name == "9"
    assert next(f.severity for f in judged.findings if f.code is Code.DRIVE_FAILED) is Health.WARNING


def test_the_time_until_all_is_done_counts_what_waits():
    """1 TB waits behind a rebuild that has 30 000 s left at 100 MB/s: 10 000 s more."""
    running = Progress(Operation(WorkKind.REBUILD, "a", done=10**12, total=4 * 10**12), 0, rate=1e8, left=30_000.0)
    waiting = Progress(Operation(WorkKind.REBUILD, "b", done=0, total=10**12, waits=True), 0)
    assert until_all_done([running, waiting]) == 40_000.0
    assert until_all_done([running]) is None  # nothing waits
    assert until_all_done([waiting]) is None  # no rate was measured
    unknown = Progress(Operation(WorkKind.REBUILD, "b", waits=True), 0)
    assert until_all_done([running, unknown]) is None
    assert until_all_done([replace(running, left=None), waiting]) is None
