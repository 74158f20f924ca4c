"""What stands of a plan, and what a run would change of it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

from nimble_stone.app.application import Application
from nimble_stone.core.deployment import BuiltNode, Part, built
from nimble_stone.core.errors import FormatError, NotFound
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.runs.states import ACTIVE, RunState
from nimble_stone.engine.frozen import thawed
from nimble_stone.store import runs
from nimble_stone.store.runs import StateRow


async def standing(app: Application, plan: str, at: float = math.inf) -> Mapping[str, BuiltNode]:
    """Node id → the node that stands, of all runs of a plan that have ended; at an instant, of
    those that had ended then. A run that is under way counts for nothing yet.

    Cost: O(runs of the plan); a run's document is read once.
    """
    rows = await app.store.read(runs.of_plan, plan)
    if not any(_had_ended(row, at) and not _was_undone(row, at) for row in rows):
        return {}
    gone = await app.store.read(runs.retired, plan, at)
    parts = []
    for row in rows:
        undone = _was_undone(row, at)
        if not _had_ended(row, at) or (undone and row.id not in gone):
            continue
        made = await _made_by(app, row.id)
        left = gone.get(row.id, frozenset())
        parts.append(replace(made, gone=left, undone=undone))
    return built(parts)


def _had_ended(row: StateRow, at: float) -> bool:
    if at == math.inf:
        return row.state not in ACTIVE
    return row.ended_at is not None and row.ended_at <= at


def _was_undone(row: StateRow, at: float) -> bool:
    return row.state == RunState.UNDONE and (row.undone_at or 0.0) <= at


async def under_way(app: Application, plan: str) -> bool:
    """Whether a run of the plan goes on, or waits for a person."""
    return any(row.state in ACTIVE for row in await app.store.read(runs.of_plan, plan))


async def _made_by(app: Application, run: str) -> Part:
    """A run never changes what it was to make: read once, and kept."""
    kept = app.caches.made.get(run)
    if kept is not None:
        return kept
    try:
        found = await thawed(app.store, await app.store.read(runs.get_run, run))
    except (NotFound, FormatError):
        return Part(run, (), frozenset())
    nodes: tuple[Node, ...] = found.sheet.nodes
    adds = found.change.adds if found.change else tuple(node.id for node in nodes)
    part = Part(run, nodes, frozenset(adds), packages=found.sheet.packages)
    if change := found.change:
        part = replace(part, resized=frozenset(change.resizes), upgraded=frozenset(change.upgrades))
    return app.caches.made.put(run, part)
