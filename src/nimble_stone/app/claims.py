"""What plans and runs hold of the estate, so that no other plan is given the same."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing
from nimble_stone.app.resolved import Resolved
from nimble_stone.core import drive_choice
from nimble_stone.core.checks import Claim
from nimble_stone.core.errors import FormatError, NotFound
from nimble_stone.core.estate import Estate, Facts, MachineFacts
from nimble_stone.core.plan.assignment import Others
from nimble_stone.core.plan.columns import SYSTEM_DRIVE
from nimble_stone.core.runs.states import ACTIVE
from nimble_stone.engine.frozen import thawed
from nimble_stone.store import designs, runs
from nimble_stone.store.designs import ClaimRow, Holding, MemberRow


async def claims_of_others(app: Application, plan_name: str) -> tuple[Claim, ...]:
    """What runs of other plans hold, and what other plans without a run mean to build. A run that
    rolled back holds nothing, nor does a draft.
    """
    found: list[Claim] = []
    newest = await _newest(app)
    for plan, row in newest.items():
        if plan != plan_name:
            found += await _held_by(app, row)
    built = {*newest, plan_name}
    for plan, claims in (await held_by_plans(app)).claims.items():
        if plan not in built:
            found += claims
    return tuple(found)


async def _newest(app: Application) -> Mapping[str, runs.StandingRow]:
    """Plan → its newest run that stands: it knows all nodes of the deployment."""
    newest: dict[str, runs.StandingRow] = {}
    for row in await app.store.read(runs.standing):
        newest.setdefault(row.plan, row)
    return newest


async def _held_by(app: Application, row: runs.StandingRow) -> tuple[Claim, ...]:
    """What a deployment holds: without nodes that were taken away since."""
    claims = await claims_of_run(app, row)
    if not await app.store.read(runs.retired, row.plan):
        return claims
    there = {one.node.name for one in (await standing(app, row.plan)).values()}
    made = await app.store.read(runs.of_plan, row.plan)
    under_way = any(one.id == row.id and one.state in ACTIVE for one in made)
    return claims if under_way else tuple(one for one in claims if one.name in there)


@dataclass(frozen=True)
class Held:
    """What plans hold, by plan: claims, members that a pool gave by slot, and the host of each node
    that placement chose.
    """

    claims: Mapping[str, tuple[Claim, ...]]
    slots: Mapping[str, Mapping[str, str]]
    hosts: Mapping[str, Mapping[str, str]]


async def held_by_plans(app: Application) -> Held:
    """Read again only when some plan holds something else."""
    kept = app.caches.held.get((await app.store.read(designs.numbers))[1])
    if kept is not None:
        return kept
    number, rows, members = await app.store.read(designs.held)
    addresses: dict[tuple[str, str], list[str]] = {}
    slots: dict[str, dict[str, str]] = {}
    for member, plan, slot, drawn in members:
        addresses.setdefault((plan, slot.partition("/")[0]), []).append(member)
        # what was typed and is put back goes to the pool's next, not to itself
        if drawn:
            slots.setdefault(plan, {})[slot] = member
    claims: dict[str, list[Claim]] = {}
    hosts: dict[str, dict[str, str]] = {}
    for one in rows:
        # What belongs to the whole plan (a virtual address) is told with its first node.
        own = addresses.pop((one.plan, one.node), []) + addresses.pop((one.plan, ""), [])
        claims.setdefault(one.plan, []).append(
            Claim(
                "",
                one.plan,
                one.name,
                tuple(own),
                one.host,
                one.memory_bytes,
                one.vcpu,
                one.stores,
            )
        )
        if one.computed:
            hosts.setdefault(one.plan, {})[one.node] = one.host
    found = Held({plan: tuple(own) for plan, own in claims.items()}, slots, hosts)
    return app.caches.held.put(number, found)


async def claims_of_run(app: Application, row: runs.StandingRow) -> tuple[Claim, ...]:
    """A run never changes what it builds: read once, and kept."""
    kept = app.caches.claims.get(row.id)
    if kept is not None:
        return kept
    try:
        sheet = (await thawed(app.store, await app.store.read(runs.get_run, row.id))).sheet
    except (NotFound, FormatError):
        return ()
    held = sheet.by_node()
    found = tuple(
        Claim(
            row.id,
            row.plan,
            node.name,
            held.get(node.id, ()),
            node.value("host"),
            node.memory_bytes,
            node.vcpu,
            node.by_store,
        )
        for node in sheet.nodes
    )
    return app.caches.claims.put(row.id, found)


async def living_on(app: Application, names: Collection[str]) -> Mapping[str, Claim]:
    """Host or machine → a node of a run that lives there, for those of `names` that have one."""
    found: dict[str, Claim] = {}
    for row in (await _newest(app)).values():
        for claim in await _held_by(app, row):
            if claim.host in names:
                found.setdefault(claim.host, claim)
    return found


def coming(claims: Sequence[Claim], estate: Estate) -> Others:
    """Memory by host that other plans' nodes will take and that no running guest takes yet."""
    present = (
        {
            (name, guest.name)
            for name, facts in estate.facts.items()
            for guest in facts.guests
            if guest.running
        }
        if claims
        else set()
    )
    by_runs: dict[str, int] = {}
    by_plans: dict[str, int] = {}
    for claim in claims:
        if claim.host and (claim.host, claim.name) not in present:
            by_host = by_runs if claim.run else by_plans
            by_host[claim.host] = by_host.get(claim.host, 0) + claim.memory_bytes
    return Others(by_runs, by_plans)


