"""New nodes that a cluster must let in: one after the other, each right before it starts."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core import sequence, yaml_text
from nimble_stone.core.change_sequence import of_change
from nimble_stone.core.deployment import Wanted, changes
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.sheet import resolve
from nimble_stone.core.step import Step
from nimble_stone.core.yaml_text import Faults
from tests.core.scene import KIT, PACKAGE, estate, plan
from tests.core.test_deployment import standing

TEXT = yaml_text.write(KIT.model_dump(mode="json", by_alias=True))
CALL = "{method: POST, path: /x, body: {name: '{name}'}}"
ADMIT = f"{{id: admit, label: Admit, role: archive, call: {CALL}, wait: {{expected: 1, longest: 9}}"


def kit(*entries: str, leaving: str = "") -> Kit:
    """The kit with such entries of `joining`."""
    text = yaml_text.edit(TEXT, ("joining",), None)
    if leaving:
        text = yaml_text.edit(text, ("leaving",), None) + f"\nleaving:\n  - {leaving}\n"
    lines = "\n".join(f"  - {one}" for one in entries)
    return yaml_text.read(f"{text}\njoining:\n{lines}\n", Kit, "the kit")


LETS_IN = kit(ADMIT + "}")


def steps_of(
    stands: int, planned: int, *again: str, by: Kit | None = None, **more: Any
) -> list[Step]:
    """What brings a deployment of so many archive nodes to so many."""
    there = standing(stands)
    values = {ident: one.values for ident, one in there.items()}
    wanted = plan(roles__archive__count=planned, **more)
    here = resolve(wanted, by or LETS_IN, PACKAGE, estate(), built=values)
    found = changes(here, there, Wanted(again))
    return of_change(here, found, sequence.build(here, estate()))


def test_each_is_let_in_when_the_one_before_is_there_and_the_cluster_is_well() -> None:
    steps = steps_of(2, 4)
    keys = [step.key for step in steps]
    order = [
        key
        for key in keys
        if key.startswith(("admit/", "start/", "join/", "healthy/")) and "archive" in key
    ]
    assert order == [
        "admit/admit/archive-3",
        "start/archive-3",
        "join/archive-3",
        "healthy/archive-3",
        "admit/admit/archive-4",
        "start/archive-4",
        "join/archive-4",
    ]
    # its disks may be made while the one before is set up
    by_key = {step.key: step for step in steps}
    assert "healthy/archive-3" not in by_key["define/archive-4"].after
    # who is to come is left out of the checks
    assert by_key["healthy/archive-3"].detail["without"] == "archive-4"


def test_a_first_rollout_and_nodes_of_other_roles_ask_for_nothing() -> None:
    by = kit(ADMIT + "}")
    whole = sequence.build(resolve(plan(), by, PACKAGE, estate()), estate())
    assert not [step for step in whole if step.kind == "admit"]
    steps = steps_of(2, 3, by=kit(ADMIT.replace("archive", "lead") + "}"))
    assert steps
    assert not [step for step in steps if step.kind == "admit"]


def test_a_node_that_is_made_again_is_let_in_again() -> None:
    keys = [step.key for step in steps_of(2, 2, "archive-1", "archive-2")]
    wanted = []
    for node in ("archive-1", "archive-2"):
        wanted += [f"leave/leave/{node}", f"retire/{node}", f"admit/admit/{node}", f"start/{node}"]
    assert [key for key in keys if key in wanted] == wanted


@settings(max_examples=60, deadline=None)
@given(
    stands=st.integers(1, 4),
    planned=st.integers(1, 6),
    again=st.sets(st.integers(1, 4)),
    resized=st.booleans(),
)
def test_never_two_are_expected_at_once(
    stands: int, planned: int, again: set[int], resized: bool
) -> None:
    remade = [f"archive-{n}" for n in sorted(again) if n <= min(stands, planned)]
    more = {"roles__archive__values__size": "large"} if resized else {}
    steps = steps_of(stands, planned, *remade, **more)
    place = {step.key: number for number, step in enumerate(steps)}
    assert len(place) == len(steps)
    assert all(place[key] < place[step.key] for step in steps for key in step.after)
    expected = ""
    for step in steps:
        if step.kind == "admit":
            assert expected == "", f"{step.node} while {expected} is not there yet"
            expected = step.node
        elif step.kind == "services" and step.node == expected:
            expected = ""
    assert expected == ""


@pytest.mark.parametrize(
    ("entry", "leaving", "why"),
    [
        (ADMIT.replace("archive", "tide") + "}", "", "joining “admit” is for “tide”"),
        (ADMIT + ", asks: itself}", "", "which is not running yet"),
        (ADMIT.replace("id: admit", "id: join") + "}", "", "has the id of a setup step"),
        (ADMIT + ", finds: {path: /y}}", "", "keeps nothing"),
        (ADMIT.replace("path: /x, ", "") + "}", "", "neither a path nor a command"),
        (ADMIT.replace("{name}", "{kept.number}") + "}", "", "“kept.number”"),
        (ADMIT + ", asks: nowhere}", "", "nowhere"),
        (
            ADMIT + "}",
            ADMIT.replace("archive", "relay") + ", undoes: admit}",
            "no entry of joining of role “relay”",
        ),
    ],
)
def test_what_cannot_be_asked_is_refused_with_its_reason(
    entry: str, leaving: str, why: str
) -> None:
    with pytest.raises(Faults) as told:
        kit(entry, leaving=leaving)
    assert why in str(told.value)


def test_what_was_found_may_stand_in_the_call() -> None:
    finds = ", finds: {path: /y, keep: {number: $.number}}}"
    found = kit(ADMIT.replace("{name}", "{kept.number}") + finds)
    assert found.joining[0].finds is not None


WAIT = "wait: {expected: 1, longest: 9}"


@pytest.mark.parametrize(("asks", "left"), [("first", True), ("itself", False)])
def test_a_node_whose_host_is_lost_is_not_asked_to_leave(asks: str, left: bool) -> None:
    by = kit(
        ADMIT + "}",
        leaving=f"{{id: go, label: Go, role: archive, asks: {asks}, call: {CALL}, {WAIT}}}",
    )
    there = standing(3)
    values = {ident: one.values for ident, one in there.items()}
    here = resolve(plan(roles__archive__count=3), by, PACKAGE, estate(), built=values)
    host = there["archive-1"].node.value("host")
    gone = [ident for ident, one in there.items() if one.node.value("host") == host]
    found = changes(here, there, Wanted(lost=(host,)))
    assert list(found.lost) == list(found.adds) == gone
    steps = of_change(here, found, sequence.build(here, estate()))
    leaves = {step.node for step in steps if step.kind == "leave"}
    assert leaves == ({one for one in gone if one.startswith("archive")} if left else set())
    assert {step.detail.get("lost") for step in steps if step.kind == "retire"} == {"yes"}
