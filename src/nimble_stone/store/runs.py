"""Runs, their steps, journal, transcripts and proofs. A step's state and its journal entry are
written together or not at all.
"""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from nimble_stone.core.errors import Conflict, NotFound
from nimble_stone.core.runs.states import (
    ACTIVE,
    STANDING,
    RunState,
    StepState,
    check_run_move,
    check_step_move,
)

Db = sqlite3.Connection
MAX_ANSWER = 20_000
UNDO_KINDS = ("undoing", "undone", "undo-failed", "undo-left")
"""Journal entries about undoing a step."""


class Document(Mapping[str, Any]):
    """A run's document, parsed when it is looked into: lists never do, and it may be megabytes."""

    def __init__(self, text: str) -> None:
        self._text = text

    @cached_property
    def _whole(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self._text)
        return found

    def __getitem__(self, key: str) -> Any:
        return self._whole[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self._whole)

    def __len__(self) -> int:
        return len(self._whole)


@dataclass(frozen=True)
class RunRow:
    """A run. `doc` holds what it needs: for a rollout the frozen plan, the kit and the steps; for
    groundwork its actions and steps.
    """

    id: str
    plan: str
    package: str
    state: RunState
    doc: Mapping[str, Any]
    started_at: float
    ended_at: float | None
    kind: str = "rollout"
    undone_at: float | None = None
    reason: str = ""

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
    state: StepState
    attempt: int
    started_at: float | None
    ended_at: float | None
    message: str
    undone_at: float | None = None
    undo_message: str = ""
    undo_failed: bool = False
    hint: str = ""


@dataclass(frozen=True)
class EventRow:
    """One journal entry."""

    id: int
    at: float
    step: str
    kind: str
    payload: dict[str, Any]


def add_run(db: Db, run: RunRow, steps: list[str]) -> None:
    """A new run with its steps, all planned, and the first journal entry. Raises Conflict while the
    plan has an active run.
    """
    busy = db.execute(
        "SELECT id FROM run WHERE kind = 'rollout' AND plan = ? AND state IN"
        " (SELECT value FROM json_each(?))",
        (run.plan, json.dumps(sorted(ACTIVE))),
    ).fetchone()
    if busy and run.kind == "rollout":
        raise Conflict(
            f"run {busy['id']} of this plan is still running",
            code="run-active",
            hint="Wait until it ends, or roll it back.",
        )
    db.execute(
        "INSERT INTO run (id, kind, plan, package, state, doc, started_at) VALUES (?, ?, ?, ?, ?,"
        " ?, ?)",
        (
            run.id,
            run.kind,
            run.plan,
            run.package or None,
            run.state,
            json.dumps(dict(run.doc)),
            run.started_at,
        ),
    )
    db.executemany(
        "INSERT INTO run_step (run, key, place, state) VALUES (?, ?, ?, 'planned')",
        [(run.id, key, place) for place, key in enumerate(steps)],
    )
    journal(db, run.id, run.started_at, "", "run-started", {"steps": len(steps)})


def journal(db: Db, run: str, at: float, step: str, kind: str, payload: dict[str, Any]) -> int:
    """Append one entry; its id."""
    cursor = db.execute(
        "INSERT INTO run_event (run, at, step, kind, payload) VALUES (?, ?, ?, ?, ?)",
        (run, at, step, kind, json.dumps(payload)),
    )
    return int(cursor.lastrowid or 0)


def move_step(
    db: Db,
    run: str,
    key: str,
    at: float,
    kind: str,
    *,
    state: StepState,
    message: str = "",
    new_attempt: bool = False,
    ended: bool = False,
    payload: dict[str, Any] | None = None,
) -> EventRow:
    """Change a step's state and journal it. Rolling back keeps when the step began and ended and
    what it said: its own are kept beside. Raises NotFound, and IllegalMove for what the tables of
    states do not have.
    """
    row = db.execute("SELECT state FROM run_step WHERE run = ? AND key = ?", (run, key)).fetchone()
    if row is None:
        raise NotFound(f"run {run} has no step “{key}”")
    check_step_move(StepState(row["state"]), state, key)
    if kind in UNDO_KINDS:
        db.execute(
            "UPDATE run_step SET state = :state, undo_message = :message, undo_failed = :failed,"
            " undone_at = CASE WHEN :ended THEN :at ELSE NULL END WHERE run = :run AND key = :key",
            {
                "state": state,
                "message": message,
                # what is left as it is was not undone, whatever its state
                "failed": int(kind in ("undo-failed", "undo-left")),
                "ended": int(ended),
                "at": at,
                "run": run,
                "key": key,
            },
        )
        body = {"state": state, **({"message": message} if message else {}), **(payload or {})}
        return EventRow(journal(db, run, at, key, kind, body), at, key, kind, body)
    db.execute(
        "UPDATE run_step SET state = :state, message = :message, attempt = attempt + :more,"
        " started_at = CASE WHEN :more THEN :at ELSE started_at END, ended_at = CASE WHEN :ended"
        " THEN :at ELSE NULL END WHERE run = :run AND key = :key",
        {
            "state": state,
            "message": message,
            "more": int(new_attempt),
            "at": at,
            "ended": int(ended),
            "run": run,
            "key": key,
        },
    )
    body = {"state": state, **({"message": message} if message else {}), **(payload or {})}
    return EventRow(journal(db, run, at, key, kind, body), at, key, kind, body)


