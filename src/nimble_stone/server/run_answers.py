"""Runs as answers: one whole, and lines of lists. What is said of each comes from
core/run_words.py.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from nimble_stone.app.application import Application
from nimble_stone.core import narrative, run_words
from nimble_stone.core.acceptance import verdict_of
from nimble_stone.core.runs.states import STANDING, UNDER_WAY, RunState
from nimble_stone.core.units import time_text
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.server.views import (
    RunLine,
    words_view,
)
from nimble_stone.store import runs
from nimble_stone.store.runs import RunRow, StepRow


def below(row: RunRow, facts: run_words.RunFacts) -> str:
    """The line below a run's sentence: how long it still takes. A run that stopped, or is on hold,
    takes as long as its person does.
    """
    if row.state != RunState.RUNNING:
        return ""
    if facts.left_s is None or facts.left_s < 1:
        return "taking longer than expected"
    return f"about {time_text(facts.left_s)} left"


def seen_steps(
    frozen: FrozenRun, states: dict[str, StepRow], now: float
) -> list[run_words.StepSeen]:
    """A run's steps as they are counted. Cost: O(steps)."""
    names = {node.id: node.name for node in frozen.sheet.nodes}
    found = []
    for key, row in states.items():
        step = frozen.steps[key]
        overdue = (
            row.state in UNDER_WAY
            and row.started_at is not None
            and now - row.started_at > step.expected_s
        )
        message = row.undo_message if row.undo_failed else row.message
        found.append(
            run_words.StepSeen(
                step.node,
                names.get(step.node, ""),
                step.label,
                step.kind,
                row.state,
                message,
                row.undo_failed,
                overdue,
            )
        )
    return found


async def run_lines(app: Application, rows: Sequence[RunRow]) -> list[RunLine]:
    """Runs as lists show them, each in words: what is said of one changes only with its journal,
    and with who else wants its slots.
    """
    lasts = await app.store.read(runs.last_events_of, [row.id for row in rows])
    # The rows were read before the journal's ends: what they say is part of the key, so that no
    # line of an older state is kept under a newer entry.
    keys = {
        row.id: (
            row.id,
            row.state,
            row.ended_at,
            row.undone_at,
            row.reason,
            lasts.get(row.id, 0),
            *app.limiter.why(row.id).values(),
        )
        for row in rows
    }
    found = {row.id: app.caches.lines.get(keys[row.id]) for row in rows}
    missing = [row for row in rows if found[row.id] is None]
    steps = await app.store.read(runs.seen, [row.id for row in missing]) if missing else {}
    for row in missing:
        line = await _line(app, row, steps[row.id])
        found[row.id] = app.caches.lines.put(keys[row.id], line)
    return [line for line in found.values() if line is not None]


async def _line(app: Application, row: RunRow, steps: Sequence[runs.SeenRow]) -> RunLine:
    names = {
        ident: str(values.get("name", ident))
        for ident, values in row.doc.get("plan", {}).get("nodes", {}).items()
    }
    seen = [
        run_words.StepSeen(
            one.node,
            names.get(one.node, ""),
            one.label,
            one.kind,
            one.state,
            one.message,
            one.undo_failed,
        )
        for one in steps
    ]
    proofs = await app.store.read(runs.last_proofs, row.id) if row.state in STANDING else None
    verdicts = [verdict_of(item) for item in proofs[1]] if proofs else []
    checks = narrative.checks_of(names, verdicts)
    facts = run_words.facts_of(
        row.state,
        seen,
        checks,
        queued=list(app.limiter.why(row.id).values()),
        reason=row.reason,
        others=_stood(row.doc.get("change", {})),
    )
    return RunLine(
        id=row.id,
        plan=row.plan,
        state=row.state,
        started_at=row.started_at,
        ended_at=row.ended_at,
        undone_at=row.undone_at,
        nodes=facts.nodes,
        deployed=facts.deployed,
        words=words_view(run_words.words_of(facts)),
    )


def _stood(change: Mapping[str, Any]) -> tuple[str, ...]:
    """Nodes of a change, as it is kept, that were deployed before; see Change.stood."""
    again = [ident for ident in change.get("adds", ()) if ident in change.get("left", {})]
    return (*change.get("built", {}), *again)
