"""Nodes that become hosts: when in the sequence, and under which names."""

from __future__ import annotations

import pytest
from pydantic import ValidationError

from nimble_stone.core import checks, sequence
from nimble_stone.core.checks import Situation
from nimble_stone.core.estate import Host, Origin
from nimble_stone.core.kit.model import Kit
from tests.core.test_machine_plans import sheet, three, told
from tests.core.test_resolution import KITS

BY_KEEL = Origin(run="r1", plan="keel", node="storage-1", machine="basalt")


def host(name: str, origin: Origin | None = None) -> Host:
    return Host(
        name=name, address="10.44.2.7", credential="c", site="Kelda", bay="b", origin=origin
    )


def test_hosts_are_added_when_the_cluster_is_formed() -> None:
    where = three()
    steps = sequence.build(sheet(where), where)
    added = [step for step in steps if step.kind == "enroll"]
    assert [step.node for step in added] == ["storage-1", "storage-2", "storage-3"]
    # where the cluster stands already, joining it is all that a new node does
    own = {"storage-1": "token/storage-1"} | {f"storage-{n}": f"join/storage-{n}" for n in (2, 3)}
    assert all(
        set(step.after) == {f"unseed/{step.node}", "form/cluster", own[step.node]} for step in added
    )
    assert {(step.detail["user"], step.detail["datastore"]) for step in added} == {
        ("root", "ballast")
    }
    assert min(step.wave for step in added) > max(s.wave for s in steps if s not in added)


def test_without_a_cluster_step_all_nodes_come_first() -> None:
    where = three()
    kit = KITS["ballast"].model_copy(update={"forming": ()})
    steps = sequence.build(sheet(where, kit=kit), where)
    services = {step.key for step in steps if step.kind == "services"}
    assert all(services <= set(step.after) for step in steps if step.kind == "enroll")


def test_a_name_that_the_estate_cannot_take_is_told_before() -> None:
    where = three()
    names = {"keel-sto-1": host("keel-sto-1"), "keel-sto-2": host("keel-sto-2", BY_KEEL)}
    there = where.model_copy(update={"hosts": (*where.hosts, *names.values())})
    found = [
        one.node
        for one in checks.check(Situation(sheet(there), there, own_runs=frozenset({"r1"})))
        if one.code == "host-there"
    ]
    assert found == ["storage-1"]
    odd = sheet(where, nodes={"storage-1": {"name": "Keel_1"}})
    assert told(odd, where)["host-name"].severity == "blocker"
    assert not {"host-there", "host-name"} & set(told(sheet(where), where))


@pytest.mark.parametrize(
    ("change", "why"),
    [({"ssh": False}, "take no SSH logins"), ({"roles": "hosts"}, "do not live on machines")],
)
def test_a_kit_that_cannot_keep_it_is_refused(change: dict[str, object], why: str) -> None:
    document = KITS["ballast"].model_dump(mode="json", by_alias=True)
    if change.pop("roles", None):
        document["roles"][0]["lives_on"] = "hosts"
    with pytest.raises(ValidationError, match=why):
        Kit.model_validate(document | change)
