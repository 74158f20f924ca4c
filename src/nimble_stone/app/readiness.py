"""Which plans could be run now: their blockers, counted once for a version of plan and estate."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence

from nimble_stone.app.application import Application
from nimble_stone.app.evaluate import evaluate
from nimble_stone.core.errors import StoneError
from nimble_stone.core.kit.model import Kit
from nimble_stone.store import designs
from nimble_stone.store.records import PlanRow

TIME_S = 0.25
"""Plans are evaluated for at most this long per list: the event loop serves others too. The rest
follow with the next one.
"""


async def blockers_of(
    app: Application, kits: Mapping[str, Kit], rows: Sequence[PlanRow]
) -> dict[str, int]:
    """Plan → how many blockers it has against the last facts. Plans that cannot be evaluated, or
    whose turn did not come yet, are left out.
    """
    numbers = await app.store.read(designs.numbers)
    by_kits = frozenset(kit.digest for kit in kits.values())
    began, found = app.monotonic(), {}
    for row in rows:
        key = (row.id, row.version, by_kits, *numbers)
        known = app.caches.blockers.get(key)
        if known is None and app.monotonic() - began < TIME_S:
            try:
                resolved = await evaluate(app, kits, row.text)
                await asyncio.sleep(0)  # others have their turn between two plans
            except StoneError:
                continue
            known = sum(finding.severity == "blocker" for finding in resolved.findings)
            app.caches.blockers.put(key, known)
        if known is not None:
            found[row.id] = known
    return found
