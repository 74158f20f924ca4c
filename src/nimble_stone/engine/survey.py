"""Reading the live hosts before a run: facts of hosts side by side, and who answers on planned
addresses.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from ipaddress import ip_interface

from nimble_stone.core import changes
from nimble_stone.core.errors import StoneError
from nimble_stone.core.estate import Estate, Facts, Host, Path
from nimble_stone.core.plan.columns import network_column
from nimble_stone.core.plan.sheet import Sheet, ip
from nimble_stone.core.units import bays_text
from nimble_stone.hosts.api import HostDriver, InUse
from nimble_stone.ports.ports import Ports
from nimble_stone.store import records

SIDE_BY_SIDE = 64
READ_S = 90.0
PINGS = 16


async def read_hosts(
    ports: Ports, hosts: Sequence[Host], known: dict[str, Facts], *, limit_s: float | None = None
) -> dict[str, Facts]:
    """Fresh facts of hosts, kept. A slow or failing host does not delay the others; its last facts
    stay, with the trouble noted.
    """
    gate = asyncio.Semaphore(SIDE_BY_SIDE)
    estate = await ports.store.read(records.load_estate)

    async def one(host: Host) -> tuple[str, Facts]:
        async with gate:
            return host.name, await _read(
                ports, estate, host, known.get(host.name), limit_s or READ_S
            )

    return dict(await asyncio.gather(*(one(host) for host in hosts)))


async def _read(
    ports: Ports, estate: Estate, host: Host, before: Facts | None, limit_s: float
) -> Facts:
    """One host's facts, kept; what changed since the reading before is noted with them."""
    peers = [other.name for other in estate.bay(host.bay)]
    ports.reading[host.name] = ports.monotonic()
    try:
        async with asyncio.timeout(limit_s):
            driver = await ports.driver(host)
            facts = await driver.reading.facts(
                ports.clock(), before, names=peers[:64], clock=ports.clock
            )
            facts = facts.model_copy(update={"paths": await _paths(driver, estate, host, facts)})
    except StoneError as error:
        facts = Facts(
            host=host.name,
            read_at=ports.clock(),
            tried_at=ports.clock(),
            trouble=str(error),
            trouble_code=error.code,
        )
    except TimeoutError:
        facts = Facts(
            host=host.name,
            read_at=ports.clock(),
            tried_at=ports.clock(),
            trouble=f"it did not answer within {limit_s:g} s",
            trouble_code="remote-timeout",
        )
    finally:
        ports.reading.pop(host.name, None)
    if not facts.trouble and before is not None and before.memory_bytes:
        found = changes.of_host(before, facts)
        facts = facts.model_copy(
            update={
                "changes": found or before.changes,
                "changed_since": before.read_at if found else before.changed_since,
            }
        )
    return await ports.store.write(records.put_facts, facts)


async def _paths(driver: HostDriver, estate: Estate, host: Host, facts: Facts) -> tuple[Path, ...]:
    """Probe the way to the next host of the bay, over every network both have addresses in: a ring
    finds a narrow host with one packet each.
    """
    peer = next_of(estate, host)
    if peer is None:
        return ()
    theirs = estate.facts.get(peer.name, Facts(host=peer.name))
    ways = {(name, address, mtu) for name, address, mtu in ways_to(facts, theirs)}
    if not any(address == peer.address for _, address, _ in ways):
        own = next(
            (
                i.mtu
                for i in facts.interfaces
                if any(a.partition("/")[0] == host.address for a in i.addresses)
            ),
            1500,
        )
        ways.add(("", peer.address, own))

    async def one(network: str, address: str, mtu: int) -> Path:
        found = await driver.probes.passes(address, mtu)
        return Path(
            network=network,
            peer=peer.name,
            address=address,
            mtu=mtu,
            passes=found.passes,
            words=found.words,
        )

    return tuple(await asyncio.gather(*(one(*way) for way in sorted(ways)[:8])))


def next_of(estate: Estate, host: Host) -> Host | None:
    """The next host of the same bay and site by name, round in a ring; None when it is alone."""
    ring = [other for other in estate.bay(host.bay) if other.site == host.site]
    at = next((n for n, other in enumerate(ring) if other.name == host.name), 0)
    return ring[(at + 1) % len(ring)] if len(ring) > 1 else None


def ways_to(mine: Facts, theirs: Facts) -> list[tuple[str, str, int]]:
    """(network carried by both, the peer's address on it, our MTU on it) where both have an address
    in the same subnet.
    """
    ways = []
    for net in mine.networks:
        ours = next((i for i in mine.interfaces if i.name == net.bridge), None)
        other = next((n for n in theirs.networks if n.name == net.name), None)
        link = next(
            (i for i in theirs.interfaces if other is not None and i.name == other.bridge), None
        )
        if ours is None or link is None:
            continue
        for address in link.addresses:
            near = ip_interface(address)
            if (
                any(ip_interface(own).network == near.network for own in ours.addresses)
                and near.version == 4
            ):
                ways.append((net.name, str(near.ip), ours.mtu))
    return ways


@dataclass(frozen=True)
class Asked:
    """What was found of planned addresses. `used`: address → evidence; `unknown`: address → why
    nobody could be asked about it.
    """

    used: Mapping[str, str]
    unknown: Mapping[str, str]


async def who_answers(ports: Ports, sheet: Sheet, estate: Estate, own: set[str]) -> Asked:
    """Who has planned addresses already: asked from a host on that very network, by ARP or
    neighbour discovery and by ping, and by the product's own port from here. `own`: addresses of
    VMs that the checked run made itself.
    """
    gate = asyncio.Semaphore(PINGS)

    async def one(address: str, network: str) -> tuple[str, InUse]:
        async with gate:
            return address, await _one_address(ports, sheet, estate, address, network)

    lies_in = {
        f"virtual.{one.id}": network_column(one.network or "", "network")
        for one in sheet.kit.virtual
    }
    asked = {
        value: (
            (node or sheet.nodes[0]).value(
                lies_in.get(column, column.removesuffix("address") + "network")
            )
        )
        for node, column, value in sheet.addresses()
        if ip(value) and value not in own
    }
    found = dict(await asyncio.gather(*(one(address, net) for address, net in asked.items())))
    return Asked(
        {address: one.words for address, one in found.items() if one.used},
        {address: one.words for address, one in found.items() if one.used is None},
    )


async def _one_address(
    ports: Ports, sheet: Sheet, estate: Estate, address: str, network: str
) -> InUse:
    """What is found of one address that lies in a network."""
    port = sheet.kit.service.port
    if await ports.reach.port_open(address, port, limit_s=1.5):
        return InUse(True, f"port {port} is open")
    carriers = [
        (host, carried.bridge)
        for host in estate.hosts_in(sheet.plan.bays)
        if host.name in estate.facts and not estate.facts[host.name].trouble
        for carried in estate.facts[host.name].networks
        if carried.name == network and carried.active
    ]
    if not carriers:
        return InUse(
            None, f"no host of {bays_text(sheet.plan.bays)} carries {network or 'its network'}"
        )
    host, bridge = carriers[0]
    try:
        probes = (await ports.driver(host)).probes
        no_bridge = InUse(None, f"{network} on {host.name} has no bridge to ask on")
        found = await probes.in_use(address, bridge) if bridge else no_bridge
        if found.used is None and await probes.answers_ping(address):
            return InUse(True, f"answers a ping from {host.name}")
        return found
    except StoneError as error:
        return InUse(None, str(error))
