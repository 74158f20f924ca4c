"""What is new of a run since a journal entry, read as of one moment: no state without the entries
and checks that led to it.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from nimble_stone.store import runs
from nimble_stone.store.runs import AttemptRow, EventRow, RunRow, StepRow

CHECKED = ("proved", "not-proved")
"""Entries that come with a round of acceptance checks."""


@dataclass(frozen=True)
class Proofs:
    """A round of acceptance checks: when, and each verdict as data."""

    at: float
    verdicts: list[dict[str, Any]]


@dataclass(frozen=True)
class News:
    """`steps`: those that moved. `attempts` and `proofs` only where they may have changed;
    `learned`: node → column → what it was given, where a step learned something.
    """

    entries: list[EventRow]
    head: RunRow
    steps: dict[str, StepRow]
    attempts: list[AttemptRow] | None
    proofs: Proofs | None
    learned: Mapping[str, Mapping[str, str]]


def news(
    db: sqlite3.Connection, run: str, after: int, most: int, learning: Collection[str]
) -> News:
    """At most `most` entries after one, and what they changed. `learning`: keys of steps that learn
    values. Cost: O(entries). Raises NotFound.
    """
    db.execute("BEGIN")
    try:
        entries = runs.events(db, run, after, most)
        moved = {entry.step for entry in entries if entry.step}
        steps = {row.key: row for row in runs.steps(db, run, moved)}
        attempts = proofs = None
        if any(row.attempt > 1 for row in steps.values()):
            attempts = runs.attempts(db, run)
        if any(entry.kind in CHECKED for entry in entries):
            found = runs.last_proofs(db, run)
            proofs = Proofs(*found) if found else None
        learned = runs.learned(db, run) if moved & set(learning) else {}
        return News(entries, runs.head(db, run), steps, attempts, proofs, learned)
    finally:
        db.execute("COMMIT")