def move_run(
    db: Db, run: str, at: float, kind: str, state: RunState, payload: dict[str, Any] | None = None
) -> EventRow:
    """Change a run's state and journal it. A run that is rolled back keeps when it ended; when that
    was over is kept beside.
    """
    row = db.execute("SELECT state FROM run WHERE id = ?", (run,)).fetchone()
    if row is None:
        raise NotFound(f"there is no run “{run}”")
    check_run_move(RunState(row["state"]), state, run)
    if state in (RunState.UNDOING, RunState.UNDONE):
        db.execute(
            "UPDATE run SET state = :state, ended_at = coalesce(ended_at, :at), undone_at = CASE"
            " WHEN :state = 'undone' THEN :at ELSE NULL END WHERE id = :run",
            {"state": state, "at": at, "run": run},
        )
    else:
        ended = state in STANDING
        db.execute(
            "UPDATE run SET state = ?, ended_at = CASE WHEN ? THEN coalesce(ended_at, ?) ELSE NULL"
            " END WHERE id = ?",
            (state, int(ended), at, run),
        )
    body = {"state": state, **(payload or {})}
    return EventRow(journal(db, run, at, "", kind, body), at, "", kind, body)


def renew_document(db: Db, run: str, doc: dict[str, Any]) -> None:
    """Put a run's document in another version's shape."""
    db.execute("UPDATE run SET doc = ? WHERE id = ?", (json.dumps(doc), run))


def take_up(db: Db, run: str, at: float, kind: str = "taken-up") -> None:
    """Somebody drives the run again: journalled, and what kept it from being driven is past."""
    row = db.execute("SELECT state FROM run WHERE id = ?", (run,)).fetchone()
    db.execute("UPDATE run SET reason = '' WHERE id = ?", (run,))
    journal(db, run, at, "", kind, {"state": row["state"]})


def abandon(db: Db, run: str, at: float, reason: str) -> None:
    """Nobody drives the run any more, for a reason in words: a person sees it and decides. A run
    on hold or being rolled back stays so; a running one is stopped.
    """
    state = RunState(db.execute("SELECT state FROM run WHERE id = ?", (run,)).fetchone()["state"])
    if state in (RunState.RUNNING, RunState.CHECKING):
        move_run(db, run, at, "driver-failed", RunState.TROUBLE, {"message": reason})
    else:
        journal(db, run, at, "", "driver-failed", {"state": state, "message": reason})
    db.execute("UPDATE run SET reason = ? WHERE id = ?", (reason, run))


def _run(row: sqlite3.Row) -> RunRow:
    return RunRow(
        row["id"],
        row["plan"],
        row["package"] or "",
        RunState(row["state"]),
        Document(row["doc"]),
        row["started_at"],
        row["ended_at"],
        row["kind"],
        row["undone_at"],
        row["reason"],
    )


@dataclass(frozen=True)
class StandingRow:
    """A rollout that was not taken back, without its document."""

    id: str
    plan: str
    package: str


def standing(db: Db) -> list[StandingRow]:
    """Rollouts that were not taken back, the newest first."""
    return [
        StandingRow(row["id"], row["plan"], row["package"] or "")
        for row in db.execute(
            "SELECT id, plan, package FROM run WHERE kind = 'rollout' AND state != 'undone' ORDER"
            " BY started_at DESC, id"
        )
    ]


