"""Shapes: whether a parsed document is made as its reader expects, before anything of it is used."""

from __future__ import annotations

import math
from typing import Any

LARGEST = 1 << 80
"""No number of bytes, seconds or anything else is larger."""


def fits(value: Any, shape: Any) -> bool:
    """Whether a value has a shape.

    shape  str, bool, int, float (whole numbers, too; finite), None, or object for anything; a tuple of shapes of which
           one must fit; a list of the shape that every entry has; a dictionary of shapes by name, a name that ends in
           "?" may be missing, and the name "*" stands for all others

    >>> fits({"bay": "5", "hours": 3}, {"bay": str, "hours": float, "note?": str})
    True
    >>> fits({"bay": 5}, {"bay": str}), fits([1, "a"], [int]), fits(float("nan"), float)
    (False, False, False)
    """
    if shape is object:
        return True
    if shape is None:
        return value is None
    if isinstance(shape, tuple):
        return any(fits(value, one) for one in shape)
    if isinstance(shape, list):
        return isinstance(value, list) and all(fits(v, shape[0]) for v in value)
    if isinstance(shape, dict):
        return isinstance(value, dict) and _object(value, shape)
    if shape is bool or shape is str:
        return isinstance(value, shape)
    if isinstance(value, bool) or not isinstance(value, int if shape is int else int | float):
        return False
    return -LARGEST < value < LARGEST and (isinstance(value, int) or math.isfinite(value))


def _object(value: dict[Any, Any], shape: dict[str, Any]) -> bool:
    named = {name.removesuffix("?"): one for name, one in shape.items() if name != "*"}
    if any(name not in value for name in shape if not name.endswith("?") and name != "*"):
        return False
    rest = shape.get("*", object)
    return all(isinstance(name, str) and fits(inner, named.get(name, rest)) for name, inner in value.items())
