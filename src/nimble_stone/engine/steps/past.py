"""A node's part in the earlier runs that made it."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import replace

from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.step import Step
from nimble_stone.engine.frozen import FrozenRun, thawed
from nimble_stone.engine.steps.context import Context
from nimble_stone.packages import stored
from nimble_stone.store import records, runs


async def earlier(c: Context, run: str, node: Node | None = None) -> FrozenRun:
    """A run of before; `node`: how the step's node was in the end, where a later one changed it.
    Raises NotFound.
    """
    found = await thawed(c.ports.store, await c.ports.store.read(runs.get_run, run))
    if node is not None:
        nodes = tuple(node if one.id == node.id else one for one in found.sheet.nodes)
        found.sheet = replace(found.sheet, nodes=nodes)
    return found


async def makers(c: Context, run: str) -> AsyncIterator[FrozenRun]:
    """The runs that made the step's node, the newest first: an upgrade left what was there."""
    while run:
        found = await earlier(c, run, c.node)
        yield found
        replaced = found.change is not None and c.node.id in found.change.upgrades
        run = found.change.built[c.node.id] if found.change and replaced else ""


async def at(c: Context, before: FrozenRun, step: Step) -> Context:
    """A step of an earlier run, as that run would carry it out now, where the node is by now.
    Raises NotFound for a package that is gone.
    """
    package = before.sheet.packages.of(c.node.role)
    row = await c.ports.store.read(runs.get_run, before.id)
    sha256 = step.detail.get("package") or (package.sha256 if package else row.package)
    found = await c.ports.store.read(records.packages_of, [sha256])
    contents = await asyncio.to_thread(stored.contents_of, found[sha256])
    step = replace(step, host=c.step.host, datastore=c.step.datastore)
    return replace(c, run=before, step=step, contents=contents, answer={})
