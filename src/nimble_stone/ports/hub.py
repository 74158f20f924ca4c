"""Wake-up signals and passing progress. The journal is the truth; this only makes viewers look
sooner.
"""

from __future__ import annotations

import asyncio
from collections import defaultdict
from typing import Any


class Hub:
    """Signals per run, counted so that none is missed between looking and waiting, and the latest
    progress of each
    working step (bytes, tries), which is never stored."""

    def __init__(self) -> None:
        self._waiting: dict[str, set[asyncio.Event]] = defaultdict(set)
        self._count: dict[str, int] = defaultdict(int)
        self.progress: dict[str, dict[str, dict[str, Any]]] = defaultdict(dict)

    def count(self, run: str) -> int:
        """How many signals a run has given so far: ask before looking, pass it to `wait`
        afterwards.
        """
        return self._count[run]

    def signal(self, run: str) -> None:
        """Something happened in a run."""
        self._count[run] += 1
        for event in self._waiting[run]:
            event.set()

    def tell(self, run: str, step: str, **values: Any) -> None:
        """Progress of a step."""
        self.progress[run].setdefault(step, {}).update(values)
        self.signal(run)

    def forget(self, run: str, step: str) -> None:
        """The step is over; its progress is history."""
        if self.progress[run].pop(step, None) is not None:
            self.signal(run)

    async def wait(self, run: str, seen: int, seconds: float) -> bool:
        """Wait for a signal after the first `seen` ones, at most so long. True when there
        was one.
        """
        if self._count[run] != seen:
            return True
        event = asyncio.Event()
        self._waiting[run].add(event)
        try:
            async with asyncio.timeout(seconds):
                await event.wait()
            return True
        except TimeoutError:
            return False
        finally:
            self._waiting[run].discard(event)
