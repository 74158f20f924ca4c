"""Installer ISO images (ECMA-119, El Torito): volume label, size, and how they boot."""

from __future__ import annotations

from dataclasses import dataclass

from nimble_stone.core.disk.source import Source
from nimble_stone.core.errors import FormatError

SECTOR = 2048
_BIOS, _UEFI = 0x00, 0xEF


@dataclass(frozen=True)
class IsoFacts:
    """What an image says of itself. `volume_bytes` as it claims."""

    label: str
    volume_bytes: int
    boots_bios: bool
    boots_uefi: bool


def read(source: Source) -> IsoFacts:
    """Read the volume descriptors and the boot catalogue: at most 20 sectors. Raises
    FormatError.
    """
    label, volume, catalogue = "", 0, 0
    for sector in range(16, 32):
        if (sector + 1) * SECTOR > source.size_bytes:
            raise FormatError(
                "the ISO image ends before its volume descriptors do",
                code="iso-truncated",
                place=f"byte {sector * SECTOR}",
            )
        block = source.read_at(sector * SECTOR, SECTOR)
        if block[1:6] != b"CD001":
            raise FormatError(
                "a volume descriptor is damaged",
                code="iso-descriptor",
                place=f"byte {sector * SECTOR}",
                clause="ECMA-119 8.1",
            )
        if block[0] == 1:
            label = block[40:72].decode("ascii", "replace").rstrip(" \0")
            volume = int.from_bytes(block[80:84], "little") * int.from_bytes(
                block[128:130], "little"
            )
        elif block[0] == 0 and block[7:30] == b"EL TORITO SPECIFICATION":
            catalogue = int.from_bytes(block[71:75], "little")
        elif block[0] == 255:
            break
    platforms = _platforms(source, catalogue) if catalogue else set()
    return IsoFacts(
        "".join(c if c.isprintable() else "?" for c in label),
        volume,
        _BIOS in platforms,
        _UEFI in platforms,
    )


def _platforms(source: Source, catalogue: int) -> set[int]:
    if (catalogue + 1) * SECTOR > source.size_bytes:
        return set()
    block = source.read_at(catalogue * SECTOR, SECTOR)
    if block[0] != 1 or block[30:32] != b"\x55\xaa":
        return set()
    found, platform = set(), block[1]
    if block[32] == 0x88:
        found.add(platform)
    at = 64
    while at + 32 <= SECTOR and block[at] in (0x90, 0x91):
        platform, entries = block[at + 1], int.from_bytes(block[at + 2 : at + 4], "little")
        last = block[at] == 0x91
        for _ in range(min(entries, 32)):
            at += 32
            if at < SECTOR and block[at] == 0x88:
                found.add(platform)
        at += 32
        if last:
            break
    return found


def kernel_version(source: Source) -> str:
    """The version text of a Linux kernel image ('' when it has none); the boot protocol's header at
    0x1f1.
    """
    head = source.read_at(0, min(source.size_bytes, 40 << 10))
    at = int.from_bytes(head[0x20E:0x210], "little") + 0x200
    if at <= 0x200 or at >= len(head):
        return ""
    return "".join(
        c if c.isprintable() else "?"
        for c in head[at : at + 200].split(b"\0", 1)[0].decode("ascii", "replace")
    )
