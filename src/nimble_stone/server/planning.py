"""Everything a plan's page shows, computed from the plan's text and the facts. Used by the routers
of plans and runs.
"""

from __future__ import annotations

import contextlib
import hashlib
import secrets
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from nimble_stone.core import checks, grants, secrets_rule, sequence, yaml_text
from nimble_stone.core.checks import Claim, Situation
from nimble_stone.core.errors import Conflict, Denied, FormatError, InputError, NotFound, StoneError
from nimble_stone.core.estate import Estate
from nimble_stone.core.findings import Finding
from nimble_stone.core.kit import expression
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package.model import Descriptor
from nimble_stone.core.plan.include import gather
from nimble_stone.core.plan.model import Plan, SharedValues
from nimble_stone.core.plan.packages import Packages, PackageView, takes
from nimble_stone.core.plan.sheet import Sheet, ip, resolve
from nimble_stone.core.plan.whereabouts import Others
from nimble_stone.core.runs.document import write as freeze
from nimble_stone.core.runs.states import ACTIVE, RunState
from nimble_stone.core.sequence import Forecast, Step, Wave
from nimble_stone.engine import packages, survey
from nimble_stone.engine.certificates import names
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.frozen import thawed
from nimble_stone.engine.world import World
from nimble_stone.keyring import certificates
from nimble_stone.server.rates import measured_rates
from nimble_stone.server.reading import aside
from nimble_stone.store import designs, entries, library, records, runs
from nimble_stone.store.designs import ClaimRow
from nimble_stone.store.records import PlanRow

FRESH_S = 300.0
CHECK_READ_S = 30.0
"""A host that has not told its facts by then counts as silent in a check."""
COURSES = 8
"""Sequences that are remembered."""


@dataclass(frozen=True)
class Resolved:
    """A plan thought through. `estate_number`: how often the estate had changed by then."""

    sheet: Sheet
    estate: Estate
    findings: list[Finding]
    steps: list[Step]
    forecast: Forecast
    waves: list[Wave]
    claims: tuple[Claim, ...]
    licence: str
    shelf: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """Role ('' for the plan's package) → packages taken in that would do."""
    estate_number: int = 0


Course = tuple[list[Step], Forecast, list[Wave]]


@dataclass
class Before:
    """Plans that are thought through one after the other without being kept: what the earlier ones
    hold.
    """

    claims: list[Claim] = field(default_factory=list)

    def add(self, resolved: Resolved) -> None:
        """Let what this plan holds be held."""
        held = resolved.sheet.by_node()
        self.claims += [
            Claim(
                "",
                resolved.sheet.plan.name,
                node.name,
                held.get(node.id, ()),
                node.value("host"),
                node.memory_bytes,
                node.vcpu,
            )
            for node in resolved.sheet.nodes
        ]


def licence_text(descriptors: Iterable[Descriptor]) -> str:
    """All licence texts of packages, one after the other, each once."""
    return "\n\n".join(
        dict.fromkeys(text for descriptor in descriptors for text in descriptor.licences if text)
    )


def licence_sha256(descriptors: Iterable[Descriptor]) -> str:
    """SHA-256 of the licence text, '' when there is none."""
    text = licence_text(descriptors)
    return hashlib.sha256(text.encode()).hexdigest() if text else ""


async def licences_recorded(world: World, used: Iterable[PackageView]) -> bool:
    """Whether somebody accepted the licence of every one of these packages on the package's own
    page.
    """
    texts = {licence_sha256([package.descriptor]) for package in used} - {""}
    return all([await world.store.read(library.accepted, text) for text in texts])


@lru_cache(maxsize=256)
def _plan_text(text: str) -> Plan:
    return yaml_text.read(text, Plan, "the plan")


async def parse_plan(text: str) -> Plan:
    """A plan file, read beside the event loop. Raises FormatError or Faults."""
    return await aside(_plan_text, text)


def kit_of(plan: Plan, kits: Mapping[str, Kit]) -> Kit:
    """The plan's kit. Raises InputError."""
    if plan.kit not in kits:
        raise InputError(
            f"the plan asks for kit “{plan.kit}”; there are {', '.join(sorted(kits))}",
            code="kit-unknown",
            hint="Correct `kit` in the plan.",
        )
    return kits[plan.kit]


