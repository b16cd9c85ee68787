"""The field GF(2^8) of RAID 6: polynomial x^8 + x^4 + x^3 + x^2 + 1 (0x11D), generator g = 2.

Source: H. P. Anvin, "The mathematics of CTRL-6". Scalars only; the kernels over whole strips are in
`parity.py`.
"""

from __future__ import annotations

POLYNOMIAL = 0x11D


def _tables() -> tuple[tuple[int, ...], tuple[int, ...]]:
    exp, log, value = [0] * 255, [0] * 256, 1
    for power in range(255):
        exp[power], log[value] = value, power
        value <<= 1
        if value & 0x100:
            value ^= POLYNOMIAL
    return tuple(exp), tuple(log)


EXP, LOG = _tables()


def power(exponent: int) -> int:
    """g to the `exponent`; exponents repeat after 255.

    >>> [power(e) for e in (0, 1, 7, 8)]
    [1, 2, 128, 29]
    """
    return EXP[exponent % 255]


def multiply(a: int, b: int) -> int:
    """The product of two field elements 0..255.

    >>> multiply(2, 128), multiply(7, 0)
    (29, 0)
    """
    return EXP[(LOG[a] + LOG[b]) % 255] if a and b else 0


def inverse(a: int) -> int:
    """The element that gives 1 times `a`. Raises ZeroDivisionError for 0."""
    if a == 0:
        raise ZeroDivisionError("0 has no inverse in GF(2^8)")
    return EXP[(255 - LOG[a]) % 255]
