"""A host is lost for good: its nodes are made again elsewhere, and what is on it stays there until
the host is back and a person has it deleted.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from tests.engine.test_growing import members, start, values
from tests.engine.test_kill import killed_on_the_way, made
from tests.engine.test_preparation import do, preview
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan
from tests.support.raw import ssh

VIRSH = "virsh -c qemu:///system"


@pytest.fixture
def stands(client: Client) -> Iterator[str]:
    ready_plan(client, plan_text("mole"))
    run = start(client, "mole")
    assert ended(client, run)["state"] == "done"
    yield run
    client.call("DELETE", "/api/plans/mole")


def host_of(client: Client, node: str) -> str:
    nodes = client.call("GET", "/api/plans/mole")["nodes"]
    return str(next(one["host"] for one in nodes if one["id"] == node))


def lost(client: Client, host: str) -> dict[str, Any]:
    return dict(client.call("POST", "/api/plans/mole/run", {"lost": [host]}))


def leftover(client: Client, host: str) -> list[dict[str, Any]]:
    """What is said about VMs that were left on a host, once it was read again."""
    client.call("POST", "/api/estate/read", {"hosts": [host]})
    found = client.call("GET", "/api/estate/rules")["violations"]
    return [one for one in found if one["rule"] == "leftovers" and one["host"] == host]


def test_nodes_of_a_lost_host_are_made_again_elsewhere(
    client: Client, lab: LabProcess, server: ServerProcess, stands: str
) -> None:
    was, host = values(client.call("GET", "/api/plans/mole")), host_of(client, "archive-1")
    name = was["archive-1"]["name"]
    with pytest.raises(StoneError, match=f"{host} answers, so it is not lost"):
        lost(client, host)
    with pytest.raises(StoneError, match="no node of mole is deployed on “tern”"):
        lost(client, "tern")
    assert leftover(client, host) == []

    lab.turn(host, unreachable=True)
    there = sorted(lab.show()["hosts"][host]["guests"])
    told = server.cli("plan", "changes", "mole", "--lost", host, check=1).stdout
    assert f"Make again {name}" in told
    begun = lost(client, host)
    stopped = ended(client, begun["run"])
    assert stopped["state"] == "trouble", "its VM still runs: the address would be there twice"
    (failed,) = [step for step in stopped["steps"] if step["state"] == "failed"]
    assert failed["key"] == "start/archive-1"
    assert f"of {name} is in use" in failed["message"]
    lab.turn(host, unreachable=False)
    ssh(lab, host, f"{VIRSH} destroy {name}", "")
    lab.turn(host, unreachable=True)
    client.call("POST", f"/api/runs/{begun['run']}/retry", {"steps": [failed["key"]]})
    done = ended(client, begun["run"], states=("done", "unproved"))
    assert done["state"] == "done"
    new = host_of(client, "archive-1")
    assert new != host
    assert name in members(done)
    now = values(client.call("GET", "/api/plans/mole"))
    assert now["archive-1"]["address"] == was["archive-1"]["address"]
    assert sorted(lab.show()["hosts"][host]["guests"]) == there, "nothing was asked of the host"
    retired = next(step for step in done["steps"] if step["kind"] == "retire")
    assert f"left on {host}" in str(retired)

    # the host is back with its VM: said, and deleted when a person says so
    lab.turn(host, unreachable=False)
    (broken,) = leftover(client, host)
    assert f"is on {new} now" in broken["message"]
    action = broken["action"]
    assert action["kind"] == "remove-vm"

    def refusals(**more: Any) -> list[str]:
        return [
            text for step in preview(client, action | more)["steps"] for text in step["refusals"]
        ]

    assert refusals() == [f"type “{host} {name}” to confirm"]
    assert refusals(confirmed=f"{host} {name}") == []
    # the node's VM of today is none of those
    theirs = {"host": new, "confirmed": f"{new} {name}"}
    assert any("is not a VM that was left" in text for text in refusals(**theirs))
    typed = action | {"confirmed": f"{host} {name}"}
    # an earlier try was cut after the VM was undefined: its disks go nevertheless
    ssh(lab, host, f"{VIRSH} undefine {name} --nvram", "")
    do(client, typed)
    assert name not in lab.show()["hosts"][host]["guests"]
    assert leftover(client, host) == []
    assert [one for one in ours(lab) if f"ns-{stands}-{name}" in one] == []

    # what was read before a rollback says nothing of what it took away
    before = {node["host"] for node in client.call("GET", "/api/plans/mole")["nodes"]}
    client.call("POST", "/api/estate/read", {"hosts": sorted(before)})
    undo(client, begun["run"])
    undo(client, stands)
    rules = client.call("GET", "/api/estate/rules")["violations"]
    assert [one for one in rules if one["rule"] == "leftovers"] == []
    assert ours(lab) == []


def test_killed_on_the_way_nodes_of_a_lost_host_are_made_once(
    client: Client, lab: LabProcess, server: ServerProcess, stands: str
) -> None:
    host = host_of(client, "archive-1")
    name = values(client.call("GET", "/api/plans/mole"))["archive-1"]["name"]
    ssh(lab, host, f"{VIRSH} destroy {name}", "")
    lab.turn(host, unreachable=True)
    before = made(lab, "started")
    run = str(lost(client, host)["run"])
    met = killed_on_the_way(server, run, most=10, least=2, spread=4)
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    assert len(met) >= 5
    assert made(lab, "started") - before == Counter({name: 1})
    lab.turn(host, unreachable=False)
    undo(client, run)
    undo(client, stands)
    # the first run's rollback takes what was left there, now that the host answers
    assert ours(lab) == []
