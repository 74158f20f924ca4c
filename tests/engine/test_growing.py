"""A deployment that stands is grown, shrunk, and has a node made again."""

from __future__ import annotations

import re
import sqlite3
from contextlib import closing
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan, wait_for
from tests.support.raw import ssh


def counted(text: str, archives: int) -> str:
    """The plan with so many archive nodes."""
    return text.replace("count: 2", f"count: {archives}")


def change(client: Client, name: str, **edits: Any) -> dict[str, Any]:
    """Edit the plan, path to value."""
    version = client.call("GET", f"/api/plans/{name}")["version"]
    body = {
        "version": version,
        "edits": [{"path": path.split("__"), "value": value} for path, value in edits.items()],
    }
    answer = client.call("PATCH", f"/api/plans/{name}", body)
    return dict(answer.get("plan", answer))


def start(client: Client, name: str, *remade: str, remove: str = "") -> str:
    body = {"again": list(remade), "remove": [remove] if remove else []}
    found = client.call("POST", f"/api/plans/{name}/run", body)
    assert found["run"], [f["message"] for f in found["plan"]["findings"]]
    return str(found["run"])


def values(view: dict[str, Any]) -> dict[str, dict[str, str]]:
    """Node → column → value."""
    return {
        node["id"]: {column: cell["value"] for column, cell in node["cells"].items()}
        for node in view["nodes"]
    }


def members(done: dict[str, Any]) -> str:
    return str(next(p["found"] for p in done["proofs"] if p["proof"] == "members"))


@pytest.fixture
def stands(client: Client, lab: LabProcess) -> str:
    """A plan of a lead and two archives that was rolled out."""
    ready_plan(client, plan_text("grows"))
    run = start(client, "grows")
    assert ended(client, run)["state"] == "done"
    return run


@pytest.mark.parametrize(
    "wanted", [{"repair": ["lead-1"]}, {"again": ["lead-1"]}, {"stage": "use"}]
)
def test_what_is_not_deployed_is_neither_repaired_nor_rolled_out_by_that(
    client: Client, wanted: dict[str, Any]
) -> None:
    ready_plan(client, plan_text("nothing"))
    with pytest.raises(StoneError, match="nothing is not deployed"):
        client.call("POST", "/api/plans/nothing/run", wanted)
    assert client.call("GET", "/api/runs?plan=nothing") == []
    client.call("DELETE", "/api/plans/nothing")


def test_a_deployment_grows_and_shrinks(client: Client, lab: LabProcess, stands: str) -> None:
    with pytest.raises(StoneError, match="deployed already"):
        start(client, "grows")
    was = values(client.call("GET", "/api/plans/grows"))
    change(client, "grows", roles__archive__count=3)
    found = client.call("GET", "/api/plans/grows/changes")
    assert [one["node"] for one in found["adds"]] == ["archive-3"]
    assert (found["removes"], found["differs"]) == ([], [])
    keys = [step["key"] for step in found["steps"]]
    assert "token/lead-1" in keys, "what the join needs"
    assert {key.partition("/")[2] for key in keys if not key.startswith("carry")} == {
        "archive-3",
        "lead-1",
    }
    grown = start(client, "grows")
    assert client.call("GET", "/api/plans/grows")["changes"] is None, "a run is under way"
    done = ended(client, grown)
    lost = [(p["label"], p["node"], p["found"]) for p in done["proofs"] if not p["passed"]]
    assert done["state"] == "done", ([s["message"] for s in done["steps"] if s["message"]], lost)
    assert members(done).count("grows-") == 4
    now = values(done)
    assert {ident: now[ident] for ident in was} == was, "what stands stays as it was built"
    assert done["change"] == {"adds": ["archive-3"], "removes": [], "resizes": [], "upgrades": []}
    assert done["sentence"]["before"] == "4 of 4 nodes deployed. "
    line = next(one for one in client.call("GET", "/api/runs") if one["id"] == grown)
    assert line["nodes"] == 4
    # the earlier run is neither rolled back nor checked under the later one
    with pytest.raises(StoneError, match="changed what run"):
        client.call("POST", f"/api/runs/{stands}/prove", {})
    with pytest.raises(StoneError, match="changed what run"):
        client.call("POST", f"/api/runs/{stands}/undo", {})
    # and back to 2: the node leaves its cluster first
    change(client, "grows", roles__archive__count=2)
    there = client.call("POST", "/api/plans/grows/check")
    assert there["sentence"]["strong"] == "1 to remove"
    running = {vm["name"] for host in there["hosts"] for vm in host["bedrock"]}
    assert "grows-arc-3" in running, "it is there until it is removed"
    with pytest.raises(StoneError, match="removes grows-arc-3 with its disks"):
        start(client, "grows")
    shrunk = start(client, "grows", remove="archive-3")
    done = ended(client, shrunk)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    assert [step["key"] for step in done["steps"]] == ["leave/leave/archive-3", "retire/archive-3"]
    assert done["sentence"]["before"] == "3 of 3 nodes deployed. "
    assert members(done).count("grows-") == 3
    assert not any("archive-3" in name for name in ours(lab))
    found = client.call("GET", "/api/plans/grows/changes")
    assert (found["nodes"], found["adds"], found["removes"]) == (3, [], [])
    # the whole is rolled back in the opposite order; a removal stays what it is
    undo(client, shrunk)
    read = client.call("POST", "/api/deployments/grows/read", {})
    assert (read["nodes"], read["drift"]) == (3, [])
    for run in (grown, stands):
        undo(client, run)
    assert ours(lab) == []
    assert client.call("GET", "/api/plans/grows/changes")["stands"] is False
    client.call("DELETE", "/api/plans/grows")


