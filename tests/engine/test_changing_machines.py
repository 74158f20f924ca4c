"""A deployment on bare machines changes: it grows, a node is made again on its own machine or on
another one, gets another version, and leaves.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from importlib.resources import files
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import products
from tests.engine.test_kill import killed_on_the_way, refused, step_events
from tests.engine.test_on_machines import NAMES, PLAN, SPARES, blockers, planned, started
from tests.support.machines import Place, inspect, machine_scene
from tests.support.processes import ended, wait_for

pytestmark = pytest.mark.timeout(600)
BALLAST = products.ALL["ballast"]
NEWER = "1.9.3"


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    """Three nodes of “bilge” on machines, four more machines idle."""
    with machine_scene(tmp_path_factory.mktemp("changing-machines")) as found:
        _, server, client = found
        newer = server.data.parent / "ballast-newer.ova"
        newer.write_bytes(products.ova(BALLAST.model_copy(update={"version": NEWER}), mib=1))
        client.upload(newer, lambda *_: None)
        inspect(client, *NAMES, *SPARES)
        # a system that does not shut down is waited for less long
        kit = (files("nimble_stone.kits") / "ballast.yaml").read_text()
        kit = kit.replace("id: ballast\n", "id: ballast-brief\n", 1)
        kit = kit.replace("    lives_on: either\n", "    lives_on: either\n    vm: {stop_s: 4}\n")
        client.call("PUT", "/api/kits", {"text": kit})
        text = PLAN[: PLAN.index("nodes:")].replace("name: keel", "name: bilge")
        planned(client, text.replace("kit: ballast", "kit: ballast-brief"), "bilge")
        done(client, started(client, "bilge"))
        yield found


def done(client: Client, run: str) -> dict[str, Any]:
    found = ended(client, run, 240)
    assert found["state"] == "done", refused(found)
    return found


def edit(client: Client, *path: str, value: Any) -> None:
    version = client.call("GET", "/api/plans/bilge")["version"]
    edits = [{"path": list(path), "value": value}]
    client.call("PATCH", "/api/plans/bilge", {"version": version, "edits": edits})


def begun(client: Client, **wanted: list[str]) -> str:
    found = client.call("POST", "/api/plans/bilge/run", wanted)
    assert found["run"], blockers(found["plan"])
    return str(found["run"])


def machines_of(client: Client) -> dict[str, str]:
    """Node → its machine."""
    nodes = client.call("GET", "/api/plans/bilge")["nodes"]
    return {one["id"]: one["cells"]["host"]["value"] for one in nodes}


def hosts(client: Client) -> set[str]:
    return {one["name"] for one in client.call("GET", "/api/estate")["hosts"]}


def cell(client: Client, node: str, column: str) -> str:
    nodes = client.call("GET", "/api/plans/bilge")["nodes"]
    return str(next(one for one in nodes if one["id"] == node)["cells"][column]["value"])


def test_a_cluster_on_machines_grows(place: Place) -> None:
    lab, _, client = place
    was = machines_of(client)
    edit(client, "roles", "storage", "count", value=4)
    found = done(client, begun(client))
    now = machines_of(client)
    assert {node: now[node] for node in was} == was
    # it becomes a host when it has joined: only then does it have the cluster's storage
    order = [step["key"] for step in found["steps"]]
    assert order.index("join/storage-4") < order.index("enroll/storage-4")
    assert lab.show()["machines"][now["storage-4"]]["power"] == "On"
    assert "bilge-sto-4" in hosts(client)


def test_a_node_is_made_again_on_its_own_machine(place: Place) -> None:
    """Its drives hold its own system and data: those, and no others, may be written over."""
    lab, server, client = place
    machine = machines_of(client)["storage-2"]
    drives = [cell(client, "storage-2", "system.drive")]
    drives += cell(client, "storage-2", "disk.data.drives").split(", ")
    told = server.cli("plan", "changes", "bilge", "--again", "storage-2", check=1).stdout
    assert f"Drives of {machine} (bilge-sto-2), wiped: {', '.join(drives)}" in told
    before = lab.show()["machines"][machine]
    found = done(client, begun(client, again=["storage-2"]))
    seen = lab.show()["machines"][machine]
    assert seen["wiped"][len(before["wiped"]) :] == drives
    assert (seen["power"], seen["image"]) == ("On", "")
    keys = [step["key"] for step in found["steps"]]
    assert keys[:2] == ["leave/leave/storage-2", "retire/storage-2"]
    labels = {one["label"] for one in found["proofs"] if one["passed"]}
    assert {"All members joined", "Stored on one, read on all"} <= labels


def test_the_first_node_made_again_stays_the_first(place: Place) -> None:
    """Who joins later asks it, and not whichever was made least recently."""
    _, _, client = place
    done(client, begun(client, again=["storage-1"]))
    assert next(iter(machines_of(client))) == "storage-1"
    done(client, begun(client, again=["storage-3"]))
    found = client.call("POST", "/api/deployments/bilge/read")
    assert found["drift"] == []


def test_a_node_planned_on_another_machine_is_made_there(place: Place) -> None:
    lab, server, client = place
    was = machines_of(client)
    spare = sorted({*NAMES, *SPARES} - set(was.values()))[0]
    edit(client, "nodes", "storage-3", "host", value=spare)
    told = server.cli("plan", "changes", "bilge", check=1).stdout
    assert f"Make again bilge-sto-3 (storage) on {spare}" in told
    assert f"Drives of {was['storage-3']} (bilge-sto-3), not wiped: " in told
    assert "Differs" not in told
    with pytest.raises(StoneError, match="This run removes bilge-sto-3"):
        begun(client)
    done(client, begun(client, remove=["storage-3"]))
    there = lab.show()["machines"]
    assert there[spare]["power"] == "On"
    assert list(there[spare]["written"]) == [cell(client, "storage-3", "system.drive")]
    left = there[was["storage-3"]]
    assert left["power"] == "Off"
    # what was written there stays until a person wipes it
    assert left["written"]


def test_another_version_is_written_and_data_drives_stay(place: Place) -> None:
    """One after the other, also when the server is killed again and again."""
    lab, server, client = place
    machines = machines_of(client)
    drives = {node: cell(client, node, "system.drive") for node in machines}
    before = {name: lab.show()["machines"][name] for name in machines.values()}
    edit(client, "package", value=f"Ballast {NEWER}")
    told = server.cli("plan", "changes", "bilge", check=1).stdout
    line = f"Upgrade bilge-sto-1: Ballast {BALLAST.version} → Ballast {NEWER}"
    assert f"{line}, writes its system drive again, keeps its data drives" in told
    run = begun(client, remove=list(machines))
    met = killed_on_the_way(server, run, most=6, least=12, spread=7)
    assert len(met) >= 5
    found = done(client, run)
    versions = [one for one in found["proofs"] if one["proof"] == "version"]
    assert {one["found"] for one in versions} == {NEWER}
    assert not [step for step in found["steps"] if step["kind"] == "leave"]
    for node, name in machines.items():
        seen = lab.show()["machines"][name]
        assert seen["wiped"][len(before[name]["wiped"]) :] == [drives[node]]
        fresh = seen["log"][len(before[name]["log"]) :]
        # it was asked to shut down, and started once from its own drive
        assert fresh[0] == "reset GracefulShutdown", fresh
        assert fresh.count("boots from Hdd") == 1, fresh
    finished = Counter(step for _, step, kind in step_events(server, run) if kind == "done")
    assert finished == Counter(step["key"] for step in found["steps"])


def test_a_system_that_does_not_shut_down_stops_the_run(place: Place) -> None:
    """It is left as it is, and retried when a person has looked."""
    lab, _, client = place
    machines = machines_of(client)
    first = machines["storage-1"]
    lab.turn(first, deaf=True)
    edit(client, "package", value=f"Ballast {BALLAST.version}")
    run = begun(client, remove=list(machines))
    found = ended(client, run, 240, states=("trouble",))
    told = {step["key"]: step["message"] for step in found["steps"] if step["state"] == "failed"}
    assert list(told) == ["retire/storage-1"]
    assert "bilge-sto-1 has not shut down within" in told["retire/storage-1"]
    assert lab.show()["machines"][first]["power"] == "On"
    lab.turn(first, deaf=False)
    client.call("POST", f"/api/runs/{run}/retry", {})
    found = done(client, run)
    versions = [one for one in found["proofs"] if one["proof"] == "version"]
    assert {one["found"] for one in versions} == {BALLAST.version}


def test_a_lost_machine_is_asked_also_where_the_plan_names_another_one(place: Place) -> None:
    lab, _, client = place
    dead = machines_of(client)["storage-2"]
    spare = sorted({*NAMES, *SPARES} - set(machines_of(client).values()))[-1]
    edit(client, "nodes", "storage-2", "host", value=spare)
    with pytest.raises(StoneError, match=f"{dead} answers, so it is not lost"):
        begun(client, lost=[dead])
    lab.power(dead, "ForceOff")
    wait_for(lambda: lab.show()["machines"][dead]["power"] == "Off", 30, "its power off")
    lab.turn(dead, unreachable=True)
    done(client, begun(client, lost=[dead]))
    assert machines_of(client)["storage-2"] == spare
    lab.turn(dead, unreachable=False)


def test_a_node_leaves_and_its_machine_is_switched_off(place: Place) -> None:
    lab, _, client = place
    machine = machines_of(client)["storage-4"]
    edit(client, "roles", "storage", "count", value=3)
    found = done(client, begun(client, remove=["storage-4"]))
    assert [step["key"] for step in found["steps"]] == [
        "leave/leave/storage-4",
        "retire/storage-4",
    ]
    seen = lab.show()["machines"][machine]
    assert (seen["power"], seen["image"]) == ("Off", "")
    assert "bilge-sto-4" not in hosts(client)
    # the machine is free for others, its drives hold what was written
    estate = client.call("GET", "/api/estate")
    assert {m["machine"]["name"]: m["lives"] for m in estate["machines"]}[machine] is None
