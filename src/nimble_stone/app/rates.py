"""How fast this estate was seen to be: learned from steps of earlier rollouts that were finished at
their first attempt.
"""

from __future__ import annotations

from nimble_stone.app.application import Application
from nimble_stone.store import designs

LEAST, MOST = 0.1, 8.0
SAMPLES = 5


async def measured_rates(app: Application) -> dict[str, float]:
    """Kind of step → how much longer or shorter than the kit says it took (median; five steps at
    least).
    """
    newest = await app.store.read(designs.newest_end)
    kept = app.caches.rates.get(newest)
    if kept is not None:
        return kept
    samples: dict[str, list[float]] = {}
    for kind, factor in await app.store.read(designs.step_factors):
        samples.setdefault(kind, []).append(factor)
    found = {
        kind: round(min(MOST, max(LEAST, sorted(some)[len(some) // 2])), 3)
        for kind, some in sorted(samples.items())
        if len(some) >= SAMPLES
    }
    return app.caches.rates.put(newest, found)
