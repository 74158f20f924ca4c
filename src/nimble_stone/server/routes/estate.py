"""The estate and the keyring's names."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field, FiniteFloat

from nimble_stone.app import claims, emptying, estate_hosts, host_rules
from nimble_stone.app.aside import aside
from nimble_stone.app.emptying import EmptyView
from nimble_stone.core import estate_rules, processors
from nimble_stone.core.estate import (
    Estate,
    EstateFile,
    Facts,
    Host,
    Machine,
    MachineFacts,
    Network,
    Pool,
    RuleSetting,
    StoreCare,
    room_bytes,
)
from nimble_stone.core.estate_list import Entry, parse
from nimble_stone.core.preparation import Action
from nimble_stone.core.series import Series
from nimble_stone.engine import adding
from nimble_stone.server.deps import TheApplication, TheKits
from nimble_stone.server.views import HostView, host_views
from nimble_stone.store import records

router = APIRouter(tags=["estate"])


class EstateView(BaseModel):
    hosts: list[HostView]
    machines: list[MachineView]
    networks: list[Network]
    pools: list[Pool]
    series: list[Series]
    bays: list[str]
    now: float


class LivesView(BaseModel):
    """A node of a run that lives on a machine, and the host of the estate that it is, '' none."""

    run: str
    plan: str
    name: str
    host: str


class MachineView(BaseModel):
    """A machine, with what was read of it."""

    machine: Machine
    facts: MachineFacts
    fingerprint: str
    lives: LivesView | None = None


async def machine_views(
    app: TheApplication, estate: Estate, pins: Mapping[str, str]
) -> list[MachineView]:
    """All machines by site, bay and name."""
    living = await claims.living_on(app, {one.name for one in estate.machines})
    hosts = {host.origin.machine: host.name for host in estate.hosts if host.origin}

    def lives(name: str) -> LivesView | None:
        claim = living.get(name)
        if claim is None:
            return None
        return LivesView(run=claim.run, plan=claim.plan, name=claim.name, host=hosts.get(name, ""))

    return [
        MachineView(
            machine=one,
            facts=estate.machine_facts.get(
                one.name, MachineFacts(machine=one.name, trouble="it was never read")
            ),
            fingerprint=pins.get(f"{one.address}:{one.port}", ""),
            lives=lives(one.name),
        )
        for one in sorted(estate.machines, key=lambda m: (m.site, m.bay, m.name))
    ]


class Refresh(BaseModel):
    hosts: list[str] = Field(default=[], max_length=2000)


async def _view(app: TheApplication) -> EstateView:
    estate: Estate = await app.store.read(records.load_estate)
    pins = await app.store.read(records.pins)
    return EstateView(
        hosts=host_views(estate, set(), pins),
        machines=await machine_views(app, estate, pins),
        networks=list(estate.networks),
        pools=list(estate.pools),
        series=list(estate.series),
        bays=list(estate.bays),
        now=app.clock(),
    )


@router.get("/estate")
async def estate(app: TheApplication) -> EstateView:
    """All hosts with their last facts, networks and pools."""
    return await _view(app)


@router.post("/estate")
async def estate_merge(body: EstateFile, app: TheApplication) -> EstateView:
    """Add hosts, networks and pools, or replace them by name."""
    await app.store.write(records.merge_estate, body)
    return await _view(app)


@router.post("/estate/read")
async def estate_read(body: Refresh, app: TheApplication) -> EstateView:
    """Read the named hosts again, or all."""
    await estate_hosts.refresh(app, body.hosts)
    return await _view(app)


class RuleView(BaseModel):
    """A rule about hosts."""

    id: str
    group: str
    title: str
    why: str
    measured: str
    limit: FiniteFloat | None = None
    unit: str = ""
    machine: bool = False


class ViolationView(BaseModel):
    """What is wrong with a host by a rule."""

    rule: str
    host: str
    severity: Literal["blocker", "caution", "note"]
    message: str
    remedy: str
    machine: bool = False
    action: Action | None = None


class FitnessView(BaseModel):
    """All rules, and what breaks them by the last facts."""

    rules: list[RuleView]
    violations: list[ViolationView]
    settings: list[RuleSetting] = []


class ReadingView(BaseModel):
    """A host that is being read, and for how many seconds."""

    host: str
    seconds: float


@router.get("/estate/reading")
async def estate_reading(app: TheApplication) -> list[ReadingView]:
    """Hosts that are being read at this moment, the slowest first."""
    now = app.monotonic()
    return [
        ReadingView(host=host, seconds=now - since)
        for host, since in sorted(app.reading.items(), key=lambda item: item[1])
    ]


@router.get("/estate/rules")
async def estate_rules_view(app: TheApplication) -> FitnessView:
    """Judge every host by the last facts."""
    estate: Estate = await app.store.read(records.load_estate)
    found = await host_rules.violations(app, estate)
    return FitnessView(
        rules=[
            RuleView(
                id=r.id,
                group=r.group,
                title=r.title,
                why=r.why,
                measured=r.measured,
                limit=r.limit,
                unit=r.unit,
                machine=isinstance(r, estate_rules.MachineRule),
            )
            for r in estate_rules.EVERY
        ],
        violations=[ViolationView(**vars(one)) for one in found],
        settings=list(estate.settings),
    )


class OneHost(BaseModel):
    """A host with everything that was read of it. `room_bytes`: memory that guests may still be
    given, below the limit that keeps the hypervisor's share.
    """

    host: Host
    facts: Facts
    room_bytes: int
    vm_processor: str = Field(
        description="What VMs get where the bay's hosts differ; empty: the host's own model."
    )
    fingerprint: str
    violations: list[ViolationView]
    cares: list[StoreCare]
    now: float


@router.get("/estate/hosts/{name}")
async def estate_host(name: str, app: TheApplication) -> OneHost:
    """One host: its facts, what breaks the rules, and what is decided about its datastores."""
    estate: Estate = await app.store.read(records.load_estate)
    host = estate_hosts.host_of(estate, name)
    facts = estate_hosts.facts_of(estate, name)
    found = await host_rules.violations(app, estate, {name})
    pins = await app.store.read(records.pins)
    return OneHost(
        host=host,
        facts=facts,
        room_bytes=room_bytes(facts),
        vm_processor=processors.by_host(estate, [name])[name].model,
        fingerprint=pins.get(f"{host.address}:{host.port}", ""),
        violations=[ViolationView(**vars(one)) for one in found],
        cares=estate_hosts.cares_of(estate, facts),
        now=app.clock(),
    )


class LeaveOut(BaseModel):
    """Plans that leave a host out, each with the version that a person saw."""

    versions: dict[str, int] = Field(max_length=2000)


@router.get("/estate/hosts/{name}/emptying")
async def host_emptying(name: str, app: TheApplication, kits: TheKits) -> EmptyView:
    """What emptying a host comes to: plan by plan, where each of its nodes would go."""
    return await emptying.of_host(app, kits, name)


@router.post("/estate/hosts/{name}/emptying")
async def empty_host(name: str, body: LeaveOut, app: TheApplication, kits: TheKits) -> EmptyView:
    """Let plans leave a host out. Their next runs move its nodes; nothing moves by itself."""
    return await emptying.leave_out(app, kits, name, body.versions)


@router.delete("/estate/hosts/{name}/emptying")
async def use_host_again(name: str, app: TheApplication, kits: TheKits) -> EmptyView:
    """Let all plans use a host again; no node moves back by itself."""
    return await emptying.use_again(app, kits, name)


@router.put("/estate/rules")
async def estate_rule_set(body: RuleSetting, app: TheApplication) -> FitnessView:
    """Switch a rule off for a bay, with a reason, or set its limit; with neither, it holds as it is
    written.
    """
    await host_rules.set_rule(app, body)
    return await estate_rules_view(app)


@router.put("/estate/care")
async def estate_care(body: StoreCare, app: TheApplication) -> EstateView:
    """Keep what is decided about a datastore: its watermark and its protection class."""
    await app.store.write(records.put_care, body)
    return await _view(app)


@router.get("/estate/facts")
async def estate_facts(app: TheApplication) -> Estate:
    """Everything that is known, as a file that plans can be checked against elsewhere. It holds no
    secrets, only names of keyring entries.
    """
    found: Estate = await app.store.read(records.load_estate)
    return found


class EntryView(BaseModel):
    """A listed host; `line` of the list, 0 when it was typed."""

    line: int = 0
    name: str = Field(default="", max_length=253)
    address: str = Field(default="", max_length=15)
    port: int = Field(default=22, ge=1, le=65535)
    user: str = Field(default="", max_length=64)
    site: str = Field(default="", max_length=60)
    bay: str = Field(default="", max_length=60)
    note: str = Field(default="", max_length=500)
    tags: list[str] = Field(default=[], max_length=20)
    kind: Literal["host", "machine"] = "host"
    credential: str = Field(default="", max_length=120)
    rack: str = Field(default="", max_length=60)


class JunkView(BaseModel):
    """A line that is no host."""

    line: int
    text: str
    reason: str


class ListingView(BaseModel):
    """What a list held."""

    entries: list[EntryView]
    junk: list[JunkView]


class ListText(BaseModel):
    """A pasted or loaded list."""

    text: str = Field(max_length=4_000_000)


class LookAt(BaseModel):
    """Hosts to look at, and how to log in: the keyring entry's name."""

    entries: list[EntryView] = Field(max_length=2000)
    user: str = Field(default="root", max_length=64)
    credential: str = Field(min_length=1, max_length=120)


