"""Nodes that carry several roles: shared out, counted, checked, and seen by all that asks for a
role.
"""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from nimble_stone.core import headroom, ledger, sequence
from nimble_stone.core.acceptance import cluster
from nimble_stone.core.acceptance.model import Subject
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan import filled
from nimble_stone.core.plan.carried import named, refused, shared_out
from nimble_stone.core.plan.columns import data_drives
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.runs import document
from tests.core.test_machine_plans import disk, estate, machine, sheet, told
from tests.core.test_resolution import KITS

COMPUTE = {
    "id": "compute",
    "label": "compute",
    "short": "com",
    "count": {"least": 0, "most": 64, "usual": 2},
    "own_nodes": False,
    "carried_by": ["storage"],
    "not_with": ["gateway"],
}
GATEWAY = {
    "id": "gateway",
    "label": "gateway",
    "short": "gw",
    "count": {"least": 0, "most": 8, "usual": 1},
    "own_nodes": False,
    "carried_by": ["storage"],
    "quorum": True,
}
FRONT = {"id": "front", "label": "front", "short": "fr", "count": {"most": 8, "usual": 1}}


def kit(*roles: dict[str, Any], **changes: Any) -> Kit:
    """Ballast with further roles."""
    document = KITS["ballast"].model_dump(mode="json", by_alias=True, exclude_unset=True)
    document["roles"] = [*document["roles"], *roles]
    return Kit.model_validate(document | changes)


HYPERCONVERGED = kit(COMPUTE, GATEWAY)


def machines(count: int) -> Any:
    return estate(
        *(
            machine(f"m{n}", disk(f"m{n}-s", 200), disk(f"m{n}-1"), disk(f"m{n}-2"))
            for n in range(1, count + 1)
        )
    )


def carries(found: Sheet) -> dict[str, str]:
    return {node.id: " ".join(node.roles[1:]) for node in found.nodes}


def test_roles_are_shared_out_over_the_machines() -> None:
    found = sheet(machines(4), kit=HYPERCONVERGED)
    # those that must not share a node do not; the others get what is left
    assert carries(found) == {
        "storage-1": "compute",
        "storage-2": "compute",
        "storage-3": "gateway",
        "storage-4": "",
    }
    assert found.nodes[0].cells["also"].origin == "computed"
    assert (found.count_of("storage"), found.count_of("compute")) == (4, 2)
    assert filled.filled("{roles} {carries.gateway} {count.compute}", found.nodes[2], found) == (
        "storage gateway 1 2"
    )
    assert not {code for code in told(found, machines(4)) if code.startswith("role")}


def test_what_is_typed_holds_and_the_rest_is_shared_out_anew() -> None:
    found = sheet(
        machines(4),
        kit=HYPERCONVERGED,
        roles={"compute": {"count": 3}},
        nodes={"storage-4": {"also": "gateway"}, "storage-1": {"also": "none"}},
    )
    assert carries(found) == {
        "storage-1": "",
        "storage-2": "compute",
        "storage-3": "compute",
        "storage-4": "gateway",
    }
    message = told(found, machines(4))["role-carriers"]
    assert message.message == "2 nodes carry role compute; the plan says 3."
    assert message.remedy is not None
    assert message.remedy.edit is not None
    assert message.remedy.edit.path == ("roles", "compute", "count")


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("compute, gateway", "gateway and compute must not share a node"),
        ("storages", "Ballast has no role “storages”"),
        ("storage", "role storage is carried by no other role"),
    ],
)
def test_what_cannot_be_carried_blocks_and_can_be_left_out(text: str, why: str) -> None:
    found = sheet(machines(4), kit=HYPERCONVERGED, nodes={"storage-2": {"also": text}})
    message = told(found, machines(4))["role-not-carried"]
    assert message.severity == "blocker"
    assert why in message.message
    assert message.remedy is not None
    assert message.remedy.edit is not None
    left = str(message.remedy.edit.value)
    after = sheet(machines(4), kit=HYPERCONVERGED, nodes={"storage-2": {"also": left}})
    assert "role-not-carried" not in told(after, machines(4))


def test_setup_virtual_addresses_and_losses_ask_who_carries_a_role() -> None:
    changes = HYPERCONVERGED.model_dump(mode="json", by_alias=True, exclude_unset=True)
    step = {
        "id": "route",
        "label": "Route",
        "role": "gateway",
        "call": {"path": "/cgi-bin/route"},
        "wait": {"expected": 1, "longest": 5},
    }
    balanced = {
        "id": "way",
        "label": "Way out",
        "virtual": "portal",
        "port": 80,
        "members": ["gateway"],
        "member_port": 8080,
    }
    own = Kit.model_validate(
        changes | {"forming": [*changes["forming"], step], "balanced": [balanced]}
    )
    where = machines(4)
    found = sheet(where, kit=own)
    steps = {step.key: step for step in sequence.build(found, where)}
    assert [key for key in steps if key.startswith("route/")] == ["route/storage-3"]
    assert filled.members_of(own.balanced[0], found) == [found.nodes[2].value("address")]
    [asked] = [kind for kind in cluster.KINDS if kind.id == "balanced"]
    subject = Subject(found, None, own.acceptance[0])
    assert asked.expect(subject) == (cluster.Balanced("Way out", (found.nodes[2].name,)),)
    lost = {loss.hosts: loss.words for loss in headroom.losses(found)}
    assert any("gateway down" in words for words in lost[("m3",)])
    line = next(line for line in ledger.losses(found) if line.host == "m1")
    assert "1 of 2 compute left" in line.text
    # a run's document says the same
    again = document.read(document.write(found, list(steps.values()), where), found.packages).sheet
    assert carries(again) == carries(found)
    assert again.count_of("compute") == 2