def read_of(server: ServerProcess, host: str) -> dict[str, Any]:
    """What is kept of a host's last reading."""
    with closing(sqlite3.connect(server.data / "nimble-stone.db", timeout=30)) as db:
        db.row_factory = sqlite3.Row
        return dict(db.execute("SELECT * FROM facts WHERE host = ?", (host,)).fetchone())


def test_a_node_is_made_again_under_its_old_identity(
    client: Client, lab: LabProcess, server: ServerProcess, stands: str
) -> None:
    view = client.call("GET", "/api/plans/grows")
    lost = next(node for node in view["nodes"] if node["id"] == "archive-1")
    host, store = lost["host"], lost["cells"]["datastore"]["value"]
    virsh = "virsh -q -c qemu:///system"
    ssh(lab, host, f"{virsh} destroy {lost['name']}", "")
    ssh(lab, host, f"{virsh} vol-delete ns-{stands}-{lost['name']}-disk0 --pool {store}", "")
    found = client.call("GET", "/api/plans/grows/changes?again=archive-1")
    assert [one["node"] for one in found["adds"]] == ["archive-1"]
    assert [(one["node"], one["run"]) for one in found["removes"]] == [("archive-1", stands)]
    # what else is planned waits, be it possible or not
    change(client, "grows", roles__archive__count=40)
    client.call("POST", "/api/estate/read", {"hosts": [host]})
    earlier = read_of(server, host)
    run = start(client, "grows", "archive-1")
    change(client, "grows", roles__archive__count=2)
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    # what the host said before the run tells of no VM that was left there
    wait_for(lambda: read_of(server, host)["read_at"] > done["ended_at"], 30, "the host read")
    with closing(sqlite3.connect(server.data / "nimble-stone.db", timeout=30)) as db, db:
        db.execute("UPDATE facts SET doc = :doc, read_at = :read_at WHERE host = :host", earlier)
    rules = client.call("GET", "/api/estate/rules")["violations"]
    assert [one for one in rules if one["rule"] == "leftovers"] == []
    order = [step["key"] for step in done["steps"]]
    assert order.index("retire/archive-1") < order.index("define/archive-1")
    assert values(done)["archive-1"] == values(view)["archive-1"]
    assert members(done).count("grows-") == 3
    marks = {name.split("-")[1] for name in ours(lab) if f"{lost['name']}-disk0" in name}
    assert marks == {run}
    # rolled back: the node is gone, and leaves the cluster; what the other run made stays
    undo(client, run)
    found = client.call("GET", "/api/plans/grows/changes")
    assert (found["nodes"], [one["node"] for one in found["adds"]]) == (2, ["archive-1"])
    left = client.call("POST", f"/api/runs/{stands}/prove", {})
    assert lost["name"] not in members(left)
    run = start(client, "grows")
    assert ended(client, run)["state"] == "done"
    undo(client, run)
    undo(client, stands)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/grows")


