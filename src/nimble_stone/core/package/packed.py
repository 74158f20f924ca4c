"""Disk images packed as a whole by gzip or xz: unpacked as a stream, with limits on size
and ratio.
"""

from __future__ import annotations

import lzma
import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

from isal import isal_zlib

from nimble_stone.core.disk.image import MAX_CAPACITY
from nimble_stone.core.disk.source import Source
from nimble_stone.core.errors import FormatError

PIECE = 1 << 20
HEAD = 40 << 10
XZ_MEMORY = 128 << 20
KEEP = 64 << 20  # what unpacks to no more than this is looked into like any other disk


@dataclass(frozen=True)
class Peek:
    """The first bytes of what is inside, its size where the end was reached, and all of it where it
    is small (KEEP).
    """

    head: bytes
    size: int | None
    whole: bytes | None = None


def stream(source: Source, kind: str, limit: int = MAX_CAPACITY) -> Iterator[bytes]:
    """What is inside, in pieces of at most 1 MiB. Raises FormatError for damage, a cut file, or
    more than `limit` bytes.
    """
    if kind not in ("gzip", "xz"):
        raise FormatError(
            f"files packed by {kind} are not opened",
            code="packed",
            hint="Unpack it first, or pack it with gzip or xz.",
        )
    total, at, done = 0, 0, False
    unpacker = _unpacker(kind)
    pending = b""
    try:
        while not done:
            hungry = not pending and (kind == "gzip" or unpacker.needs_input)
            if hungry and at < source.size_bytes:
                pending = source.read_at(at, min(PIECE, source.size_bytes - at))
                at += len(pending)
            piece: bytes = unpacker.decompress(pending, PIECE)
            pending = unpacker.unconsumed_tail if kind == "gzip" else b""
            if piece:
                total += len(piece)
                if total > limit:
                    raise FormatError(f"it unpacks to more than {limit} bytes", code="packed-size")
                yield piece
            if unpacker.eof:
                rest = unpacker.unused_data.lstrip(b"\0")
                done = not rest and at >= source.size_bytes
                # several packed streams one after the other are one file
                if not done:
                    unpacker, pending = _unpacker(kind), rest
            elif not piece and hungry and at >= source.size_bytes:
                raise FormatError(
                    "the packed file is cut short", code="disk-truncated", place=f"byte {at}"
                )
    # isal has no types
    except (zlib.error, lzma.LZMAError, EOFError, isal_zlib.error) as error:  # type: ignore[misc]
        raise FormatError(
            f"the packed file is damaged: {error}", code="packed", place=f"byte {at}"
        ) from error


def _unpacker(kind: str):  # type: ignore[no-untyped-def]  # two libraries with one shape
    return (
        isal_zlib.decompressobj(wbits=31)
        if kind == "gzip"
        else lzma.LZMADecompressor(memlimit=XZ_MEMORY)
    )


def peek(source: Source, kind: str, limit: int) -> Peek:
    """Look inside, unpacking at most `limit` bytes. Raises FormatError."""
    head, total, kept = b"", 0, list[bytes]()
    for piece in stream(source, kind):
        head = (head + piece)[:HEAD] if len(head) < HEAD else head
        total += len(piece)
        if total <= KEEP:
            kept.append(piece)
        else:
            kept.clear()
        if total > limit:
            return Peek(head, None)
    return Peek(head, total, b"".join(kept) if total <= KEEP else None)


def capacity(kind: str, inside: Peek) -> int | None:
    """The disk's size: by its header, or by what was unpacked. None when that is not known or
    beyond reason.
    """
    if kind == "qcow2" and len(inside.head) >= 32:
        found: int = struct.unpack_from(">Q", inside.head, 24)[0]
    elif kind == "vmdk" and len(inside.head) >= 20:
        found = struct.unpack_from("<Q", inside.head, 12)[0] * 512
    else:
        return inside.size
    return found if 0 < found <= MAX_CAPACITY else None