def worked_until(db: Db) -> dict[str, float]:
    """Rollout → when it ended, or its rollback did; without those that do not rest."""
    rows = db.execute(
        "SELECT id, MAX(coalesce(ended_at, 0), coalesce(undone_at, 0)) AS at FROM run"
        " WHERE kind = 'rollout' AND state IN ('done', 'unproved', 'undone')"
    )
    return {row["id"]: row["at"] for row in rows}


@dataclass(frozen=True)
class StateRow:
    """A rollout of a plan, its state, and when it ended and was rolled back."""

    id: str
    state: RunState
    ended_at: float | None = None
    undone_at: float | None = None


def of_plan(db: Db, plan: str) -> list[StateRow]:
    """All rollouts of a plan, the oldest first."""
    rows = db.execute(
        "SELECT id, state, ended_at, undone_at FROM run WHERE plan = ? AND kind = 'rollout'"
        " ORDER BY started_at, id",
        (plan,),
    )
    return [
        StateRow(row["id"], RunState(row["state"]), row["ended_at"], row["undone_at"])
        for row in rows
    ]


def undo_waits(db: Db, run: str) -> bool:
    """Whether rolling a run back got stuck at a step, and none is being rolled back."""
    row = db.execute(
        "SELECT count(*) FILTER (WHERE state = 'failed' AND undo_failed) AS stuck,"
        " count(*) FILTER (WHERE state = 'undoing') AS busy FROM run_step WHERE run = ?",
        (run,),
    ).fetchone()
    return bool(row["stuck"]) and not row["busy"]


RETIRE = "retire/"
"""How the keys of steps begin that take a node away."""


def retired(db: Db, plan: str, until: float = math.inf) -> dict[str, frozenset[str]]:
    """Run → the nodes that it had taken away for good at an instant."""
    found: dict[str, set[str]] = {}
    rows = db.execute(
        "SELECT s.run, s.key FROM run_step s JOIN run r ON r.id = s.run WHERE r.plan = ?"
        " AND s.state = 'done' AND s.key LIKE 'retire/%' AND s.ended_at <= ?",
        (plan, until),
    )
    for row in rows:
        found.setdefault(row["run"], set()).add(row["key"].removeprefix(RETIRE))
    return {run: frozenset(nodes) for run, nodes in found.items()}


def defined_vms(db: Db, plan: str) -> dict[str, dict[str, str]]:
    """Run → node → the UUID of the VM that it defined, as the journal says."""
    found: dict[str, dict[str, str]] = {}
    rows = db.execute(
        "SELECT e.run, e.step, json_extract(e.payload, '$.found.uuid') AS uuid FROM run_event e"
        " JOIN run r ON r.id = e.run WHERE r.plan = ? AND e.kind = 'done' AND (e.step LIKE"
        " 'define/%' OR e.step LIKE 'swap/%') ORDER BY e.id",
        (plan,),
    )
    for row in rows:
        found.setdefault(row["run"], {})[row["step"].partition("/")[2]] = row["uuid"] or ""
    return found


def get_run(db: Db, ident: str) -> RunRow:
    """Raises NotFound."""
    row = db.execute("SELECT * FROM run WHERE id = ?", (ident,)).fetchone()
    if row is None:
        raise NotFound(f"there is no run “{ident}”")
    given, found = learned(db, ident), _run(row)
    # looked into here, in the store's thread: whoever asks for one run needs its document
    len(found.doc)
    return replace(found, doc={**found.doc, "learned": given}) if given else found


def learn(db: Db, run: str, node: str, values: Mapping[str, str]) -> None:
    """Keep what a node was given while the run went on: column → value."""
    db.executemany(
        "INSERT INTO learned VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET value = excluded.value",
        [(run, node, column, value) for column, value in values.items()],
    )


def runs(db: Db, plan: str = "", *, active: bool = False, kind: str = "rollout") -> list[RunRow]:
    """Newest first; of one plan, or only active ones; of one kind, or all with ''."""
    rows = db.execute(
        "SELECT * FROM run WHERE (:plan = '' OR plan = :plan) AND (:kind = '' OR kind = :kind)"
        " ORDER BY started_at DESC",
        {"plan": plan, "kind": kind},
    )
    return [_run(row) for row in rows if not active or row["state"] in ACTIVE]


