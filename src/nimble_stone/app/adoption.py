"""Adopting VMs that others made: finding them, proposing which is which node, planning them as they
are, and marking them.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.app.editing import edit
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.plans import StartedRun, start_run
from nimble_stone.core import adoption
from nimble_stone.core.adoption import Compared, Disk, Existing
from nimble_stone.core.deployment import Wanted
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.estate import Facts, Guest
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.engine import survey
from nimble_stone.engine.engine import Engine
from nimble_stone.hosts.api import HostDriver
from nimble_stone.store import records

READ_S = 30.0
"""A host that has not told its facts by then shows what is known of it."""
MOST = 500
"""VMs that are offered at once."""
Chosen = Mapping[str, str]
"""Node id → `host/VM`."""


@dataclass(frozen=True)
class Candidate:
    """A node that is not deployed, and the VM that it would be. `vm` is None where none is chosen;
    `troubles`: why it cannot be adopted as it is.
    """

    node: Node
    vm: Existing | None
    proposed: bool
    rows: Sequence[Compared]
    troubles: Sequence[str]


@dataclass(frozen=True)
class Offer:
    """What could be adopted: nodes, and the VMs that bear no mark. `unread`: hosts that were not
    reached, with why.
    """

    candidates: Sequence[Candidate]
    vms: Sequence[Existing]
    unread: Mapping[str, str]


async def look(
    app: Application,
    kits: Mapping[str, Kit],
    plan: str,
    chosen: Chosen | None = None,
    *,
    fresh: bool = True,
) -> Offer:
    """Read the hosts of the plan's bays, unless what is known will do; nothing is changed.
    `chosen`: what a person chose, '' for no VM; what is not named is proposed. Raises NotFound,
    InputError for a VM that is not there.
    """
    row = await app.store.read(records.get_plan, plan)
    first = await evaluate(app, kits, row.text)
    hosts = first.estate.hosts_in(first.sheet.plan.bays)
    if fresh:
        await survey.read_hosts(app, list(hosts), first.estate.facts, limit_s=READ_S)
    found = await evaluate(app, kits, row.text)
    facts = [found.estate.facts[one.name] for one in hosts if one.name in found.estate.facts]
    # what a host had that is not reached now can be neither looked at nor marked
    reached = [one for one in facts if not one.trouble]
    free = [_known(one, guest) for one in reached for guest in one.guests if guest.mark is None]
    known = {one.ident: one for one in free[:MOST]}
    sheet = found.sheet
    deployed = found.changes.standing if found.changes else {}
    open_ = [node for node in sheet.nodes if node.id not in deployed]
    picked = _picked(sheet, open_, known, chosen or {})
    vms = await asyncio.gather(*(_looked_at(app, vm) for vm in picked.values()))
    read = dict(zip(picked, vms, strict=True))
    return Offer(
        [_candidate(sheet, node, read.get(node.id), chosen or {}) for node in open_],
        list(known.values()),
        {one.host: one.trouble for one in facts if one.trouble},
    )


def _known(facts: Facts, guest: Guest) -> Existing:
    """A VM as its host's facts tell it."""
    disks = tuple(adoption.disk_of(facts, source) for source in guest.disks)
    return Existing(
        facts.host,
        guest.name,
        guest.uuid,
        guest.running,
        guest.vcpu,
        guest.memory_bytes,
        disks,
        guest.networks,
        guest.macs,
    )


def _picked(
    sheet: Sheet, nodes: Sequence[Node], known: Mapping[str, Existing], chosen: Chosen
) -> dict[str, Existing]:
    for node, ident in chosen.items():
        if node not in {one.id for one in nodes}:
            raise InputError(
                f"node “{node}” is not in the plan, or is deployed already", code="adopt-unknown"
            )
        if ident and ident not in known:
            raise InputError(
                f"no unmarked VM {ident} was found on the plan's hosts",
                code="adopt-unknown",
                hint="Choose one of those that are listed.",
            )
    taken = [ident for ident in chosen.values() if ident]
    if len(set(taken)) < len(taken):
        twice = next(one for one in taken if taken.count(one) > 1)
        raise InputError(f"VM {twice} is chosen for 2 nodes", code="adopt-twice")
    rest = [one for ident, one in known.items() if ident not in taken]
    proposed = adoption.propose(sheet, rest)
    named = {node: known[ident] for node, ident in chosen.items() if ident}
    open_ = {node.id for node in nodes} - set(chosen)
    return {**{node: vm for node, vm in proposed.items() if node in open_}, **named}


