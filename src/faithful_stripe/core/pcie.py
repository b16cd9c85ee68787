"""What a PCIe link carries: lanes by generation."""

from __future__ import annotations

LANE_BYTES = {1: 250e6, 2: 500e6, 3: 984.6e6, 4: 1969.2e6, 5: 3938.5e6, 6: 7563.0e6}
"""Bytes per second and direction of one lane, after line coding: 8b/10b up to generation 2 (2.5 and 5 GT/s), 128b/130b
for 3 to 5 (8, 16, 32 GT/s), flits of 256 bytes for 6 (64 GT/s). Packet headers take some 5 to 20 % more."""


def link_bytes(generation: int, lanes: int) -> float:
    """Bytes per second of a link in one direction. Raises KeyError for an unknown generation.

    >>> round(link_bytes(3, 8) / 1e9, 1)
    7.9
    """
    return LANE_BYTES[generation] * lanes
