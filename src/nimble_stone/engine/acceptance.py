"""Making the proofs: asking hosts and nodes what is, and judging it against the plan."""

from __future__ import annotations

import asyncio
import math
from collections.abc import Collection, Iterable
from dataclasses import asdict, dataclass, replace

from nimble_stone.core import acceptance, names, reply
from nimble_stone.core.acceptance import (
    Answer,
    Expected,
    Verdict,
    cluster,
    disks,
    hardware,
    identity,
)
from nimble_stone.core.acceptance.asked import PREFIX
from nimble_stone.core.errors import StoneError
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.plan.carried import named
from nimble_stone.core.plan.cells import MADE_HERE
from nimble_stone.core.plan.sheet import Node, macs_of, reached
from nimble_stone.engine import asking, certificates
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.peers import At
from nimble_stone.engine.speaking import Speaker
from nimble_stone.hosts.api import HostDriver, Vm, VmState, VolumeName
from nimble_stone.hosts.node import NodeAccess, NodeDoor
from nimble_stone.ports.ports import Ports
from nimble_stone.reach.calls import Ask, Place
from nimble_stone.store import media, records, runs

ASKS_NODE = "hostname; date +%s.%N; ip -o addr show scope global | awk '{print $4}'"
"""What a node without an interface of its own is asked: name, time, addresses."""
SIDE_BY_SIDE = 16
MOST = 120
"""Characters of what a node says of itself that are compared."""


Answers = dict[str, Answer]
"""Kind of check → what was found."""
HOST_SIDE = (
    "running",
    "autostart",
    "hardware",
    "host",
    "networks",
    "mac",
    "fence",
    "boot",
    "disks",
)
NODE_SAYS = ("name", "address", "address6", "version", "role")


def _unknown(kinds: Iterable[str], error: StoneError, how: str) -> Answers:
    return {kind: Answer(None, how, unknown=str(error)) for kind in kinds}


async def prove(ports: Ports, run: FrozenRun, only: Collection[str] | None = None) -> list[Verdict]:
    """A verdict for every expectation, or for `only` some checks, by their ids. Nothing is changed
    anywhere. Nodes are asked side by side, at most 16 at once; one that answers some of its checks
    and falls silent for others is asked those again, once, and so is the host of a node that
    answers.
    """
    run = run if only is None else _narrow(run, only)
    seen = await _ask_nodes(ports, run, run.sheet.nodes)
    cluster = await _ask_cluster(ports, run)
    items = acceptance.expectations(run.sheet)

    def judged() -> list[Verdict]:
        return [
            acceptance.judge(item, _found(seen[item.node] if item.node else cluster, item))
            for item in items
        ]

    verdicts = judged()
    silent = acceptance.fell_silent(items, verdicts, HOST_SIDE)
    if not silent:
        return verdicts
    again = _narrow(run, {check for checks in silent.values() for check in checks})
    nodes = [node for node in run.sheet.nodes if node.id in silent]
    for ident, answers in (await _ask_nodes(ports, again, nodes)).items():
        seen[ident] |= answers
    fresh = {(one.node, one.proof): one for one in judged()}
    return [
        fresh[one.node, one.proof] if one.proof in silent.get(one.node, ()) else one
        for one in verdicts
    ]


async def _ask_nodes(ports: Ports, run: FrozenRun, nodes: Iterable[Node]) -> dict[str, Answers]:
    """Node → what was found there."""
    gate = asyncio.Semaphore(SIDE_BY_SIDE)

    async def ask(node: Node) -> tuple[str, Answers]:
        async with gate:
            return node.id, await _ask(ports, run, node)

    return dict(await asyncio.gather(*(ask(node) for node in nodes)))


def _narrow(run: FrozenRun, only: Collection[str]) -> FrozenRun:
    """The run with no other checks than these."""
    kit = run.sheet.kit
    chosen = tuple(one for one in kit.acceptance if one.id in only)
    narrow = kit.model_copy(update={"acceptance": chosen})
    return replace(run, sheet=replace(run.sheet, kit=narrow))


def _found(answers: Answers, item: Expected) -> Answer:
    """What was found for a check: a kit's own by its id, others by their kind."""
    return answers.get(PREFIX + item.proof) or answers.get(item.kind, acceptance.NOT_ASKED)


async def keep(ports: Ports, run_id: str, verdicts: list[Verdict]) -> None:
    """Keep the round."""
    await ports.store.write(
        runs.add_proofs, run_id, ports.clock(), [asdict(verdict) for verdict in verdicts]
    )


async def _door(ports: Ports, run: FrozenRun, node: Node) -> NodeDoor:
    kit = run.sheet.kit
    password = await ports.open_for_plan(run.sheet.plan.name, node.value(kit.admin_password))
    return NodeDoor(
        ports.reach,
        NodeAccess(node.name, reached(kit, node), kit.service.port, kit.admin, password),
    )


