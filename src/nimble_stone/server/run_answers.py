"""Runs as answers: one whole, and lines of lists. What is said of each comes from
core/run_words.py.
"""

from __future__ import annotations

from collections.abc import Sequence

from nimble_stone.core import narrative, run_words
from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.errors import NotFound
from nimble_stone.core.runs.states import STANDING, UNDER_WAY, RunState
from nimble_stone.core.units import time_text
from nimble_stone.engine.frozen import FrozenRun, thawed
from nimble_stone.engine.world import World
from nimble_stone.server.planning import without_own
from nimble_stone.server.views import (
    AttemptView,
    RunLine,
    RunView,
    host_views,
    live_forecast,
    node_view,
    step_views,
    words_view,
)
from nimble_stone.store import records, runs
from nimble_stone.store.runs import RunRow, StepRow

SHOWN_EVENTS = 400


async def rollout_row(world: World, ident: str) -> RunRow:
    """A rollout's row. Raises NotFound, also for a run that prepares hosts: that has a place of its
    own.
    """
    row = await world.store.read(runs.get_run, ident)
    if row.kind != "rollout":
        raise NotFound(
            f"Run {ident} prepares hosts; it is no rollout.",
            code="run-prepares",
            hint=f"See /api/groundwork/{ident}, or `nimble-stone estate groundwork`.",
        )
    return row


async def run_view(world: World, ident: str) -> RunView:
    """A run as its page shows it."""
    # first: what follows is at least as new as the entry it names
    last = await world.store.read(runs.last_events, ident, SHOWN_EVENTS)
    row = await rollout_row(world, ident)
    frozen = await thawed(world.store, row)
    states: dict[str, StepRow] = {
        step.key: step for step in await world.store.read(runs.steps, ident)
    }
    now = world.clock()
    forecast = live_forecast(frozen, states, row.started_at, now, world.limiter.limits)
    estate = without_own(await world.store.read(records.load_estate), ident)
    used = {node.value("host") for node in frozen.sheet.nodes}
    proofs = await world.store.read(runs.last_proofs, ident)
    verdicts = [Verdict(**item) for item in proofs[1]] if proofs else []
    left = max(0.0, forecast.end_s - (now - row.started_at))
    queued = world.limiter.why(ident)
    checks = narrative.checks_of({node.id: node.name for node in frozen.sheet.nodes}, verdicts)
    facts = run_words.facts_of(
        row.state,
        _seen(frozen, states, now),
        checks,
        left_s=left,
        queued=list(queued.values()),
        reason=row.reason,
    )
    words = run_words.words_of(facts)
    return RunView(
        id=row.id,
        plan=row.plan,
        title=frozen.sheet.plan.title or row.plan,
        state=row.state,
        started_at=row.started_at,
        ended_at=row.ended_at,
        undone_at=row.undone_at,
        last_event=last[-1].id if last else 0,
        now=now,
        nodes=[node_view(frozen.sheet, node) for node in frozen.sheet.nodes],
        hosts=host_views(estate, {frozen.sheet.plan.bay}, names=used),
        steps=step_views(list(frozen.steps.values()), forecast, states, queued),
        sentence=narrative.of_run(words, _below(row, facts)),
        words=words_view(words),
        left_s=left,
        overdue=facts.left_s is None,
        critical=list(forecast.critical),
        proofs=verdicts,
        proved_at=proofs[0] if proofs else None,
        proof_sentence=narrative.of_acceptance(frozen.sheet, verdicts, row.state),
        attempts=[AttemptView(**vars(one)) for one in await world.store.read(runs.attempts, ident)],
        events=[
            {"id": e.id, "at": e.at, "step": e.step, "kind": e.kind, "payload": e.payload}
            for e in last
        ],
    )


def _below(row: RunRow, facts: run_words.RunFacts) -> str:
    if row.state not in (RunState.RUNNING, RunState.TROUBLE, RunState.HELD):
        return ""
    return (
        "taking longer than expected"
        if facts.left_s is None
        else f"about {time_text(facts.left_s)} left"
    )


def _seen(frozen: FrozenRun, states: dict[str, StepRow], now: float) -> list[run_words.StepSeen]:
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


LINES = 512
"""Lines that are remembered: what is said of a run changes only with its journal, and with who else
wants its slots.
"""


async def run_lines(world: World, rows: Sequence[RunRow]) -> list[RunLine]:
    """Runs as lists show them, each in words."""
    kept: dict[tuple[object, ...], RunLine] = world.remembered.setdefault("run lines", {})
    lasts = await world.store.read(runs.last_events_of, [row.id for row in rows])
    # The rows were read before the journal's ends: what they say is part of the key, so that no
    # line of an older state is kept under a newer entry.
    keys: dict[str, tuple[object, ...]] = {
        row.id: (
            row.id,
            row.state,
            row.ended_at,
            row.undone_at,
            row.reason,
            lasts.get(row.id, 0),
            *world.limiter.why(row.id).values(),
        )
        for row in rows
    }
    missing = [row for row in rows if keys[row.id] not in kept]
    if missing:
        steps = await world.store.read(runs.seen, [row.id for row in missing])
        for row in missing:
            kept[keys[row.id]] = await _line(world, row, steps[row.id])
    found = [kept[keys[row.id]] for row in rows]
    for old in list(kept)[:-LINES]:
        kept.pop(old)
    return found


async def _line(world: World, row: RunRow, steps: Sequence[runs.SeenRow]) -> RunLine:
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
    proofs = await world.store.read(runs.last_proofs, row.id) if row.state in STANDING else None
    verdicts = [Verdict(**item) for item in proofs[1]] if proofs else []
    checks = narrative.checks_of(names, verdicts)
    words = run_words.words_of(
        run_words.facts_of(
            row.state,
            seen,
            checks,
            queued=list(world.limiter.why(row.id).values()),
            reason=row.reason,
        )
    )
    return RunLine(
        id=row.id,
        plan=row.plan,
        state=row.state,
        started_at=row.started_at,
        ended_at=row.ended_at,
        undone_at=row.undone_at,
        words=words_view(words),
    )