def steps(db: Db, run: str, keys: Collection[str] | None = None) -> list[StepRow]:
    """The steps of a run, in sequence; only those of `keys` where they are given."""
    return [
        StepRow(
            row["key"],
            StepState(row["state"]),
            row["attempt"],
            row["started_at"],
            row["ended_at"],
            row["message"],
            row["undone_at"],
            row["undo_message"],
            bool(row["undo_failed"]),
            row["hint"] or "",
        )
        for row in db.execute(
            "SELECT s.*, CASE WHEN s.state = 'failed' THEN (SELECT json_extract(e.payload,"
            " '$.hint') FROM run_event e WHERE e.run = s.run AND e.step = s.key AND e.kind IN"
            " ('failed', 'undo-failed') ORDER BY e.id DESC LIMIT 1) END AS hint FROM run_step s"
            " WHERE s.run = :run AND (:keys IS NULL OR s.key IN (SELECT value FROM"
            " json_each(:keys))) ORDER BY place",
            {"run": run, "keys": None if keys is None else json.dumps(list(keys))},
        )
    ]


def head(db: Db, ident: str) -> RunRow:
    """The run without its document. Raises NotFound."""
    row = db.execute(
        "SELECT id, plan, package, state, '{}' AS doc, started_at, ended_at, kind, undone_at,"
        " reason FROM run WHERE id = ?",
        (ident,),
    ).fetchone()
    if row is None:
        raise NotFound(f"there is no run “{ident}”")
    return _run(row)


def learned(db: Db, ident: str) -> dict[str, dict[str, str]]:
    """Node → column → what it was given while the run went on."""
    found: dict[str, dict[str, str]] = {}
    for row in db.execute("SELECT node, col, value FROM learned WHERE run = ?", (ident,)):
        found.setdefault(row["node"], {})[row["col"]] = row["value"]
    return found


@dataclass(frozen=True)
class AttemptRow:
    """One attempt of a step: when it began, when and how it ended (None and '' while it
    goes on).
    """

    step: str
    started_at: float
    ended_at: float | None
    outcome: str
    message: str


def attempts(db: Db, run: str) -> list[AttemptRow]:
    """All attempts of steps that had more than one, from the journal, in order."""
    found: list[AttemptRow] = []
    last: dict[str, int] = {}
    rows = db.execute(
        "SELECT e.at, e.step, e.kind, e.payload FROM run_event e JOIN run_step s ON s.run = e.run"
        " AND s.key = e.step WHERE e.run = ? AND s.attempt > 1 AND e.kind IN ('begun', 'done',"
        " 'failed', 'try-again', 'retry-asked', 'no-longer') ORDER BY e.id",
        (run,),
    )
    for row in rows:
        if row["kind"] == "begun":
            last[row["step"]] = len(found)
            found.append(AttemptRow(row["step"], row["at"], None, "", ""))
        elif row["step"] in last:
            one = found[last.pop(row["step"])]
            outcome = "done" if row["kind"] == "done" else "failed"
            found[found.index(one)] = replace(
                one,
                ended_at=row["at"],
                outcome=outcome,
                message=str(json.loads(row["payload"]).get("message", "")),
            )
    return found


@dataclass(frozen=True)
class SeenRow:
    """A step of a run as lists count it."""

    run: str
    node: str
    host: str
    label: str
    kind: str
    state: str
    message: str
    undo_failed: bool


def seen(db: Db, idents: Collection[str]) -> dict[str, list[SeenRow]]:
    """Steps of several runs, without reading their documents in full. Cost: O(steps)."""
    found: dict[str, list[SeenRow]] = {ident: [] for ident in idents}
    for row in db.execute(
        "SELECT r.id, coalesce(s.value ->> 'node', '') AS node, coalesce(s.value ->> 'host', '') AS"
        " host, s.value ->> 'label' AS label, s.value ->> 'kind' AS kind, rs.state, CASE WHEN"
        " rs.undo_failed THEN rs.undo_message ELSE rs.message END AS message, rs.undo_failed FROM"
        " run r, json_each(r.doc, '$.steps') s JOIN run_step rs ON rs.run = r.id AND rs.key ="
        " s.value ->> 'key' WHERE r.id IN (SELECT value FROM json_each(?))",
        (json.dumps(list(idents)),),
    ):
        found[row["id"]].append(
            SeenRow(
                row["id"],
                row["node"],
                row["host"],
                row["label"],
                row["kind"],
                row["state"],
                row["message"],
                bool(row["undo_failed"]),
            )
        )
    return found


def events(db: Db, run: str, after: int = 0, limit: int = 5000) -> list[EventRow]:
    """Journal entries after an id, in order."""
    return [
        EventRow(row["id"], row["at"], row["step"], row["kind"], json.loads(row["payload"]))
        for row in db.execute(
            "SELECT id, at, step, kind, payload FROM run_event WHERE run = ? AND id > ? ORDER BY id"
            " LIMIT ?",
            (run, after, limit),
        )
    ]


