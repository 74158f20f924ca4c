"""Where bytes come from: anything with a size that can be read at an offset, from several threads
at once.
"""

from __future__ import annotations

import bisect
from collections.abc import Iterator, Sequence
from typing import Protocol

from nimble_stone.core.errors import FormatError


class Source(Protocol):
    """Random access to bytes. `size_bytes` is fixed; `read_at` returns exactly `length` bytes or
    raises FormatError.
    """

    @property
    def size_bytes(self) -> int: ...

    def read_at(self, offset: int, length: int) -> bytes: ...

    def data_ranges(self) -> Iterator[tuple[int, int]]: ...

    def part(self, offset: int, size: int) -> Source: ...


def short(offset: int) -> FormatError:
    """The error of a source that ends before what is asked of it."""
    return FormatError(
        "the disk file ends before its content does", code="disk-truncated", place=f"byte {offset}"
    )


class BytesSource:
    """A source over bytes in memory."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    @property
    def size_bytes(self) -> int:
        """Number of bytes."""
        return len(self._data)

    def read_at(self, offset: int, length: int) -> bytes:
        """Exactly `length` bytes at `offset`; FormatError when they are not there."""
        piece = self._data[offset : offset + length]
        if offset < 0 or len(piece) != length:
            raise short(offset)
        return piece

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """(start, end) of what is not a hole."""
        yield 0, len(self._data)

    def part(self, offset: int, size: int) -> Source:
        """A window of it."""
        return Window(self, offset, size)


class ConcatSource:
    """Several sources one after the other, such as the pieces of a chunked file."""

    def __init__(self, parts: Sequence[Source]) -> None:
        self._parts = list(parts)
        self._ends: list[int] = []
        for part in self._parts:
            self._ends.append((self._ends[-1] if self._ends else 0) + part.size_bytes)

    @property
    def size_bytes(self) -> int:
        """Bytes of all parts."""
        return self._ends[-1] if self._ends else 0

    def read_at(self, offset: int, length: int) -> bytes:
        """Exactly `length` bytes at `offset`; FormatError when they are not there."""
        if offset < 0 or offset + length > self.size_bytes:
            raise short(offset)
        out = []
        while length:
            number = bisect.bisect_right(self._ends, offset)
            begin = self._ends[number] - self._parts[number].size_bytes
            take = min(length, self._ends[number] - offset)
            out.append(self._parts[number].read_at(offset - begin, take))
            offset, length = offset + take, length - take
        return b"".join(out)

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """(start, end) of what is not a hole."""
        for end, part in zip(self._ends, self._parts, strict=True):
            begin = end - part.size_bytes
            for start, stop in part.data_ranges():
                yield begin + start, begin + stop

    def part(self, offset: int, size: int) -> Source:
        """A window of it."""
        return Window(self, offset, size)


class Window:
    """Part of a source."""

    def __init__(self, source: Source, offset: int, size: int) -> None:
        self._source, self._offset, self.size_bytes = source, offset, size

    def read_at(self, offset: int, length: int) -> bytes:
        """Exactly `length` bytes; FormatError when they are not there."""
        if offset < 0 or offset + length > self.size_bytes:
            raise FormatError(
                "the disk file ends before its content does",
                code="disk-truncated",
                place=f"byte {offset}",
            )
        return self._source.read_at(self._offset + offset, length)

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """(start, end) of what is not a hole."""
        for start, end in self._source.data_ranges():
            low, high = max(start - self._offset, 0), min(end - self._offset, self.size_bytes)
            if low < high:
                yield low, high

    def part(self, offset: int, size: int) -> Source:
        """A window of it."""
        return Window(self, offset, size)
