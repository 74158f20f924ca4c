"""Whether nodes are reached from outside their cluster: from their hosts, or from other bays."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence

from nimble_stone.core.acceptance import Answer, Subject
from nimble_stone.core.acceptance.asked import Pair, pairs
from nimble_stone.core.errors import StoneError
from nimble_stone.core.kit.checks import HOSTS, AcceptanceCheck
from nimble_stone.core.plan.sheet import reached
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.hosts.api import HostDriver
from nimble_stone.ports.ports import Ports
from nimble_stone.store import records

SIDE_BY_SIDE = 16
TRIED = 3
"""Hosts of a bay that are tried, one after the other, until one answers."""
SMALL = 100
"""Bytes of a packet where the check wants none in particular."""


class Outside:
    """One check of that kind. Hosts are only asked to connect; nothing is changed on them."""

    def __init__(self, ports: Ports, run: FrozenRun, check: AcceptanceCheck) -> None:
        self._ports, self._run, self._check = ports, run, check
        self._gate, self._silent = asyncio.Semaphore(SIDE_BY_SIDE), dict[str, str]()

    async def reach(self) -> Answer:
        """Who was reached from where. Where a source cannot be asked, what the others reach is
        known all the same.
        """
        wanted = pairs(Subject(self._run.sheet, None, self._check)) or ()
        sources = list(dict.fromkeys(pair.source for pair in wanted))
        drivers = await asyncio.gather(*(self._who(source) for source in sources))
        by_source = dict(zip(sources, drivers, strict=True))
        found = await asyncio.gather(*(self._one(by_source[p.source], p) for p in wanted))
        how = f"{self._what()} from {', '.join(self._names(by_source))}, by SSH"[:2000]
        if self._silent and not any(pair.asked and not pair.reached for pair in found):
            # nothing is lost as far as is known
            return Answer(None, how, unknown="; ".join(self._silent.values())[:300])
        return Answer(tuple(found), how)

    def _what(self) -> str:
        if self._check.ports:
            return f"connect to port {', '.join(map(str, self._check.ports))} of each node"
        return f"ping of {self._check.size or SMALL} bytes to each node"

    def _names(self, by_source: Mapping[str, HostDriver | None]) -> Sequence[str]:
        """“ness-two (tern)”: the bay and which host asked."""
        told = []
        for source, one in by_source.items():
            by = "" if one is None or one.name == source else f" ({one.name})"
            told.append(source + by)
        return told

    async def _who(self, source: str) -> HostDriver | None:
        """The host that asks for a source; None where none can."""
        names = [source]
        if self._check.source != HOSTS:
            estate = await self._ports.store.read(records.load_estate)
            names = [host.name for host in estate.bay(source)[:TRIED]]
        trouble = f"bay “{source}” has no host"
        for name in names:
            try:
                return await self._answering(name)
            except StoneError as error:
                trouble = str(error)
        self._silent[source] = trouble
        return None

    async def _answering(self, name: str) -> HostDriver:
        """A host, once it has answered something. Raises RemoteError, NotFound."""
        driver = await self._ports.driver(await self._ports.host(name))
        await driver.probes.answers_ping("127.0.0.1")
        return driver

    async def _one(self, by: HostDriver | None, pair: Pair) -> Pair:
        if by is None:
            return Pair(pair.source, pair.target, reached=False, asked=False)
        node = next(one for one in self._run.sheet.nodes if one.name == pair.target)
        address = reached(self._run.sheet.kit, node)
        try:
            async with self._gate:
                if not self._check.ports:
                    seen = await by.probes.passes(address, self._check.size or SMALL)
                    return Pair(pair.source, pair.target, seen.passes)
                shut = [
                    port for port in self._check.ports if await by.probes.reaches(address, port)
                ]
        except StoneError as error:
            self._silent[pair.source] = str(error)
            return Pair(pair.source, pair.target, reached=False, asked=False)
        return Pair(pair.source, pair.target, not shut, tuple(shut))
