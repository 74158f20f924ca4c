"""Writing qcow2 (version 3) as a stream: all tables are computed from the list of clusters that hold data, so nothing
has to be written twice and holes are never sent. Layout: header, refcount table, refcount blocks, L1, L2 tables, data.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nimble_stone.core.errors import FormatError

CLUSTER = 1 << 16
_PER_L2 = CLUSTER // 8
_PER_BLOCK = CLUSTER // 2          # 16-bit refcounts
_COPIED = 1 << 63
_HEADER = struct.Struct(">4sIQIIQIIQQIIQQQQII")


@dataclass(frozen=True)
class Shape:
    """Sizes of the pieces, in clusters, for a disk of `capacity_bytes` with the given `used` data clusters (ascending)."""

    capacity_bytes: int
    used: NDArray[np.int64]
    table: int
    blocks: int
    l1: int
    l2_present: NDArray[np.int64]

    @property
    def data_start(self) -> int:
        """First data cluster in the file."""
        return 1 + self.table + self.blocks + self.l1 + len(self.l2_present)

    @property
    def file_bytes(self) -> int:
        """Exact size of the resulting file."""
        return (self.data_start + len(self.used)) * CLUSTER


def plan(capacity_bytes: int, used: NDArray[np.int64]) -> Shape:
    """Compute the layout. `used`: ascending cluster indices holding data. Cost: O(clusters used)."""
    clusters = -(-capacity_bytes // CLUSTER)
    l2_present = np.unique(used // _PER_L2)
    l1 = -(-(-(-clusters // _PER_L2) * 8) // CLUSTER)
    fixed = 1 + l1 + len(l2_present) + len(used)
    table, blocks = 1, 1
    while True:  # refcount structures count themselves: grow until they cover everything
        total = fixed + table + blocks
        need_blocks = -(-total // _PER_BLOCK)
        need_table = -(-need_blocks * 8 // CLUSTER)
        if need_blocks <= blocks and need_table <= table:
            return Shape(capacity_bytes, used, table, blocks, l1, l2_present)
        table, blocks = max(table, need_table), max(blocks, need_blocks)


def write(shape: Shape, extents: Iterable[tuple[int, bytes]]) -> Iterator[bytes]:
    """The file, piece by piece. `extents`: (offset, bytes), ascending, not overlapping, only inside `shape.used`.

    Raises: FormatError when an extent touches a cluster that the shape does not list.
    """
    yield _head(shape)
    yield from _tables(shape)
    yield from _data(shape, extents)


def _head(shape: Shape) -> bytes:
    clusters = -(-shape.capacity_bytes // CLUSTER)
    l1_entries = -(-clusters // _PER_L2)
    header = _HEADER.pack(b"QFI\xfb", 3, 0, 0, 16, shape.capacity_bytes, 0, l1_entries,
                          (1 + shape.table + shape.blocks) * CLUSTER, CLUSTER, shape.table, 0, 0, 0, 0, 0, 4, 104)
    return header.ljust(CLUSTER, b"\0")


def _tables(shape: Shape) -> Iterator[bytes]:
    total = shape.data_start + len(shape.used)
    refs = np.zeros(shape.table * CLUSTER // 8, dtype=">u8")
    refs[:shape.blocks] = (1 + shape.table + np.arange(shape.blocks, dtype=np.int64)) * CLUSTER
    yield refs.tobytes()
    for block in range(shape.blocks):
        counts = np.zeros(_PER_BLOCK, dtype=">u2")
        counts[:max(0, min(_PER_BLOCK, total - block * _PER_BLOCK))] = 1
        yield counts.tobytes()
    l1 = np.zeros(shape.l1 * CLUSTER // 8, dtype=">u8")
    first_l2 = 1 + shape.table + shape.blocks + shape.l1
    l1[shape.l2_present] = ((first_l2 + np.arange(len(shape.l2_present))) * CLUSTER).astype(np.uint64) | np.uint64(_COPIED)
    yield l1.tobytes()
    starts = np.searchsorted(shape.used, shape.l2_present * _PER_L2)
    ends = np.searchsorted(shape.used, (shape.l2_present + 1) * _PER_L2)
    for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
        table = np.zeros(_PER_L2, dtype=">u8")
        table[shape.used[start:end] % _PER_L2] = ((shape.data_start + np.arange(start, end)) * CLUSTER).astype(np.uint64) | np.uint64(_COPIED)
        yield table.tobytes()


def _data(shape: Shape, extents: Iterable[tuple[int, bytes]]) -> Iterator[bytes]:
    current, buffer = -1, bytearray()
    order = iter(shape.used.tolist())
    for offset, data in extents:
        if len(data) == CLUSTER and offset % CLUSTER == 0 and current < 0:
            _expect(next(order, None), offset // CLUSTER)
            yield data
            continue
        while data:
            cluster, inside = divmod(offset, CLUSTER)
            if cluster != current:
                if current >= 0:
                    yield bytes(buffer)
                _expect(next(order, None), cluster)
                current, buffer = cluster, bytearray(CLUSTER)
            piece = data[:CLUSTER - inside]
            buffer[inside:inside + len(piece)] = piece
            offset, data = offset + len(piece), data[len(piece):]
        if offset % CLUSTER == 0:
            yield bytes(buffer)
            current = -1
    if current >= 0:
        yield bytes(buffer)
    if next(order, None) is not None:
        raise FormatError("the disk holds less data than its tables promise", code="disk-extents")


def _expect(listed: int | None, found: int) -> None:
    if listed != found:
        raise FormatError(f"data for cluster {found} where {listed} was announced", code="disk-extents")
