"""A node that a rollback restarted is there again, and its cluster well, before the next one is
restarted.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import replace

from nimble_stone.core.change_sequence import HEALTHY_S
from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.runs.states import StepState
from nimble_stone.engine import acceptance
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.steps.context import Context
from nimble_stone.engine.steps.stages import lacking_words
from nimble_stone.engine.steps.waiting import Services
from nimble_stone.store import records, runs

LOOK_S = 2.0
UP = ("admit", "start")
"""Kinds of steps after which an added node counts: the first of them that it has."""
CHANGES = ("swap", "move", "reconfigure", "change")
"""Kinds of steps that make a node another one than before."""
TOUCHED = frozenset(StepState) - {StepState.PLANNED, StepState.SKIPPED, StepState.UNDONE}


def restored_of(run: str) -> str:
    """Where it is noted which nodes have their former config ISO again, and which were waited for
    in vain: none is restarted twice, and one that stays away is waited for once.
    """
    return f"restored/{run}/"


async def back(c: Context) -> None:
    """Wait until the services of the step's node answer, and then until the checks pass that the
    kit wants between two nodes, as long as the kit allows. Raises RemoteFailed where they do not:
    the others keep running until a person has looked, and rolls back again.
    """
    place = f"{restored_of(c.run.id)}{c.step.key}/waited"
    if await c.ports.store.read(records.get_meta, place):
        return
    try:
        await _services(c)
        await _healthy(c)
    except RemoteFailed:
        await c.ports.store.write(records.put_meta, place, "yes")
        raise


async def _services(c: Context) -> None:
    durations, services = c.run.sheet.kit.durations, Services()

    async def lacks() -> str:
        there = await services.observe(c) is not None
        return "" if there else c.said or "waiting for its services"

    longest = durations.boot.longest + durations.services.longest
    if await _waited(c, longest, lacks):
        raise RemoteFailed(
            f"{c.node.name} was rolled back and does not answer after {longest:g} s",
            target=c.node.name,
            code="not-back",
            hint="See its console. Rolling back again continues with the next node.",
        )


async def _healthy(c: Context) -> None:
    kit = c.run.sheet.kit
    # sizes differ on the way; they say nothing of the cluster
    wanted = [one.id for one in kit.acceptance if one.id in kit.healthy and one.kind != "hardware"]
    if not wanted or await _lost_some(c):
        return

    async def lacks() -> str:
        verdicts = await acceptance.prove(c.ports, await _as_it_is(c), wanted)
        lacking = [one for one in verdicts if not one.passed]
        return lacking_words(c, lacking, len(verdicts)) if lacking else ""

    if words := await _waited(c, HEALTHY_S, lacks):
        raise RemoteFailed(
            f"{c.node.name} was rolled back and answers, but after {HEALTHY_S:g} s its cluster is"
            f" not healthy: {words}",
            target=c.node.name,
            code="not-healthy",
            hint="Repair what the check names. Rolling back again continues with the next node.",
        )


async def _waited(c: Context, longest: float, lacks: Callable[[], Awaitable[str]]) -> str:
    """What is lacking after so many seconds, in words; '' as soon as nothing is."""
    end = c.ports.monotonic() + longest
    while words := c.ports.blank(await lacks()):
        left = end - c.ports.monotonic()
        if left <= 0:
            return words
        c.tell(words=words, left_s=left)
        await c.ports.pause(min(LOOK_S, left))
    return ""


async def _lost_some(c: Context) -> bool:
    """Whether this run or a later one removed nodes, which no rollback brings back: those with
    their former disks may still count them, so their cluster is never as it was.
    """
    store = c.ports.store
    took = await store.read(runs.retired, c.run.sheet.plan.name)
    began = (await store.read(runs.get_run, c.run.id)).started_at
    for run in took:
        if (await store.read(runs.get_run, run)).started_at >= began:
            return True
    return False


async def _as_it_is(c: Context) -> FrozenRun:
    """The run with the nodes that are there at this moment of its rollback, each as it is now."""
    change = c.run.change
    if change is None:
        return c.run
    states = {row.key: row.state for row in await c.ports.store.read(runs.steps, c.run.id)}
    nodes = []
    former = {node.id: node for node in change.former}
    for node in c.run.sheet.nodes:
        if node.id in change.adds and not _is_up(c.run, states, node.id):
            continue
        touched = any(
            states[step.key] in TOUCHED
            for step in c.run.steps.values()
            if step.node == node.id and step.kind in CHANGES and step.key != c.step.key
        )
        nodes.append(node if touched else former.get(node.id, node))
    nodes += change.leaving
    change = replace(change, built={**change.built, **change.left})
    return replace(c.run, sheet=replace(c.run.sheet, nodes=tuple(nodes)), change=change)


def _is_up(run: FrozenRun, states: dict[str, StepState], ident: str) -> bool:
    """Whether an added node is there still; one that was adopted was there before."""
    assert run.change is not None
    if ident in run.change.adopts:
        return True
    own = [step for step in run.steps.values() if step.node == ident and step.kind in UP]
    last = min(own, key=lambda step: UP.index(step.kind), default=None)
    return last is None or states[last.key] == StepState.DONE
