"""Settings that change while their nodes stand: what kits may say, and what comes of it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from nimble_stone.core import yaml_text
from nimble_stone.core.change_sequence import of_change
from nimble_stone.core.deployment import Wanted, as_built, changes
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.core.sequence import build
from nimble_stone.core.yaml_text import Faults
from tests.core.scene import KIT, PACKAGE, estate, plan
from tests.core.test_deployment import standing

TEXT = yaml_text.write(KIT.model_dump(mode="json", by_alias=True))
CALL = "{method: POST, path: /x, body: {a: '{station}'}}"


def kit(*entries: str) -> Kit:
    """The kit with other entries of `changing`."""
    lines = "\n".join(f"  - {one}" for one in entries)
    text = yaml_text.edit(TEXT, ("changing",), None)
    return yaml_text.read(f"{text}\nchanging:\n{lines}\n", Kit, "the kit")


def planned(with_kit: Kit = KIT, **more: Any) -> Sheet:
    values = {ident: one.values for ident, one in standing(2).items()}
    return resolve(plan(**more), with_kit, PACKAGE, estate(), built=values)


@pytest.mark.parametrize(
    ("entry", "why"),
    [
        ("{id: x, label: X, values: [station], way: call}", "needs `call` and `observe`"),
        (f"{{id: x, label: X, values: [ntp], way: restart, call: {CALL}}}", "only for that"),
        ("{id: x, label: X, values: [tide], way: restart}", "“tide”, which this kit never defines"),
        ("{id: x, label: X, values: [count], way: again}", "“count”, which this kit never"),
        ("{id: x, label: X, values: [address], way: restart}", "only by the way “again”"),
        ("{id: x, label: X, values: [net.a.mtu], way: again}", "this kit never defines"),
        ("{id: x, label: X, values: [ntp], roles: [tide], way: again}", "not a role"),
        ("{id: x, label: X, values: [ntp], way: again, once: true}", "only by the way “call”"),
        (
            f"{{id: x, label: X, values: [ntp], way: call, call: {CALL}, observe: {{path:"
            " '/{was.station}'}}",
            "“was.station”",
        ),
    ],
)
def test_what_cannot_be_carried_out_is_refused_with_its_reason(entry: str, why: str) -> None:
    with pytest.raises(Faults) as told:
        kit(entry)
    assert why in str(told.value)


def test_a_setting_changes_one_way_only() -> None:
    one = "{id: a, label: A, values: [ntp], way: again, roles: [lead]}"
    with pytest.raises(Faults, match="two entries of changing name “ntp”"):
        kit(one, "{id: b, label: B, values: [dns, ntp], way: restart}")
    kit(one, "{id: b, label: B, values: [ntp], way: restart, roles: [archive, relay]}")


def test_what_changes_the_password_comes_first_and_one_node_after_the_other() -> None:
    sheet = planned(
        values__station="north",
        values__admin_password="keyring:other",
        roles__archive__count=3,
    )
    found = changes(sheet, standing(2))
    assert found.differs == ()
    steps = of_change(sheet, found, build(sheet, estate()))
    keys = [step.key for step in steps]
    assert len(set(keys)) == len(keys)
    order = [key for key in keys if key.startswith(("reconfigure/", "change/", "healthy/"))]
    nodes = ["lead-1", "archive-1", "archive-2"]
    assert order == [
        *(f"{what}/{node}" for node in nodes for what in ("reconfigure", "healthy")),
        *(f"change/station/{node}" for node in nodes),
    ]
    by_key = {step.key: step for step in steps}
    # who waits for its turn is checked as it was
    assert by_key["healthy/lead-1"].detail["before"] == "yes"
    after: dict[str, set[str]] = {}
    for step in steps:
        after[step.key] = set(step.after).union(*(after[key] for key in step.after))
    assert "change/station/archive-2" in after["clone/archive-3"] | after["define/archive-3"]
    built = {node.id: node for node in as_built(sheet, found)}
    assert {node.value("station") for node in built.values()} == {"north"}


def test_a_setting_whose_way_is_again_makes_its_nodes_again() -> None:
    own = kit("{id: zone, label: Zone, values: [time_zone], way: again, roles: [archive]}")
    sheet = planned(own, values__time_zone="Europe/Oslo")
    found = changes(sheet, standing(2))
    assert set(found.remade) == {"archive-1", "archive-2"}
    assert {(one.node, one.way) for one in found.alters} == {
        ("archive-1", "again"),
        ("archive-2", "again"),
    }
    # of the lead the kit says nothing: it stays, and that is told
    assert [(one.node, one.column) for one in found.differs] == [("lead-1", "time_zone")]


def test_a_node_that_is_resized_as_well_restarts_once() -> None:
    sheet = planned(values__ntp="10.44.0.6", roles__archive__values__size="large")
    found = changes(sheet, standing(2))
    keys = [step.key for step in of_change(sheet, found, build(sheet, estate()))]
    assert keys.count("start/archive-1") == 1
    assert keys.index("reconfigure/archive-1") < keys.index("resize/archive-1")
    assert keys.index("resize/archive-1") < keys.index("start/archive-1")
    built = {node.id: node for node in as_built(sheet, found)}
    assert built["archive-1"].value("ntp") == "10.44.0.6"
    assert built["archive-1"].value("size") == "large"


def test_sizes_are_put_back_one_node_after_the_other_when_the_others_are_there() -> None:
    there = standing(2)
    wanted = Wanted(repairs=tuple(there), sized=("archive-1", "archive-2"))
    sheet = planned()
    found = changes(sheet, there, wanted)
    sheet = replace(sheet, nodes=as_built(sheet, found))
    steps = of_change(sheet, found, build(sheet, estate()))
    after: dict[str, set[str]] = {}
    for step in steps:
        after[step.key] = set(step.after).union(*(after[key] for key in step.after))
    assert "resize/lead-1" not in after
    assert "services/lead-1" in after["resize/archive-1"]
    assert {"services/archive-1", "healthy/archive-1"} <= after["resize/archive-2"]
    assert "healthy/archive-2" not in after, "what others are like is not this run's affair"
