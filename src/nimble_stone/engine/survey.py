"""Reading the world before a run: facts of hosts side by side, and who answers on planned addresses."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

from nimble_stone.core.errors import StoneError
from nimble_stone.core.estate import Estate, Facts, Host
from nimble_stone.core.plan.sheet import Sheet, ip
from nimble_stone.engine.world import World
from nimble_stone.store import records

SIDE_BY_SIDE = 24
PINGS = 16


async def read_hosts(world: World, hosts: Sequence[Host], known: dict[str, Facts]) -> dict[str, Facts]:
    """Fresh facts of hosts, kept. A slow or failing host delays nobody; its last facts stay, with the trouble noted."""
    gate = asyncio.Semaphore(SIDE_BY_SIDE)

    async def one(host: Host) -> tuple[str, Facts]:
        async with gate:
            try:
                async with asyncio.timeout(90):
                    facts = await (await world.kvm(host)).read_facts(world.clock(), known.get(host.name))
            except StoneError as error:
                facts = Facts(host=host.name, read_at=world.clock(), trouble=str(error), trouble_code=error.code)
            except TimeoutError:
                facts = Facts(host=host.name, read_at=world.clock(), trouble="reading it took longer than 90 s", trouble_code="remote-timeout")
            return host.name, await world.store.write(records.put_facts, facts)
    return dict(await asyncio.gather(*(one(host) for host in hosts)))


async def who_answers(world: World, sheet: Sheet, estate: Estate, own: set[str]) -> dict[str, str]:
    """Address → evidence, for planned addresses that somebody answers on: asked from a host that carries the network, and by
    the product's own port from here. `own`: addresses of guests that the checked run made itself."""
    gate = asyncio.Semaphore(PINGS)
    hosts = [host for host in estate.bay(sheet.plan.bay) if host.name in estate.facts and not estate.facts[host.name].trouble]

    async def one(address: str, network: str) -> tuple[str, str]:
        async with gate:
            if await world.reach.port_open(address, sheet.kit.service.port, limit_s=1.5):
                return address, f"port {sheet.kit.service.port} is open"
            near = next((h for h in hosts if any(n.name == network and n.active for n in estate.facts[h.name].networks)), None)
            if near is not None and await (await world.kvm(near)).answers_ping(address):
                return address, f"answers a ping from {near.name}"
            return address, ""
    asked = {node.value("address"): node.value("network") for node in sheet.nodes if ip(node.value("address")) and node.value("address") not in own}
    found = await asyncio.gather(*(one(address, network) for address, network in asked.items()), return_exceptions=True)
    for item in found:
        if isinstance(item, BaseException) and not isinstance(item, StoneError):
            raise item
    return {item[0]: item[1] for item in found if not isinstance(item, BaseException) and item[1]}
