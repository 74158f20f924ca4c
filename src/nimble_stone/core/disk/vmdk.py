"""Stream-optimized VMDK, as OVA packages carry it: a sparse header, a grain directory, tables, and deflated grains.

Supported: versions 1 to 3, compressed grains with markers, the directory at the start or announced by a footer.
Refused: other subformats, and any table or grain that points outside the file. Ends are half-open, sizes in bytes.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from isal import isal_zlib
from numpy.typing import NDArray

from nimble_stone.core.disk.source import Source
from nimble_stone.core.errors import FormatError

SECTOR = 512
MAGIC = b"KDMV"
AT_END = 0xFFFF_FFFF_FFFF_FFFF
MAX_CAPACITY = 64 << 40
_HEADER = struct.Struct("<4sIIQQQQIQQQB4sH")
_FLAG_ZERO_GRAINS, _FLAG_COMPRESSED = 0x4, 0x10000


@dataclass(frozen=True)
class Layout:
    """Where the grains of a disk lie. `sectors[i]` is the file sector of grain i, 0 for a hole, 1 for zeros."""

    capacity_bytes: int
    grain_bytes: int
    sectors: NDArray[np.uint32]

    @property
    def present(self) -> NDArray[np.int64]:
        """Indices of grains that hold data, ascending."""
        return np.flatnonzero(self.sectors > 1)


def looks_like(head: bytes) -> bool:
    """Whether a file that begins so is a sparse VMDK."""
    return head[:4] == MAGIC


def read_layout(source: Source) -> Layout:
    """Read header and tables. Cost: one read per grain table present. Raises FormatError."""
    header = _header(source, 0)
    if header[8] == AT_END or header[9] == AT_END:
        header = _header(source, source.size_bytes - 2 * SECTOR)
    (_, version, flags, capacity, grain, _, _, per_table, _, directory, _, _, check, method) = header
    if version not in (1, 2, 3):
        raise FormatError(f"VMDK header says version {version}; versions 1 to 3 are read", code="vmdk-version", place="byte 4")
    if not flags & _FLAG_COMPRESSED or method != 1:
        raise FormatError("the VMDK is not stream-optimized (its grains are not deflated)", code="vmdk-kind", place="byte 8",
                          hint="Convert it to a stream-optimized VMDK before packing.")
    if check != b"\n \r\n":
        raise FormatError("the VMDK was damaged by a text-mode transfer (line ends changed)", code="vmdk-line-ends", place="byte 73",
                          hint="Copy the file again in binary mode.")
    if grain not in (8, 16, 32, 64, 128, 256, 512, 1024, 2048) or per_table != 512 or not 0 < capacity * SECTOR <= MAX_CAPACITY:
        raise FormatError(f"impossible VMDK geometry (grain of {grain} sectors, {per_table} entries a table, {capacity} sectors)",
                          code="vmdk-geometry", place="byte 12")
    count = -(-capacity // grain)
    tables = -(-count // per_table)
    if tables * 4 > source.size_bytes:
        raise FormatError("the VMDK's directory would be larger than its file", code="vmdk-geometry", place="byte 12")
    entries = np.frombuffer(_read(source, directory * SECTOR, tables * 4), dtype="<u4")
    if int((entries > 0).sum()) * per_table * 4 > source.size_bytes:
        raise FormatError("the VMDK's grain tables overlap", code="vmdk-table")
    sectors = np.zeros(tables * per_table, dtype=np.uint32)
    for index in np.flatnonzero(entries):
        table = _read(source, int(entries[index]) * SECTOR, per_table * 4)
        sectors[index * per_table:(index + 1) * per_table] = np.frombuffer(table, dtype="<u4")
    sectors = sectors[:count]
    if not flags & _FLAG_ZERO_GRAINS and bool((sectors == 1).any()):
        raise FormatError("a grain points into the VMDK's header", code="vmdk-table")
    if bool((sectors.astype(np.int64) * SECTOR >= source.size_bytes).any()):
        raise FormatError("a grain points behind the end of the VMDK: the file is cut short", code="disk-truncated")
    return Layout(capacity * SECTOR, grain * SECTOR, sectors)


def read_grains(source: Source, layout: Layout) -> Iterator[tuple[int, bytes]]:
    """(offset in the disk, bytes) of each grain that holds data, ascending; the last may be shorter than a grain.

    Raises: FormatError at the first grain that is damaged. Memory: one grain.
    """
    for index in layout.present.tolist():
        at = int(layout.sectors[index]) * SECTOR
        lba, size = struct.unpack("<QI", _read(source, at, 12))
        if lba * SECTOR != index * layout.grain_bytes or not 0 < size <= 2 * layout.grain_bytes + 1024:
            raise FormatError(f"the marker of grain {index} does not fit its place", code="vmdk-grain", place=f"byte {at}")
        offset = index * layout.grain_bytes
        yield offset, _inflate(_read(source, at + 12, size), layout.grain_bytes, at)[:layout.capacity_bytes - offset]


def _inflate(packed: bytes, expected: int, at: int) -> bytes:
    inflater = isal_zlib.decompressobj()
    try:
        data: bytes = inflater.decompress(packed, expected + 1)
    except (isal_zlib.error, zlib.error) as error:  # type: ignore[misc]  # isal has no types
        raise FormatError(f"a grain cannot be inflated: {error}", code="vmdk-grain", place=f"byte {at}") from error
    if len(data) > expected:
        raise FormatError("a grain inflates to more than its size", code="vmdk-grain", place=f"byte {at}")
    return data if len(data) == expected else data.ljust(expected, b"\0")


def _header(source: Source, at: int) -> tuple[bytes, int, int, int, int, int, int, int, int, int, int, int, bytes, int]:
    fields = _HEADER.unpack(_read(source, at, _HEADER.size)) if at >= 0 else (b"",)
    if fields[0] != MAGIC:
        raise FormatError("the disk is not a sparse VMDK (its first bytes differ)" if at == 0
                          else "the VMDK has no footer where it announces one: the file is cut short", code="vmdk-magic", place=f"byte {max(at, 0)}")
    return fields


def _read(source: Source, offset: int, length: int) -> bytes:
    if offset + length > source.size_bytes:
        raise FormatError("the disk file ends before its content does", code="disk-truncated", place=f"byte {offset}")
    return source.read_at(offset, length)
