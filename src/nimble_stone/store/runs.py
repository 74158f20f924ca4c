"""Runs, their steps, journal, transcripts and proofs. A step's state and its journal entry are written together or not at all."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from nimble_stone.core.errors import Conflict, NotFound

Db = sqlite3.Connection
ACTIVE = ("running", "held", "trouble", "proving", "undoing")
MAX_ANSWER = 20_000


@dataclass(frozen=True)
class RunRow:
    """A run. `doc` holds what it needs: for a rollout the frozen plan, the kit and the steps; for groundwork its actions and steps."""

    id: str
    plan: str
    package: str
    state: str
    doc: dict[str, Any]
    started_at: float
    ended_at: float | None
    kind: str = "rollout"

    @property
    def own_packages(self) -> dict[str, str]:
        """Role → digest of the package its nodes are made from, where that is not the run's."""
        return dict(self.doc.get("packages", {}))

    @property
    def packages(self) -> set[str]:
        """Digests of all packages its nodes are made from."""
        return {self.package, *self.own_packages.values()} - {""}


@dataclass(frozen=True)
class StepRow:
    """How a step stands."""

    key: str
    state: str
    attempt: int
    started_at: float | None
    ended_at: float | None
    message: str


@dataclass(frozen=True)
class EventRow:
    """One journal entry."""

    id: int
    at: float
    step: str
    kind: str
    payload: dict[str, Any]


def add_run(db: Db, run: RunRow, steps: list[str]) -> None:
    """A new run with its steps, all planned, and the first journal entry. Raises Conflict while the plan has an active run."""
    busy = db.execute("SELECT id FROM run WHERE kind = 'rollout' AND plan = ? AND state IN ('running','held','trouble','proving','undoing')", (run.plan,
                                                                                                                                               )).fetchone()
    if busy and run.kind == "rollout":
        raise Conflict(f"run {busy['id']} of this plan is still under way", code="run-active", hint="Let it finish, or take it back.")
    db.execute("INSERT INTO run VALUES (?, ?, ?, ?, ?, ?, ?, NULL)", (run.id, run.kind, run.plan, run.package or None, run.state, json.dumps(run.doc),
                                                                      run.started_at))
    db.executemany("INSERT INTO run_step (run, key, place, state) VALUES (?, ?, ?, 'planned')",
                   [(run.id, key, place) for place, key in enumerate(steps)])
    journal(db, run.id, run.started_at, "", "run-started", {"steps": len(steps)})


def journal(db: Db, run: str, at: float, step: str, kind: str, payload: dict[str, Any]) -> int:
    """Append one entry; its id."""
    cursor = db.execute("INSERT INTO run_event (run, at, step, kind, payload) VALUES (?, ?, ?, ?, ?)", (run, at, step, kind, json.dumps(payload)))
    return int(cursor.lastrowid or 0)


def move_step(db: Db, run: str, key: str, at: float, kind: str, *, state: str, message: str = "", new_attempt: bool = False,
              ended: bool = False, payload: dict[str, Any] | None = None) -> EventRow:
    """Change a step's state and journal it."""
    db.execute("UPDATE run_step SET state = :state, message = :message, attempt = attempt + :more,"
               " started_at = CASE WHEN :more THEN :at ELSE started_at END, ended_at = CASE WHEN :ended THEN :at ELSE NULL END"
               " WHERE run = :run AND key = :key",
               {"state": state, "message": message, "more": int(new_attempt), "at": at, "ended": int(ended), "run": run, "key": key})
    body = {"state": state, **({"message": message} if message else {}), **(payload or {})}
    return EventRow(journal(db, run, at, key, kind, body), at, key, kind, body)


def move_run(db: Db, run: str, at: float, kind: str, state: str, payload: dict[str, Any] | None = None) -> EventRow:
    """Change a run's state and journal it."""
    ended = state in ("done", "unproved", "undone")
    db.execute("UPDATE run SET state = ?, ended_at = CASE WHEN ? THEN ? ELSE NULL END WHERE id = ?", (state, int(ended), at, run))
    body = {"state": state, **(payload or {})}
    return EventRow(journal(db, run, at, "", kind, body), at, "", kind, body)


def _run(row: sqlite3.Row) -> RunRow:
    return RunRow(row["id"], row["plan"], row["package"] or "", row["state"], json.loads(row["doc"]), row["started_at"], row["ended_at"], row["kind"])


@dataclass(frozen=True)
class StandingRow:
    """A rollout that was not taken back, without its document."""

    id: str
    plan: str
    package: str


def standing(db: Db) -> list[StandingRow]:
    """Rollouts that were not taken back, the newest first."""
    return [StandingRow(row["id"], row["plan"], row["package"] or "")
            for row in db.execute("SELECT id, plan, package FROM run WHERE kind = 'rollout' AND state != 'undone' ORDER BY started_at DESC, id")]


