"""What a visitor of the demonstration finds: something that stands and is monitored, something
that needs a person, a run that waits; and nothing of it twice.
"""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterator

import pytest

from nimble_stone.cli import seeding
from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import watch
from tests.support.processes import LabProcess, ended, lab_and_server


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[LabProcess, Client]]:
    folder = tmp_path_factory.mktemp("demo")
    with lab_and_server(folder) as (lab, _, client):
        for _ in range(2):
            # the second time it is there already
            seeding.fill(client, folder, lab.plan, 1)
            seeding.bring_to_life(client, lab.plan)
        yield lab, client


def targets(lab: LabProcess, path: str, user: str = f"rollouts:{watch.PASSWORD}") -> list[str]:
    """Status and body that curl gets from what watches."""
    host, port = lab.plan.real(watch.ADDRESS, 8443)
    line = ["curl", "-sk", "-u", user, "-w", "\n%{http_code}", f"https://{host}:{port}{path}"]
    told = subprocess.run(line, check=True, capture_output=True, text=True).stdout
    return told.rsplit("\n", 1)[::-1]


def test_a_cluster_stands_is_monitored_and_has_something_to_do(
    scene: tuple[LabProcess, Client],
) -> None:
    lab, client = scene
    [run] = client.call("GET", "/api/runs?plan=harbour")
    done = client.call("GET", f"/api/runs/{run['id']}")
    assert done["state"] == "done", [one for one in done["proofs"] if not one["passed"]]
    said = {step["key"]: step["message"] for step in done["steps"]}
    assert said["watch-lead/lead-1"] == "Monitoring: target harbour-lead"
    for node in done["nodes"]:
        status, body = targets(lab, f"/targets/{node['cells']['name']['value']}")
        assert status == "200"
        assert json.loads(body)["address"] == node["cells"]["address"]["value"]
    assert targets(lab, "/targets/harbour-lead", "rollouts:other")[0] == "401"
    view = client.call("GET", "/api/plans/harbour")
    assert [node["id"] for node in view["nodes"]][-1] == "archive-3"
    drift = client.call("GET", "/api/deployments/harbour")["drift"]
    assert [(one["node"], one["now"]) for one in drift] == [
        ("archive-2", "does not start with its host")
    ]
    [held] = client.call("GET", "/api/runs?plan=northern")
    # what is working when it is put on hold comes to its end first
    ended(client, held["id"], states=("held",))
    # a plan that hands nothing over has no such stage
    steps = client.call("GET", f"/api/runs/{held['id']}")["steps"]
    assert not [step for step in steps if step["key"].startswith(("stage/", "watch-"))]


def test_a_rollback_takes_out_of_monitoring_what_it_registered(
    scene: tuple[LabProcess, Client],
) -> None:
    lab, client = scene
    [run] = client.call("GET", "/api/runs?plan=harbour")
    client.call("POST", f"/api/runs/{run['id']}/undo", {})
    assert ended(client, run["id"], states=("undone",))["state"] == "undone"
    assert targets(lab, "/targets/harbour-lead")[0] == "404"
