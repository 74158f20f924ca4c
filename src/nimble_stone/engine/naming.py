"""Name servers of networks, opened with their keys; and what they say of a plan's names before it
runs.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from nimble_stone.core import names
from nimble_stone.core.errors import Conflict, StoneError
from nimble_stone.core.estate import Estate, Network
from nimble_stone.core.names import Named
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.ports.ports import Ports
from nimble_stone.reach.names import NameDoor, NameServer
from nimble_stone.store import records


async def door(ports: Ports, network: Network) -> NameDoor:
    """The network's name server. Raises Conflict where it has none, NotFound without its key."""
    if network.name_server is None:
        raise Conflict(
            f"network {network.name} has no name server that takes records",
            code="names-no-server",
            hint="Enter server and key on the network's page.",
        )
    return ports.reach.names(
        NameServer(
            str(network.name_server),
            network.name_port,
            network.name_key,
            network.name_algorithm,
            await ports.open_secret(network.name_credential),
        )
    )


async def door_of(ports: Ports, node: Node) -> NameDoor:
    """The name server of a node's network, as the estate says now."""
    estate = await ports.store.read(records.load_estate)
    network = estate.network(node.value("network"))
    if network is None:
        raise Conflict(
            f"the estate has no network “{node.value('network')}”",
            code="names-no-server",
            hint="Add the network again, then retry.",
        )
    return await door(ports, network)


@dataclass
class Asked:
    """`servers`: name server → why it takes no records; `taken`: node → what its name is."""

    servers: dict[str, str] = field(default_factory=dict)
    taken: dict[str, str] = field(default_factory=dict)


async def ask(ports: Ports, sheet: Sheet, estate: Estate) -> Asked:
    """What the servers say of the names that a plan's rollout would create."""
    found = Asked()
    by_network: dict[str, list[Node]] = {}
    for node in sheet.nodes:
        if names.wanted(node) and node.value("domain"):
            by_network.setdefault(node.value("network"), []).append(node)
    for name, nodes in by_network.items():
        network = estate.network(name)
        if network is not None and network.name_server is not None:
            await _ask(ports, network, nodes, found)
    return found


async def _ask(ports: Ports, network: Network, nodes: Sequence[Node], found: Asked) -> None:
    try:
        server = await door(ports, network)
        await _zones(server, map(names.of_node, nodes))
        for node in nodes:
            there = await taken(server, names.of_node(node))
            if there:
                found.taken[node.id] = there
    except StoneError as error:
        found.servers[str(network.name_server)] = str(error)


async def _zones(server: NameDoor, named: Iterable[Named]) -> None:
    """Each zone is there. One name of each domain and one address of each kind is asked."""
    asked: dict[str, str] = {}
    for one in named:
        asked.setdefault(one.name.partition(".")[2], one.name)
        for address in one.addresses:
            asked.setdefault(names.kind_of(address), names.reverse(address))
    await asyncio.gather(*(server.zone_of(name) for name in asked.values()))


async def taken(server: NameDoor, named: Named) -> str:
    """Whose a name or one of its addresses is already, '' nobody's. For names without the asking
    run's own mark.
    """
    if await server.read(named.mark_name, "TXT"):
        return f"{named.name} belongs to another rollout"
    for kind in ("A", "AAAA", "CNAME"):
        there = await server.read(named.name, kind)
        if there:
            return f"{named.name} is {there[0]} already"
    for address in named.addresses:
        there = await server.read(names.reverse(address), "PTR")
        if there:
            return f"{address} is {there[0]} already"
    return ""
