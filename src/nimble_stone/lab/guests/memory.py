"""What a stand-in guest remembers, on its disk: at the end of the volume's file, so that it goes
wherever the disk is copied, and is gone with it.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

MARK = b"HOLM-MEMORY\n"
LENGTH = 8
"""Bytes of the number, before the mark, that says how long the text before it is."""


def put(file: Path, data: dict[str, Any]) -> None:
    """Write it, instead of what was there."""
    size, text = file.stat().st_size - _taken(file), json.dumps(data).encode()
    with file.open("r+b") as disk:
        disk.truncate(size)
        disk.seek(size)
        disk.write(text + len(text).to_bytes(LENGTH, "big") + MARK)


def found(file: Path) -> dict[str, Any]:
    """What is there; {} on a disk of which nobody remembers anything."""
    whole = _taken(file)
    if not whole:
        return {}
    with file.open("rb") as disk:
        disk.seek(-whole, 2)
        read: dict[str, Any] = json.loads(disk.read(whole - LENGTH - len(MARK)))
    return read


def _taken(file: Path) -> int:
    """How many bytes at the end of a file are memory."""
    end = LENGTH + len(MARK)
    if file.stat().st_size < end:
        return 0
    with file.open("rb") as disk:
        disk.seek(-end, 2)
        tail = disk.read(end)
    return int.from_bytes(tail[:LENGTH], "big") + end if tail.endswith(MARK) else 0