async def _ask(ports: Ports, run: FrozenRun, node: Node) -> Answers:
    """What the kit's checks want to know of a node, and no more."""
    wanted = {one.kind for one in run.sheet.kit.acceptance}
    parts = [
        ask(ports, run, node)
        for ask, kinds in (
            (_host_side, HOST_SIDE),
            (_node_side, ("port", "clock", "roles", *NODE_SAYS)),
            (_gateway, ("gateway",)),
            (_certificates, ("certificate",)),
            (_names, ("names",)),
        )
        if wanted.intersection(kinds)
    ]
    found = await asyncio.gather(*parts, asking.ask(ports, run, node))
    return {kind: answer for part in found for kind, answer in part.items()}


async def _host_side(ports: Ports, run: FrozenRun, node: Node) -> Answers:
    if node.on_machine:
        return await _machine_side(ports, run, node)
    how = f"definition of {node.name} on {node.value('host')}"
    try:
        host = await ports.driver(await ports.host(node.value("host")))
        how = f"{host.vms.asks_definition(node.name)} on {host.name}"
        found = await host.vms.state(node.name)
        if found is None and (there := await _elsewhere(ports, run, node)):
            host, found = there.host, there.state
            how = f"{host.vms.asks_definition(node.name)} on {host.name}"
    except StoneError as error:
        return _unknown(HOST_SIDE, error, how)
    if found is None:
        return {kind: Answer(None, how, "no such VM") for kind in HOST_SIDE}
    vm, live = found.stored, found.live
    planned = macs_of(run.sheet.kit, node, hardware.interfaces(run.sheet, node))
    macs = tuple(mac for mac, wanted in zip(vm.macs, planned, strict=False) if wanted)
    has = hardware.Given(_hardware(vm), _hardware(live) if live else None)
    nets = _links(vm, live)
    power = hardware.Power(found.running, "" if found.running else found.words)
    ours = any(vm.is_of(one) for one in run.makers(node.id))
    return {
        "running": Answer(power, f"{host.vms.asks_state(node.name)} on {host.name}"),
        "autostart": Answer(found.autostart, f"whether {node.name} starts with {host.name}"),
        "hardware": Answer(has, how),
        "networks": Answer(nets, how),
        "fence": Answer(_has(node, vm), how, "it is not attached"),
        "mac": Answer(macs, how),
        "host": Answer(hardware.Place(host.name, ours), how),
        "boot": Answer(vm.boots, how),
        "disks": await _disks(run, node, host, vm),
    }


@dataclass(frozen=True)
class _There:
    """A VM on another host than its own."""

    host: HostDriver
    state: VmState


async def _elsewhere(ports: Ports, run: FrozenRun, node: Node) -> _There | None:
    """The node's VM on another host, where the latest facts say that one has it: by its mark, and
    asked there once more.
    """
    estate, makers = await ports.store.read(records.load_estate), run.makers(node.id)
    for name, facts in estate.facts.items():
        known = (one for one in facts.guests if one.name == node.name and one.mark)
        if not any(one.mark and one.mark.run in makers for one in known):
            continue
        host = await ports.driver(await ports.host(name))
        state = await host.vms.state(node.name)
        if state is not None and any(state.stored.is_of(one) for one in makers):
            return _There(host, state)
    return None


async def _disks(run: FrozenRun, node: Node, host: HostDriver, vm: Vm) -> Answer:
    """How large the volumes of a VM are, and who may read them, with what is in its drives."""
    if not any(one.kind == "disks" for one in run.sheet.kit.acceptance):
        return Answer(None, "not asked")
    how = f"the volumes of {node.name} on {host.name}"
    shared = node.fence.source if node.fence else ""
    own = [one for one in vm.sources if one and one != shared]
    names = [_name_of(source) for source in (*own, *vm.media)]
    outside = [one.volume for one in names if not one.datastore or one.datastore.startswith("/")]
    if outside:
        return Answer(None, how, f"{outside[0]} is not in a datastore")
    try:
        found = await host.storage.volumes(names)
    except StoneError as error:
        return Answer(None, how, unknown=str(error))
    capacities, modes = [], []
    for number, (name, volume) in enumerate(zip(names, found, strict=True)):
        if volume is None:
            return Answer(None, how, f"{name.datastore} has no {name.volume}")
        modes.append((name.volume, volume.mode))
        if number < len(own):
            capacities.append(volume.capacity_bytes)
    return Answer(disks.found_disks(capacities, modes), how)


def _name_of(source: str) -> VolumeName:
    datastore, _, volume = source.rpartition("/")
    return VolumeName(datastore, volume)


def _has(node: Node, vm: Vm) -> str | None:
    """The fencing volume, if the VM has it."""
    shared = node.fence
    return shared.source if shared and shared.source in vm.sources else None