async def packages_of(world: World, plan: Plan, kit: Kit) -> Packages:
    """The packages the plan names. Raises FormatError for one that cannot be rolled out."""

    async def find(wanted: str) -> PackageView | None:
        row = await world.store.read(records.find_package, wanted)
        return packages.view_of(row) if row else None

    named = {
        role.id: block.package if (block := plan.roles.get(role.id)) else ""
        for role in kit.roles
        if role.accepts
    }
    return Packages(
        await find(plan.package), {role: await find(wanted) for role, wanted in named.items()}
    )


@dataclass(frozen=True)
class Choice:
    """A package that would do. `why_not`: why a new plan does not take it by itself, '' when it
    does.
    """

    title: str
    channel: str
    signature: str
    why_not: str


async def choices_of(world: World, kit: Kit) -> dict[str, tuple[Choice, ...]]:
    """Role ('' for the plan's package) → packages that would do: stable before others, trusted
    before unsigned, the newest first.
    """
    known = await world.store.read(records.package_names)
    found = {}
    for role, accepts in (
        ("", kit.accepts),
        *((role.id, role.accepts) for role in kit.roles if role.accepts),
    ):
        fitting = {
            one.title: Choice(one.title, one.channel, one.signature, _why_not(one))
            for one in reversed(known)
            if takes(accepts, one.product, one.version)
        }
        newest = list(fitting.values())[::-1]
        found[role] = tuple(
            sorted(
                newest,
                key=lambda one: (
                    bool(one.why_not),
                    one.channel != STABLE,
                    one.signature != "verified",
                ),
            )
        )
    return found


STABLE = "stable"


def _why_not(package: records.PackageName) -> str:
    if package.signature == "failed":
        return "its signature is not valid"
    if package.signature == "untrusted":
        return "its publisher is not trusted"
    return f"its channel is {package.channel}" if package.channel not in ("", STABLE) else ""


async def shelf_of(world: World, kit: Kit) -> dict[str, tuple[str, ...]]:
    """Role ('' for the plan's package) → names of the packages taken in that would do, the best
    choice first.
    """
    return {
        role: tuple(one.title for one in choices)
        for role, choices in (await choices_of(world, kit)).items()
    }


async def usual_of(world: World, kit: Kit) -> dict[str, str]:
    """Role → the package that a new plan takes by itself; roles for which there is none are left
    out. What is a candidate or not
    trusted is taken on purpose only."""
    found = {}
    for role, choices in (await choices_of(world, kit)).items():
        if choices and not choices[0].why_not:
            found[role] = choices[0].title
    return found


async def claims_of_others(world: World, plan_name: str) -> tuple[Claim, ...]:
    """What runs of other plans hold, and what other plans without a run mean to build. A run that
    was taken back holds nothing, nor does a draft.
    """
    found: list[Claim] = []
    standing = [row for row in await world.store.read(runs.standing) if row.plan != plan_name]
    for row in standing:
        found += await _claims_of_run(world, row)
    built = {row.plan for row in standing} | {plan_name}
    for plan, claims in (await held_by_plans(world)).claims.items():
        if plan not in built:
            found += claims
    return tuple(found)


@dataclass(frozen=True)
class Held:
    """What plans hold, by plan: claims, members that a pool gave by slot, and the host of each node
    that placement chose.
    """

    claims: Mapping[str, tuple[Claim, ...]]
    slots: Mapping[str, Mapping[str, str]]
    hosts: Mapping[str, Mapping[str, str]]


async def held_by_plans(world: World) -> Held:
    """Read again only when some plan holds something else."""
    kept: tuple[int, Held] | None = world.remembered.get("held")
    if kept is None or kept[0] != (await world.store.read(designs.numbers))[1]:
        number, rows, members = await world.store.read(designs.held)
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
                Claim("", one.plan, one.name, tuple(own), one.host, one.memory_bytes, one.vcpu)
            )
            if one.computed:
                hosts.setdefault(one.plan, {})[one.node] = one.host
        kept = (number, Held({plan: tuple(own) for plan, own in claims.items()}, slots, hosts))
        world.remembered["held"] = kept
    return kept[1]


