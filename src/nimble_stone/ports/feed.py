"""The journal of runs as it grows, read once for all who watch."""

from __future__ import annotations

import asyncio
import json
import logging
from collections import deque
from collections.abc import AsyncGenerator
from dataclasses import dataclass, field
from itertools import takewhile
from typing import TYPE_CHECKING

from nimble_stone.core.errors import StoneError
from nimble_stone.store import runs

if TYPE_CHECKING:
    from nimble_stone.ports.ports import Ports

log = logging.getLogger("nimble_stone.engine")
KEPT = 4096
PAGE = 5000
LOOK_S = 15.0
SHORTEST_S = 0.05
"""Between two readings: a burst of entries is read as one."""


@dataclass(frozen=True)
class Frame:
    """A journal entry, or what came of some, ready to be sent: its event's name and id."""

    id: int
    text: str
    kind: str = "journal"


@dataclass
class _Tail:
    """The end of one run's journal and those who wait for more."""

    last: int = 0
    frames: deque[Frame] = field(default_factory=lambda: deque(maxlen=KEPT))
    progress: str = "{}"
    grown: asyncio.Event = field(default_factory=asyncio.Event)
    watchers: int = 0
    reader: asyncio.Task[None] | None = None


def frame(event: runs.EventRow) -> Frame:
    """An entry as JSON."""
    return Frame(
        event.id,
        json.dumps(
            {
                "id": event.id,
                "at": event.at,
                "step": event.step,
                "kind": event.kind,
                "payload": event.payload,
            }
        ),
    )


class Feed:
    """Who watches a run gets its entries in order, each once, and passing progress in between."""

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._tails: dict[str, _Tail] = {}

    async def watch(
        self, run: str, after: int, idle_s: float
    ) -> AsyncGenerator[Frame | str | None, None]:
        """Entries after an id (Frame), progress whenever it changes (JSON text), None when nothing
        came for `idle_s`.
        """
        tail = self._tails.setdefault(run, _Tail())
        tail.watchers += 1
        if tail.reader is None:
            tail.last = after
            tail.reader = asyncio.create_task(self._read(run, tail))
        shown = "{}"
        try:
            while True:
                grown = tail.grown
                while batch := await self._since(run, tail, after):
                    for one in batch:
                        after = one.id
                        yield one
                if tail.progress != shown:
                    shown = tail.progress
                    yield shown
                if grown is not tail.grown:
                    continue
                try:
                    async with asyncio.timeout(idle_s):
                        await grown.wait()
                except TimeoutError:
                    yield None
        finally:
            tail.watchers -= 1
            if not tail.watchers:
                self._tails.pop(run, None)
                tail.reader.cancel()

    async def _since(self, run: str, tail: _Tail, after: int) -> list[Frame]:
        """Entries after an id: from memory where they are there, else from the store."""
        if after >= tail.last:
            return []
        if tail.frames and tail.frames[0].id <= after + 1:
            newest = takewhile(lambda one: one.id > after, reversed(tail.frames))
            return list(newest)[::-1]
        return [
            frame(event) for event in await self._ports.store.read(runs.events, run, after, PAGE)
        ]

    async def _read(self, run: str, tail: _Tail) -> None:
        while True:
            seen = self._ports.hub.count(run)
            try:
                rows = await self._ports.store.read(runs.events, run, tail.last, PAGE)
            except StoneError:
                log.exception("the journal of run %s cannot be read", run)
                rows = []
            progress = json.dumps(self._ports.hub.progress[run])
            if rows or progress != tail.progress:
                tail.frames.extend(frame(event) for event in rows)
                tail.last = rows[-1].id if rows else tail.last
                tail.progress = progress
                grown, tail.grown = tail.grown, asyncio.Event()
                grown.set()
            await asyncio.sleep(SHORTEST_S)
            if len(rows) < PAGE:
                await self._ports.hub.wait(run, seen, LOOK_S)
