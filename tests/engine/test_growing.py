"""A deployment that stands is grown, shrunk, and has a node made again."""

from __future__ import annotations

from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import LabProcess, ended, ready_plan
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
    assert done["change"] == {"adds": ["archive-3"], "removes": []}
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


def test_a_node_is_made_again_under_its_old_identity(
    client: Client, lab: LabProcess, stands: str
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
    run = start(client, "grows", "archive-1")
    change(client, "grows", roles__archive__count=2)
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
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
    change(client, "grows", roles__archive__values__size="large", roles__archive__count=3)
    found = client.call("GET", "/api/plans/grows/changes")
    sizes = {(one["node"], one["was"], one["now"]) for one in found["differs"]}
    assert ("archive-1", "medium", "large") in sizes
    assert [f["severity"] for f in found["findings"] if f["code"] == "built-otherwise"]
    run = start(client, "grows")
    done = ended(client, run)
    assert {ident: row["size"] for ident, row in values(done).items()} == {
        "lead-1": "small",
        "archive-1": "medium",
        "archive-2": "medium",
        "archive-3": "large",
    }
    undo(client, run)
    undo(client, stands)
    client.call("DELETE", "/api/plans/grows")


def by_hand(lab: LabProcess, host: str, *words: str) -> None:
    ssh(lab, host, f"virsh -q -c qemu:///system {' '.join(words)}", "")


def test_drift_is_found_told_since_when_put_back_or_accepted(
    client: Client, lab: LabProcess, stands: str
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
    assert [step["kind"] for step in found["steps"]] == ["define", "start", "boot", "services"]
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
    undo(client, run)
    undo(client, stands)
    assert ours(lab) == []
    with pytest.raises(StoneError, match="Nothing of grows is deployed"):
        client.call("POST", "/api/deployments/grows/read", {})
    client.call("DELETE", "/api/plans/grows")