def _links(stored: Vm, live: Vm | None) -> hardware.Links:
    """Networks of interfaces. While a VM runs, its hypervisor may name the bridge instead of the
    network: the MAC address tells which interface it is.
    """
    known = dict(zip(stored.macs, stored.networks, strict=False))
    if live is None:
        return hardware.Links(stored.networks, (), tuple(known.get(m, m) for m in stored.macs_down))
    now = zip(live.macs, live.networks, strict=False)
    return hardware.Links(
        stored.networks,
        tuple(known.get(mac, network) for mac, network in now),
        tuple(known.get(mac, mac) for mac in live.macs_down),
    )


def _hardware(vm: Vm) -> hardware.Hardware:
    """What a definition gives; a balloon may have taken some of the memory."""
    return hardware.Hardware(vm.vcpu, vm.given_bytes or vm.memory_bytes, vm.disks)


async def _machine_side(ports: Ports, run: FrozenRun, node: Node) -> Answers:
    """What the controller says of a node's machine, and whether the image on it is this run's."""
    name, kinds = node.value("host"), ("running", "host")
    how = f"power state of {name} by its controller"
    try:
        host = await ports.machine_driver(name)
        state = await host.metal.power_state()
        ours = await ports.store.read(media.wrote, run.made_by(node.id), name)
    except StoneError as error:
        return _unknown(kinds, error, how)
    return {
        "running": Answer(hardware.Power(state == "On", "" if state == "On" else state), how),
        "host": Answer(hardware.Place(name, ours), f"what {name} reported when it was written"),
    }


async def _node_side(ports: Ports, run: FrozenRun, node: Node) -> Answers:
    service = run.sheet.kit.service
    if service.ssh:
        return await _by_shell(ports, run, node)
    at = At(ports, run, node)
    how = f"GET {reached(run.sheet.kit, node)}:{service.port}{service.path}"
    found: Answers = {}
    try:
        door = await _door(ports, run, node)
        is_open = await door.port_open(service.port)
        found["port"] = Answer(
            identity.Port(service.port, is_open),
            f"connect {reached(run.sheet.kit, node)}:{service.port}",
        )
        before = ports.clock()
        status = await Speaker(at).send(Call(path=service.path, login=False))
        middle = (before + ports.clock()) / 2
    except StoneError as error:
        missing = [k for k in ("port", "clock", "roles", *NODE_SAYS) if k not in found]
        return found | _unknown(missing, error, how)

    def said(what: str) -> str:
        return (reply.read(status, service.says(what)) or "")[:MOST]

    for kind in NODE_SAYS:
        found[kind] = Answer(said(kind) or None, how)
    found["roles"] = Answer(tuple(sorted(named(said("roles")))), how)
    try:
        off = float(said("time") or "nan") - middle
        found["clock"] = Answer(off if math.isfinite(off) else None, how, "the node tells no time")
    except (TypeError, ValueError):
        found["clock"] = Answer(None, how, "the node tells no time")
    return found


async def _by_shell(ports: Ports, run: FrozenRun, node: Node) -> Answers:
    """A node that has no interface but SSH: its name, addresses and clock, by its own commands."""
    service, address = run.sheet.kit.service, node.value("address")
    how = f"SSH to {reached(run.sheet.kit, node)}: {ASKS_NODE}"
    try:
        door = await _door(ports, run, node)
        is_open = await door.port_open(service.port)
        before = ports.clock()
        told = await door.lines(ASKS_NODE)
        middle = (before + ports.clock()) / 2
    except StoneError as error:
        return _unknown(("port", "clock", "roles", *NODE_SAYS), error, how)
    name, clock, *addresses = (*told, "", "")
    found = {kind: Answer(None, how, "the node does not tell") for kind in (*NODE_SAYS, "roles")}
    found["name"] = Answer(name.partition(".")[0][:MOST] or None, how)
    seen = [one for one in addresses if one.startswith(f"{address}/")]
    found["address"] = Answer(seen[0] if seen else ", ".join(filter(None, addresses))[:MOST], how)
    found["port"] = Answer(
        identity.Port(service.port, is_open), f"connect {address}:{service.port}"
    )
    try:
        found["clock"] = Answer(float(clock) - middle, how)
    except ValueError:
        found["clock"] = Answer(None, how, "the node tells no time")
    return found


