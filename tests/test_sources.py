"""Block sources: one contract, held by every kind; files that appear whole or not at all."""

import errno
import hashlib
import os
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from faithful_stripe.core.arrays.engine import Array
from faithful_stripe.core.arrays.geometry import geometry
from faithful_stripe.core.ranges import clip, subtract, total, union, widen
from faithful_stripe.core.source import MemorySource, OutOfBounds, Pieces, ReadOnlySource, Unreadable, Window, read
from faithful_stripe.media.image import ImageFile, MediaError, TruncatedImage, create_sparse
from faithful_stripe.media.parts import Parts, create_image, open_image, part_path
from faithful_stripe.media.whole import copy_data, new_image, sha256, write_text

SIZE = 1 << 20


def memory(_folder: Path):
    return MemorySource(SIZE)


def image(folder: Path):
    create_sparse(folder / "drive.img", SIZE)
    return ImageFile(folder / "drive.img", writable=True)


def parts(folder: Path):
    for number, size in ((1, 300_000), (2, 12_288), (3, SIZE - 312_288)):
        create_sparse(part_path(folder / "drive.img", number), size)
    return open_image(folder / "drive.img", writable=True, expected_size=SIZE)


def array(_folder: Path):
    made = geometry("RAID5", 3, 4096, member_bytes=SIZE // 2)
    return Array(made, [MemorySource(SIZE // 2) for _ in range(3)])


@pytest.mark.parametrize("kind", [memory, image, parts, array])
class TestEverySource:
    def test_is_zeros_until_written(self, kind, tmp_path):
        source = kind(tmp_path)
        assert source.size == SIZE and not any(read(source, 0, SIZE)) and list(source.data_ranges()) == []

    def test_keeps_what_is_written_where_it_is_written(self, kind, tmp_path):
        source = kind(tmp_path)
        source.write(70_001, b"tide" * 5000)
        source.flush()
        assert read(source, 70_001, 20_000) == b"tide" * 5000
        assert not any(read(source, 0, 70_001)) and not any(read(source, 90_001, 5000))

    def test_names_its_data_and_only_that(self, kind, tmp_path):
        source = kind(tmp_path)
        source.write(300_000, b"x")
        ranges = list(source.data_ranges())
        assert sum(b - a for a, b in ranges) <= 16384 and any(a <= 300_000 < b for a, b in ranges)
        assert list(source.data_ranges(0, 200_000)) == []

    def test_discard_makes_zeros(self, kind, tmp_path):
        source = kind(tmp_path)
        source.write(0, b"\xff" * 100_000)
        source.discard(5000, 90_000)
        assert read(source, 0, 100_000) == b"\xff" * 5000 + bytes(90_000) + b"\xff" * 5000

    def test_refuses_what_is_outside(self, kind, tmp_path):
        source = kind(tmp_path)
        for offset, length in ((SIZE, 1), (SIZE - 1, 2), (-1, 1)):
            with pytest.raises(OutOfBounds, match="are outside its 1048576 bytes"):
                source.read_into(offset, bytearray(length))
            with pytest.raises(OutOfBounds):
                source.write(offset, bytes(length))


def test_a_window_is_a_part_with_its_own_count():
    whole = MemorySource(SIZE)
    whole.write(8192, b"here")
    part = Window(whole, 8192, 4096, "part")
    assert read(part, 0, 4) == b"here" and part.size == 4096
    assert list(part.data_ranges()) == [(0, 4096)] and list(part.data_ranges(0, 100)) == [(0, 100)]
    with pytest.raises(OutOfBounds):
        read(part, 4090, 10)


def test_a_read_only_image_cannot_be_changed(tmp_path):
    create_sparse(tmp_path / "a.img", 4096)
    with ImageFile(tmp_path / "a.img") as source:
        with pytest.raises(ReadOnlySource):
            source.write(0, b"x")
        with pytest.raises(ReadOnlySource):
            source.discard(0, 10)


def test_an_image_cut_short_is_named(tmp_path):
    create_sparse(tmp_path / "a.img", 8192)
    with ImageFile(tmp_path / "a.img") as source:
        os.truncate(tmp_path / "a.img", 4096)
        with pytest.raises(Unreadable):
            read(source, 0, 8192)
    with pytest.raises(TruncatedImage, match="holds 4096 bytes, expected 8192"):
        ImageFile(tmp_path / "a.img", expected_size=8192)


@pytest.mark.parametrize("name", ["missing.img", "."])
def test_what_is_no_image_is_refused(tmp_path, name):
    with pytest.raises(MediaError):
        ImageFile(tmp_path / name)


def test_a_new_image_is_whole_or_not_there(tmp_path):
    with pytest.raises(RuntimeError), new_image(tmp_path / "out.img", 4096):
        raise RuntimeError
    assert list(tmp_path.iterdir()) == []
    with new_image(tmp_path / "out.img", 4096) as target:
        target.write(0, b"done")
    assert (tmp_path / "out.img").read_bytes()[:4] == b"done" and len(list(tmp_path.iterdir())) == 1
    with pytest.raises(MediaError, match="exists already"), new_image(tmp_path / "out.img", 4096):
        pass
    with pytest.raises(MediaError, match="exists already"):
        write_text(tmp_path / "out.img", "x")
    assert (tmp_path / "out.img").read_bytes()[:4] == b"done"


def test_a_sparse_copy_has_the_hash_of_the_whole(tmp_path):
    source = MemorySource(3 << 20)
    source.write(100, b"a" * 5000)
    source.write(2 << 20, b"b" * 70_000)
    with new_image(tmp_path / "copy", (3 << 20) - 50) as target:
        copy_data(source, 50, (3 << 20) - 50, target)
    data = read(source, 0, 3 << 20)
    assert (tmp_path / "copy").read_bytes() == data[50:]
    assert (tmp_path / "copy").stat().st_blocks * 512 < 200_000
    assert sha256(source, 50) == hashlib.sha256(data[50:]).hexdigest()


def test_ranges():
    assert union([(5, 5), (3, 4), (0, 2)], gap=1) == [(0, 4)]
    assert clip([(0, 4), (6, 9)], 3, 7) == [(3, 4), (6, 7)]
    assert widen([(5, 6)], 4, origin=1) == [(5, 9)]
    assert subtract([(0, 10)], [(0, 1), (5, 20)]) == [(1, 5)]


def test_a_drive_larger_than_the_file_system_allows_is_made_of_parts(tmp_path, monkeypatch):
    monkeypatch.setattr("faithful_stripe.media.parts.create_sparse", _at_most_a_mebibyte)
    create_image(tmp_path / "big.img", (5 << 20) // 2, part_bytes=1 << 20)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["big.img", "big.img.part2", "big.img.part3"]
    with open_image(tmp_path / "big.img") as joined:
        assert isinstance(joined, Parts) and joined.size == (5 << 20) // 2
    with pytest.raises(TruncatedImage):
        open_image(tmp_path / "big.img", expected_size=3 << 20)
    (tmp_path / "new.img.part2").touch()
    with pytest.raises(MediaError):
        create_image(tmp_path / "new.img", 2 << 20, part_bytes=1 << 20)
    assert not (tmp_path / "new.img").exists()


def _at_most_a_mebibyte(path, size):
    if size > 1 << 20:
        raise MediaError(path=path, what="too large", to_do="") from OSError(errno.EFBIG, "too large")
    create_sparse(path, size)


@given(st.lists(st.tuples(st.integers(0, 900), st.integers(1, 90)), min_size=1, max_size=6), st.data())
def test_pieces_read_as_they_follow_one_another(places, data):
    """Whatever their order, and where they overlap; and where a range of the source stands in them."""
    content = np.random.default_rng(1).integers(1, 256, 1000, np.uint8).tobytes()
    source = MemorySource(1000)
    source.write(0, content)
    ranges = [(a, a + n) for a, n in places]
    whole = b"".join(content[a:b] for a, b in ranges)
    made = Pieces(source, ranges)
    start = data.draw(st.integers(0, len(whole)))
    end = data.draw(st.integers(start, len(whole)))
    buffer = bytearray(end - start)
    made.read_into(start, buffer)
    assert made.size == len(whole) and buffer == whole[start:end]
    assert total(made.data_ranges()) == len(whole)
    low, high = sorted((data.draw(st.integers(0, 1000)), data.draw(st.integers(0, 1000))))
    origin = [at for a, b in ranges for at in range(a, b)]
    assert {at for a, b in made.inward([(low, high)]) for at in range(a, b)} == {
        n for n, at in enumerate(origin) if low <= at < high
    }
