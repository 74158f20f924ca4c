"""Package files: a store addressed by content, and opening the disks in it."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from cryptography.x509 import Certificate
from pydantic import TypeAdapter

from nimble_stone.core.disk import convert
from nimble_stone.core.disk.image import Image, Layered
from nimble_stone.core.disk.opening import open_image
from nimble_stone.core.disk.source import ConcatSource, Source
from nimble_stone.core.errors import FormatError
from nimble_stone.core.installing import packages as installing
from nimble_stone.core.package import envelope, kinds, signature
from nimble_stone.core.package.contents import MAX_MANIFEST, Contents
from nimble_stone.core.package.given import pieces_of
from nimble_stone.core.package.model import Disk, FileRef
from nimble_stone.core.plan.sheet import PackageView
from nimble_stone.packages.files import FileSource
from nimble_stone.ports.cache import Recent
from nimble_stone.store.records import PackageRow

_CONTENTS = TypeAdapter(Contents)


def dump(contents: Contents) -> dict[str, Any]:
    """Contents as JSON data."""
    data: dict[str, Any] = _CONTENTS.dump_python(contents, mode="json")
    return data


def contents_of(row: PackageRow) -> Contents:
    """Contents of a stored package."""
    return _CONTENTS.validate_python(row.doc)


_views: Recent[str, tuple[object, PackageView]] = Recent(256)
"""By digest: the document a view was made from, and the view. A document changes when a package
is read again by a newer version.
"""


def view_of(row: PackageRow) -> PackageView:
    """What the sheet needs of it; remembered as long as the package's document stays. Raises
    FormatError for a package that a plan cannot roll out.
    """
    kept = _views.get(row.sha256)
    if kept is None or kept[0] != row.doc:
        view = _view(row)
        kept = _views.put(row.sha256, (row.doc, view))
    return kept[1]


def _view(row: PackageRow) -> PackageView:
    return view_from(contents_of(row), row.product, row.version, row.thin_bytes, row.size)


def view_from(
    contents: Contents, product: str, version: str, thin_bytes: int, size: int
) -> PackageView:
    """What the sheet needs of a package. Raises FormatError for one that a plan cannot roll out."""
    sha256, form = contents.sha256, contents.format
    if form == "iso":
        return installing.view(sha256, product, version, size)
    if form == "kernel":
        disks = [image_disk(contents)] if contents.disks else []
        return installing.kernel_view(sha256, product, version, disks, thin_bytes)
    if contents.envelope is None and len(contents.disks) == 1:
        return installing.image_view(
            sha256, product, version, image_disk(contents), thin_bytes, form
        )
    read = contents.envelope
    if read is not None and len(read.systems) > 1:
        whole = replace(
            installing.NO_HARDWARE,
            product=product,
            version=version,
            licences=read.licences,
            files=read.files,
            disks=read.disks,
        )
        return installing.set_view(PackageView(sha256, whole, thin_bytes, form), read)
    return PackageView(sha256, contents.descriptor, thin_bytes)


def image_disk(contents: Contents) -> Disk:
    """The disk that a package without a descriptor is."""
    one = contents.disks[0]
    return Disk(one.name, one.name, one.capacity_bytes or 0, one.populated_bytes, "")


def blob(folder: Path, sha256: str) -> Path:
    """Where the bytes of that digest lie."""
    return folder / "blobs" / sha256


def blobs_of(contents: Contents) -> set[str]:
    """Digests of all bytes a package needs."""
    return {member.blob for member in contents.members if member.blob} | {
        digest for _, digest in contents.unpacked
    }


@contextlib.contextmanager
def open_disk(folder: Path, contents: Contents, disk_id: str) -> Iterator[convert.Conversion]:
    """A conversion of one disk to qcow2; the files are open inside the block. Raises
    FormatError.
    """
    with contextlib.ExitStack() as stack:
        yield convert.prepare(_image(_Files(folder, contents, stack), disk_id))


class _Files:
    """The package's files as sources, opened once each."""

    def __init__(self, folder: Path, contents: Contents, stack: contextlib.ExitStack) -> None:
        self.folder, self.contents, self.stack = folder, contents, stack
        self.unpacked = dict(contents.unpacked)
        self.open: dict[str, int] = {}

    def _descriptor(self, digest: str) -> int:
        if digest not in self.open:
            try:
                self.open[digest] = os.open(blob(self.folder, digest), os.O_RDONLY | os.O_CLOEXEC)
            except OSError as error:
                raise FormatError(
                    "the package's file is missing on the server",
                    code="package-gone",
                    hint="Import the package again.",
                ) from error
            self.stack.callback(os.close, self.open[digest])
        return self.open[digest]

    def source(self, name: str) -> Source:
        """A file by its name in the package. Raises FormatError."""
        member = self.contents.member(name)
        return FileSource(
            self._descriptor(member.blob or self.contents.sha256), member.offset, member.size
        )

    def referenced(self, file: FileRef) -> Source:
        """A referenced file: unpacked, put together from its pieces, or as it is."""
        if file.href in self.unpacked:
            return FileSource(self._descriptor(self.unpacked[file.href]))
        sizes = {member.name: member.size for member in self.contents.members}
        parts = [self.source(name) for name in pieces_of(file, sizes.get)]
        return parts[0] if len(parts) == 1 else ConcatSource(parts)

    def all(self) -> dict[str, Source]:
        """Every file by name."""
        return {member.name: self.source(member.name) for member in self.contents.members}