async def _claims_of_run(world: World, row: runs.StandingRow) -> tuple[Claim, ...]:
    """A run never changes what it builds: thought through once, remembered."""
    kept: tuple[Claim, ...] | None = world.remembered.get(f"claims {row.id}")
    if kept is None:
        try:
            sheet = (await thawed(world.store, await world.store.read(runs.get_run, row.id))).sheet
        except NotFound:
            return ()
        held = sheet.by_node()
        kept = tuple(
            Claim(
                row.id,
                row.plan,
                node.name,
                held.get(node.id, ()),
                node.value("host"),
                node.memory_bytes,
                node.vcpu,
            )
            for node in sheet.nodes
        )
        world.remembered[f"claims {row.id}"] = kept
    return kept


async def estate_of(world: World) -> Estate:
    """The estate as it is stored."""
    return (await numbered_estate(world))[1]


async def numbered_estate(world: World) -> tuple[int, Estate]:
    """The estate and the number of its changes, read again only when it was changed."""
    kept: tuple[int, Estate] | None = world.remembered.get("estate")
    if kept is None or kept[0] != await world.store.read(designs.estate_number):
        kept = await world.store.read(designs.estate_with_number)
        world.remembered["estate"] = kept
    return kept


async def shared_of(world: World) -> dict[str, SharedValues]:
    """All shared values by name. Raises Faults for a text that was valid once and is not now."""
    return {
        row.name: await parse_values(row.text)
        for row in await world.store.read(designs.shared_values)
    }


@lru_cache(maxsize=256)
def _shared_text(text: str) -> SharedValues:
    return yaml_text.read(text, SharedValues, "the shared values")


async def parse_values(text: str) -> SharedValues:
    """Shared values, read beside the event loop. Raises FormatError or Faults."""
    return await aside(_shared_text, text)


async def withheld_secrets(world: World, sheet: Sheet, estate: Estate) -> dict[str, str]:
    """Reference → whose the entry is, for entries that the sheet names and the plan may not
    open.
    """
    granted = await world.store.read(entries.granted, sheet.plan.name)
    named = {node.value(column) for column in _secret_columns(sheet) for node in sheet.nodes}
    found = {}
    for reference in named:
        name = reference.removeprefix(grants.PREFIX)
        if reference.startswith(grants.PREFIX) and not grants.may_open(
            sheet.plan.name, name, granted
        ):
            found[reference] = grants.owner_of(name, estate)
    return found


def _secret_columns(sheet: Sheet) -> list[str]:
    """Columns whose cells may name keyring entries."""
    return [
        *(column.id for column in sheet.columns if column.kind == "secret"),
        *(f"certificate.{one.id}" for one in sheet.kit.certificates),
    ]


async def secret_verdicts(world: World, sheet: Sheet) -> dict[str, tuple[str, ...]]:
    """Reference → what the secret lacks. Secrets are opened here and go no further."""
    verdicts: dict[str, tuple[str, ...]] = {}
    for column in sheet.columns:
        if column.kind == "secret":
            for reference in {node.value(column.id) for node in sheet.nodes} - {""}:
                try:
                    verdicts[reference] = tuple(
                        secrets_rule.violations(
                            await world.open_for_plan(sheet.plan.name, reference), column.rule
                        )
                    )
                except (NotFound, Denied):
                    continue
    return verdicts


async def pair_verdicts(world: World, sheet: Sheet) -> dict[str, dict[str, tuple[str, ...]]]:
    """Reference of a certificate → node id → what is wrong with it there. Pairs are opened here and
    go no further.
    """
    found: dict[str, dict[str, tuple[str, ...]]] = {}
    for wanted in sheet.kit.certificates:
        for node in sheet.nodes:
            reference = node.value(f"certificate.{wanted.id}")
            if not reference.startswith("keyring:"):
                continue
            try:
                pair = certificates.unpacked(await world.open_for_plan(sheet.plan.name, reference))
            except (NotFound, Denied, FormatError):
                continue
            found.setdefault(reference, {})[node.id] = tuple(
                certificates.faults(pair, names(sheet, node, wanted), world.clock())
            )
    return found


