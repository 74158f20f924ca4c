"""What a file is, told by its first bytes. Names are never asked; they are only compared
afterwards.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Literal

Kind = Literal[
    "ova",
    "ovf",
    "qcow2",
    "vmdk",
    "vmdk-text",
    "raw",
    "iso",
    "kernel",
    "initrd",
    "gzip",
    "xz",
    "zstd",
    "bzip2",
    "lz4",
    "lzop",
    "lzma",
    "manifest",
    "certificate",
    "unknown",
]
HEAD = 40 << 10  # bytes from the start that suffice to tell
_UTF16 = (b"\xff\xfe<\x00", b"\xfe\xff\x00<")
_ENVELOPE = re.compile(rb"<([A-Za-z_][\w.-]{0,40}:)?Envelope[\s>/]")


def tell(head: bytes) -> Kind:
    """The kind of a file that begins with `head` (give HEAD bytes, or all there are)."""
    for kind, fits in _SIGNS:
        if fits(head):
            return kind
    return "unknown"


def _descriptor(head: bytes) -> bool:
    text = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    return text.startswith((b"<?xml", *_UTF16)) or bool(
        text.startswith(b"<") and _ENVELOPE.search(text)
    )


def _old_tar(head: bytes) -> bool:
    """A tar header without the ustar word: its checksum tells."""
    field = head[148:156].strip(b" \0")
    if (
        len(head) < 512
        or not head[0]
        or not field
        or not field.isdigit()
        or set(field) - set(b"01234567")
    ):
        return False
    return int(field, 8) == sum(head[:148]) + 8 * 32 + sum(head[156:512])


def _disk(head: bytes) -> bool:
    """A disk without a container: a boot sector, a partition table, or a file system at its usual
    place.
    """
    return (
        head[510:512] == b"\x55\xaa"
        or head[512:520] == b"EFI PART"
        or head[1080:1082] == b"\x53\xef"
        or head[:4] == b"XFSB"
        or head[512:520] == b"LABELONE"
        or head[0x8000:0x8008] == b"NXSB"
        or (len(head) >= 512 and not any(head[:4096]))
    )


_SIGNS: tuple[tuple[Kind, Callable[[bytes], bool]], ...] = (
    ("qcow2", lambda head: head[:4] == b"QFI\xfb"),
    ("vmdk", lambda head: head[:4] in (b"KDMV", b"COWD")),
    ("vmdk-text", lambda head: head.lstrip()[:21] == b"# Disk DescriptorFile"),
    ("gzip", lambda head: head[:2] == b"\x1f\x8b"),
    ("xz", lambda head: head[:6] == b"\xfd7zXZ\x00"),
    ("zstd", lambda head: head[:4] == b"\x28\xb5\x2f\xfd"),
    ("bzip2", lambda head: head[:3] == b"BZh" and head[4:10] == b"1AY&SY"),
    ("lz4", lambda head: head[:4] in (b"\x02\x21\x4c\x18", b"\x04\x22\x4d\x18")),
    ("lzop", lambda head: head[:4] == b"\x89LZO"),
    ("kernel", lambda head: head[0x202:0x206] == b"HdrS"),
    ("initrd", lambda head: head[:6] in (b"070701", b"070702", b"070707")),
    ("iso", lambda head: head[0x8001:0x8006] == b"CD001"),
    ("ovf", _descriptor),
    ("ova", lambda head: head[257:262] == b"ustar" or _old_tar(head)),
    ("manifest", lambda head: head[:3] == b"SHA" and b")=" in head[:400]),
    ("certificate", lambda head: head[:27] == b"-----BEGIN CERTIFICATE-----"),
    ("raw", _disk),
    ("lzma", lambda head: head[:3] == b"\x5d\x00\x00"),
)
"""Kinds and what tells them, in the order in which they are tried."""
