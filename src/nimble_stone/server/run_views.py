"""How runs stand, worked out once for all pages that ask after the same journal entry."""

from __future__ import annotations

import asyncio
from collections import OrderedDict
from collections.abc import Awaitable, Callable
from dataclasses import dataclass

from nimble_stone.engine.world import World
from nimble_stone.server.views import RunView
from nimble_stone.store import runs

KEPT = 64
FRESH_S = 1.0
"""Remaining times change without an entry: an answer is used again for so long only."""

Build = Callable[[World, str], Awaitable[RunView]]


@dataclass(frozen=True)
class _Kept:
    last_event: int
    at: float
    view: RunView


class RunViews:
    """Answers by run. `build` works one out."""

    def __init__(self, world: World, build: Build) -> None:
        self._world, self._build = world, build
        self._kept: OrderedDict[str, _Kept] = OrderedDict()
        self._locks: dict[str, asyncio.Lock] = {}

    async def get(self, ident: str) -> RunView:
        """How a run stands now. Raises NotFound."""
        async with self._locks.setdefault(ident, asyncio.Lock()):
            last = await self._world.store.read(runs.last_event, ident)
            kept = self._kept.get(ident)
            if (
                kept is None
                or kept.last_event != last
                or self._world.monotonic() - kept.at > FRESH_S
            ):
                try:
                    view = await self._build(self._world, ident)
                except Exception:
                    self._locks.pop(ident, None)
                    raise
                kept = _Kept(view.last_event, self._world.monotonic(), view)
                self._kept[ident] = kept
                self._kept.move_to_end(ident)
            while len(self._kept) > KEPT:
                gone, _ = self._kept.popitem(last=False)
                self._locks.pop(gone, None)
            return kept.view.model_copy(update={"now": self._world.clock()})
