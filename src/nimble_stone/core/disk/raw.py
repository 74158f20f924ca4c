"""Raw disks: every byte is where it is. Holes of the file system are taken as such and
never read.
"""

from __future__ import annotations

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from nimble_stone.core.disk.image import CLUSTER, MAX_CAPACITY, Image
from nimble_stone.core.disk.source import Source
from nimble_stone.core.errors import FormatError


class RawImage(Image):
    """A raw disk. A size that is no multiple of 512 is rounded up, as hypervisors do."""

    kind = "raw"
    unit_bytes = CLUSTER

    def __init__(self, source: Source) -> None:
        if not 0 < source.size_bytes <= MAX_CAPACITY:
            raise FormatError(
                f"a disk of {source.size_bytes} bytes; 1 byte to 64 TiB are read", code="disk-size"
            )
        self._source = source
        self.capacity_bytes = -(-source.size_bytes // 512) * 512

    @cached_property
    # listed only when the disk is read, not to tell its size
    def units(self) -> NDArray[np.int64]:  # type: ignore[override]
        """Clusters that are no holes."""
        parts = [
            np.arange(start // CLUSTER, -(-end // CLUSTER), dtype=np.int64)
            for start, end in self._source.data_ranges()
        ]
        return np.unique(np.concatenate(parts)) if parts else np.zeros(0, dtype=np.int64)

    def read_unit(self, unit: int) -> bytes:
        """One cluster; the last is filled up with zeros."""
        at = unit * CLUSTER
        return self._source.read_at(at, min(CLUSTER, self._source.size_bytes - at)).ljust(
            CLUSTER, b"\0"
        )