async def think(
    world: World,
    kits: Mapping[str, Kit],
    text: str,
    *,
    answering: Mapping[str, str] | None = None,
    unreached: Mapping[str, str] | None = None,
    before: Before | None = None,
    instead: SharedValues | None = None,
) -> Resolved:
    """Resolve, check and sequence a plan against the last facts. `before`: plans that are not kept
    yet but come first; `instead`: shared values as they
    might become. Raises FormatError, Faults, InputError.
    """
    plan = await parse_plan(text)
    kit = kit_of(plan, kits)
    made_from = await packages_of(world, plan, kit)
    own = await _own_run(world, plan.name)
    number, whole = await numbered_estate(world)
    estate = without_own(whole, own)
    claims = (*await claims_of_others(world, plan.name), *(before.claims if before else ()))
    # What merely answers is not withheld by the pools: the finding says so, and the person sees it
    # happen.
    taken = {address for claim in claims for text in claim.addresses if (address := ip(text))}
    shared = (
        gather(plan.include, await shared_of(world) | ({instead.name: instead} if instead else {}))
        if plan.include
        else {}
    )
    held = await held_by_plans(world)
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
    )
    licence = licence_sha256(package.descriptor for package in sheet.used)
    situation = Situation(
        sheet,
        estate,
        claims,
        answering or {},
        await secret_verdicts(world, sheet),
        await pair_verdicts(world, sheet),
        unreached or {},
        licence,
        await shelf_of(world, kit),
        own,
        licence_recorded=bool(licence) and await licences_recorded(world, sheet.used),
        withheld=await withheld_secrets(world, sheet, whole),
        now=world.clock(),
    )
    findings = checks.check(situation)
    course = _timed(world, sheet, estate, number, await measured_rates(world))
    return Resolved(
        sheet, estate, findings, *course, claims, situation.licence_sha256, situation.shelf, number
    )


def _timed(
    world: World, sheet: Sheet, estate: Estate, number: int, rates: Mapping[str, float]
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
        sheet.kit.id,
        *(package.sha256 for package in sheet.used),
        world.pace,
        number,
        tuple(rates.items()),
        world.limiter.limits,
        tuple(
            (
                node.id,
                node.value("host"),
                node.value("datastore"),
                node.extra_places,
                node.thin_bytes,
                node.full_bytes,
                node.value("provisioning"),
                *(node.value(name) for name in reads),
            )
            for node in sheet.nodes
        ),
    )
    kept: dict[object, Course] = world.remembered.setdefault("courses", {})
    if key not in kept:
        while len(kept) >= COURSES:
            kept.pop(next(iter(kept)))
        steps = sequence.paced(sequence.build(sheet, estate, pace=world.pace), rates)
        forecast = sequence.forecast(steps, world.limiter.limits)
        kept[key] = (steps, forecast, sequence.waves(steps, forecast))
    return kept[key]


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
    found: tuple[dict[str, int], dict[str, int]] = ({}, {})
    for claim in claims:
        if claim.host and (claim.host, claim.name) not in present:
            by_host = found[0 if claim.run else 1]
            by_host[claim.host] = by_host.get(claim.host, 0) + claim.memory_bytes
    return Others(*found)


def without_own(estate: Estate, run: str) -> Estate:
    """The estate as if the plan's own run had made nothing: its guests are the plan, not bedrock
    below it.
    """
    if not run:
        return estate
    facts = {
        name: one.model_copy(
            update={"guests": tuple(g for g in one.guests if not (g.mark and g.mark.run == run))}
        )
        for name, one in estate.facts.items()
    }
    return estate.model_copy(update={"facts": facts})


async def _own_run(world: World, plan_name: str) -> str:
    """The run of this plan that stands (its guests are expected to be there)."""
    return next(
        (row.id for row in await world.store.read(runs.standing) if row.plan == plan_name), ""
    )


Holding = tuple[list[ClaimRow], list[tuple[str, str, bool]]]


def holding_of(resolved: Resolved) -> Holding:
    """What a plan holds, so that no other plan is given the same. A draft holds nothing."""
    sheet = resolved.sheet
    if sheet.plan.draft:
        return [], []
    claims = [
        ClaimRow(
            sheet.plan.name,
            node.id,
            node.name,
            node.value("host"),
            node.cells["host"].origin == "computed",
            node.memory_bytes,
            node.vcpu,
        )
        for node in sheet.nodes
    ]
    return claims, [
        (
            value,
            f"{node.id if node else ''}/{column}",
            (node or sheet.nodes[0]).cells[column].origin == "pool",
        )
        for node, column, value in sheet.members()
    ]


