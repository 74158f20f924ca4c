"""A whole deployment is taken away, however it was changed since."""

from __future__ import annotations

import re
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from tests.engine.test_growing import change, noted, start
from tests.engine.test_runs import ours, plan_text
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan, wait_for
from tests.support.raw import ssh

PLACE = "/api/deployments/pier/retiring"


def changed_often(client: Client) -> list[str]:
    """A deployment that was resized, moved, told another setting, given a disk, and grown: its
    runs, the newest first.
    """
    disks = "    values:\n      disk.readings: 32\n      disk.readings.count: 1\n"
    text = re.sub(r"(count: 2\n)    values:\n", rf"\1{disks}", plan_text("pier"))
    ready_plan(client, text)
    runs = [start(client, "pier")]
    assert ended(client, runs[0])["state"] == "done"
    hosts = {n["id"]: n["host"] for n in client.call("GET", "/api/plans/pier")["nodes"]}
    free = next(
        one["name"]
        for one in client.call("GET", "/api/plans/pier")["hosts"]
        if one["name"] not in hosts.values() and one["name"] != "tern"
    )
    edits: tuple[dict[str, Any], ...] = (
        {"nodes__archive-1__size": "large", "values__station": "skerries"},
        {"nodes__archive-2__host": free},
        {"nodes__archive-1__disk.readings.count": 2, "roles__archive__count": 3},
    )
    for wanted in edits:
        change(client, "pier", **wanted)
        runs.insert(0, start(client, "pier"))
        done = ended(client, runs[0])
        assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    return runs


def starts(lab: LabProcess) -> int:
    """How often VMs were started, on all hosts."""
    return sum(noted(lab, host).count("started ") for host in lab.show()["hosts"])


def gone(client: Client, seconds: float = 90) -> None:
    wait_for(lambda: not client.call("GET", PLACE)["left"], seconds, "the end of pier")


def test_all_of_it_goes_without_a_restart_though_the_server_is_killed(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    runs = changed_often(client)
    found = client.call("GET", PLACE)
    assert found["left"] == runs
    one = next(node for node in found["nodes"] if node["node"] == "archive-1")
    assert (one["disks"], one["data_disks"], one["data_bytes"]) == (1, 2, 64 << 30)
    assert len(one["addresses"]) == 1
    for confirm in ("", "peer"):
        with pytest.raises(StoneError, match="deletes every VM of pier"):
            client.call("POST", PLACE, {"confirm": confirm})
    told = server.cli("deployment", "retire", "pier", check=2)
    assert f"pier-arc-1 on {one['where']}: VM and 3 disks" in told.stdout
    before = starts(lab)
    client.call("POST", PLACE, {"confirm": "pier"})
    with pytest.raises(StoneError, match="pier is being retired"):
        client.call("POST", "/api/plans/pier/run", {})
    wait_for(lambda: len(client.call("GET", PLACE)["left"]) < 4, 60, "the first rollback")
    server.kill()
    server.start()
    gone(client)
    assert starts(lab) == before
    assert ours(lab) == []
    assert {run["state"] for run in client.call("GET", "/api/runs?plan=pier")} == {"undone"}
    with pytest.raises(StoneError, match="nothing of pier is deployed"):
        client.call("POST", PLACE, {"confirm": "pier"})
    assert client.call("GET", "/api/plans/pier/changes")["stands"] is False
    # it can be rolled out again
    again = start(client, "pier")
    assert ended(client, again)["state"] == "done"
    told = server.cli("deployment", "retire", "pier", "--confirm", "pier")
    assert "pier is retired: 1 run rolled back" in told.stdout
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/pier")


def test_data_disks_stay_where_a_person_says_so_and_a_lost_host_is_waited_for(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    runs = changed_often(client)
    nodes = {n["id"]: n for n in client.call("GET", "/api/plans/pier")["nodes"]}
    lost = nodes["archive-2"]["host"]
    lab.turn(lost, unreachable=True)
    client.call("POST", PLACE, {"confirm": "pier", "keep_data": True})
    wait_for(lambda: client.call("GET", PLACE)["waits"] == runs[0], 60, "what waits")
    assert client.call("GET", PLACE)["asked"] == "keep-data"
    # a person may have second thoughts, and third ones
    told = server.cli("deployment", "retire", "pier", "--stop").stdout
    assert "pier is no longer being retired: 4 runs not rolled back" in told
    with pytest.raises(StoneError, match="not being retired"):
        client.call("DELETE", PLACE)
    # the run that is being rolled back ends as it was begun, with its data kept; no other follows
    lab.turn(lost, unreachable=False)
    client.call("POST", f"/api/runs/{runs[0]}/undo", {})
    assert ended(client, runs[0], states=("undone",))["state"] == "undone"
    assert client.call("GET", PLACE)["left"] == runs[1:]
    assert any(one.endswith("pier-arc-3-readings1") for one in ours(lab))
    assert client.call("GET", PLACE)["asked"] == ""
    client.call("POST", PLACE, {"confirm": "pier", "keep_data": True})
    gone(client)
    left = ours(lab)
    assert left
    assert all(re.search(r"pier-arc-\d-readings\d$", one) for one in left), left
    assert len(left) == 4
    told = " ".join(
        step["undo_message"] for step in client.call("GET", f"/api/runs/{runs[-1]}")["steps"]
    )
    assert f"kept: {nodes['archive-1']['cells']['datastore']['value']}/ns-{runs[-1]}" in told
    _swept(lab, left, {node["cells"]["datastore"]["value"] for node in nodes.values()})
    client.call("DELETE", "/api/plans/pier")


def _swept(lab: LabProcess, volumes: list[str], stores: set[str]) -> None:
    """The lab is as it was for other tests."""
    for host in lab.show()["hosts"]:
        for store in stores:
            for volume in volumes:
                line = f"virsh -q -c qemu:///system vol-delete {volume} --pool {store}"
                ssh(lab, host, f"{line} 2>/dev/null; true", "")
    assert ours(lab) == []
