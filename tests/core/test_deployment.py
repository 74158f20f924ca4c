"""What stands of a plan, what differs from it, and in which order that is put right."""

from __future__ import annotations

import random
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core import checks, sequence
from nimble_stone.core.change_sequence import of_change
from nimble_stone.core.deployment import (
    BuiltNode,
    Changes,
    Part,
    Wanted,
    as_built,
    built,
    changes,
)
from nimble_stone.core.plan.cells import Cell
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.core.step import Step
from tests.core.scene import KIT, PACKAGE, estate, plan, sheet


def part(run: str, found: Sheet, *adds: str, **more: Any) -> Part:
    names = adds or tuple(node.id for node in found.nodes)
    return Part(run, found.nodes, frozenset(names), **more)


def standing(count: int, run: str = "r1") -> dict[str, BuiltNode]:
    """A deployment with so many archive nodes."""
    return built([part(run, sheet(roles__archive__count=count))])


def test_a_node_stands_as_the_last_run_that_made_it_left_it() -> None:
    first, more = sheet(), sheet(roles__archive__count=3)
    grown = built([part("r1", first), part("r2", more, "archive-3")])
    assert {ident: one.run for ident, one in grown.items()} == {
        "lead-1": "r1",
        "archive-1": "r1",
        "archive-2": "r1",
        "archive-3": "r2",
    }
    remade = [part("r1", first), part("r2", first, "archive-1", gone=frozenset({"archive-1"}))]
    assert built(remade)["archive-1"].run == "r2"
    # rolled back: what was made is gone, and so is what was taken away before
    undone = [remade[0], replace(remade[1], undone=True)]
    assert set(built(undone)) == {"lead-1", "archive-2"}
    assert built([replace(remade[0], undone=True)]) == {}


@pytest.mark.parametrize(("stands", "planned"), [(2, 4), (4, 2), (2, 2)])
def test_what_is_to_be_done_is_what_differs(stands: int, planned: int) -> None:
    found = changes(sheet(roles__archive__count=planned), standing(stands))
    assert list(found.adds) == [f"archive-{n}" for n in range(stands + 1, planned + 1)]
    # the last one goes first
    assert list(found.removes) == [f"archive-{n}" for n in range(stands, planned, -1)]
    assert found.any is (stands != planned)


def test_what_stands_keeps_what_was_chosen_for_it() -> None:
    there = standing(2)
    moved = {
        ident: BuiltNode(
            replace(one.node, cells={**one.node.cells, "host": Cell("petrel", "computed")}), "r1"
        )
        if ident == "archive-1"
        else one
        for ident, one in there.items()
    }
    again = resolve(
        plan(roles__archive__count=3),
        KIT,
        PACKAGE,
        estate(),
        built={ident: one.values for ident, one in moved.items()},
    )
    assert again.by_id["archive-1"].value("host") == "petrel"
    assert changes(again, moved).differs == ()
    # what a person writes down goes before what was built, and is told
    typed = resolve(
        plan(**{"nodes__lead-1__address": "10.44.20.77"}),
        KIT,
        PACKAGE,
        estate(),
        built={ident: one.values for ident, one in there.items()},
    )
    told = {(one.node, one.column, one.now) for one in changes(typed, there).differs}
    assert ("lead-1", "address", "10.44.20.77") in told
    kept = {node.id: node.value("address") for node in as_built(typed, changes(typed, there))}
    assert kept["lead-1"] == there["lead-1"].node.value("address")


@given(st.integers(0, 10_000))
def test_the_steps_of_a_change_touch_nothing_else_and_come_in_order(seed: int) -> None:
    chance = random.Random(seed)
    stands, planned = chance.randint(1, 5), chance.randint(1, 5)
    there = standing(stands)
    here = sheet(roles__archive__count=planned)
    remade = [f"archive-{n}" for n in range(1, min(stands, planned) + 1) if chance.random() < 0.3]
    found = changes(here, there, Wanted(tuple(remade)))
    whole = sequence.build(here, estate())
    steps = of_change(here, found, whole)
    keys = [step.key for step in steps]
    assert len(keys) == len(set(keys))
    place = {key: n for n, key in enumerate(keys)}
    for step in steps:
        assert all(key in place for key in step.after), "waits for nothing that is not there"
    touched = {step.node for step in steps if step.node and step.kind != "call"}
    assert touched <= {*found.adds, *found.removes}
    _check_ways(steps, found)


def _check_ways(steps: list[Step], found: Changes) -> None:
    """Removed after it has left; made again after it was removed; removed for good after all that
    is new stands; one at a time.
    """
    before: dict[str, set[str]] = {}
    for step in sequence._by_depth(steps):
        before[step.key] = {step.key}.union(*(before[key] for key in step.after))
    assert len(before) == len(steps), "no step waits for itself"
    last_of = {step.node: step.key for step in steps if step.node in found.adds}
    gone: list[str] = []
    for ident in found.removes:
        assert f"leave/leave/{ident}" in before[f"retire/{ident}"]
        if ident in found.remade:
            assert f"retire/{ident}" in before[f"define/{ident}"]
            continue
        assert set(last_of.values()) <= before[f"retire/{ident}"]
        assert set(gone) <= before[f"retire/{ident}"]
        gone.append(f"retire/{ident}")


def test_what_decides_is_never_less_than_a_majority() -> None:
    roles = tuple(role.model_copy(update={"quorum": role.id == "archive"}) for role in KIT.roles)
    kit = KIT.model_copy(update={"roles": roles})

    def codes(count: int, *remade: str) -> set[str]:
        here = resolve(plan(roles__archive__count=count), kit, PACKAGE, estate())
        there = {node.id: BuiltNode(node, "r1") for node in here.nodes}
        found = checks.Situation(
            here, estate(), changes=changes(here, there, Wanted(tuple(remade)))
        )
        return {one.code for one in checks.check(found) if one.severity == "blocker"}

    assert "majority-lost" in codes(2, "archive-1")
    assert "majority-lost" not in codes(3, "archive-1")
    assert "majority-lost" not in codes(2)
