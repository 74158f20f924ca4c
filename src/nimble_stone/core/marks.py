"""Marks on drives: a label short enough for every file system, which says whose system lies there.
Pure.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping

_MARK = re.compile(r"\bns-[0-9a-f]{8}\b")


def drive_mark(plan: str, node: str) -> str:
    """The label for a node's system drive, 11 characters (FAT takes no more): `@{mark}`."""
    return "ns-" + hashlib.sha256(f"{plan}/{node}".encode()).hexdigest()[:8]


def whose(holds: str, known: Mapping[str, str]) -> str:
    """Whose marks a drive bears, in words; '' when it bears none. `known`: mark → node."""
    found = _MARK.findall(holds)
    if not found:
        return ""
    node = next((known[mark] for mark in found if mark in known), "")
    return f"installed as {node}" if node else "installed here for another node"
