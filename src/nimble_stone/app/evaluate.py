"""Evaluating a plan: everything its page shows, computed from the plan's text and the facts."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from nimble_stone.app.application import Application
from nimble_stone.app.choices import fitting_packages, kit_of, packages_of
from nimble_stone.app.claims import (
    claims_of_others,
    coming,
    held_by_plans,
    own_drives,
    own_runs,
    without_own,
    without_vms,
)
from nimble_stone.app.deployments import standing, under_way
from nimble_stone.app.estate import numbered_estate
from nimble_stone.app.licences import licence_sha256, licences_recorded
from nimble_stone.app.plan_secrets import pair_verdicts, secret_verdicts, withheld_secrets
from nimble_stone.app.rates import measured_rates
from nimble_stone.app.resolved import Before, Course, Resolved
from nimble_stone.app.texts import parse_plan, shared_of
from nimble_stone.core import checks, drive_choice, sequence
from nimble_stone.core.change_sequence import of_change
from nimble_stone.core.checks import Situation
from nimble_stone.core.deployment import BuiltNode, Changes, Wanted, as_built, changes
from nimble_stone.core.drift import SIZES
from nimble_stone.core.estate import Estate
from nimble_stone.core.kit import expression
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.columns import SYSTEM_DRIVE
from nimble_stone.core.plan.include import gather
from nimble_stone.core.plan.model import Plan, Scalar, SharedValues
from nimble_stone.core.plan.sheet import Sheet, count_of, ip, resolve
from nimble_stone.engine.surroundings import Surroundings
from nimble_stone.store import drift as kept_drift


async def evaluate(
    app: Application,
    kits: Mapping[str, Kit],
    text: str,
    *,
    answering: Mapping[str, str] | None = None,
    unasked: Mapping[str, str] | None = None,
    around: Surroundings | None = None,
    before: Before | None = None,
    instead: SharedValues | None = None,
    wanted: Wanted = Wanted(),
) -> Resolved:
    """Resolve, check and sequence a plan against the last facts. `before`: plans that are not kept
    yet but come first; `instead`: shared values as they
    might become; `wanted`: what a person wants of nodes that stand. Raises FormatError, Faults,
    InputError.
    """
    plan = await parse_plan(text)
    if wanted.lost:
        plan = _without(plan, wanted.lost)
    kit = kit_of(plan, kits)
    made_from = await packages_of(app, plan, kit)
    own = await own_runs(app, plan.name)
    stands = await standing(app, plan.name) if own else {}
    stored = await numbered_estate(app)
    leaving = [] if wanted.alone else _leaving(plan, kit, stored.estate, stands)
    estate = without_own(
        stored.estate,
        own,
        await own_drives(app, own[0] if own else ""),
        keep={one.node.name for one in leaving},
    )
    estate = without_vms(estate, _own_vms(stands, wanted, {one.node.name for one in leaving}))
    claims = (*await claims_of_others(app, plan.name), *(before.claims if before else ()))
    # What merely answers is not withheld by the pools: the finding says so, and the person sees it
    # happen.
    taken = {address for claim in claims for text in claim.addresses if (address := ip(text))}
    # who is to be removed is there until the others are
    taken |= {address for one in leaving for text in one.values.values() if (address := ip(text))}
    shared: Mapping[str, Scalar] = {}
    if plan.include:
        instead_of = {instead.name: instead} if instead else {}
        shared = gather(plan.include, await shared_of(app) | instead_of)
    held = await held_by_plans(app)
    members = {text for claim in claims for text in claim.addresses}
    sheet = resolve(
        plan,
        kit,
        made_from,
        estate,
        taken,
        members=members,
        shared=shared,
        others=coming(claims, estate),
        held=held.slots.get(plan.name, {}),
        prefer=held.hosts.get(plan.name, {}),
        built={ident: one.values for ident, one in stands.items()},
        lost=wanted.lost,
    )
    # while a run goes on, what stands is known only when it has ended
    settled = (stands or wanted.adopts) and not await under_way(app, plan.name)
    if wanted.repairs:
        drift = await app.store.read(kept_drift.of_plan, plan.name)
        wanted = replace(wanted, sized=tuple(one.node for one in drift if one.check in SIZES))
    changed = changes(sheet, stands, wanted) if settled else None
    if changed is not None and changed.alone:
        nodes = as_built(sheet, changed)
        sheet = replace(sheet, nodes=nodes, unplaced={}, exhausted=(), short={})
    licence = licence_sha256(package.descriptor for package in sheet.used)
    situation = Situation(
        sheet,
        estate,
        claims,
        answering or {},
        await secret_verdicts(app, sheet),
        await pair_verdicts(app, sheet),
        around.unreached if around else {},
        licence,
        await fitting_packages(app, kit),
        frozenset(own),
        changed,
        licence_recorded=bool(licence) and await licences_recorded(app, sheet.used),
        on_built=_on_built(stored.estate, own),
        withheld=await withheld_secrets(app, sheet, stored.estate),
        unasked=unasked or {},
        gateways=around.gateways if around else {},
        clocks=around.clocks if around else {},
        misnamed=around.names if around else {},
        name_servers=around.asked.servers if around else {},
        names_taken=around.asked.taken if around else {},
        systems=around.systems if around else {},
        no_network_boot=app.media.network_trouble() if app.media else "",
        now=app.clock(),
    )
    findings = checks.check(situation)
    course = _timed(app, sheet, estate, stored.number, await measured_rates(app))
    if changed is not None and changed.any:
        course = _of_change(app, sheet, estate, changed, course)
    return Resolved(
        sheet,
        estate,
        findings,
        course.steps,
        course.forecast,
        course.waves,
        claims,
        situation.licence_sha256,
        situation.fitting,
        stored.number,
        changed,
    )


def _on_built(estate: Estate, own: Collection[str]) -> dict[str, tuple[str, ...]]:
    """Hosts that the plan's own runs added to the estate, each with the VMs on it."""
    built = [host.name for host in estate.hosts if host.origin and host.origin.run in own]
    return {
        name: tuple(vm.name for vm in estate.facts[name].guests)
        for name in built
        if name in estate.facts
    }


