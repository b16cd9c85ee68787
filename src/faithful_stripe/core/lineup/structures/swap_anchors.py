"""Swap areas: the one page at their start that names itself; what follows holds whatever memory held.

Places of the fields are those of the published header: a mark at the end of the first page, numbers from byte 1024 on.
"""

from __future__ import annotations

from .ground import SECTOR, Ground, Stock, hits, little

PAGES = (4096, 8192, 16384, 65536)
_MARK = b"SWAPSPACE2"


def heads(stock: Stock) -> list[Ground]:
    """One ground for every swap area of which the first page was found."""
    found: dict[bytes, Ground] = {}
    for piece in stock:
        for row in hits(piece.sectors, SECTOR - len(_MARK), _MARK).tolist():
            made = _header(stock, piece.image, piece.offset + (row + 1) * SECTOR)
            if made is None:
                continue
            at, size, uuid = made
            ground = found.setdefault(b"SWAP" + uuid, Ground(b"SWAP" + uuid, "swap", size, head=True))
            ground.add("first page", piece.image, at, 0)
    return list(found.values())


def _header(stock: Stock, image: int, end: int) -> tuple[int, int, bytes] | None:
    """(where the area begins, its size, its UUID), from the page that ends at `end`; the page's size is the one with
    which the header makes sense."""
    for page in PAGES:
        at = end - page
        if at < 0:
            return None
        head = stock.pile.stretch(image, at + 1024, SECTOR).tobytes()
        version, last, bad = (little(head, place, 4) for place in (0, 4, 8))
        if version == 1 and last and bad <= 637 and any(head[12:28]):
            return at, (last + 1) * page, head[12:28]
    return None


def search(stock: Stock, ground: Ground) -> None:
    """Nothing more: `heads` adds the only anchor there is."""
