"""The order in which the systems of one package start, as its descriptor says (DSP0243 clause 9.7).
Pure.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.step import Step, make


@dataclass
class _Turn:
    """Systems that start together. `delay_s`: how long after them the next ones wait; `answers`:
    the next ones wait for their services instead.
    """

    nodes: list[Node] = field(default_factory=list)
    delay_s: int = 0
    answers: bool = False


def _turns(sheet: Sheet) -> Mapping[int, _Turn]:
    found: dict[int, _Turn] = defaultdict(_Turn)
    for role in sheet.kit.roles:
        package = sheet.packages.of(role.id)
        entries = [one for one in package.startup if one.member == role.system] if package else []
        for entry in entries[:1]:
            turn = found[entry.order]
            turn.nodes += [one for one in sheet.by_role.get(role.id, ()) if not one.on_machine]
            turn.delay_s = max(turn.delay_s, entry.delay_s)
            turn.answers = turn.answers or entry.waits_for_guest
    return {order: found[order] for order in sorted(found) if found[order].nodes}


def in_order(sheet: Sheet, steps: list[Step], pace: float) -> list[Step]:
    """The steps, with those systems that start later waiting for the ones before: for their
    services, or as many seconds as the package says. Cost: O(steps + nodes).
    """
    waits: dict[str, tuple[str, ...]] = {}
    pauses: list[Step] = []
    before: tuple[str, ...] = ()
    for order, turn in _turns(sheet).items():
        for node in turn.nodes:
            waits[node.id] = before
        before = tuple(f"start/{node.id}" for node in turn.nodes)
        if turn.answers:
            before = tuple(f"services/{node.id}" for node in turn.nodes)
        elif turn.delay_s:
            pause = _pause(order, turn, before, pace)
            pauses.append(pause)
            before = (pause.key,)
    return [
        *pauses,
        *(
            replace(step, after=tuple(dict.fromkeys((*step.after, *waits.get(step.node, ())))))
            if step.kind == "start"
            else step
            for step in steps
        ),
    ]


def _pause(order: int, turn: _Turn, after: tuple[str, ...], pace: float) -> Step:
    first = turn.nodes[0]
    return make(
        "delay",
        f"delay/{order}",
        f"Start delay {turn.delay_s} s",
        first,
        2,
        after,
        pace * turn.delay_s,
        deadline=turn.delay_s * 2 + 60.0,
        node="",
        waits=True,
        detail={"by": first.id, "seconds": str(turn.delay_s)},
    )
