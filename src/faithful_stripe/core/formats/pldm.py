"""Firmware update packages of the open standard DMTF DSP0267 (PLDM for Firmware Update), header revision 1.

A package says for which devices it is (PCI ids, model numbers, ...), which component images it carries with which
version, and what has to happen before a new one runs. All numbers are little-endian; the header ends with a CRC-32.
"""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass
from datetime import UTC, datetime

from .declared import FormatError

IDENTIFIER = bytes.fromhex("f018878ccb7d49439800a02f059aca02")
"""PackageHeaderIdentifier of header revision 1 (DSP0267 1.0, table 3)."""

LATER = {
    bytes.fromhex("1244d2648d7d4718a030fc8a56587d5a"): "2",
    bytes.fromhex("3119ce2fe80a4a99af6d46f8b121f6bf"): "3",
    bytes.fromhex("7b291c996db64208801b02026e463c78"): "4",
}
"""Identifiers of the later header revisions, which are recognised and not read."""

PCI_VENDOR, ENTERPRISE, PCI_DEVICE, MODEL = 0x0000, 0x0001, 0x0100, 0x0106
"""Descriptor types (DSP0267 1.0, table 7): PCI vendor, IANA enterprise, PCI device, model number (long, ASCII)."""

ACTIVATIONS = ("automatic", "self-contained", "medium-specific reset", "system reboot", "DC power cycle",
               "AC power cycle")  # fmt: skip
"""What makes a new component run, by bit of RequestedComponentActivationMethod."""

_TEXTS = {0: "latin-1", 1: "ascii", 2: "utf-8", 3: "utf-16", 4: "utf-16-le", 5: "utf-16-be"}


@dataclass(frozen=True)
class Component:
    """One component image: `stamp` compares versions (0 where there is none); `offset`, `size` in bytes of the file."""

    identifier: int
    version: str
    stamp: int
    activation: tuple[str, ...]
    offset: int
    size: int


@dataclass(frozen=True)
class Device:
    """A kind of device that a package is for: descriptors (type, value) and the components it takes, by index."""

    descriptors: tuple[tuple[int, bytes], ...]
    components: tuple[int, ...]

    @property
    def pci(self) -> str:
        """Vendor and device as `PCI\\VEN_1234&DEV_5678`; "" for no PCI device."""
        found = dict(self.descriptors)
        if PCI_VENDOR not in found or PCI_DEVICE not in found:
            return ""
        vendor, device = (int.from_bytes(found[kind], "little") for kind in (PCI_VENDOR, PCI_DEVICE))
        return f"PCI\\VEN_{vendor:04X}&DEV_{device:04X}"

    @property
    def model(self) -> str:
        """The model number; "" where it names none."""
        return dict(self.descriptors).get(MODEL, b"").rstrip(b"\0 ").decode("latin-1")

    @property
    def shown(self) -> str:
        return self.pci or self.model or "a device of unknown kind"


@dataclass(frozen=True)
class Package:
    """What a package says about itself."""

    name: str
    version: str
    released: datetime | None
    devices: tuple[Device, ...]
    components: tuple[Component, ...]


class _Reader:
    """Takes fields off the header one after the other."""

    def __init__(self, name: str, data: bytes) -> None:
        self.name, self.data, self.at = name, data, 0

    def take(self, count: int) -> bytes:
        if self.at + count > len(self.data):
            raise FormatError(
                what=f"{self.name}: the package's header ends at byte {len(self.data)}, "
                f"{count} bytes are expected at {self.at}",
                to_do="it is damaged: fetch it again",
            )
        self.at += count
        return self.data[self.at - count : self.at]

    def number(self, code: str) -> int:
        return int(struct.unpack("<" + code, self.take(struct.calcsize("<" + code)))[0])

    def text(self, kind: int, length: int) -> str:
        raw = self.take(length)
        try:
            return raw.decode(_TEXTS[kind]).rstrip("\0")
        except (KeyError, UnicodeDecodeError) as reason:
            what = f"{self.name}: a text at byte {self.at - length} of the package cannot be read (type {kind})"
            raise FormatError(what=what, to_do="it is damaged: fetch it again") from reason


def is_package(data: bytes) -> bool:
    """Whether these are the first bytes of a package, of any revision."""
    return data[:16] == IDENTIFIER or data[:16] in LATER


