"""Writing qcow2 (version 3), in two orders of the same pieces.

Streamed: header, refcount table, refcount blocks, L1, L2 tables, data. All tables are computed from
the list of clusters, so nothing is written
twice, holes are never sent, any part of the file can be made on its own, and the same disk always
gives the same bytes.
Into a file: header, L1, data, then the tables of what turned out to hold data; clusters of zeros
are left out.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nimble_stone.core.disk.image import CLUSTER, Image

_PER_L2 = CLUSTER // 8
_PER_BLOCK = CLUSTER // 2  # 16-bit refcounts
_COPIED = 1 << 63
_HEADER = struct.Struct(">4sIQIIQIIQQIIQQQQII")


@dataclass(frozen=True)
class Shape:
    """Where the pieces lie, in clusters, for a disk of `capacity_bytes` with the given `used` data
    clusters (ascending).
    """

    capacity_bytes: int
    used: NDArray[np.int64]
    table: int  # clusters of the refcount table
    blocks: int  # refcount blocks
    l1: int  # clusters of L1
    l2_present: NDArray[np.int64]
    table_at: int
    blocks_at: int
    l1_at: int
    l2_at: int
    data_at: int

    @property
    def total(self) -> int:
        """Clusters of the whole file."""
        return 1 + self.table + self.blocks + self.l1 + len(self.l2_present) + len(self.used)

    @property
    def file_bytes(self) -> int:
        """Exact size of the resulting file."""
        return self.total * CLUSTER


def plan(capacity_bytes: int, used: NDArray[np.int64], *, tables_last: bool = False) -> Shape:
    """Compute the layout. `used`: ascending cluster indices holding data. Cost: O(clusters
    used).
    """
    l2_present = np.unique(used // _PER_L2)
    l1 = l1_clusters(capacity_bytes)
    fixed = 1 + l1 + len(l2_present) + len(used)
    table, blocks = 1, 1
    while True:  # refcount structures count themselves: grow until they cover everything
        total = fixed + table + blocks
        need_blocks = -(-total // _PER_BLOCK)
        need_table = -(-need_blocks * 8 // CLUSTER)
        if need_blocks <= blocks and need_table <= table:
            break
        table, blocks = max(table, need_table), max(blocks, need_blocks)
    if tables_last:
        data_at = 1 + l1
        l2_at = data_at + len(used)
        return Shape(
            capacity_bytes,
            used,
            table,
            blocks,
            l1,
            l2_present,
            l2_at + len(l2_present) + blocks,
            l2_at + len(l2_present),
            1,
            l2_at,
            data_at,
        )
    return Shape(
        capacity_bytes,
        used,
        table,
        blocks,
        l1,
        l2_present,
        1,
        1 + table,
        1 + table + blocks,
        1 + table + blocks + l1,
        1 + table + blocks + l1 + len(l2_present),
    )


def l1_clusters(capacity_bytes: int) -> int:
    """Clusters that L1 takes."""
    tables = -(-capacity_bytes // (CLUSTER * _PER_L2))
    return -(-tables * 8 // CLUSTER)


def pieces(shape: Shape, kept: NDArray[np.bool_] | None = None) -> Iterator[tuple[int, bytes]]:
    """(cluster in the file, bytes) of everything but the data, in the order of the file for the
    streamed layout.

    `kept`: which of `shape.used` hold anything; the places of the others stay holes in the file,
    counted as free.
    """
    free = (
        shape.data_at + np.flatnonzero(~kept) if kept is not None else np.zeros(0, dtype=np.int64)
    )
    yield 0, _head(shape)
    refs = np.zeros(shape.table * CLUSTER // 8, dtype=">u8")
    refs[: shape.blocks] = (shape.blocks_at + np.arange(shape.blocks, dtype=np.int64)) * CLUSTER
    yield shape.table_at, refs.tobytes()
    for block in range(shape.blocks):
        counts = np.zeros(_PER_BLOCK, dtype=">u2")
        counts[: max(0, min(_PER_BLOCK, shape.total - block * _PER_BLOCK))] = 1
        counts[
            free[(free >= block * _PER_BLOCK) & (free < (block + 1) * _PER_BLOCK)]
            - block * _PER_BLOCK
        ] = 0
        yield shape.blocks_at + block, counts.tobytes()
    l1 = np.zeros(shape.l1 * CLUSTER // 8, dtype=">u8")
    l1[shape.l2_present] = ((shape.l2_at + np.arange(len(shape.l2_present))) * CLUSTER).astype(
        np.uint64
    ) | np.uint64(_COPIED)
    yield shape.l1_at, l1.tobytes()
    starts = np.searchsorted(shape.used, shape.l2_present * _PER_L2)
    ends = np.searchsorted(shape.used, (shape.l2_present + 1) * _PER_L2)
    for number, (start, end) in enumerate(zip(starts.tolist(), ends.tolist(), strict=True)):
        table = np.zeros(_PER_L2, dtype=">u8")
        places = np.arange(start, end)
        if kept is not None:
            places = places[kept[start:end]]
        table[shape.used[places] % _PER_L2] = ((shape.data_at + places) * CLUSTER).astype(
            np.uint64
        ) | np.uint64(_COPIED)
        yield shape.l2_at + number, table.tobytes()


def stream(shape: Shape, image: Image, start: int = 0, batch: int = 16) -> Iterator[bytes]:
    """The streamed file from byte `start` on. `shape` is of `plan` without `tables_last`. Raises
    FormatError for a damaged disk.
    """
    for at, data in pieces(shape):
        begin = at * CLUSTER
        if begin + len(data) > start:
            yield data[max(0, start - begin) :]
    first, skip = divmod(max(0, start - shape.data_at * CLUSTER), CLUSTER)
    used = shape.used.tolist()
    for at in range(first, len(used), batch):
        data = b"".join(
            cluster.ljust(CLUSTER, b"\0") for cluster in image.read(used[at : at + batch])
        )
        yield data[skip:] if skip else data
        skip = 0


def _head(shape: Shape) -> bytes:
    clusters = -(-shape.capacity_bytes // CLUSTER)
    l1_entries = -(-clusters // _PER_L2)
    header = _HEADER.pack(
        b"QFI\xfb",
        3,
        0,
        0,
        16,
        shape.capacity_bytes,
        0,
        l1_entries,
        shape.l1_at * CLUSTER,
        shape.table_at * CLUSTER,
        shape.table,
        0,
        0,
        0,
        0,
        0,
        4,
        104,
    )
    return header.ljust(CLUSTER, b"\0")
