"""Files on this machine's disks, opened for reading without following what they name further than
their own folder.
"""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Iterator
from pathlib import Path

from nimble_stone.core.disk import vmdk_text
from nimble_stone.core.disk.source import short
from nimble_stone.core.errors import FormatError, NotFound
from nimble_stone.core.package import kinds
from nimble_stone.core.package.given import MAX_DESCRIPTOR, Given, pieces_of
from nimble_stone.core.package.model import FileRef
from nimble_stone.core.package.names import inside

MAX_FILES = 2_000


class FileSource:
    """A window of an open file descriptor, such as one member of an archive. The descriptor stays
    the caller's.
    """

    def __init__(self, descriptor: int, offset: int = 0, size: int | None = None) -> None:
        self._descriptor, self._offset = descriptor, offset
        self._size = os.fstat(descriptor).st_size - offset if size is None else size

    @property
    def size_bytes(self) -> int:
        """Bytes in the window."""
        return self._size

    def part(self, offset: int, size: int) -> FileSource:
        """A window of this window."""
        return FileSource(
            self._descriptor, self._offset + offset, min(size, max(0, self._size - offset))
        )

    def read_at(self, offset: int, length: int) -> bytes:
        """Exactly `length` bytes at `offset` of the window; FormatError when they are not there."""
        if offset < 0 or length < 0 or offset + length > self._size:
            raise short(offset)
        piece = os.pread(self._descriptor, length, self._offset + offset)
        if len(piece) != length:
            raise short(offset)
        return piece

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """(start, end) of what the file system does not call a hole. The file offset is moved: one
        reader of ranges at a time.
        """
        at, end = self._offset, self._offset + self._size
        while at < end:
            try:
                start = os.lseek(self._descriptor, at, os.SEEK_DATA)
            except OSError:  # nothing but a hole from here on
                return
            if start >= end:
                return
            at = min(end, os.lseek(self._descriptor, start, os.SEEK_HOLE))
            yield start - self._offset, at - self._offset


def open_plain(path: Path, *, follow: bool = False) -> int:
    """A descriptor for reading a plain file. Raises NotFound when it is none (links are followed
    only on request).
    """
    try:
        descriptor = os.open(
            path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | (0 if follow else os.O_NOFOLLOW)
        )
    except OSError as error:
        raise NotFound(f"{path} cannot be read: {error.strerror}") from error
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise NotFound(f"{path} is not a plain file")
    return descriptor


def open_below(folder: Path, name: str, *, follow: bool = False) -> int:
    """A descriptor for a plain file at or below `folder`; folders on the way are never followed
    through links. Raises NotFound.
    """
    *folders, last = name.split("/")
    for number in range(len(folders)):
        if folder.joinpath(*folders[: number + 1]).is_symlink():
            raise NotFound(f"{folder / name} lies behind a link")
    return open_plain(folder.joinpath(*folders, last), follow=follow)


@contextlib.contextmanager
def opened(path: Path) -> Iterator[list[Given]]:
    """The file and those beside it that belong to it (a descriptor's files, a VMDK text's extents),
    open inside the block.

    Names found inside are looked up in the same folder and below it only, and never through links.
    Raises NotFound, FormatError.
    """
    with contextlib.ExitStack() as stack:

        def take(name: str, *, follow: bool = False) -> Given | None:
            if inside(name) != name:
                return None
            try:
                descriptor = open_below(path.parent, name, follow=follow)
            except NotFound:
                return None
            stack.callback(os.close, descriptor)
            return Given(name, FileSource(descriptor))

        main = take(path.name, follow=True)
        if main is None:
            open_plain(path, follow=True)  # raises with the reason
            raise NotFound(f"{path} cannot be read")
        if main.source.size_bytes == 0:
            raise FormatError(f"“{path.name}” is empty", code="not-a-package")
        found = {main.name: main}
        for name in _named(main, path):
            if len(found) < MAX_FILES and name not in found and (other := take(name)) is not None:
                found[name] = other
        yield list(found.values())


def _named(main: Given, path: Path) -> Iterator[str]:
    """Names of files that belong to `main`."""
    kind = kinds.tell(main.source.read_at(0, min(kinds.HEAD, main.source.size_bytes)))
    if kind == "vmdk-text" and main.source.size_bytes <= vmdk_text.MAX_TEXT:
        yield from vmdk_text.extents(
            main.source.read_at(0, main.source.size_bytes).decode("utf-8", "replace")
        )
    if kind != "ovf" or main.source.size_bytes > MAX_DESCRIPTOR:
        return
    base = main.name.rsplit(".", 1)[0]
    yield from (f"{base}.mf", f"{base}.cert")
    # only descriptors need it, and disks begin sooner without
    from nimble_stone.core.package import envelope

    try:
        files = envelope.read(main.source.read_at(0, main.source.size_bytes))[0].files
    except FormatError:
        return

    def size_of(name: str) -> int | None:
        try:
            return (path.parent / name).lstat().st_size
        except OSError:
            return None

    for file in files:
        yield from pieces_of(
            FileRef(file.id, file.href, file.size, file.packed, file.chunk_bytes), size_of
        )
