"""The history of a deployment: runs, rounds of acceptance checks, changes of the plan, and drift,
in one line of time.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.core.errors import NotFound
from nimble_stone.core.runs.states import RunState
from nimble_stone.core.units import count_text
from nimble_stone.store import drift, records, runs
from nimble_stone.store.drift import DriftEvent
from nimble_stone.store.runs import DeedRow, RoundRow

MOST = 500
APART_S = 1800.0
"""Changes of a plan that are no further apart are told as one."""
ENDS: Mapping[RunState, str] = {
    RunState.DONE: "ended: all acceptance checks passed",
    RunState.UNPROVED: "ended: not all acceptance checks passed",
}


@dataclass(frozen=True)
class Entry:
    """What happened at an instant. `kind`: run, checks, plan or drift; `run`, `node`: which, ''
    none; `detail`: the values behind it.
    """

    at: float
    kind: str
    words: str
    run: str = ""
    node: str = ""
    detail: str = ""


async def of_plan(app: Application, plan: str, limit: int = MOST) -> list[Entry]:
    """The newest first. Raises NotFound for a plan that there is not."""
    rows = await app.store.read(runs.deeds, plan)
    changes = await app.store.read(records.plan_changes, plan, 5000)
    if not rows and not changes:
        raise NotFound(f"there is no plan “{plan}”")
    rounds = await app.store.read(runs.rounds, plan, limit)
    seen = await app.store.read(drift.events, plan, limit)
    found = [entry for row in rows for entry in _of_run(row)]
    found += [_of_round(one) for one in rounds]
    found += [_of_drift(one) for one in seen]
    found += _of_changes(changes, [row.started_at for row in rows])
    return sorted(found, key=lambda one: -one.at)[:limit]


def _of_run(row: DeedRow) -> Iterator[Entry]:
    yield Entry(row.started_at, "run", f"run {row.id} started: {_does(row)}", row.id)
    if row.ended_at is not None and row.state in ENDS:
        yield Entry(row.ended_at, "run", f"run {row.id} {ENDS[row.state]}", row.id)
    if row.undone_at is not None:
        yield Entry(row.undone_at, "run", f"run {row.id} rolled back", row.id)


def _does(row: DeedRow) -> str:
    """What a run was to do, in words."""
    if row.change is None:
        return f"rollout of {count_text(row.nodes, 'node')}" if row.nodes else "rollout"
    adopts, gone = set(row.change["adopts"]), set(row.change["gone"])
    adds = set(row.change["adds"]) - adopts
    parts = [
        (len(adopts), "to adopt"),
        (len(adds - gone), "to add"),
        (len(gone - adds), "to remove"),
        (len(adds & gone), "to make again"),
        (len(row.change["resizes"]), "to change in size, place or settings"),
        (len(row.change["upgrades"]), "to upgrade"),
    ]
    told = ", ".join(f"{number} {what}" for number, what in parts if number)
    return told or "nodes repaired, or a stage run again"


def _of_round(one: RoundRow) -> Entry:
    all_ = one.passed + one.failed + one.unasked
    words = f"{one.passed} of {count_text(all_, 'acceptance check')} passed"
    words += f", {one.unasked} could not run" if one.unasked else ""
    return Entry(one.at, "checks", words, one.run)


SAID = {
    "found": "differs from what was built",
    "changed": "differs in another way",
    "gone": "is as it was built again",
    "accepted": "accepted",
    "reopened": "no longer accepted",
}


def _of_drift(one: DriftEvent) -> Entry:
    values = f"built {one.was}, found {one.now}"
    because = f" ({one.reason})" if one.reason else ""
    detail = "" if one.kind == "gone" else values
    return Entry(one.at, "drift", f"{one.label} {SAID[one.kind]}{because}", "", one.node, detail)


def _of_changes(changes: list[tuple[int, float]], starts: Sequence[float]) -> Iterator[Entry]:
    """Changes that follow each other closely are one entry, at the last of them; those before a run
    and those after it are two.
    """
    group: list[tuple[int, float]] = []
    begins = sorted(starts)
    for version, at in changes:
        later = group[-1][1] if group else at
        a_run_between = bisect_left(begins, at) < bisect_left(begins, later)
        if later - at > APART_S or a_run_between:
            yield _changed(group)
            group = []
        group.append((version, at))
    if group:
        yield _changed(group)


def _changed(group: list[tuple[int, float]]) -> Entry:
    (last, at), (first, _) = group[0], group[-1]
    which = f"version {last}" if first == last else f"versions {first} to {last}"
    what = "plan created" if first == 1 else "plan changed"
    return Entry(at, "plan", f"{what}: {which}")
