"""The parts of a disk that hold data, as they are written to a bare machine's drive: a map of runs
of 64 KiB blocks, and their bytes one after the other. What is between them reads as zeros. The
disk's beginning comes last: a drive written in part has no partition table and no file system.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nimble_stone.core.disk.image import CLUSTER, Image

GAP = 15
"""Blocks of zeros up to which two runs are sent as one: each run costs the writer a process."""
AT_ONCE = 64
HEAD = 16
"""Blocks of the beginning, in which a partition table or file system is recognised."""


@dataclass(frozen=True)
class Extent:
    """A run of data, in blocks of 64 KiB from the disk's beginning."""

    start: int
    count: int


def extents(image: Image) -> list[Extent]:
    """The runs, in the order in which they are written. Cost: O(clusters)."""
    clusters = image.clusters
    return _runs(clusters[clusters >= HEAD]) + _runs(clusters[clusters < HEAD])


def _runs(clusters: NDArray[np.int64]) -> list[Extent]:
    """Runs of ascending clusters, across small gaps."""
    if not len(clusters):
        return []
    ends = np.flatnonzero(np.diff(clusters) > GAP + 1)
    firsts = clusters[np.concatenate(([0], ends + 1))]
    lasts = clusters[np.concatenate((ends, [len(clusters) - 1]))]
    return [
        Extent(int(first), int(last - first + 1)) for first, last in zip(firsts, lasts, strict=True)
    ]


def map_text(runs: list[Extent]) -> str:
    """A line for each run: its first block and how many there are."""
    return "".join(f"{run.start} {run.count}\n" for run in runs)


def blocks_of(image: Image) -> int:
    """Blocks that the whole disk takes."""
    return -(-image.capacity_bytes // CLUSTER)


def stream(image: Image, runs: list[Extent]) -> Iterator[bytes]:
    """The bytes of the runs, whole blocks: the last one is filled up with zeros. Raises
    FormatError. Memory: 4 MiB.
    """
    there = set(image.clusters.tolist())
    for run in runs:
        for start in range(run.start, run.start + run.count, AT_ONCE):
            wanted = range(start, min(start + AT_ONCE, run.start + run.count))
            held = [cluster for cluster in wanted if cluster in there]
            data = dict(zip(held, image.read(held), strict=True))
            yield b"".join(data.get(one, b"").ljust(CLUSTER, b"\0") for one in wanted)
