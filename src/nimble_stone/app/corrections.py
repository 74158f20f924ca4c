"""A run that waits takes over the corrected kit of its plan, when a person says so."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.app.run_requests import rollout_row
from nimble_stone.core.errors import Conflict
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.runs import correction, document
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.frozen import FrozenRun, thawed

WAITING = (RunState.HELD, RunState.TROUBLE)


@dataclass(frozen=True)
class Offer:
    """What a run would take over. `parts`: parts of the kit that differ, nothing when none does;
    `refused`: why it cannot.
    """

    parts: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()


async def offer(app: Application, kits: Mapping[str, Kit], ident: str) -> Offer:
    """What the kit has now that the run has not. Raises NotFound."""
    row = await rollout_row(app, ident)
    frozen = await thawed(app.store, row)
    found = await asyncio.to_thread(_correction, app, frozen, kits)
    if found is None:
        return Offer()
    refused = list(found.refused)
    if row.state not in WAITING:
        refused.insert(0, "the run does not wait: hold it, or let it stop")
    return Offer(found.parts, tuple(refused))


async def take(app: Application, engine: Engine, kits: Mapping[str, Kit], ident: str) -> Offer:
    """Take it over. Raises NotFound, Conflict when there is nothing to take over, or it cannot
    be.
    """
    row = await rollout_row(app, ident)
    frozen = await thawed(app.store, row)
    found = await asyncio.to_thread(_correction, app, frozen, kits)
    if found is None:
        raise Conflict(
            f"The kit is as it was when run {ident} began.",
            code="kit-same",
            hint="Correct it first, on its page or in its file.",
        )
    if found.refused:
        raise Conflict(
            f"Run {ident} cannot take over the kit as it is now: {'; '.join(found.refused)}.",
            code="kit-differs",
            hint="Roll the run back, and start it again with the new kit.",
        )
    if row.state not in WAITING:
        raise Conflict(
            f"Run {ident} does not wait.",
            code="run-busy",
            hint="Hold it, then take over the kit.",
        )
    told = {"parts": list(found.parts), "kit": found.sheet.kit.digest[:12]}
    await engine.correct(ident, document.with_kit(row.doc, found.sheet.kit, found.steps), told)
    return Offer(found.parts)


def _correction(
    app: Application, frozen: FrozenRun, kits: Mapping[str, Kit]
) -> correction.Correction | None:
    """None where the kit is the same, or is there no more."""
    kit = kits.get(frozen.sheet.kit.id)
    if kit is None or kit.digest == frozen.sheet.kit.digest:
        return None
    found = correction.corrected(
        frozen.sheet, frozen.steps, kit, changes=frozen.change is not None, pace=app.pace
    )
    return found if found.parts else None
