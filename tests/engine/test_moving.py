"""Nodes of a deployment go to other hosts and datastores, with their disks; rolled back, they are
where they were.
"""

from __future__ import annotations

import datetime
from typing import Any

import pytest
from lxml import etree

from nimble_stone.cli.client import Client
from tests.engine.test_growing import change, doing, start
from tests.engine.test_kill import killed_on_the_way
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan, wait_for
from tests.support.raw import ssh


def rolled_out(client: Client, name: str) -> str:
    ready_plan(client, plan_text(name))
    run = start(client, name)
    assert ended(client, run)["state"] == "done"
    return run


def row(client: Client, plan: str, node: str) -> dict[str, Any]:
    return next(
        one for one in client.call("GET", f"/api/plans/{plan}")["nodes"] if one["id"] == node
    )


def free_host(client: Client, plan: str) -> str:
    """A host of the bay that has no node of the plan."""
    view = client.call("GET", f"/api/plans/{plan}")
    used = {one["host"] for one in view["nodes"]}
    return next(one["name"] for one in view["hosts"] if one["name"] not in used)


def volumes(lab: LabProcess, host: str, name: str) -> list[str]:
    """Volumes of a node that a host sees."""
    return [one for one in lab.show()["hosts"][host]["volumes"] if f"-{name}-" in one]


def processor(lab: LabProcess, host: str, name: str) -> str | None:
    """The named model that a VM was given, by its host's own account."""
    text = ssh(lab, host, f"virsh -q -c qemu:///system dumpxml {name}", "")
    return etree.fromstring(text.encode()).findtext("cpu/model")


def test_vms_of_a_bay_with_different_processors_get_one_that_all_hosts_have(
    client: Client, lab: LabProcess
) -> None:
    """So that each starts on any of them."""
    ready_plan(client, plan_text("suits"))
    used = {one["host"] for one in client.call("GET", "/api/plans/suits")["nodes"]}
    old = free_host(client, "suits")
    lab.turn(old, older=True)
    client.call("POST", "/api/estate/read", {"hosts": [old]})
    view = client.call("GET", "/api/plans/suits")
    assert "Broadwell-noTSX" in next(
        one["message"] for one in view["findings"] if one["code"] == "processor-common"
    )
    first = start(client, "suits")
    assert ended(client, first)["state"] == "done"
    given = {processor(lab, one["host"], one["name"]) for one in view["nodes"]}
    assert given == {"Broadwell-noTSX"}
    assert old not in used
    change(client, "suits", **{"nodes__archive-1__host": old})
    run = start(client, "suits")
    assert ended(client, run)["state"] == "done"
    moved = row(client, "suits", "archive-1")
    assert moved["host"] == old
    assert processor(lab, old, moved["name"]) == "Broadwell-noTSX"
    undo(client, run)
    undo(client, first)
    client.call("DELETE", "/api/plans/suits")
    lab.turn(old, older=False)
    client.call("POST", "/api/estate/read", {"hosts": [old]})


def _is_known_for_ever(
    client: Client, server: ServerProcess, first: str, run: str, name: str
) -> None:
    """As built before the move and after it, and what differs."""
    ended_at = client.call("GET", f"/api/runs/{first}")["ended_at"]
    place = "/api/deployments/moves/built"
    was = client.call("GET", f"{place}?at={ended_at + 0.001}")
    now = client.call("GET", f"{place}?since={ended_at + 0.001}")
    hosts = [
        next(one["values"]["host"] for one in view["nodes"] if one["node"] == "archive-1")
        for view in (was, now)
    ]
    assert hosts[0] != hosts[1]
    assert ("changed", "Host", *hosts) in {
        (one["what"], one["label"], one["was"], one["now"]) for one in now["changed"]
    }
    assert {one["values"]["run"] for one in now["nodes"]} == {first}
    assert all(len(one["values"]["vm"]) == 36 for one in now["nodes"])
    assert client.call("GET", f"{place}?at={ended_at - 0.5}")["nodes"] == []
    day = datetime.datetime.now(datetime.UTC).date()
    since = (day - datetime.timedelta(days=1)).isoformat()
    told = server.cli("deployment", "built", "moves", "--since", since, check=1).stdout
    assert f"  {name}: added" in told
    assert "deployed then" in server.cli("deployment", "built", "moves", "--on", since).stdout
    assert (
        "neither a day"
        in server.cli("deployment", "built", "moves", "--on", "then", check=2).stderr
    )