def _image(files: _Files, disk_id: str) -> Image:
    contents = files.contents
    if contents.envelope is None:
        main = next(disk for disk in contents.disks if disk.name == disk_id)
        return open_image(files.source(main.name), files.all(), raw=True)
    disk = next(disk for disk in contents.envelope.disks if disk.id == disk_id)
    file = next(file for file in contents.envelope.files if file.id == disk.file_id)
    image = open_image(
        files.referenced(file), files.all() if len(contents.members) < 50 else {}, raw=True
    )
    return Layered(image, _image(files, disk.parent)) if disk.parent else image


def boot_files(folder: Path, contents: Contents) -> tuple[list[Path], list[Path]]:
    """A kernel set's files on this server: the kernel, and its ramdisks in order. Raises
    FormatError for another package.
    """
    if contents.format != "kernel":
        raise FormatError("the package is no kernel", code="not-a-kernel")
    disks = {one.name for one in contents.disks}
    files = {one.name: blob(folder, one.blob) for one in contents.members}
    kernel = [
        path
        for name, path in files.items()
        if name not in contents.ramdisks and name not in disks and _is_kernel(path)
    ]
    return kernel[:1], [files[name] for name in contents.ramdisks]


def _is_kernel(path: Path) -> bool:
    with path.open("rb") as file:
        return kinds.tell(file.read(kinds.HEAD)) == "kernel"


def disk_ids(contents: Contents) -> list[str]:
    """Ids of the disks one node gets that have content, each once, in the order of the drives."""
    if contents.envelope is None:
        return [disk.name for disk in contents.disks]
    filled = {disk.id for disk in contents.envelope.disks if disk.file_id}
    return [
        ident
        for ident in dict.fromkeys(
            ident for system in contents.envelope.systems for ident in system.standard.disks
        )
        if ident in filled
    ]


def thin_bytes(folder: Path, contents: Contents) -> int:
    """Bytes that one node's disks take when thin: what will travel. Reads tables only."""
    total = 0
    for ident in disk_ids(contents):
        with open_disk(folder, contents, ident) as conversion:
            total += conversion.file_bytes
    return total


def full_bytes(contents: Contents) -> int:
    """Bytes that one node's disks take when fully reserved."""
    if contents.envelope is None:
        return sum(disk.capacity_bytes or 0 for disk in contents.disks)
    sizes = {disk.id: disk.capacity_bytes for disk in contents.envelope.disks}
    return sum(
        sizes[ident] for system in contents.envelope.systems for ident in system.standard.disks
    )


def in_language(folder: Path, contents: Contents, language: str) -> Contents:
    """The same package with its texts in another language, where it has one. Raises FormatError
    when its file is gone.
    """
    if contents.envelope is None or not language:
        return contents
    with contextlib.ExitStack() as stack:
        files = _Files(folder, contents, stack)
        source = files.source(_descriptor_name(contents))
        data = source.read_at(0, source.size_bytes)
        texts = {
            name: files.source(name).read_at(0, files.source(name).size_bytes)
            for name in envelope.text_files(data)
            if any(m.name == name and m.size <= MAX_MANIFEST for m in contents.members)
        }
        return replace(contents, envelope=envelope.read(data, language, texts)[0])


def signature_now(
    folder: Path, contents: Contents, trust: Sequence[Certificate], now: float
) -> signature.Signature:
    """The signature against today's trust list and clock; what was found at take-in may have
    changed since.
    """
    names = {m.name.lower().rsplit(".", 1)[-1]: m.name for m in contents.members}
    if "mf" not in names or "cert" not in names:
        return signature.Signature("absent")
    with contextlib.ExitStack() as stack:
        files = _Files(folder, contents, stack)
        listed, certificate = files.source(names["mf"]), files.source(names["cert"])
        return signature.check(
            certificate.read_at(0, certificate.size_bytes),
            listed.read_at(0, listed.size_bytes),
            names["mf"],
            trust,
            now,
        )


def _descriptor_name(contents: Contents) -> str:
    found = [m.name for m in contents.members if m.name.lower().endswith(".ovf")]
    return found[0] if found else contents.members[0].name
