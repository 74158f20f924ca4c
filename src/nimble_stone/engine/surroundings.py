"""What a plan's nodes will need around them, asked from the hosts that will carry them: places
beyond the plan, gateways, time servers, and what their names are there already.
"""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from nimble_stone.core.checks.live import places
from nimble_stone.core.checks.situation import SystemTrouble
from nimble_stone.core.errors import StoneError
from nimble_stone.core.estate import Estate, Host
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.engine import naming
from nimble_stone.hosts.api import HostDriver
from nimble_stone.ports.ports import Ports

MOST_HOSTS = 16
"""Hosts that are asked; of a larger plan the first ones."""


@dataclass(frozen=True)
class Surroundings:
    """What is wrong, each with the hosts that it was tried from. `unreached`: “host:port” → why;
    `gateways`, `clocks`: address or name → why; `names`: node → what its name is already.
    """

    unreached: Mapping[str, str] = field(default_factory=dict)
    gateways: Mapping[str, str] = field(default_factory=dict)
    clocks: Mapping[str, str] = field(default_factory=dict)
    names: Mapping[str, str] = field(default_factory=dict)
    asked: naming.Asked = field(default_factory=naming.Asked)
    systems: Mapping[str, SystemTrouble] = field(default_factory=dict)
    """System outside the plan → why it cannot be used."""


async def look(ports: Ports, sheet: Sheet, estate: Estate) -> Surroundings:
    """Ask from each host that will carry nodes; where none is chosen, from one of the bay that has
    the nodes' network.
    """
    found = await asyncio.gather(
        *(_from(ports, sheet, estate, host, nodes) for host, nodes in _carriers(sheet, estate))
    )
    return Surroundings(
        _merged(one.unreached for one in found),
        _merged(one.gateways for one in found),
        _merged(one.clocks for one in found),
        {node: why for one in found for node, why in one.names.items()},
        await naming.ask(ports, sheet, estate),
    )


def _carriers(sheet: Sheet, estate: Estate) -> list[tuple[Host, Sequence[Node]]]:
    able = {
        host.name: host
        for host in estate.hosts_in(sheet.plan.bays)
        if host.name in estate.facts and not estate.facts[host.name].trouble
    }
    found = [(able[name], nodes) for name, nodes in sheet.by_host.items() if name in able]
    if found or not able:
        return found[:MOST_HOSTS]
    network = sheet.nodes[0].value("network") if sheet.nodes else ""
    near = next(
        (
            host
            for name, host in able.items()
            if any(net.name == network and net.active for net in estate.facts[name].networks)
        ),
        next(iter(able.values())),
    )
    return [(near, sheet.nodes)]


def _merged(found: Iterable[Mapping[str, str]]) -> dict[str, str]:
    """Subject → why; the same reason of several hosts is said once, with their names."""
    reasons: dict[str, dict[str, list[str]]] = defaultdict(lambda: defaultdict(list))
    for one in found:
        for subject, text in one.items():
            why, _, host = text.rpartition("\n")
            reasons[subject][why].append(host)
    return {
        subject: "; ".join(
            f"{why} (tried from {', '.join(sorted(hosts)[:3])}"
            + (f" and {len(hosts) - 3} more)" if len(hosts) > 3 else ")")
            for why, hosts in whys.items()
        )
        for subject, whys in reasons.items()
    }


async def _from(
    ports: Ports, sheet: Sheet, estate: Estate, host: Host, nodes: Sequence[Node]
) -> Surroundings:
    try:
        driver = await ports.driver(host)
    except StoneError:
        # that it cannot be logged in to is told elsewhere
        return Surroundings()
    places_there, gateways, clocks, names = await asyncio.gather(
        _places(driver, sheet),
        _gateways(driver, estate, host, nodes),
        _clocks(driver, nodes),
        _names(driver, nodes),
    )

    def told(found: Mapping[str, str]) -> dict[str, str]:
        return {subject: f"{why}\n{host.name}" for subject, why in found.items() if why}

    return Surroundings(told(places_there), told(gateways), told(clocks), names)


async def _places(driver: HostDriver, sheet: Sheet) -> dict[str, str]:
    async def one(name: str, port: int) -> tuple[str, str]:
        try:
            return f"{name}:{port}", await driver.probes.reaches(name, port)
        except StoneError as error:
            return f"{name}:{port}", str(error)

    return dict(await asyncio.gather(*(one(name, port) for _, name, port, _ in places(sheet))))


async def _gateways(
    driver: HostDriver, estate: Estate, host: Host, nodes: Sequence[Node]
) -> dict[str, str]:
    bridges = {net.name: net.bridge for net in estate.facts[host.name].networks if net.active}
    found: dict[str, str] = {}
    for gateway, network in {(one.value("gateway"), one.value("network")) for one in nodes}:
        bridge = bridges.get(network)
        if not gateway or not bridge:
            continue
        try:
            seen = await driver.probes.in_use(gateway, bridge)
            silent = seen.used is False and not await driver.probes.answers_ping(gateway)
        except StoneError:
            # the host's own silence is told elsewhere
            continue
        found[gateway] = f"it does not answer on {bridge}" if silent else ""
    return found


async def _clocks(driver: HostDriver, nodes: Sequence[Node]) -> dict[str, str]:
    servers = {name for one in nodes for name in one.value("ntp").replace(",", " ").split()}
    found: dict[str, str] = {}
    for server in sorted(servers)[:8]:
        try:
            tells = await driver.probes.tells_time(server)
        except StoneError:
            continue
        found[server] = "" if tells else "it tells no time"
    return found


async def _names(driver: HostDriver, nodes: Sequence[Node]) -> dict[str, str]:
    """What a node's name or address is to its host already, where that is something else."""
    wanted = {
        node.id: (f"{node.name}.{node.value('domain')}", node.value("address"))
        for node in nodes
        if node.value("domain") and node.value("address")
    }
    found: dict[str, str] = {}
    try:
        known = await driver.probes.addresses_of([name for name, _ in wanted.values()])
        for ident, (name, address) in wanted.items():
            there = known.get(name, "")
            back = await driver.probes.name_of(address)
            if there and there != address:
                found[ident] = f"{name} is {there} for {driver.name}; the plan says {address}"
            elif back and back.partition(".")[0].lower() != name.partition(".")[0].lower():
                found[ident] = f"{address} is {back} for {driver.name}; the plan says {name}"
    except StoneError:
        return {}
    return found