def read_package(name: str, data: bytes) -> Package:
    """Read a whole package. Raises FormatError, which says what is wrong with it."""
    if data[:16] in LATER:
        what = f"{name}: a firmware package of header revision {LATER[data[:16]]}"
        raise FormatError(what=what, to_do="only revision 1 can be read; ask the maker for one")
    if data[:16] != IDENTIFIER:
        raise FormatError(what=f"{name}: no firmware package (DSP0267)", to_do="its version cannot be told before")
    reader = _Reader(name, data)
    reader.take(16)
    reader.number("B")
    size = reader.number("H")
    if not 40 <= size <= len(data):
        what = f"{name}: the package's header should have {size} bytes, the file has {len(data)}"
        raise FormatError(what=what, to_do="it is cut short: fetch it again")
    if zlib.crc32(data[: size - 4]) != struct.unpack_from("<I", data, size - 4)[0]:
        raise FormatError(what=f"{name}: the package's header does not match its checksum", to_do="fetch it again")
    reader.data = data[: size - 4]
    released = _timestamp(reader.take(13))
    bitmap = reader.number("H") // 8
    version = reader.text(reader.number("B"), reader.number("B"))
    devices = tuple(_device(reader, bitmap) for _ in range(reader.number("B")))
    components = tuple(_component(reader) for _ in range(reader.number("H")))
    for c in components:
        if c.offset < size or c.offset + c.size > len(data):
            what = f"{name}: component {c.version} should stand at bytes {c.offset} to {c.offset + c.size}"
            raise FormatError(what=f"{what}, the file has {len(data)}", to_do="it is cut short: fetch it again")
    return Package(name, version, released, devices, components)


def _device(reader: _Reader, bitmap: int) -> Device:
    start = reader.at
    length, count, _flags = reader.number("H"), reader.number("B"), reader.number("I")
    kind, text_length, data_length = reader.number("B"), reader.number("B"), reader.number("H")
    bits = int.from_bytes(reader.take(bitmap), "little")
    reader.text(kind, text_length)
    descriptors = []
    for _ in range(count):
        descriptor = reader.number("H")
        descriptors.append((descriptor, reader.take(reader.number("H"))))
    reader.take(data_length)
    if reader.at - start != length:
        what = f"{reader.name}: a device record at byte {start} should have {length} bytes, it has {reader.at - start}"
        raise FormatError(what=what, to_do="the package is damaged: fetch it again")
    return Device(tuple(descriptors), tuple(i for i in range(bitmap * 8) if bits >> i & 1))


def _component(reader: _Reader) -> Component:
    _classification, identifier, stamp = reader.number("H"), reader.number("H"), reader.number("I")
    options, activation = reader.number("H"), reader.number("H")
    offset, size = reader.number("I"), reader.number("I")
    version = reader.text(reader.number("B"), reader.number("B"))
    words = tuple(word for bit, word in enumerate(ACTIVATIONS) if activation >> bit & 1)
    return Component(identifier, version, stamp if options & 2 else 0, words, offset, size)


def _timestamp(raw: bytes) -> datetime | None:
    """A timestamp104 (DSP0240 5.3): offset from UTC in minutes, microseconds, second, ... year."""
    offset = int.from_bytes(raw[0:2], "little", signed=True)
    second, minute, hour, day, month = raw[5:10]
    try:
        local = datetime(int.from_bytes(raw[10:12], "little"), month, day, hour, minute, second, tzinfo=UTC)
        return datetime.fromtimestamp(local.timestamp() - 60 * offset, UTC)
    except (ValueError, OverflowError):
        return None


def write_package(
    version: str, released: datetime, descriptors: tuple[tuple[int, bytes], ...], activation: str, image: bytes
) -> bytes:
    """A package with one component for one kind of device.

    activation  one of ACTIVATIONS. Raises ValueError for another, or a version of more than 255 characters.
    """
    text = version.encode("ascii")
    if len(text) > 255:
        raise ValueError("the version is too long")
    listed = b"".join(struct.pack("<HH", kind, len(value)) + value for kind, value in descriptors)
    body = struct.pack("<BIBBH", len(descriptors), 0, 1, len(text), 0) + b"\x01" + text + listed
    record = struct.pack("<H", len(body) + 2) + body
    moment = released.astimezone(UTC)
    stamped = struct.pack("<hBH", 0, 0, 0) + bytes(
        [moment.second, moment.minute, moment.hour, moment.day, moment.month]
    ) + struct.pack("<HB", moment.year, 0)  # fmt: skip
    before = stamped + struct.pack("<HBB", 8, 1, len(text)) + text + b"\x01" + record + struct.pack("<H", 1)
    after = len(text) + 22 + 4
    size = 19 + len(before) + after
    component = struct.pack(
        "<HHIHHIIBB", 0x000A, 1, 0, 0, 1 << ACTIVATIONS.index(activation), size, len(image), 1, len(text)
    )
    header = IDENTIFIER + struct.pack("<BH", 1, size) + before + component + text
    return header + struct.pack("<I", zlib.crc32(header)) + image