async def keep(world: World, resolved: Resolved, text: str, based_on: int | None) -> PlanRow:
    """Store a plan's next version and what it holds, both or neither. Raises Conflict when somebody
    else changed it meanwhile.
    """
    name, holding = resolved.sheet.plan.name, holding_of(resolved)
    number = (await world.store.read(designs.numbers))[1]
    # most edits change nothing of what a plan holds
    same = world.remembered.get(f"holds {name}") == (number, holding)
    row = await world.store.write(
        designs.put_plan, name, text, world.clock(), based_on, None if same else holding
    )
    world.remembered[f"holds {name}"] = (number if same else number + 1, holding)
    return row


async def hold(world: World, resolved: Resolved) -> None:
    """Write down anew what a plan holds, when something it includes has changed."""
    await world.store.write(designs.hold, resolved.sheet.plan.name, *holding_of(resolved))


async def hold_missing(world: World, kits: Mapping[str, Kit]) -> None:
    """Let plans hold what they mean to build that were kept before plans held anything. A plan that
    cannot be thought through holds nothing.
    """
    known = {claim.plan for claim in await world.store.read(designs.claims)}
    for row in await world.store.read(records.plans):
        if row.id not in known:
            with contextlib.suppress(StoneError):
                await hold(world, await think(world, kits, row.text))


async def check_world(
    world: World, kits: Mapping[str, Kit], text: str, *, all_fresh: bool = True
) -> Resolved:
    """Read the hosts of the bay anew, ask who answers on the planned addresses, then think
    again.
    """
    first = await think(world, kits, text)
    hosts = first.estate.bay(first.sheet.plan.bay)
    now = world.clock()
    old = [
        host
        for host in hosts
        if all_fresh
        or host.name not in first.estate.facts
        or now - first.estate.facts[host.name].read_at > FRESH_S
    ]
    await survey.read_hosts(world, old, first.estate.facts, limit_s=CHECK_READ_S)
    again = await think(world, kits, text)
    own_run = await _own_run(world, again.sheet.plan.name)
    found = await world.store.read(records.load_estate)
    made = {
        guest.name
        for facts in found.facts.values()
        for guest in facts.guests
        if guest.mark and guest.mark.run == own_run and own_run
    }
    addresses = again.sheet.by_node()
    own = {
        address
        for node in again.sheet.nodes
        if node.name in made
        for address in addresses.get(node.id, ())
    }
    answering = await survey.who_answers(world, again.sheet, again.estate, own)
    unreached = await survey.unreached(world, again.sheet, again.estate)
    return (
        await think(world, kits, text, answering=answering, unreached=unreached)
        if answering or unreached
        else again
    )


async def start_run(
    world: World, engine: Engine, kits: Mapping[str, Kit], row: PlanRow
) -> tuple[str, Resolved]:
    """Check against the world, then start. The run's id is '' and nothing was started when blockers
    stand in the way.

    Raises: Conflict when a run of this plan is under way or stands already.
    """
    plan = await parse_plan(row.text)
    standing = [
        run for run in await world.store.read(runs.runs, plan.name) if run.state != RunState.UNDONE
    ]
    if standing:
        raise Conflict(
            f"run {standing[0].id} of this plan"
            f" {'is under way' if standing[0].state in ACTIVE else 'stands already'}",
            code="run-exists",
            hint="Take it back first, or make another plan.",
        )
    found = await check_world(world, kits, row.text)
    if (
        any(finding.severity == "blocker" for finding in found.findings)
        or found.sheet.package is None
    ):
        return "", found
    ident = secrets.token_hex(4)
    document = freeze(found.sheet, found.steps, found.estate)
    run = runs.RunRow(
        ident,
        plan.name,
        found.sheet.package.sha256,
        RunState.RUNNING,
        document,
        world.clock(),
        None,
    )
    await engine.start(run, [step.key for step in found.steps])
    return ident, found
