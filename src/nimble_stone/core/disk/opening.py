"""Opening a disk of whatever format, told by its first bytes."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.core.disk import vmdk_text
from nimble_stone.core.disk.image import Image
from nimble_stone.core.disk.qcow2_read import Qcow2Image
from nimble_stone.core.disk.raw import RawImage
from nimble_stone.core.disk.source import Source
from nimble_stone.core.disk.vmdk import VmdkImage
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import kinds


def open_image(source: Source, files: Mapping[str, Source] | None = None) -> Image:
    """The disk in `source`; `files` are those that came with it (extents of a VMDK text). Raises FormatError.

    What is no container is taken as raw; what is packed, an archive or a descriptor is refused by name.
    """
    kind = kinds.tell(source.read_at(0, min(kinds.HEAD, source.size_bytes)))
    if kind == "qcow2":
        return Qcow2Image(source)
    if kind == "vmdk":
        return VmdkImage(source)
    if kind == "vmdk-text":
        if source.size_bytes > vmdk_text.MAX_TEXT:
            raise FormatError("the VMDK text is longer than 1 MiB", code="vmdk-extents")
        return vmdk_text.open_text(source.read_at(0, source.size_bytes).decode("utf-8", "replace"), files or {})
    if kind in ("gzip", "xz", "zstd"):
        raise FormatError(f"the disk is packed with {kind}", code="disk-packed", hint=f"Unpack it with {kind} -d first, or take it in as a package.")
    if kind in ("ova", "ovf"):
        raise FormatError("this is a package, not a disk", code="disk-kind", hint="Use `nimble-stone package inspect`.")
    return RawImage(source)
