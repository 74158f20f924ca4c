"""Reading qcow2 (versions 2 and 3): L1 and L2 tables, plain, zero and deflated clusters.

Refused: encryption, external data files, extended L2 entries, and a backing file - a disk from
outside may name any file of ours.
"""

from __future__ import annotations

import struct
import zlib

import numpy as np
from isal import isal_zlib

from nimble_stone.core.disk.image import MAX_CAPACITY, Image
from nimble_stone.core.disk.source import Source
from nimble_stone.core.errors import FormatError

MAGIC = b"QFI\xfb"
_OFFSET = 0x00FF_FFFF_FFFF_FE00
_COMPRESSED, _ZERO = 1 << 62, 1
_MAX_L1 = 32 << 20


_UNREAD = {
    1: ("qcow2-feature", "is marked as corrupt"),
    2: ("disk-backing", "keeps its data in another file"),
    4: ("qcow2-feature", "uses extended L2 entries"),
}
"""Bits of the incompatible features that are not read: the code, and why."""


def _method(incompatible: int, head: bytes) -> int:
    """How clusters are packed (0 deflate, 1 zstd). Raises FormatError for features that are not
    read.
    """
    for bit, (code, why) in _UNREAD.items():
        if incompatible & (1 << bit):
            raise FormatError(f"the disk {why}", code=code, place="byte 72")
    method = head[104] if incompatible & 8 else 0
    if incompatible & ~0b1111 or method > 1:
        raise FormatError("the disk uses an unknown feature", code="qcow2-feature", place="byte 72")
    return method


