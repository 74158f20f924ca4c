"""A newcomer's own first plan: it takes what is stable and trusted, and what it built answers as
its package is.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core import yaml_text
from nimble_stone.core.plan.model import Plan
from nimble_stone.lab.scenario import appliance, demo
from tests.support.processes import PASSWORD, LabProcess, ServerProcess, ended, lab_and_server

Place = tuple[LabProcess, ServerProcess, Client]
BY = appliance.publisher()
STRANGER = appliance.publisher("Strangers")


def brought(
    client: Client,
    folder: Path,
    version: str,
    channel: str = "",
    by: appliance.Publisher | None = None,
) -> None:
    path = folder / f"g-{version}.ova"
    path.write_bytes(appliance.ova(version=version, mib=1, seed=hash(version) % 1000, by=by))
    found = client.upload(path, lambda *_: None)
    client.call("PATCH", f"/api/packages/{found['sha256']}", {"channel": channel, "note": ""})


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    folder = tmp_path_factory.mktemp("beginning")
    with lab_and_server(folder) as (lab, server, client):
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        client.call("POST", "/api/trust", {"pem": BY.authority.decode()})
        brought(client, folder, "4.1.0", "stable", BY)
        brought(client, folder, "4.2.0", "stable", BY)
        brought(client, folder, "4.2.5", "stable")
        brought(client, folder, "4.3.0", "candidate", BY)
        brought(client, folder, "4.4.0", "stable", STRANGER)
        yield lab, server, client


def proved(client: Client, plan: str) -> dict[str, Any]:
    view = client.call("GET", f"/api/plans/{plan}")
    view = client.call(
        "POST",
        f"/api/plans/{plan}/secret",
        {"version": view["version"], "column": "admin_password", "value": PASSWORD},
    )
    edit = {"path": ["values", "station"], "value": "west"}
    view = client.call("PATCH", f"/api/plans/{plan}", {"version": view["version"], "edits": [edit]})
    client.call("POST", f"/api/plans/{plan}/licence", {"version": view["version"], "by": "mira"})
    run = client.call("POST", f"/api/plans/{plan}/run")
    assert run["run"], run["plan"]["findings"]
    found = ended(client, run["run"])
    assert found["state"] == "done", [proof for proof in found["proofs"] if not proof["passed"]]
    client.call("POST", f"/api/runs/{run['run']}/undo", {})
    ended(client, run["run"], states=("undone",))
    return found


def test_a_new_plan_takes_the_newest_that_is_stable_and_trusted_and_is_proved(place: Place) -> None:
    client = place[2]
    view = client.call(
        "POST", "/api/plans", {"name": "first", "kit": "gauge-collector", "bay": "kelda-main"}
    )
    assert view["package"]["title"] == "Gauge Collector 4.2.0"
    found = proved(client, "first")
    assert any(
        proof["found"] == "Gauge Collector 4.2.0" or "4.2.0" in proof["found"]
        for proof in found["proofs"]
    )


def test_a_candidate_is_taken_on_purpose_and_its_guests_answer_as_it_is(place: Place) -> None:
    _, server, client = place
    server.cli(
        "plan",
        "new",
        "second",
        "--kit",
        "gauge-collector",
        "--bay",
        "kelda-main",
        "--package",
        "Gauge Collector 4.3.0",
        check=None,
    )
    assert client.call("GET", "/api/plans/second")["package"]["title"] == "Gauge Collector 4.3.0"
    found = proved(client, "second")
    assert any("4.3.0" in proof["found"] for proof in found["proofs"])


def test_the_choice_says_why_the_others_are_not_taken_by_themselves(place: Place) -> None:
    client = place[2]
    plan = client.call("GET", "/api/kits/gauge-collector/packages")[0]
    assert plan["usual"] == "Gauge Collector 4.2.0"
    assert {one["title"].split()[-1]: one["why_not"] for one in plan["choices"]} == {
        "4.2.0": "",
        "4.1.0": "",
        "4.2.5": "",
        "4.3.0": "its channel is candidate",
        "4.4.0": "its publisher is not trusted",
    }
    client.call("POST", "/api/trust", {"pem": STRANGER.authority.decode()})
    assert (
        client.call("GET", "/api/kits/gauge-collector/packages")[0]["usual"]
        == "Gauge Collector 4.4.0"
    )
    fingerprint = next(
        one["fingerprint"]
        for one in client.call("GET", "/api/trust")
        if "Strangers" in one["subject"]
    )
    client.call("DELETE", f"/api/trust/{fingerprint}")
    assert (
        client.call("GET", "/api/kits/gauge-collector/packages")[0]["usual"]
        == "Gauge Collector 4.2.0"
    )


def test_many_from_a_table_take_what_one_takes(place: Place) -> None:
    client = place[2]
    made = client.call(
        "POST",
        "/api/plans/table",
        {"text": "name\tbay\nnorth\tkelda-main\n", "kit": "gauge-collector", "make": True},
    )["made"]
    assert [client.call("GET", f"/api/plans/{name}")["package"]["title"] for name in made] == [
        "Gauge Collector 4.2.0"
    ]
    table = {
        "text": "name\tpackage\nsouth\tGauge Collector 4.3.0\n",
        "kit": "gauge-collector",
        "bay": "kelda-main",
        "make": True,
    }
    client.call("POST", "/api/plans/table", table)
    assert client.call("GET", "/api/plans/south")["package"]["title"] == "Gauge Collector 4.3.0"


def test_what_is_written_into_a_new_plan_is_quoted() -> None:
    text = yaml_text.write(
        {
            "nimble-stone": "plan/1",
            "name": "x",
            "kit": "k",
            "package": "Odd: #1\nbay: y",
            "roles": {},
        }
    )
    plan = yaml_text.read(text, Plan, "the plan")
    assert (plan.package, plan.bay, plan.roles) == ("Odd: #1\nbay: y", "", {})
