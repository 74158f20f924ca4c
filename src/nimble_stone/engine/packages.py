"""Package files: opening the disks of a package that was taken in."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from nimble_stone.core.disk import convert
from nimble_stone.core.disk.source import WindowSource
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.plan.sheet import PackageView
from nimble_stone.store.records import PackageRow

_CONTENTS = TypeAdapter(Contents)


def dump(contents: Contents) -> dict[str, Any]:
    """Contents as JSON data."""
    data: dict[str, Any] = _CONTENTS.dump_python(contents, mode="json")
    return data


def contents_of(row: PackageRow) -> Contents:
    """Contents of a stored package."""
    return _CONTENTS.validate_python(row.doc)


def view_of(row: PackageRow) -> PackageView:
    """What the sheet needs of it."""
    return PackageView(row.sha256, contents_of(row).descriptor, row.thin_bytes)


def file_of(folder: Path, sha256: str) -> Path:
    """Where the bytes of a package lie."""
    return folder / f"{sha256}.ova"


@contextlib.contextmanager
def open_disk(folder: Path, contents: Contents, disk_id: str) -> Iterator[convert.Conversion]:
    """A conversion of one disk; the file is open inside the block. Raises FormatError."""
    disk = next(disk for disk in contents.descriptor.disks if disk.id == disk_id)
    href = next(file.href for file in contents.descriptor.files if file.id == disk.file_id)
    member = contents.member(href)
    with file_of(folder, contents.sha256).open("rb") as file:
        yield convert.prepare(WindowSource(file, member.offset, member.size))


def thin_bytes(folder: Path, contents: Contents) -> int:
    """Bytes that one node's disks take when thin: what will travel. Reads tables only."""
    total = 0
    for ident in contents.descriptor.disk_order:
        disk = next(disk for disk in contents.descriptor.disks if disk.id == ident)
        if disk.file_id:
            with open_disk(folder, contents, ident) as conversion:
                total += conversion.file_bytes
    return total
