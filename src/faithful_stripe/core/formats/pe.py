"""Boot programs: the head of a PE/COFF image, as UEFI firmware starts it.

Source: the published PE format (DOS header with `e_lfanew` at byte 60, COFF header, optional header) and the UEFI
specification, section 2.1.1 (subsystem 10, 11, 12; machine types).
"""

from __future__ import annotations

from .declared import Field, FormatError, Layout

DOS = Layout("DOS header", size=64, order="<", fields=(
    Field(0, "magic", "2s", "", "MZ"),
    Field(60, "e_lfanew", "I", "bytes", "where the PE header begins"),
))  # fmt: skip

COFF = Layout("PE header", size=96, order="<", fields=(
    Field(0, "signature", "4s", "", "PE, two zero bytes"),
    Field(4, "machine", "H", "", "the processors that it is for"),
    Field(20, "optional_size", "H", "bytes", "size of the optional header"),
    Field(24, "magic", "H", "", "0x10b: 32 bits, 0x20b: 64 bits"),
    Field(92, "subsystem", "H", "", "10: EFI application, 11, 12: EFI drivers"),
))  # fmt: skip

MACHINES = {0x014C: "x86", 0x8664: "amd64", 0xAA64: "arm64", 0x01C2: "arm", 0x5064: "riscv64", 0x6264: "loongarch64"}
EFI_SUBSYSTEMS = (10, 11, 12)


def machine(data: bytes, where: str) -> str:
    """The processor architecture that a boot program is for, such as "amd64". Raises FormatError for what is none.

    data  the first bytes of the file, some KiB of it
    """
    if len(data) < DOS.size or data[:2] != b"MZ":
        raise FormatError(what=f"{where}: it is no program: its first bytes are not those of a PE image",
                          to_do="write the installer anew")  # fmt: skip
    at = int(DOS.read(data)["e_lfanew"])
    if at + COFF.size > len(data):
        raise FormatError(what=f"{where}: its header should be at byte {at}, the file ends before that",
                          to_do="write the installer anew")  # fmt: skip
    head = COFF.read(data, at)
    if head["signature"] != b"PE\0\0":
        raise FormatError(what=f"{where}: no PE header at byte {at}", to_do="write the installer anew")
    if head["subsystem"] not in EFI_SUBSYSTEMS:
        raise FormatError(what=f"{where}: a program for something else (subsystem {head['subsystem']}), not UEFI",
                          to_do="write the installer anew for UEFI")  # fmt: skip
    return MACHINES.get(int(head["machine"]), f"machine type {head['machine']:#x}")
