"""What the pages get: the shapes of answers, and building them from the core's values."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any, Literal

from pydantic import BaseModel, Field

from nimble_stone.app.licences import licence_text
from nimble_stone.app.resolved import Resolved
from nimble_stone.core import ledger, narrative, sequence
from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.drive_choice import drives_of
from nimble_stone.core.estate import (
    HOST_RESERVE,
    Carried,
    Estate,
    Facts,
    MachineFacts,
    Origin,
)
from nimble_stone.core.estate_rules.ground import ports_of
from nimble_stone.core.findings import Finding
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.ledger import LossLine, PoolLine, StoreLine
from nimble_stone.core.narrative import Sentence
from nimble_stone.core.plan import redundancy
from nimble_stone.core.plan.machines import memory_of, threads_of
from nimble_stone.core.plan.sheet import Column, Kind, Node, Sheet
from nimble_stone.core.run_words import RunWords
from nimble_stone.core.runs.states import FINISHED, UNDER_WAY, RunState, StepState
from nimble_stone.core.separation import Separation
from nimble_stone.core.step import Step
from nimble_stone.core.units import inside
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.server.change_views import ChangesView, changes_view
from nimble_stone.store.records import PlanRow
from nimble_stone.store.runs import StepRow


class LimitsView(BaseModel):
    """A rule's parts, so that a page can show which are met while a person types."""

    least: int
    most: int
    classes: int
    pattern: str


class ColumnView(BaseModel):
    id: str
    label: str
    kind: Kind
    scope: Literal["plan", "role", "node"]
    required: bool
    choices: list[str]
    rule: str
    limits: LimitsView | None = None


class CellView(BaseModel):
    value: str
    origin: str


class NodeView(BaseModel):
    id: str
    name: str
    role: str
    role_label: str
    role_index: int
    also: list[int] = Field(
        default=[], description="Roles that it carries as well: their places in the plan's roles."
    )
    short: str
    host: str
    vcpu: int
    memory_bytes: int
    thin_bytes: int
    full_bytes: int
    cells: dict[str, CellView]


class BedrockView(BaseModel):
    name: str
    memory_bytes: int
    ours: bool
    vcpu: int = 0


class StoreView(BaseModel):
    name: str
    capacity_bytes: int
    free_bytes: int
    shared: str


class PortView(BaseModel):
    """An interface that leads out of a network's bridge."""

    name: str
    link: bool
    speed_mbit: int
    vlan: int


class CarryView(BaseModel):
    """A network as a host carries it."""

    network: str
    bridge: str
    active: bool
    mtu: int
    isolated: bool
    ports: list[PortView]
    address: str


class WallDriveView(BaseModel):
    """A drive of a bare machine. `holds`: what was recognised on it, '' nothing, None when nobody
    has looked.
    """

    serial: str
    size_bytes: int
    kind: str
    holds: str | None


class HostView(BaseModel):
    name: str
    site: str
    bay: str
    rack: str = ""
    address: str
    memory_bytes: int
    limit_bytes: int
    threads: int
    bedrock: list[BedrockView]
    stores: list[StoreView]
    networks: list[str]
    hypervisor: str
    cpu_model: str
    domain_type: str
    domain_reason: str
    read_at: float
    trouble: str
    fingerprint: str = ""
    credential: str = ""
    note: str = ""
    tags: list[str] = []
    origin: Origin | None = None
    carries: list[CarryView] = []
    bare: bool = False
    drives: list[WallDriveView] = []
    """Of a bare machine."""


class StepView(BaseModel):
    key: str
    kind: str
    label: str
    node: str
    host: str
    wave: int
    after: list[str]
    waits: bool
    expected_s: float
    deadline_s: float
    start_s: float
    end_s: float
    state: StepState = StepState.PLANNED
    attempt: int = 0
    started_at: float | None = None
    ended_at: float | None = None
    message: str = ""
    undone_at: float | None = None
    undo_message: str = ""
    undo_failed: bool = False
    queued: str = ""
    hint: str = ""


