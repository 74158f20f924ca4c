"""Where bytes come from: anything with a size that can be read at an offset."""

from __future__ import annotations

from typing import BinaryIO, Protocol

from nimble_stone.core.errors import FormatError


class Source(Protocol):
    """Random access to bytes. `size_bytes` is fixed; `read_at` returns exactly `length` bytes or raises FormatError."""

    @property
    def size_bytes(self) -> int: ...

    def read_at(self, offset: int, length: int) -> bytes: ...


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
        piece = self._data[offset:offset + length]
        if offset < 0 or len(piece) != length:
            raise FormatError("the disk file ends before its content does", code="disk-truncated", place=f"byte {offset}")
        return piece


class WindowSource:
    """A window of an open file, such as one member of an archive. The file stays the caller's."""

    def __init__(self, file: BinaryIO, offset: int, size: int) -> None:
        self._file, self._offset, self._size = file, offset, size

    @property
    def size_bytes(self) -> int:
        """Bytes in the window."""
        return self._size

    def read_at(self, offset: int, length: int) -> bytes:
        """Exactly `length` bytes at `offset` of the window; FormatError when they are not there."""
        if offset < 0 or offset + length > self._size:
            raise FormatError("the disk file ends before its content does", code="disk-truncated", place=f"byte {offset}")
        self._file.seek(self._offset + offset)
        piece = self._file.read(length)
        if len(piece) != length:
            raise FormatError("the disk file ends before its content does", code="disk-truncated", place=f"byte {offset}")
        return piece