def test_an_idle_drive_of_a_gateway_is_offered_to_storage() -> None:
    """The first machine is the gateway, so its second drive has nothing to do."""
    storage = KITS["ballast"].roles[0].model_copy(update={"carried_by": ("front",)})
    document = KITS["ballast"].model_dump(mode="json", by_alias=True, exclude_unset=True)
    document["roles"] = [
        storage.model_dump(mode="json", exclude_unset=True),
        FRONT | {"lives_on": "machines"},
    ]
    document["extra_disks"][0]["roles"] = ["storage"]
    own, where = Kit.model_validate(document), machines(4)
    three = {"storage": {"count": 3}}
    found = sheet(where, kit=own, roles=three)
    front = found.by_role["front"][0]
    assert front.value(data_drives("data")) == ""
    remedy = told(found, where)["drives-idle"].remedy
    assert remedy is not None
    assert remedy.edit is not None
    assert remedy.label == f"Let {front.name} carry storage too"
    assert remedy.edit.path == ("nodes", "front-1", "also")
    after = sheet(where, kit=own, roles=three, nodes={"front-1": {"also": remedy.edit.value}})
    host = front.value("host")
    assert after.by_role["front"][0].value(data_drives("data")) == f"{host}-1, {host}-2"
    assert len(after.carriers["storage"]) == 4
    assert "drives-idle" not in told(after, where)


def test_lists_of_nodes_are_written_as_the_product_wants_them() -> None:
    lists = [
        {"id": "peers", "each": "{name}=http://{address}:2380"},
        {"id": "ways", "of": ["gateway"], "each": "{address}", "between": " "},
    ]
    own = kit(COMPUTE, GATEWAY, lists=lists)
    found = sheet(machines(2), kit=own, roles={"storage": {"count": 2}, "compute": {"count": 0}})
    nodes = found.nodes
    assert filled.filled("[{list.peers}] [{list.ways}]", nodes[1], found) == (
        "[" + ",".join(f"{one.name}=http://{one.value('address')}:2380" for one in nodes) + "]"
        f" [{nodes[0].value('address')}]"
    )
    for wrong, why in (
        ({"id": "x", "each": "{list.peers}"}, "has a list in it"),
        ({"id": "x", "each": "{nothing}"}, "never defines"),
        ({"id": "x", "of": ["nobody"], "each": "{name}"}, "not a role of this kit"),
    ):
        with pytest.raises(ValidationError, match=why):
            kit(COMPUTE, GATEWAY, lists=[wrong])


@pytest.mark.parametrize(
    ("roles", "why"),
    [
        ([GATEWAY | {"carried_by": []}], "has no nodes: say what it is “carried_by”"),
        ([GATEWAY | {"carried_by": ["nobody"]}], "is carried by “nobody”"),
        ([GATEWAY | {"not_with": ["nobody"]}], "is not with “nobody”"),
        ([GATEWAY | {"sizes": ["small"]}], "it cannot have “sizes”"),
        ([GATEWAY, COMPUTE | {"carried_by": ["gateway"]}], "is carried by “gateway”"),
        (
            [GATEWAY, FRONT | {"after": ["gateway"], "lives_on": "machines"}, COMPUTE],
            "",
        ),
        (
            [
                GATEWAY | {"carried_by": ["front"]},
                FRONT | {"after": ["gateway"], "lives_on": "machines"},
            ],
            "comes after “gateway”, which its own nodes may carry",
        ),
    ],
)
def test_kits_with_carried_roles_are_checked(roles: list[dict[str, Any]], why: str) -> None:
    if not why:
        assert kit(*roles).role("gateway") is not None
        return
    with pytest.raises(ValidationError) as refusal:
        kit(*roles)
    assert why in str(refusal.value)


TYPED = st.sampled_from(["", "none", "compute", "gateway", "compute gateway", "other", "storage"])


@given(
    st.lists(TYPED, min_size=1, max_size=9),
    st.integers(0, 9),
    st.integers(0, 8),
)
def test_shared_out_within_the_rules_whatever_is_typed(
    typed: list[str], compute: int, gateway: int
) -> None:
    storage = HYPERCONVERGED.roles[0]
    plan = Plan.model_validate(
        {
            "nimble-stone": "plan/1",
            "name": "keel",
            "kit": "ballast",
            "roles": {"compute": {"count": compute}, "gateway": {"count": gateway}},
            "nodes": {f"storage-{n}": {"also": t} for n, t in enumerate(typed, 1) if t},
        }
    )
    rows = [(storage, n) for n in range(1, len(typed) + 1)]
    found = shared_out(plan, HYPERCONVERGED, rows, {})
    free = 0
    for n, text in enumerate(typed, 1):
        roles = found[f"storage-{n}"]
        for at, one in enumerate(roles):
            assert not refused(HYPERCONVERGED, storage, one, roles[:at])
        if text:
            assert set(roles) <= set(named(text))
        free += not text
    for ident, want in (("compute", compute), ("gateway", gateway)):
        have = sum(ident in roles for roles in found.values())
        given = sum(
            ident in roles and bool(typed[int(key.split("-")[1]) - 1])
            for key, roles in found.items()
        )
        assert have <= max(want, given)
        # compute goes first: only then may it be short where nodes are free
        if ident == "compute":
            assert have >= min(want, given + free)


def test_a_kit_whose_nodes_are_asked_by_command_has_no_members_to_ask_for() -> None:
    command = {"port": 22, "ssh": "state --json", "ready": {"state": "ready"}}
    with pytest.raises(ValidationError, match="“members” asks for members"):
        kit(service=command)
    kit(service=command, acceptance=[], healthy=[], stages=[])