@pytest.mark.parametrize(
    ("edits", "remade", "code"),
    [
        ({"roles__lead__count": 0}, (), "count"),
        ({}, ("lead-1",), "leaving-unknown"),
    ],
)
def test_what_a_cluster_needs_is_not_taken_from_it(
    client: Client, stands: str, edits: dict[str, Any], remade: tuple[str, ...], code: str
) -> None:
    if edits:
        change(client, "grows", **edits)
    query = "&".join(f"again={one}" for one in remade)
    found = client.call("GET", f"/api/plans/grows/changes?{query}")
    blockers = {one["code"] for one in found["findings"] if one["severity"] == "blocker"}
    assert code in blockers, found["findings"]
    undo(client, stands)
    client.call("DELETE", "/api/plans/grows")


def test_values_that_differ_are_told_and_left_as_they_are(client: Client, stands: str) -> None:
    change(client, "grows", roles__archive__values__search="reef.example", roles__archive__count=3)
    found = client.call("GET", "/api/plans/grows/changes")
    searches = {(one["node"], one["column"], one["now"]) for one in found["differs"]}
    assert ("archive-1", "search", "reef.example") in searches
    assert [f["severity"] for f in found["findings"] if f["code"] == "built-otherwise"]
    run = start(client, "grows")
    done = ended(client, run)
    now = {ident: row["search"] for ident, row in values(done).items()}
    assert now["archive-3"] == "reef.example"
    assert "reef.example" not in {now["archive-1"], now["archive-2"], now["lead-1"]}
    undo(client, run)
    undo(client, stands)
    client.call("DELETE", "/api/plans/grows")


def hardware(lab: LabProcess, host: str, name: str) -> tuple[str, str]:
    """vCPUs and memory of a VM that runs, as its host says."""
    said = ssh(lab, host, f"virsh -q -c qemu:///system dumpxml {name}", "")
    found = re.search(r"<memory[^>]*>(\d+)<.*<vcpu[^>]*>(\d+)<", said, re.DOTALL)
    assert found is not None
    return found[2], f"{int(found[1]) >> 20} GiB"


def test_nodes_are_resized_one_after_the_other(
    client: Client, lab: LabProcess, server: ServerProcess, stands: str
) -> None:
    view = client.call("GET", "/api/plans/grows")
    archives = [node for node in view["nodes"] if node["role"] == "archive"]
    was = {hardware(lab, one["host"], one["name"]) for one in archives}
    change(client, "grows", roles__archive__values__size="large")
    found = client.call("GET", "/api/plans/grows/changes")
    assert [one["node"] for one in found["resizes"]] == ["archive-1", "archive-2"]
    assert found["differs"] == []
    keys = [step["key"] for step in found["steps"]]
    one = ["resize/archive-1", "start/archive-1", "boot/archive-1", "services/archive-1"]
    one.append("healthy/archive-1")
    assert keys == [*one, *(key.replace("-1", "-2") for key in one)]
    shown = server.cli("plan", "changes", "grows", check=1).stdout
    assert "Resize grows-arc-1" in shown
    # the first does not hear its power button: the second is not touched meanwhile
    lab.turn(archives[0]["host"], deaf=True)
    run = start(client, "grows")
    wait_for(lambda: "resize/archive-1" in doing(client, run), 60, "the resize")
    server.kill()
    server.start()
    wait_for(lambda: "resize/archive-1" in doing(client, run), 60, "the resize")
    lab.turn(archives[0]["host"], deaf=False)
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    ends = {step["key"]: (step["started_at"], step["ended_at"]) for step in done["steps"]}
    assert ends["healthy/archive-1"][1] <= ends["resize/archive-2"][0]
    now = {hardware(lab, one["host"], one["name"]) for one in archives}
    assert not now & was
    assert {row["size"] for ident, row in values(done).items() if ident != "lead-1"} == {"large"}
    assert done["change"]["resizes"] == ["archive-1", "archive-2"]
    assert client.call("POST", "/api/deployments/grows/read", {})["drift"] == []
    assert client.call("GET", "/api/plans/grows/changes")["resizes"] == []
    # rolled back: what was built before, and it runs
    undo(client, run)
    assert {hardware(lab, one["host"], one["name"]) for one in archives} == was
    assert client.call("GET", "/api/plans/grows/changes")["nodes"] == 3
    change(client, "grows", roles__archive__values__size="medium")
    assert client.call("GET", "/api/plans/grows/changes")["resizes"] == []
    read = client.call("POST", "/api/deployments/grows/read", {})
    assert read["drift"] == []
    undo(client, stands)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/grows")


