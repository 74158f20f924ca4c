"""Who works on a bare machine: one run at a time, and none while a node of another lives there."""

from __future__ import annotations

from collections.abc import AsyncIterator, Collection
from contextlib import asynccontextmanager

from nimble_stone.app.application import Application
from nimble_stone.app.claims import living_on
from nimble_stone.core.errors import Conflict
from nimble_stone.engine import preparation
from nimble_stone.store import runs


@asynccontextmanager
async def free(
    app: Application, machines: Collection[str], without: Collection[str] = ()
) -> AsyncIterator[None]:
    """Inside, a run on these machines may be started, and no other is meanwhile. `without`: names
    of nodes that the run itself takes away from there. Raises Conflict when a preparation run works
    on one of them, or a node of a run lives there.
    """
    if not machines:
        yield
        return
    async with app.lock("machines"):
        for other in await app.store.read(runs.runs, active=True, kind="groundwork"):
            common = {step.host for step in preparation.steps_in(other).values()} & set(machines)
            if common:
                raise Conflict(
                    f"preparation run {other.id} is working on {min(common)}",
                    code="run-active",
                    hint="Wait until it ends.",
                )
        for claim in (await living_on(app, machines)).values():
            if claim.name in without:
                continue
            raise Conflict(
                f"{claim.name} of run {claim.run} (plan {claim.plan}) lives on {claim.host}",
                code="machine-taken",
                hint="Roll that run back first.",
            )
        yield
