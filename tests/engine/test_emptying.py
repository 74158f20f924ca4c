"""A host is emptied for maintenance: plans leave it out, and their runs move who is deployed."""

from __future__ import annotations

import json
from typing import Any

from nimble_stone.cli.client import Client
from tests.engine.test_growing import change, start
from tests.engine.test_moving import rolled_out, row
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan


def leaving(view: dict[str, Any], plan: str) -> dict[str, Any]:
    return next(one for one in view["plans"] if one["plan"] == plan)


def test_a_host_is_emptied_and_used_again(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    first = rolled_out(client, "clears")
    ready_plan(client, plan_text("drafted"))
    node = row(client, "clears", "archive-1")
    host = node["host"]
    # a person set the draft's node there
    change(client, "drafted", **{"nodes__archive-2__host": host})
    drafted = row(client, "drafted", "archive-2")

    shown = json.loads(server.cli("estate", "empty", host, "--json").stdout)
    [own] = [one for one in leaving(shown, "clears")["nodes"] if one["node"] == "archive-1"]
    assert own["deployed"]
    assert own["to"] not in ("", host)
    [other] = [one for one in leaving(shown, "drafted")["nodes"] if one["node"] == "archive-2"]
    assert not other["deployed"]
    assert other["to"] not in ("", host)
    [plan] = [one for one in lab.plan.hosts if one.name == host]
    bedrock = {guest.name for guest in plan.bedrock}
    assert set(shown["others"]) == bedrock
    # nothing was kept so far
    assert row(client, "clears", "archive-1")["host"] == host
    assert row(client, "drafted", "archive-2") == drafted

    told = server.cli("estate", "empty", host, "--apply").stdout
    assert "Leave it out: " in told
    assert "by the plan's next run" in told
    assert row(client, "drafted", "archive-2")["host"] == other["to"]
    assert client.call("GET", "/api/plans/clears")["avoid"] == [host]
    assert node["name"] in lab.show()["hosts"][host]["guests"], "nothing moves by itself"

    run = start(client, "clears")
    done = ended(client, run)
    assert done["state"] == "done", [
        *(s["message"] for s in done["steps"] if s["message"]),
        *((p["label"], p["found"]) for p in done["proofs"] if not p["passed"]),
    ]
    left = lab.show()["hosts"]
    assert node["name"] in left[own["to"]]["guests"]
    assert set(left[host]["guests"]) == bedrock
    again = json.loads(server.cli("estate", "empty", host, "--json").stdout)
    assert leaving(again, "clears") == leaving(again, "clears") | {"excluded": True, "nodes": []}

    # used again, nobody moves back by itself
    server.cli("estate", "empty", host, "--end")
    assert client.call("GET", "/api/plans/clears")["avoid"] == []
    assert not client.call("GET", "/api/plans/clears/changes")["steps"]
    undo(client, run)
    undo(client, first)
    assert ours(lab) == []
    for plan in ("clears", "drafted"):
        client.call("DELETE", f"/api/plans/{plan}")


def test_who_has_nowhere_to_go_is_told_and_who_changed_meanwhile_too(
    client: Client, server: ServerProcess
) -> None:
    ready_plan(client, plan_text("stays"))
    host = row(client, "stays", "archive-1")["host"]
    hosts = [one["name"] for one in client.call("GET", "/api/plans/stays")["hosts"]]
    view = client.call("GET", "/api/plans/stays")
    others = [name for name in hosts if name != host]
    edits = [{"path": ["placement", "avoid"], "value": others}]
    client.call("PATCH", "/api/plans/stays", {"version": view["version"], "edits": edits})
    told = server.cli("estate", "empty", host, check=1).stdout
    assert "nowhere" in told
    # who saw an older version, and the same was changed since
    body = {"versions": {"stays": view["version"]}}
    answer = client.call("POST", f"/api/estate/hosts/{host}/emptying", body)
    assert "was changed by another user" in leaving(answer, "stays")["problem"]
    assert client.call("GET", "/api/plans/stays")["avoid"] == others
    assert "no host “nobody”" in server.cli("estate", "empty", "nobody", check=1).stderr
    client.call("DELETE", "/api/plans/stays")
