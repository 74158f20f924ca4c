"""What stands of a plan, and what a run would change of it."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.app.application import Application
from nimble_stone.core.deployment import BuiltNode, Part, built
from nimble_stone.core.errors import FormatError, NotFound
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.runs.states import ACTIVE, RunState
from nimble_stone.engine.frozen import thawed
from nimble_stone.store import runs


async def standing(app: Application, plan: str) -> Mapping[str, BuiltNode]:
    """Node id → the node that stands, of all runs of a plan that have ended. A run that is under
    way counts for nothing yet.

    Cost: O(runs of the plan); a run's document is read once.
    """
    rows = await app.store.read(runs.of_plan, plan)
    if not any(row.state != RunState.UNDONE for row in rows):
        return {}
    gone = await app.store.read(runs.retired, plan)
    parts = []
    for row in rows:
        undone = row.state == RunState.UNDONE
        if row.state in ACTIVE or (undone and row.id not in gone):
            continue
        made = await _made_by(app, row.id)
        parts.append(Part(row.id, made.nodes, made.adds, gone.get(row.id, frozenset()), undone))
    return built(parts)


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
    return app.caches.made.put(run, Part(run, nodes, frozenset(adds)))
