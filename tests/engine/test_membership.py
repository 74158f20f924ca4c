"""Nodes that a cluster lets in before they start, and nodes whose leaving takes its time."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from tests.engine.test_growing import change, doing, members, start
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan, wait_for
from tests.support.raw import ssh

JOINING = """joining:
  - id: expect
    label: Expect the node
    role: archive
    finds: {path: /cgi-bin/token, keep: {pass: token}}
    call:
      method: POST
      path: /cgi-bin/member
      body: {name: "{name}", role: "{role}", address: "{address}", token: "{kept.pass}"}
      confirm: {taken: "yes"}
    observe: {path: /cgi-bin/leave, query: {name: "{name}"}, confirm: {left: "no"}}
    wait: {expected: 1, longest: 60}
leaving:
"""
LEAVES = 'body: {name: "{name}"}, confirm: {left: "yes"}}'


def kit(text: str, *, drain: str = "", longest: float = 120) -> str:
    """The gauge collector, whose lead must expect its archive nodes. Those leave in `drain`
    seconds.
    """
    start = text.index("leaving:")
    text = text[:start] + JOINING + text[start + len("leaving:\n") :]
    text = text.replace("    undoes: join\n", "    undoes: expect\n")
    if drain:
        slow = f'body: {{name: "{{name}}", drain: "{drain}"}}}}'
        text = text.replace(LEAVES, slow, 1)
        text = re.sub(r"(wait: {expected: 2, longest: )120}", rf"\g<1>{longest:g}}}", text, count=1)
    return text


@pytest.fixture
def text(client: Client) -> Iterator[str]:
    """The shipped kit; it is as it was afterwards."""
    yield client.call("GET", "/api/kits/gauge-collector")["text"]
    client.call("DELETE", "/api/kits/gauge-collector")


def deployed(client: Client, text: str) -> str:
    client.call("PUT", "/api/kits", {"text": text})
    ready_plan(client, plan_text("guild"))
    run = start(client, "guild")
    assert ended(client, run)["state"] == "done"
    return run


def well(client: Client, run: str) -> dict[str, Any]:
    """The run, ended well."""
    done = ended(client, run)
    failed = [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"]
    lost = [(p["label"], p["node"], p["found"]) for p in done["proofs"] if not p["passed"]]
    assert done["state"] == "done", (failed, lost)
    return done


def times(done: dict[str, Any]) -> dict[str, tuple[float, float]]:
    return {step["key"]: (step["started_at"], step["ended_at"]) for step in done["steps"]}


def test_new_nodes_are_let_in_one_after_the_other_though_the_server_is_killed(
    client: Client, lab: LabProcess, server: ServerProcess, text: str
) -> None:
    first = deployed(client, kit(text))
    assert "admit/" not in str(
        [s["key"] for s in client.call("GET", f"/api/runs/{first}")["steps"]]
    )
    change(client, "guild", roles__archive__count=4)
    shown = server.cli("plan", "changes", "guild", check=1).stdout
    assert "Expect the node" in shown
    run = start(client, "guild")
    for key in ("admit/expect/archive-3", "services/archive-3", "admit/expect/archive-4"):
        wait_for(lambda key=key: _begun(client, run, key), 90, key)
        server.kill()
        server.start()
    done = well(client, run)
    assert members(done).count("guild-") == 5
    at = times(done)
    assert at["healthy/archive-3"][1] <= at["admit/expect/archive-4"][0]
    for node in ("archive-3", "archive-4"):
        assert at[f"admit/expect/{node}"][1] <= at[f"start/{node}"][0]
    # rolled back, they are expected no longer
    undo(client, run)
    left = client.call("POST", f"/api/runs/{first}/prove", {})
    assert members(left).count("guild-") == 3
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/guild")


def _begun(client: Client, run: str, key: str) -> bool:
    steps = client.call("GET", f"/api/runs/{run}")["steps"]
    return any(step["key"] == key and step["state"] != "planned" for step in steps)


def test_where_all_vms_were_removed_by_hand_a_rollback_asks_none_of_them(
    client: Client, lab: LabProcess, text: str
) -> None:
    """Also where only the first is gone: then another one is asked."""
    first = deployed(client, kit(text))
    change(client, "guild", roles__archive__count=3)
    well(client, grown := start(client, "guild"))
    change(client, "guild", roles__archive__count=4)
    well(client, more := start(client, "guild"))
    nodes = client.call("GET", f"/api/runs/{more}")["nodes"]
    for node in nodes:
        if node["id"] == "archive-4":
            continue
        for line in ("destroy", "undefine"):
            ssh(lab, node["host"], f"virsh -q -c qemu:///system {line} {node['name']}", "")
    undo(client, more)
    undo(client, grown)
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/guild")


def test_a_node_is_removed_when_it_has_left_however_long_that_takes(
    client: Client, lab: LabProcess, text: str
) -> None:
    first = deployed(client, kit(text, drain="2"))
    change(client, "guild", roles__archive__count=3)
    well(client, grown := start(client, "guild"))
    change(client, "guild", roles__archive__count=2)
    done = well(client, shrunk := start(client, "guild", remove="archive-3"))
    at = times(done)
    began, left = at["leave/leave/archive-3"]
    assert left - began >= 2
    assert left <= at["retire/archive-3"][0]
    for run in (shrunk, grown, first):
        undo(client, run)
    client.call("DELETE", "/api/plans/guild")


def test_a_node_that_never_leaves_is_not_removed(
    client: Client, lab: LabProcess, text: str
) -> None:
    first = deployed(client, kit(text, drain="never", longest=1.5))
    change(client, "guild", roles__archive__count=3)
    well(client, grown := start(client, "guild"))
    change(client, "guild", roles__archive__count=2)
    shrunk = start(client, "guild", remove="archive-3")
    wait_for(lambda: "leave/leave/archive-3" in doing(client, shrunk), 30, "its leaving")
    stuck = ended(client, shrunk)
    [failed] = [step for step in stuck["steps"] if step["state"] == "failed"]
    assert failed["key"] == "leave/leave/archive-3"
    assert "not completed within" in failed["message"]
    assert "wanted left = “yes”, got “no”" in failed["message"]
    assert any("arc-3" in name for name in ours(lab)), "it is there still"
    undo(client, shrunk)
    for run in (grown, first):
        undo(client, run)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/guild")


def test_a_cluster_that_cannot_at_the_moment_is_asked_again(
    client: Client, lab: LabProcess, text: str
) -> None:
    """In a change as well as in its rollback."""
    busy = 'body: {name: "{name}", busy: "2"}, confirm: {left: "yes"}}'
    first = deployed(client, kit(text).replace(LEAVES, busy, 1))
    grown = []
    for number in (3, 4):
        change(client, "guild", roles__archive__count=number)
        grown.append(start(client, "guild"))
        assert ended(client, grown[-1])["state"] == "done"
    undo(client, grown[1])
    change(client, "guild", roles__archive__count=2)
    shrunk = start(client, "guild", remove="archive-3")
    done = ended(client, shrunk)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    for run in (grown[1], shrunk):
        assert "another change settles" in str(client.call("GET", f"/api/runs/{run}/transcript"))
    for run in (shrunk, grown[0], first):
        undo(client, run)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/guild")
