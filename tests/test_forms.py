"""Images in the forms in which they arrive: each made by a general tool, solved and handed over like raw ones."""

import os
import random
import shutil
import subprocess

import pytest

from faithful_stripe.core.source import Unreadable, read
from faithful_stripe.media import forms
from faithful_stripe.media.forms import Form, form_of, open_drive
from faithful_stripe.media.image import MediaError
from faithful_stripe.media.rescuemap import read_map

from .slicer import Spec, cut

SPEC = Spec("RAID5", 4, 65536, "parity-N", "continuation")
KIB = 1024


def run(*words, **more):
    subprocess.run([str(w) for w in words], check=True, capture_output=True, **more)


def drive(rng):
    """Noise, text and zeros by turns, over strips and clusters, and an end inside the last cluster."""
    pieces = [rng.randbytes(65536), bytes(65536), b"tide 4.1 m\n" * 5958, bytes(3 * 65536), rng.randbytes(4096)]
    data = b"".join(rng.choice(pieces) for _ in range(60)) + rng.randbytes(512 * 5)
    return data[: len(data) // 512 * 512]


def needs(tool):
    return pytest.mark.skipif(shutil.which(tool) is None, reason=f"{tool} is not installed on this machine")


@pytest.fixture
def pile(tmp_path, volumes):
    """An array of four, and its volume."""
    members = [tmp_path / f"drive-{n}.img" for n in range(4)]
    cut(volumes / "ext4-nocsum.img", SPEC, members)
    return tmp_path, members, volumes / "ext4-nocsum.img"


@pytest.fixture
def certain_pile(tmp_path, volumes):
    """One of which every verdict is certain."""
    members = [tmp_path / f"drive-{n}.img" for n in range(4)]
    cut(volumes / "xfs.img", SPEC, members)
    return tmp_path, members, volumes / "xfs.img"


def qemu(kind, *options):
    def make(raw):
        made = raw.with_suffix(f".{kind}")
        run("qemu-img", "convert", "-f", "raw", "-O", kind, *options, raw, made)
        raw.unlink()
        return made

    return make


def split(raw):
    run("split", "-b", "2M", "-d", "-a", "3", "--numeric-suffixes=1", raw, f"{raw}.")
    raw.unlink()
    return raw.with_name(f"{raw.name}.001")


def packed(tool, ending):
    def make(raw):
        run(tool, "-q", raw)
        raw.unlink(missing_ok=True)
        return raw.with_name(raw.name + ending)

    return make


def acquired(raw):
    run(
        "ewfacquire", "-u", "-q", "-t", raw.with_suffix(""), "-f", "encase6", "-S", "4MiB", "-c", "deflate:none", raw,
    )  # fmt: skip
    raw.unlink()
    return raw.with_suffix(".E01")


MADE = {
    "qcow2": pytest.param(qemu("qcow2"), Form.QCOW2, marks=needs("qemu-img")),
    "qcow2, packed": pytest.param(qemu("qcow2", "-c"), Form.QCOW2, marks=needs("qemu-img")),
    "qcow2, zstd": pytest.param(
        qemu("qcow2", "-c", "-o", "compression_type=zstd"), Form.QCOW2, marks=needs("qemu-img")
    ),
    "qcow2, parts of clusters": pytest.param(
        qemu("qcow2", "-o", "extended_l2=on"), Form.QCOW2, marks=needs("qemu-img")
    ),
    "vmdk": pytest.param(qemu("vmdk"), Form.VMDK, marks=needs("qemu-img")),
    "vhd": pytest.param(qemu("vpc", "-o", "force_size=on"), Form.VHD, marks=needs("qemu-img")),
    "vhd, fixed": pytest.param(qemu("vpc", "-o", "subformat=fixed,force_size=on"), Form.VHD, marks=needs("qemu-img")),
    "vhdx": pytest.param(qemu("vhdx"), Form.VHDX, marks=needs("qemu-img")),
    "split": pytest.param(split, Form.RAW, marks=needs("split")),
    "gzip": pytest.param(packed("gzip", ".gz"), Form.GZIP, marks=needs("gzip")),
    "zstd": pytest.param(packed("zstd", ".zst"), Form.ZSTD, marks=needs("zstd")),
    "ewf": pytest.param(acquired, Form.EWF, marks=needs("ewfacquire")),
}


def test_an_array_in_four_forms_is_handed_over(fstripe, pile):
    """Beside the pieces of one, all of which a person names with a wildcard."""
    missing = [tool for tool in ("qemu-img", "ewfacquire", "split", "gzip") if shutil.which(tool) is None]
    if missing:
        pytest.skip(f"{', '.join(missing)} are not installed on this machine")
    folder, members, volume = pile
    plain = fstripe("lineup", "solve", *members, "--json")
    raw = plain.json["arrays"][0]
    makers = (qemu("qcow2", "-c"), split, packed("gzip", ".gz"), acquired)
    made = [make(member) for make, member in zip(makers, members, strict=True)]
    everything = sorted(p for p in folder.iterdir() if p.name.startswith("drive-"))
    solved = fstripe("lineup", "solve", *everything, "--out", folder / "found.toml", "--json")
    array = solved.json["arrays"][0]
    assert array["spans"] == [[str(m) for m in made]]
    assert {k: v for k, v in array.items() if k not in ("spans", "alternatives", "seals")} == {
        k: v for k, v in raw.items() if k not in ("spans", "alternatives", "seals")
    }
    assert [note["what"] for note in solved.json["notes"]] == ["pieces"]
    handed = fstripe("lineup", "extract", folder / "found.toml", folder / "volume.img")
    assert handed.status == plain.status, handed.err  # as sure as the raw images are
    assert (folder / "volume.img").read_bytes()[: volume.stat().st_size] == volume.read_bytes()


@pytest.mark.parametrize(("make", "form"), MADE.values(), ids=MADE.keys())
def test_a_form_gives_the_bytes_of_the_drive(tmp_path, make, form):
    raw = tmp_path / "drive.img"
    raw.write_bytes(drive(random.Random(str(form))))
    data = raw.read_bytes()
    made = make(raw)
    assert form_of(made) is form
    image = open_drive(made)
    assert read(image, 0, image.size) == data.ljust(image.size, b"\0")
    for at, length in ((0, 1), (511, 2), (65535, 131074), (len(data) - 5, 5)):
        assert read(image, at, length) == data[at : at + length]
    image.close()


@needs("qemu-img")
def test_holes_of_a_qcow2_are_known(tmp_path):
    raw = tmp_path / "a.img"
    with raw.open("wb") as file:
        file.truncate(64 << 20)
        file.seek(10 << 20)
        file.write(b"tide" * 4096)
    data = raw.read_bytes()
    image = open_drive(qemu("qcow2")(raw))
    assert sum(b - a for a, b in image.data_ranges()) <= 128 * KIB
    for a, b in ((0, 1 << 20), (10 << 20, 11 << 20)):
        assert read(image, a, b - a) == data[a:b]
    image.close()


@needs("qemu-img")
def test_what_is_only_a_difference_is_refused(tmp_path, fstripe):
    base = tmp_path / "base.qcow2"
    run("qemu-img", "create", "-f", "qcow2", base, "8M")
    run("qemu-img", "create", "-f", "qcow2", "-b", base, "-F", "qcow2", tmp_path / "later.qcow2")
    told = fstripe("lineup", "solve", tmp_path / "later.qcow2")
    assert told.status == 1
    assert "only what differs from another image" in told.err


@needs("qemu-img")
def test_forms_that_are_known_and_not_read_are_never_taken_for_raw(tmp_path, fstripe):
    run("qemu-img", "create", "-f", "vdi", tmp_path / "a.vdi", "8M")
    told = fstripe("lineup", "solve", tmp_path / "a.vdi")
    assert told.status == 1
    assert "a VDI file, which is not read here" in told.err


def test_without_the_library_the_way_to_it_is_said(tmp_path, fstripe, monkeypatch):
    (tmp_path / "a.vmdk").write_bytes(b"KDMV" + bytes(1020))

    def gone(name):
        raise ImportError(name)

    monkeypatch.setattr(forms.importlib, "import_module", gone)
    with pytest.raises(MediaError, match=r"the library that reads it is not installed.*faithful-stripe\[images\]"):
        open_drive(tmp_path / "a.vmdk")


@pytest.mark.parametrize("head", [b"QFI\xfb\0\0\0\x03", b"vhdxfile", b"KDMV\1\0\0\0", b"EVF\x09\x0d\x0a\xff\x00"])
def test_a_damaged_container_is_one_clear_line(tmp_path, fstripe, head):
    (tmp_path / "a.img").write_bytes(head + bytes(4096 - len(head)))
    told = fstripe("lineup", "solve", tmp_path / "a.img")
    assert told.status == 1
    assert "structure is damaged or not known" in told.err
    assert len(told.err.strip().splitlines()) == 1


def test_a_drive_that_begins_like_a_compressed_file_is_a_drive(tmp_path):
    (tmp_path / "a.img").write_bytes(b"\x1f\x8b\x08" + bytes(4093))
    assert form_of(tmp_path / "a.img") is Form.RAW
    (tmp_path / "a.gz").write_bytes(b"\x1f\x8b\x08" + bytes(4093))
    assert form_of(tmp_path / "a.gz") is Form.GZIP


def test_a_missing_piece_of_a_split_image_is_named(tmp_path, fstripe):
    for number in (1, 2, 4):
        (tmp_path / f"a.img.{number:03d}").write_bytes(bytes(4096))
    told = fstripe("lineup", "solve", *sorted(tmp_path.glob("a.img.*")))
    assert told.status == 1
    assert "a.img.003: this piece of a split image is missing" in told.err


MAP = """# Mapfile. Created by a copier
# current_pos  current_status  current_pass
0x00200000     ?               1
#      pos        size  status
0x00000000  0x00100000  +
0x00100000  0x00010000  -
0x00110000  0x000F0000  +
0x00200000  0x00E00000  ?
"""


def test_what_the_map_does_not_know_cannot_be_read(tmp_path):
    image = tmp_path / "a.img"
    image.write_bytes(b"x" * (16 << 20))
    (tmp_path / "a.img.map").write_text(MAP)
    assert read_map(tmp_path / "a.img.map", 16 << 20) == [(0, 0x100000), (0x110000, 0x200000)]
    opened = open_drive(image)
    assert read(opened, 0, 4096) == b"x" * 4096
    for at in (0x0FF000, 0x100000, 0x10F000, 0x200000, (16 << 20) - 4096):
        with pytest.raises(Unreadable):
            read(opened, at, 8192 if at < 0x200000 else 4096)
    assert list(opened.data_ranges()) == [(0, 16 << 20)]
    opened.close()


@pytest.mark.parametrize(("line", "found"), [("0x0 0x10", "line 9"), ("0x0 0x10 z", "line 9"), ("one two +", "line 9")])
def test_a_damaged_map_is_said_and_not_ignored(tmp_path, fstripe, line, found):
    (tmp_path / "a.img").write_bytes(bytes(4096))
    (tmp_path / "a.map").write_text(MAP + line + "\n")
    told = fstripe("lineup", "solve", tmp_path / "a.img")
    assert told.status == 1
    assert found in told.err


def rescued(raw, name, good):
    """A copy of `raw` in which only some ranges were read, with the copier's own map: made by the copier."""
    made = raw.with_name(name)
    for at, length in good:
        run("ddrescue", "-q", "-i", at, "-o", at, "-s", length, raw, made, f"{made}.map")
    with made.open("r+b") as file:
        file.truncate(raw.stat().st_size)
    return made


@needs("ddrescue")
def test_two_passes_over_one_drive_are_one_image(fstripe, certain_pile):
    folder, members, volume = certain_pile
    size, half = members[1].stat().st_size, members[1].stat().st_size // 2 // 65536 * 65536
    first = rescued(members[1], "first.img", [(0, half)])
    second = rescued(members[1], "second.img", [(half - 65536, size - half + 65536)])
    members[1].unlink()
    members[2].unlink()  # no redundancy is left: every byte must come from the two passes
    both = f"{first}+{second}"
    solved = fstripe("lineup", "solve", members[0], both, members[3], "--out", folder / "found.toml", "--json")
    assert solved.json["arrays"][0]["spans"] == [[str(members[0]), both, None, str(members[3])]]
    fstripe("lineup", "extract", folder / "found.toml", folder / "volume.img")
    assert (folder / "volume.img").read_bytes()[: volume.stat().st_size] == volume.read_bytes()


@needs("ddrescue")
def test_half_an_image_serves_where_it_was_read_and_is_computed_where_not(fstripe, pile):
    folder, members, volume = pile
    half = members[1].stat().st_size // 2 // 65536 * 65536
    rescued(members[1], "half.img", [(0, half)])
    members[1].unlink()
    images = [*(m for m in members if m.exists()), folder / "half.img", folder / "half.img.map"]
    solved = fstripe("lineup", "solve", *images, "--out", folder / "found.toml", "--json")
    array = solved.json["arrays"][0]
    assert array["spans"] == [[str(members[0]), str(folder / "half.img"), str(members[2]), str(members[3])]]
    handed = fstripe("lineup", "extract", folder / "found.toml", folder / "volume.img")
    assert (folder / "volume.img").read_bytes()[: volume.stat().st_size] == volume.read_bytes()
    assert "computed from the other members" in handed.out


def test_holes_and_written_zeros_are_the_same(fstripe, pile):
    """A copy of a drive has its zeros written out; the answer is that of the sparse files."""
    _folder, members, _volume = pile
    sparse = fstripe("lineup", "solve", *members, "--json").json["arrays"]
    for member in members:
        data = member.read_bytes()
        member.unlink()
        member.write_bytes(data)
        assert member.stat().st_blocks * 512 >= len(data)
    assert fstripe("lineup", "solve", *members, "--json").json["arrays"] == sparse


QEMU_FORMS = (
    "qcow2 compat=0.10", "qcow2 cluster_size=4096", "qcow2 extended_l2=on", "qcow2 preallocation=full",
    "vmdk subformat=streamOptimized", "vmdk subformat=twoGbMaxExtentSparse", "vmdk subformat=monolithicFlat",
    "vhdx subformat=fixed",
)  # fmt: skip


@needs("qemu-img")
@pytest.mark.parametrize("words", QEMU_FORMS)
def test_every_variant_gives_the_bytes_of_the_drive(tmp_path, words):
    rng = random.Random(words)
    raw = tmp_path / "drive.img"
    raw.write_bytes(drive(rng))
    data = raw.read_bytes()
    kind, option = words.split()
    image = open_drive(qemu(kind, "-o", option)(raw))
    data = data.ljust(image.size, b"\0")
    assert read(image, 0, image.size) == data
    for _ in range(40):
        at = rng.randrange(image.size)
        length = rng.randrange(min(200_000, image.size - at) + 1)
        assert read(image, at, length) == data[at : at + length]
    known = bytearray(len(data))
    for a, b in image.data_ranges():
        known[a:b] = data[a:b]
    assert known == data
    image.close()


def test_a_map_beside_a_split_image_or_a_container_counts_too(tmp_path):
    """What a copier did not read is unreadable in every form; lines that contradict one another were not read."""
    data = random.Random(2).randbytes(4 << 20)
    for number in (1, 2):
        (tmp_path / f"a.img.{number:03d}").write_bytes(data[(number - 1) << 21 : number << 21])
    (tmp_path / "a.img.map").write_text("0x0 ?\n0x0 0x400000 +\n0x300000 0x1000 -\n")
    image = open_drive(tmp_path / "a.img.001")
    assert read(image, 0, 3 << 20) == data[: 3 << 20] and read(image, 0x301000, 512) == data[0x301000:0x301200]
    with pytest.raises(Unreadable):
        read(image, 0x300000, 512)
    image.close()


@needs("qemu-img")
def test_a_change_of_a_container_is_noticed(tmp_path):
    raw = tmp_path / "a.img"
    raw.write_bytes(bytes(1 << 20))
    for image in (open_drive(qemu("qcow2")(raw)),):
        before = image.written
        assert before > 0
        os.utime(image.path, ns=(before + 10**9, before + 10**9))
        assert image.written != before
        image.close()
