"""The end of a stage of the setup, or of a change to a node: acceptance checks pass."""

from __future__ import annotations

from dataclasses import replace

from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.change_sequence import BEFORE, RECONFIGURE, STILL, WITHOUT
from nimble_stone.core.units import count_text
from nimble_stone.engine import acceptance
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.steps.context import Context, Found, Kind


class StageChecks:
    """Its checks are made until all have passed: what was just set up may take a while."""

    async def observe(self, c: Context) -> Found | None:
        """How many passed; None, and which did not, where one has not."""
        wanted = c.step.detail["checks"].split(",")
        verdicts = await acceptance.prove(c.ports, _there(c), wanted)
        open_ones = [one for one in verdicts if not one.passed]
        if open_ones:
            c.tell(words=c.ports.blank(lacking_words(c, open_ones, len(verdicts))))
            return None
        return {"way": f"{count_text(len(verdicts), 'check')} passed"} if verdicts else {}

    async def act(self, c: Context) -> None:
        """Nothing is done: it only looks."""

    async def undo(self, c: Context) -> str:
        """It made nothing."""
        return ""


def _there(c: Context) -> FrozenRun:
    """The run with the nodes that are there at this moment of a change."""
    without, still = (
        set(filter(None, c.step.detail.get(which, "").split(","))) for which in (WITHOUT, STILL)
    )
    before = _later(c) if c.step.detail.get(BEFORE) else set()
    change = c.run.change
    if change is None or not without | still | before:
        return c.run
    sheet = c.run.sheet
    nodes = tuple(
        change.before(one.id) if one.id in before else one
        for one in sheet.nodes
        if one.id not in without
    )
    nodes += tuple(one for one in change.leaving if one.id in still)
    change = replace(change, built={**change.built, **change.left})
    return replace(c.run, sheet=replace(sheet, nodes=nodes), change=change)


def _later(c: Context) -> set[str]:
    """Nodes that restart with other settings after this step."""
    keys = list(c.run.steps)
    rest = keys[keys.index(c.step.key) :]
    return {c.run.steps[key].node for key in rest if c.run.steps[key].kind == RECONFIGURE}


def lacking_words(c: Context, lacking: list[Verdict], of: int) -> str:
    """How many checks have not passed, and what the first of them found."""
    first = lacking[0]
    node = c.run.sheet.node(first.node)
    where = f"{node.name}: " if node else ""
    return (
        f"{len(lacking)} of {count_text(of, 'check')} not passed; first: {where}{first.label}:"
        f" wanted {first.expected}, got {first.found}"
    )[:300]


KINDS: dict[str, Kind] = {"stage": StageChecks()}
