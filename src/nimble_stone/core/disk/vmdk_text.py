"""VMDK made of several files: a text that names extents, flat or sparse, whole or split.

Names in the text are only looked up among the files that came with it; nothing is ever opened
because a disk says so.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from nimble_stone.core.disk.image import MAX_CAPACITY, Image
from nimble_stone.core.disk.raw import RawImage
from nimble_stone.core.disk.source import ConcatSource, Source, Window
from nimble_stone.core.disk.vmdk import SECTOR, VmdkImage
from nimble_stone.core.errors import FormatError

MAX_TEXT = 1 << 20
_EXTENT = re.compile(
    r"^\s*(RW|RDONLY|NOACCESS)\s+(\d{1,15})\s+([A-Z]{3,16})"
    r'\s*(?:"([^"]{1,255})")?\s*(\d{1,15})?\s*$',
    re.MULTILINE,
)


class _Zeros:
    """So many zeros."""

    def __init__(self, size: int) -> None:
        self.size_bytes = size

    def read_at(self, offset: int, length: int) -> bytes:
        """Zeros."""
        return bytes(length)

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """None: it is a hole."""
        return iter(())

    def part(self, offset: int, size: int) -> Source:
        """Fewer zeros."""
        return _Zeros(size)


class _Split(Image):
    """Sparse extents one after the other. Each begins at a multiple of its grain."""

    kind = "vmdk-split"

    def __init__(self, parts: list[VmdkImage]) -> None:
        self._parts = parts
        sizes = {part.unit_bytes for part in parts}
        starts = np.cumsum([0, *(part.capacity_bytes for part in parts)])
        if len(sizes) != 1 or any(int(start) % parts[0].unit_bytes for start in starts[:-1]):
            raise FormatError(
                "the extents of the VMDK do not share one grain size", code="vmdk-extents"
            )
        self.unit_bytes, self.capacity_bytes = parts[0].unit_bytes, int(starts[-1])
        self._first = [int(start) // self.unit_bytes for start in starts[:-1]]
        self.units = np.concatenate(
            [part.units + first for part, first in zip(parts, self._first, strict=True)]
        ).astype(np.int64)

    def read_unit(self, unit: int) -> bytes:
        """One grain of whichever extent holds it."""
        number = int(np.searchsorted(self._first, unit, side="right")) - 1
        return self._parts[number].read_unit(unit - self._first[number])


def extents(text: str) -> list[str]:
    """Names of the files a VMDK text asks for."""
    return [match[3] for match in _EXTENT.findall(text) if match[3]]


def open_text(text: str, files: Mapping[str, Source]) -> Image:
    """The disk a VMDK text describes. Raises FormatError for a missing extent, mixed kinds, or a
    parent.
    """
    rows = _rows(text)

    def source(name: str) -> Source:
        if name not in files:
            raise FormatError(
                f"the extent “{name[:80]}” did not come with the VMDK",
                code="vmdk-extents",
                hint="Provide all files of the disk.",
            )
        return files[name]

    kinds = {row.kind for row in rows}
    if kinds == {"SPARSE"}:
        parts = [VmdkImage(source(row.name)) for row in rows]
        return parts[0] if len(parts) == 1 else _Split(parts)
    if "SPARSE" in kinds:
        raise FormatError("flat and sparse extents are mixed", code="vmdk-extents")
    image = RawImage(ConcatSource([_flat(row, source) for row in rows]))
    image.kind = "vmdk-flat"
    return image


@dataclass(frozen=True)
class _Row:
    """An extent: its size and its place in its file, in bytes."""

    size: int
    kind: str
    name: str
    offset: int


def _flat(row: _Row, source: Callable[[str], Source]) -> Source:
    if row.kind == "ZERO":
        return _Zeros(row.size)
    whole = source(row.name)
    if row.offset + row.size > whole.size_bytes:
        raise FormatError(
            f"extent “{row.name[:80]}” is shorter than the VMDK says", code="disk-truncated"
        )
    return Window(whole, row.offset, row.size)


def _is_unread(kind: str) -> bool:
    return kind != "SPARSE" and ("SPARSE" in kind or "RDM" in kind or "RAW" in kind)


def _rows(text: str) -> list[_Row]:
    """The extents. Raises FormatError for a parent, for none or too many, and for kinds that are
    not read.
    """
    found = re.search(r"^\s*parentCID\s*=\s*([0-9a-fA-F]{1,8})", text, re.MULTILINE)
    if found and int(found[1], 16) != 0xFFFF_FFFF:
        raise FormatError(
            "the VMDK holds only what differs from a parent, which is missing",
            code="disk-backing",
        )
    matches = _EXTENT.findall(text)
    if not matches:
        raise FormatError("the VMDK text names no extents", code="vmdk-extents")
    if len(matches) > 2_000 or sum(int(match[1]) for match in matches) * SECTOR > MAX_CAPACITY:
        raise FormatError(
            "the VMDK text names more than 2,000 extents or 64 TiB", code="vmdk-extents"
        )
    if unread := sorted(match[2] for match in matches if _is_unread(match[2])):
        raise FormatError(
            f"extents of kind {unread[0]} are not read",
            code="vmdk-extents",
            hint="Convert the disk to one file first.",
        )
    return [
        _Row(int(sectors) * SECTOR, kind, name, int(offset or 0) * SECTOR)
        for _, sectors, kind, name, offset in matches
    ]
