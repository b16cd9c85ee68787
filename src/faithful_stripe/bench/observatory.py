"""The shipped file-system image, unpacked sparse where it is needed."""

from __future__ import annotations

import lzma
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from pathlib import Path

from ..media.image import ImageFile, create_sparse

NAME = "observatory"
CHUNK = 64 << 10


def unpack(path: Path) -> None:
    """Write the shipped image (ext4, invented tide records) to a new sparse file."""
    packed = resources.files("faithful_stripe.bench").joinpath("data", f"{NAME}.img.xz")
    with packed.open("rb") as file, lzma.open(file) as image:
        pieces = []
        at = 0
        while piece := image.read(CHUNK):
            if piece.count(0) != len(piece):
                pieces.append((at, piece))
            at += len(piece)
    create_sparse(path, at)
    with ImageFile(path, writable=True) as target:
        for offset, piece in pieces:
            target.write(offset, piece)


@contextmanager
def opened(image: Path) -> Iterator[ImageFile]:
    """An image by path, or the shipped one where its name is given and no such file is there."""
    if str(image) == NAME and not image.exists():
        with tempfile.TemporaryDirectory() as scratch:
            path = Path(scratch) / f"{NAME}.img"
            unpack(path)
            with ImageFile(path) as source:
                yield source
        return
    with ImageFile(image) as source:
        yield source