def _candidate(sheet: Sheet, node: Node, vm: Existing | None, chosen: Chosen) -> Candidate:
    if vm is None:
        return Candidate(node, None, False, (), ())
    rows = adoption.compared(sheet, node, vm)
    return Candidate(node, vm, node.id not in chosen, rows, adoption.troubles(sheet, node, vm))


async def _looked_at(app: Application, vm: Existing) -> Existing:
    """The VM with what only its host tells now: the sizes of its disks, its address."""
    host = await app.driver(await app.host(vm.host))
    state = await host.vms.state(vm.name)
    if state is None:
        raise Conflict(
            f"{vm.host} has no VM {vm.name} any more", code="guest-gone", hint="Look again."
        )
    disks = [await _measured(host, disk) for disk in vm.disks]
    address = (await host.vms.addresses(vm.name))[:1] if state.running else []
    return Existing(
        vm.host,
        vm.name,
        state.stored.uuid,
        state.running,
        state.stored.vcpu,
        state.stored.memory_bytes,
        tuple(disks),
        state.stored.networks,
        state.stored.macs,
        state.autostart,
        address[0].address if address else "",
    )


async def _measured(host: HostDriver, disk: Disk) -> Disk:
    if not disk.datastore:
        return disk
    volume = await host.storage.volume(disk.datastore, disk.volume)
    if volume is None:
        # a file that the datastore has not seen yet, or that is no volume
        await host.storage.refresh(disk.datastore)
        volume = await host.storage.volume(disk.datastore, disk.volume)
    return Disk(disk.datastore, disk.volume, volume.capacity_bytes if volume else 0)


async def plan_as_found(
    app: Application, kits: Mapping[str, Kit], plan: str, chosen: Chosen
) -> Offer:
    """Plan the chosen nodes as their VMs are: a new version of the plan, which can be undone like
    any other. Nothing is changed on a host.
    """
    offer = await look(app, kits, plan, chosen)
    row = await app.store.read(records.get_plan, plan)
    sheet = (await evaluate(app, kits, row.text)).sheet
    wanted = [
        one
        for candidate in _named(offer, chosen)
        if candidate.vm is not None and (node := sheet.node(candidate.node.id))
        for one in adoption.edits(sheet, node, candidate.vm)
    ]
    if wanted:
        await edit(app, kits, plan, row.version, wanted)
    return await look(app, kits, plan, chosen, fresh=False)


def _named(offer: Offer, chosen: Chosen) -> list[Candidate]:
    return [one for one in offer.candidates if chosen.get(one.node.id)]


async def adopt(
    app: Application, engine: Engine, kits: Mapping[str, Kit], plan: str, chosen: Chosen
) -> StartedRun:
    """Plan the nodes as their VMs are, then start the run that marks them and looks whether they
    answer. Raises NotFound, InputError where none is chosen, Conflict for one that cannot be.
    """
    if not any(chosen.values()):
        raise InputError(
            "No VM is chosen.", code="adopt-none", hint="Choose a VM for at least 1 node."
        )
    offer = await plan_as_found(app, kits, plan, chosen)
    named = _named(offer, chosen)
    for one in named:
        if one.troubles:
            raise Conflict(
                f"{one.node.id}: {one.troubles[0]}",
                code="adopt-trouble",
                hint="Put it right, or choose another VM.",
            )
    vms = {one.node.id: one.vm for one in named if one.vm is not None}
    if len(vms) < len(named):
        raise NotFound("a chosen VM is gone", code="guest-gone", hint="Look again.")
    row = await app.store.read(records.get_plan, plan)
    return await start_run(app, engine, kits, row, all_fresh=False, wanted=Wanted(adopts=vms))
