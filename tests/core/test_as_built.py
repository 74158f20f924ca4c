"""How a deployment was built on a day, and what changed between two."""

from __future__ import annotations

from dataclasses import replace

from nimble_stone.core.as_built import Changed, compared, record_of
from nimble_stone.core.deployment import BuiltNode
from nimble_stone.core.plan.cells import Cell
from tests.core.scene import PACKAGE, sheet


def test_two_days_are_compared_node_by_node() -> None:
    built = {node.id: BuiltNode(node, "r1", PACKAGE) for node in sheet().nodes}
    before = {ident: record_of(one, f"vm of {ident}") for ident, one in built.items()}
    assert before["lead-1"].values["package"] == "Gauge Collector 4.2.0"
    assert before["lead-1"].values["vm"] == "vm of lead-1"
    assert compared(before, before) == []
    lead = built["lead-1"].node
    moved = replace(lead, cells={**lead.cells, "host": Cell("skua", "node")})
    after = {"lead-1": record_of(BuiltNode(moved, "r1", PACKAGE), "vm of lead-1")}
    after["archive-1"] = before["archive-1"]
    after["archive-9"] = before["archive-2"]
    assert compared(before, after) == [
        Changed("lead-1", "western-lead", "changed", "host", lead.value("host"), "skua"),
        Changed("archive-9", "western-arc-2", "added"),
        Changed("archive-2", "western-arc-2", "removed"),
    ]