class WordsView(BaseModel):
    """A run in words (core/run_words.py): in a list, among plans, in a tab's title, on a terminal's
    line.
    """

    sentence: str
    short: str
    plans: str
    tab: str
    line: str


class AttemptView(BaseModel):
    """One attempt of a step that had more than one."""

    step: str
    started_at: float
    ended_at: float | None
    outcome: str
    message: str


class RunLine(BaseModel):
    """A run in a list. `deployed`: how many of its nodes have all their steps behind them."""

    id: str
    plan: str
    state: RunState
    started_at: float
    ended_at: float | None
    undone_at: float | None
    nodes: int
    deployed: int
    words: WordsView


class KeepsView(BaseModel):
    """Sizes in bytes; `survives`: hosts that may be lost at once."""

    label: str
    raw_bytes: int
    usable_bytes: int
    safe_bytes: int
    wasted_bytes: int
    survives: int
    reason: str


class PackageChoice(BaseModel):
    title: str = Field(description="What the plan names; “” where it names nothing.")
    sha256: str = Field(description="Empty where it was not imported.")
    fitting: list[str] = Field(description="Packages that would do, this one first.")


class SizeView(BaseModel):
    id: str
    label: str
    description: str
    vcpu: int
    memory_bytes: int
    default: bool
    carries: str = ""


class RoleView(BaseModel):
    id: str
    label: str
    count: int
    least: int
    most: int
    carried: bool = Field(
        default=False, description="Nodes of other roles carry it; `count` says how many."
    )
    sizes: list[SizeView] = []
    package: PackageChoice | None = Field(
        default=None, description="Where its nodes are made from another product."
    )


class ClaimView(BaseModel):
    """A node of another plan that is to stand, or stands, on one of these hosts. `run` is '' as
    long as it is only planned.
    """

    plan: str
    name: str
    host: str
    memory_bytes: int
    run: str


class PlanHead(BaseModel):
    """What every answer about a plan says."""

    id: str
    version: int
    title: str
    kit: str
    kit_title: str
    package: PackageChoice
    bay: str
    roles: list[RoleView]
    licence_sha256: str
    licence_by: str
    findings: list[Finding]
    stores: list[StoreLine]
    pools: list[PoolLine]
    losses: list[LossLine]
    keeps: KeepsView | None = Field(
        default=None, description="What a storage cluster keeps, the way its answers choose."
    )
    forecast_s: float
    worst_s: float
    sentence: Sentence
    runs: list[RunLine]
    claims: list[ClaimView] = []
    include: list[str] = []
    draft: bool = False
    further_bays: list[str] = []
    avoid: list[str] = []
    separate: list[Separation] = Field(
        default=[], description="Nodes that the plan keeps apart, besides what the kit says."
    )
    changes: ChangesView | None = Field(
        default=None, description="What a run would change of what stands."
    )
    separate_kit: list[Separation] = Field(default=[], description="What the kit says.")
    overcommit: float = Field(default=4.0, description="vCPUs that may be promised per thread.")
    survive: int = Field(
        default=0, description="With any so many hosts lost, their nodes must fit on the others."
    )
    sized: bool = False
    checked_live: bool = False
    tag: str = Field(
        default="", description="Names this very answer, for asking later only what changed since."
    )


class PlanView(PlanHead):
    """A plan, whole."""

    bays: list[str]
    licence_text: str
    columns: list[ColumnView]
    nodes: list[NodeView]
    hosts: list[HostView]
    waves: list[sequence.Wave] = Field(
        description="The sequence in short; whole: /plans/{ident}/steps."
    )
    way: list[StepView] = Field(description="Critical path through it.")


class NodeCells(BaseModel):
    """A node of which only cells changed: those."""

    id: str
    cells: dict[str, CellView]


