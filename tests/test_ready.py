"""Ready to boot: partition tables and FAT written out by hand here, driver files, and the checklist as a command."""

import re
import struct
import uuid
import zlib

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_stripe.core.formats import fat, gpt, inf, pe
from faithful_stripe.core.formats.declared import FormatError
from faithful_stripe.core.source import BlockSourceError, MemorySource, Window

ESP = uuid.UUID("c12a7328-f81f-11d2-ba4b-00a0c93ec93b")
START, SECTORS = 64, 4300


def directory(*rows: tuple[str, str, int, int, int]) -> bytes:
    """Short entries: name, ending, attributes, first cluster, size."""
    return b"".join(
        n.encode("latin-1").ljust(8)
        + e.encode().ljust(3)
        + bytes([a])
        + bytes(8)
        + struct.pack("<HHHHI", c >> 16, 0, 0, c & 0xFFFF, s)
        for n, e, a, c, s in rows
    ).ljust(512, b"\0")


def program(machine: int = 0x8664, subsystem: int = 10) -> bytes:
    """The head of a boot program, after the published PE offsets; 300 bytes in all."""
    head = struct.pack("<4sHH12xHHH66xH", b"PE\0\0", machine, 1, 240, 0x22, 0x20B, subsystem)
    return (b"MZ".ljust(60, b"\0") + struct.pack("<I", 64) + head).ljust(300, b"\0")


def fat16(loader: str = "BOOTX64", bits: int = 16) -> bytes:
    """A FAT16 (or FAT12) file system of 2 MiB with EFI/BOOT/<loader>.EFI, after the boot sector's published offsets."""
    boot = bytearray(512)
    per = 1 if bits == 16 else 4
    struct.pack_into("<HBHBHHBH", boot, 11, 512, per, 1, 2, 16, SECTORS, 0xF8, 17)
    boot[510:512] = b"\x55\xaa"
    table = bytearray(17 * 512)
    for cluster in (2, 3, 4):
        if bits == 16:
            struct.pack_into("<H", table, 2 * cluster, 0xFFFF)
        else:
            at = cluster * 3 // 2
            value = int.from_bytes(table[at : at + 2], "little") | (0xFFF << 4 if cluster % 2 else 0xFFF)
            table[at : at + 2] = (value & 0xFFFF).to_bytes(2, "little")
    root = directory(("INSTALL", "", 8, 0, 0), ("EFI", "", 16, 2, 0))
    size = per * 512
    data = directory(("BOOT", "", 16, 3, 0)).ljust(size, b"\0")
    data += directory(("\xe5OLD", "EFI", 0, 9, 9), (loader, "EFI", 0, 4, 300)).ljust(size, b"\0")
    return (bytes(boot) + bytes(table) * 2 + root + data + program().ljust(size, b"\0")).ljust(SECTORS * 512, b"\0")


def disk(system: bytes, kind: uuid.UUID = ESP, total: int = START + SECTORS + 64) -> bytes:
    """A disk with a GUID partition table and one partition, after the UEFI specification's offsets."""
    entry = kind.bytes_le + uuid.uuid5(ESP, "p").bytes_le + struct.pack("<QQQ", START, START + SECTORS - 1, 0)
    entries = (entry + "system".encode("utf-16-le").ljust(72, b"\0")).ljust(128 * 128, b"\0")

    def header(own: int, other: int, at: int) -> bytes:
        head = struct.pack("<8sIIIIQQQQ16sQIII", b"EFI PART", 0x10000, 92, 0, 0, own, other, 34, total - 34,
                           uuid.uuid5(ESP, "d").bytes_le, at, 128, 128, zlib.crc32(entries))  # fmt: skip
        return (head[:16] + struct.pack("<I", zlib.crc32(head)) + head[20:]).ljust(512, b"\0")

    out = bytearray(total * 512)
    out[512:1024], out[1024 : 1024 + len(entries)] = header(1, total - 1, 2), entries
    out[START * 512 : START * 512 + len(system)] = system
    out[-33 * 512 : -33 * 512 + len(entries)], out[-512:] = entries, header(total - 1, 1, total - 33)
    return bytes(out)


