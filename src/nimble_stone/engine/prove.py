"""Making the proofs: asking hosts and nodes what is, and judging it against the plan."""

from __future__ import annotations

import asyncio
from dataclasses import asdict
from typing import Any

from nimble_stone.core import acceptance
from nimble_stone.core.acceptance import Expected, Verdict
from nimble_stone.core.errors import StoneError
from nimble_stone.core.plan.cells import MADE_HERE
from nimble_stone.core.plan.sheet import Node, macs_of
from nimble_stone.engine import certificates
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.world import World
from nimble_stone.hosts.node import NodeAccess, NodeDoor
from nimble_stone.store import runs

SIDE_BY_SIDE = 16
# characters of an answer that are compared: a thousand member names and more
MOST = 100_000


class _Seen:
    """What was found out about one node; a question that failed answers with its reason."""

    def __init__(self) -> None:
        self.found: dict[str, tuple[str, str]] = {}

    def put(self, kind: str, found: str, how: str) -> None:
        self.found[kind] = (found, how)


async def prove(world: World, run: FrozenRun) -> list[Verdict]:
    """A verdict for every expectation. Nothing is changed anywhere. Nodes are asked side by side,
    at most 16 at once.
    """
    gate = asyncio.Semaphore(SIDE_BY_SIDE)

    async def ask(node: Node) -> tuple[str, _Seen]:
        async with gate:
            return node.id, await _ask(world, run, node)

    seen = dict(await asyncio.gather(*(ask(node) for node in run.sheet.nodes)))
    cluster = await _ask_cluster(world, run)
    return [
        _verdict(item, (seen[item.node] if item.node else cluster).found)
        for item in acceptance.expectations(run.sheet)
    ]


async def keep(world: World, run_id: str, verdicts: list[Verdict]) -> None:
    """Keep the round."""
    await world.store.write(
        runs.add_proofs, run_id, world.clock(), [asdict(verdict) for verdict in verdicts]
    )


def _verdict(item: Expected, found: dict[str, tuple[str, str]]) -> Verdict:
    text, how = found.get(item.kind, ("", "not asked"))
    return acceptance.judge(item, text[:MOST], how)


async def _door(world: World, run: FrozenRun, node: Node) -> NodeDoor:
    kit = run.sheet.kit
    password = await world.open_for_plan(run.sheet.plan.name, node.value(kit.admin_password))
    return NodeDoor(
        world.reach,
        NodeAccess(node.name, node.value("address"), kit.service.port, kit.admin, password),
    )


async def _ask(world: World, run: FrozenRun, node: Node) -> _Seen:
    seen = _Seen()
    await asyncio.gather(
        _host_side(world, run, node, seen),
        _node_side(world, run, node, seen),
        _gateway(world, run, node, seen),
        _certificates(world, run, node, seen),
    )
    return seen


async def _host_side(world: World, run: FrozenRun, node: Node, seen: _Seen) -> None:
    how = f"virsh dumpxml {node.name} on {node.value('host')}"
    try:
        host = await world.kvm(await world.host(node.value("host")))
        domain = await host.domain(node.name)
        if domain is None:
            for kind in ("running", "hardware", "host", "networks", "mac"):
                seen.put(kind, "no such guest", how)
            return
        running = await host.running(node.name)
        seen.put("running", "running" if running else "stopped", f"virsh domstate {node.name}")
        seen.put(
            "hardware",
            acceptance.hardware_text(domain.vcpu, domain.memory_bytes, domain.disks),
            how,
        )
        seen.put("networks", ", ".join(domain.networks), how)
        planned = macs_of(run.sheet.kit, node, acceptance.interfaces(run.sheet, node))
        seen.put(
            "mac",
            ", ".join(mac for mac, wanted in zip(domain.macs, planned, strict=False) if wanted),
            how,
        )
        ours = domain.mark is not None and domain.mark.run == run.id
        seen.put("host", host.name if ours else f"{host.name}, but without our mark", how)
    except StoneError as error:
        for kind in ("running", "hardware", "host", "networks", "mac"):
            seen.put(kind, f"not known: {error}", how)