def _grown_by_hand(
    client: Client, lab: LabProcess, server: ServerProcess, node: dict[str, Any], first: str
) -> None:
    """A disk that was made larger on its host is taken into the plan; the next run records it."""
    volume = f"ns-{first}-{node['name']}-readings1"
    store = node["cells"]["datastore"]["value"]
    command = f"virsh -q -c qemu:///system vol-dumpxml --pool {store} {volume}"
    path = re.findall("<path>(.*?)</path>", ssh(lab, node["host"], command, ""))[0]
    by_hand(lab, node["host"], "blockresize", node["name"], path, f"{64 << 30}b")
    found = client.call("POST", "/api/deployments/wider/read", {})
    (one,) = found["drift"]
    assert (one["node"], one["check"]) == ("archive-1", "disks")
    assert "48 GiB" in one["was"]
    assert "64 GiB" in one["now"]
    told = server.cli("deployment", "drift", "wider", check=1).stdout
    assert "deployment take wider archive-1 --check disks" in told
    server.cli("deployment", "take", "wider", "archive-1", "--check", "disks")
    run = start(client, "wider")
    assert ended(client, run)["state"] == "done"
    assert client.call("POST", "/api/deployments/wider/read", {})["drift"] == []
    grown = values(client.call("GET", "/api/plans/wider"))
    assert grown["archive-1"]["disk.readings"] == "64"
    # a file that every account of the host may read is told, and is nothing for the plan
    ssh(lab, node["host"], f"chmod 0644 {path}", "")
    (one,) = client.call("POST", "/api/deployments/wider/read", {})["drift"]
    assert one["now"].endswith(f"open to all accounts of the host: {volume} (0644)")
    assert not one["takes_in"]
    ssh(lab, node["host"], f"chmod 0600 {path}", "")
    assert client.call("POST", "/api/deployments/wider/read", {})["drift"] == []
    # a rollback leaves the disk as large as it is, and that is told
    undo(client, run)
    (one,) = client.call("POST", "/api/deployments/wider/read", {})["drift"]
    assert (one["node"], one["check"], one["takes_in"]) == ("archive-1", "disks", True)
    change(client, "wider", **{"nodes__archive-1__disk.readings": None})