class LookView(BaseModel):
    """What was found at one entry."""

    entry: EntryView
    address: str
    outcome: str
    words: str
    fingerprint: str
    hostname: str


class NewHost(BaseModel):
    """A host to be added, with the key that a person has confirmed."""

    host: Host
    fingerprint: str = Field(min_length=1, max_length=200)


class HostChange(BaseModel):
    """What may be changed of a host without reaching it; None: as it is."""

    name: str | None = Field(
        default=None, min_length=1, max_length=60, pattern=r"^[a-z0-9][a-z0-9.-]*$"
    )
    site: str | None = Field(default=None, min_length=1, max_length=60)
    bay: str | None = Field(default=None, min_length=1, max_length=60)
    rack: str | None = Field(default=None, max_length=60)
    note: str | None = Field(default=None, max_length=500)
    tags: list[str] | None = Field(default=None, max_length=20)

    def changes(self) -> dict[str, object]:
        """What is to be changed besides the name."""
        given = self.model_dump(exclude_none=True, exclude={"name"})
        return {key: tuple(value) if key == "tags" else value for key, value in given.items()}


@router.post("/estate/list")
async def estate_list(body: ListText) -> ListingView:
    """Read a list of hosts without adding any."""
    found = await aside(parse, body.text)
    return ListingView(
        entries=[EntryView(**{**asdict(e), "tags": list(e.tags)}) for e in found.entries],
        junk=[JunkView(**asdict(j)) for j in found.junk],
    )


