"""Containers and archives that are not read, told by signatures at the head and the tail of a file,
so that none of them passes for a raw disk.
"""

from __future__ import annotations

import codecs
from dataclasses import dataclass

from nimble_stone.core.disk.source import Source

HEAD = 4096
TAIL = 512
_CONTINUED = bytes(range(0x80, 0xC0))
_TEXT = frozenset(range(0x20, 0x7F)) | frozenset(b"\t\n\r\f\x1b") | frozenset(range(0x80, 0x100))


@dataclass(frozen=True)
class _Signature:
    """`mark` at byte `at` of the head; counted from the end where it is negative."""

    mark: bytes
    at: int
    name: str


_KNOWN = (
    _Signature(b"\x7f\x10\xda\xbe", 64, "a VDI disk image"),
    _Signature(b"vhdxfile", 0, "a VHDX disk image"),
    _Signature(b"conectix", 0, "a VHD disk image"),
    _Signature(b"conectix", -512, "a fixed VHD disk image"),
    # an early writer left the last byte out
    _Signature(b"conectix", -511, "a fixed VHD disk image"),
    _Signature(b"QED\0", 0, "a QED disk image"),
    _Signature(b"WithoutFreeSpace", 0, "a Parallels disk image"),
    _Signature(b"WithouFreSpacExt", 0, "a Parallels disk image"),
    _Signature(b"LUKS\xba\xbe", 0, "an encrypted LUKS volume"),
    _Signature(b"Bochs Virtual HD Image", 0, "a Bochs disk image"),
    _Signature(b"#!/bin/sh\n#V2.0 Format\n", 0, "a cloop disk image"),
    _Signature(b"koly", -512, "a DMG disk image"),
    _Signature(b"BZh", 0, "a bzip2 file"),
    _Signature(b"\x04\x22\x4d\x18", 0, "an lz4 file"),
    _Signature(b"LZIP", 0, "an lzip file"),
    _Signature(b"]\0\0", 0, "an lzma file"),
    _Signature(b"7z\xbc\xaf\x27\x1c", 0, "a 7z archive"),
    _Signature(b"PK\x03\x04", 0, "a zip archive"),
    _Signature(b"Rar!\x1a\x07", 0, "a RAR archive"),
    _Signature(b"!<arch>\n", 0, "an ar archive (such as a Debian package)"),
    _Signature(b"\xed\xab\xee\xdb", 0, "an RPM package"),
    _Signature(b"\x7fELF", 0, "a program (ELF)"),
    _Signature(b"%PDF-", 0, "a PDF document"),
)


def unread(source: Source) -> str:
    """What a file is that is neither a disk nor a container that is read, with its article; '' when
    no signature tells. Cost: two short reads.
    """
    size = source.size_bytes
    head = source.read_at(0, min(HEAD, size))
    tail = source.read_at(max(0, size - TAIL), min(TAIL, size))
    for one in _KNOWN:
        within, at = (tail, len(tail) + one.at) if one.at < 0 else (head, one.at)
        if at >= 0 and within[at : at + len(one.mark)] == one.mark:
            return one.name
    if _is_text(head) and _is_text(tail):
        return "text"
    return ""


def _is_text(part: bytes) -> bool:
    """Printable characters only (ASCII or what UTF-8 makes of others); a disk has zeros in it
    sooner or later.
    """
    if not part or not set(part) <= _TEXT:
        return False
    try:
        # both ends may cut a character
        codecs.getincrementaldecoder("utf-8")().decode(part.lstrip(_CONTINUED))
    except UnicodeDecodeError:
        return False
    return True
