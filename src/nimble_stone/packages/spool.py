"""Disks converted once for many readers: when several datastores need one, or hosts fetch it
themselves, it lies ready as a file.

A spool file's name holds what it is and its SHA-256. The oldest go when the spool takes more than a
quarter of the disk; without room there is none,
and each transfer converts for itself.
"""

from __future__ import annotations

import os
import secrets
import shutil
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from nimble_stone.core.disk.image import Image
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package.contents import Contents, hash_source
from nimble_stone.packages import disk_file, stored
from nimble_stone.packages.copies import name_of
from nimble_stone.packages.files import FileSource

SHARE = 0.25
MARGIN = 1 << 30
PART = ".part"


@dataclass(frozen=True)
class Spooled:
    """A disk as qcow2, ready to be sent."""

    path: Path
    size: int
    sha256: str


def find(folder: Path, contents: Contents, disk: str) -> Spooled | None:
    """The spool file of a disk, if there is one."""
    for path in (folder / "spool").glob(f"{name_of(contents.sha256, disk)}.*"):
        digest = path.suffix[1:]
        if len(digest) == 64:
            with suppress(FileNotFoundError):
                os.utime(path)
                return Spooled(path, path.stat().st_size, digest)
    return None


def make(folder: Path, contents: Contents, disk: str) -> Spooled | None:
    """Convert a disk into the spool; None when there is no room. For a thread, one at a time per
    disk. Raises FormatError.
    """
    known = find(folder, contents, disk)
    if known is not None:
        return known
    place = folder / "spool"
    with stored.open_disk(folder, contents, disk) as conversion:
        usage = shutil.disk_usage(folder)
        if (
            conversion.file_bytes + MARGIN > usage.free
            or conversion.file_bytes > usage.total * SHARE
        ):
            return None
        try:
            final = _convert(conversion.image, place, name_of(contents.sha256, disk))
        except OSError as error:
            raise FormatError(
                f"the disk cannot be converted here: {error.strerror}",
                code="disk-full",
                hint="Free space on the server's disk.",
            ) from error
    _prune(place, int(shutil.disk_usage(folder).total * SHARE), final)
    return find(folder, contents, disk)


def _convert(image: Image, place: Path, name: str) -> Path:
    """The new spool file: it bears its name when it is whole."""
    place.mkdir(exist_ok=True, mode=0o700)
    part = place / f"{secrets.token_hex(6)}{PART}"
    descriptor = os.open(part, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
    try:
        disk_file.into_file(image, descriptor, "qcow2")
        final = place / f"{name}.{hash_source(FileSource(descriptor), 'sha256')}"
        os.replace(part, final)
        return final
    finally:
        os.close(descriptor)
        part.unlink(missing_ok=True)


def forget(folder: Path, sha256: str, disks: list[str]) -> None:
    """Remove the spool files of a package that goes."""
    for disk in disks:
        for path in (folder / "spool").glob(f"{name_of(sha256, disk)}.*"):
            path.unlink(missing_ok=True)


def _prune(place: Path, most: int, keep: Path) -> None:
    """Remove the longest unused files until the rest fits. A file that is being sent stays readable
    for its sender; what others write at the same time ends and vanishes as it likes, and stays.
    """
    found: dict[Path, os.stat_result] = {}
    for path in place.iterdir():
        with suppress(FileNotFoundError):
            found[path] = path.stat()
    total = sum(found.pop(path).st_size for path in list(found) if path.suffix == PART)
    total += found.pop(keep).st_size if keep in found else 0
    for path in sorted(found, key=lambda path: found[path].st_mtime, reverse=True):
        total += found[path].st_size
        if total > most:
            path.unlink(missing_ok=True)
