"""A workload of a kit's acceptance: done step by step, and removed again, whatever came of it."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Mapping, Sequence

from nimble_stone.core.acceptance import Answer, Subject
from nimble_stone.core.acceptance.workload import Done, Round, doers
from nimble_stone.core.errors import StoneError
from nimble_stone.core.kit.checks import ONCE, AcceptanceCheck, WorkStep
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.redaction import shortened
from nimble_stone.engine.filling import fill, read
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.peers import At
from nimble_stone.engine.speaking import Speaker
from nimble_stone.engine.steps.told import lacking
from nimble_stone.ports.ports import Ports
from nimble_stone.store import records

SIDE_BY_SIDE = 16


def place_of(run: str) -> str:
    """Below which it is kept what a run's workloads may have left."""
    return f"workload/{run}/"


class _Wrong(Exception):
    """A step was not answered as it must be, in words."""


class Workload:
    """One round of a check's workload."""

    def __init__(self, ports: Ports, run: FrozenRun, check: AcceptanceCheck) -> None:
        self._ports, self._run, self._check = ports, run, check
        self._about = Subject(run.sheet, None, check)
        self._place = f"{place_of(run.id)}{check.id}"

    async def round(self) -> Answer:
        """What was done. What an earlier round left, whose server ended in the middle, is removed
        before.
        """
        how = "; ".join(f"{step.label}: {step.call.words()}" for step in self._check.parts())
        stale = await self._ports.store.read(records.get_meta, self._place)
        if stale:
            await self._removed({ONCE: stale})
        known = {ONCE: secrets.token_hex(8)}
        await self._ports.store.write(records.put_meta, self._place, known[ONCE])
        done = []
        for step in self._check.workload:
            nodes = doers(self._about, step)
            if not nodes:
                continue
            one = await self._done(step, nodes, known)
            done.append(one)
            if one.wrong:
                break
        left = await self._removed(known)
        if not left:
            await self._ports.store.write(records.drop_meta, self._place)
        return Answer(Round(tuple(done), left), how[:2000])

    async def _done(self, step: WorkStep, nodes: Sequence[Node], known: dict[str, str]) -> Done:
        began, gate = self._ports.monotonic(), asyncio.Semaphore(SIDE_BY_SIDE)

        async def one(node: Node) -> tuple[str, dict[str, str]]:
            async with gate:
                try:
                    return "", await self._asked(step, node, known)
                except (StoneError, _Wrong) as error:
                    return f"{node.name}: {error}", {}

        found = await asyncio.gather(*(one(node) for node in nodes))
        wrong = [words for words, _ in found if words]
        for _, kept in found:
            known.update(kept)
        more = f" and {len(wrong) - 1} more" if len(wrong) > 1 else ""
        words = self._ports.blank(f"{wrong[0]}{more}")[:300] if wrong else ""
        return Done(step.label, len(nodes), self._ports.monotonic() - began, words)

    async def _asked(self, step: WorkStep, node: Node, known: Mapping[str, str]) -> dict[str, str]:
        """What one node's answer gives for later steps. Raises RemoteError, _Wrong."""
        at = At(self._ports, self._run, node)
        answer = await Speaker(at).send(step.call, known=known)
        wanted = None if step.equals is None else await fill(at, step.equals, known=known)
        found = await read(at, answer, step.value, known) if step.value else str(answer.status)
        if step.value and found is None:
            raise _Wrong(f"no {step.value} in the answer")
        if wanted is not None and found != wanted:
            raise _Wrong(f"wanted “{shortened(wanted, 80)}”, got “{shortened(found or '', 80)}”")
        if lacks := await lacking(at, answer, step.call, known):
            raise _Wrong(lacks)
        kept = {}
        for name, what in step.call.keep.items():
            value = await read(at, answer, what, known)
            if not value:
                raise _Wrong(f"no {what} in the answer")
            self._ports.hide(value)
            kept[f"kept.{name}"] = value
        return kept

    async def _removed(self, known: dict[str, str]) -> str:
        """Remove what the workload made; what could not be removed, in words."""
        left = []
        for step in self._check.cleanup:
            nodes = doers(self._about, step)
            one = await self._done(step, nodes, known) if nodes else None
            if one is not None and one.wrong:
                left.append(f"{one.label}: {one.wrong}")
        return "; ".join(left)