def source(data: bytes) -> MemorySource:
    made = MemorySource(len(data))
    made.write(0, data)
    return made


@pytest.mark.parametrize("bits", [12, 16])
def test_an_installer_written_by_hand_is_read(bits):
    found = gpt.table(source(disk(fat16(bits=bits))))
    assert found is not None and found.copy_sound and found.sector == 512
    (partition,) = found.partitions
    assert (partition.type, partition.name, partition.start) == (ESP, "system", START * 512)
    files = fat.Fat(Window(source(disk(fat16(bits=bits))), partition.start, partition.length))
    assert [e.name for e in files.list()] == ["EFI"] and [e.name for e in files.list("efi/boot")] == ["BOOTX64.EFI"]
    with pytest.raises(FormatError, match="there is no directory EFI/OTHER"):
        files.list("EFI/OTHER")


def test_a_damaged_table_is_read_from_its_copy_and_two_damaged_ones_are_named():
    data = bytearray(disk(fat16()))
    data[512 + 40] ^= 1
    found = gpt.table(source(bytes(data)))
    assert found is not None and len(found.partitions) == 1
    data[-512 + 40] ^= 1
    with pytest.raises(FormatError, match="sector 1: GPT header: expected CRC"):
        gpt.table(source(bytes(data)))
    data = bytearray(disk(fat16()))
    data[-512 + 40] ^= 1
    assert gpt.table(source(bytes(data))).copy_sound is False
    assert gpt.table(source(bytes(4096 * 4))) is None


@settings(max_examples=200)
@given(
    st.lists(st.tuples(st.integers(0, 20 * 512), st.integers(0, 255)), min_size=1, max_size=6), st.integers(1, SECTORS)
)
def test_no_damage_crashes_these_readers(spots, keep):
    system = bytearray(fat16())
    for at, value in spots:
        system[at] = value
    try:
        fat.Fat(source(bytes(system[: keep * 512]))).list("EFI/BOOT")
    except (FormatError, BlockSourceError) as reason:
        assert reason.what
    whole = bytearray(disk(fat16()))
    for at, value in spots:
        whole[512 + at] = value
    try:
        found = gpt.table(source(bytes(whole)))
        assert found is None or all(p.start >= 0 for p in found.partitions)
    except (FormatError, BlockSourceError) as reason:
        assert reason.what


INF = """; a driver
[Version]
Signature   = "$WINDOWS NT$"
Class       = SCSIAdapter
DriverVer   = 03/21/2026,7.4.1.0   ; the newest

[Manufacturer]
%Maker% = Models, NTamd64.10.0...17763, NTx86

[Models.NTamd64.10.0...17763]
%Card% = Install, PCI\\VEN_FFFF&DEV_0041&SUBSYS_0001FFFF, PCI\\VEN_FFFF&DEV_0041

[Models.NTx86]
%Card% = Install, PCI\\VEN_FFFF&DEV_0041

[Strings]
Maker = "Veskarn"
Card = "RC8"
"""


@pytest.mark.parametrize("code", ["utf-16", "utf-8", "utf-8-sig", "latin-1"])
def test_a_driver_file_says_what_it_is_for(code):
    found = inf.parse("lintel.inf", INF.encode(code))
    assert found.version == (7, 4, 1, 0) and found.dated.isoformat() == "2026-03-21" and found.kind == "SCSIAdapter"
    assert (inf.Target("amd64", 17763), "PCI\\VEN_FFFF&DEV_0041") in found.ids and len(found.ids) == 3
    with pytest.raises(FormatError, match="no \\[Version\\] section"):
        inf.parse("x.inf", b"[Strings]\na=b")


@given(st.text(max_size=300))
def test_no_text_crashes_the_reader_of_driver_files(text):
    for spoilt in (
        text.encode("utf-8", "ignore"),
        INF[:40].encode() + text.encode("utf-8", "ignore") + INF[40:].encode(),
    ):
        try:
            inf.parse("x.inf", spoilt)
        except FormatError as reason:
            assert reason.what


