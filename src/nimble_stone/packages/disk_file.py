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

# clusters per task: 1 MiB, which stays in the processor's cache between inflating and writing
BATCH = 16
BLOCK = 4096  # holes are made at this grain
_ZERO_CLUSTER = bytes(CLUSTER)
_ZERO_BLOCK = memoryview(bytes(BLOCK))


def into_file(
    image: Image,
    descriptor: int,
    to: Literal["raw", "qcow2"],
    tell: Callable[[int], None] = lambda _: None,
    workers: int = 2,
) -> int:
    """Write a disk into an empty open file, leaving holes where it is zero; `tell` gets the
    clusters done so far.

    Each task reads, inflates and writes its own batch, so threads never wait for one another.
    Returns the file's size in bytes.
    Raises FormatError for a damaged disk, OSError when the file system refuses.
    """
    order = image.clusters
    base = 1 + qcow2.l1_clusters(image.capacity_bytes)

    def carry(at: int) -> NDArray[np.bool_]:
        """Carry one batch over; which of its clusters hold anything."""
        batch = order[at : at + BATCH].tolist()
        data = image.read(batch)
        if to == "raw":
            _write(
                descriptor,
                [(cluster * CLUSTER, piece) for cluster, piece in zip(batch, data, strict=True)],
            )
            return np.ones(len(batch), dtype=bool)
        kept = np.array([piece != _ZERO_CLUSTER[: len(piece)] for piece in data], dtype=bool)
        _write(
            descriptor,
            [((base + at + n) * CLUSTER, piece) for n, piece in enumerate(data) if kept[n]],
        )
        return kept

    kept = np.ones(len(order), dtype=bool)
    for at, mask in _each(range(0, len(order), BATCH), carry, workers):
        kept[at : at + len(mask)] = mask
        tell(min(len(order), at + BATCH))
    if to == "raw":
        os.ftruncate(descriptor, image.capacity_bytes)
        return image.capacity_bytes
    shape = qcow2.plan(image.capacity_bytes, order, tables_last=True)
    for cluster, piece in qcow2.pieces(shape, kept):
        _put(descriptor, [piece], cluster * CLUSTER)
    os.ftruncate(descriptor, shape.file_bytes)
    return shape.file_bytes


def _each(
    starts: range, task: Callable[[int], NDArray[np.bool_]], workers: int
) -> Iterator[tuple[int, NDArray[np.bool_]]]:
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
        empty = _empty_blocks(data)
        if run and (offset != end or empty):
            _put(descriptor, run, start)
            run = []
        if empty:
            _write_filled(descriptor, offset, data, empty)
            continue
        if not run:
            start = offset
        run.append(data)
        end = offset + len(data)
    if run:
        _put(descriptor, run, start)


def _empty_blocks(data: bytes) -> set[int]:
    """Numbers of the blocks that hold nothing but zeros. Only blocks whose first word is zero are
    looked at whole.
    """
    words = np.frombuffer(data, dtype=np.uint64, count=len(data) // 8)[:: BLOCK // 8]
    if words.all():
        return set()
    suspects = (words == 0).nonzero()[0].tolist()
    view = memoryview(data)
    return {
        block
        for block in suspects
        if view[block * BLOCK : (block + 1) * BLOCK] == _ZERO_BLOCK[: len(data) - block * BLOCK]
    }


def _write_filled(descriptor: int, offset: int, data: bytes, empty: set[int]) -> None:
    """Write a piece without its empty blocks."""
    view = memoryview(data)
    begin: int | None = None
    for block in range(-(-len(data) // BLOCK) + 1):
        filled = block * BLOCK < len(data) and block not in empty
        if filled and begin is None:
            begin = block * BLOCK
        elif not filled and begin is not None:
            _put(descriptor, [view[begin : block * BLOCK]], offset + begin)
            begin = None


def _put(descriptor: int, parts: Sequence[bytes | memoryview], offset: int) -> None:
    """Write all parts one after the other, however little the file system takes at once."""
    total = sum(len(part) for part in parts)
    written = os.pwritev(descriptor, parts, offset)
    if written < total:
        rest = memoryview(b"".join(parts))[written:]
        while rest:
            count = os.pwrite(descriptor, rest, offset + written)
            rest, written = rest[count:], written + count
