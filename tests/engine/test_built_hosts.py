"""From blank machines to VMs on them: nodes of a plan become hypervisor hosts of the estate, the
next plan is rolled out onto these, and they are not taken away while it stands.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import appliance
from tests.engine.test_on_machines import blockers, planned
from tests.support.machines import Place, inspect, machine_scene
from tests.support.processes import ended

MACHINES = ("chert", "gneiss", "slate")
HOSTS = [f"keel-sto-{n}" for n in (1, 2, 3)]
ON_THEM = """nimble-stone: plan/1
name: mast
kit: gauge-collector
package: Gauge Collector 4.2.0
bay: keel
values: {pool: kelda-survey, station: mast}
roles: {lead: {count: 1}, archive: {count: 2}}
"""


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    folder = tmp_path_factory.mktemp("built-hosts")
    with machine_scene(folder) as found:
        file = folder / "gauge.ova"
        file.write_bytes(appliance.ova(mib=1))
        found[2].upload(file, lambda *_: None)
        inspect(found[2], *MACHINES)
        yield found


def hosts_of(client: Client) -> dict[str, dict[str, Any]]:
    estate = client.call("GET", "/api/estate")
    return {host["name"]: host for host in estate["hosts"] if host["bay"] == "keel"}


def machines_of(client: Client) -> dict[str, dict[str, Any]]:
    estate = client.call("GET", "/api/estate")
    return {one["machine"]["name"]: one for one in estate["machines"]}


def held(client: Client) -> list[dict[str, Any]]:
    """Machines whose drives hold something that may be wiped."""
    rules = client.call("GET", "/api/estate/rules")["violations"]
    return [one for one in rules if "Wipe it" in one["remedy"]]


def rolled_out(client: Client, name: str) -> str:
    found = client.call("POST", f"/api/plans/{name}/run")
    assert found["run"], blockers(found["plan"])
    done = ended(client, found["run"])
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ] + [p for p in done["proofs"] if not p["passed"]]
    return str(found["run"])


def test_machines_become_hosts_and_carry_the_next_plan(place: Place) -> None:
    lab, _, client = place
    planned(client)
    metal = rolled_out(client, "keel")
    hosts = hosts_of(client)
    assert sorted(hosts) == HOSTS
    first = hosts["keel-sto-1"]
    assert (first["site"], first["credential"]) == ("Kelda", "hosts/keel")
    assert first["origin"] == {
        "run": metal,
        "plan": "keel",
        "node": "storage-1",
        "machine": "chert",
    }
    # what is told of the machines is of now, and nobody is told to wipe what a node needs
    machines = machines_of(client)
    assert {name: machines[name]["facts"]["power"] for name in MACHINES} == dict.fromkeys(
        MACHINES, "On"
    )
    assert machines["chert"]["lives"] == {
        "run": metal,
        "plan": "keel",
        "name": "keel-sto-1",
        "host": "keel-sto-1",
    }
    assert "chert" not in {one["host"] for one in held(client)}
    # they are read by the key, and the datastore that was formed is one for all
    facts = {name: client.call("GET", f"/api/estate/hosts/{name}")["facts"] for name in HOSTS}
    stores = {name: {s["name"]: s for s in one["datastores"]} for name, one in facts.items()}
    assert all(not one["trouble"] for one in facts.values())
    assert len({one["ballast"]["shared"] for one in stores.values()}) == 1
    assert stores["keel-sto-1"]["ballast"]["shared"]
    # the next plan finds its bay, its networks and its datastore there
    plan = planned(client, ON_THEM, "mast")
    plan = client.call(
        "POST", "/api/plans/mast/licence", {"version": plan["version"], "by": "mira"}
    )
    assert blockers(plan) == []
    assert {node["cells"]["host"]["value"] for node in plan["nodes"]} <= set(HOSTS)
    assert {node["cells"]["datastore"]["value"] for node in plan["nodes"]} == {"ballast"}
    gauges = rolled_out(client, "mast")
    # what carries VMs of another plan is not taken away
    with pytest.raises(StoneError, match=r"Hosts of this run are in use\. keel-sto-1: .*mast"):
        client.call("POST", f"/api/runs/{metal}/undo", {})
    assert client.call("GET", f"/api/runs/{metal}")["state"] == "done"
    with pytest.raises(StoneError, match="lives on chert"):
        client.call("DELETE", "/api/estate/machines/chert")
    # nor made again
    asked = client.call("GET", "/api/plans/keel/changes?again=storage-2")
    told = [one["message"] for one in asked["findings"] if one["code"] == "host-carries"]
    carried = [one["name"] for one in plan["nodes"] if one["cells"]["host"]["value"] == HOSTS[1]]
    assert told == [f"{HOSTS[1]} is a host of the estate and has {', '.join(carried)}."]
    client.call("POST", f"/api/runs/{gauges}/undo", {})
    ended(client, gauges, states=("undone",))
    client.call("DELETE", "/api/plans/mast")
    client.call("POST", f"/api/runs/{metal}/undo", {})
    gone = ended(client, metal, states=("undone",))
    told = " ".join(step["undo_message"] for step in gone["steps"])
    assert "keel-sto-1: removed from the estate" in told
    assert hosts_of(client) == {}
    machines = machines_of(client)
    assert {machines[name]["facts"]["power"] for name in MACHINES} == {"Off"}
    assert machines["chert"]["lives"] is None
    assert "chert" in {one["host"] for one in held(client)}
    assert "hosts/keel" not in str(client.call("GET", "/api/keyring"))
    assert {lab.show()["machines"][name]["power"] for name in MACHINES} == {"Off"}