async def _certificates(ports: Ports, run: FrozenRun, node: Node) -> Answers:
    """Connect to where each certificate is shown and see whether it is the one, made out to the
    node.
    """
    seen, how = [], []
    for one in identity.shown(run.sheet, node):
        names = certificates.names(run.sheet, node, one)
        name = names[0] if names else node.name
        how.append(f"TLS to {node.value('address')}:{one.port} as {name}")
        try:
            # one that was brought or renewed is that very one, not just one of our authority
            exactly = node.value(f"certificate.{one.id}") != MADE_HERE
            pair = await certificates.of_node(ports, run.made_by(node.id), run.sheet, node, one)
            trust = (
                pair.certificate if exactly else (await certificates.authority(ports)).certificate
            )
            wrong = await ports.reach.trust(
                node.value("address"), one.port, trust, name, exactly=exactly
            )
        except StoneError as error:
            wrong = f"not known: {error}"
        seen.append(identity.Shown(one.label, wrong))
    return {"certificate": Answer(tuple(seen), "; ".join(how))}


async def _gateway(ports: Ports, run: FrozenRun, node: Node) -> Answers:
    gateway = node.value("gateway")
    how = f"ping {gateway} by SSH on {node.name}"
    try:
        door = await _door(ports, run, node)
        answers = await door.ping_from(gateway)
    except StoneError as error:
        return _unknown(["gateway"], error, how)
    return {"gateway": Answer(identity.Reached(gateway, answers), how)}


async def _names(ports: Ports, run: FrozenRun, node: Node) -> Answers:
    """What each of the node's own name servers tells of its name and its addresses."""
    if not node.value("domain"):
        return {}
    named, servers = names.of_node(node), identity.servers_of(node)
    how = f"{named.name} and {', '.join(named.addresses)}, asked of {', '.join(servers)}"

    async def ask(server: str) -> identity.Told:
        kinds = dict.fromkeys(names.kind_of(one) for one in named.addresses)
        told = [await ports.reach.look_up(server, named.name, kind) for kind in kinds]
        back = [
            await ports.reach.look_up(server, names.reverse(one), "PTR") for one in named.addresses
        ]
        addresses = sorted(one for found in told for one in found)
        return identity.Told(
            server,
            tuple(addresses),
            tuple(sorted({name.lower() for found in back for name in found})),
        )

    try:
        return {"names": Answer(tuple([await ask(server) for server in servers]), how)}
    except StoneError as error:
        return _unknown(["names"], error, how)


async def _ask_cluster(ports: Ports, run: FrozenRun) -> Answers:
    wanted = {one.kind for one in run.sheet.kit.acceptance}
    parts = [
        ask(ports, run)
        for ask, kinds in (
            (_members, ("members", "one-lead")),
            (_virtual, ("virtual",)),
            (_balanced, ("balanced",)),
        )
        if wanted.intersection(kinds)
    ]
    found = await asyncio.gather(*parts, asking.ask(ports, run, None))
    return {kind: answer for part in found for kind, answer in part.items()}


async def _members(ports: Ports, run: FrozenRun) -> Answers:
    first, service = run.sheet.nodes[0], run.sheet.kit.service
    how = f"GET {first.value('address')}:{service.port}{service.members}"
    try:
        answer = await Speaker(At(ports, run, first)).send(Call(path=service.members, login=False))
    except StoneError as error:
        return _unknown(("members", "one-lead"), error, how)
    names = tuple(sorted(filter(None, (reply.read(answer, service.names) or "").split(", "))))
    counted = reply.read(answer, service.leads or f"count:$.members[?@.role=='{first.role}']")
    leads = int(counted) if counted and counted.isdigit() else 0
    return {"members": Answer(names, how), "one-lead": Answer(leads, how)}


async def _balanced(ports: Ports, run: FrozenRun) -> Answers:
    """Who answers when each balanced service is asked again and again, at most three times as often
    as it has members.
    """
    seen, how, kit = [], [], run.sheet.kit
    request = Ask("GET", kit.service.path)
    for one in kit.balanced:
        wanted = {node.name for node in run.sheet.nodes if node.has_any(one.members)}
        address, met = run.sheet.nodes[0].value(f"virtual.{one.virtual}"), set[str]()
        how.append(f"GET {address}:{one.port}{kit.service.path}, again and again")
        for _ in range(3 * len(wanted)):
            try:
                answer = await ports.reach.ask(Place(address, one.port), request, limit_s=5)
                met.add((reply.read(answer, "name") or "")[:80])
            except StoneError:
                continue
            if met >= wanted:
                break
        seen.append(cluster.Balanced(one.label, tuple(sorted(met - {""}))))
    return {"balanced": Answer(tuple(seen), "; ".join(how))}


async def _virtual(ports: Ports, run: FrozenRun) -> Answers:
    """Whether each port of each virtual address is open."""
    wanted = cluster.virtual_ports(run.sheet)
    found = await asyncio.gather(*(ports.reach.port_open(one.address, one.port) for one in wanted))
    seen = tuple(replace(one, open=is_open) for one, is_open in zip(wanted, found, strict=True))
    how = ", ".join(f"connect {one.address}:{one.port}" for one in wanted)
    return {"virtual": Answer(seen, how)}