def test_a_node_goes_to_another_host_and_back(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    first = rolled_out(client, "moves")
    before, target = row(client, "moves", "archive-1"), free_host(client, "moves")
    change(client, "moves", **{"nodes__archive-1__host": target})
    found = client.call("GET", "/api/plans/moves/changes")
    (move,) = found["moves"]
    assert (move["was_host"], move["now_host"]) == (before["host"], target)
    assert move["was_store"] != move["now_store"], "a local disk has to be copied"
    run = start(client, "moves")
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    name = before["name"]
    assert name in lab.show()["hosts"][target]["guests"]
    assert name not in lab.show()["hosts"][before["host"]]["guests"]
    assert volumes(lab, before["host"], name) == []
    assert len(volumes(lab, target, name)) == 2
    after = row(client, "moves", "archive-1")
    assert (after["host"], after["cells"]["address"]) == (target, before["cells"]["address"])
    assert client.call("POST", "/api/deployments/moves/read", {})["drift"] == []
    assert not client.call("GET", "/api/plans/moves/changes")["steps"]
    _is_known_for_ever(client, server, first, run, name)
    # rolled back: where it was, with its disks, and it runs
    undo(client, run)
    assert name in lab.show()["hosts"][before["host"]]["guests"]
    assert volumes(lab, target, name) == []
    change(client, "moves", **{"nodes__archive-1__host": None})
    assert client.call("POST", "/api/deployments/moves/read", {})["drift"] == []
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/moves")


def test_on_a_shared_datastore_nothing_is_copied(client: Client, lab: LabProcess) -> None:
    first = rolled_out(client, "shares")
    before, target = row(client, "shares", "lead-1"), free_host(client, "shares")
    assert before["cells"]["datastore"]["value"] == "kelda-shared"
    change(client, "shares", **{"nodes__lead-1__host": target})
    (move,) = client.call("GET", "/api/plans/shares/changes")["moves"]
    assert (move["was_store"], move["now_store"]) == ("kelda-shared", "kelda-shared")
    uploads = sum("uploaded" in line for one in lab.show()["hosts"].values() for line in one["log"])
    run = start(client, "shares")
    assert ended(client, run)["state"] == "done"
    now = sum("uploaded" in line for one in lab.show()["hosts"].values() for line in one["log"])
    assert now == uploads
    # a node that has moved is removed where it is by now
    undo(client, run)
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/shares")


def test_a_node_that_moved_is_removed_where_it_is(client: Client, lab: LabProcess) -> None:
    text = plan_text("goes").replace("count: 2", "count: 3")
    ready_plan(client, text)
    first = start(client, "goes")
    assert ended(client, first)["state"] == "done"
    target = row(client, "goes", "lead-1")["host"]
    change(client, "goes", **{"nodes__archive-3__host": target})
    moved = start(client, "goes")
    assert ended(client, moved)["state"] == "done"
    change(client, "goes", roles__archive__count=2)
    shrunk = start(client, "goes", remove="archive-3")
    done = ended(client, shrunk)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    assert not [one for one in ours(lab) if "goes-arc-3" in one]
    for run in (shrunk, moved, first):
        undo(client, run)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/goes")


@pytest.mark.timeout(900)
def test_killed_on_the_way_a_node_is_in_one_place(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    first = rolled_out(client, "struck")
    before, target = row(client, "struck", "archive-1"), free_host(client, "struck")
    change(client, "struck", **{"nodes__archive-1__host": target})
    # it does not hear its power button: the server is killed while it waits for that
    lab.turn(before["host"], deaf=True)
    run = start(client, "struck")
    wait_for(lambda: doing(client, run) == {"move/archive-1"}, 60, "the move")
    server.kill()
    server.start()
    lab.turn(target, rate=4e5)
    lab.turn(before["host"], deaf=False)
    wait_for(lambda: volumes(lab, target, before["name"]), 60, "the copy")
    server.kill()
    server.start()
    lab.turn(target, rate=12e6)
    lives = killed_on_the_way(server, run, most=6, least=1, spread=2)
    assert lives
    done = ended(server.client(), run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    places = [host for host, one in lab.show()["hosts"].items() if before["name"] in one["guests"]]
    assert places == [target]
    assert volumes(lab, before["host"], before["name"]) == []
    undo(server.client(), run)
    undo(server.client(), first)
    assert ours(lab) == []
