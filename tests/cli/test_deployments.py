"""What is deployed, from the terminal: grown, read, put back, accepted, made again, retired."""

from __future__ import annotations

import json

from nimble_stone.cli.client import Client
from tests.engine.test_growing import by_hand, change
from tests.engine.test_runs import ours, plan_text
from tests.support.processes import LabProcess, ServerProcess, ready_plan


def test_a_deployment_from_the_terminal(
    server: ServerProcess, client: Client, lab: LabProcess
) -> None:
    ready_plan(client, plan_text("stone"))
    assert "Nothing of stone is deployed" in server.cli("plan", "changes", "stone").stdout
    server.cli("run", "start", "stone", "--watch")
    told = server.cli("plan", "changes", "stone").stdout
    assert told.splitlines()[0] == "3 nodes of stone deployed."
    # one more
    change(client, "stone", roles__archive__count=3)
    told = server.cli("plan", "changes", "stone", check=1).stdout
    assert "  Add stone-arc-3 (archive) on " in told
    assert "Join" in told
    assert "All " in server.cli("run", "start", "stone", "--watch").stdout
    assert "as built" in server.cli("deployment", "drift", "stone").stdout
    # somebody switches one off
    nodes = {node["id"]: node for node in client.call("GET", "/api/plans/stone")["nodes"]}
    arc = nodes["archive-3"]
    by_hand(lab, arc["host"], "destroy", arc["name"])
    told = server.cli("deployment", "drift", "stone", check=1).stdout
    assert f"  {arc['name']}: VM running: shut off (destroyed); built: running (running)" in told
    assert "put back: deployment repair stone archive-3" in told
    found = json.loads(server.cli("deployment", "show", "stone", "--json", check=1).stdout)
    # the node's own, and that the others do not reach it
    seen = {(one["check"], one["node"]) for one in found["drift"]}
    own = {("running", "archive-3"), ("port", "archive-3")}
    assert seen == own | {("reach", ""), ("mesh-ports", "")}
    for check, node in sorted(seen):
        server.cli(
            *("deployment", "accept", "stone", check, *(("--node", node) if node else ())),
            *("--reason", "its host is repaired", "--days", "2"),
        )
    told = server.cli("deployment", "show", "stone").stdout
    assert "accepted: its host is repaired" in told
    server.cli("deployment", "repair", "stone", "archive-3", "--wait")
    assert "as built" in server.cli("deployment", "drift", "stone").stdout
    listed = server.cli("deployment", "list").stdout
    assert "4 nodes" in next(line for line in listed.splitlines() if line.startswith("stone"))
    # made again, from nothing
    told = server.cli("plan", "changes", "stone", "--again", "archive-2", check=1).stdout
    assert f"  Make again {nodes['archive-2']['name']} (archive) on" in told
    assert "All " in server.cli("run", "start", "stone", "--again", "archive-2", "--watch").stdout
    change(client, "stone", roles__archive__count=2)
    assert "--remove archive-3" in server.cli("run", "start", "stone", check=1).stderr
    told = server.cli("run", "start", "stone", "--remove", "archive-3", "--watch").stdout
    assert "3 of 3 nodes deployed" in told
    # how often it is read
    assert server.cli("deployment", "every").stdout == "every 60 min\n"
    assert server.cli("deployment", "every", "0").stdout == "off\n"
    server.cli("deployment", "every", "60")
    # all of it goes, by its name only
    assert "--confirm stone" in server.cli("deployment", "retire", "stone", check=2).stderr
    assert (
        "is retired: 5 runs"
        in server.cli("deployment", "retire", "stone", "--confirm", "stone").stdout
    )
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/stone")
