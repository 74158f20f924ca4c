"""Plain functions over the tables of drift."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass

from nimble_stone.core.drift import Drift
from nimble_stone.core.errors import NotFound

Db = sqlite3.Connection
GROUND = "ground/"
"""Below which it is kept, by plan, which rules its hosts broke when they were built upon."""


@dataclass(frozen=True)
class Reading:
    """The last reading of a deployment: how many checks, how many of them could not be asked, and
    why nothing was read at all, '' when it was.
    """

    plan: str
    at: float
    checks: int
    unasked: int
    trouble: str


def of_plan(db: Db, plan: str) -> list[Drift]:
    """The drift of a plan, the oldest first."""
    rows = db.execute("SELECT * FROM drift WHERE plan = ? ORDER BY since, node, what", (plan,))
    return [_drift(row) for row in rows]


def everything(db: Db) -> dict[str, list[Drift]]:
    """Plan → its drift, for those that have some."""
    found: dict[str, list[Drift]] = {}
    rows = db.execute(
        "SELECT * FROM drift WHERE plan IN (SELECT plan FROM run WHERE kind = 'rollout' AND state"
        " IN ('done', 'unproved')) ORDER BY plan, since, node, what"
    )
    for row in rows:
        found.setdefault(row["plan"], []).append(_drift(row))
    return found


def _drift(row: sqlite3.Row) -> Drift:
    return Drift(
        row["node"],
        row["what"],
        row["label"],
        row["was"],
        row["now"],
        row["since"],
        row["seen"],
        row["reason"],
        row["until"],
    )


@dataclass(frozen=True)
class DriftEvent:
    """What became of a difference at an instant: found, changed, gone, accepted, reopened."""

    at: float
    kind: str
    node: str
    label: str
    was: str
    now: str
    reason: str = ""


MOST_EVENTS = 5000
"""Of a plan; the oldest go."""


def note(db: Db, plan: str, events: Iterable[DriftEvent]) -> None:
    """Keep what became of differences."""
    db.executemany(
        "INSERT INTO drift_event (plan, at, kind, node, label, was, now, reason)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (plan, one.at, one.kind, one.node, one.label, one.was, one.now, one.reason)
            for one in events
        ],
    )
    db.execute(
        "DELETE FROM drift_event WHERE plan = :plan AND id <= (SELECT id FROM drift_event WHERE"
        " plan = :plan ORDER BY id DESC LIMIT 1 OFFSET :most)",
        {"plan": plan, "most": MOST_EVENTS},
    )


def events(db: Db, plan: str, limit: int) -> list[DriftEvent]:
    """The newest first."""
    rows = db.execute(
        "SELECT at, kind, node, label, was, now, reason FROM drift_event WHERE plan = ?"
        " ORDER BY id DESC LIMIT ?",
        (plan, limit),
    )
    return [DriftEvent(*row) for row in rows]


def put(db: Db, plan: str, found: Iterable[Drift], reading: Reading) -> None:
    """Keep what a reading found in place of what the one before did."""
    found = list(found)
    note(db, plan, became(of_plan(db, plan), found, reading.at))
    db.execute("DELETE FROM drift WHERE plan = ?", (plan,))
    db.executemany(
        "INSERT INTO drift VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (
                plan,
                one.node,
                one.check,
                one.label,
                one.was,
                one.now,
                one.since,
                one.seen,
                one.reason,
                one.until,
            )
            for one in found
        ],
    )
    put_reading(db, reading)


def put_reading(db: Db, reading: Reading) -> None:
    """Keep when a deployment was read, and what came of it."""
    db.execute(
        "INSERT INTO drift_reading VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
        " at = excluded.at, checks = excluded.checks, unasked = excluded.unasked,"
        " trouble = excluded.trouble",
        (reading.plan, reading.at, reading.checks, reading.unasked, reading.trouble),
    )


def became(before: Iterable[Drift], now: Iterable[Drift], at: float) -> list[DriftEvent]:
    """What a reading says of differences that the one before did not."""
    old = {(one.node, one.check): one for one in before}
    new = {(one.node, one.check): one for one in now}
    found = []
    for key, one in new.items():
        was = old.get(key)
        if was is None or was.now != one.now:
            kind = "found" if was is None else "changed"
            found.append(DriftEvent(at, kind, one.node, one.label, one.was, one.now))
    found += [
        DriftEvent(at, "gone", one.node, one.label, one.was, one.now)
        for key, one in old.items()
        if key not in new
    ]
    return found


def readings(db: Db) -> dict[str, Reading]:
    """Plan → its last reading."""
    rows = db.execute("SELECT plan, at, checks, unasked, trouble FROM drift_reading")
    return {row["plan"]: Reading(*row) for row in rows}


def forget(db: Db, plan: str) -> None:
    """Nothing of the plan stands any more."""
    db.execute("DELETE FROM meta WHERE key = ?", (GROUND + plan,))
    db.execute("DELETE FROM drift WHERE plan = ?", (plan,))
    db.execute("DELETE FROM drift_reading WHERE plan = ?", (plan,))


def accept(db: Db, plan: str, node: str, what: str, reason: str, until: float, at: float) -> None:
    """Accept one difference until a day; 0: no longer. Raises NotFound."""
    row = db.execute(
        "SELECT * FROM drift WHERE plan = ? AND node = ? AND what = ?", (plan, node, what)
    ).fetchone()
    if row is not None:
        one, kind = _drift(row), "accepted" if until else "reopened"
        note(db, plan, [DriftEvent(at, kind, node, one.label, one.was, one.now, reason)])
    changed = db.execute(
        "UPDATE drift SET reason = ?, until = ? WHERE plan = ? AND node = ? AND what = ?",
        (reason, until, plan, node, what),
    )
    if changed.rowcount == 0:
        raise NotFound(f"plan {plan} has no drift “{what}” of {node or 'the cluster'}")


def standing_plans(db: Db) -> list[str]:
    """Plans with a rollout that has ended and was not rolled back, and none under way."""
    rows = db.execute(
        "SELECT DISTINCT plan FROM run WHERE kind = 'rollout' AND state IN ('done', 'unproved')"
        " AND plan IN (SELECT id FROM plan) AND plan NOT IN (SELECT plan FROM run WHERE kind ="
        " 'rollout' AND state NOT IN ('done', 'unproved', 'undone')) ORDER BY plan"
    )
    return [row["plan"] for row in rows]


def last_worked_at(db: Db) -> dict[str, float]:
    """Plan → when its last rollout or rollback ended."""
    rows = db.execute(
        "SELECT plan, MAX(MAX(coalesce(ended_at, 0), coalesce(undone_at, 0))) AS at FROM run"
        " WHERE kind = 'rollout' GROUP BY plan"
    )
    return {row["plan"]: row["at"] for row in rows}


def newest_runs(db: Db) -> dict[str, str]:
    """Plan → the newest run of what stands of it, for those of which no run is under way."""
    rows = db.execute(
        "SELECT plan, id, MAX(started_at) FROM run WHERE kind = 'rollout' AND state IN ('done',"
        " 'unproved') GROUP BY plan"
    )
    there = set(standing_plans(db))
    return {row["plan"]: row["id"] for row in rows if row["plan"] in there}
