"""Writing a disk into a file of this machine, reading and inflating in several threads.

Memory: a few MiB, whatever the disk's size. Holes are neither read nor written.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from nimble_stone.core.disk import qcow2
from nimble_stone.core.disk.image import CLUSTER, Image

BATCH = 64                     # clusters per task: 4 MiB
BLOCK = 4096                   # holes are made at this grain
_ZERO_CLUSTER = bytes(CLUSTER)


def into_file(image: Image, descriptor: int, to: Literal["raw", "qcow2"], tell: Callable[[int], None] = lambda _: None, workers: int = 2) -> int:
    """Write a disk into an empty open file, leaving holes where it is zero; `tell` gets the clusters done so far.

    Each task reads, inflates and writes its own batch, so threads never wait for one another. Returns the file's size in bytes.
    Raises FormatError for a damaged disk, OSError when the file system refuses.
    """
    order = image.clusters
    base = 1 + qcow2.l1_clusters(image.capacity_bytes)

    def carry(at: int) -> NDArray[np.bool_]:
        """Carry one batch over; which of its clusters hold anything."""
        batch = order[at:at + BATCH].tolist()
        data = image.read(batch)
        if to == "raw":
            _write(descriptor, [(cluster * CLUSTER, piece) for cluster, piece in zip(batch, data, strict=True)])
            return np.ones(len(batch), dtype=bool)
        kept = np.array([piece != _ZERO_CLUSTER[:len(piece)] for piece in data], dtype=bool)
        _write(descriptor, [((base + at + n) * CLUSTER, piece) for n, piece in enumerate(data) if kept[n]])
        return kept

    kept = np.ones(len(order), dtype=bool)
    for at, mask in _each(range(0, len(order), BATCH), carry, workers):
        kept[at:at + len(mask)] = mask
        tell(min(len(order), at + BATCH))
    if to == "raw":
        os.ftruncate(descriptor, image.capacity_bytes)
        return image.capacity_bytes
    shape = qcow2.plan(image.capacity_bytes, order, tables_last=True)
    for cluster, piece in qcow2.pieces(shape, kept):
        _put(descriptor, [piece], cluster * CLUSTER)
    os.ftruncate(descriptor, shape.file_bytes)
    return shape.file_bytes


def _each(starts: range, task: Callable[[int], NDArray[np.bool_]], workers: int) -> Iterator[tuple[int, NDArray[np.bool_]]]:
    """(start, result) in order, by a few threads, a few batches ahead."""
    ahead: deque[tuple[int, Future[NDArray[np.bool_]]]] = deque()
    with ThreadPoolExecutor(workers, "disk") as pool:
        try:
            for start in starts:
                ahead.append((start, pool.submit(task, start)))
                if len(ahead) > 2 * workers:
                    at, future = ahead.popleft()
                    yield at, future.result()
            while ahead:
                at, future = ahead.popleft()
                yield at, future.result()
        finally:
            for _, future in ahead:
                future.cancel()


def _write(descriptor: int, parts: list[tuple[int, bytes]]) -> None:
    """Write pieces at their places, joining neighbours and leaving out blocks of zeros."""
    run: list[bytes] = []
    start = end = 0
    for offset, data in parts:
        dense = _dense(data)
        if run and (offset != end or not dense):
            _put(descriptor, run, start)
            run = []
        if not dense:
            _write_blocks(descriptor, offset, data)
            continue
        if not run:
            start = offset
        run.append(data)
        end = offset + len(data)
    if run:
        _put(descriptor, run, start)


def _dense(data: bytes) -> bool:
    """Whether no block can be all zeros: only the first word of each is looked at, so a True is cheap and a False not final."""
    return len(data) % BLOCK == 0 and bool(np.frombuffer(data, dtype=np.uint64)[::BLOCK // 8].all())


def _write_blocks(descriptor: int, offset: int, data: bytes) -> None:
    """Write the blocks that hold anything."""
    whole = len(data) // BLOCK
    full = np.frombuffer(data, dtype=np.uint64, count=whole * BLOCK // 8).reshape(whole, BLOCK // 8)
    filled = np.flatnonzero(np.append(full.any(axis=1), any(data[whole * BLOCK:])))
    for run in np.split(filled, np.flatnonzero(np.diff(filled) > 1) + 1) if len(filled) else []:
        start, end = int(run[0]) * BLOCK, min(len(data), (int(run[-1]) + 1) * BLOCK)
        _put(descriptor, [memoryview(data)[start:end]], offset + start)


def _put(descriptor: int, parts: Sequence[bytes | memoryview], offset: int) -> None:
    """Write all parts one after the other, however little the file system takes at once."""
    total = sum(len(part) for part in parts)
    written = os.pwritev(descriptor, parts, offset)
    if written < total:
        rest = memoryview(b"".join(parts))[written:]
        while rest:
            count = os.pwrite(descriptor, rest, offset + written)
            rest, written = rest[count:], written + count