def get_run(db: Db, ident: str) -> RunRow:
    """Raises NotFound."""
    row = db.execute("SELECT * FROM run WHERE id = ?", (ident,)).fetchone()
    if row is None:
        raise NotFound(f"there is no run “{ident}”")
    learned: dict[str, dict[str, str]] = {}
    for one in db.execute("SELECT node, col, value FROM learned WHERE run = ?", (ident,)):
        learned.setdefault(one["node"], {})[one["col"]] = one["value"]
    found = _run(row)
    return replace(found, doc=found.doc | {"learned": learned}) if learned else found


def learn(db: Db, run: str, node: str, values: Mapping[str, str]) -> None:
    """Keep what a node was given while the run went on: column → value."""
    db.executemany("INSERT INTO learned VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET value = excluded.value",
                   [(run, node, column, value) for column, value in values.items()])


def runs(db: Db, plan: str = "", *, active: bool = False, kind: str = "rollout") -> list[RunRow]:
    """Newest first; of one plan, or only active ones; of one kind, or all with ''."""
    rows = db.execute("SELECT * FROM run WHERE (:plan = '' OR plan = :plan) AND (:kind = '' OR kind = :kind) ORDER BY started_at DESC",
                      {"plan": plan, "kind": kind})
    return [_run(row) for row in rows if not active or row["state"] in ACTIVE]


def steps(db: Db, run: str) -> list[StepRow]:
    """The steps of a run, in sequence."""
    return [StepRow(*row) for row in db.execute("SELECT key, state, attempt, started_at, ended_at, message FROM run_step WHERE run = ?"
                                                " ORDER BY place", (run,))]


def events(db: Db, run: str, after: int = 0, limit: int = 5000) -> list[EventRow]:
    """Journal entries after an id, in order."""
    return [EventRow(row["id"], row["at"], row["step"], row["kind"], json.loads(row["payload"])) for row in
            db.execute("SELECT id, at, step, kind, payload FROM run_event WHERE run = ? AND id > ? ORDER BY id LIMIT ?", (run, after, limit))]


def last_events(db: Db, run: str, count: int) -> list[EventRow]:
    """The newest journal entries, in order."""
    rows = db.execute("SELECT id, at, step, kind, payload FROM run_event WHERE run = ? ORDER BY id DESC LIMIT ?", (run, count)).fetchall()
    return [EventRow(row["id"], row["at"], row["step"], row["kind"], json.loads(row["payload"])) for row in reversed(rows)]


def last_event(db: Db, run: str) -> int:
    """Id of the newest journal entry, 0 when there is none."""
    return int(db.execute("SELECT coalesce(max(id), 0) FROM run_event WHERE run = ?", (run,)).fetchone()[0])


def acted(db: Db, run: str, step: str) -> int:
    """How often a step began to act. Never means that what it was to do was so already."""
    return int(db.execute("SELECT count(*) FROM run_event WHERE run = ? AND step = ? AND kind = 'acting'", (run, step)).fetchone()[0])


def add_transcript(db: Db, run: str, step: str, at: float, target: str, command: str, answer: str, status: int, seconds: float) -> None:
    """Keep a command and its answer; long answers are shortened in the middle."""
    if len(answer) > MAX_ANSWER:
        answer = f"{answer[:MAX_ANSWER // 2]}\n… {len(answer) - MAX_ANSWER} characters left out …\n{answer[-MAX_ANSWER // 2:]}"
    db.execute("INSERT INTO transcript (run, step, at, target, command, answer, status, seconds) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
               (run, step, at, target, command, answer, status, seconds))


def transcript(db: Db, run: str, step: str, limit: int = 200) -> list[dict[str, Any]]:
    """The last entries of a step, in order."""
    rows = db.execute("SELECT id, at, target, command, answer, status, seconds FROM transcript WHERE run = ? AND step = ? ORDER BY id DESC LIMIT ?",
                      (run, step, limit)).fetchall()
    return [dict(row) for row in reversed(rows)]


def add_proofs(db: Db, run: str, at: float, doc: list[dict[str, Any]]) -> int:
    """Keep a round of proofs; its number."""
    row = db.execute("SELECT coalesce(max(round), 0) + 1 AS next FROM proof WHERE run = ?", (run,)).fetchone()
    db.execute("INSERT INTO proof VALUES (?, ?, ?, ?)", (run, row["next"], at, json.dumps(doc)))
    return int(row["next"])


def last_proofs(db: Db, run: str) -> tuple[float, list[dict[str, Any]]] | None:
    """(instant, verdicts) of the newest round."""
    row = db.execute("SELECT at, doc FROM proof WHERE run = ? ORDER BY round DESC LIMIT 1", (run,)).fetchone()
    return (row["at"], json.loads(row["doc"])) if row else None
