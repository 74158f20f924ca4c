"""From a stream-optimized VMDK to a qcow2 stream in one pass."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from nimble_stone.core.disk import qcow2, vmdk
from nimble_stone.core.disk.source import Source


@dataclass(frozen=True)
class Conversion:
    """A conversion about to happen. `file_bytes` is the exact size of what `stream` will yield."""

    source: Source
    layout: vmdk.Layout
    shape: qcow2.Shape

    @property
    def capacity_bytes(self) -> int:
        """The disk's size as the guest sees it."""
        return self.layout.capacity_bytes

    @property
    def file_bytes(self) -> int:
        """Bytes that will travel; also what the disk takes when thin."""
        return self.shape.file_bytes

    def stream(self) -> Iterator[bytes]:
        """The qcow2 file. Deterministic: the same package gives the same bytes."""
        return qcow2.write(self.shape, vmdk.read_grains(self.source, self.layout))


def prepare(source: Source) -> Conversion:
    """Read the tables of a VMDK and compute the qcow2 around them. Raises FormatError."""
    layout = vmdk.read_layout(source)
    ratio = layout.grain_bytes / qcow2.CLUSTER
    present = layout.present
    if ratio >= 1:
        per = layout.grain_bytes // qcow2.CLUSTER
        used = (present[:, None] * per + np.arange(per)[None, :]).ravel()
        used = used[used * qcow2.CLUSTER < layout.capacity_bytes]
    else:
        used = np.unique(present * layout.grain_bytes // qcow2.CLUSTER)
    return Conversion(source, layout, qcow2.plan(layout.capacity_bytes, used.astype(np.int64)))
