"""Hosts that carry a deployment: read when a run of it ends, and again with the deployment, so that
what they are no more is told.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from nimble_stone.cli.client import Client
from tests.support.processes import ended, lab_and_server, prepare, small_package, wait_for
from tests.support.raw import ssh


def facts_of(client: Client, host: str) -> dict[str, Any]:
    hosts = client.call("GET", "/api/estate")["hosts"]
    return next(dict(one) for one in hosts if one["name"] == host)


def test_a_host_that_breaks_a_rule_since_its_nodes_were_built_is_drift(tmp_path: Path) -> None:
    with lab_and_server(tmp_path) as (lab, server, client):
        prepare(client, lab, small_package(tmp_path))
        # the clock of one host was wrong before
        early, late = "gannet", "fulmar"
        lab.turn(early, clock_s=30.0)
        run = ended(client, client.call("POST", "/api/plans/western/run")["run"])
        assert run["state"] == "done"
        used = {node["host"] for node in run["nodes"]}
        assert {early, late} <= used
        # they have less memory than before, and the estate knows it
        end = max(event["at"] for event in run["events"])
        wait_for(
            lambda: all(facts_of(client, name)["read_at"] >= end for name in used),
            30,
            "facts of the run's hosts",
        )

        def drift() -> dict[str, str]:
            found = client.call("POST", "/api/deployments/western/read", {})
            assert found["trouble"] == ""
            return {one["check"]: one["now"] for one in found["drift"] if one["host"]}

        assert drift() == {}
        lab.turn(late, clock_s=40.0)
        client.call("POST", "/api/estate/read", {"hosts": [late]})
        found = drift()
        assert list(found) == [f"rule:clock@{late}"]
        assert "40" in found[f"rule:clock@{late}"]
        told = server.cli("deployment", "drift", "western", check=1).stdout
        assert f"{late}: Has the correct time: " in told
        assert f"what to do: estate rules {late}" in told
        # a run that works on the host makes it no better
        node = next(one for one in run["nodes"] if one["host"] == late)
        ssh(lab, late, f"virsh -q -c qemu:///system destroy {node['name']}", "")
        server.cli("deployment", "drift", "western", check=1)
        repair = client.call("POST", "/api/plans/western/run", {"repair": [node["id"]]})
        assert ended(client, repair["run"])["state"] == "done"
        assert list(drift()) == [f"rule:clock@{late}"]
        # silence is no recovery
        lab.turn(late, unreachable=True)
        client.call("POST", "/api/estate/read", {"hosts": [late]})
        assert facts_of(client, late)["trouble"]
        view = client.call("POST", "/api/deployments/western/read", {})
        assert f"rule:clock@{late}" in {one["check"] for one in view["drift"]}
        assert view["unasked"] > 0
        # it is as it was
        lab.turn(late, unreachable=False, clock_s=0.0)
        client.call("POST", "/api/estate/read", {"hosts": [late]})
        assert drift() == {}