def _own_vms(
    stands: Mapping[str, BuiltNode], wanted: Wanted, keep: Collection[str]
) -> set[tuple[str, str]]:
    """Host and name of VMs that are to be nodes, and of nodes that stand: what was read of a host
    may be older than their marks. `keep`: names of those that are to be removed.
    """
    there = {(one.node.value("host"), one.node.name) for one in stands.values()}
    adopted = {(one.host, one.name) for one in wanted.adopts.values()}
    return {one for one in there | adopted if one[1] not in keep}


def _without(plan: Plan, lost: Sequence[str]) -> Plan:
    """The plan, for once excluding hosts and machines that are lost."""
    avoid = tuple(dict.fromkeys((*plan.placement.avoid, *lost)))
    placement = plan.placement.model_copy(update={"avoid": avoid})
    return plan.model_copy(update={"placement": placement})


def _leaving(
    plan: Plan, kit: Kit, estate: Estate, stands: Mapping[str, BuiltNode]
) -> list[BuiltNode]:
    """Nodes that stand and that the plan no longer has."""
    if not stands:
        return []
    planned = {
        f"{role.id}-{number}"
        for role in kit.roles
        for number in range(1, count_of(plan, role, estate) + 1)
    }
    return [one for ident, one in stands.items() if ident not in planned]


def _of_change(
    app: Application, sheet: Sheet, estate: Estate, changed: Changes, whole: Course
) -> Course:
    """The course of a change: a part of the one that would build all."""
    drives = drive_choice.sizes(
        facts
        for ident in changed.remade
        if (facts := estate.machine_facts.get(sheet.by_id[ident].value("host")))
    )
    steps = of_change(sheet, changed, whole.steps, pace=app.pace, drives=drives)
    forecast = sequence.forecast(steps, app.limiter.limits)
    return Course(steps, forecast, sequence.waves(steps, forecast))


def _timed(
    app: Application, sheet: Sheet, estate: Estate, number: int, rates: Mapping[str, float]
) -> Course:
    """Steps, forecast and waves; remembered, for most edits of a plan leave its course alone."""
    reads = sorted(
        {
            name
            for step in sheet.kit.forming
            if step.when
            for name in expression.parse(step.when).names
        }
    )
    key = (
        sheet.kit.digest,
        *(package.sha256 for package in sheet.used),
        app.pace,
        number,
        tuple(rates.items()),
        app.limiter.limits,
        tuple(
            (
                node.id,
                node.value("host"),
                node.value("datastore"),
                node.extra_places,
                node.thin_bytes,
                node.full_bytes,
                node.value("provisioning"),
                node.value(SYSTEM_DRIVE),
                *(node.value(name) for name in reads),
            )
            for node in sheet.nodes
        ),
    )
    kept = app.caches.courses.get(key)
    if kept is not None:
        return kept
    steps = sequence.paced(sequence.build(sheet, estate, pace=app.pace), rates)
    forecast = sequence.forecast(steps, app.limiter.limits)
    return app.caches.courses.put(key, Course(steps, forecast, sequence.waves(steps, forecast)))
