"""Keeping a plan, checking it against the hosts, and starting its run."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from nimble_stone.app import machine_use
from nimble_stone.app.application import Application
from nimble_stone.app.claims import holding_of, own_runs
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.resolved import Resolved
from nimble_stone.app.texts import parse_plan
from nimble_stone.core.deployment import Wanted, as_built
from nimble_stone.core.errors import Conflict, InputError, StoneError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.runs.change import Change
from nimble_stone.core.runs.document import write as freeze
from nimble_stone.core.runs.states import ACTIVE, RunState
from nimble_stone.core.sequence import stages_of
from nimble_stone.engine import machines, retiring, surroundings, survey, systems
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.surroundings import Surroundings
from nimble_stone.store import designs, drift, records, runs
from nimble_stone.store.records import PlanRow

FRESH_S = 300.0
CHECK_READ_S = 30.0
"""A host that has not told its facts by then counts as silent in a check."""


async def keep_plan(
    app: Application, resolved: Resolved, text: str, based_on: int | None
) -> PlanRow:
    """Store a plan's next version and what it holds, both or neither. Raises Conflict when another
    user else changed it meanwhile.
    """
    name, holding = resolved.sheet.plan.name, holding_of(resolved)
    number = (await app.store.read(designs.numbers))[1]
    # most edits change nothing of what a plan holds
    same = app.caches.holdings.get(name) == (number, holding)
    row = await app.store.write(
        designs.put_plan, name, text, app.clock(), based_on, None if same else holding
    )
    app.caches.holdings.put(name, (number if same else number + 1, holding))
    return row


async def keep_claims(app: Application, resolved: Resolved) -> None:
    """Record again what a plan reserves, when something it includes has changed."""
    await app.store.write(designs.hold, resolved.sheet.plan.name, holding_of(resolved))


async def check_live(
    app: Application,
    kits: Mapping[str, Kit],
    text: str,
    *,
    all_fresh: bool = True,
    wanted: Wanted = Wanted(),
) -> Resolved:
    """Read the hosts of the bay and the plan's machines again, ask who answers on the planned
    addresses, then evaluate again.
    """
    first = await evaluate(app, kits, text)
    hosts = list(first.estate.hosts_in(first.sheet.plan.bays))
    # what is called lost is asked, even where the plan names another place by now
    hosts += [one for one in first.estate.hosts if one.name in wanted.lost and one not in hosts]
    now = app.clock()
    old = [
        host
        for host in hosts
        if all_fresh
        or host.name not in first.estate.facts
        or now - first.estate.facts[host.name].read_at > FRESH_S
    ]
    bare = {node.value("host") for node in first.sheet.nodes if node.on_machine}
    bare |= set(wanted.lost)
    await asyncio.gather(
        survey.read_hosts(app, old, first.estate.facts, limit_s=CHECK_READ_S),
        machines.read(
            app,
            [one for one in first.estate.machines if one.name in bare],
            first.estate.machine_facts,
            limit_s=CHECK_READ_S,
        ),
    )
    again = await evaluate(app, kits, text, wanted=wanted)
    standing = await own_runs(app, again.sheet.plan.name)
    found = await app.store.read(records.load_estate)
    made = {
        guest.name
        for facts in found.facts.values()
        for guest in facts.guests
        if guest.mark and guest.mark.run in standing
    }
    made |= {one.name for one in wanted.adopts.values()}
    made |= _on_machines(again)
    addresses = again.sheet.by_node()
    own = {
        address
        for node in again.sheet.nodes
        if node.name in made
        for address in addresses.get(node.id, ())
    }
    asked = await survey.who_answers(app, again.sheet, again.estate, own)
    around = replace(
        await surroundings.look(app, _new_of(again), again.estate),
        # nodes that go are taken out of them, too
        systems=await systems.look(app, again.sheet),
    )
    return (
        await evaluate(
            app,
            kits,
            text,
            answering=asked.used,
            unasked=asked.unknown,
            around=around,
            wanted=wanted,
        )
        if asked.used or asked.unknown or around != Surroundings()
        else again
    )


def _on_machines(found: Resolved) -> set[str]:
    """Names of deployed nodes on bare machines, which bear no mark: that they answer is as it
    should be. One whose machine is lost should not answer.
    """
    if found.changes is None:
        return set()
    there = (one.node for one in found.changes.standing.values())
    lost = set(found.changes.lost)
    return {node.name for node in there if node.on_machine and node.id not in lost}


def _new_of(found: Resolved) -> Sheet:
    """The sheet with the nodes that are to be created: the names of those that stand are theirs."""
    if found.changes is None:
        return found.sheet
    new = set(found.changes.adds) - set(found.changes.removes) - set(found.changes.adopts)
    return replace(found.sheet, nodes=tuple(one for one in found.sheet.nodes if one.id in new))


@dataclass(frozen=True)
class StartedRun:
    """What came of starting a plan's run. `run` is '' and nothing was started when blockers stand
    in the way, or, of several, when `trouble` says what else does.
    """

    plan: str
    run: str
    resolved: Resolved | None = None
    trouble: str = ""


async def start_several(
    app: Application, engine: Engine, kits: Mapping[str, Kit], idents: Sequence[str]
) -> list[StartedRun]:
    """Start the runs of several plans, one after the other; what one of them has against it stops
    only that one. Hosts that were read for the first are not read again.
    """
    found: list[StartedRun] = []
    for ident in idents:
        try:
            row = await app.store.read(records.get_plan, ident)
            found.append(await start_run(app, engine, kits, row, all_fresh=not found))
        except StoneError as error:
            found.append(StartedRun(ident, "", None, str(error)))
    return found


async def start_run(
    app: Application,
    engine: Engine,
    kits: Mapping[str, Kit],
    row: PlanRow,
    *,
    all_fresh: bool = True,
    wanted: Wanted = Wanted(),
) -> StartedRun:
    """Check against the live hosts, then start: what the plan builds, or, where it stands, what has
    changed in the plan since. `wanted`: what a person wants of nodes
    that stand.

    Raises: Conflict when a run of this plan is running, or nothing is to be changed.
    """
    plan = await parse_plan(row.text)
    if await retiring.asked(app, plan.name):
        raise Conflict(
            f"{plan.name} is being retired",
            code="retiring",
            hint="Wait until all of it is gone, or stop retiring.",
        )
    active = [run for run in await app.store.read(runs.of_plan, plan.name) if run.state in ACTIVE]
    if active:
        raise Conflict(
            f"run {active[0].id} of this plan is running",
            code="run-exists",
            hint="Wait until it has ended, or roll it back.",
        )
    found = await check_live(app, kits, row.text, all_fresh=all_fresh, wanted=wanted)
    _check_wanted(found, wanted)
    if found.changes is not None and not found.changes.any:
        raise Conflict(
            f"{plan.name} is deployed already, and no node is to be added or removed",
            code="run-exists",
            hint="Change the number of nodes, name nodes to make again, or roll back.",
        )
    if (
        any(finding.severity == "blocker" for finding in found.findings)
        or found.sheet.package is None
    ):
        return StartedRun(plan.name, "", found)
    _check_agreed(found, wanted)
    ident = secrets.token_hex(4)
    document = _frozen(found)
    if found.changes is None or set(found.changes.standing) == set(found.changes.adopts):
        # what an earlier deployment of this plan was found to be is of no interest
        await app.store.write(drift.forget, plan.name)
    run = runs.RunRow(
        ident,
        plan.name,
        found.sheet.package.sha256,
        RunState.RUNNING,
        document,
        app.clock(),
        None,
    )
    stays = set(found.changes.standing) - set(found.changes.adds) if found.changes else set()
    bare = {
        node.value("host") for node in found.sheet.nodes if node.on_machine and node.id not in stays
    }
    async with machine_use.free(app, bare, _remade(found)):
        await engine.start(run, [step.key for step in found.steps])
    return StartedRun(plan.name, ident, found)


def _remade(found: Resolved) -> set[str]:
    """Names of nodes that are made again: what lives on their machines goes first."""
    changes = found.changes
    return {changes.standing[one].node.name for one in changes.remade} if changes else set()


def _check_wanted(found: Resolved, wanted: Wanted) -> None:
    """What a person wants of a deployment is not done to something else. Raises Conflict where
    nothing is deployed, InputError for a stage or a node that there is not.
    """
    if not wanted.alone:
        return
    name, changes = found.sheet.plan.name, found.changes
    if wanted.adopts:
        return
    if changes is None:
        raise Conflict(
            f"{name} is not deployed, so nothing of it is made again or repaired",
            code="not-deployed",
            hint="Roll it out first.",
        )
    _check_lost(found, wanted)
    stages = [one.stage.id for one in stages_of(found.sheet)]
    if wanted.stage and wanted.stage not in stages:
        raise InputError(
            f"{name} has no stage “{wanted.stage}”;"
            f" {'its stages are ' + ', '.join(stages) if stages else 'it has none'}"
        )
    unknown = [one for one in (*wanted.remade, *wanted.repairs) if one not in changes.standing]
    if unknown:
        raise InputError(
            f"no node “{unknown[0]}” of {name} is deployed; deployed are"
            f" {', '.join(list(changes.standing)[:8])}"
        )


def _check_lost(found: Resolved, wanted: Wanted) -> None:
    """Who answers is not lost: its VMs would run twice. Raises Conflict, InputError."""
    assert found.changes is not None
    homes = {one.node.value("host") for one in found.changes.standing.values()}
    for name in wanted.lost:
        if name not in homes:
            raise InputError(f"no node of {found.sheet.plan.name} is deployed on “{name}”")
        facts = found.estate.facts.get(name) or found.estate.machine_facts.get(name)
        if facts is not None and not facts.trouble:
            raise Conflict(
                f"{name} answers, so it is not lost",
                code="not-lost",
                hint="Make its nodes again, or exclude it from the plan, which moves them.",
            )


def _check_agreed(found: Resolved, wanted: Wanted) -> None:
    """A run deletes only what a person has named. Raises Conflict."""
    changes = found.changes
    if changes is None:
        return
    agreed = {*wanted.remade, *wanted.removes, *changes.lost}
    unnamed = [one for one in changes.removes if one not in agreed]
    if not unnamed:
        return
    names = ", ".join(changes.standing[one].node.name for one in unnamed)
    flags = " ".join(f"--remove {one}" for one in unnamed)
    raise Conflict(
        f"This run removes {names} with {'their' if len(unnamed) > 1 else 'its'} disks.",
        code="removal-not-named",
        hint=f"Look at `plan changes`, then name what is removed: {flags}",
    )


def _frozen(found: Resolved) -> dict[str, Any]:
    """What a run keeps of a plan. Of a deployment that stands: nodes that stay as they were built,
    whatever else the plan says of them by now.
    """
    if found.changes is None:
        return freeze(found.sheet, found.steps, found.estate)
    stands = found.changes.standing
    adds = (*found.changes.adds, *found.changes.adopts)
    moved = {*adds, *found.changes.removes}
    in_place, reset = found.changes.in_place, found.changes.reset
    moved_on = [one.node for one in found.changes.moves]
    change = Change(
        adds,
        {ident: one.run for ident, one in stands.items() if ident not in moved},
        {ident: stands[ident].run for ident in found.changes.removes},
        tuple(stands[ident].node for ident in found.changes.removes),
        found.changes.altered,
        in_place,
        tuple(stands[ident].node for ident in dict.fromkeys((*in_place, *moved_on, *reset))),
        tuple(found.changes.adopts),
    )
    sheet = replace(found.sheet, nodes=as_built(found.sheet, found.changes))
    return freeze(sheet, found.steps, found.estate, change)
