"""Everything a plan's page shows, computed from the plan's text and the facts. Used by the routers of plans and runs."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.core import checks, secrets_rule, sequence, yaml_text
from nimble_stone.core.checks import Claim, Situation
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.estate import Estate
from nimble_stone.core.findings import Finding
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package.model import Descriptor
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import PackageView, Sheet, ip, resolve
from nimble_stone.core.sequence import Forecast, Step
from nimble_stone.engine import packages, survey
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.frozen import freeze, thaw
from nimble_stone.engine.world import World
from nimble_stone.store import library, records, runs
from nimble_stone.store.records import PlanRow

FRESH_S = 300.0


@dataclass(frozen=True)
class Resolved:
    """A plan thought through."""

    sheet: Sheet
    estate: Estate
    findings: list[Finding]
    steps: list[Step]
    forecast: Forecast
    claims: tuple[Claim, ...]
    licence: str


def licence_text(descriptor: Descriptor) -> str:
    """All licence texts of a package, one after the other."""
    return "\n\n".join(text for text in descriptor.licences if text)


def licence_sha256(descriptor: Descriptor) -> str:
    """SHA-256 of the licence text, '' when there is none."""
    text = licence_text(descriptor)
    return hashlib.sha256(text.encode()).hexdigest() if text else ""


def parse_plan(text: str) -> Plan:
    """A plan file. Raises FormatError or Faults."""
    return yaml_text.read(text, Plan, "the plan")


def kit_of(plan: Plan, kits: Mapping[str, Kit]) -> Kit:
    """The plan's kit. Raises InputError."""
    if plan.kit not in kits:
        raise InputError(f"the plan asks for kit “{plan.kit}”; there are {', '.join(sorted(kits))}", code="kit-unknown", hint="Correct `kit` in the plan.")
    return kits[plan.kit]


async def package_of(world: World, plan: Plan, kit: Kit) -> PackageView | None:
    """The package the plan names, else none. Raises FormatError for one that cannot be rolled out."""
    row = await world.store.read(records.find_package, plan.package)
    return packages.view_of(row) if row else None


async def claims_of_others(world: World, plan_name: str) -> tuple[Claim, ...]:
    """What active and finished runs of other plans hold. A run that was taken back holds nothing."""
    claims = []
    for row in await world.store.read(runs.runs):
        if row.state == "undone" or row.plan == plan_name:
            continue
        package = await world.store.read(records.find_package, row.package)
        if package is None:
            continue
        found = thaw(row, packages.view_of(package)).sheet
        held = found.by_node()
        for node in found.nodes:
            claims.append(Claim(row.id, row.plan, node.name, held.get(node.id, ()), node.value("host"), node.memory_bytes, node.vcpu))
    return tuple(claims)


async def secret_verdicts(world: World, sheet: Sheet) -> dict[str, tuple[str, ...]]:
    """Reference → what the secret lacks. Secrets are opened here and go no further."""
    verdicts: dict[str, tuple[str, ...]] = {}
    for column in sheet.columns:
        if column.kind == "secret":
            for reference in {node.value(column.id) for node in sheet.nodes} - {""}:
                try:
                    verdicts[reference] = tuple(secrets_rule.violations(await world.open_secret(reference), column.rule))
                except NotFound:
                    continue
    return verdicts


async def think(world: World, kits: Mapping[str, Kit], text: str, *, answering: Mapping[str, str] | None = None) -> Resolved:
    """Resolve, check and sequence a plan against the last facts. Raises FormatError, Faults, InputError."""
    plan = parse_plan(text)
    kit = kit_of(plan, kits)
    package = await package_of(world, plan, kit)
    estate = without_own(await world.store.read(records.load_estate), await _own_run(world, plan.name))
    claims = await claims_of_others(world, plan.name)
    # What merely answers is not withheld by the pools: the finding says so, and the person sees it happen.
    taken = {address for claim in claims for text in claim.addresses if (address := ip(text))}
    own = await _own_run(world, plan.name)
    sheet = resolve(plan, kit, package, estate, taken)
    licence = licence_sha256(package.descriptor) if package else ""
    situation = Situation(sheet, estate, claims, answering or {}, await secret_verdicts(world, sheet), licence, own,
                          bool(licence and await world.store.read(library.accepted, licence)))
    findings = checks.check(situation)
    steps = sequence.build(sheet, estate, pace=world.pace)
    return Resolved(sheet, estate, findings, steps, sequence.forecast(steps), claims, situation.licence_sha256)


def without_own(estate: Estate, run: str) -> Estate:
    """The estate as if the plan's own run had made nothing: its guests are the plan, not bedrock below it."""
    if not run:
        return estate
    facts = {name: one.model_copy(update={"guests": tuple(g for g in one.guests if not (g.mark and g.mark.run == run))})
             for name, one in estate.facts.items()}
    return estate.model_copy(update={"facts": facts})


async def _own_run(world: World, plan_name: str) -> str:
    """The run of this plan that stands (its guests are expected to be there)."""
    for row in await world.store.read(runs.runs, plan_name):
        if row.state != "undone":
            return row.id
    return ""


async def check_world(world: World, kits: Mapping[str, Kit], text: str, *, all_fresh: bool = True) -> Resolved:
    """Read the hosts of the bay anew, ask who answers on the planned addresses, then think again."""
    first = await think(world, kits, text)
    hosts = first.estate.bay(first.sheet.plan.bay)
    now = world.clock()
    old = [host for host in hosts if all_fresh or host.name not in first.estate.facts or now - first.estate.facts[host.name].read_at > FRESH_S]
    await survey.read_hosts(world, old, first.estate.facts)
    again = await think(world, kits, text)
    own_run = await _own_run(world, again.sheet.plan.name)
    found = await world.store.read(records.load_estate)
    made = {guest.name for facts in found.facts.values() for guest in facts.guests if guest.mark and guest.mark.run == own_run and own_run}
    addresses = again.sheet.by_node()
    own = {address for node in again.sheet.nodes if node.name in made for address in addresses.get(node.id, ())}
    answering = await survey.who_answers(world, again.sheet, again.estate, own)
    return await think(world, kits, text, answering=answering) if answering else again


async def start_run(world: World, engine: Engine, kits: Mapping[str, Kit], row: PlanRow) -> tuple[str, Resolved]:
    """Check against the world, then start. The run's id is '' and nothing was started when blockers stand in the way.

    Raises: Conflict when a run of this plan is under way or stands already.
    """
    plan = parse_plan(row.text)
    standing = [run for run in await world.store.read(runs.runs, plan.name) if run.state != "undone"]
    if standing:
        raise Conflict(f"run {standing[0].id} of this plan {'is under way' if standing[0].state in runs.ACTIVE else 'stands already'}", code="run-exists",
                       hint="Take it back first, or make another plan.")
    found = await check_world(world, kits, row.text)
    if any(finding.severity == "blocker" for finding in found.findings) or found.sheet.package is None:
        return "", found
    ident = secrets.token_hex(4)
    document = freeze(found.sheet, found.steps, found.estate)
    run = runs.RunRow(ident, plan.name, found.sheet.package.sha256, "running", document, world.clock(), None)
    await engine.start(run, [step.key for step in found.steps])
    return ident, found

