"""DDF: read by hand from the standard's offsets, recognised by others, and never a crash on damage."""

import struct
import subprocess
import zlib

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_stripe.bench import members, ondisk, volumes
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.core.formats import ddf
from faithful_stripe.core.formats.declared import FormatError
from faithful_stripe.core.source import MemorySource, read


@pytest.fixture
def configured(bench):
    """A bench with a RAID 5, a RAID 50, a RAID 10 and both kinds of spare."""
    with bench.session() as s:
        for wish in (
            Wish("gauges", "RAID50", ("8", "9", "10", "11", "12", "13"), 262144, rotation="parity-0", data="restart"),
            Wish("system", "RAID1", ("1", "2")),
        ):
            volumes.create(s.controller, volumes.check(s.controller, wish))
        s.seat("15", "UV4H30555")
        members.add_spare(s.controller, "14", [s.controller.volume("gauges")], True)
        members.add_spare(s.controller, "15", [], False)
    return bench


def image(bench, serial):
    return bench.folder / "drives" / f"{serial}.img"


def test_an_independent_reading_of_every_structure(configured):
    """Offsets written out from the standard, nothing shared with the declared structures."""
    with configured.session() as s:
        size = s.state.drives["UV4H21166"].size
    with open(image(configured, "UV4H21166"), "rb") as file:

        def sector(lba, count=1):
            file.seek(lba * 512)
            return file.read(count * 512)

        def sound(data, signature):
            assert struct.unpack_from(">I", data, 0)[0] == signature
            crc = zlib.crc32(data[:4] + b"\xff\xff\xff\xff" + data[8:])
            assert struct.unpack_from(">I", data, 4)[0] == crc
            return data

        anchor = sound(sector(size // 512 - 1), 0xDE11DE11)
        assert anchor[0x20:0x28] == b"02.00.00" and anchor[0x70] == 0
        for lba, kind in zip(struct.unpack_from(">QQ", anchor, 0x60), (1, 2), strict=True):
            head = sound(sector(lba), 0xDE11DE11)
            assert head[0x70] == kind and head[0x08:0x20] == anchor[0x08:0x20]
            places = struct.unpack_from(">10I", head, 0xC0)
            section = {name: sector(lba + places[2 * i], places[2 * i + 1]) for i, name in enumerate("cpvrd")}
            assert sound(section["c"], 0xAD111111)[0x28:0x38].rstrip() == b"RC8"
            disks = sound(section["p"], 0x22222222)
            assert struct.unpack_from(">H", disks, 8)[0] == 4 + 6 + 2 + 2
            kinds = [struct.unpack_from(">H", disks, 64 + 64 * i + 0x1C)[0] for i in range(14)]
            assert sorted(kinds) == [2] * 12 + [4, 8]
            found = sound(section["v"], 0xDDDDDDDD)
            names = [found[64 + 64 * i + 0x30 : 64 + 64 * i + 0x40].rstrip() for i in range(3)]
            assert names == [b"tides", b"gauges", b"system"]
            record = struct.unpack_from(">H", head, 0x86)[0] * 512
            most = struct.unpack_from(">H", head, 0x88)[0]
            mine = sound(sound(section["d"], 0x33333333), 0x33333333)
            for span in (0, 1):
                config = sound(section["r"][span * record : (span + 1) * record], 0xEEEEEEEE)
                assert struct.unpack_from(">H6B", config, 0x40) == (3, 9, 5, 0, 2, span, 0)
                references = struct.unpack_from(">3I", config, 0x200)
                assert struct.unpack_from(">3Q", config, 0x200 + 4 * most) == (0, 0, 0)
                assert (struct.unpack_from(">I", mine, 0x20)[0] in references) == (span == 0)


def test_others_recognise_every_member_and_spare(configured):
    with configured.session() as s:
        used = [
            d.serial
            for d in s.state.drives.values()
            if s.controller.memory.in_use(d.serial) or d.serial in s.controller.memory.spares
        ]
    assert len(used) == 14
    for serial in used:
        told = subprocess.run(["blkid", "-p", image(configured, serial)], capture_output=True, text=True, check=False)
        assert 'TYPE="ddf_raid_member"' in told.stdout, (serial, told)
    assert (
        "ddf_raid_member"
        in subprocess.run(
            ["wipefs", "-n", image(configured, used[0])], capture_output=True, text=True, check=True
        ).stdout
    )


def test_the_set_up_follows_every_change_and_is_cleared_at_the_end(configured):
    def told(serial):
        with configured.session() as s:
            return ddf.decode(s.medium(s.state.drives[serial]))

    before = told("UV4H20931")
    with configured.session() as s:
        s.pull("5")
    after, away = told("UV4H20931"), None
    assert after.header["sequence"] > before.header["sequence"]
    assert [v["state"] for v in after.volumes] == [1, 0, 0]  # the global spare took over at once
    assert after.configs[0].references != before.configs[0].references
    with configured.session() as s:
        away = ddf.decode(s.medium(s.state.drives["UV4H20944"]))
        assert away.header["sequence"] == before.header["sequence"]  # a pulled drive tells how old it is
        for volume in list(s.controller.memory.volumes.values()):
            volumes.delete(s.controller, volume)
    assert told("UV4H20931") is None


def test_the_end_of_an_initialization_reaches_the_drives(configured, wall):
    def told():
        with configured.session() as s:
            return ddf.decode(s.medium(s.state.drives["UV4H20931"])).volumes[0]["initialized"]

    with configured.session() as s:
        volumes.initialize(s.controller, s.controller.volume("tides"), "background")
    assert told() == 1
    wall.now += 30 * 3600
    with configured.session():
        pass
    assert told() == 2


def test_a_foreign_drive_is_shown_and_not_taken_unasked(configured, tmp_path):
    with configured.session() as s:
        drive = s.state.drives["UV4H30562"]
        other = ondisk.metadata(s.controller, s.state.drives["UV4H21166"])
        theirs = ddf.Metadata(
            other.header, {"guid": b"OTHER".ljust(24), "product": b"Cornice 8"}, other.drives, other.volumes,
            other.configs, (), other.drive,
        )  # fmt: skip
        medium = s.medium(drive)
        medium.write(theirs.header["primary_lba"] * 512, ddf.encode(theirs, 1))
        medium.write(drive.size - 512, ddf.encode(theirs, 0)[:512])
        for serial in list(s.controller.memory.spares):
            members.remove_spare(s.controller, str(s.state.drives[serial].bay))
        s.pull("4")
        s.seat("4", "UV4H30562")
        assert "DDF set-up of another controller (Cornice 8)" in s.said[-1].message
        assert s.controller.volume("tides").members[0].state == "lost"


@pytest.fixture(scope="module")
def sound():
    """A small drive with a sound set-up: (image bytes, where the primary copy is)."""
    source = MemorySource(1 << 20)
    row = {"guid": b"g".ljust(24), "reference": 7}
    made = ddf.Metadata(
        {"guid": b"s".ljust(24), "primary_lba": 100, "secondary_lba": 1000, "sequence": 3},
        {"guid": b"c".ljust(24), "product": b"Test"}, (row,), ({"guid": b"v".ljust(24), "name": b"vol"},),
        (ddf.Config({"guid": b"v".ljust(24), "elements": 2, "level": 1}, (7, 9), (0, 5)),),
        (({"type": 1}, (b"v".ljust(24),)),), row,
    )  # fmt: skip
    for kind, lba in ((1, 100), (2, 1000)):
        source.write(lba * 512, ddf.encode(made, kind, most_elements=16, most=8))
    source.write(source.size - 512, ddf.encode(made, 0, most_elements=16, most=8)[:512])
    return read(source, 0, source.size)


def drive_of(data) -> MemorySource:
    source = MemorySource(len(data))
    source.write(0, data)
    return source


def test_a_round_trip(sound):
    found = ddf.decode(drive_of(sound))
    assert found.header["sequence"] == 3 and found.configs[0].references == (7, 9) and found.configs[0].starts == (0, 5)
    assert found.spares[0][1] == (b"v".ljust(24),) and found.drives[0]["reference"] == 7
    assert ddf.decode(MemorySource(1 << 20)) is None


def test_a_damaged_first_copy_falls_back_and_two_damaged_ones_say_where(sound):
    data = bytearray(sound)
    data[100 * 512 + 60] ^= 1
    assert ddf.decode(drive_of(data)).header["type"] == 2
    data[1000 * 512 + 60] ^= 1
    with pytest.raises(FormatError, match="sector 100: DDF header: expected CRC"):
        ddf.decode(drive_of(data))
    data = bytearray(sound)
    data[-500] ^= 1
    with pytest.raises(FormatError, match="DDF header: expected CRC"):
        ddf.decode(drive_of(data))


@pytest.mark.long
@settings(max_examples=1200)
@given(st.data())
def test_no_damage_crashes_the_reader(sound, data):
    """10,000 flipped bytes, cut images, wrong values under a right checksum: a clear word or a sound copy."""
    spoilt = bytearray(sound)
    for _ in range(4):
        base = data.draw(st.sampled_from([100 * 512, 1000 * 512, len(sound) - 512]))
        at = base + data.draw(st.integers(0, 511 if base == len(sound) - 512 else 24 * 512))
        spoilt[at] = data.draw(st.integers(0, 255))
        head = data.draw(st.sampled_from([100 * 512, 1000 * 512, len(sound) - 512, 101 * 512]))
        if data.draw(st.booleans()):
            spoilt[head : head + 512] = ddf.seal(bytes(spoilt[head : head + 512]))
        keep = len(spoilt) if data.draw(st.integers(0, 9)) else data.draw(st.integers(1, len(spoilt) // 512)) * 512
        try:
            found = ddf.decode(drive_of(spoilt[:keep]))
        except FormatError as reason:
            assert reason.what and reason.to_do
        else:
            assert found is None or found.header["signature"] == 0xDE11DE11
