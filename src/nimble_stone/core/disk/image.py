"""What every disk format looks like from outside: a capacity, the list of clusters that hold data,
and a way to read them.

Clusters are 64 KiB, whatever the format's own unit is, so that writers, uploads and digests share
one pass. Reading is safe from several threads.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

CLUSTER = 1 << 16
MAX_CAPACITY = 64 << 40


class Image(ABC):
    """A disk. `units`: ascending indices of the format's own units (`unit_bytes` each) that hold
    data; all else reads as zeros.
    """

    kind: str
    capacity_bytes: int
    unit_bytes: int
    units: NDArray[np.int64]
    zero_units: NDArray[np.int64] = np.zeros(0, dtype=np.int64)
    """Units that were written with zeros: they hide what a parent has there."""
    packed = False  # whether units are compressed
    notes: tuple[str, ...] = ()

    @abstractmethod
    def read_unit(self, unit: int) -> bytes:
        """One present unit, exactly `unit_bytes` long. Raises FormatError when it is damaged."""

    @cached_property
    def clusters(self) -> NDArray[np.int64]:
        """Ascending indices of the 64 KiB clusters that may hold data. Cost: O(units)."""
        if self.unit_bytes >= CLUSTER:
            per = self.unit_bytes // CLUSTER
            found = (self.units[:, None] * per + np.arange(per, dtype=np.int64)[None, :]).ravel()
        else:
            found = np.unique(self.units // (CLUSTER // self.unit_bytes))
        return found[found * CLUSTER < self.capacity_bytes]

    @cached_property
    def _present(self) -> set[int]:
        return set(self.units.tolist())

    @cached_property
    def _blank(self) -> set[int]:
        return set(self.zero_units.tolist())

    def length(self, cluster: int) -> int:
        """Bytes of a cluster: less than 64 KiB only for the last."""
        return min(CLUSTER, self.capacity_bytes - cluster * CLUSTER)

    def read(self, clusters: Sequence[int]) -> list[bytes]:
        """The given clusters, ascending. Raises FormatError."""
        if self.unit_bytes == CLUSTER:
            return [self.read_unit(cluster)[: self.length(cluster)] for cluster in clusters]
        if self.unit_bytes > CLUSTER:
            per, out, held, data = self.unit_bytes // CLUSTER, [], -1, b""
            for cluster in clusters:
                if cluster // per != held:
                    held = cluster // per
                    data = self.read_unit(held)
                at = cluster % per * CLUSTER
                out.append(data[at : at + self.length(cluster)])
            return out
        return [self._joined(cluster) for cluster in clusters]

    def _joined(self, cluster: int) -> bytes:
        buffer = bytearray(CLUSTER)
        self.lay_over(cluster, buffer)
        return bytes(buffer[: self.length(cluster)])

    def lay_over(self, cluster: int, buffer: bytearray) -> None:
        """Write what this disk holds of a cluster into a 64 KiB buffer, leaving the rest of it as
        it is.
        """
        if self.unit_bytes >= CLUSTER:
            unit = cluster * CLUSTER // self.unit_bytes
            if unit in self._present:
                data = self.read([cluster])[0]
                buffer[: len(data)] = data
            elif unit in self._blank:
                buffer[:] = bytes(CLUSTER)
            return
        per = CLUSTER // self.unit_bytes
        for unit in range(cluster * per, (cluster + 1) * per):
            at = unit % per * self.unit_bytes
            if unit in self._present:
                buffer[at : at + self.unit_bytes] = self.read_unit(unit)
            elif unit in self._blank:
                buffer[at : at + self.unit_bytes] = bytes(self.unit_bytes)


class Layered(Image):
    """A disk that holds only what differs from its parent."""

    def __init__(self, child: Image, parent: Image) -> None:
        self.child, self.parent = child, parent
        self.kind, self.capacity_bytes, self.unit_bytes = child.kind, child.capacity_bytes, CLUSTER
        found = np.union1d(child.clusters, parent.clusters)
        self.units = found[found * CLUSTER < self.capacity_bytes].astype(np.int64)

    def read_unit(self, unit: int) -> bytes:
        """The parent's cluster with the child's units over it."""
        buffer = bytearray(CLUSTER)
        if unit * CLUSTER < self.parent.capacity_bytes:
            self.parent.lay_over(unit, buffer)
        self.child.lay_over(unit, buffer)
        return bytes(buffer)