class PlanDelta(PlanHead):
    """What changed in a plan since an answer that the page has. A member that is left out is as it
    was.
    """

    since: str = Field(description="The tag of that answer.")
    nodes: list[NodeView | NodeCells] = Field(description="Those that are new or changed.")
    order: list[str] | None = Field(
        default=None, description="Ids of all nodes, where nodes came or went."
    )
    bays: list[str] | None = None
    licence_text: str | None = None
    columns: list[ColumnView] | None = None
    hosts: list[HostView] | None = None
    waves: list[sequence.Wave] | None = None
    way: list[StepView] | None = None


PlanAnswer = PlanView | PlanDelta
"""The plan, whole or, where the page has named the answer it has, what changed since."""


class PlanLine(BaseModel):
    id: str
    title: str
    version: int
    changed_at: float
    kit: str
    bay: str
    nodes: int
    trouble: str
    blockers: int | None = Field(
        description="Blockers against the last facts; null where they are not counted yet."
    )
    run: RunLine | None
    drift: int = Field(default=0, description="Differences from what was built, not accepted.")


class EventView(BaseModel):
    """A journal entry."""

    id: int
    at: float
    step: str
    kind: str
    payload: dict[str, Any]


class RunHead(BaseModel):
    """How a run stands as a whole. `last_event`: the newest journal entry that is counted in."""

    state: RunState
    started_at: float
    ended_at: float | None
    undone_at: float | None
    last_event: int
    now: float
    sentence: Sentence
    words: WordsView
    left_s: float
    overdue: bool
    critical: list[str]
    proved_at: float | None
    proof_sentence: Sentence


class RunChangeView(BaseModel):
    """What a run changes of a deployment: node ids. Nodes in neither list stand and stay."""

    adds: list[str]
    removes: list[str]
    resizes: list[str] = []
    upgrades: list[str] = []


class RunView(RunHead):
    """A run as its page shows it."""

    id: str
    plan: str
    title: str
    nodes: list[NodeView]
    hosts: list[HostView]
    steps: list[StepView]
    proofs: list[Verdict]
    attempts: list[AttemptView]
    events: list[EventView]
    change: RunChangeView | None = Field(
        default=None, description="Of a run that changes what stands."
    )


class SlotView(BaseModel):
    """When a step is expected: seconds after the run began."""

    start_s: float
    end_s: float


class RunDelta(RunHead):
    """What changed in a run after `since` (a journal entry), for a page that has its RunView:
    its head again, and of everything else what changed. None: as it was.
    """

    since: int
    steps: list[StepView]
    slots: dict[str, SlotView] = Field(
        description="Steps that did not change themselves, but are expected at another time."
    )
    events: list[EventView]
    nodes: list[NodeView] = Field(description="Nodes that were given something on the way.")
    proofs: list[Verdict] | None
    attempts: list[AttemptView] | None


def words_view(words: RunWords) -> WordsView:
    """The words of a run as the page gets them."""
    return WordsView(
        sentence=words.sentence,
        short=words.short,
        plans=words.plans,
        tab=words.tab,
        line=words.line,
    )


def node_view(sheet: Sheet, node: Node) -> NodeView:
    roles = [role.id for role in sheet.kit.roles]
    role = sheet.kit.role(node.role)
    short = node.name.removeprefix(f"{sheet.plan.name}-")
    return NodeView(
        id=node.id,
        name=node.name,
        role=node.role,
        role_label=role.label if role else node.role,
        role_index=roles.index(node.role),
        also=[roles.index(ident) for ident in node.roles[1:] if ident in roles],
        short=short,
        host=node.value("host"),
        vcpu=node.vcpu,
        memory_bytes=node.memory_bytes,
        thin_bytes=node.thin_bytes,
        full_bytes=node.full_bytes,
        cells={
            key: CellView(value=cell.value, origin=cell.origin) for key, cell in node.cells.items()
        },
    )


