"""Plain functions over the versions of kits."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from nimble_stone.core.errors import NotFound

Db = sqlite3.Connection
MOST = 50
"""Versions of a kit that are kept; the oldest go."""


@dataclass(frozen=True)
class KitVersion:
    """A kit's text as it was first seen at an instant. Numbers begin at 1 and are never given
    twice.
    """

    number: int
    at: float
    text: str


def of_kit(db: Db, kit: str) -> list[KitVersion]:
    """The newest first."""
    rows = db.execute(
        "SELECT number, at, text FROM kit_version WHERE kit = ? ORDER BY number DESC", (kit,)
    )
    return [KitVersion(*row) for row in rows]


def one(db: Db, kit: str, number: int) -> KitVersion:
    """Raises NotFound."""
    row = db.execute(
        "SELECT number, at, text FROM kit_version WHERE kit = ? AND number = ?", (kit, number)
    ).fetchone()
    if row is None:
        raise NotFound(f"kit {kit} has no version {number}")
    return KitVersion(*row)


def newest(db: Db, kit: str) -> str | None:
    """The text of the newest version; None where there is none."""
    row = db.execute(
        "SELECT text FROM kit_version WHERE kit = ? ORDER BY number DESC LIMIT 1", (kit,)
    ).fetchone()
    return row["text"] if row is not None else None


def add(db: Db, kit: str, text: str, at: float) -> None:
    """Keep a text, unless it is that of the newest version by now."""
    if newest(db, kit) == text:
        return
    last = db.execute("SELECT max(number) FROM kit_version WHERE kit = ?", (kit,)).fetchone()[0]
    number = (last or 0) + 1
    db.execute("INSERT INTO kit_version VALUES (?, ?, ?, ?)", (kit, number, at, text))
    db.execute("DELETE FROM kit_version WHERE kit = ? AND number <= ?", (kit, number - MOST))
