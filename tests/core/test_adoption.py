"""VMs that others made, as nodes of a plan: which is which, what is taken over, what stays."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core import adoption, sequence
from nimble_stone.core.adoption import Disk, Existing
from nimble_stone.core.change_sequence import of_change
from nimble_stone.core.deployment import BuiltNode, Changes, Wanted, as_built, changes
from nimble_stone.core.plan.packages import Packages
from nimble_stone.core.plan.sheet import Node, Sheet, resolve
from nimble_stone.core.runs import document
from nimble_stone.core.units import GIB
from tests.core.scene import KIT, PACKAGE, estate, plan, sheet

NEWER = replace(PACKAGE, sha256="b" * 64)
OWN = [disk.capacity_bytes for disk in PACKAGE.descriptor.disks]


def vm(node: Node, **more: Any) -> Existing:
    """A VM that is just as a node is planned."""
    sizes = [*OWN, *(disk.capacity_bytes for disk in node.extra)]
    host = more.get("host", node.value("host"))
    values: dict[str, Any] = {
        "host": host,
        "name": node.name,
        "uuid": f"uuid of {node.name}",
        "running": True,
        "vcpu": node.vcpu,
        "memory_bytes": node.memory_bytes,
        "disks": tuple(Disk(f"{host}-local", f"{node.name}.{n}", s) for n, s in enumerate(sizes)),
        "networks": (node.value("network"),),
        "macs": (f"52:54:00:00:00:{node.number:02d}",),
        "autostart": True,
    }
    return Existing(**values | more)


def adopted(here: Sheet, **chosen: Existing) -> Changes:
    return changes(here, {}, Wanted(adopts={k.replace("_", "-"): v for k, v in chosen.items()}))


def stands(here: Sheet, **more: dict[str, Any]) -> dict[str, BuiltNode]:
    """All nodes of the plan, adopted; `more`: what is otherwise about the VM of a node."""
    chosen = {node.id: vm(node, **more.get(node.id.replace("-", "_"), {})) for node in here.nodes}
    there = adoption.as_deployed(here, chosen)
    return {ident: BuiltNode(node, "r1", PACKAGE) for ident, node in there.items()}


def test_names_and_addresses_say_which_vm_is_which_and_likeness_the_rest() -> None:
    here = sheet(roles__archive__count=3)
    lead, first, second, third = here.nodes
    found = [
        vm(third, name="attic-2"),
        vm(first),
        vm(lead, name="queen", macs=("52:54:00:aa:aa:aa",)),
        vm(second, name="attic-1"),
        vm(first, name="print-server", vcpu=1, memory_bytes=GIB, networks=("office",)),
    ]
    named = resolve(
        plan(roles__archive__count=3, **{"nodes__lead-1__mac": "52:54:00:aa:aa:aa"}),
        KIT,
        PACKAGE,
        estate(),
    )
    proposed = {node: one.name for node, one in adoption.propose(named, found).items()}
    assert proposed["archive-1"] == first.name
    assert (proposed["archive-2"], proposed["archive-3"]) == ("attic-1", "attic-2")
    assert "print-server" not in proposed.values()


@given(st.lists(st.sampled_from(range(4)), max_size=8), st.integers(0, 3))
def test_no_vm_is_proposed_twice_and_none_that_is_not_there(
    named: list[int], archives: int
) -> None:
    here = sheet(roles__archive__count=max(1, archives))
    found = [
        vm(here.nodes[number % len(here.nodes)], name=f"vm{place}")
        for place, number in enumerate(named)
    ]
    proposed = adoption.propose(here, found)
    assert len({one.ident for one in proposed.values()}) == len(proposed)
    assert set(proposed.values()) <= set(found)
    assert set(proposed) <= {node.id for node in here.nodes}


def test_a_node_is_planned_as_its_vm_is_and_stands_so() -> None:
    here = sheet()
    node = next(one for one in here.nodes if one.id == "archive-1")
    large = here.packages.sizes("archive")["large"]
    other = next(one for one in ("gannet", "petrel") if one != node.value("host"))
    one = vm(
        node,
        name="attic",
        host=other,
        vcpu=large.vcpu,
        memory_bytes=large.memory_bytes,
        address="10.40.0.77",
    )
    wanted = {edit.path[-1]: edit.value for edit in adoption.edits(here, node, one)}
    assert wanted["name"] == "attic"
    assert wanted["host"] == other
    assert wanted["datastore"] == f"{other}-local"
    assert wanted["size"] == "large"
    assert wanted["address"] == "10.40.0.77"
    differs = {row.label: row for row in adoption.compared(here, node, one) if not row.same}
    assert differs["vCPU"].then == "plan"
    # a size that the package does not have is not planned: the next run puts it right
    odd = replace(one, vcpu=large.vcpu + 3)
    assert "size" not in {edit.path[-1] for edit in adoption.edits(here, node, odd)}
    assert {row.then for row in adoption.compared(here, node, odd) if row.label == "vCPU"} == {
        "run"
    }
    there = stands(here, archive_1={"vcpu": large.vcpu + 3})
    assert there["archive-1"].node.vcpu == large.vcpu + 3
    assert changes(here, there).resizes == ("archive-1",)


def test_a_disk_is_known_by_its_datastore_or_by_its_path() -> None:
    facts = estate().facts["gannet"]
    store = facts.datastores[0]
    assert adoption.disk_of(facts, "attic/one.qcow2") == Disk("attic", "one.qcow2")
    assert adoption.disk_of(facts, f"{store.path}/one.qcow2") == Disk(store.name, "one.qcow2")
    for outside in ("/srv/attic/one.qcow2", f"{store.path}/deeper/one.qcow2"):
        assert adoption.disk_of(facts, outside) == Disk("", outside)


def test_what_is_as_planned_asks_for_nothing_and_a_run_marks_it_only() -> None:
    here = sheet()
    chosen = {node.id.replace("-", "_"): vm(node) for node in here.nodes}
    found = adopted(here, **chosen)
    assert found.alone
    assert found.any
    steps = of_change(here, found, sequence.build(here, estate()))
    assert {step.kind for step in steps} == {"adopt", "boot", "services"}
    assert {step.detail["uuid"] for step in steps if step.kind == "adopt"} == {
        one.uuid for one in chosen.values()
    }
    there = stands(here)
    assert not changes(here, there).any


def test_a_run_that_adopted_reads_back_with_the_disks_it_found() -> None:
    here = sheet()
    found = adopted(here, archive_1=vm(here.by_id["archive-1"]))
    nodes = as_built(here, found)
    written = document.write(replace(here, nodes=nodes), [], estate())
    (read,) = document.read(written, Packages()).sheet.nodes
    assert read.volumes == nodes[0].volumes
    assert read.is_adopted


def test_an_adopted_node_gets_disks_but_neither_moves_nor_another_system_disk() -> None:
    here = sheet()
    there = stands(here)
    before = there["lead-1"].node
    other = next(one for one in ("gannet", "fulmar", "petrel") if one != before.value("host"))
    moved = resolve(plan(**{"nodes__lead-1__host": other}), KIT, PACKAGE, estate())
    found = changes(moved, there)
    assert found.moves == ()
    assert ("lead-1", "host") in {(one.node, one.column) for one in found.differs}

    newer = resolve(plan(), KIT, NEWER, estate())
    ways = {one.node: one.way for one in changes(newer, there).upgrades}
    assert ways == {"lead-1": "", "archive-1": "again", "archive-2": "again"}

    more = {"nodes__archive-1__disk.readings": 32, "nodes__archive-1__disk.readings.count": 1}
    (grown,) = changes(sheet(**more), there).grows
    assert (grown.node, grown.was_bytes, grown.now_bytes) == ("archive-1", 0, 32 * GIB)


@pytest.mark.parametrize(
    ("otherwise", "why"),
    [
        ({"running": False}, "is off"),
        ({"disks": (Disk("", "/srv/x.img"),)}, "is in no datastore"),
        ({"disks": ()}, "0 disks; the package has 1"),
        ({"networks": ()}, "is on no network"),
        ({}, ""),
    ],
)
def test_what_cannot_be_adopted_says_why(otherwise: dict[str, Any], why: str) -> None:
    here = sheet()
    node = here.nodes[0]
    troubles = adoption.troubles(here, node, vm(node, **otherwise))
    assert (why in troubles[0]) if why else troubles == []