# the command ------------------------------------------------------------------------------------


def states(result):
    return {c["what"]: c["state"] for c in result.json["checks"]}


def test_a_badly_prepared_server_and_a_good_one(fstripe):
    fstripe("bench", "new", "raw", "--from", "skerry-new")
    bad = fstripe("--at", "raw", "ready", "--json")
    assert bad.status == 3 and not bad.json["ready"]
    failed = {what for what, state in states(bad).items() if state == "fail"}
    assert failed == {"storage mode", "boot mode", "legacy support", "link of CTRL-1 in Slot 1", "boot volume"}
    assert (
        states(bad)["other disks"] == states(bad)["link of bay 6"] == "warn"
        and states(bad)["power"] == states(bad)["settings"] == "pass"
    )
    fixes = [c["to_do"].split() for c in bad.json["checks"] if c["to_do"].startswith("fstripe firmware set")]
    for words in fixes:
        assert fstripe("--at", "raw", *words[1:]).status == 0
    waiting = fstripe("--at", "raw", "ready", "--json")
    assert states(waiting)["storage mode"] == "fail" and states(waiting)["settings"] == "warn"
    assert "only after a restart" in waiting.json["checks"][1]["found"]
    fstripe("--at", "raw", "firmware", "set", "Slot1Width=x8", "Slot1Speed=Gen3")
    assert fstripe("--at", "raw", "firmware", "restart", "--yes", "--speed", "600").status == 0
    fstripe(
        "--at", "raw", "volume", "add", "system", "--level", "RAID1", "--bays", "1,2", "--yes", "--expect-serials",
        "QR4S1107,QR4S1132",
    )  # fmt: skip
    unseen = states(fstripe("--at", "raw", "ready", "--json"))
    assert unseen["boot volume"] == "pass" and unseen["firmware and system"] == "fail"
    fstripe("--at", "raw", "firmware", "restart", "--yes", "--speed", "600")
    good = fstripe("--at", "raw", "ready")
    assert good.status == 0 and good.out.rstrip().endswith("Ready, with 1 warnings.")
    assert states(fstripe("--at", "raw", "ready", "--json"))["link of bay 6"] == "warn"  # a cable of half the rate
    fstripe("--at", "raw", "bench", "fault", "1")
    assert states(fstripe("--at", "raw", "ready", "--json"))["health of system"] == "fail"


def test_installers_and_drivers_are_looked_into(fstripe, skerry):
    folder = fstripe.folder
    for name, data in (
        ("good.img", disk(fat16())), ("plain.img", bytes(1 << 20)), ("other.img", disk(fat16(), uuid.uuid5(ESP, "x"))),
        ("empty.img", disk(fat16(loader="SETUP"))),
    ):  # fmt: skip
        (folder / name).write_bytes(data)
    for name, state, said in (
        ("good.img", "pass", "EFI system partition with BOOTX64.EFI"),
        ("plain.img", "fail", "there is no GUID partition table on it"),
        ("other.img", "fail", "there is no EFI system partition on it"),
        ("empty.img", "fail", "there is no boot file in EFI/BOOT on it"),
        ("none.img", "fail", "none.img"),
    ):
        checks = fstripe("--at", "skerry", "ready", "--installer", name, "--json").json["checks"]
        last = [c for c in checks if c["what"].startswith("installer")][-1]
        assert last["state"] == state and said in last["found"], last
    (folder / "drivers").mkdir()
    for name, text in (
        ("good.inf", INF), ("old.inf", INF.replace("7.4.1.0", "6.0.0.1")), ("late.inf", INF.replace("17763", "26100")),
        ("other.inf", INF.replace("VEN_FFFF", "VEN_FFFE")), ("arm.inf", INF.replace("amd64", "arm64")),
        ("no.inf", "nothing"),
    ):  # fmt: skip
        (folder / "drivers" / name).write_text(text)
    words = ("--at", "skerry", "ready", "--drivers", "drivers", "--lowest", "7.2.0", "--release", "10.0.20348")
    found = {c["what"]: c for c in fstripe(*words, "--json").json["checks"]}
    assert found["driver for CTRL-1"]["found"] == "load good.inf, version 7.4.1.0 of 2026-03-21"
    for name, why in (
        ("old.inf", "version 6.0.0.1 is too old, 7.2.0 is needed"), ("late.inf", "needs build 26100 or later"),
        ("other.inf", "does not list PCI\\VEN_FFFF&DEV_0041"), ("arm.inf", "it is for arm64, x86, not amd64"),
        ("no.inf", "no [Version] section"),
    ):  # fmt: skip
        assert why in found[f"driver {name}"]["found"], found
    assert fstripe("--at", "skerry", "ready", "--drivers", "nowhere").status == 3
    wrong = fstripe("--at", "skerry", "ready", "--lowest", "seven")
    assert wrong.status == 2 and "is not a version" in wrong.err


