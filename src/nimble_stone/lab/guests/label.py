"""What stand-in products are called: a label on their disks, so that a guest answers what its
package is.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

from lxml import etree

from nimble_stone.core.disk.opening import open_image
from nimble_stone.core.disk.source import BytesSource, Source, short
from nimble_stone.core.errors import FormatError
from nimble_stone.lab.hypervisor.state import LabGuest, LabHost, LabVolume, Volumes

MARK, PLACE = b"HOLM-LABEL:", 4096
"""How the label begins, and at which byte of the disk."""


def labelled(grain: bytes, product: str, version: str) -> bytes:
    """The first 64 KiB of a disk with the label in them."""
    text = MARK + json.dumps({"product": product, "version": version}).encode() + b"\0"
    return grain[:PLACE] + text + grain[PLACE + len(text) :]


class _File:
    """A file's bytes, as disk readers ask for them."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._size = path.stat().st_size

    @property
    def size_bytes(self) -> int:
        """Number of bytes."""
        return self._size

    def read_at(self, offset: int, length: int) -> bytes:
        """Exactly so many bytes from an offset on. Raises FormatError at the end."""
        with self._path.open("rb") as file:
            file.seek(offset)
            data = file.read(length)
        if len(data) != length:
            raise short(offset)
        return data

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """All of it."""
        yield 0, self._size

    def part(self, offset: int, size: int) -> Source:
        """A piece of it."""
        return BytesSource(self.read_at(offset, size))


def label_of(guest: LabGuest, host: LabHost, volumes: Volumes) -> dict[str, str]:
    """{product, version} of the guest's system disk; {} where it bears no label."""
    root = etree.fromstring(guest.xml.encode())
    if kernel := root.findtext("os/kernel"):
        return _label_on(_named(kernel.rpartition("/")[2], host, volumes), {})
    for disk in root.findall("devices/disk"):
        source = disk.find("source")
        if (
            disk.get("device") in (None, "disk")
            and source is not None
            and source.get("pool") in host.ground.stores
        ):
            known = volumes.of(host.ground.stores[str(source.get("pool"))].place(host.plan.name))
            return _label_on(known.get(str(source.get("volume"))), known)
    return {}


def _named(name: str, host: LabHost, volumes: Volumes) -> LabVolume | None:
    """A volume by its name, wherever on the host it lies."""
    for store in host.ground.stores.values():
        if found := volumes.of(store.place(host.plan.name)).get(name):
            return found
    return None


def _label_on(volume: LabVolume | None, known: dict[str, LabVolume]) -> dict[str, str]:
    while volume is not None and volume.backing:
        volume = known.get(volume.backing.rpartition("/")[2])
    if volume is None or not Path(volume.file).is_file():
        return {}
    try:
        head = open_image(_File(Path(volume.file)), raw=True).read([0])[0]
        found = json.loads(head[PLACE:].partition(MARK)[2].partition(b"\0")[0] or b"{}")
    except (FormatError, ValueError, IndexError):
        return {}
    return {str(key): str(value) for key, value in found.items()}
