"""Files as they are given, and which of them make up a file that a descriptor names."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from nimble_stone.core.disk.source import Source
from nimble_stone.core.package.model import FileRef

MAX_DESCRIPTOR = 4 << 20


@dataclass(frozen=True)
class Given:
    """A file as it was given. `blob` names its bytes in the store (its SHA-256) where that is
    known.
    """

    name: str
    source: Source
    blob: str = ""


def pieces_of(file: FileRef, size_of: Callable[[str], int | None]) -> list[str]:
    """Names of the members that make up a referenced file: itself, or its pieces name.000000000 and
    on (§7.1).
    """
    if file.chunk_bytes is None:
        return [file.href]
    if file.size is not None:
        return [
            f"{file.href}.{number:09d}"
            for number in range(min(2_000, -(-file.size // file.chunk_bytes)) or 1)
        ]
    found: list[str] = []
    while size_of(name := f"{file.href}.{len(found):09d}") is not None and len(found) < 2_000:
        found.append(name)
    return found or [file.href]
