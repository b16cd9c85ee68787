"""CRC-32C (Castagnoli) over many records at once, forwards and backwards.

A CRC without its final inversion is linear over GF(2): the state after a record is the start state
advanced by its length, plus the CRC of the record from state 0. So records are folded in halves, all at
once, and the state *before* a record can be computed from the state after it; this is how a checksum
that covers an object's number gives that number back.

States here are raw: no inversion at either end. Polynomial 0x1EDC6F41, reflected (RFC 3720, appendix B.4).

Of long records a library that uses the processor's own instruction is many times faster, one record after the other.
"""

from __future__ import annotations

from functools import lru_cache

import google_crc32c
import numpy as np
import numpy.typing as npt

Uint32 = npt.NDArray[np.uint32]
Uint8 = npt.NDArray[np.uint8]

_REFLECTED = 0x82F63B78


def _byte_table() -> tuple[int, ...]:
    table = []
    for value in range(256):
        for _ in range(8):
            value = value >> 1 ^ (_REFLECTED if value & 1 else 0)
        table.append(value)
    return tuple(table)


_TABLE = _byte_table()
_BY_TOP = {entry >> 24: i for i, entry in enumerate(_TABLE)}


def crc(data: bytes, state: int = 0xFFFFFFFF) -> int:
    """The raw state after `data`, one byte at a time: for a few bytes.

    >>> hex(crc(b"123456789") ^ 0xFFFFFFFF)
    '0xe3069283'
    """
    for byte in data:
        state = state >> 8 ^ _TABLE[(state ^ byte) & 0xFF]
    return state


def _step(state: int, backwards: bool) -> int:
    """One zero byte onwards, or back."""
    if not backwards:
        return state >> 8 ^ _TABLE[state & 0xFF]
    i = _BY_TOP[state >> 24]
    return (state ^ _TABLE[i]) << 8 & 0xFFFFFFFF | i


def _apply(columns: tuple[int, ...], state: int) -> int:
    out = 0
    for bit in range(32):
        if state >> bit & 1:
            out ^= columns[bit]
    return out


@lru_cache(maxsize=512)
def _operator(count: int) -> tuple[int, ...]:
    """The images of the 32 unit states after `count` zero bytes (negative: before)."""
    if abs(count) <= 1:
        return tuple(_step(1 << b, count < 0) if count else 1 << b for b in range(32))
    half = _operator(int(count / 2))
    whole = tuple(_apply(half, state) for state in half)
    rest = count - 2 * int(count / 2)
    return tuple(_apply(_operator(rest), state) for state in whole) if rest else whole


@lru_cache(maxsize=64)
def _tables(count: int) -> tuple[Uint32, Uint32, Uint32, Uint32]:
    columns = _operator(count)
    return tuple(  # type: ignore[return-value]
        np.array([_apply(columns, value << 8 * byte) for value in range(256)], np.uint32) for byte in range(4)
    )


def advance(states: Uint32, count: int) -> Uint32:
    """The states after `count` zero bytes; a negative count goes back."""
    t0, t1, t2, t3 = _tables(count)
    s = states.astype(np.uint32, copy=False)
    result: Uint32 = t0[s & 0xFF] ^ t1[s >> 8 & 0xFF] ^ t2[s >> 16 & 0xFF] ^ t3[s >> 24]
    return result


def crc_many(records: Uint8, state: int | Uint32 = 0) -> Uint32:
    """Raw states after each record: uint32 (n,) from uint8 (n, length); `state` one for all or one each."""
    n, length = records.shape
    if length >= LONG_BYTES:
        return _one_by_one(records, state)
    words = 1
    while words * 4 < length:
        words *= 2
    padded = np.zeros((n, words * 4), np.uint8)
    padded[:, words * 4 - length :] = records  # zeros in front change nothing from state 0
    folded: Uint32 = padded.view("<u4").astype(np.uint32, copy=False)
    span = 4
    while folded.shape[1] > 1:
        folded = advance(folded[:, 0::2], span) ^ folded[:, 1::2]
        span *= 2
    start = np.broadcast_to(np.asarray(state, np.uint32), (n,))
    return advance(folded[:, 0], 4) ^ advance(start, length)


LONG_BYTES = 96
"""Records from this length on are faster one by one than folded together."""


def _one_by_one(records: Uint8, state: int | Uint32) -> Uint32:
    n, length = records.shape
    data, extend = records.tobytes(), google_crc32c.extend
    starts = (np.broadcast_to(np.asarray(state, np.uint32), (n,)) ^ np.uint32(0xFFFFFFFF)).tolist()
    found = (extend(s, data[i * length : (i + 1) * length]) for i, s in enumerate(starts))
    return np.fromiter(found, np.uint32, n) ^ np.uint32(0xFFFFFFFF)


def state_before(after: Uint32, records: Uint8) -> Uint32:
    """The raw state before each record, given the state after it."""
    return advance(after ^ crc_many(records), -records.shape[1])