def host_views(
    estate: Estate,
    bays: set[str],
    pins: Mapping[str, str] | None = None,
    names: set[str] | None = None,
) -> list[HostView]:
    views = []
    for host in sorted(estate.hosts, key=lambda host: (host.site, host.bay)):
        if (bays and host.bay not in bays) and not (names and host.name in names):
            continue
        facts = estate.facts.get(host.name, Facts(host=host.name))
        views.append(
            HostView(
                name=host.name,
                site=host.site,
                bay=host.bay,
                rack=host.rack,
                address=host.address,
                memory_bytes=facts.memory_bytes,
                limit_bytes=int(facts.memory_bytes * (1 - HOST_RESERVE)),
                threads=facts.threads,
                bedrock=[
                    BedrockView(
                        name=g.name,
                        memory_bytes=g.memory_bytes,
                        ours=g.mark is not None,
                        vcpu=g.vcpu,
                    )
                    for g in sorted(facts.guests, key=lambda g: -g.memory_bytes)
                    if g.running
                ],
                stores=[
                    StoreView(
                        name=s.name,
                        capacity_bytes=s.capacity_bytes,
                        free_bytes=s.free_bytes,
                        shared=s.shared,
                    )
                    for s in facts.datastores
                ],
                networks=[n.name for n in facts.networks if n.active],
                hypervisor=facts.hypervisor,
                cpu_model=facts.cpu_model,
                domain_type=facts.domain_type,
                domain_reason=facts.domain_reason,
                read_at=facts.read_at,
                trouble=facts.trouble,
                fingerprint=(pins or {}).get(f"{host.address}:{host.port}", ""),
                credential=host.credential,
                note=host.note,
                tags=list(host.tags),
                origin=host.origin,
                carries=[carry_view(facts, net) for net in facts.networks],
            )
        )
    return views


def bare_views(estate: Estate, bays: Collection[str], names: set[str]) -> list[HostView]:
    """The bare machines of some bays, and those with these names, as the wall shows them: a node
    takes a whole one.
    """
    views = []
    for machine in sorted(estate.machines, key=lambda one: (one.site, one.bay, one.name)):
        if machine.bay not in bays and machine.name not in names:
            continue
        facts = estate.machine_facts.get(machine.name, MachineFacts(machine=machine.name))
        views.append(
            HostView(
                name=machine.name,
                site=machine.site,
                bay=machine.bay,
                rack=machine.rack,
                address=machine.address,
                memory_bytes=memory_of(facts),
                limit_bytes=memory_of(facts),
                threads=threads_of(facts),
                bedrock=[],
                stores=[],
                networks=[],
                hypervisor="",
                cpu_model=facts.processors[0].model if facts.processors else "",
                domain_type="",
                domain_reason="",
                read_at=facts.read_at,
                trouble=facts.trouble,
                credential=machine.credential,
                note=machine.note,
                tags=list(machine.tags),
                bare=True,
                drives=[
                    WallDriveView(
                        serial=drive.serial,
                        size_bytes=drive.size_bytes,
                        kind=drive.kind,
                        holds=drive.holds,
                    )
                    for drive in drives_of(facts)
                ],
            )
        )
    return views


def carry_view(facts: Facts, net: Carried) -> CarryView:
    """A network with the interfaces behind its bridge."""
    bridge = next((one for one in facts.interfaces if one.name == net.bridge), None)
    return CarryView(
        network=net.name,
        bridge=net.bridge,
        active=net.active,
        mtu=net.mtu or 0,
        isolated=net.isolated,
        ports=[
            PortView(name=p.name, link=p.link, speed_mbit=p.speed_mbit, vlan=p.vlan)
            for p in ports_of(facts, net)
        ],
        address=bridge.addresses[0] if bridge and bridge.addresses else "",
    )


def step_views(
    steps: list[Step],
    forecast: sequence.Forecast,
    rows: Mapping[str, StepRow] | None = None,
    queued: Mapping[str, str] | None = None,
) -> list[StepView]:
    views = []
    for step in steps:
        slot = forecast.slots.get(step.key, sequence.Slot(0, 0))
        row = rows.get(step.key) if rows else None
        # our own values need no checking, and there may be ten thousand
        views.append(
            StepView.model_construct(
                key=step.key,
                kind=step.kind,
                label=step.label,
                node=step.node,
                host=step.host,
                wave=step.wave,
                after=list(step.after),
                waits=step.waits,
                expected_s=step.expected_s,
                deadline_s=step.deadline_s,
                start_s=slot.start_s,
                end_s=slot.end_s,
                state=row.state if row else StepState.PLANNED,
                attempt=row.attempt if row else 0,
                started_at=row.started_at if row else None,
                ended_at=row.ended_at if row else None,
                message=row.message if row else "",
                undone_at=row.undone_at if row else None,
                undo_message=row.undo_message if row else "",
                undo_failed=row.undo_failed if row else False,
                queued=(queued or {}).get(step.key, ""),
                hint=row.hint if row else "",
            )
        )
    return views