@pytest.mark.parametrize(
    ("code", "subsystem", "state", "said"),
    [
        (0x8664, 10, "pass", "EFI system partition with BOOTX64.EFI, for amd64"),
        (0xAA64, 10, "fail", "no boot file there starts on amd64 (BOOTX64.EFI: arm64)"),
        (0x8664, 3, "fail", "a program for something else (subsystem 3), not UEFI"),
    ],
)
def test_a_boot_file_must_be_a_program_for_this_machine(fstripe, skerry, code, subsystem, state, said):
    system = fat16().replace(program().ljust(512, b"\0"), program(code, subsystem).ljust(512, b"\0"))
    (fstripe.folder / "i.img").write_bytes(disk(system))
    checks = fstripe("--at", "skerry", "ready", "--installer", "i.img", "--json").json["checks"]
    last = [c for c in checks if c["what"].startswith("installer")][-1]
    assert last["state"] == state and said in last["found"], last


@settings(max_examples=200)
@given(st.lists(st.tuples(st.integers(0, 299), st.integers(0, 255)), max_size=8), st.integers(0, 300))
def test_no_damage_crashes_the_reader_of_boot_files(spots, keep):
    data = bytearray(program())
    for at, value in spots:
        data[at] = value
    try:
        assert pe.machine(bytes(data[:keep]), "x") != ""
    except FormatError as reason:
        assert reason.what.startswith("x: ")


def test_what_a_checklist_must_not_overlook(fstripe, skerry):
    at = ("--at", "skerry")
    fstripe(*at, "volume", "add", "fast", "--level", "RAID0", "--bays", "4,5", "--yes", "--expect-serials",
            "UV4H20931,UV4H20944")  # fmt: skip
    fstripe(*at, "volume", "add", "twin", "--level", "RAID0", "--bays", "6,7", "--yes", "--expect-serials",
            "UV4H21007,UV4H21018")  # fmt: skip
    fstripe(*at, "firmware", "restart", "--yes", "--speed", "600")
    fstripe(*at, "boot", "fast")
    fstripe(*at, "bench", "fault", "9")
    fstripe(*at, "bench", "package", "r.pldm", "--for", "CTRL-1", "--version", "5.4.0")
    assert fstripe(*at, "firmware", "update", "r.pldm", "--yes", "--speed", "3600").status == 3
    found = {c["what"]: c for c in fstripe(*at, "ready", "--json").json["checks"]}
    assert "one failed drive loses everything" in found["health of fast"]["found"]
    assert found["drive of bay 9"]["state"] == "warn" and "UV4H21204 has failed" in found["drive of bay 9"]["found"]
    assert "5.4.0 is written and waits for a restart" in found["firmware versions"]["found"]
    apart = found["other disks"]["to_do"]
    assert "WWN, since sizes are alike" in apart and "bays 4 5 (boot)" in apart and "bays 6 7" in apart
    told = fstripe(*at, "survey", "--identities")
    assert re.search(r"4 +UV4H20931 +3[0-9A-F]{15} +UL-H4-A +SAS +512 +K410", told.out), told.out[-900:]
