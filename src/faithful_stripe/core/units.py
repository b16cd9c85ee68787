"""Sizes and durations as people write them, to and from plain bytes and seconds."""

from __future__ import annotations

import re

from .errors import StripeError

_DECIMAL = {"": 1, "B": 1, "kB": 10**3, "KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12, "PB": 10**15}
_BINARY = {"KiB": 2**10, "MiB": 2**20, "GiB": 2**30, "TiB": 2**40}
_UNITS = {unit.lower(): factor for unit, factor in (_DECIMAL | _BINARY).items()}
_TIME = {"s": 1.0, "m": 60.0, "min": 60.0, "h": 3600.0, "d": 86400.0}


class SizeError(StripeError):
    template = "{text!r} is not a {kind}"
    remedy = "write a number with a unit, such as {example}"
    exit_status = 2


def parse_size(text: str) -> int:
    """Bytes of `text`: decimal units (4TB) or binary ones (64KiB); no unit means bytes.

    Raises SizeError for anything else, for negative sizes and for fractions of a byte.

    >>> parse_size("64KiB"), parse_size("4 TB"), parse_size("1.5MiB")
    (65536, 4000000000000, 1572864)
    """
    match = re.fullmatch(r"\s*(\d+)(?:\.(\d+))?\s*([A-Za-z]*)\s*", text)
    factor = _UNITS.get(match[3].lower()) if match else None
    if match is None or factor is None:
        raise SizeError(text=text, kind="size", example="64KiB or 4TB")
    fraction = match[2] or ""
    scaled = int(match[1] + fraction) * factor
    if scaled % 10 ** len(fraction):
        raise SizeError(text=text, kind="whole number of bytes", example="64KiB or 4TB")
    return int(scaled // 10 ** len(fraction))


LONGEST = 100 * 365.25 * 86400.0
"""Seconds that a person may ask for: a clock beyond them leaves the calendar."""


def parse_duration(text: str) -> float:
    """Seconds of `text`: 90s, 10m, 3h, 2d, or several in a row (1h30m). Raises SizeError otherwise.

    >>> parse_duration("3h"), parse_duration("1h30m")
    (10800.0, 5400.0)
    """
    parts = re.findall(r"(\d+(?:\.\d+)?)\s*(min|[smhd])", text)
    if not parts or re.sub(r"(\d+(?:\.\d+)?)\s*(min|[smhd])", "", text).strip():
        raise SizeError(text=text, kind="duration", example="90s, 10m or 1h30m")
    seconds = float(sum(float(number) * _TIME[unit] for number, unit in parts))
    if seconds > LONGEST:
        raise SizeError(text=text, kind="duration of at most 100 years", example="90s, 10m or 1h30m")
    return seconds


def decimal_size(size: int) -> str:
    """A drive's or volume's size in decimal units, as drives are sold: three figures at most.

    >>> decimal_size(4_000_787_030_016), decimal_size(480_103_981_056), decimal_size(12)
    ('4 TB', '480 GB', '12 B')
    """
    for unit in ("PB", "TB", "GB", "MB", "kB"):
        if size >= 0.9995 * _DECIMAL[unit]:
            value = size / _DECIMAL[unit]
            digits = 2 if value < 9.995 else 1 if value < 99.95 else 0
            text = f"{value:.{digits}f}"
            return f"{text.rstrip('0').rstrip('.') if '.' in text else text} {unit}"
    return f"{size} B"


def binary_size(size: int) -> str:
    """A strip's or region's size in binary units; exact where it divides, else with two digits.

    >>> binary_size(65536), binary_size(1048576), binary_size(1000)
    ('64 KiB', '1 MiB', '1000 B')
    """
    for unit in ("TiB", "GiB", "MiB", "KiB"):
        if size >= _BINARY[unit]:
            value = size / _BINARY[unit]
            return f"{value:.0f} {unit}" if value == int(value) else f"{value:.2f} {unit}"
    return f"{size} B"


def duration(seconds: float) -> str:
    """A time span in the two largest units that say something.

    >>> duration(42), duration(3661), duration(200000)
    ('42 s', '1 h 01 min', '2 d 07 h')
    """
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60:02d} s"
    if whole < 86400:
        return f"{whole // 3600} h {whole % 3600 // 60:02d} min"
    return f"{whole // 86400} d {whole % 86400 // 3600:02d} h"


def chance(value: float) -> str:
    """A chance as a person says it: "1 in 4000", "12 %"."""
    if value >= 0.05:
        return f"{value * 100:.0f} %"
    if value < 1e-9:
        return "below 1 in a thousand million"
    digits = max(0, len(str(int(1 / value))) - 2)
    return f"1 in {round(1 / value, -digits):,.0f}".replace(",", " ")