def test_data_disks_grow_while_their_vms_run(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    disks = "    values:\n      disk.readings: 32\n      disk.readings.count: 1\n"
    text = re.sub(r"(count: 2\n)    values:\n", rf"\1{disks}", plan_text("wider"))
    ready_plan(client, text)
    first = start(client, "wider")
    assert ended(client, first)["state"] == "done"
    node = next(
        n for n in client.call("GET", "/api/plans/wider")["nodes"] if n["id"] == "archive-1"
    )
    change(client, "wider", **{"roles__archive__values__disk.readings": 48})
    found = client.call("GET", "/api/plans/wider/changes")
    assert [
        (one["node"], one["was_bytes"] >> 30, one["now_bytes"] >> 30) for one in found["grows"]
    ] == [
        ("archive-1", 32, 48),
        ("archive-2", 32, 48),
    ]
    assert (found["resizes"], found["differs"]) == ([], [])
    assert {step["key"] for step in found["steps"]} == {"grow/archive-1", "grow/archive-2"}
    run = start(client, "wider")
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    said = ssh(
        lab,
        node["host"],
        "virsh -q -c qemu:///system vol-dumpxml --pool"
        f" {node['cells']['datastore']['value']} ns-{first}-{node['name']}-readings1",
        "",
    )
    assert f">{48 << 30}<" in said, said
    assert client.call("GET", "/api/plans/wider/changes")["grows"] == []
    assert client.call("POST", "/api/deployments/wider/read", {})["drift"] == []
    _grown_by_hand(client, lab, server, node, first)
    # disks only grow: a smaller one is told, and stays
    change(client, "wider", **{"roles__archive__values__disk.readings": 40})
    found = client.call("GET", "/api/plans/wider/changes")
    assert found["grows"] == []
    assert ("disk.readings", "48", "40") in {
        (one["column"], one["was"], one["now"]) for one in found["differs"]
    }
    undo(client, run)
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/wider")


def test_data_disks_are_added_while_their_vms_run_and_taken_again(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    disks = "    values:\n      disk.readings: 32\n      disk.readings.count: 1\n"
    text = re.sub(r"(count: 2\n)    values:\n", rf"\1{disks}", plan_text("wider"))
    ready_plan(client, text)
    first = start(client, "wider")
    assert ended(client, first)["state"] == "done"
    nodes = {n["id"]: n for n in client.call("GET", "/api/plans/wider")["nodes"]}
    host, name = nodes["archive-1"]["host"], nodes["archive-1"]["name"]
    change(
        client,
        "wider",
        **{
            "nodes__archive-1__disk.readings.count": 3,
            "nodes__archive-1__disk.readings": 40,
        },
    )
    found = client.call("GET", "/api/plans/wider/changes")
    told = [(one["node"], one["disk"], one["was_bytes"] >> 30) for one in found["grows"]]
    assert told == [
        ("archive-1", "readings1", 32),
        ("archive-1", "readings2", 0),
        ("archive-1", "readings3", 0),
    ]
    assert (found["resizes"], found["differs"]) == ([], [])
    shown = server.cli("plan", "changes", "wider", check=1).stdout
    assert f"Add readings2 to {name}: 40 GiB, while it runs" in shown
    plan = client.call("GET", "/api/plans/wider")
    assert plan["sentence"]["strong"] == "1 disk to grow, 2 disks to add"
    run = start(client, "wider")
    wait_for(lambda: "attached ns-" in noted(lab, host), 60, "the first new disk")
    server.kill()
    server.start()
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    [step] = done["steps"]
    assert (step["label"], step["message"]) == (
        "Grow and add disks",
        "readings2, readings3 added",
    )
    for number in (2, 3):
        volume = f"ns-{first}-{name}-readings{number}"
        assert noted(lab, host).count(f"attached {volume} to {name}\n") == 2, "stored and live"
        assert drives(lab, host, name).count(volume) == 1
    assert client.call("GET", "/api/plans/wider/changes")["grows"] == []
    assert client.call("POST", "/api/deployments/wider/read", {})["drift"] == []
    # rolled back, they are gone with what was on them; the larger one stays
    undo(client, run)
    assert "readings2" not in drives(lab, host, name)
    assert not any(volume.endswith(("readings2", "readings3")) for volume in ours(lab))
    [step] = client.call("GET", f"/api/runs/{run}")["steps"]
    assert step["undo_message"].startswith(f"2 disks of {name} removed; ")
    assert client.call("GET", "/api/plans/wider/changes")["nodes"] == 3
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/wider")


def drives(lab: LabProcess, host: str, name: str) -> str:
    return str(ssh(lab, host, f"virsh -q -c qemu:///system dumpxml {name}", ""))


def noted(lab: LabProcess, host: str) -> str:
    """What a host did, a line each."""
    return "".join(f"{line}\n" for line in lab.show()["hosts"][host]["log"])


def doing(client: Client, run: str) -> set[str]:
    """Keys of steps that are under way."""
    steps = client.call("GET", f"/api/runs/{run}")["steps"]
    return {step["key"] for step in steps if step["state"] == "working"}


def test_a_vm_that_does_not_shut_down_is_told(client: Client, lab: LabProcess, stands: str) -> None:
    """Its power is cut only where the kit allows it."""
    text = client.call("GET", "/api/kits/gauge-collector")["text"]
    archive = "    datastore: local\n    after: [lead]\n"
    host = next(
        node["host"]
        for node in client.call("GET", "/api/plans/grows")["nodes"]
        if node["id"] == "archive-1"
    )
    client.call(
        "PUT", "/api/kits", {"text": text.replace(archive, f"{archive}    vm: {{stop_s: 0.5}}\n")}
    )
    lab.turn(host, deaf=True)
    version = client.call("GET", "/api/plans/grows")["version"]
    edit = {"path": ["nodes", "archive-1", "size"], "value": "large"}
    client.call("PATCH", "/api/plans/grows", {"version": version, "edits": [edit]})
    run = start(client, "grows")
    stuck = ended(client, run)
    [failed] = [step for step in stuck["steps"] if step["state"] == "failed"]
    assert "grows-arc-1 has not shut down within 0.5 s" in failed["message"]
    assert "Shut it down yourself" in failed["hint"]
    allowed = text.replace(archive, f"{archive}    vm: {{stop_s: 0.5, cut: true}}\n")
    client.call("PUT", "/api/kits", {"text": allowed})
    assert client.call("GET", f"/api/runs/{run}/kit")["refused"] != []
    by_hand(lab, host, "destroy", "grows-arc-1")
    client.call("POST", f"/api/runs/{run}/retry", {})
    assert ended(client, run)["state"] == "done"
    lab.turn(host, deaf=False)
    undo(client, run)
    # by a kit that allows it, its power is cut
    lab.turn(host, deaf=True)
    run = start(client, "grows")
    assert ended(client, run)["state"] == "done"
    lab.turn(host, deaf=False)
    client.call("DELETE", "/api/kits/gauge-collector")
    undo(client, run)
    undo(client, stands)
    client.call("DELETE", "/api/plans/grows")


def by_hand(lab: LabProcess, host: str, *words: str) -> None:
    ssh(lab, host, f"virsh -q -c qemu:///system {' '.join(words)}", "")


def _all_of_it_is_in_the_history(client: Client, server: ServerProcess, first: str) -> None:
    told = client.call("GET", "/api/deployments/grows/history")
    assert [one["at"] for one in told] == sorted((one["at"] for one in told), reverse=True)
    words = [one["words"] for one in told]
    assert f"run {first} started: rollout of 3 nodes" in words
    assert any(one.startswith("plan created") for one in words)
    assert any(one.endswith("acceptance checks passed") for one in words)
    drift = {one["words"]: one for one in told if one["kind"] == "drift"}
    found = drift["Starts with its host differs from what was built"]
    assert found["node"] == "archive-1"
    assert found["detail"].startswith("built starts with its host, found ")
    assert "Starts with its host accepted (host is being moved)" in drift
    assert "Starts with its host is as it was built again" in drift
    # seen twice, it is told once
    assert sum("VM running differs from" in one for one in words) == 2
    assert "rollout of 3 nodes" in server.cli("deployment", "history", "grows").stdout
    with pytest.raises(StoneError, match="there is no plan"):
        client.call("GET", "/api/deployments/nowhere/history")


def test_drift_is_found_told_since_when_put_back_or_accepted(
    client: Client, lab: LabProcess, server: ServerProcess, stands: str
) -> None:
    found = client.call("POST", "/api/deployments/grows/read", {})
    assert (found["drift"], found["unasked"], found["nodes"]) == ([], 0, 3)
    assert found["checks"] > 30
    nodes = {node["id"]: node for node in client.call("GET", "/api/plans/grows")["nodes"]}
    arc = nodes["archive-1"]
    # switched off, and told not to come back with its host
    by_hand(lab, arc["host"], "destroy", arc["name"])
    by_hand(lab, arc["host"], "autostart", arc["name"], "--disable")
    first = client.call("POST", "/api/deployments/grows/read", {})
    seen = {one["check"]: one for one in first["drift"] if one["node"] == "archive-1"}
    assert {"running", "autostart"} <= set(seen)
    assert seen["autostart"]["was"] == "starts with its host"
    assert seen["running"]["puts_back"]
    assert seen["running"]["open"]
    again = client.call("POST", "/api/deployments/grows/read", {})
    since = {one["check"]: one["since"] for one in again["drift"] if one["node"] == "archive-1"}
    assert since["running"] == seen["running"]["since"], "since when it was first seen"
    # accepted with a reason, for some days
    body = {"node": "archive-1", "check": "autostart", "days": 3}
    with pytest.raises(StoneError, match="why"):
        client.call("POST", "/api/deployments/grows/accept", body)
    kept = client.call(
        "POST",
        "/api/deployments/grows/accept",
        body | {"reason": "host is being moved"},
    )
    one = next(d for d in kept["drift"] if d["check"] == "autostart")
    assert (one["open"], one["reason"]) == (False, "host is being moved")
    # put back by a run that does nothing else
    change(client, "grows", roles__archive__count=3)
    found = client.call("GET", "/api/plans/grows/changes?repair=archive-1")
    kinds = [step["kind"] for step in found["steps"]]
    assert kinds == ["define", "start", "boot", "services"]
    started = client.call("POST", "/api/plans/grows/run", {"repair": ["archive-1"]})
    run = started["run"]
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"]]
    assert {node["id"] for node in done["nodes"]} == set(nodes), "what is planned waits"
    assert client.call("POST", "/api/deployments/grows/read", {})["drift"] == []
    # its rollback leaves the node, which an earlier run made
    undo(client, run)
    assert client.call("POST", "/api/deployments/grows/read", {})["drift"] == []
    # a VM that is gone while its disks are there is defined again by its own mark
    by_hand(lab, arc["host"], "destroy", arc["name"])
    by_hand(lab, arc["host"], "undefine", arc["name"])
    gone = client.call("POST", "/api/deployments/grows/read", {})
    assert "no such VM" in {one["now"] for one in gone["drift"]}
    run = client.call("POST", "/api/plans/grows/run", {"repair": ["archive-1"]})["run"]
    assert ended(client, run)["state"] == "done"
    assert client.call("POST", "/api/deployments/grows/read", {})["drift"] == []
    listed = client.call("GET", "/api/deployments")
    assert [one["runs"] for one in listed if one["plan"] == "grows"] == [[stands]]
    _all_of_it_is_in_the_history(client, server, stands)
    undo(client, run)
    undo(client, stands)
    assert ours(lab) == []
    with pytest.raises(StoneError, match="Nothing of grows is deployed"):
        client.call("POST", "/api/deployments/grows/read", {})
    client.call("DELETE", "/api/plans/grows")


def test_a_node_that_goes_at_the_end_counts_until_then(client: Client, lab: LabProcess) -> None:
    """The checks between two nodes ask who is there now, not who will be."""
    ready_plan(client, counted(plan_text("both"), 3))
    first = start(client, "both")
    assert ended(client, first)["state"] == "done"
    change(client, "both", roles__archive__count=2, roles__lead__values__size="medium")
    run = start(client, "both", remove="archive-3")
    done = ended(client, run, 60)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    keys = [step["key"] for step in done["steps"]]
    assert keys.index("healthy/lead-1") < keys.index("retire/archive-3")
    undo(client, run)
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/both")


def _repaired(client: Client, *nodes: str) -> None:
    done = ended(client, client.call("POST", "/api/plans/grows/run", {"repair": nodes})["run"])
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    assert client.call("POST", "/api/deployments/grows/read", {})["drift"] == []


def test_a_paused_vm_goes_on_and_a_size_is_put_back_or_taken_into_the_plan(
    client: Client, lab: LabProcess, server: ServerProcess, stands: str
) -> None:
    nodes = {node["id"]: node for node in client.call("GET", "/api/plans/grows")["nodes"]}
    arc, lead = nodes["archive-1"], nodes["lead-1"]
    by_hand(lab, lead["host"], "suspend", lead["name"])
    for more in (["--maximum"], []):
        by_hand(lab, arc["host"], "setvcpus", arc["name"], "12", "--config", *more)
    found = client.call("POST", "/api/deployments/grows/read", {})
    seen = {(one["node"], one["check"]): one for one in found["drift"]}
    assert seen["lead-1", "running"]["now"] == "paused (user)"
    size = seen["archive-1", "hardware"]
    assert "12 vCPU, 32 GiB, 1 disk from its next start" in size["now"]
    assert size["puts_back"]
    assert size["takes_in"]
    # no size has 12 vCPUs, and the plan knows no other way to say it
    told = server.cli("deployment", "take", "grows", "archive-1", check=2).stderr
    assert "no size of role archive has 12 vCPU" in told
    _repaired(client, "archive-1", "lead-1")
    # by hand it became what another size is: that is taken into the plan, and recorded by a run
    for word, value, *more in (
        ("setvcpus", 8, "--maximum"),
        ("setvcpus", 8),
        ("setmaxmem", 64 << 20),
        ("setmem", 64 << 20),
    ):
        by_hand(lab, arc["host"], word, arc["name"], str(value), "--config", *map(str, more))
    assert "take grows archive-1" in server.cli("deployment", "drift", "grows", check=1).stdout
    server.cli("deployment", "take", "grows", "archive-1")
    assert client.call("GET", "/api/plans/grows")["nodes"][1]["cells"]["size"]["value"] == "large"
    done = ended(client, start(client, "grows"))
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    assert client.call("POST", "/api/deployments/grows/read", {})["drift"] == []
    body = {"node": "archive-1", "check": "running"}
    with pytest.raises(StoneError, match="cannot be taken into the plan"):
        client.call("POST", "/api/deployments/grows/take", body)
    server.cli("deployment", "retire", "grows", "--confirm", "grows")
    client.call("DELETE", "/api/plans/grows")


def _definition(lab: LabProcess, host: str, name: str) -> str:
    return ssh(lab, host, f"virsh -q -c qemu:///system dumpxml {name} --inactive", "")


def test_a_vm_that_starts_from_elsewhere_or_went_to_another_host_is_told(
    client: Client, lab: LabProcess, stands: str
) -> None:
    nodes = {node["id"]: node for node in client.call("GET", "/api/plans/grows")["nodes"]}
    lead = nodes["lead-1"]
    assert lead["cells"]["datastore"]["value"] == "kelda-shared"
    xml = _definition(lab, lead["host"], lead["name"])
    other = re.sub(r"<boot dev=.hd./>", "<boot dev='network'/>", xml)
    assert other != xml
    define = "virsh -q -c qemu:///system define /dev/stdin"
    ssh(lab, lead["host"], define, other)
    found = client.call("POST", "/api/deployments/grows/read", {})
    (one,) = [one for one in found["drift"] if one["node"] == "lead-1"]
    assert (one["check"], one["was"], one["now"]) == (
        "boot",
        "starts from disk",
        "starts from network",
    )
    # somebody moves it by hand; the host that has it now was read since
    there = next(
        host["name"]
        for host in client.call("GET", "/api/estate")["hosts"]
        if host["bay"] == "kelda-main" and host["name"] != lead["host"]
    )
    by_hand(lab, lead["host"], "destroy", lead["name"])
    by_hand(lab, lead["host"], "undefine", lead["name"])
    by_hand(lab, there, "pool-refresh", "kelda-shared")
    ssh(lab, there, define, xml)
    by_hand(lab, there, "start", lead["name"])
    client.call("POST", "/api/estate/read", {"hosts": [there]})
    seen = {
        one["check"]: one["now"]
        for one in client.call("POST", "/api/deployments/grows/read", {})["drift"]
        if one["node"] == "lead-1"
    }
    assert seen["host"] == there
    assert "running" not in seen
    assert "no such VM" not in seen.values()
    # brought back by hand, it is as it was built
    by_hand(lab, there, "destroy", lead["name"])
    by_hand(lab, there, "undefine", lead["name"])
    ssh(lab, lead["host"], define, xml)
    by_hand(lab, lead["host"], "autostart", lead["name"])
    _repaired(client, "lead-1")