async def own_drives(app: Application, run: str) -> Mapping[str, frozenset[str]]:
    """Machine → serial numbers of the drives that a run's node has there."""
    if not run:
        return {}
    sheet = (await thawed(app.store, await app.store.read(runs.get_run, run))).sheet
    return {
        node.value("host"): frozenset(
            (*drive_choice.serials(node.value(SYSTEM_DRIVE)), *node.extra_places)
        )
        for node in sheet.nodes
        if node.on_machine
    }


def without_own(
    estate: Estate,
    own_runs: Collection[str],
    drives: Mapping[str, frozenset[str]] | None = None,
    keep: Collection[str] = (),
) -> Estate:
    """The estate as if the plan's own runs had made nothing: their guests are the plan, not bedrock
    below it, their `drives` (by machine) hold nothing, and the hosts that they built hold no
    address. `keep`: names of guests that are there nevertheless, as they are to be removed.
    """
    if not own_runs:
        return estate
    machines = {
        name: _emptied(one, drives[name]) if drives and name in drives else one
        for name, one in estate.machine_facts.items()
    }
    own = {one.name for one in estate.hosts if one.origin and one.origin.run in own_runs}

    def others(facts: Facts) -> Facts:
        guests = (
            one
            for one in facts.guests
            if one.name in keep or not (one.mark and one.mark.run in own_runs)
        )
        return facts.model_copy(update={"guests": tuple(guests)})

    facts = {name: others(one) for name, one in estate.facts.items() if name not in own}
    hosts = tuple(one for one in estate.hosts if one.name not in own)
    return estate.model_copy(update={"facts": facts, "machine_facts": machines, "hosts": hosts})


def without_vms(estate: Estate, vms: Collection[tuple[str, str]]) -> Estate:
    """The estate as if some VMs, each by its host and its name, were not there: they are to become
    nodes of the plan.
    """
    if not vms:
        return estate
    facts = {
        name: one.model_copy(
            update={"guests": tuple(vm for vm in one.guests if (name, vm.name) not in vms)}
        )
        for name, one in estate.facts.items()
    }
    return estate.model_copy(update={"facts": facts})


def _emptied(facts: MachineFacts, serials: frozenset[str]) -> MachineFacts:
    if facts.inside is None:
        return facts
    disks = tuple(
        disk.model_copy(update={"holds": ()}) if disk.serial in serials else disk
        for disk in facts.inside.disks
    )
    return facts.model_copy(update={"inside": facts.inside.model_copy(update={"disks": disks})})


async def own_runs(app: Application, plan_name: str) -> tuple[str, ...]:
    """The runs of this plan that stand, the newest first: their guests are expected to be there."""
    return tuple(row.id for row in await app.store.read(runs.standing) if row.plan == plan_name)


def holding_of(resolved: Resolved) -> Holding:
    """What a plan holds, so that no other plan is given the same. A draft holds nothing."""
    sheet = resolved.sheet
    if sheet.plan.draft:
        return Holding((), ())
    claims = tuple(
        ClaimRow(
            sheet.plan.name,
            node.id,
            node.name,
            node.value("host"),
            node.cells["host"].origin == "computed",
            node.memory_bytes,
            node.vcpu,
            node.by_store,
        )
        for node in sheet.nodes
    )
    members = tuple(
        MemberRow(
            value,
            f"{node.id if node else ''}/{column}",
            (node or sheet.nodes[0]).cells[column].origin == "pool",
        )
        for node, column, value in sheet.members()
    )
    return Holding(claims, members)
