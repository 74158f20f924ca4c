"""The driver of bare machines: what the engine does with one, each request in the transcript."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Collection
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass
from typing import Any

from nimble_stone.core.errors import StoneError
from nimble_stone.hosts.api import HostDriver, Metal, Recorder
from nimble_stone.hosts.redfish.machine import RedfishMachine
from nimble_stone.hosts.redfish.service import Peer
from nimble_stone.reach.https import JsonAnswer

Opened = Callable[[], AbstractAsyncContextManager[RedfishMachine]]


@dataclass
class Recorded:
    """A peer whose changing requests are kept with their answers. What is only read is not."""

    name: str
    peer: Peer
    record: Recorder

    async def ask(
        self,
        method: str,
        path: str,
        *,
        body: dict[str, Any] | None = None,
        headers: dict[str, str] | None = None,
    ) -> JsonAnswer:
        """One request. Raises what the peer raises."""
        session = path.endswith("/Sessions") or "/Sessions/" in path
        if method == "GET" or session:
            return await self.peer.ask(method, path, body=body, headers=headers)
        sent = f"{method} {path} {json.dumps(body, ensure_ascii=False)}"
        began = time.monotonic()
        try:
            answer = await self.peer.ask(method, path, body=body, headers=headers)
        except StoneError as error:
            self.record(self.name, sent, str(error), -1, time.monotonic() - began)
            raise
        said = json.dumps(answer.data, ensure_ascii=False) if answer.data else ""
        fine = answer.status < 400
        self.record(
            self.name,
            sent,
            f"status {answer.status} {said}".strip(),
            0 if fine else answer.status,
            time.monotonic() - began,
        )
        return answer


class RedfishDriver(HostDriver):
    """A bare machine. It has no VMs and no datastores."""

    kind = "redfish"

    def __init__(self, name: str, opened: Opened) -> None:
        super().__init__(name)
        self._metal = _Metal(opened)

    @property
    def metal(self) -> Metal:
        """Its power, boot source and media."""
        return self._metal


class _Metal:
    """Each call reaches the controller anew: it may have restarted meanwhile."""

    def __init__(self, opened: Opened) -> None:
        self._opened = opened

    async def power_state(self) -> str:
        async with self._opened() as machine:
            return await machine.power_state()

    async def power(self, kind: str) -> None:
        async with self._opened() as machine:
            await machine.power(kind)

    async def boot_once(self, source: str) -> None:
        async with self._opened() as machine:
            await machine.boot_once(source)

    async def boot_as_set(self) -> None:
        async with self._opened() as machine:
            await machine.boot_as_set()

    async def insert(self, url: str) -> str:
        async with self._opened() as machine:
            return await machine.insert(url)

    async def inserted(self) -> list[str]:
        async with self._opened() as machine:
            return await machine.inserted()

    async def eject(self, images: Collection[str]) -> list[str]:
        async with self._opened() as machine:
            return await machine.eject(images)
