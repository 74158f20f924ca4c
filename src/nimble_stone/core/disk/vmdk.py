"""VMDK with grains: stream-optimized (deflated, as OVA packages carry it) and sparse (plain
grains).

A sparse header, a grain directory, tables, and grains. Versions 1 to 3; the directory at the start
or announced by a footer.
Refused: any table or grain that points outside the file, tables that overlap, geometry beyond
reason. Sizes in bytes.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Sequence
from typing import cast

import deflate
import numpy as np
from numpy.typing import NDArray

from nimble_stone.core.disk.image import CLUSTER, MAX_CAPACITY, Image
from nimble_stone.core.disk.source import Source
from nimble_stone.core.errors import FormatError

SECTOR = 512
MAGIC = b"KDMV"
AT_END = 0xFFFF_FFFF_FFFF_FFFF
_HEADER = struct.Struct("<4sIIQQQQIQQQB4sH")
_MARKER = struct.Struct("<QI")
_FLAG_ZERO_GRAINS, _FLAG_COMPRESSED, _FLAG_MARKERS = 0x4, 0x10000, 0x20000
_GRAINS = (8, 16, 32, 64, 128, 256, 512, 1024, 2048)
_MAX_SPAN = 8 << 20
_MAX_PEEKED = 256 << 20  # bytes inflated at most to find grains of zeros


class VmdkImage(Image):
    """A disk of grains."""

    def __init__(self, source: Source) -> None:
        self._source = source
        header = _header(source, 0)
        if header[8] == AT_END or header[9] == AT_END:
            header = _header(source, source.size_bytes - 2 * SECTOR)
        (
            _,
            version,
            flags,
            capacity,
            grain,
            text_at,
            text_sectors,
            per_table,
            _,
            directory,
            _,
            _,
            check,
            method,
        ) = header
        if version not in (1, 2, 3):
            raise FormatError(
                f"VMDK header says version {version}; versions 1 to 3 are read",
                code="vmdk-version",
                place="byte 4",
            )
        self.packed = bool(flags & _FLAG_COMPRESSED)
        if self.packed and method != 1:
            raise FormatError(
                f"the VMDK is packed by method {method}; only deflate (1) is supported",
                code="vmdk-kind",
                place="byte 77",
            )
        if check != b"\n \r\n":
            raise FormatError(
                "the VMDK was damaged by a text-mode transfer (line ends changed)",
                code="vmdk-line-ends",
                place="byte 73",
                hint="Copy the file again in binary mode.",
            )
        if grain not in _GRAINS or per_table != 512 or not 0 < capacity * SECTOR <= MAX_CAPACITY:
            raise FormatError(
                f"impossible VMDK geometry (grain of {grain} sectors, {per_table} entries a table,"
                f" {capacity} sectors)",
                code="vmdk-geometry",
                place="byte 12",
            )
        self.kind = "vmdk-stream" if self.packed else "vmdk-sparse"
        self._markers = bool(flags & _FLAG_MARKERS) or self.packed
        self.capacity_bytes, self.unit_bytes = capacity * SECTOR, grain * SECTOR
        self.descriptor = _text(source, text_at, text_sectors)
        self.has_parent = _parent(self.descriptor)
        self.units, self.zero_units, self._starts = _table(
            source, capacity, grain, per_table, directory, bool(flags & _FLAG_ZERO_GRAINS)
        )
        self._spans = self._measure()
        if self.packed:
            self._drop_zeros()

    def _measure(self) -> NDArray[np.int64]:
        """Sectors from each grain to what follows it in the file."""
        order = np.argsort(self._starts, kind="stable")
        spans = np.zeros(len(self._starts), dtype=np.int64)
        spans[order] = np.diff(np.append(self._starts[order], self._source.size_bytes // SECTOR))
        return spans

    def _drop_zeros(self) -> None:
        """Deflated grains of nothing but zeros, which fit one sector for each 64 KiB, are as good
        as those that are marked so. A descriptor may name a parent that the disk does not.

        Cost: one short read for each small grain. A writer packs zeros the same way each time, so
        equal bytes are inflated once; what is inflated
        in all is bounded, and grains beyond that are kept, which costs room and no truth.
        """
        small = np.flatnonzero(
            (self._spans >= 1) & (self._spans <= max(1, self.unit_bytes // CLUSTER))
        )
        keep = np.ones(len(self.units), dtype=bool)
        zeros, known, left = bytes(self.unit_bytes), dict[bytes, bool](), _MAX_PEEKED
        for place in small.tolist():
            at = int(self._starts[place]) * SECTOR
            packed = self._source.read_at(
                at, min(int(self._spans[place]) * SECTOR, self._source.size_bytes - at)
            )
            # the first 8 bytes are the grain's own sector number
            blank = known.get(packed[8:])
            if blank is None and left > 0:
                left -= self.unit_bytes
                blank = known[packed[8:]] = (
                    self._unpack(int(self.units[place]), memoryview(packed), at) == zeros
                )
            if (
                blank
                and int.from_bytes(packed[:8], "little") * SECTOR
                != int(self.units[place]) * self.unit_bytes
            ):
                # says that the marker does not fit its place
                self._unpack(int(self.units[place]), memoryview(packed), at)
            keep[place] = not blank
        self.zero_units = np.union1d(self.zero_units, self.units[~keep])
        self.units, self._starts, self._spans = (
            self.units[keep],
            self._starts[keep],
            self._spans[keep],
        )

    def read_unit(self, unit: int) -> bytes:
        """One grain, inflated where it is packed."""
        return self._grain(int(np.searchsorted(self.units, unit)))

    def _grain(self, place: int) -> bytes:
        """The grain at a place of `units`."""
        at = int(self._starts[place]) * SECTOR
        if not self.packed:
            return self._source.read_at(
                at, min(self.unit_bytes, self._source.size_bytes - at)
            ).ljust(self.unit_bytes, b"\0")
        span = (
            min(int(self._spans[place]) * SECTOR, 2 * self.unit_bytes + 1024)
            if self._spans[place] > 0
            else SECTOR
        )
        return self._unpack(
            int(self.units[place]),
            memoryview(self._source.read_at(at, min(span, self._source.size_bytes - at))),
            at,
        )

    def read(self, clusters: Sequence[int]) -> list[bytes]:
        """Clusters; grains that lie one after the other in the file are read at once."""
        if not self.packed or self.unit_bytes != CLUSTER:
            return super().read(clusters)
        places = np.searchsorted(self.units, np.asarray(clusters, dtype=np.int64))
        starts, spans = self._starts[places].tolist(), self._spans[places].tolist()
        out: list[bytes] = []
        at, number = 0, len(clusters)
        while at < number:
            start = end = starts[at]
            stop = at
            while stop < number and starts[stop] == end and (end - start) * SECTOR < _MAX_SPAN:
                end += spans[stop]
                stop += 1
            if stop == at or end <= start or (end - start) * SECTOR > 2 * _MAX_SPAN:
                out.append(_cut(self._grain(int(places[at])), self.length(clusters[at])))
                at += 1
                continue
            whole = memoryview(
                self._source.read_at(
                    start * SECTOR,
                    min((end - start) * SECTOR, self._source.size_bytes - start * SECTOR),
                )
            )
            for which in range(at, stop):
                begin = (starts[which] - start) * SECTOR
                grain = self._unpack(
                    clusters[which],
                    whole[begin : begin + spans[which] * SECTOR],
                    start * SECTOR + begin,
                )
                out.append(_cut(grain, self.length(clusters[which])))
            at = stop
        return out

    def _unpack(self, unit: int, data: memoryview, at: int) -> bytes:
        if len(data) < 12:
            raise FormatError(
                "the disk file ends before its content does",
                code="disk-truncated",
                place=f"byte {at}",
            )
        lba, size = _MARKER.unpack_from(data)
        if lba * SECTOR != unit * self.unit_bytes or not 0 < size <= 2 * self.unit_bytes + 1024:
            raise FormatError(
                f"the marker of grain {unit} does not fit its place",
                code="vmdk-grain",
                place=f"byte {at}",
            )
        packed = (
            data[12 : 12 + size] if 12 + size <= len(data) else self._source.read_at(at + 12, size)
        )
        try:
            # refuses to fill more than that
            grain = deflate.zlib_decompress(packed, self.unit_bytes)
        except deflate.DeflateError as error:
            raise FormatError(
                "a grain is damaged, ends in the middle, or inflates to more than"
                f" {self.unit_bytes} bytes ({error})",
                code="vmdk-grain",
                place=f"byte {at}",
            ) from error
        whole = grain if len(grain) == self.unit_bytes else grain.ljust(self.unit_bytes, b"\0")
        # a bytearray that is not written to; copying it costs a tenth
        return cast(bytes, whole)


def _cut(data: bytes, length: int) -> bytes:
    """At most `length` bytes, without copying what has that length already."""
    return data if len(data) == length else data[:length]


def _table(
    source: Source, capacity: int, grain: int, per_table: int, directory: int, zero_grains: bool
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """(grains that hold data, grains written with zeros, file sector of each of the first). Cost:
    one read per grain table present;
    memory by what is present, not by what the disk claims to be."""
    count = -(-capacity // grain)
    tables = -(-count // per_table)
    if tables * 4 > source.size_bytes:
        raise FormatError(
            "the VMDK's directory would be larger than its file",
            code="vmdk-geometry",
            place="byte 12",
        )
    entries = np.frombuffer(_read(source, directory * SECTOR, tables * 4), dtype="<u4")
    present = np.flatnonzero(entries)
    if len(present) * per_table * 4 > source.size_bytes:
        raise FormatError("the VMDK's grain tables overlap", code="vmdk-table")
    units: list[NDArray[np.int64]] = []
    zeros: list[NDArray[np.int64]] = []
    starts: list[NDArray[np.int64]] = []
    for index in present.tolist():
        table = np.frombuffer(
            _read(source, int(entries[index]) * SECTOR, per_table * 4), dtype="<u4"
        ).astype(np.int64)
        for found, into in (
            (np.flatnonzero(table > 1), units),
            (np.flatnonzero(table == 1), zeros),
        ):
            into.append(found + index * per_table)
        starts.append(table[table > 1])
    empty = np.zeros(0, dtype=np.int64)
    data, blank, where = (
        np.concatenate(parts).astype(np.int64) if parts else empty
        for parts in (units, zeros, starts)
    )
    inside = data < count
    data, where, blank = data[inside], where[inside], blank[blank < count]
    if not zero_grains and len(blank):
        raise FormatError("a grain points into the VMDK's header", code="vmdk-table")
    if len(where) and int(where.max()) * SECTOR >= source.size_bytes:
        raise FormatError(
            "a grain points behind the end of the VMDK: the file is cut short",
            code="disk-truncated",
        )
    return data, blank, where


def _text(source: Source, at: int, sectors: int) -> str:
    """The embedded descriptor, at most 64 KiB of it."""
    if not at or not sectors or at * SECTOR >= source.size_bytes:
        return ""
    return (
        source.read_at(
            at * SECTOR, min(sectors * SECTOR, 64 << 10, source.size_bytes - at * SECTOR)
        )
        .split(b"\0", 1)[0]
        .decode("utf-8", "replace")
    )


def _parent(text: str) -> bool:
    found = re.search(r"^\s*parentCID\s*=\s*([0-9a-fA-F]{1,8})", text, re.MULTILINE)
    return bool(found) and int(found[1], 16) != 0xFFFF_FFFF if found else False


def _header(
    source: Source, at: int
) -> tuple[bytes, int, int, int, int, int, int, int, int, int, int, int, bytes, int]:
    fields = _HEADER.unpack(_read(source, at, _HEADER.size)) if at >= 0 else (b"",)
    if fields[0] != MAGIC:
        raise FormatError(
            (
                "the disk is not a sparse VMDK (its first bytes differ)"
                if at == 0
                else "the VMDK has no footer where it announces one: the file is cut short"
            ),
            code="vmdk-magic",
            place=f"byte {max(at, 0)}",
        )
    return fields


def _read(source: Source, offset: int, length: int) -> bytes:
    if offset + length > source.size_bytes:
        raise FormatError(
            "the disk file ends before its content does",
            code="disk-truncated",
            place=f"byte {offset}",
        )
    return source.read_at(offset, length)