def size_views(sheet: Sheet, role: Role) -> list[SizeView]:
    """The sizes a role's nodes may have, and any other that one of them has now."""
    carries = {
        advice.size: advice.carries
        for advice in sheet.kit.sizes
        if not advice.roles or role.id in advice.roles
    }
    now = {node.value("size") for node in sheet.by_role[role.id]}
    return [
        SizeView(
            id=s.id,
            label=s.label,
            description=s.description,
            vcpu=s.vcpu,
            memory_bytes=s.memory_bytes,
            default=s.default,
            carries=carries.get(s.id, ""),
        )
        for s in sheet.packages.sizes(role.id).values()
        if not role.sizes or s.id in role.sizes or s.id in now
    ]


def keeps_view(sheet: Sheet) -> KeepsView | None:
    """None where the kit lays no data on disks, or its answers choose no way it knows."""
    found = redundancy.current(sheet)
    return (
        None
        if found is None
        else KeepsView(
            label=found.scheme.label,
            raw_bytes=found.raw_bytes,
            usable_bytes=found.usable_bytes,
            safe_bytes=found.safe_bytes,
            wasted_bytes=found.wasted_bytes,
            survives=found.survives_domains,
            reason=found.reason,
        )
    )


def choice_of(sheet: Sheet, role: str, offered: Mapping[str, Sequence[str]]) -> PackageChoice:
    """What a role's nodes (or, for '', all that have no product of their own) are made from, and
    what else would do.
    """
    package, block = sheet.packages.of(role), sheet.plan.roles.get(role)
    named = block.package if block else ""
    if package:
        named = package.title
    elif not role:
        named = sheet.plan.package
    return PackageChoice(
        title=named,
        sha256=package.sha256 if package else "",
        fitting=list(dict.fromkeys([*([named] if package else []), *offered.get(role, ())])),
    )


