"""The steps of a change to a deployment: of the sequence that would build all of it, the part that
new nodes need; then what takes others away. Pure.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from nimble_stone.core.deployment import Changes
from nimble_stone.core.kit.model import Leaving
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.step import Step, make

REMOVE_S = 6.0
"""How long stopping a VM and deleting its disks takes."""
OLD = "old"
"""In a step's detail: it is about the node as it stood before the change."""


def of_change(
    sheet: Sheet, found: Changes, whole: Sequence[Step], *, pace: float = 1.0
) -> list[Step]:
    """The steps, in an order that respects their dependencies. `whole`: the steps that would build
    all of the sheet. What is added comes before what is removed, so that there is never less than
    need be; a node that is made again is removed first. One is removed after the other.

    Cost: O(steps + dependencies).
    """
    if found.repairs:
        return _repairing(found, whole)
    leaving = {ident: found.standing[ident].node for ident in found.removes}
    steps: list[Step] = []
    gone: dict[str, str] = {}
    before: tuple[str, ...] = ()
    for ident in found.remade:
        steps += _away(sheet, leaving[ident], before, pace)
        gone[ident] = steps[-1].key
        # the next one only when this one is back
        before = tuple(step.key for step in whole if step.node == ident)[-1:]
    kept = _needed(sheet, found, whole)
    steps += [_after_removal(step, gone, kept) for step in kept]
    before = tuple(step.key for step in kept)
    for ident in found.removes:
        if ident in gone:
            continue
        steps += _away(sheet, leaving[ident], before, pace)
        before = (steps[-1].key,)
    steps += _again(sheet, whole, steps)
    known = {step.key for step in steps}
    return [replace(step, after=tuple(key for key in step.after if key in known)) for step in steps]


REPAIRS = ("define", "start", "learn", "boot", "services")
"""Kinds of steps that put a node's VM back: each looks first, and does only what is not so."""


def _repairing(found: Changes, whole: Sequence[Step]) -> list[Step]:
    steps = [step for step in whole if step.node in found.repairs and step.kind in REPAIRS]
    known = {step.key for step in steps}
    return [replace(step, after=tuple(key for key in step.after if key in known)) for step in steps]


def _needed(sheet: Sheet, found: Changes, whole: Sequence[Step]) -> list[Step]:
    """Steps of new nodes, and of those before them what serves several nodes: images on their
    datastores, and what a setup step of theirs is told by another node.
    """
    by_key = {step.key: step for step in whole}
    wanted = {step.key for step in whole if step.node and step.node in found.adds}
    open_ = list(wanted)
    while open_:
        for key in by_key[open_.pop()].after:
            step = by_key.get(key)
            if step is not None and key not in wanted and _serves(step):
                wanted.add(key)
                open_.append(key)
    return [step for step in whole if step.key in wanted]


def _serves(step: Step) -> bool:
    if step.kind == "call":
        return bool(step.detail.get("keeps"))
    return not step.node


def _after_removal(step: Step, gone: dict[str, str], kept: Iterable[Step]) -> Step:
    """A node that is made again begins when the old one is gone."""
    key = gone.get(step.node)
    if key is None:
        return step
    own = {one.key for one in kept if one.node == step.node}
    return step if own & set(step.after) else replace(step, after=(*step.after, key))


def _again(sheet: Sheet, whole: Sequence[Step], steps: Sequence[Step]) -> list[Step]:
    """Setup steps of the cluster that the kit repeats whenever its nodes change."""
    repeated = {one.id for one in sheet.kit.forming if one.again}
    before = tuple(step.key for step in steps)
    known = set(before)
    return [
        replace(step, after=before)
        for step in whole
        if step.detail.get("forming") in repeated and step.key not in known
    ]


def leaving_of(sheet: Sheet, node: Node) -> list[Leaving]:
    """What the kit asks for before a node may go."""
    return [one for one in sheet.kit.leaving if node.has_any((one.role,))]


def _away(sheet: Sheet, node: Node, before: tuple[str, ...], pace: float) -> list[Step]:
    """One node leaves, then it is removed."""
    steps = []
    for one in leaving_of(sheet, node):
        key = f"leave/{one.id}/{node.id}"
        steps.append(
            make(
                "leave",
                key,
                one.label,
                node,
                1,
                before,
                pace * one.wait.expected,
                deadline=one.wait.longest,
                detail={"leaving": one.id, "by": node.id, OLD: "yes"},
            )
        )
        before = (key,)
    steps.append(
        make(
            "retire",
            f"retire/{node.id}",
            "Remove",
            node,
            1,
            before,
            pace * REMOVE_S,
            detail={OLD: "yes"},
        )
    )
    return steps