async def _node_side(world: World, run: FrozenRun, node: Node, seen: _Seen) -> None:
    kit = run.sheet.kit
    how = f"GET {node.value('address')}:{kit.service.port}{kit.service.path}"
    try:
        door = await _door(world, run, node)
        seen.put(
            "port",
            f"{kit.service.port} {'open' if await door.port_open(kit.service.port) else 'closed'}",
            f"connect {node.value('address')}:{kit.service.port}",
        )
        before = world.clock()
        status = await door.call("GET", kit.service.path, login=False)
        middle = (before + world.clock()) / 2
    except StoneError as error:
        for kind in ("name", "address", "address6", "clock", "version", "role"):
            seen.put(kind, f"not known: {error}", how)
        return
    for kind in ("name", "address", "address6", "version", "role"):
        seen.put(kind, str(status.get(kind, ""))[:120], how)
    try:
        seen.put("clock", f"{float(status.get('time', 'nan')) - middle:+.1f} s", how)
    except (TypeError, ValueError):
        seen.put("clock", "the node tells no time", how)


async def _certificates(world: World, run: FrozenRun, node: Node, seen: _Seen) -> None:
    """Connect to where each certificate is shown and see whether it is the one, made out to the
    node.
    """
    said, how = [], []
    for one in acceptance.shown(run.sheet, node):
        names = certificates.names(run.sheet, node, one)
        how.append(
            f"TLS to {node.value('address')}:{one.port} as {names[0] if names else node.name}"
        )
        try:
            brought = node.value(f"certificate.{one.id}") != MADE_HERE
            pair = await certificates.of_node(world, run.id, run.sheet, node, one)
            trust = (
                pair.certificate if brought else (await certificates.authority(world)).certificate
            )
            wrong = await world.reach.trust(
                node.value("address"),
                one.port,
                trust,
                names[0] if names else node.name,
                exactly=brought,
            )
            said.append(f"{one.label} {wrong or 'trusted'}")
        except StoneError as error:
            said.append(f"{one.label} not known: {error}")
    seen.put("certificate", ", ".join(said), "; ".join(how))


async def _gateway(world: World, run: FrozenRun, node: Node, seen: _Seen) -> None:
    gateway = node.value("gateway")
    how = f"ping {gateway} by SSH on {node.name}"
    try:
        door = await _door(world, run, node)
        seen.put(
            "gateway",
            f"{gateway} answers" if await door.ping_from(gateway) else f"{gateway} does not answer",
            how,
        )
    except StoneError as error:
        seen.put("gateway", f"not known: {error}", how)


async def _ask_cluster(world: World, run: FrozenRun) -> _Seen:
    seen, first = _Seen(), run.sheet.nodes[0]
    path = run.sheet.kit.service.members
    how = f"GET {first.value('address')}:{run.sheet.kit.service.port}{path}"
    try:
        answer: dict[str, Any] = await (await _door(world, run, first)).call(
            "GET", path, login=False
        )
        members = [item for item in answer.get("members", []) if isinstance(item, dict)]
        seen.put(
            "members", ", ".join(sorted(str(item.get("name", ""))[:80] for item in members)), how
        )
        leads = [item for item in members if item.get("role") == run.sheet.nodes[0].role]
        seen.put("one-lead", "one lead" if len(leads) == 1 else f"{len(leads)} leads", how)
    except StoneError as error:
        for kind in ("members", "one-lead"):
            seen.put(kind, f"not known: {error}", how)
    await _ask_virtual(world, run, seen)
    await _ask_balanced(world, run, seen)
    return seen


async def _ask_balanced(world: World, run: FrozenRun, seen: _Seen) -> None:
    """Who answers when each balanced service is asked again and again, at most three times as often
    as it has members.
    """
    said, how, kit = [], [], run.sheet.kit
    for one in kit.balanced:
        wanted = {node.name for node in run.sheet.nodes if node.role in one.members}
        address, met = run.sheet.nodes[0].value(f"virtual.{one.virtual}"), set[str]()
        how.append(f"GET {address}:{one.port}{kit.service.path}, again and again")
        for _ in range(3 * len(wanted)):
            try:
                answer = await world.reach.http(
                    "GET", address, one.port, kit.service.path, limit_s=5
                )
                met.add(str(answer.json().get("name", ""))[:80])
            except StoneError:
                continue
            if met >= wanted:
                break
        said.append(f"{one.label}: {', '.join(sorted(met - {''}))}")
    seen.put("balanced", "; ".join(said), "; ".join(how))


async def _ask_virtual(world: World, run: FrozenRun, seen: _Seen) -> None:
    """Whether each port of each virtual address is open."""
    wanted = acceptance.virtual_ports(run.sheet)
    found = await asyncio.gather(
        *(world.reach.port_open(address, port) for address, port in wanted)
    )
    seen.put(
        "virtual",
        ", ".join(
            f"{address}:{port} {'open' if is_open else 'closed'}"
            for (address, port), is_open in zip(wanted, found, strict=True)
        ),
        ", ".join(f"connect {address}:{port}" for address, port in wanted),
    )
