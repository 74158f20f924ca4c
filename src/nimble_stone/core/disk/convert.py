"""Converting a disk to a qcow2 stream for a datastore. Memory: about a MiB, whatever the disk's
size. Holes are neither read nor sent.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nimble_stone.core.disk import qcow2
from nimble_stone.core.disk.image import Image


@dataclass(frozen=True)
class Conversion:
    """A conversion about to happen. `file_bytes` is the exact size of what `stream` will yield."""

    image: Image
    shape: qcow2.Shape

    @property
    def capacity_bytes(self) -> int:
        """The disk's size as the guest sees it."""
        return self.image.capacity_bytes

    @property
    def file_bytes(self) -> int:
        """Bytes that will travel; also what the disk takes when thin."""
        return self.shape.file_bytes

    def stream(self, start: int = 0) -> Iterator[bytes]:
        """The qcow2 file from byte `start` on. Deterministic: the same package gives the same
        bytes.
        """
        return qcow2.stream(self.shape, self.image, start)


def prepare(image: Image) -> Conversion:
    """Compute the qcow2 around a disk."""
    return Conversion(image, qcow2.plan(image.capacity_bytes, image.clusters))
