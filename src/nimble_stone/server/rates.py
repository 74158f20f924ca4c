"""How fast this estate was seen to be: learned from steps of earlier rollouts that were finished at
their first attempt.
"""

from __future__ import annotations

from nimble_stone.engine.world import World
from nimble_stone.store import designs

LEAST, MOST = 0.1, 8.0
SAMPLES = 5


async def measured_rates(world: World) -> dict[str, float]:
    """Kind of step → how much longer or shorter than the kit says it took (median; five steps at
    least).
    """
    newest = await world.store.read(designs.newest_end)
    kept: tuple[float, dict[str, float]] | None = world.remembered.get("measured")
    if kept is None or kept[0] != newest:
        samples: dict[str, list[float]] = {}
        for kind, factor in await world.store.read(designs.step_factors):
            samples.setdefault(kind, []).append(factor)
        kept = (
            newest,
            {
                kind: round(min(MOST, max(LEAST, sorted(some)[len(some) // 2])), 3)
                for kind, some in sorted(samples.items())
                if len(some) >= SAMPLES
            },
        )
        world.remembered["measured"] = kept
    return kept[1]
