"""Small files that a person names: read whole, and bounded. Folders, pipes and devices are refused at once."""

from __future__ import annotations

import errno
import os
import stat
import tomllib
from pathlib import Path
from typing import Any

from .image import words_for

MOST_BYTES = 16 << 20
"""Of a sheet, a list, a plan: more is something else."""


class NotGiven(OSError):
    """A file that is none of the kind that was asked for. An OSError, so that whoever reads a file handles it."""

    def __init__(self, path: Path, words: str) -> None:
        super().__init__(errno.EINVAL, words, str(path))

    def __str__(self) -> str:
        return str(self.strerror)


def bytes_given(path: Path, most: int = MOST_BYTES) -> bytes:
    """The bytes of a file. Raises OSError: not there, no file, or more than `most` bytes.

    Opened without waiting: a pipe that nobody writes to is refused, not waited for.
    """
    fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    with os.fdopen(fd, "rb") as file:
        kind = os.fstat(fd)
        if stat.S_ISDIR(kind.st_mode):
            raise NotGiven(path, "it is a folder")
        if not stat.S_ISREG(kind.st_mode):
            raise NotGiven(path, "it is a pipe or a device, no file")
        if kind.st_size > most:
            raise NotGiven(path, f"it holds {kind.st_size} bytes, more than {most >> 20} MiB")
        return file.read(most + 1)[:most]


def text_given(path: Path, encoding: str = "utf-8") -> str:
    """The text of a file. Raises OSError as `bytes_given` does, UnicodeDecodeError for other bytes."""
    return bytes_given(path).decode(encoding)


def toml_of(text: str) -> dict[str, Any]:
    """A TOML document. Raises tomllib.TOMLDecodeError, and nothing else, for what is none, or none that can be read."""
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        raise
    except RecursionError as reason:
        raise tomllib.TOMLDecodeError("too deeply nested") from reason
    except ValueError as reason:  # a number of thousands of digits
        raise tomllib.TOMLDecodeError("a number in it is too long") from reason


def why_not(reason: Exception) -> str:
    """Why a file was not read, in plain words."""
    if isinstance(reason, NotGiven):
        return str(reason)
    if isinstance(reason, UnicodeDecodeError):
        return f"its byte {reason.start} is no text in UTF-8"
    if isinstance(reason, OSError) and reason.errno is not None:
        what, _to_do = words_for(reason)
        return what
    return str(reason)