def last_events(db: Db, run: str, count: int) -> list[EventRow]:
    """The newest journal entries, in order."""
    rows = db.execute(
        "SELECT id, at, step, kind, payload FROM run_event WHERE run = ? ORDER BY id DESC LIMIT ?",
        (run, count),
    ).fetchall()
    return [
        EventRow(row["id"], row["at"], row["step"], row["kind"], json.loads(row["payload"]))
        for row in reversed(rows)
    ]


def correct(db: Db, run: str, at: float, doc: dict[str, Any], told: dict[str, Any]) -> EventRow:
    """Replace the run's document, and journal what that brings."""
    db.execute("UPDATE run SET doc = ? WHERE id = ?", (json.dumps(doc), run))
    return EventRow(journal(db, run, at, "", "kit-taken", told), at, "", "kit-taken", told)


def released(db: Db, run: str) -> set[str]:
    """Ends of stages after which a person let a run continue."""
    rows = db.execute("SELECT step FROM run_event WHERE run = ? AND kind = 'released'", (run,))
    return {row["step"] for row in rows}


def events_before(db: Db, run: str, before: int = 0, limit: int = 400) -> list[EventRow]:
    """Journal entries before an id (0: the newest), in order."""
    rows = db.execute(
        "SELECT id, at, step, kind, payload FROM run_event WHERE run = ? AND (? = 0 OR id < ?)"
        " ORDER BY id DESC LIMIT ?",
        (run, before, before, limit),
    ).fetchall()
    return [
        EventRow(row["id"], row["at"], row["step"], row["kind"], json.loads(row["payload"]))
        for row in reversed(rows)
    ]


def last_event(db: Db, run: str) -> int:
    """Id of the newest journal entry, 0 when there is none."""
    return int(
        db.execute("SELECT coalesce(max(id), 0) FROM run_event WHERE run = ?", (run,)).fetchone()[0]
    )


def last_events_of(db: Db, idents: Collection[str]) -> dict[str, int]:
    """The same of several runs."""
    rows = db.execute(
        "SELECT run, max(id) AS last FROM run_event WHERE run IN (SELECT value FROM json_each(?))"
        " GROUP BY run",
        (json.dumps(list(idents)),),
    )
    return {row["run"]: row["last"] for row in rows}


def acted(db: Db, run: str, step: str) -> int:
    """How often a step began to act. Never means that what it was to do was so already."""
    return entries_of(db, run, step, "acting")


def entries_of(db: Db, run: str, step: str, kind: str) -> int:
    """How many entries of a kind the journal has for a step."""
    row = db.execute(
        "SELECT count(*) FROM run_event WHERE run = ? AND step = ? AND kind = ?", (run, step, kind)
    ).fetchone()
    return int(row[0])


FOLDED = 8
"""How far back an entry is looked for that says the same: a poll may ask several things in turn."""


def add_transcript(
    db: Db,
    run: str,
    step: str,
    at: float,
    target: str,
    command: str,
    answer: str,
    status: int,
    seconds: float,
) -> None:
    """Keep a command and its answer; long answers are shortened in the middle. What a step asked a
    moment ago with the same answer is counted.
    """
    if len(answer) > MAX_ANSWER:
        answer = (
            f"{answer[: MAX_ANSWER // 2]}\n… {len(answer) - MAX_ANSWER} characters left out"
            f" …\n{answer[-MAX_ANSWER // 2 :]}"
        )
    newest = db.execute(
        "SELECT id, target, command, answer, status FROM transcript WHERE run = ? AND step = ?"
        " ORDER BY id DESC LIMIT ?",
        (run, step, FOLDED),
    )
    last = next(
        (row for row in newest if (row["target"], row["command"]) == (target, command)), None
    )
    if last is not None and (last["answer"], last["status"]) == (answer, status):
        db.execute(
            "UPDATE transcript SET times = times + 1, last_at = ?, seconds = ? WHERE id = ?",
            (at, seconds, last["id"]),
        )
        return
    db.execute(
        "INSERT INTO transcript (run, step, at, target, command, answer, status, seconds, last_at)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (run, step, at, target, command, answer, status, seconds, at),
    )


