"""Doors that did not open: commands that said one thing and did another, or could only be found in
the browser.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import NotFound, StoneError
from nimble_stone.lab.scenario import demo
from tests.support import spawning
from tests.support.processes import (
    PASSWORD,
    LabProcess,
    ServerProcess,
    ended,
    lab_and_server,
    small_package,
    wait_for,
)

Place = tuple[LabProcess, ServerProcess, Client, Path]


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    folder = tmp_path_factory.mktemp("doors")
    with lab_and_server(folder) as (lab, server, client):
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        client.upload(small_package(folder), lambda *_: None)
        view = client.call("POST", "/api/plans", {"text": demo.PLAN})
        client.call(
            "POST",
            "/api/plans/western/secret",
            {"version": view["version"], "column": "admin_password", "value": PASSWORD},
        )
        yield lab, server, client, folder


def test_one_host_is_read_by_name(place: Place) -> None:
    assert "hosts read" in place[1].cli("estate", "refresh", "gannet", "fulmar").stdout


def test_the_lab_is_found_beside_the_data(place: Place, tmp_path: Path) -> None:
    lab, _, _, folder = place
    words = ["lab", "set", "gannet", "slow_s=0"]
    found = spawning.run(words, env={**os.environ, "NIMBLE_STONE_DATA": str(folder)})
    assert found.returncode == 0, found.stderr
    nowhere = spawning.run(words, env={**os.environ, "NIMBLE_STONE_DATA": str(tmp_path)})
    assert f"the lab in {tmp_path}/lab does not answer" in nowhere.stderr
    assert lab.show()["hosts"]


def test_a_licence_is_read_and_accepted_in_the_terminal(place: Place) -> None:
    _, server, client, _ = place
    assert (
        "Holm Tidal Survey may run this appliance"
        in server.cli("plan", "licence", "western").stdout
    )
    assert (
        server.cli("plan", "licence", "western", "--by", "mira").stdout
        == "Licence accepted by mira.\n"
    )
    assert client.call("GET", "/api/plans/western")["licence_by"] == "mira"


def test_a_rollout_is_told_step_by_step_and_its_plan_stays_while_it_is_built(place: Place) -> None:
    _, server, client, folder = place
    run = client.call("POST", "/api/plans/western/run")["run"]
    assert ended(client, run)["state"] == "done"
    shown = server.cli("run", "show", run).stdout
    assert "All 46 acceptance checks passed." in shown
    assert "define/lead-1" in shown
    told = server.cli("run", "transcript", run, "define/lead-1").stdout
    assert "virsh -q -c qemu:///system define --validate" in told
    assert (
        "define --validate"
        in server.cli("run", "transcript", run, "--search", "DEFINE --validate").stdout
    )
    everything = json.loads(server.cli("run", "transcript", run, "--json").stdout)
    assert len(everything) > 30
    assert [entry["id"] for entry in everything] == sorted(entry["id"] for entry in everything)
    assert "services are up" in server.cli("run", "console", run, "lead-1").stdout
    file = client.text(f"/api/runs/{run}/transcript.txt")
    assert file.count("(status ") == len(everything)
    pages = client.call("GET", f"/api/runs/{run}/events/page")
    assert pages[0]["kind"] == "run-started"
    with pytest.raises(StoneError, match="what run .* built from it still exists"):
        client.call("DELETE", "/api/plans/western")
    assert server.cli("run", "list").stdout.startswith(f"{run}  western  checks passed:")

    facts = folder / "facts.json"
    facts.write_text(server.cli("estate", "facts", "--json").stdout)
    plan = folder / "western.yaml"
    plan.write_text(client.text("/api/plans/western/file"))
    offline = server.cli(
        "plan",
        "check",
        str(plan),
        "--facts",
        str(facts),
        "--package",
        str(folder / "gauge-collector-4.2.0.ova"),
        check=None,
    )
    # its own guests do not block it, here as there
    assert "blocker" not in offline.stdout, offline.stdout
    client.call("POST", f"/api/runs/{run}/undo", {})
    undone = ended(client, run, states=("undone",))
    assert undone["undone_at"] > undone["ended_at"]
    for step in undone["steps"]:
        assert step["undone_at"] >= step["ended_at"] >= step["started_at"]
    assert undone["proof_sentence"]["strong"] == "Rolled back."
    assert undone["proof_sentence"]["action"]["kind"] == "none"
    client.call("DELETE", "/api/plans/western")


def test_a_run_that_prepares_hosts_is_no_rollout_and_says_so(place: Place) -> None:
    _, server, client, folder = place
    work = folder / "work.yaml"
    work.write_text(
        "actions:\n  - {kind: names, host: gannet, records: [{address: 10.44.0.5, names:"
        " [west-time]}]}\n"
    )
    preview = server.cli("estate", "prepare", "--file", str(work), "--yes", check=None)
    run = next((row["id"] for row in client.call("GET", "/api/groundwork")), "")
    if not run:
        pytest.fail(preview.stdout + preview.stderr)
    for path in (f"/api/runs/{run}", f"/api/runs/{run}/console?node=x"):
        with pytest.raises(StoneError, match="prepares hosts"):
            client.call("GET", path)
    told = server.cli("run", "retry", run, check=None)
    assert "incident" not in told.stdout + told.stderr
    out = server.cli("estate", "rollback", run, check=None).stdout
    assert out.splitlines()[-1].startswith(f"{run}: Rolled back")


def test_a_rule_whose_remedy_needs_values_says_so(place: Place) -> None:
    _, server, client, _ = place
    rules = client.call("GET", "/api/estate/rules")["violations"]
    without = next((v for v in rules if not v["action"]), None)
    assert without is not None
    found = server.cli(
        "estate", "prepare", "--remedy", without["rule"], "--host", without["host"], check=None
    )
    assert "needs values that only you know" in found.stderr or found.returncode == 0


def test_a_faulty_kit_is_listed_and_a_new_one_is_seen_without_a_restart(place: Place) -> None:
    _, server, client, _ = place
    kits = server.data / "kits"
    kits.mkdir(exist_ok=True)
    from tests.cli.test_kits import GOOD

    (kits / "little.yaml").write_text(GOOD)
    (kits / "broken.yaml").write_text(GOOD.replace("id: little", "id: broken\ncolour: red"))
    (kits / "latin.yaml").write_bytes(b"nimble-stone: kit/1\nid: \xe9\n")
    wait_for(
        lambda: "little" in [kit["id"] for kit in client.call("GET", "/api/kits")],
        10,
        "the new kit",
    )
    faulty = {one["file"]: one["message"] for one in client.call("GET", "/api/kits/faulty")}
    assert set(faulty) == {"broken.yaml", "latin.yaml"}
    assert "“colour” is not a key of this format" in faulty["broken.yaml"]
    server.stop_only()
    server.start()
    assert "little" in [kit["id"] for kit in server.client().call("GET", "/api/kits")]
    (kits / "broken.yaml").unlink()
    (kits / "latin.yaml").unlink()
    wait_for(lambda: server.client().call("GET", "/api/kits/faulty") == [], 10, "the faults to go")


def test_unknown_runs_are_told_as_such(place: Place) -> None:
    with pytest.raises((NotFound, StoneError), match="no run"):
        place[2].call("GET", "/api/runs/none/transcript")


def test_limits_are_set_and_shown_in_the_terminal(place: Place) -> None:
    server = place[1]
    assert server.cli("limits").stdout.startswith(
        "At most 24 steps at once, 2 on one host, 2 on one datastore."
    )
    server.cli("limits", "--host", "3")
    server.stop_only()
    server.start()
    assert server.cli("limits").stdout.startswith(
        "At most 24 steps at once, 3 on one host, 2 on one datastore."
    )
