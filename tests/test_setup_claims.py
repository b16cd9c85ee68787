"""Set-ups on the members themselves: the DDF that a controller wrote, tested against the data, believed in nothing."""

import tomllib

import pytest

from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.formats.ddf_volumes import Described
from faithful_stripe.core.lineup.claims.ddf_claim import judge_claims
from faithful_stripe.core.lineup.document.four_verdicts import placed
from faithful_stripe.core.lineup.document.lineup_document import Lineup
from faithful_stripe.media.image import ImageFile, create_sparse

MIB = 1 << 20


def copied(source, target):
    """A sparse copy of a drive's image."""
    with ImageFile(source) as drive:
        create_sparse(target, drive.size)
        with ImageFile(target, writable=True) as out:
            for a, b in drive.data_ranges(0, drive.size):
                buffer = bytearray(b - a)
                drive.read_into(a, buffer)
                out.write(a, buffer)
    return target


def exchange(a, b, length):
    with open(a, "r+b") as first, open(b, "r+b") as second:
        one, two = first.read(length), second.read(length)
        first.seek(0)
        second.seek(0)
        first.write(two)
        second.write(one)


@pytest.mark.long
def test_a_controllers_own_set_up_is_tested_and_a_wrong_one_named(fstripe, tmp_path):
    fstripe("bench", "new", "skerry")
    drives = {d["bay"]: d["serial"] for d in fstripe("--at", "skerry", "survey", "--json").json["drives"]}
    serials = [drives[bay] for bay in "4567"]
    sure = ("--yes", "--expect-serials", ",".join(serials))
    fstripe("--at", "skerry", "volume", "add", "tides", "--level", "RAID5", "--bays", "4,5,6,7", *sure)
    assert fstripe("--at", "skerry", "bench", "load", "tides", "observatory", *sure).status == 0
    names = [copied(tmp_path / f"skerry/drives/{s}.img", tmp_path / f"{s}.img").name for s in serials]

    right = fstripe("lineup", "solve", *names, "--json", "--out", "right.toml").json
    assert right["arrays"][0]["spans"] == [names]
    (claim,) = right["claims"]
    assert (claim["kind"], claim["name"], claim["verdict"], claim["wrong"]) == ("DDF", "tides", "holds", [])
    assert claim["images"] == names

    # what the controller wrote at the drives' ends is not the array's
    end = right["arrays"][0]["member_bytes"]
    assert (tmp_path / names[0]).stat().st_size - 64 * MIB < end < (tmp_path / names[0]).stat().st_size

    # a member that the claim does not have is found among others, and a wrong one refused
    head, spans, rest = (tmp_path / "right.toml").read_text().partition("\nspans = ")
    (tmp_path / "less.toml").write_text(head + spans + rest.replace(f'"{names[1]}"', '""', 1))
    (tmp_path / "drawer").mkdir()
    (tmp_path / names[1]).rename(tmp_path / "drawer/unknown.img")
    found = fstripe("lineup", "prove", "less.toml", "--against", "drawer/unknown.img", "--json")
    assert found.json["says"].endswith("drawer/unknown.img as member 1, which is missing, fits")
    tried = {o["what"]: o["holds"] for o in found.json["others"]}
    assert tried["drawer/unknown.img as member 1, which is missing"] and not tried["drawer/unknown.img as member 0"]
    (tmp_path / "drawer/unknown.img").rename(tmp_path / names[1])

    drawn = fstripe("lineup", "draw", "right.toml", "--plot", "right.png")
    assert drawn.status == 0 and (tmp_path / "right.png").read_bytes()[:4] == b"\x89PNG"

    exchange(tmp_path / names[0], tmp_path / names[2], 96 * MIB)  # all that the volume holds
    wrong = fstripe("lineup", "solve", *names, "--out", "found.toml")
    assert "volume tides: WRONG" in wrong.out
    document = tomllib.loads((tmp_path / "found.toml").read_text())
    assert document["arrays"][0]["spans"] == [[names[2], names[1], names[0], names[3]]]
    assert document["arrays"][0]["verdict"] == "certain"
    (claim,) = document["claims"]
    assert claim["verdict"] == "wrong"
    assert claim["wrong"] == [
        f"order: position 0 holds {names[2]}, it states {names[0]}; position 2 holds {names[0]}, it states {names[2]}"
    ]


NAMES = ("a", "b", "c", "d")


def found(level="RAID5", members=NAMES, strip=65536, start=0, verdict="certain", stale=(), **more):
    made = geometry(level, len(members), strip, member_bytes=64 * MIB, start_bytes=start, **more)
    return Lineup(made, tuple(members), placed(verdict), 99.0, 0.0, (), (), tuple(stale), "")


def stated(level="RAID5", positions=(0, 1, 2, 3), strip=65536, start=0, rotation="parity-N", data="continuation"):
    layout = {
        "level": level, "rotation": rotation, "data": data, "q_place": None, "q_exponent": None, "copies": 1,
        "spans": 1,
    }  # fmt: skip
    known = tuple(p for p in positions if p is not None)
    return Described("tides", strip, (start,) * len(positions), 64 * MIB, layout, tuple(positions), known, ())


FIVE = {"rotation": "parity-N", "data": "continuation"}


@pytest.mark.parametrize(
    ("claim", "array", "says"),
    [
        (stated(), found(**FIVE), []),
        (stated(strip=131072), found(**FIVE), ["strip size: 64 KiB, it states 128 KiB"]),
        (stated(data="restart"), found(**FIVE), ["layout: parity-N continuation, it states parity-N restart"]),
        (stated(start=MIB), found(**FIVE), ["start: byte 0, it states 1048576"]),
        (stated("RAID4", rotation="fixed-N", data=None), found(**FIVE), ["level: RAID5 of 4, it states RAID4 of 4"]),
        (stated(positions=(1, 0, 2, 3)), found(**FIVE),
         ["order: position 0 holds a, it states b; position 1 holds b, it states a"]),
        (stated(), found(members=("a", "b", "c", "e"), **FIVE), ["members: it counts d", "members: it leaves out e",
         "order: position 3 holds e, it states d"]),
        (stated(positions=(0, 1, 2, None)), found(members=("a", "b", "c", None), **FIVE), []),
        (stated(), found(members=("a", "b", "c", None), stale=("d",), **FIVE),
         ["members: it counts d, which is out of date"]),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_set_up_is_named(claim, array, says):
    (judged,) = judge_claims([claim], [array], NAMES)
    assert list(judged.wrong) == says
    assert judged.verdict == ("wrong" if says else "holds")


def test_what_cannot_be_tested_is_said_to_be_so():
    (judged,) = judge_claims([stated()], [found(verdict="undecided", **FIVE)], NAMES)
    assert judged.verdict == "untested"
    assert judge_claims([stated()], [], NAMES)[0].verdict == "untested"


def test_the_same_places_under_another_name_are_right():
    """RAID 4 with its parity first is RAID 4 with its parity last, positions turned."""
    claim = stated("RAID4", positions=(3, 0, 1, 2), rotation="fixed-0", data=None)
    (judged,) = judge_claims([claim], [found("RAID4", rotation="fixed-N")], NAMES)
    assert judged.verdict == "holds"