def plan_head(
    row: PlanRow, resolved: Resolved, plan_runs: Sequence[RunLine], estate: Estate, *, checked: bool
) -> dict[str, Any]:
    """All members of a PlanView but its nodes and hosts, as data."""
    sheet = resolved.sheet
    critical = set(resolved.forecast.critical)
    steps = {step.key: step for step in resolved.steps if step.key in critical}
    others = {address for claim in resolved.claims for address in claim.addresses}
    way = list(dict.fromkeys(inside(steps[key].label) for key in resolved.forecast.critical))
    conflicts = {
        node.value("address")
        for finding in resolved.findings
        if finding.severity == "blocker" and finding.column == "address"
        if (node := sheet.node(finding.node))
    }
    return {
        "id": row.id,
        "version": row.version,
        "title": sheet.plan.title or sheet.plan.name,
        "kit": sheet.kit.id,
        "kit_title": sheet.kit.title,
        "package": choice_of(sheet, "", resolved.fitting),
        "bay": sheet.plan.bay,
        "further_bays": list(sheet.plan.further_bays),
        "bays": list(estate.bays),
        "roles": [
            RoleView(
                id=role.id,
                label=role.label,
                count=sheet.count_of(role.id),
                least=role.count.least,
                most=role.count.most,
                carried=not role.own_nodes,
                sizes=size_views(sheet, role) if role.own_nodes else [],
                package=choice_of(sheet, role.id, resolved.fitting) if role.accepts else None,
            )
            for role in sheet.kit.roles
        ],
        "licence_text": licence_text(package.descriptor for package in sheet.used),
        "licence_sha256": resolved.licence,
        "licence_by": (
            sheet.plan.licence.by
            if sheet.plan.licence and sheet.plan.licence.text == resolved.licence
            else ""
        ),
        "columns": [_column_view(column) for column in sheet.columns],
        "findings": resolved.findings,
        "stores": ledger.stores(sheet, resolved.estate),
        "pools": (
            ledger.pools(sheet, resolved.estate, others, conflicts)
            + ledger.series(sheet, resolved.estate, others)
        ),
        "losses": ledger.losses(sheet),
        "keeps": keeps_view(sheet),
        "forecast_s": resolved.forecast.end_s,
        "worst_s": resolved.forecast.worst_s,
        "waves": resolved.waves,
        "way": step_views(
            [found for key in resolved.forecast.critical if (found := steps.get(key))],
            resolved.forecast,
        ),
        "sentence": narrative.of_plan(
            sheet, resolved.findings, resolved.forecast.end_s, way, resolved.changes
        ),
        "runs": plan_runs,
        "claims": claim_views(resolved),
        "include": list(sheet.plan.include),
        "draft": sheet.plan.draft,
        "avoid": list(sheet.plan.placement.avoid),
        "separate": list(sheet.plan.placement.separate),
        "changes": changes_view(resolved) if resolved.changes is not None else None,
        "separate_kit": list(sheet.kit.separate),
        "overcommit": sheet.plan.placement.overcommit,
        "survive": sheet.plan.placement.survive,
        "sized": sheet.kit.sizing is not None,
        "checked_live": checked,
    }


def claim_views(resolved: Resolved) -> list[ClaimView]:
    """What other plans mean to put on this plan's hosts and no running guest is yet."""
    estate, bays = resolved.estate, resolved.sheet.plan.bays
    hosts = {host.name for host in estate.hosts_in(bays)}
    hosts |= {machine.name for machine in estate.machines_in(bays)}
    present = {
        (name, guest.name)
        for name in hosts
        if name in resolved.estate.facts
        for guest in resolved.estate.facts[name].guests
        if guest.running
    }
    return [
        ClaimView(
            plan=one.plan, name=one.name, host=one.host, memory_bytes=one.memory_bytes, run=one.run
        )
        for one in resolved.claims
        if one.host in hosts and (one.host, one.name) not in present
    ]


def _column_view(column: Column) -> ColumnView:
    rule = column.rule
    limits = (
        LimitsView(
            least=rule.min_length, most=rule.max_length, classes=rule.classes, pattern=rule.pattern
        )
        if column.kind == "secret"
        else None
    )
    return ColumnView(
        id=column.id,
        label=column.label,
        kind=column.kind,
        scope=column.scope,
        required=column.required,
        choices=list(column.choices),
        rule=rule_text(rule.min_length, rule.max_length, rule.classes),
        limits=limits,
    )


def rule_text(least: int, most: int, classes: int) -> str:
    """A rule in words, for the page."""
    parts = [
        f"at least {least} characters" if least else "",
        f"at most {most}" if most < 4096 else "",
        f"{classes} of lower case, upper case, digits, signs" if classes else "",
    ]
    return ", ".join(part for part in parts if part)


def live_forecast(
    run: FrozenRun,
    rows: Mapping[str, StepRow],
    started: float,
    now: float,
    limits: sequence.Limits = sequence.Limits(),
) -> sequence.Forecast:
    """The forecast with what has happened so far: finished steps as they were, working ones at
    least until now.
    """
    done = {}
    for key, row in rows.items():
        if row.state in (*FINISHED, StepState.UNDONE) and row.ended_at:
            done[key] = sequence.Slot(
                (row.started_at or row.ended_at) - started, row.ended_at - started
            )
        elif row.state in UNDER_WAY and row.started_at and key in run.steps:
            begun = row.started_at - started
            done[key] = sequence.Slot(begun, max(now - started, begun + run.steps[key].expected_s))
    return sequence.forecast(list(run.steps.values()), limits, done=done)