class Qcow2Image(Image):
    """A qcow2 disk. Its units are its clusters."""

    kind = "qcow2"

    def __init__(self, source: Source) -> None:
        self._source = source
        head = source.read_at(0, min(112, source.size_bytes)).ljust(112, b"\0")
        if head[:4] != MAGIC:
            raise FormatError(
                "the disk is not qcow2 (its first bytes differ)", code="qcow2-magic", place="byte 0"
            )
        version, backing, backing_size, bits, capacity, crypt, l1_size, l1_at = struct.unpack_from(
            ">IQIIQIIQ", head, 4
        )
        if version not in (2, 3):
            raise FormatError(
                f"qcow2 header says version {version}; versions 2 and 3 are read",
                code="qcow2-version",
                place="byte 4",
            )
        if backing or backing_size:
            raise FormatError(
                "the disk builds on another file (a backing file); a disk from outside is never"
                " followed to files it names",
                code="disk-backing",
                place="byte 8",
                hint="Get the whole disk, or merge it with its base first.",
            )
        if crypt:
            raise FormatError("the disk is encrypted", code="qcow2-encrypted", place="byte 32")
        incompatible = struct.unpack_from(">Q", head, 72)[0] if version == 3 else 0
        method = _method(incompatible, head)
        if not 9 <= bits <= 21 or not 0 < capacity <= MAX_CAPACITY:
            raise FormatError(
                f"impossible qcow2 geometry (clusters of 2^{bits} bytes, {capacity} bytes)",
                code="qcow2-geometry",
                place="byte 20",
            )
        self._bits, self.unit_bytes, self.capacity_bytes = (
            bits,
            1 << bits,
            -(-capacity // 512) * 512,
        )
        if incompatible & 1:
            self.notes = ("the disk was not closed in order; its tables are used as they are",)
        self._load(l1_at, l1_size)
        # the type alone is no reason: an unpacked disk may name one
        if self.packed and method == 1:
            raise FormatError(
                "the disk is compressed with zstd; only deflate is supported",
                code="qcow2-feature",
                place="byte 104",
                hint="Convert it with deflate or without compression.",
            )

    def _load(self, l1_at: int, l1_size: int) -> None:
        """Read L1 and L2. Cost: one read per L2 table present; memory 16 bytes per cluster
        of data.
        """
        per = self.unit_bytes // 8
        clusters = -(-self.capacity_bytes // self.unit_bytes)
        need = -(-clusters // per)
        if l1_size < need or need * 8 > _MAX_L1:
            raise FormatError(
                f"the disk's first table has {l1_size} entries where {need} are needed",
                code="qcow2-table",
                place="byte 36",
            )
        if l1_at + need * 8 > self._source.size_bytes or l1_at % self.unit_bytes:
            raise FormatError(
                "the disk's first table is outside the file: it is cut short",
                code="disk-truncated",
                place="byte 40",
            )
        l1 = np.frombuffer(self._source.read_at(l1_at, need * 8), dtype=">u8").astype(np.uint64)
        offsets = (l1 & np.uint64(_OFFSET)).astype(np.int64)
        if int((offsets > 0).sum()) * self.unit_bytes > self._source.size_bytes:
            raise FormatError("the disk's tables overlap", code="qcow2-table")
        units, values, zeros = [], [], []
        for index in np.flatnonzero(offsets).tolist():
            at = int(offsets[index])
            if at % self.unit_bytes or at + self.unit_bytes > self._source.size_bytes:
                raise FormatError(
                    "a table of the disk is outside the file: it is cut short",
                    code="disk-truncated",
                    place=f"byte {at}",
                )
            table = np.frombuffer(self._source.read_at(at, self.unit_bytes), dtype=">u8").astype(
                np.uint64
            )
            packed = (table & np.uint64(_COMPRESSED)) != 0
            data = packed | (
                ((table & np.uint64(_OFFSET)) != 0) & ((table & np.uint64(_ZERO)) == 0)
            )
            found = np.flatnonzero(data)
            units.append(found + index * per)
            values.append(table[found])
            zeros.append(np.flatnonzero(~data & ((table & np.uint64(_ZERO)) != 0)) + index * per)
        self.units = (
            np.concatenate(units).astype(np.int64) if units else np.zeros(0, dtype=np.int64)
        )
        self._values = np.concatenate(values) if values else np.zeros(0, dtype=np.uint64)
        if zeros:
            blank = np.concatenate(zeros).astype(np.int64)
            self.zero_units = blank[blank < clusters]
        inside = self.units < clusters
        self.units, self._values = self.units[inside], self._values[inside]
        self.packed = bool(((self._values & np.uint64(_COMPRESSED)) != 0).any())
        plain = self._values[(self._values & np.uint64(_COMPRESSED)) == 0] & np.uint64(_OFFSET)
        if len(plain) and (
            int(plain.max()) >= self._source.size_bytes
            or bool((plain % np.uint64(self.unit_bytes)).any())
        ):
            raise FormatError(
                "a cluster is outside the file: the disk is cut short", code="disk-truncated"
            )

    def read_unit(self, unit: int) -> bytes:
        """One cluster."""
        place = int(np.searchsorted(self.units, unit))
        value = int(self._values[place])
        if value & _COMPRESSED:
            return self._inflate(value)
        at = value & _OFFSET
        return self._source.read_at(at, min(self.unit_bytes, self._source.size_bytes - at)).ljust(
            self.unit_bytes, b"\0"
        )

    def _inflate(self, value: int) -> bytes:
        """A deflated cluster: its offset in the low bits, its additional 512-byte sectors above
        them.
        """
        shift = 62 - (self._bits - 8)
        at = value & ((1 << shift) - 1)
        sectors = ((value >> shift) & ((1 << (self._bits - 8)) - 1)) + 1
        size = min(sectors * 512 - (at & 511), self._source.size_bytes - at)
        if size <= 0:
            raise FormatError(
                "a packed cluster is outside the file: the disk is cut short",
                code="disk-truncated",
                place=f"byte {at}",
            )
        try:
            data: bytes = isal_zlib.decompressobj(wbits=-15).decompress(
                self._source.read_at(at, size), self.unit_bytes
            )
        except (isal_zlib.error, zlib.error) as error:  # type: ignore[misc]  # isal has no types
            raise FormatError(
                f"a cluster cannot be decompressed: {error}",
                code="qcow2-cluster",
                place=f"byte {at}",
            ) from error
        if len(data) != self.unit_bytes:
            raise FormatError(
                "a compressed cluster is too short", code="qcow2-cluster", place=f"byte {at}"
            )
        return data