def transcript(
    db: Db,
    run: str,
    step: str = "",
    after: int = 0,
    search: str = "",
    limit: int = 500,
    *,
    newest: bool = False,
) -> list[dict[str, Any]]:
    """Entries of a run, or of one step, after an id, in order; with `search` those whose command or
    answer contains it; with `newest` the last ones.
    """
    rows = db.execute(
        "SELECT id, step, at, target, command, answer, status, seconds, times, coalesce(last_at,"
        " at) AS last_at FROM transcript WHERE run = :run AND (:step = '' OR step = :step) AND id >"
        " :after AND (:search = '' OR instr(lower(command), lower(:search)) OR instr(lower(answer),"
        " lower(:search))) ORDER BY id * :sign LIMIT :limit",
        {
            "run": run,
            "step": step,
            "after": after,
            "search": search,
            "sign": -1 if newest else 1,
            "limit": limit,
        },
    ).fetchall()
    return [dict(row) for row in (reversed(rows) if newest else rows)]


def add_proofs(db: Db, run: str, at: float, doc: list[dict[str, Any]]) -> int:
    """Keep a round of proofs; its number."""
    row = db.execute(
        "SELECT coalesce(max(round), 0) + 1 AS next FROM proof WHERE run = ?", (run,)
    ).fetchone()
    db.execute("INSERT INTO proof VALUES (?, ?, ?, ?)", (run, row["next"], at, json.dumps(doc)))
    return int(row["next"])


@dataclass(frozen=True)
class DeedRow:
    """A rollout in short: when it was, and what it was to do. `nodes`: how many the deployment has
    with it; node ids of those that it adds, takes away, gives another size, another system
    disk, and adopts; None: the first run of a deployment.
    """

    id: str
    state: RunState
    started_at: float
    ended_at: float | None
    undone_at: float | None
    nodes: int
    change: Mapping[str, Collection[str]] | None


CHANGED = ("adds", "gone", "resizes", "upgrades", "adopts")


def deeds(db: Db, plan: str) -> list[DeedRow]:
    """All rollouts of a plan, without reading their documents in full."""
    rows = db.execute(
        "SELECT id, state, started_at, ended_at, undone_at, json_array_length(doc, '$.nodes') AS"
        " nodes, json_extract(doc, '$.change.adds') AS adds, json_extract(doc, '$.change.left') AS"
        " gone, json_extract(doc, '$.change.resizes') AS resizes, json_extract(doc,"
        " '$.change.upgrades') AS upgrades, json_extract(doc, '$.change.adopts') AS adopts FROM run"
        " WHERE plan = ? AND kind = 'rollout'",
        (plan,),
    )
    return [
        DeedRow(
            row["id"],
            RunState(row["state"]),
            row["started_at"],
            row["ended_at"],
            row["undone_at"],
            row["nodes"] or 0,
            None
            if row["adds"] is None
            else {what: json.loads(row[what] or "[]") for what in CHANGED},
        )
        for row in rows
    ]


@dataclass(frozen=True)
class RoundRow:
    """A round of acceptance checks in short."""

    run: str
    at: float
    passed: int
    failed: int
    unasked: int


def rounds(db: Db, plan: str, limit: int) -> list[RoundRow]:
    """Rounds of all runs of a plan, the newest first."""
    rows = db.execute(
        "SELECT p.run, p.at, sum(json_extract(v.value, '$.passed')) AS passed, sum(NOT"
        " json_extract(v.value, '$.passed') AND coalesce(json_extract(v.value, '$.checked'), 1))"
        " AS failed, sum(coalesce(json_extract(v.value, '$.checked'), 1) = 0) AS unasked FROM"
        " proof p JOIN run r ON r.id = p.run, json_each(p.doc) v WHERE r.plan = ? GROUP BY p.run,"
        " p.round ORDER BY p.at DESC LIMIT ?",
        (plan, limit),
    )
    return [RoundRow(*row) for row in rows]


def last_two_proofs(db: Db, run: str) -> list[tuple[float, list[dict[str, Any]]]]:
    """The newest rounds, (instant, verdicts) each, the newest first; at most 2."""
    rows = db.execute(
        "SELECT at, doc FROM proof WHERE run = ? ORDER BY round DESC LIMIT 2", (run,)
    ).fetchall()
    return [(row["at"], json.loads(row["doc"])) for row in rows]


def last_proofs(db: Db, run: str) -> tuple[float, list[dict[str, Any]]] | None:
    """(instant, verdicts) of the newest round."""
    row = db.execute(
        "SELECT at, doc FROM proof WHERE run = ? ORDER BY round DESC LIMIT 1", (run,)
    ).fetchone()
    return (row["at"], json.loads(row["doc"])) if row else None
