"""New nodes of a deployed cluster that it must let in before they start, one after the other.
Pure.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace

from nimble_stone.core.kit.membership import Joining, Membership
from nimble_stone.core.plan.filled import filled
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.step import Kind, Step, make

STARTS = ("start", "power-on")
"""Kinds of steps with which a node begins to run."""
Looks = Callable[[Node, tuple[str, ...], tuple[str, ...]], Sequence[Step]]
"""The checks after a node has joined: for the node, the keys before them, and who has joined."""


def joining_of(sheet: Sheet, node: Node) -> list[Joining]:
    """What the kit asks for before a new node may start."""
    own = [one for one in sheet.kit.joining if node.has_any((one.role,))]
    return [one for one in own if can_be_asked(sheet, node, one.asks)]


def can_be_asked(sheet: Sheet, node: Node, asks: str) -> bool:
    """Whether a node has whom an entry asks: a system outside the plan only where the node's own
    settings say where it is.
    """
    system = next((one for one in sheet.kit.systems if one.id == asks), None)
    return system is None or filled(system.address, node, sheet).strip() != ""


def admitted(
    sheet: Sheet, adds: Collection[str], steps: Sequence[Step], looks: Looks, pace: float
) -> list[Step]:
    """The steps of a change with those that let new nodes in. A node is let in right before it
    starts, when the one before it is there and the cluster is well, so that never two are expected
    at once. `adds`: who is new. `steps`: each after those that it waits for.

    Cost: O(steps + dependencies).
    """
    wanted = [node for node in _starting(sheet, adds, steps) if joining_of(sheet, node)]
    place = {node.id: number for number, node in enumerate(wanted)}
    reach = _reach(steps, place)
    own: dict[str, list[Step]] = defaultdict(list)
    for step in steps:
        own[step.node].append(step)
    found = {step.key: step for step in steps}
    before: tuple[str, ...] = ()
    for number, node in enumerate(wanted):
        start = next(one for one in own[node.id] if one.kind in STARTS)
        asking = _asking(sheet, node, (*start.after, *before), pace)
        found |= {step.key: step for step in asking}
        found[start.key] = replace(start, after=(*start.after, asking[-1].key))
        if number + 1 == len(wanted):
            break
        # what waits for a later node cannot come before it
        last = tuple(step.key for step in own[node.id] if reach[step.key] <= number)
        joined = tuple(one.id for one in wanted[: number + 1])
        checks = looks(node, last, joined)
        found |= {step.key: step for step in checks if step.key not in found}
        before = (checks[-1].key,) if checks else last
    return list(found.values())


def _starting(sheet: Sheet, adds: Collection[str], steps: Sequence[Step]) -> list[Node]:
    """In the order in which they start."""
    return [sheet.by_id[one.node] for one in steps if one.kind in STARTS and one.node in adds]


def _reach(steps: Sequence[Step], place: Mapping[str, int]) -> dict[str, int]:
    """Key → the last of the new nodes that a step is of, or waits for; -1 none."""
    found: dict[str, int] = {}
    for step in steps:
        known = [found[key] for key in step.after if key in found]
        found[step.key] = max((place.get(step.node, -1), *known))
    return found


def step_of(
    kind: Kind,
    one: Membership,
    node: Node,
    before: tuple[str, ...],
    pace: float,
    detail: Mapping[str, str],
) -> Step:
    """The step of an entry of `joining` or `leaving`."""
    return make(
        kind,
        f"{kind}/{one.id}/{node.id}",
        one.label,
        node,
        1,
        before,
        pace * one.wait.expected,
        deadline=one.wait.longest,
        detail=detail,
    )


def _asking(sheet: Sheet, node: Node, before: tuple[str, ...], pace: float) -> list[Step]:
    steps: list[Step] = []
    for one in joining_of(sheet, node):
        steps.append(step_of("admit", one, node, before, pace, {"joining": one.id}))
        before = (steps[-1].key,)
    return steps