@router.post("/estate/look")
async def estate_look(body: LookAt, app: TheApplication) -> list[LookView]:
    """Look at hosts: their keys, whether the login works, whether it may use the hypervisor.
    Nothing is kept.
    """
    entries = [Entry(**{**e.model_dump(), "tags": tuple(e.tags)}) for e in body.entries]
    return [
        LookView(
            entry=EntryView(**{**asdict(found.entry), "tags": list(found.entry.tags)}),
            address=found.address,
            outcome=found.outcome,
            words=found.words,
            fingerprint=found.fingerprint,
            hostname=found.hostname,
        )
        for found in await adding.look(app, entries, body.user, body.credential)
    ]


@router.post("/estate/hosts")
async def estate_add(body: list[NewHost], app: TheApplication) -> EstateView:
    """Add hosts whose keys were confirmed: these are pinned, and the hosts are read. All or
    none.
    """
    await adding.add(app, [(item.host, item.fingerprint) for item in body[:2000]])
    return await _view(app)


@router.patch("/estate/hosts/{name}")
async def estate_change(name: str, body: HostChange, app: TheApplication) -> EstateView:
    """Move a host to another rack, bay or site, rename it, or change its note and tags."""
    await estate_hosts.change(app, name, body.name or "", body.changes())
    return await _view(app)


@router.delete("/estate/hosts/{name}")
async def estate_retire(name: str, app: TheApplication) -> EstateView:
    """Take a host out of the estate; refused while a plan names it or a guest of ours stands on it.
    The host itself is not touched.
    """
    await estate_hosts.remove(app, name)
    return await _view(app)


@router.delete("/estate/hosts/{name}/pin")
async def forget_pin(name: str, app: TheApplication) -> EstateView:
    """Forget a pinned host key, after its fingerprint was compared elsewhere."""
    await estate_hosts.forget_pin(app, name)
    return await _view(app)
