"""On-disk formats: known check values, damage of every kind, and structures declared once."""

import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.formats import ext4
from faithful_stripe.core.formats.crc32c import crc, crc_many, state_before
from faithful_stripe.core.formats.declared import Field, FormatError, Layout
from faithful_stripe.core.formats.probe import SIGNATURES, describe
from faithful_stripe.core.source import MemorySource, read
from faithful_stripe.media.image import ImageFile

# RFC 3720, appendix B.4
CHECK_VALUES = [(bytes(32), 0x8A9136AA), (b"\xff" * 32, 0x62A8AB43), (bytes(range(32)), 0x46DD794E)]


@pytest.mark.parametrize(("data", "value"), CHECK_VALUES)
def test_crc32c_check_values(data, value):
    assert crc(data) ^ 0xFFFFFFFF == value
    many = np.frombuffer(data * 3, np.uint8).reshape(3, len(data))
    assert (crc_many(many, 0xFFFFFFFF) ^ 0xFFFFFFFF == value).all()


@given(st.binary(min_size=1, max_size=300), st.integers(0, 2**32 - 1))
def test_crc32c_of_many_agrees_with_one_by_one_and_runs_backwards(data, state):
    tides = np.frombuffer(data, np.uint8).reshape(1, -1)
    after = crc_many(tides, state)
    assert after.tolist() == [crc(data, state)]
    assert state_before(after, tides).tolist() == [state]


def test_a_layout_reads_and_writes_and_says_where_data_end():
    made = Layout("head", 16, ">", (Field(0, "magic", "I"), Field(4, "name", "8s"), Field(14, "n", "H")))
    data = made.write({"magic": 0xDE11, "n": 7, "name": b"gauge"})
    assert data == struct.pack(">I8s2xH", 0xDE11, b"gauge", 7)
    assert made.read(data)["n"] == 7 and np.frombuffer(data, made.dtype)["magic"][0] == 0xDE11
    with pytest.raises(FormatError, match="bay-3: head at byte 4: expected 16 bytes, found 12"):
        made.read(data, 4, "bay-3")
    for wrong in ((Field(0, "a", "I"), Field(2, "b", "H")), (Field(14, "a", "I"),)):
        with pytest.raises(ValueError, match=r"overlaps|reach"):
            Layout("wrong", 16, ">", wrong)


@pytest.mark.parametrize(("offset", "mark", "name"), SIGNATURES, ids=lambda v: str(v))
def test_probe_names_what_it_sees(offset, mark, name):
    source = MemorySource(1 << 20)
    assert describe(source) == ""
    source.write(offset, mark)
    assert describe(source) == name
    source.write(offset, b"?")
    assert describe(source) == "data"


@pytest.fixture
def superblock(observatory):
    with ImageFile(observatory) as source:
        return read(source, 1024, 1024)


def test_a_real_superblock(superblock):
    sb = ext4.parse_superblock(superblock)
    assert (sb.label, sb.block, sb.size, sb.group, sb.groups) == ("tide-records", 4096, 256 << 20, 0, 2)
    assert sb.checked and sb.inode_size == 256 and sb.address(1) == 128 << 20


def test_any_spoilt_byte_of_a_superblock_is_noticed(superblock):
    for at in range(0, 1024, 7):
        spoilt = bytearray(superblock)
        spoilt[at] ^= 0x10
        assert ext4.parse_superblock(bytes(spoilt)) is None, at


@given(st.data())
def test_wrong_values_under_a_right_checksum_never_crash(observatory, data):
    with ImageFile(observatory) as source:
        spoilt = bytearray(read(source, 1024, 1024))
    field = data.draw(st.sampled_from(ext4.SUPERBLOCK.fields))
    size = struct.calcsize("<" + field.code)
    spoilt[field.offset : field.offset + size] = data.draw(st.binary(min_size=size, max_size=size))
    spoilt[0x3FC:] = crc(bytes(spoilt[:0x3FC])).to_bytes(4, "little")
    sb = ext4.parse_superblock(bytes(spoilt))
    if sb is not None:
        assert 0 < sb.groups <= 1 << 17 and sb.group < sb.groups


def test_the_shipped_file_system_proves_itself(observatory):
    with ImageFile(observatory) as source:
        fs = ext4.Ext4(source)
        inodes = list(fs.inodes())
        assert len(fs.groups) == 2 and all(good for _inode, good in inodes)
        assert sum(i.is_directory for i, _ in inodes) == 2 + 1 + 4 * 13 + 2 and sum(i.is_file for i, _ in inodes) > 1344
        with pytest.raises(ValueError, match="no superblock"):
            ext4.Ext4(source, 4096)
