"""Handing out addresses in order."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from ipaddress import IPv4Address, IPv4Network

from nimble_stone.core.estate import Pool


def free_in(pool: Pool, taken: Collection[IPv4Address]) -> Iterator[IPv4Address]:
    """Free members of the pool, in its order. Cost: O(1) a member; `taken` should be a set."""
    kept_out = pool.kept_out()
    span = range(int(pool.first), int(pool.last) + 1)
    for number in span if pool.order == "up" else reversed(span):
        address = IPv4Address(number)
        if address not in kept_out and address not in taken:
            yield address


def assign(
    nodes: list[str],
    fixed: dict[str, IPv4Address],
    pool: Pool | None,
    taken: Collection[IPv4Address],
) -> dict[str, IPv4Address]:
    """An address for each node that has none yet: first free in order, in the order of the nodes.

    Nodes that find the pool exhausted are absent from the answer. Laws: no address twice; a fixed
    one is never handed out.
    """
    if pool is None:
        return {}
    source = free_in(pool, set(taken) | set(fixed.values()))
    found: dict[str, IPv4Address] = {}
    for node in nodes:
        if node not in fixed:
            address = next(source, None)
            if address is None:
                break
            found[node] = address
    return found


def fault(address: IPv4Address, subnet: IPv4Network, gateway: IPv4Address | None) -> str:
    """Why an address cannot be a node's: 'outside', 'network', 'broadcast', 'gateway', or ''."""
    if address not in subnet:
        return "outside"
    if subnet.prefixlen < 31 and address == subnet.network_address:
        return "network"
    if subnet.prefixlen < 31 and address == subnet.broadcast_address:
        return "broadcast"
    return "gateway" if address == gateway else ""
