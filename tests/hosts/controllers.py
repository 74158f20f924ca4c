"""A stand-in controller on a free port of this machine, and the product's client to it."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field
from pathlib import Path

from nimble_stone.hosts.redfish import RedfishMachine
from nimble_stone.lab.controllers.bmc import Controller
from nimble_stone.lab.controllers.machine import BmcKnobs, Box, LabMachine
from nimble_stone.lab.scenario import demo
from nimble_stone.reach.https import HttpsPeer, certificate
from nimble_stone.reach.policy import DialPolicy


@dataclass
class Idle:
    """A machine with nothing inside: what it was to boot from is written down."""

    booted: list[str] = field(default_factory=list)

    async def start(self, machine: LabMachine, source: str, over: Callable[[], None]) -> None:
        self.booted.append(source)

    async def stop(self, machine: LabMachine) -> None:
        pass


@dataclass
class Place:
    """A controller, what it drives, and our client."""

    controller: Controller
    client: RedfishMachine
    port: int

    @property
    def machine(self) -> LabMachine:
        return self.controller.machine


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


@contextlib.asynccontextmanager
async def controller(
    folder: Path, *habits: str, box: Box | None = None, name: str = "gneiss"
) -> AsyncIterator[Place]:
    """One of the demonstration's machines with these habits."""
    plan = next(one for one in demo.plan().machines if one.name == name)
    one = Controller(
        LabMachine(plan, BmcKnobs(habits=list(habits))), folder, lambda: 40.0, box or Idle()
    )
    port = free_port()
    await one.open("127.0.0.1", port)
    policy = DialPolicy()
    shown = await certificate(policy, "127.0.0.1", port, 0.0)

    async def soon(seconds: float) -> None:
        await asyncio.sleep(min(seconds, 0.1))

    try:
        async with HttpsPeer(policy, "127.0.0.1", port, shown.fingerprint) as peer:
            client = RedfishMachine(plan.name, peer, "admin", demo.BMC_PASSWORD, pause=soon)
            yield Place(one, client, port)
    finally:
        await one.close()
        await one.power.close()
