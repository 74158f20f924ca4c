"""Opening a disk of whatever format, told by its first bytes."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.core.disk import signatures, vmdk_text
from nimble_stone.core.disk.image import Image
from nimble_stone.core.disk.qcow2_read import Qcow2Image
from nimble_stone.core.disk.raw import RawImage
from nimble_stone.core.disk.source import Source
from nimble_stone.core.disk.vmdk import VmdkImage
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import kinds

_NO_DISK = {
    "kernel": "a Linux kernel",
    "initrd": "a cpio archive",
    "manifest": "a manifest",
    "certificate": "a certificate",
}


def open_image(
    source: Source, files: Mapping[str, Source] | None = None, *, raw: bool = False
) -> Image:
    """The disk in `source`; `files` are those that came with it (extents of a VMDK text). Raises
    FormatError.

    `raw`: it is said to be a raw disk, so bytes of no known content are taken as one, with
    a note; else they are refused.
    What is packed, an archive, a descriptor, or a container that is not read is refused by name in
    either case.
    """
    kind = kinds.tell(source.read_at(0, min(kinds.HEAD, source.size_bytes)))
    if kind == "qcow2":
        return Qcow2Image(source)
    if kind == "vmdk":
        return VmdkImage(source)
    if kind == "vmdk-text":
        if source.size_bytes > vmdk_text.MAX_TEXT:
            raise FormatError("the VMDK text is longer than 1 MiB", code="vmdk-extents")
        return vmdk_text.open_text(
            source.read_at(0, source.size_bytes).decode("utf-8", "replace"), files or {}
        )
    _refuse(kind, source)
    image = RawImage(source)
    if kind == "unknown":
        _say_raw(image, raw)
    return image


def _refuse(kind: str, source: Source) -> None:
    """Raises FormatError for what is no disk, by name."""
    if kind in ("gzip", "xz", "zstd"):
        raise FormatError(
            f"the disk is packed with {kind}",
            code="disk-packed",
            hint=f"Unpack it with {kind} -d first, or import it as a package.",
        )
    if kind in ("ova", "ovf"):
        raise FormatError(
            "this is a package, not a disk",
            code="disk-kind",
            hint="Use `nimble-stone package inspect`.",
        )
    if source.size_bytes and (name := signatures.unread(source)):
        raise FormatError(
            f"this is {name}, which is not supported",
            code="disk-kind",
            hint="Convert it to qcow2, VMDK or raw, or unpack it, with the tool that made it.",
        )
    if kind in _NO_DISK:
        raise FormatError(f"this is {_NO_DISK[kind]}, not a disk", code="disk-kind")


def _say_raw(image: RawImage, raw: bool) -> None:
    """Raises FormatError for bytes of no known content, unless they are said to be a
    disk.
    """
    if not raw:
        raise FormatError(
            "nothing in this file tells what it is: no container, boot sector, partition table"
            " or file system",
            code="disk-unknown",
            hint="For a raw disk, use --raw.",
        )
    image.notes = (
        "nothing tells what is on it (no boot sector, partition table or file system); taken as"
        " raw, as asked",
    )
