"""A tar reader fed with bytes, for OVA archives (POSIX 1003.1 ustar, pax and base-256 sizes as seen
in the field).

Sans-IO: `feed` bytes, receive events. It never holds more than one header plus what was fed. Only
plain files with
plain names are let through: links, devices, absolute names, '..' and duplicates are refused,
because a package has no use for them.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package.names import inside

BLOCK = 512
MAX_MEMBERS = 2_000
MAX_PAX = 64 << 10


@dataclass(frozen=True)
class MemberStart:
    """A file begins: its name, its size in bytes and the offset of its first byte in the
    archive.
    """

    name: str
    size: int
    offset: int


@dataclass(frozen=True)
class MemberData:
    """The next bytes of the current file."""

    data: bytes


@dataclass(frozen=True)
class MemberEnd:
    """The current file is complete."""

    name: str


Event = MemberStart | MemberData | MemberEnd


class ArchiveReader:
    """State of one archive being read. Call `feed` for each piece, then `close`."""

    def __init__(self) -> None:
        self._buffer = bytearray()
        self._offset = 0  # archive offset of the first byte in the buffer
        self._left = 0  # bytes of the current file still to come
        self._padding = 0  # padding bytes to pass over now
        self._tail = 0  # padding bytes that follow the current file
        self._pad_after = 0  # padding bytes that follow the current extended header
        self._name = ""
        self._pax: dict[str, str] | None = None
        self._pax_left = 0  # bytes of the current extended header still to come
        self._extension = b""  # its type: x (next file), g (all files), L (a long name)
        self._pax_data = bytearray()
        self._long_name = ""
        self._ended = False
        self._names: set[str] = set()

    def feed(self, data: bytes) -> Iterator[Event]:
        """The events that these bytes complete. Raises FormatError at the first thing that is not a
        fit archive.
        """
        self._buffer += data
        while not self._is_waiting():
            if self._pax_left:
                self._take_extension()
            elif self._left:
                yield from self._take_data()
            else:
                yield from self._take_header()

    def _is_waiting(self) -> bool:
        """Whether more bytes are needed before anything can be said. Padding, and all that follows
        the end mark, is dropped here.
        """
        if self._ended:
            self._drop(len(self._buffer))
            return True
        if self._padding:
            self._padding -= self._drop(min(self._padding, len(self._buffer)))
            if self._padding:
                return True
        if self._pax_left or self._left:
            return not self._buffer
        return len(self._buffer) < BLOCK

    def _take_extension(self) -> None:
        take = min(self._pax_left, len(self._buffer))
        self._pax_data += self._buffer[:take]
        self._pax_left -= self._drop(take)
        if not self._pax_left:
            self._end_extension()

    def _take_data(self) -> Iterator[Event]:
        take = min(self._left, len(self._buffer))
        piece = bytes(self._buffer[:take])
        self._left -= self._drop(take)
        yield MemberData(piece)
        if self._left == 0:
            self._padding = self._tail
            yield MemberEnd(self._name)

    def _take_header(self) -> Iterator[Event]:
        started = self._header()
        if started is not None:
            yield started
            if started.size == 0:
                yield MemberEnd(started.name)

    @property
    def wanted(self) -> int:
        """Offset in the archive of the byte that `feed` wants next."""
        return self._offset + len(self._buffer)

    @property
    def ended(self) -> bool:
        """Whether the end mark was met."""
        return self._ended

    def skip(self) -> int:
        """Pass over the data of the file that has just begun, for a reader that can seek: the
        offset of what to feed next.

        Only between a MemberStart and its first data, with nothing buffered.
        """
        self._offset += self._left + self._tail
        self._left = self._tail = 0
        self._buffer.clear()
        return self._offset

    def close(self) -> None:
        """Say that no more bytes come. Raises FormatError when the archive is cut short or holds no
        file.
        """
        if self._left or self._pax_left or (self._buffer and not self._ended):
            raise FormatError(
                f"the archive ends in the middle of “{self._name or 'a header'}”: it is cut short",
                code="archive-truncated",
                place=f"byte {self._offset}",
                hint="Copy or download the file again and compare its size.",
            )
        if not self._names:
            raise FormatError(
                "the file holds no archive members; it is not an OVA", code="archive-empty"
            )

    def _drop(self, count: int) -> int:
        del self._buffer[:count]
        self._offset += count
        return count

    def _header(self) -> MemberStart | None:
        at = self._offset
        block = bytes(self._buffer[:BLOCK])
        self._drop(BLOCK)
        if block == bytes(BLOCK):
            self._ended = True
            return None
        if not set(block[148:156]) <= set(b"01234567 \0") or _checksum(block) != _number(
            block[148:156], at
        ):
            raise FormatError(
                "this is not an archive header (its checksum does not match); the file is damaged"
                " or not an OVA",
                code="archive-header",
                place=f"byte {at}",
            )
        kind = block[156:157]
        size = _number(block[124:136], at)
        if kind in (b"x", b"g", b"L"):
            if size > MAX_PAX:
                raise FormatError(
                    "an extended archive header is larger than 64 KiB",
                    code="archive-header",
                    place=f"byte {at}",
                )
            self._pax_left, self._pax_data, self._extension = size, bytearray(), kind
            self._pad_after = -size % BLOCK
            return None
        name = _text(
            block[345:500] if block[257:262] == b"ustar" and block[257:265] != b"ustar  \0" else b""
        )
        name = f"{name}/{_text(block[:100])}" if name else _text(block[:100])
        if self._long_name:
            name = self._long_name
        if self._pax:
            name = self._pax.get("path", name)
            size = _decimal(self._pax.get("size"), size, at)
        self._pax, self._long_name = None, ""
        if kind not in (b"0", b"\0", b"7"):
            raise FormatError(
                f"“{_shown(name)}” is not a plain file (type {kind!r}); links, folders and devices"
                " are refused in a package",
                code="archive-member",
                place=f"byte {at}",
            )
        name = self._admit(name, at)
        self._name, self._left, self._tail = name, size, -size % BLOCK
        return MemberStart(name, size, self._offset)

    def _admit(self, name: str, at: int) -> str:
        clean = inside(name)
        if clean is None:
            raise FormatError(
                f"the archive holds a file named “{_shown(name)}”: names outside the package folder"
                " are refused",
                code="archive-name",
                place=f"byte {at}",
            )
        if clean in self._names:
            raise FormatError(
                f"“{clean}” is in the archive twice",
                code="archive-duplicate",
                place=f"byte {at}",
            )
        if len(self._names) >= MAX_MEMBERS:
            raise FormatError(
                f"the archive holds more than {MAX_MEMBERS} files", code="archive-members"
            )
        self._names.add(clean)
        return clean

    def _end_extension(self) -> None:
        data = bytes(self._pax_data)
        if self._extension == b"L":
            self._long_name = _text(data)
        else:
            records = _pax_records(data)
            # what holds for all files (g) says nothing of names and sizes
            if self._extension == b"x":
                self._pax = records
        self._padding = self._pad_after


def _checksum(block: bytes) -> int:
    return sum(block[:148]) + 8 * 32 + sum(block[156:])


def _number(field: bytes, at: int) -> int:
    if field[0] & 0x80:
        value = int.from_bytes(bytes([field[0] & 0x7F]) + field[1:], "big")
    else:
        digits = field.strip(b" \0")
        try:
            value = int(digits, 8) if digits else 0
        except ValueError as error:
            raise FormatError(
                "an archive header has an invalid number",
                code="archive-header",
                place=f"byte {at}",
            ) from error
    if not 0 <= value < 1 << 50:
        raise FormatError(
            "an archive header holds an impossible size", code="archive-header", place=f"byte {at}"
        )
    return value


def _decimal(text: str | None, default: int, at: int) -> int:
    if text is None:
        return default
    if not text.isascii() or not text.isdigit() or len(text) > 15:
        raise FormatError(
            "an extended archive header holds an impossible size",
            code="archive-header",
            place=f"byte {at}",
        )
    return int(text)


def _text(field: bytes) -> str:
    return field.split(b"\0", 1)[0].decode("utf-8", "replace")


def _shown(name: str) -> str:
    return "".join(c if c.isprintable() else "?" for c in name)[:120]


def _pax_records(data: bytes) -> dict[str, str]:
    records: dict[str, str] = {}
    while data:
        head, _, _ = data.partition(b" ")
        if not head.isdigit() or not 0 < int(head) <= len(data):
            raise FormatError("an extended archive header is malformed", code="archive-header")
        key, _, value = data[len(head) + 1 : int(head) - 1].partition(b"=")
        records[key.decode("utf-8", "replace")] = value.decode("utf-8", "replace")
        data = data[int(head) :]
    return records
