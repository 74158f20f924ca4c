"""VMs that nobody marked become the nodes of a plan, and are deployed like others from then on."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from tests.engine.test_growing import change, members, start
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    ended,
    prepare,
    ready_plan,
)
from tests.support.raw import ssh

MARK = "urn:nimble-stone:mark:1"
VIRSH = "virsh -c qemu:///system"
WHERE = "/api/deployments/{}/adopt"


@pytest.fixture(scope="module")
def found(client: Client, server: ServerProcess, lab: LabProcess) -> dict[str, str]:
    """Three VMs without any mark, whose server is no more: host of each by name."""
    ready_plan(client, plan_text("quay"))
    run = start(client, "quay")
    assert ended(client, run)["state"] == "done"
    hosts = {n["name"]: n["host"] for n in client.call("GET", "/api/plans/quay")["nodes"]}
    server.kill()
    for name, host in hosts.items():
        for way in ("--config", "--live"):
            ssh(lab, host, f"{VIRSH} metadata {name} {MARK} --remove {way}", "")
    return hosts


@pytest.fixture(scope="module")
def second(
    found: dict[str, str],
    lab: LabProcess,
    package: Path,
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[ServerProcess]:
    """A server that knows nothing of them."""
    data = tmp_path_factory.mktemp("second") / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    process = ServerProcess(data)
    prepare(process.client(), lab, package)
    yield process
    process.stop()


@pytest.fixture
def fresh(second: ServerProcess) -> Client:
    return second.client()


def marks(lab: LabProcess, hosts: dict[str, str]) -> list[str]:
    """Those of the VMs that bear a mark, stored and live."""
    return [
        name
        for name, host in hosts.items()
        if all(
            MARK in ssh(lab, host, f"{VIRSH} dumpxml {name}{how}", "")
            for how in (" --inactive", "")
        )
    ]


def offered(client: Client, plan: str, **vms: str) -> dict[str, Any]:
    body = {"vms": {node.replace("_", "-"): vm for node, vm in vms.items()}}
    return dict(client.call("POST", f"/api/deployments/{plan}/adoptable", body))


def test_vms_become_nodes_and_are_released_again(
    fresh: Client, second: ServerProcess, lab: LabProcess, found: dict[str, str]
) -> None:
    ready_plan(fresh, plan_text("quay"))
    offer = offered(fresh, "quay")
    proposed = {one["name"]: one["vm"] for one in offer["nodes"]}
    assert proposed == {name: f"{host}/{name}" for name, host in found.items()}
    assert all(one["proposed"] and not one["troubles"] for one in offer["nodes"])
    assert marks(lab, found) == []

    vms = {one["node"]: one["vm"] for one in offer["nodes"]}
    before = {host: len(one["guests"]) for host, one in lab.show()["hosts"].items()}
    told = second.cli("deployment", "adopt", "quay")
    assert all(f"{name}: " in told.stdout for name in found)
    begun = fresh.call("POST", WHERE.format("quay"), {"vms": vms})
    done = ended(fresh, begun["run"])
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    assert {step["kind"] for step in done["steps"]} == {"adopt", "boot", "services"}
    assert members(done) == "quay-arc-1, quay-arc-2, quay-lead"
    assert sorted(marks(lab, found)) == sorted(found)
    assert {host: len(one["guests"]) for host, one in lab.show()["hosts"].items()} == before
    # what stands is not adopted twice, and nothing is to be changed
    assert offered(fresh, "quay")["nodes"] == []
    changes = fresh.call("GET", "/api/plans/quay/changes")
    assert changes["nodes"] == 3
    # though the facts are older than the marks
    assert [one for one in changes["findings"] if one["severity"] == "blocker"] == []
    assert not any(changes[what] for what in ("adds", "removes", "resizes", "grows", "moves"))

    words = [one["words"] for one in fresh.call("GET", "/api/deployments/quay/history")]
    assert f"run {begun['run']} started: 3 to adopt" in words
    goes = fresh.call("GET", "/api/deployments/quay/retiring")["nodes"]
    assert {one["disks"] for one in goes} == {1}

    undo(fresh, begun["run"])
    assert marks(lab, found) == []
    assert all(lab.show()["hosts"][host]["guests"] for host in found.values())
    assert {host: len(one["guests"]) for host, one in lab.show()["hosts"].items()} == before


def test_a_host_that_is_not_reached_hides_its_own_vms_only(
    fresh: Client, lab: LabProcess, found: dict[str, str]
) -> None:
    silent = found["quay-arc-1"]
    assert offered(fresh, "quay")["unread"] == {}
    lab.turn(silent, unreachable=True)
    try:
        offer = offered(fresh, "quay")
    finally:
        lab.turn(silent, unreachable=False)
    assert set(offer["unread"]) == {silent}
    there = {one["vm"] for one in offer["nodes"] if one["vm"]}
    assert there == {f"{host}/{name}" for name, host in found.items() if host != silent}
    fresh.call("POST", "/api/estate/read", {})


def test_adopted_nodes_change_like_others_and_go_with_their_disks(
    fresh: Client, second: ServerProcess, lab: LabProcess, found: dict[str, str]
) -> None:
    told = second.cli("deployment", "adopt", "quay", "--confirm", "quay")
    assert "3 VMs adopted" in told.stdout
    # a size, a disk, one more node, one node less: as for nodes that were built here
    change(fresh, "quay", **{"nodes__archive-1__size": "large", "roles__archive__count": 3})
    run = start(fresh, "quay")
    done = ended(fresh, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    assert "quay-arc-3" in members(done)
    assert {s["key"] for s in done["steps"] if s["kind"] == "resize"} == {"resize/archive-1"}
    drift = fresh.call("POST", "/api/deployments/quay/read", {})
    assert drift["drift"] == []
    undo(fresh, run)

    again = start(fresh, "quay", "archive-2")
    done = ended(fresh, again)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    # its disk of before is gone, though others made it; what was in its CD-ROM drive stays
    assert [one for one in ours(lab) if "-quay-arc-2-disk" in one] == [
        f"ns-{again}-quay-arc-2-disk0"
    ]

    second.cli("deployment", "retire", "quay", "--confirm", "quay")
    left = ours(lab)
    # of the server of before, nothing but its config ISOs and image copies is left
    assert {one for one in left if not one.startswith("ns-base-")} == {
        one for one in left if one.endswith("-config")
    }


@pytest.mark.parametrize(
    ("vms", "why"),
    [
        ({}, "No VM is chosen"),
        ({"lead-1": "gannet/none"}, "no unmarked VM gannet/none was found"),
        ({"keel-1": "gannet/none"}, "node “keel-1” is not in the plan"),
    ],
)
def test_what_cannot_be_adopted_is_said(fresh: Client, vms: dict[str, str], why: str) -> None:
    if "slip" not in {one["id"] for one in fresh.call("GET", "/api/plans")}:
        ready_plan(fresh, plan_text("slip"))
    with pytest.raises(StoneError, match=why):
        fresh.call("POST", WHERE.format("slip"), {"vms": vms})
